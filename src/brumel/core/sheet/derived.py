"""What follows from the readings of a sheet together: salinity, solids, saturation, Eh, ammonia, chlorine's parts."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from brumel.core import carbonate, chlorine, conductivity, ions, oxygen, redox, salinity, stabiliser
from brumel.core.constants.measured import HALF_CELL_C as HALF_CELL_TABLE_C
from brumel.core.sentence import Amount, say
from brumel.core.sheet.ladders import Reported, Water
from brumel.core.uncertainty import propagate
from brumel.core.working import Ladder, StepResult

#: What can be derived, and the readings each needs.
DERIVED: dict[str, tuple[str, ...]] = {
    "salinity": ("conductivity", "temperature"),
    "solids": ("conductivity",),
    "saturation": ("oxygen", "temperature"),
    "eh": ("redox", "temperature"),
    "ammonia": ("ammonium", "ph", "temperature"),
    "carbon_dioxide": ("ph", "temperature"),
    "combined_chlorine": ("total_chlorine", "chlorine"),
    "hypochlorous": ("chlorine", "ph", "temperature"),
}

#: Where the tables and equations behind the derived values end [°C].
SALINITY_C = (-2.0, salinity.WARMEST_C)
HALF_CELL_C = (redox.COLDEST_C, 40.0)
DISSOCIATION_C = (0.0, 40.0)


@dataclass(frozen=True)
class SheetFacts:
    """What was read, and what is known beside it.

    raw_us_cm : conductivity at the sample's own temperature, where it is known [µS/cm]
    tds_factor : the factor of the site or the meter; without one no TDS is stated
    electrode : the reference electrode of the ORP probe; without one no Eh is stated
    total_ammonia : the ammonium value is total ammonia, as test kits give it; an electrode reads NH4+ alone
    """

    read: Mapping[str, Reported]
    water: Water
    raw_us_cm: float | None = None
    tds_factor: float | None = None
    electrode: str = ""
    total_ammonia: bool = False

    @property
    def temperature_c(self) -> float:
        """The water's temperature [°C]; only asked for where it was read."""
        return self.read["temperature"].value

    def outside(self, low_c: float, high_c: float) -> str:
        """How the water's temperature lies outside a table, empty where it is inside."""
        at = self.temperature_c
        if low_c <= at <= high_c:
            return ""
        return say(
            "the water has {at} and the table {ends} at {end}",
            at=Amount(at, "°C", ".1f"),
            ends="begins" if at < low_c else "ends",
            end=Amount(low_c if at < low_c else high_c, "°C"),
        )


@dataclass(frozen=True)
class NotStated:
    """A value that would follow from what was read but cannot be stated, with the sentence why."""

    quantity: str
    sentence: str


def derive(
    read: Mapping[str, Reported],
    water: Water,
    *,
    raw_us_cm: float | None = None,
    tds_factor: float | None = None,
    electrode: str = "",
    total_ammonia: bool = False,
) -> list[Reported]:
    """Everything that follows from what was read; parameters as the fields of `Facts`.

    A value beyond the end of its scale is left out (`not_stated` says why); free chlorine above the total raises
    InputError.
    """
    return follow(SheetFacts(read, water, raw_us_cm, tds_factor, electrode, total_ammonia))[0]


def not_stated(facts: SheetFacts) -> list[NotStated]:
    """What would follow but cannot be stated here, each with its sentence."""
    return follow(facts)[1]


def follow(facts: SheetFacts) -> tuple[list[Reported], list[NotStated]]:
    """Both at once: what follows, and what would but cannot be stated."""
    ways = {
        "salinity": _salinity,
        "solids": _solids,
        "saturation": _saturation,
        "eh": _eh,
        "ammonia": _ammonia,
        "carbon_dioxide": _carbon_dioxide,
        "combined_chlorine": _combined_chlorine,
        "hypochlorous": _hypochlorous,
    }
    values = [ways[q](facts) for q, needs in DERIVED.items() if set(needs) <= set(facts.read)]
    follows = [f for f in values if isinstance(f, Reported) and math.isfinite(f.value)]
    return follows, [f for f in values if isinstance(f, NotStated)]


@dataclass(frozen=True)
class _Way:
    """How one value is worked out: its words, formula and source, further figures that went in, and what the formula's own
    constants are uncertain by (standard uncertainty in the value's unit)."""

    quantity: str
    unit: str
    title: str
    formula: str
    source: str
    known: tuple[tuple[str, str, float, str], ...] = ()
    constants_u: float = 0.0


def _reported(facts: SheetFacts, way: _Way, work: Callable[..., float]) -> Reported:
    """The value of `work` on the readings it needs, with its budget and working."""
    names = DERIVED[way.quantity]
    parts = [facts.read[n] for n in names]
    values = {n: (p.value, (p.expanded_uncertainty or 0.0) / 2) for n, p in zip(names, parts, strict=True)}
    budget = propagate(lambda x: work(*(x[n] for n in names)), values)
    expanded_uncertainty = 2 * math.hypot(budget.standard, way.constants_u)
    backed = all(p.expanded_uncertainty is not None for p in parts)
    value = budget.value
    given = ((_SYMBOLS[n], n.replace("_", " "), p.value, p.unit) for n, p in zip(names, parts, strict=True))
    ladder = Ladder(way.title)
    name = way.title if way.title.startswith(("TDS", "Eh")) else way.title[0].lower() + way.title[1:]
    ladder.step(_SYMBOLS[way.quantity], name, way.formula, StepResult(value, way.unit), way.source, *given, *way.known)
    if backed:
        ladder.step(
            "U",
            "expanded uncertainty, k = 2",
            "each input moved" + (", the constants too" if way.constants_u else ""),
            StepResult(expanded_uncertainty, way.unit),
            "GUM",
        )
    return Reported(way.quantity, value, way.unit, expanded_uncertainty if backed else None, ladder.done(), names)


def _salinity(facts: SheetFacts) -> Reported | NotStated | None:
    if facts.raw_us_cm is None or facts.raw_us_cm <= 0:
        return None
    if outside := facts.outside(*SALINITY_C):
        return NotStated("salinity", f"Salinity is not stated: {outside} (PSS-78).")
    if facts.raw_us_cm >= conductivity_end(facts.temperature_c):
        return NotStated("salinity", "Salinity is not stated: the practical salinity scale ends at 42.")
    at_25 = facts.read["conductivity"].value
    share = facts.raw_us_cm / at_25 if at_25 else 0.0
    beyond = facts.temperature_c > salinity.T_RANGE[1]
    at_most = f"PSS-78 of κ and T{', defined to 35 °C, followed on above it' if beyond else ''}"
    way = _Way("salinity", "", "Practical salinity", at_most, "PSS78", constants_u=salinity.BEYOND_U if beyond else 0.0)
    return _reported(
        facts, way, lambda c, t: float(salinity.practical_salinity(max(c * share, 0.0), _within(t, *SALINITY_C)))
    )


def _solids(facts: SheetFacts) -> Reported | None:
    factor = facts.tds_factor
    if factor is None:
        return None
    way = _Way(
        "solids",
        "mg/L",
        say("TDS, factor {factor}", factor=Amount(factor)),
        say("{factor} · κ25", factor=Amount(factor)),
        "common practice, no source",
        (("f", "factor", factor, ""),),
    )
    return _reported(facts, way, lambda c: float(conductivity.tds_mg_l(max(c, 0.0), factor)))


def _saturation(facts: SheetFacts) -> Reported:
    water = facts.water
    way = _Way(
        "saturation",
        "%",
        say(
            "Saturation at {pressure}, salinity {salinity}",
            pressure=Amount(water.pressure_hpa, "hPa", ".0f"),
            salinity=Amount(water.salinity, "", ".3g"),
        ),
        "100 · c / Cs(T, S, P)",
        "BK84",
        (
            ("P", f"station pressure, {water.pressure_from}", water.pressure_hpa, "hPa"),
            ("S", f"practical salinity, {water.salinity_from}", water.salinity, ""),
        ),
    )
    full = oxygen.saturation_mg_l
    return _reported(facts, way, lambda c, t: float(100 * c / float(full(t, water.salinity, water.pressure_hpa))))


def _eh(facts: SheetFacts) -> Reported | NotStated | None:
    if not facts.electrode:
        return NotStated("eh", "Eh is not stated: the probe's reference electrode is not on record.")
    if outside := facts.outside(*HALF_CELL_C):
        return NotStated("eh", f"Eh is not stated: {outside} (potentials of reference electrodes, USGS-A6.5).")
    cold = facts.temperature_c < HALF_CELL_TABLE_C[0]
    formula = "ORP + Eref(T), its table followed on below 10 °C" if cold else "ORP + Eref(T)"
    doubt = float(redox.half_cell_u_mv(facts.temperature_c))
    way = _Way("eh", "mV", "Eh, against the standard hydrogen electrode", formula, "USGS-A6.5", constants_u=doubt)
    half_cell = redox.reference_electrode_mv
    return _reported(facts, way, lambda e, t: e + float(half_cell(facts.electrode, _within(t, *HALF_CELL_C))))


def _ammonia(facts: SheetFacts) -> Reported | NotStated:
    if outside := facts.outside(*DISSOCIATION_C):
        return NotStated("ammonia", f"Un-ionised ammonia is not stated: {outside} (Emerson1975).")
    salt = _within(facts.water.salinity, 0.0, 40.0)

    def share(p: float, t: float) -> float:
        return float(ions.unionised_ammonia_fraction(p, _within(t, *DISSOCIATION_C), salt))

    source = "Clegg1995" if salt > 0 else "Emerson1975"
    if facts.total_ammonia:
        way = _Way("ammonia", "mg/L", "Un-ionised ammonia as N", "total · f(pH, T, S)", source)
        return _reported(facts, way, lambda n, p, t: n * share(p, t))
    f = share(facts.read["ph"].value, facts.temperature_c)
    total = facts.read["ammonium"].value / (1 - f)
    known = (("f", "un-ionised share", f, ""), ("TAN", "total ammonia as N, NH₄⁺ / (1 − f)", total, "mg/L"))
    way = _Way("ammonia", "mg/L", "Un-ionised ammonia as N", "NH₄⁺ · f / (1 − f), f of pH, T and S", source, known)
    return _reported(facts, way, lambda n, p, t: n / (1 / share(p, t) - 1))


#: A site's alkalinity is of another day than the reading: a relative standard uncertainty, chosen.
ALKALINITY_U = 0.1
#: Beyond them the water is not fresh, and the constants are not its own [µS/cm at 25 °C], [practical salinity].
FRESH_US_CM, FRESH_SALINITY = 5000.0, 3.0


def _carbon_dioxide(facts: SheetFacts) -> Reported | NotStated | None:
    """Where the site's alkalinity is on record."""
    alkalinity = facts.water.alkalinity_mg_l
    if alkalinity is None:
        return None
    read = facts.read.get("conductivity")
    ec = read.value if read else facts.water.conductivity_25_us_cm or 0.0
    p = facts.read["ph"].value
    salty = ec > FRESH_US_CM or (read is None and facts.water.salinity > FRESH_SALINITY)
    outside = "the water is not fresh" if salty else facts.outside(*carbonate.T_RANGE)
    if not 4 <= p <= 10:
        outside = outside or "pH lies outside 4 to 10"
    if outside:
        return NotStated("carbon_dioxide", f"Free carbon dioxide is not stated: {outside} (Plummer1982).")

    def dioxide(p: float, t: float) -> float:
        at_ph, at_c = _within(p, 4.0, 10.0), _within(t, *carbonate.T_RANGE)
        return carbonate.free_carbon_dioxide(at_ph, alkalinity, at_c, max(ec, 0.0)).value

    known = [("alk", "total alkalinity, the site's", alkalinity, "mg/L as CaCO3")]
    if ec:
        known.append(("κ25", "conductivity", ec, "µS/cm"))
    doubt = ALKALINITY_U * dioxide(p, facts.temperature_c)
    formula = "from alkalinity, pH and T" + (", activities by Davies" if ec else ", activities left out")
    way = _Way("carbon_dioxide", "mg/L", "Free carbon dioxide", formula, "Plummer1982", tuple(known), constants_u=doubt)
    return _reported(facts, way, dioxide)


def _combined_chlorine(facts: SheetFacts) -> Reported:
    total, free = facts.read["total_chlorine"], facts.read["chlorine"]
    chlorine.combined_mg_l(
        total.value,
        free.value,
        total_u_mg_l=total.expanded_uncertainty or 0.1,
        free_u_mg_l=free.expanded_uncertainty or 0.1,
    )
    way = _Way("combined_chlorine", "mg/L", "Combined chlorine", "total − free", "SM4500")
    return _reported(facts, way, lambda t, f: max(t - f, 0.0))


def _hypochlorous(facts: SheetFacts) -> Reported | NotStated:
    if outside := facts.outside(*DISSOCIATION_C):
        return NotStated("hypochlorous", f"Hypochlorous acid is not stated: {outside} (Morris1966).")
    if acid := facts.water.cyanuric_mg_l:
        return _stabilised(facts, acid)
    way = _Way("hypochlorous", "mg/L", "Hypochlorous acid, without stabiliser", "free · share(pH, T)", "Morris1966")
    share = chlorine.hypochlorous_fraction
    return _reported(facts, way, lambda c, p, t: c * float(share(p, _within(t, *DISSOCIATION_C))))


#: The stabiliser's constants are of 25 °C and from memory: a relative standard uncertainty, chosen.
STABILISED_U = 0.15


def _stabilised(facts: SheetFacts, acid: float) -> Reported | NotStated:
    """Hypochlorous acid where the site's stabiliser is on record."""
    p = facts.read["ph"].value
    low, high = stabiliser.PH_RANGE
    outside = facts.outside(*stabiliser.T_RANGE) or ("" if low <= p <= high else f"pH lies outside {low:g} to {high:g}")
    if outside:
        return NotStated("hypochlorous", f"Hypochlorous acid is not stated: {outside} (Obrien1974).")

    def hypochlorous(c: float, p: float, t: float) -> float:
        at_c, at_ph = _within(t, *stabiliser.T_RANGE), _within(p, low, high)
        return stabiliser.free_parts(max(c, 0.0), acid, at_ph, at_c).hypochlorous_mg_l

    value = hypochlorous(*(facts.read[name].value for name in DERIVED["hypochlorous"]))
    title = say("Hypochlorous acid beside {acid} of cyanuric acid", acid=Amount(acid, "mg/L", ".0f"))
    known = (("CYA", "cyanuric acid, the site's", acid, "mg/L"),)
    formula = "chlorine shared with the stabiliser"
    doubt = STABILISED_U * value
    way = _Way("hypochlorous", "mg/L", title, formula, "Obrien1974", known, constants_u=doubt)
    return _reported(facts, way, hypochlorous)


def _within(value: float, low: float, high: float) -> float:
    return min(max(value, low), high)


_SYMBOLS = {
    "salinity": "S",
    "solids": "TDS",
    "saturation": "sat",
    "eh": "Eh",
    "ammonia": "NH₃",
    "combined_chlorine": "Clc",
    "hypochlorous": "HOCl",
    "carbon_dioxide": "CO₂",
    "conductivity": "κ25",
    "temperature": "T",
    "oxygen": "c",
    "redox": "ORP",
    "ph": "pH",
    "ammonium": "NH₄⁺",
    "chlorine": "Clf",
    "total_chlorine": "Clt",
}


def conductivity_end(temperature_c: float) -> float:
    """Conductivity where the practical salinity scale ends, at this temperature [°C] -> [µS/cm]. Source: PSS78."""
    return float(salinity.conductivity_of_us_cm(42.0, temperature_c))
