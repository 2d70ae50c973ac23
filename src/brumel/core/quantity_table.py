"""The one table of the quantities: what a probe reads, and what follows from it on a sheet.

A new quantity is one row here, besides its own modules in `core/fitness`, `work/quantities` and `meters/sensors`.
Figures of a label and of a standard are usual ones: common practice, no source.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple


class SignalRow(NamedTuple):
    """The raw signal: what a settling sentence calls it, its unit, and the decimals it is shown to."""

    words: str
    unit: str
    digits: int


class LabelRow(NamedTuple):
    """What the label of a standard says.

    unit, low, high : of its value
    u, u_unit : its usual expanded uncertainty, in the value's own unit or in percent
    alone_c : how far a single value reaches from its temperature [°C]
    """

    unit: str
    low: float
    high: float
    u: float
    u_unit: str
    alone_c: float


class SecondMethodRow(NamedTuple):
    """What a second method by hand may give: its usual expanded uncertainty near nothing and its limits [mg/L].

    Of a larger value it is a tenth: tablets, drops and colours are read in shares. Common practice, no source.
    """

    u: float
    low: float
    high: float

    def at(self, value: float) -> float:
        """The usual expanded uncertainty (k = 2) of a value [mg/L]."""
        return max(self.u, 0.1 * abs(value))


class JudgedRow(NamedTuple):
    """How a calibration is judged: the fits there are, the limits a method must state as bands, and those it may state."""

    fits: tuple[str, ...]
    bands: frozenset[str]
    tolerances: frozenset[str]


@dataclass(frozen=True)
class QuantityRow:
    """A quantity a probe reads.

    words, on_sheet : what it is called, and what its value on a sheet is called
    family : whose settling, care and maintenance it shares
    turn : its place in a whole meter's calibration session
    displayed : the way of typing its display that gives the reported unit itself; it is offered first
    vessels : what its probe may stand in while it is calibrated
    usual_by_kind : the method offered first for these kinds of probe, where it is another than `usual_method`
    standard_u : standard uncertainty of the standards where their lots say nothing, in the label's own measure
    digits, standard_digits : decimals of a value on a sheet, and of what a standard should read
    ideal : what it is read with where no calibration can be
    """

    key: str
    words: str
    on_sheet: str
    unit: str
    digits: int
    family: str
    turn: int
    signal: SignalRow
    probe_kinds: tuple[str, ...]
    judged: JudgedRow
    usual_method: str
    standard_u: float
    standard_digits: int
    label: LabelRow | None = None
    second_method: SecondMethodRow | None = None
    displayed: str = ""
    vessels: tuple[str, ...] = ("solution",)
    ideal: str = "a perfect probe"
    usual_by_kind: Mapping[str, str] = field(default_factory=dict)

    def usual_for(self, kind: str) -> str:
        """The method offered first for this kind of probe."""
        return self.usual_by_kind.get(kind, self.usual_method)


class DerivedRow(NamedTuple):
    """A quantity that follows from others on a sheet, or that only a second method gives."""

    key: str
    on_sheet: str
    digits: int
    second_method: SecondMethodRow | None = None


ION_JUDGED = JudgedRow(("pairs",), frozenset({"gap"}), frozenset({"pair_apart", "as_found"}))
ION_LABEL = LabelRow("mg/L as N", 0.01, 20_000.0, 1.0, "%", 40.0)

#: In the order of a sheet.
ROWS: tuple[QuantityRow | DerivedRow, ...] = (
    QuantityRow(
        "temperature",
        "temperature",
        "temperature",
        "°C",
        1,
        family="temperature",
        turn=0,
        signal=SignalRow("temperature signal", "°C", 2),
        probe_kinds=("thermistor", "platinum resistance"),
        judged=JudgedRow(("correct", "check"), frozenset(), frozenset({"tolerance"})),
        usual_method="temp-two-points",
        standard_u=0.05,
        standard_digits=2,
        displayed="c",
        vessels=("reference",),
    ),
    QuantityRow(
        "ph",
        "pH",
        "pH",
        "pH",
        2,
        family="ph",
        turn=1,
        signal=SignalRow("pH signal", "mV", 1),
        probe_kinds=("refillable", "gel"),
        judged=JudgedRow(
            ("segments", "line", "offset"), frozenset({"slope", "offset"}), frozenset({"linearity", "cup_spread"})
        ),
        usual_method="ph-7-4-10",
        standard_u=0.01,
        standard_digits=2,
        label=LabelRow("pH", 0.0, 14.0, 0.02, "pH", 2.0),
        displayed="ph",
        ideal="an ideal electrode",
    ),
    QuantityRow(
        "conductivity",
        "conductivity",
        "conductivity at 25 °C",
        "µS/cm",
        0,
        family="conductivity",
        turn=2,
        signal=SignalRow("conductance", "µS", 1),
        probe_kinds=("two-electrode", "four-electrode", "inductive"),
        judged=JudgedRow(
            ("cell", "check"),
            frozenset({"cell_constant"}),
            frozenset({"standards_gap", "air_zero", "as_found", "as_found_least", "cup_spread"}),
        ),
        usual_method="ec-air-one",
        standard_u=0.5,
        standard_digits=0,
        label=LabelRow("µS/cm", 1.0, 1_000_000.0, 1.0, "%", 1.0),
        displayed="us_cm_ref",
        ideal="the cell's nominal constant",
        vessels=("solution", "air"),
        usual_by_kind={"four-electrode": "ec-one-standard", "inductive": "ec-one-standard"},
    ),
    DerivedRow("salinity", "salinity", 2),
    DerivedRow("solids", "TDS", 0),
    QuantityRow(
        "oxygen",
        "oxygen",
        "dissolved oxygen",
        "mg/L",
        2,
        family="oxygen",
        turn=4,
        signal=SignalRow("oxygen signal", "% sat", 1),
        probe_kinds=("polarographic", "galvanic", "optical"),
        judged=JudgedRow(("gain", "check"), frozenset({"gain"}), frozenset({"zero", "air_water", "as_found"})),
        usual_method="do-saturated-air",
        standard_u=0.5,
        standard_digits=2,
        label=LabelRow("mg/L", 0.0, 0.1, 0.05, "mg/L", 40.0),
        displayed="mg_l",
        vessels=("solution", "saturated_air", "saturated_water"),
    ),
    DerivedRow("saturation", "oxygen saturation", 0),
    QuantityRow(
        "redox",
        "ORP",
        "ORP",
        "mV",
        0,
        family="redox",
        turn=3,
        signal=SignalRow("ORP", "mV", 1),
        probe_kinds=("refillable", "gel"),
        judged=JudgedRow(("offset", "check"), frozenset({"offset"}), frozenset({"tolerance", "cup_spread"})),
        usual_method="orp-check",
        standard_u=2.5,
        standard_digits=0,
        label=LabelRow("mV", -1000.0, 1000.0, 5.0, "mV", 5.0),
    ),
    DerivedRow("eh", "Eh", 0),
    QuantityRow(
        "nitrate",
        "nitrate",
        "nitrate as N",
        "mg/L as N",
        2,
        family="ions",
        turn=5,
        signal=SignalRow("nitrate signal", "mV", 1),
        probe_kinds=("membrane tip",),
        judged=ION_JUDGED,
        usual_method="no3-two",
        standard_u=0.5,
        standard_digits=2,
        label=ION_LABEL,
        second_method=SecondMethodRow(1.0, 0, 2000),
    ),
    QuantityRow(
        "ammonium",
        "ammonium",
        "ammonium as N",
        "mg/L as N",
        3,
        family="ions",
        turn=6,
        signal=SignalRow("ammonium signal", "mV", 1),
        probe_kinds=("membrane tip",),
        judged=ION_JUDGED,
        usual_method="nh4-two",
        standard_u=0.5,
        standard_digits=2,
        label=ION_LABEL,
        second_method=SecondMethodRow(0.1, 0, 500),
    ),
    DerivedRow("ammonia", "un-ionised ammonia as N", 4),
    QuantityRow(
        "chlorine",
        "chlorine",
        "free chlorine",
        "mg/L",
        2,
        family="chlorine",
        turn=7,
        signal=SignalRow("chlorine signal", "mg/L", 2),
        probe_kinds=("membrane tip", "bare electrode"),
        judged=JudgedRow(("gain", "check"), frozenset(), frozenset({"tolerance", "en"})),
        usual_method="cl-check",
        standard_u=0.05,
        standard_digits=2,
        second_method=SecondMethodRow(0.1, 0, 50),
        displayed="mg_l",
        vessels=("reference",),
    ),
    DerivedRow("total_chlorine", "total chlorine", 2, SecondMethodRow(0.1, 0, 50)),
    DerivedRow("combined_chlorine", "combined chlorine", 2),
    DerivedRow("hypochlorous", "hypochlorous acid", 2),
    DerivedRow("carbon_dioxide", "free carbon dioxide", 1),
)

#: The quantities of probes by key, in the order of a calibration session: all rests on temperature, ions on the others.
MEASURED = {row.key: row for row in sorted((r for r in ROWS if isinstance(r, QuantityRow)), key=lambda row: row.turn)}
#: Whatever stands on a sheet, by key, in its order.
ON_SHEET = {row.key: row for row in ROWS}
#: The quantities that are read by an ion-selective tip.
IONS = tuple(key for key, row in MEASURED.items() if row.family == "ions")


def family_of(quantity: str) -> str:
    """Whose settling, care and maintenance a quantity shares; its own key where it is not in the table."""
    return MEASURED[quantity].family if quantity in MEASURED else quantity
