"""Conductivity: standards at their temperature, the cell constant, compensation, TDS and resistivity."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from brumel.core import salinity as salt
from brumel.core.checking import Door, Floats, plain
from brumel.core.constants.chosen import (
    LABEL_SALT_PERCENT_PER_C,
    REFERENCE_C,
    TDS_HIGH,
    TDS_LOW,
    TEMPERATURE_COEFFICIENT_PERCENT,
)
from brumel.core.constants.measured import KCL_AT_25, KCL_STANDARDS, NATURAL_WATER_C, NATURAL_WATER_F25
from brumel.core.errors import CannotFit, InputError, OutOfRange, UnknownName, WrongShape
from brumel.core.lookup import at_temperature
from brumel.core.sentence import Amount, Span, say
from brumel.core.working import Ladder, StepResult, Worked

Kind = Literal["none", "linear", "natural", "sea"]
KINDS = ("none", "linear", "natural", "sea")
T_RANGE = (-5.0, 100.0)
C_RANGE = (0.0, 1_000_000.0)


@dataclass(frozen=True)
class Standard:
    """A conductivity standard: values at temperatures [°C, µS/cm], source, expanded uncertainty (k = 2) [%]."""

    key: str
    name: str
    temperatures_c: tuple[float, ...]
    values_us_cm: tuple[float, ...]
    source: str
    expanded_uncertainty_percent: float = 1.0

    @property
    def nominal_us_cm(self) -> float:
        """Value at 25 °C."""
        return float(np.interp(25.0, self.temperatures_c, self.values_us_cm))


def _standards() -> dict[str, Standard]:
    standards = {
        key: Standard(
            key,
            f"KCl {key}" if not key.startswith("demal") else f"KCl {key.removeprefix('demal-')} demal",
            tuple(map(float, t)),
            tuple(map(float, v)),
            "OIML-R56, from memory" if key.startswith("demal") else "from memory",
            0.5 if key.startswith("demal") else 1.0,
        )
        for key, (t, v) in KCL_STANDARDS.items()
    }
    shape_t, shape = KCL_STANDARDS["1413"]
    for value in KCL_AT_25:
        scaled = tuple(float(value * v / 1413.0) for v in shape)
        standards[f"{value:g}"] = Standard(
            f"{value:g}",
            f"KCl {value:g}",
            tuple(map(float, shape_t)),
            scaled,
            "from memory at 25 °C; temperature shape of the 1413 table, chosen",
            1.0 if value > 200 else 3.0,
        )
    return standards


STANDARDS: dict[str, Standard] = _standards()
_ALIASES = {"12.88": "12880", "12.88 ms": "12880", "111.8": "111800", "111.8 ms": "111800"}


def find_standard(standard: str | float | Standard) -> Standard:
    """The table for a key such as "1413", "12.88 mS" or "demal-0.1"; raises UnknownName with the nearest match."""
    if isinstance(standard, Standard):
        return standard
    key = f"{standard:g}" if isinstance(standard, (int, float)) else standard.strip().lower()
    key = _ALIASES.get(key, key)
    if key not in STANDARDS:
        raise UnknownName("standard", standard, STANDARDS)
    return STANDARDS[key]


def standard_us_cm(standard: str | float | Standard, temperature_c: Floats) -> Floats:
    """Conductivity of a standard at the cup's own temperature, linear between the table's temperatures [°C] -> [µS/cm].

    Of a demal solution, whose table has three temperatures alone, by the curve of second order through them.
    Raises OutOfRange outside the table: standards are not extrapolated. Source: the table's own.
    """
    table = find_standard(standard)
    straight = at_temperature(table.name, table.temperatures_c, table.values_us_cm, temperature_c)
    if not table.key.startswith("demal"):
        return straight
    curve = np.polynomial.Polynomial.fit(table.temperatures_c, table.values_us_cm, 2)
    return plain(curve(np.asarray(temperature_c, dtype=np.float64)))


def labelled_us_cm(value_us_cm: float, label_c: float, temperature_c: Floats) -> Floats:
    """A standard whose label states one value alone, at another temperature: by the course of the nearest KCl standard.

    value_us_cm : as stated at `label_c` [µS/cm, °C]; temperature_c : the cup's own [°C]

    Returns µS/cm. Raises OutOfRange outside that standard's table. What the solution is made of is not known: see
    `label_salt_percent`. Source: that table's own.
    """
    door = Door()
    door.number("conductivity_us_cm", value_us_cm, 0.1, C_RANGE[1])
    door.close()
    tables = [s for s in STANDARDS.values() if not s.key.startswith("demal")]
    nearest = min(tables, key=lambda s: abs(np.log(s.nominal_us_cm / value_us_cm)))
    at_label = np.asarray(standard_us_cm(nearest, label_c))
    return plain(np.asarray(value_us_cm * np.asarray(standard_us_cm(nearest, temperature_c)) / at_label))


def label_salt_percent(label_c: float, temperature_c: float) -> float:
    """What an unknown salt adds to the uncertainty (k = 2) of such a standard away from its label's temperature [%]."""
    return LABEL_SALT_PERCENT_PER_C * abs(temperature_c - label_c)


# -- cell


@dataclass(frozen=True)
class CellPoint:
    """One standard: what the cell conducted [µS], at which temperature [°C], and the standard's value there [µS/cm]."""

    conductance_us: float
    temperature_c: float
    standard_us_cm: float
    key: str = ""


@dataclass(frozen=True)
class Cell:
    """A fitted cell: constant [1/cm], zero [µS], residuals [%] and the constant of each point [1/cm]."""

    points: tuple[CellPoint, ...]
    cell_constant_per_cm: float
    zero_us: float
    residuals_percent: tuple[float, ...]
    constants_per_cm: tuple[float, ...]
    kind: str

    def conductivity_us_cm(self, conductance_us: Floats) -> Floats:
        """Uncompensated conductivity from what the cell conducts [µS] -> [µS/cm]."""
        door = Door()
        g = door.floats("conductance_us", conductance_us, -10, 10_000_000)
        door.close()
        return plain(np.asarray(self.cell_constant_per_cm * (g - self.zero_us)))


def fit_cell(points: Sequence[CellPoint], *, air_zero_us: float = 0.0) -> Cell:
    """Cell constant from one or more standards, on the uncompensated values, so that no compensation error enters.

    Parameters
    ----------
    points : one standard, or several in turn
    air_zero_us : what the dry cell conducts in air [µS]

    With several, the constant is the least-squares one of relative residuals. Raises all faults of the points at once;
    CannotFit where a cell conducts no more than in air. Source: common practice, no source.
    """
    door = Door()
    if not 1 <= len(points) <= 5:
        door.add(WrongShape("points", f"A cell is fitted with 1 to 5 standards; there are {len(points)}."))
    for p in points:
        door.number("conductance_us", p.conductance_us, 0, 10_000_000)
        door.number("temperature_c", p.temperature_c, *T_RANGE)
        door.number("conductivity_us_cm", p.standard_us_cm, 0.01, 1_000_000)
    door.number("zero_us", air_zero_us, -50, 50)
    door.close()
    net = np.array([p.conductance_us - air_zero_us for p in points])
    if np.any(net <= 0):
        raise CannotFit("points", "In a standard the cell conducts no more than in air. Is it wetted, and plugged in?")
    expected = np.array([p.standard_us_cm for p in points])
    ratio = net / expected  # relative least squares: minimise sum (K ratio - 1)^2
    k = float(ratio.sum() / (ratio @ ratio))
    return Cell(
        tuple(points),
        k,
        air_zero_us,
        tuple(float(r) for r in (k * ratio - 1) * 100),
        tuple(float(c) for c in 1 / ratio),
        "one standard" if len(points) == 1 else f"{len(points)} standards",
    )


def nominal_cell_constant(expected_us_cm: float) -> float:
    """The cell constant made for a range: 0.1 pure and low, 1 general, 10 sea and brine [1/cm]. Common practice."""
    door = Door()
    door.number("conductivity_us_cm", expected_us_cm, *C_RANGE)
    door.close()
    return 0.1 if expected_us_cm < 100 else 1.0 if expected_us_cm <= 20_000 else 10.0


def cell_range_us_cm(nominal_per_cm: float, kind: str = "two-electrode") -> tuple[float, float]:
    """What a cell of this constant reads well [1/cm] -> [µS/cm]: where it conducts between 10 µS and 20 mS.

    More polarises two electrodes, less drowns in the leads; four electrodes and inductive cells go ten times higher.
    Common practice, no source.
    """
    door = Door()
    k = door.number("nominal_per_cm", nominal_per_cm, 0.005, 20)
    door.close()
    return 10.0 * k, (20_000.0 if kind == "two-electrode" else 200_000.0) * k


@dataclass(frozen=True)
class StandardChoice:
    """Which standard to take, and a sentence on what it covers."""

    standard: Standard
    covered: bool
    sentence: str


def choose_standard(expected_us_cm: float, on_the_shelf: Sequence[str | Standard] | None = None) -> StandardChoice:
    """The nearest standard above what the site usually reads; says when the sample falls outside [µS/cm at 25 °C]."""
    door = Door()
    door.number("conductivity_us_cm", expected_us_cm, *C_RANGE)
    door.close()
    shelf = [find_standard(s) for s in (on_the_shelf if on_the_shelf is not None else list(STANDARDS))]
    shelf = [s for s in shelf if not s.key.startswith("demal") or on_the_shelf is not None]
    if not shelf:
        raise InputError("standard", "There is no standard on the shelf.")
    above = [s for s in shelf if s.nominal_us_cm >= expected_us_cm]
    expected = Amount(expected_us_cm, "µS/cm", ".6g")
    if above:
        best = min(above, key=lambda s: s.nominal_us_cm)
        words = say("{name} is the nearest above {expected}.", name=best.name, expected=expected)
        if best.nominal_us_cm > 10 * max(expected_us_cm, 1e-9):
            words += " It is more than ten times higher: a lower one would serve better."
        return StandardChoice(best, True, words)
    best = max(shelf, key=lambda s: s.nominal_us_cm)
    beyond = (
        "{expected} lies above every standard at hand; {name} is the highest, and readings beyond it are not bracketed."
    )
    return StandardChoice(best, False, say(beyond, expected=expected, name=best.name))


# -- compensation


def to_reference(
    conductivity_us_cm: Floats,
    temperature_c: Floats,
    *,
    kind: Kind = "linear",
    coefficient_percent: float = TEMPERATURE_COEFFICIENT_PERCENT,
    reference_c: float = REFERENCE_C,
) -> Floats:
    """Conductivity brought to a reference temperature.

    Parameters
    ----------
    conductivity_us_cm, temperature_c : uncompensated, at the sample's temperature; arrays broadcast [µS/cm, °C]
    kind : "none", "linear" (a fixed share per degree), "natural" (EN27888, 0 to 35 °C), "sea" (PSS78)
    coefficient_percent : of the linear kind, 0 to 4 [%/°C]
    reference_c : 20 or 25 [°C]

    Returns µS/cm at the reference. Raises all faults at once. Source: linear common practice; EN27888; PSS78.
    """
    door = Door()
    c = door.floats("conductivity_us_cm", conductivity_us_cm, *C_RANGE)
    low, high = {"natural": (0.0, 35.0), "sea": salt.T_RANGE}.get(kind, T_RANGE)
    door.name("kind", kind, KINDS)
    a = door.number("coefficient_percent", coefficient_percent, 0, 4)
    if kind == "linear" and a > 0:
        low = max(low, linear_lowest_c(a, reference_c))
    t = door.floats("temperature_c", temperature_c, low, high)
    if reference_c not in (20.0, 25.0):
        door.add(OutOfRange("reference_c", reference_c, 20, 25, why="Reference temperatures in use are 20 and 25 °C."))
    door.same_length(conductivity_us_cm=c, temperature_c=t)
    door.close()
    if kind == "none":
        return plain(c)
    if kind == "linear":
        return plain(_linear(c, t, coefficient_percent / 100.0, reference_c))
    if kind == "natural":
        return plain(np.asarray(c * natural_factor(t) / natural_factor(np.array(reference_c))))
    salinity = salt.practical_salinity(c, t)
    return salt.conductivity_of_us_cm(salinity, reference_c)


def _linear(c: NDArray[np.float64], t: NDArray[np.float64], a: float, reference_c: float) -> NDArray[np.float64]:
    scale = a * t
    scale += 1.0 - a * reference_c
    return np.asarray(c / scale)


def linear_lowest_c(coefficient_percent: float, reference_c: float = REFERENCE_C) -> float:
    """Below this temperature linear compensation has no sense: its denominator reaches a tenth [°C]."""
    return reference_c - 90.0 / coefficient_percent if coefficient_percent > 0 else -273.15


_F25_C = np.linspace(0.0, 35.0, 701)


@functools.cache
def _f25() -> NDArray[np.float64]:
    from scipy.interpolate import CubicSpline  # loaded only where natural water is compensated

    return np.asarray(np.exp(CubicSpline(NATURAL_WATER_C, np.log(NATURAL_WATER_F25))(_F25_C)))


def natural_factor(temperature_c: NDArray[np.float64]) -> NDArray[np.float64]:
    """Factor from T to 25 °C of natural water [EN27888], a smooth curve through the remembered table. Checked input only."""
    return np.interp(temperature_c, _F25_C, _f25())


def reference_label(kind: Kind, coefficient_percent: float, reference_c: float) -> str:
    """The words that belong to every compensated value: "at 25 °C, 2.0 %/°C"."""
    words = {
        "none": "at the sample's temperature",
        "linear": "at {reference}, {coefficient}",
        "natural": "at {reference}, natural water",
        "sea": "at {reference}, sea water",
    }[kind]
    reference, coefficient = Amount(reference_c, "°C"), Amount(coefficient_percent, "%/°C", ".1f")
    return say(words, reference=reference, coefficient=coefficient)


# -- other scales


def tds_mg_l(conductivity_us_cm: Floats, factor: float) -> Floats:
    """Total TDS = factor × specific conductance [µS/cm at 25 °C] -> [mg/L]. The factor is part of the value."""
    door = Door()
    c = door.floats("conductivity_us_cm", conductivity_us_cm, *C_RANGE)
    door.number("tds_factor", factor, TDS_LOW, TDS_HIGH)
    door.close()
    return plain(np.asarray(c * factor))


def from_tds_us_cm(tds: Floats, factor: float) -> Floats:
    """Specific conductance from a TDS and its factor; without the factor it means nothing [mg/L] -> [µS/cm]."""
    door = Door()
    c = door.floats("tds_mg_l", tds, 0, 1_000_000)
    door.number("tds_factor", factor, TDS_LOW, TDS_HIGH)
    door.close()
    return plain(np.asarray(c / factor))


def resistivity_kohm_cm(conductivity_us_cm: Floats) -> Floats:
    """Resistivity, the inverse [µS/cm] -> [kΩ·cm]; a thousandth of it is MΩ·cm."""
    door = Door()
    c = door.floats("conductivity_us_cm", conductivity_us_cm, 1e-6, C_RANGE[1])
    door.close()
    return plain(np.asarray(1000.0 / c))


def accuracy_us_cm(reading_us_cm: float, *, percent_full_scale: float, full_scale_us_cm: float) -> tuple[float, float]:
    """ "±2 % of full scale" made an absolute figure at the reading: (± µS/cm, ± % of the reading)."""
    door = Door()
    door.number("conductivity_us_cm", reading_us_cm, 0, full_scale_us_cm)
    door.number("percent_full_scale", percent_full_scale, 0, 100)
    door.close()
    plus_minus = percent_full_scale / 100 * full_scale_us_cm
    return plus_minus, 100 * plus_minus / reading_us_cm if reading_us_cm else float("inf")


def slip(value_us_cm: float, expected_us_cm: tuple[float, float]) -> str:
    """A sentence when a value looks a thousand off what is expected, empty otherwise [µS/cm]."""
    low, high = expected_us_cm
    if low <= value_us_cm <= high:
        return ""
    for factor, words in ((1000.0, "mS/cm taken for µS/cm"), (0.001, "µS/cm taken for mS/cm")):
        if low <= value_us_cm * factor <= high:
            return say(
                "{value} is far from the {span} expected; {other} would fit. Was {words}?",
                value=Amount(value_us_cm, "µS/cm", ".6g"),
                span=Span(low, high, "µS/cm"),
                other=Amount(value_us_cm * factor, "µS/cm", ".6g"),
                words=words,
            )
    return ""


def explain(
    conductivity_us_cm: float,
    temperature_c: float,
    *,
    kind: Kind = "linear",
    coefficient_percent: float = TEMPERATURE_COEFFICIENT_PERCENT,
    reference_c: float = REFERENCE_C,
    tds_factor: float | None = None,
) -> Worked:
    """Specific conductance, and TDS where a factor is given, with the working [µS/cm, °C]."""
    value = float(
        to_reference(
            conductivity_us_cm,
            temperature_c,
            kind=kind,
            coefficient_percent=coefficient_percent,
            reference_c=reference_c,
        )
    )
    label = reference_label(kind, coefficient_percent, reference_c)
    formula = {
        "none": "κ",
        "linear": "κref = κT / (1 + a·(T − Tref))",
        "natural": "κref = κT · f(T) / f(Tref)",
        "sea": "κref = κ(S, Tref), S from κT and T",
    }[kind]
    source = {"none": "reading", "linear": "common practice, no source", "natural": "EN27888", "sea": "PSS78"}[kind]
    ladder = Ladder("Specific conductance")
    ladder.step(
        "κT",
        "conductivity at the sample's temperature",
        "as read",
        StepResult(conductivity_us_cm, "µS/cm", digits=1),
        "reading",
    )
    ladder.step(
        "κref",
        f"conductivity {label}",
        formula,
        StepResult(value, "µS/cm", digits=1),
        source,
        ("T", "temperature", temperature_c, "°C"),
        ("a", "coefficient", coefficient_percent if kind == "linear" else 0.0, "%/°C"),
    )
    if tds_factor is not None:
        solids = float(tds_mg_l(value, tds_factor))
        ladder.step(
            "TDS",
            say("TDS on the {tds_factor} scale", tds_factor=Amount(tds_factor)),
            "TDS = f · κref",
            StepResult(solids, "mg/L", digits=1),
            "common practice, no source",
            ("f", "factor", tds_factor, ""),
        )
        return Worked(solids, "mg/L", ladder.done())
    return Worked(value, "µS/cm", ladder.done())
