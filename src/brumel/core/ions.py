"""Ion-selective electrodes for nitrate and ammonium: pairs, slope, activity, and un-ionised ammonia."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from brumel.core.checking import Door, Floats, plain, shape_of
from brumel.core.constants.chosen import ION_ELECTRODE_MOST_US_CM
from brumel.core.constants.defined import NERNST_MV_PER_K, ZERO_CELSIUS_K
from brumel.core.constants.measured import AMMONIUM_G_MOL, CHLORIDE_G_MOL, NITROGEN_G_MOL, POTASSIUM_G_MOL
from brumel.core.errors import CannotFit, InputError, WrongShape
from brumel.core.ph.electrode import nernst_slope_mv
from brumel.core.sentence import Amount, Span, say
from brumel.core.verdict import CriterionRow, Outcome, Verdict
from brumel.core.working import Ladder, StepResult, Worked, Working

SIGN = {"nitrate": -1.0, "ammonium": 1.0}  # nitrate falls with concentration, ammonium rises
#: What of the same meter a tip rests on.
RESTS_ON = ("ph", "redox", "conductivity")
T_RANGE = (0.0, 50.0)
MV_RANGE = (-1000.0, 1000.0)
MG_RANGE = (1e-4, 100_000.0)
DAVIES_A = 0.509  # at 25 °C [Davies]


@dataclass(frozen=True)
class IonPoint:
    """One standard: signal [mV], temperature [°C], and its concentration as N, or its activity [mg/L]."""

    millivolts: float
    temperature_c: float
    concentration_mg_l: float


@dataclass(frozen=True)
class IonCalibration:
    """A fitted electrode: efficiency and E0 [mV at 1 mg/L] at the room pair, and their change with temperature per °C."""

    ion: str
    points: tuple[IonPoint, ...]
    efficiency: float
    e0_mv: float
    reference_c: float
    efficiency_per_c: float
    e0_mv_per_c: float

    @property
    def slope_mv_per_decade(self) -> float:
        """Slope at 25 °C with its sign: negative for nitrate, positive for ammonium."""
        return SIGN[self.ion] * self.efficiency * float(nernst_slope_mv(25.0))

    def concentration_mg_l(self, millivolts: Floats, temperature_c: Floats) -> Floats:
        """What the standards were stated in (as N, or activity), from a signal [mV, °C] -> [mg/L]."""
        door = Door()
        e = door.floats("millivolts", millivolts, *MV_RANGE)
        t = door.floats("temperature_c", temperature_c, *T_RANGE)
        door.same_length(millivolts=e, temperature_c=t)
        door.close()
        d = t - self.reference_c
        slope = SIGN[self.ion] * (self.efficiency + self.efficiency_per_c * d) * NERNST_MV_PER_K * (t + ZERO_CELSIUS_K)
        power = (e - self.e0_mv - self.e0_mv_per_c * d) / slope
        return plain(np.asarray(10.0 ** np.clip(power, -9, 9)))


def ideal_step_mv(ion: str, from_mg_l: float, to_mg_l: float, temperature_c: float) -> float:
    """How an ideal tip's signal changes between two concentrations [mg/L, °C] -> [mV]. Source: Nernst's law."""
    door = Door()
    door.name("ion", ion, SIGN)
    low = door.number("concentration_mg_l", from_mg_l, 1e-6, 1e6)
    high = door.number("concentration_mg_l", to_mg_l, 1e-6, 1e6)
    door.close()
    return SIGN[ion] * float(nernst_slope_mv(temperature_c)) * float(np.log10(high / low))


def fit(points: Sequence[IonPoint] | Sequence[tuple[float, float, float]], *, ion: str = "nitrate") -> IonCalibration:
    """Fit 2, 3 or 4 standards.

    Parameters
    ----------
    points : IonPoint or (millivolts, temperature_c, concentration_mg_l), high and low at room temperature first; a third
        is one of them near the sample's temperature, a fourth the other [mV, °C, mg/L]
    ion : "nitrate" falls, "ammonium" rises

    Two give slope and E0; a third the change of E0 with temperature; a fourth also that of the slope. Raises all faults
    at once; CannotFit for equal concentrations, a reversed or missing slope, or a third point at the same temperature.
    Source: common practice, no source; Nernst's law.
    """
    entered = [p if isinstance(p, IonPoint) else IonPoint(*p) for p in points]
    door = Door()
    if len(entered) not in (2, 3, 4):
        door.add(WrongShape("points", f"An ion electrode takes 2, 3 or 4 points; there are {len(entered)}."))
    for p in entered:
        door.number("millivolts", p.millivolts, *MV_RANGE)
        door.number("temperature_c", p.temperature_c, *T_RANGE)
        door.number("concentration_mg_l", p.concentration_mg_l, *MG_RANGE)
    door.name("ion", ion, SIGN)
    door.close()
    room, other = entered[:2], entered[2:]
    efficiency, e0 = _pair(room, ion)
    room_c = float(np.mean([p.temperature_c for p in room]))
    if not other:
        return IonCalibration(ion, tuple(entered), efficiency, e0, room_c, 0.0, 0.0)
    there = float(np.mean([p.temperature_c for p in other]))
    if abs(there - room_c) < 2:
        raise CannotFit(
            "points",
            say(
                "The further points are at {there}, too near the first pair's {room} to show a change.",
                there=Amount(there, "°C", ".1f"),
                room=Amount(room_c, "°C", ".1f"),
            ),
        )
    if len(other) == 2:
        efficiency_there, e0_there = _pair(other, ion)
    else:
        efficiency_there = efficiency
        p = other[0]
        e0_there = p.millivolts - SIGN[ion] * efficiency * float(nernst_slope_mv(p.temperature_c)) * np.log10(
            p.concentration_mg_l
        )
    span = there - room_c
    return IonCalibration(
        ion, tuple(entered), efficiency, e0, room_c, (efficiency_there - efficiency) / span, float(e0_there - e0) / span
    )


def ideal(ion: str) -> IonCalibration:
    """A perfect electrode with E0 = 0 mV at 1 mg/L: what stands behind a displayed concentration. Source: Nernst's law."""
    door = Door()
    door.name("ion", ion, SIGN)
    door.close()
    return IonCalibration(ion, (), 1.0, 0.0, 25.0, 0.0, 0.0)


def pseudo_millivolts(displayed_mg_l: float, temperature_c: float, ion: str) -> float:
    """mV that stand for a displayed concentration where the meter shows no mV: the ideal line at that temperature.

    A calibration made this way describes the meter together with its own stored calibration [mg/L, °C] -> [mV].
    """
    door = Door()
    door.number("concentration_mg_l", displayed_mg_l, *MG_RANGE)
    door.number("temperature_c", temperature_c, *T_RANGE)
    door.name("ion", ion, SIGN)
    door.close()
    return float(SIGN[ion] * float(nernst_slope_mv(temperature_c)) * np.log10(displayed_mg_l))


def _pair(pair: Sequence[IonPoint], ion: str) -> tuple[float, float]:
    a, b = pair
    decades = float(np.log10(a.concentration_mg_l / b.concentration_mg_l))
    if abs(decades) < 0.3:
        raise CannotFit("points", "The two standards are less than a factor of two apart and cannot make a slope.")
    t = (a.temperature_c + b.temperature_c) / 2
    efficiency = (a.millivolts - b.millivolts) / (SIGN[ion] * float(nernst_slope_mv(t)) * decades)
    if efficiency <= 0.05:
        way = "fall" if ion == "nitrate" else "rise"
        raise CannotFit(
            "points",
            say(
                "The signal must {way} with {ion}; here it does not (slope {efficiency}). Swapped cups?",
                way=way,
                ion=ion,
                efficiency=Amount(efficiency * 100, "%", ".0f"),
            ),
        )
    e0 = a.millivolts - SIGN[ion] * efficiency * float(nernst_slope_mv(t)) * float(np.log10(a.concentration_mg_l))
    return efficiency, e0


@dataclass(frozen=True)
class Pair:
    """What a pair of standards tells of the tip: gap as read and normalised to 25 °C and 10:1 [mV]."""

    gap_mv: float
    normalised_mv: float
    decades: float


def pair(high: IonPoint, low: IonPoint) -> Pair:
    """The gap of a pair, and the same put to 25 °C and a ratio of 10:1 by Nernst: 62.7 mV at 43 °C is not health."""
    door = Door()
    for p in (high, low):
        door.number("millivolts", p.millivolts, *MV_RANGE)
        door.number("temperature_c", p.temperature_c, *T_RANGE)
        door.number("concentration_mg_l", p.concentration_mg_l, *MG_RANGE)
    door.close()
    decades = abs(float(np.log10(high.concentration_mg_l / low.concentration_mg_l)))
    if decades < 0.3:
        raise CannotFit("points", "The two standards are less than a factor of two apart.")
    gap = abs(high.millivolts - low.millivolts)
    t = (high.temperature_c + low.temperature_c) / 2
    return Pair(gap, gap / decades * float(nernst_slope_mv(25.0)) / float(nernst_slope_mv(t)), decades)


@dataclass(frozen=True)
class PairLimits:
    """What a pair is held to: its gap at 25 °C and a ratio of 10:1, and its temperatures apart [mV, °C]."""

    gap_low_mv: float
    gap_high_mv: float
    apart_c: float
    source: str


def verdict(high: IonPoint, low: IonPoint, ion: str, limits: PairLimits) -> Verdict:
    """Pair rules: temperatures apart, gap at 25 °C and 10:1, the sign of the ion [mV, °C]."""
    judged = pair(high, low)
    spread = round(abs(high.temperature_c - low.temperature_c), 9)
    inside = limits.gap_low_mv <= judged.normalised_mv <= limits.gap_high_mv
    shrunk = judged.normalised_mv < limits.gap_low_mv
    rises = (high.millivolts - low.millivolts) * (high.concentration_mg_l - low.concentration_mg_l) > 0
    right = rises == (SIGN[ion] > 0)
    return Verdict(
        (
            CriterionRow(
                "pair_c",
                "temperatures of the pair apart",
                spread,
                "°C",
                say("up to {apart}", apart=Amount(limits.apart_c, "°C", difference=True)),
                Outcome.FIT if spread <= limits.apart_c else Outcome.NOT,
                limits.source,
                "",
                2,
            ),
            CriterionRow(
                "gap",
                "gap of the pair, at 25 °C and 10:1",
                judged.normalised_mv,
                "mV",
                say("{span}", span=Span(limits.gap_low_mv, limits.gap_high_mv, "mV")),
                Outcome.FIT if inside else Outcome.NOT if shrunk else Outcome.CARE,
                limits.source,
                "the tip has aged: replace it" if shrunk else "",
                1,
            ),
            CriterionRow(
                "sign",
                f"{ion} {'rises' if SIGN[ion] > 0 else 'falls'} with concentration",
                None,
                "",
                "the right way",
                Outcome.FIT if right else Outcome.NOT,
                "Nernst's law",
                "" if right else "cups swapped, or the wrong tip",
            ),
        )
    )


# -- activity and interference


def ionic_strength_mol_l(conductivity_25_us_cm: Floats) -> Floats:
    """Ionic strength from specific conductance, I = 1.3e-5 · EC25 [µS/cm at 25 °C] -> [mol/L]. Source: Griffin1973."""
    door = Door()
    c = door.floats("conductivity_25_us_cm", conductivity_25_us_cm, 0, 40_000)
    door.close()
    return plain(np.asarray(1.3e-5 * c))


def activity_coefficient(ionic_strength_mol_l: Floats, charge: int = 1) -> Floats:
    """Davies: log γ = −A z² (√I/(1+√I) − 0.3 I), up to 0.5 mol/L, at 25 °C. Source: Davies."""
    door = Door()
    i = door.floats("ionic_strength_mol_l", ionic_strength_mol_l, 0, 0.5)
    door.number("charge", charge, -3, 3)
    door.close()
    root = np.sqrt(i)
    return plain(np.asarray(10.0 ** (-DAVIES_A * charge**2 * (root / (1 + root) - 0.3 * i))))


def interference(conductivity_25_us_cm: float, ion: str) -> str:
    """A sentence where other ions would speak, empty otherwise [µS/cm at 25 °C]. Common practice, no source."""
    door = Door()
    door.number("conductivity_25_us_cm", conductivity_25_us_cm, 0, 300_000)
    door.name("ion", ion, SIGN)
    door.close()
    if conductivity_25_us_cm <= ION_ELECTRODE_MOST_US_CM:
        return ""
    others = "chloride" if ion == "nitrate" else "potassium and sodium"
    return say(
        "At {conductivity} (over {most}) the {ion} electrode is disturbed by {others}. It is not for brackish or salt "
        "water.",
        conductivity=Amount(conductivity_25_us_cm, "µS/cm", ".0f"),
        most=Amount(ION_ELECTRODE_MOST_US_CM, "µS/cm", ".0f"),
        others=others,
        ion=ion,
    )


#: The ion that disturbs a tip most, its mass, and how much of it counts (potentiometric selectivity, mol per mol).
#: Umezawa2000's range for such membranes, from memory: chloride 10^-2.7 to 10^-2.0, potassium 10^-1.1 to 10^-0.8.
DISTURBS = {"nitrate": ("chloride", CHLORIDE_G_MOL, 0.005), "ammonium": ("potassium", POTASSIUM_G_MOL, 0.12)}


@dataclass(frozen=True)
class Undisturbed:
    """A reading less what another ion adds to it [mg/L as N], with its working and the part that was taken off."""

    value: float
    taken_mg_l: float
    expanded_uncertainty: float
    working: Working


def interference_mg_l(ion: str, other_mg_l: float, selectivity: float | None = None) -> float:
    """What the disturbing ion adds to a tip's reading, K · c_other [mg/L] -> [mg/L as N]. Source: Umezawa2000."""
    door = Door()
    door.name("ion", ion, DISTURBS)
    other = door.number("other_mg_l", other_mg_l, 0, 100_000)
    usual = DISTURBS.get(ion, ("", 1.0, 0.0))
    factor = usual[2] if selectivity is None else door.number("selectivity", selectivity, 0, 1)
    door.close()
    return factor * other / usual[1] * NITROGEN_G_MOL


def less_interference(
    concentration_mg_l: float, other_mg_l: float, ion: str, selectivity: float | None = None
) -> Undisturbed:
    """An ion electrode's reading without what chloride (nitrate) or potassium (ammonium) adds to it.

    concentration_mg_l : as read [mg/L as N]; other_mg_l : of the disturbing ion [mg/L]
    selectivity : the tip's own, mol per mol, from its data sheet; the usual one where None, uncertain by a factor of two

    Nikolsky and Eisenman: the reading is c + K · c_other, both of one charge. Raises all faults at once, also where more
    would be taken off than was read. Source: Umezawa2000.
    """
    door = Door()
    read = door.number("concentration_mg_l", concentration_mg_l, 0, 100_000)
    other = door.number("other_mg_l", other_mg_l, 0, 100_000)
    door.name("ion", ion, DISTURBS)
    if selectivity is not None:
        door.number("selectivity", selectivity, 0, 1)
    door.close()
    usual = DISTURBS[ion]
    factor = usual[2] if selectivity is None else selectivity
    taken = interference_mg_l(ion, other, selectivity)
    if taken > read:
        raise InputError(
            "other_mg_l",
            say(
                "{other} of {name} alone would read {taken}, more than {read} as read. Nothing can be said of {ion}.",
                other=Amount(other, "mg/L", ".4g"),
                name=usual[0],
                taken=Amount(taken, "mg/L as N", ".3g"),
                read=Amount(read, "mg/L as N", ".3g"),
                ion=ion,
            ),
            value=other,
        )
    ladder = Ladder(f"{ion.capitalize()} without {usual[0]}")
    ladder.step("c", "as read, as N", "reading", StepResult(read, "mg/L"), "reading")
    ladder.step(
        "Δ",
        f"what {usual[0]} adds",
        "K · c_other / M_other · M_N",
        StepResult(taken, "mg/L"),
        "Umezawa2000",
        ("K", "selectivity", factor, ""),
        ("c_other", usual[0], other, "mg/L"),
    )
    ladder.step("c'", f"{ion}", "c − Δ", StepResult(read - taken, "mg/L"), "Umezawa2000")
    doubt = taken if selectivity is None else 0.3 * taken
    ladder.step(
        "U",
        "of what was taken off, k = 2",
        "a factor of two" if selectivity is None else "30 %",
        StepResult(doubt, "mg/L"),
        "chosen",
    )
    return Undisturbed(read - taken, taken, doubt, ladder.done())


# -- ammonia


def ammonia_pka(temperature_c: Floats, salinity: Floats = 0.0) -> Floats:
    """pKa of ammonium: fresh water Emerson1975, 0 to 50 °C; with salt Clegg1995, -2 to 40 °C, salinity to 40.

    The salt form is on the total scale; a field pH from technical buffers differs from it by up to about 0.1.
    """
    door = Door()
    t = door.floats("temperature_c", temperature_c, 0, 50)
    s = door.floats("salinity", salinity, 0, 42)
    door.same_length(temperature_c=t, salinity=s)
    door.close()
    if np.any(s > 0):
        door.floats("temperature_c", temperature_c, 0, 40, "With salt the formula ends there.")
        door.close()
    return plain(_pka(t, s))


def _pka(t: np.ndarray, s: np.ndarray) -> np.ndarray:
    k = t + ZERO_CELSIUS_K
    fresh = 0.09018 + 2729.92 / k  # Emerson1975
    if not np.any(s > 0):
        return np.asarray(fresh + 0.0 * s)
    root = np.sqrt(k)
    salt = 9.244605 - 2729.33 * (1 / 298.15 - 1 / k) + (0.04203362 - 11.24742 / k) * s**0.25
    salt = salt + (-13.6416 + 1.176949 * root - 0.02860785 * k + 545.4834 / k) * s**0.5
    salt = salt + (-0.1462507 + 0.0090226468 * root - 0.0001471361 * k + 10.5425 / k) * s**1.5
    salt = salt + (0.004669309 - 0.0001691742 * root - 0.5677934 / k) * s**2
    salt = salt + (-2.354039e-05 + 0.009698623 / k) * s**2.5  # Clegg1995, eq. 18, mol per kg water
    salt = salt - np.log10(1 - 0.001005 * s)  # to mol per kg sea water
    return np.asarray(np.where(s > 0, salt, fresh))


def unionised_ammonia_fraction(ph: Floats, temperature_c: Floats, salinity: Floats = 0.0) -> Floats:
    """Share of ammonia nitrogen that is un-ionised NH3, the toxic part: 1 / (1 + 10^(pKa − pH)) [°C] -> 0 to 1."""
    door = Door()
    p = door.floats("ph", ph, 0, 14)
    door.same_length(ph=p, temperature_c=shape_of(temperature_c), salinity=shape_of(salinity))
    door.close()
    pka = np.asarray(ammonia_pka(temperature_c, salinity))
    return plain(np.asarray(1.0 / (1.0 + 10.0 ** (pka - p))))


def as_nitrogen_mg_l(ammonium_mg_l: Floats) -> Floats:
    """NH4 as N [mg/L as NH4] -> [mg/L as N]."""
    door = Door()
    c = door.floats("concentration_mg_l", ammonium_mg_l, 0, 100_000)
    door.close()
    return plain(np.asarray(c * NITROGEN_G_MOL / AMMONIUM_G_MOL))


def explain_ammonia(total_mg_l_as_n: float, ph: float, temperature_c: float, salinity: float = 0.0) -> Worked:
    """Un-ionised ammonia with its working [mg/L as N, pH, °C]."""
    door = Door()
    door.number("concentration_mg_l", total_mg_l_as_n, 0, 10_000)
    door.close()
    share = float(unionised_ammonia_fraction(ph, temperature_c, salinity))
    pka = float(ammonia_pka(temperature_c, salinity))
    source = "Clegg1995" if salinity > 0 else "Emerson1975"
    formula = "pKa(T, S), eq. 18" if salinity > 0 else "pKa = 0.09018 + 2729.92 / T"
    ladder = Ladder("Un-ionised ammonia")
    ladder.step("TAN", "total ammonia nitrogen", "as given", StepResult(total_mg_l_as_n, "mg/L as N"), "reading")
    ladder.step(
        "pKa",
        "of ammonium here",
        formula,
        StepResult(pka, "", digits=4),
        source,
        ("T", "temperature", temperature_c, "°C"),
        ("S", "salinity", salinity, ""),
    )
    ladder.step(
        "f",
        "un-ionised share",
        "f = 1 / (1 + 10^(pKa − pH))",
        StepResult(share * 100, "%", digits=2),
        source,
        ("pH", "pH", ph, ""),
    )
    value = share * total_mg_l_as_n
    ladder.step("NH3", "un-ionised ammonia", "NH3 = f · TAN", StepResult(value, "mg/L as N", digits=4), source)
    return Worked(value, "mg/L as N", ladder.done())
