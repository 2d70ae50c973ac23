"""The ladder of each quantity: what stands between the signal of a probe and the value that is reported."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core import budgets, conductivity, ions, oxygen, ph
from brumel.core.checking import Door
from brumel.core.doubts import Doubt
from brumel.core.fitness.common import read_each
from brumel.core.fitness.conductivity import CellFit
from brumel.core.fitness.ions import IonFit
from brumel.core.fitness.oxygen import OxygenFit
from brumel.core.fitness.ph import ElectrodeFit
from brumel.core.fitness.temperature import ThermometerFit
from brumel.core.quantity_table import IONS
from brumel.core.sentence import Amount, say
from brumel.core.working import Input, Ladder, Step, StepResult, Working

THERMOMETER_EXPANDED_C = 0.2  # tolerance of an unchecked thermometer [USGS-A6.1]


@dataclass(frozen=True)
class Water:
    """What is known of the water and the air while a signal is worked out, and where each figure comes from.

    salinity : practical salinity; conductivity_25_us_cm : specific conductance, None where it was not read
    pressure_hpa : station pressure; compensation, coefficient_percent : how conductivity is brought to 25 °C [%/°C]
    cyanuric_mg_l : stabiliser of a pool, 0 where there is none or nothing is known of it
    alkalinity_mg_l : total alkalinity, taken as carbonate, None where it is not known [mg/L as CaCO3]
    chloride_mg_l, potassium_mg_l : what disturbs a nitrate or an ammonium tip, None where it is not known
    """

    salinity: float = 0.0
    salinity_from: str = "fresh water is assumed"
    conductivity_25_us_cm: float | None = None
    pressure_hpa: float = 1013.25
    pressure_from: str = "standard pressure is assumed"
    compensation: conductivity.Kind = "natural"
    coefficient_percent: float = 2.0
    light: bool | None = None
    cyanuric_mg_l: float = 0.0
    alkalinity_mg_l: float | None = None
    chloride_mg_l: float | None = None
    potassium_mg_l: float | None = None

    def disturbing(self, ion: str) -> float | None:
        """The concentration of the ion that disturbs this tip most [mg/L]; None where it is not known."""
        return self.chloride_mg_l if ion == "nitrate" else self.potassium_mg_l


@dataclass(frozen=True)
class Reported:
    """A value with its unit, its expanded uncertainty (k = 2; None where nothing backs one) and its working."""

    quantity: str
    value: float
    unit: str
    expanded_uncertainty: float | None
    working: Working
    parents: tuple[str, ...] = ()


@dataclass(frozen=True)
class ReadWith:
    """What a signal is read with.

    fit : the fit in force, of the class that belongs to the quantity
    backed : whether a calibration stands behind the fit; without one no uncertainty is stated
    origin : which calibration this is, for the working
    u : standard uncertainty of the standards it was made with [pH, %, mV or °C as the quantity has it]
    """

    fit: Any
    backed: bool
    origin: str
    u: float


def report(quantity: str, behind: ReadWith, signal: float, temperature_c: float, water: Water) -> Reported:
    """What a probe's signal, in its quantity's own unit, is worth in this water at its temperature [°C].

    Raises InputError where the scale ends, naming the value.
    """
    door = Door()
    door.number("temperature_c", temperature_c, -5, 100)
    door.name("quantity", quantity, tuple(_LADDERS))
    door.close()
    value, unit, expanded_uncertainty, working = _LADDERS[quantity](
        behind.fit, signal, temperature_c, water, behind.origin, behind.u
    )
    return Reported(quantity, value, unit, expanded_uncertainty if behind.backed else None, working)


_Found = tuple[float, str, float, Working]


def _temperature(
    fit: ThermometerFit, signal: float, temperature_c: float, water: Water, origin: str, u: float
) -> _Found:
    value = fit.read(signal, temperature_c)
    ladder = Ladder("Temperature")
    ladder.step("T", "sample temperature", "as read", StepResult(signal, "°C", digits=2), "reading")
    if value != signal:
        ladder.step(
            "Tc", "corrected for the thermometer's error", "T − error", StepResult(value, "°C", digits=2), origin
        )
    expanded_uncertainty = max(2 * u, 0.05) if fit.points else THERMOMETER_EXPANDED_C
    ladder.step(
        "U",
        "expanded uncertainty, k = 2",
        "the check's reference" if fit.points else "tolerance of a thermometer",
        StepResult(expanded_uncertainty, "°C", digits=2),
        origin if fit.points else "USGS-A6.1",
    )
    return value, "°C", expanded_uncertainty, ladder.done()


def _ph(fit: ElectrodeFit, signal: float, temperature_c: float, water: Water, origin: str, u: float) -> _Found:
    read = ph.read(fit.calibration, signal, temperature_c, u=ph.PhUncertainties(standard_ph=u), origin=origin)
    return read.value, "", read.budget.expanded_uncertainty, read.working


def _conductivity(fit: CellFit, signal: float, temperature_c: float, water: Water, origin: str, u: float) -> _Found:
    raw = fit.read(signal, temperature_c)
    kind, a = water.compensation, water.coefficient_percent
    if kind in ("sea", "natural") and not 0 <= temperature_c <= 35:
        kind = "linear"  # both tables end there
    value = float(conductivity.to_reference(raw, temperature_c, kind=kind, coefficient_percent=a))
    cell = fit.cell
    if fit.kind == "check" or not cell.points:
        # A constant that was carried over is moved as if one standard had given it.
        shown = 1000.0 + fit.zero_us
        at_1000 = conductivity.CellPoint(shown, 25.0, fit.cell_constant_per_cm * 1000.0)
        cell = conductivity.Cell(
            (at_1000,), fit.cell_constant_per_cm, fit.zero_us, (0.0,), (fit.cell_constant_per_cm,), "carried"
        )
    budget = budgets.conductivity_budget(
        cell,
        signal,
        temperature_c,
        kind=kind,
        coefficient_percent=a,
        u=budgets.CellUncertainties(standard_percent=u, resolution_us_cm=_step_of(raw)),
    )
    ladder = Ladder("Conductivity at 25 °C")
    ladder.step("G", "conductance between the plates", "as read", StepResult(signal, "µS", digits=1), "reading")
    ladder.step(
        "κ",
        "conductivity at the sample's temperature",
        "κ = K · (G − G0)",
        StepResult(raw, "µS/cm", digits=1),
        origin,
        ("K", "cell constant", fit.cell_constant_per_cm, "/cm"),
        ("G0", "zero in air", fit.zero_us, "µS"),
    )
    words = {"natural": ("EN27888", "non-linear, natural waters"), "sea": ("PSS78", "sea water")}
    source, how = words.get(kind, ("common practice, no source", say("linear, {a}", a=Amount(a, "%/°C"))))
    ladder.step(
        "κ25",
        say("brought to 25 °C: {how}", how=how),
        "κ25 = κ · f25(T)",
        StepResult(value, "µS/cm", digits=1),
        source,
        ("T", "sample temperature", temperature_c, "°C"),
    )
    ladder.step(
        "U",
        "expanded uncertainty, k = 2",
        "each input moved",
        StepResult(budget.expanded_uncertainty, "µS/cm", digits=1),
        "GUM",
    )
    return value, "µS/cm", budget.expanded_uncertainty, ladder.done()


def _step_of(us_cm: float) -> float:
    return 10.0 ** max(math.floor(math.log10(max(abs(us_cm), 1.0))) - 2, -1)


def _redox(fit: Any, signal: float, temperature_c: float, water: Water, origin: str, u: float) -> _Found:
    value = fit.read(signal, temperature_c)
    expanded_uncertainty = 2 * math.hypot(u, 0.5, 0.5, 0.3)
    ladder = Ladder("ORP against the probe's own reference electrode")
    ladder.step("E", "potential", "as read", StepResult(signal, "mV", digits=0), "reading")
    ladder.step("off", "offset in force", "added", StepResult(fit.offset_mv, "mV", digits=0), origin)
    ladder.step("ORP", "potential against the reference", "E + off", StepResult(value, "mV", digits=0), "GUM")
    ladder.step(
        "U", "expanded uncertainty, k = 2", "root of squares", StepResult(expanded_uncertainty, "mV", digits=1), "GUM"
    )
    return value, "mV", expanded_uncertainty, ladder.done()


def _oxygen(fit: OxygenFit, signal: float, temperature_c: float, water: Water, origin: str, u: float) -> _Found:
    fresh = fit.read(signal, temperature_c)
    share = float(oxygen.saturation_mg_l(temperature_c, water.salinity)) / float(oxygen.saturation_mg_l(temperature_c))
    value = fresh * share
    budget = budgets.oxygen_budget(max(value, 0.0), temperature_c, water.salinity, water.pressure_hpa)
    ladder = Ladder("Dissolved oxygen")
    ladder.step("s", "signal, share of its air point", "as read", StepResult(signal, "%", digits=1), "reading")
    ladder.step(
        "c0",
        "as fresh water would hold it",
        "(s − zero) / gain · Cs(T)",
        StepResult(fresh, "mg/L", digits=2),
        origin,
        ("zero", "zero", fit.zero_percent, "%"),
        ("gain", "gain", fit.gain_percent, "%"),
        ("T", "sample temperature", temperature_c, "°C"),
    )
    ladder.step(
        "c",
        f"salt taken off: {water.salinity_from}",
        "c = c0 · Cs(T, S) / Cs(T)",
        StepResult(value, "mg/L", digits=2),
        "BK84",
        ("S", "practical salinity", water.salinity, ""),
    )
    ladder.step(
        "U",
        "expanded uncertainty, k = 2",
        "each input moved",
        StepResult(budget.expanded_uncertainty, "mg/L", digits=2),
        "GUM",
        ("P", f"station pressure, {water.pressure_from}", water.pressure_hpa, "hPa"),
    )
    return value, "mg/L", budget.expanded_uncertainty, ladder.done()


def _ion(fit: IonFit, signal: float, temperature_c: float, water: Water, origin: str, u: float) -> _Found:
    activity = fit.read(signal, temperature_c)
    ladder = Ladder(f"{fit.calibration.ion.capitalize()} as nitrogen")
    ladder.step("E", "potential", "as read", StepResult(signal, "mV", digits=1), "reading")
    ladder.step(
        "a",
        "activity, by the pair of standards",
        "log-linear in E",
        StepResult(activity, "mg/L as N", digits=3),
        origin,
        ("T", "sample temperature", temperature_c, "°C"),
    )
    ec = water.conductivity_25_us_cm
    gamma = 1.0
    if ec is not None and ec <= 38_000:
        strength = float(ions.ionic_strength_mol_l(ec))
        gamma = float(ions.activity_coefficient(strength))
        ladder.step(
            "γ",
            "activity coefficient in this water",
            "Davies",
            StepResult(gamma, "", digits=3),
            "Davies",
            ("I", "ionic strength", strength, "mol/L"),
        )
    value = activity / gamma
    name = "concentration" if gamma != 1.0 else "taken as the concentration: conductivity was not read"
    ladder.step("c", name, "c = a / γ", StepResult(value, "mg/L as N", digits=3), "Davies")
    budget = budgets.ion_budget(fit.calibration, signal, temperature_c, standard_u_percent=u)
    expanded_uncertainty = budget.expanded_uncertainty / gamma
    ion = fit.calibration.ion
    other = water.disturbing(ion)
    taken = ions.interference_mg_l(ion, other) if other else 0.0
    if taken:
        # What would be taken off may exceed what is there; then there is none of it to be seen, to within the doubt.
        value, expanded_uncertainty = max(value - taken, 0.0), math.hypot(expanded_uncertainty, taken)
        ladder.step(
            "c'",
            f"less what {ions.DISTURBS[ion][0]} adds, to a factor of two",
            "c − K · c_other / M_other · M_N",
            StepResult(value, "mg/L as N", digits=3),
            "Umezawa2000",
            ("K", "selectivity", ions.DISTURBS[ion][2], ""),
            ("c_other", f"{ions.DISTURBS[ion][0]}, the site's", other or 0.0, "mg/L"),
        )
    ladder.step(
        "U",
        "expanded uncertainty, k = 2",
        "each input moved" + (", and all that was taken off" if taken else ""),
        StepResult(expanded_uncertainty, "mg/L as N", digits=3),
        "GUM",
    )
    return value, "mg/L", expanded_uncertainty, ladder.done()


def _chlorine(fit: Any, signal: float, temperature_c: float, water: Water, origin: str, u: float) -> _Found:
    value = fit.read(signal, temperature_c)
    expanded_uncertainty = 2 * math.hypot(u, 0.03)
    ladder = Ladder("Free chlorine")
    ladder.step("s", "shown by the tip", "as read", StepResult(signal, "mg/L", digits=2), "reading")
    ladder.step(
        "c", "free chlorine", "s · gain", StepResult(value, "mg/L", digits=2), origin, ("gain", "gain", fit.gain, "")
    )
    ladder.step(
        "U",
        "expanded uncertainty, k = 2",
        "second method and tip",
        StepResult(expanded_uncertainty, "mg/L", digits=2),
        "GUM",
    )
    return value, "mg/L", expanded_uncertainty, ladder.done()


_LADDERS: dict[str, Any] = {
    "temperature": _temperature,
    "ph": _ph,
    "conductivity": _conductivity,
    "redox": _redox,
    "oxygen": _oxygen,
    "nitrate": _ion,
    "ammonium": _ion,
    "chlorine": _chlorine,
}


def series(quantity: str, fit: Any, signals: Any, temperatures_c: Any, water: Water) -> NDArray[np.float64]:
    """The reported value sample by sample, without budgets, for drawing and for the field rule; 1-d arrays [°C]."""
    t = np.atleast_1d(np.asarray(temperatures_c, dtype=np.float64))
    read = read_each(fit, np.atleast_1d(np.asarray(signals, dtype=np.float64)), t)
    if quantity == "conductivity":
        kind = water.compensation
        kind = "linear" if kind in ("sea", "natural") and not (np.all(t >= 0) and np.all(t <= 35)) else kind
        a = water.coefficient_percent
        return np.atleast_1d(np.asarray(conductivity.to_reference(read, t, kind=kind, coefficient_percent=a)))
    if quantity == "oxygen" and water.salinity:
        return read * np.asarray(oxygen.saturation_mg_l(t, water.salinity)) / np.asarray(oxygen.saturation_mg_l(t))
    ec = water.conductivity_25_us_cm
    if quantity in IONS:
        gamma = 1.0 if ec is None or ec > 38_000 else float(ions.activity_coefficient(ions.ionic_strength_mol_l(ec)))
        other = water.disturbing(quantity)
        return np.maximum(read / gamma - (ions.interference_mg_l(quantity, other) if other else 0.0), 0.0)
    return read


#: Further doubts under this share of what is there already change no figure that is shown, and are left out.
_NEGLIGIBLE = 0.05


def doubted(reported: Reported, more: Sequence[Doubt]) -> Reported:
    """A value with further doubts in its uncertainty; each is named in the working, in the line of U."""
    before = reported.expanded_uncertainty
    if before is None:
        return reported
    named = [doubt for doubt in more if 2 * doubt.u > _NEGLIGIBLE * before]
    if not named:
        return reported
    expanded_uncertainty = math.hypot(before, *(2 * doubt.u for doubt in named))
    given = (
        Input("U0", "of the calibration and the signal", before, reported.unit),
        *(Input("u", doubt.name, doubt.u, reported.unit) for doubt in named),
    )

    def with_more(step: Step) -> Step:
        formula, inputs = "U = √(U0² + Σ (2·u)²)", (*step.inputs, *given)
        return replace(step, formula=formula, inputs=inputs, result=expanded_uncertainty, source="GUM")

    steps = tuple(with_more(step) if step.symbol == "U" else step for step in reported.working.steps)
    working = Working(reported.working.title, steps)
    return replace(reported, expanded_uncertainty=expanded_uncertainty, working=working)


def with_display(working: Working, shown: Step) -> Working:
    """The working with what the display showed put before it; the signal is then what stands for it."""
    return Working(working.title, (shown, *working.steps[1:]))


def shown_step(symbol: str, name: str, formula: str, display: Input, temperature_c: float, signal: StepResult) -> Step:
    """The first step where the display was typed: the signal that stands for what it showed."""
    inputs = (display, Input("T", "sample temperature", temperature_c, "°C"))
    return Step(symbol, name, formula, inputs, signal.value, signal.unit, "chosen", signal.digits)
