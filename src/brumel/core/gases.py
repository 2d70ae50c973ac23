"""Gases in water that harm fish: hydrogen sulfide beside its ion, and all dissolved gas against the air above."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from brumel.core import oxygen
from brumel.core.checking import Door, Floats, plain
from brumel.core.constants.defined import STANDARD_PRESSURE_HPA, ZERO_CELSIUS_K
from brumel.core.working import Ladder, StepResult, Worked

#: Where the constant was measured: 5 to 25 °C; it is used a little beyond [°C].
SULFIDE_T = (0.0, 35.0)
#: Oxygen's share of dry air, and that of nitrogen with argon. Source: ISA, volume shares.
OXYGEN_SHARE, NITROGEN_SHARE = 0.20946, 0.79018
#: Pressure of a metre of fresh water [hPa/m].
WATER_HPA_M = 98.0665


def sulfide_pk(temperature_c: Floats, salinity: Floats = 0.0) -> Floats:
    """−log of hydrogen sulfide's first constant; scalars or arrays of one shape.

    temperature_c : 0 to 35, measured at 5 to 25 [°C]
    salinity : practical salinity, 0 to 42

    On the total pH scale in salt water. Raises NotANumber, OutOfRange, WrongShape, all at once.
    Source: Millero1988.
    """
    door = Door()
    t = door.floats("temperature_c", temperature_c, *SULFIDE_T)
    s = door.floats("salinity", salinity, 0, 42)
    door.same_length(temperature_c=t, salinity=s)
    door.close()
    k = t + ZERO_CELSIUS_K
    log = 225.838 - 13275.3 / k - 34.6435 * np.log(k) + 0.3449 * s**0.5 - 0.0274 * s
    return plain(-log / math.log(10))


def hydrogen_sulfide(total_mg_l: float, ph: float, temperature_c: float, salinity: float = 0.0) -> Worked:
    """The part of sulfide that is hydrogen sulfide, which passes gills, with its working [mg/L as S].

    total_mg_l : total sulfide of the filtered sample, as a test gives it [mg/L as S]
    salinity : practical salinity

    pH 4 to 11. Raises all faults at once. Source: Millero1988.
    """
    door = Door()
    total = door.number("sulfide_mg_l", total_mg_l, 0, 100)
    p = door.number("ph", ph, 4, 11)
    t = door.number("temperature_c", temperature_c, *SULFIDE_T)
    s = door.number("salinity", salinity, 0, 42)
    door.close()
    pk = float(sulfide_pk(t, s))
    share = 1 / (1 + 10 ** (p - pk))
    value = share * total
    ladder = Ladder("Hydrogen sulfide")
    ladder.step(
        "pK1",
        "first constant of hydrogen sulfide",
        "from T and S",
        StepResult(pk),
        "Millero1988",
        ("T", "temperature", t, "°C"),
        ("S", "salinity", s, ""),
    )
    ladder.step(
        "f",
        "share that is hydrogen sulfide",
        "1 / (1 + 10^(pH − pK1))",
        StepResult(share),
        "Millero1988",
        ("pH", "pH", p, ""),
    )
    ladder.step(
        "H2S",
        "hydrogen sulfide as S",
        "f · total",
        StepResult(value, "mg/L", digits=4),
        "Millero1988",
        ("total", "total sulfide as S", total, "mg/L"),
    )
    return Worked(value, "mg/L", ladder.done())


@dataclass(frozen=True)
class GasPressures:
    """All dissolved gas against the air above the water.

    total_percent : of the station pressure; 100 is balance with the air
    oxygen_percent, nitrogen_percent : each against its pressure in moist air; None where oxygen was not read. Nitrogen is
    with argon
    free_depth_m : above this depth bubbles can form; 0 where nothing is over the air's pressure [m]
    """

    total_percent: float
    oxygen_percent: float | None
    nitrogen_percent: float | None
    free_depth_m: float
    worked: Worked


def dissolved_gas(
    over_hpa: float, pressure_hpa: float, temperature_c: float, salinity: float = 0.0, oxygen_mg_l: float | None = None
) -> GasPressures:
    """Total dissolved gas, and what of it is oxygen and nitrogen, with the working.

    over_hpa : the gas pressure in the water less the air's, as a membrane meter shows it [hPa]
    pressure_hpa : station pressure [hPa]
    oxygen_mg_l : beside it, where it was read [mg/L]

    Raises all faults at once. Source: Colt1984; oxygen by BK84.
    """
    door = Door()
    over = door.number("over_hpa", over_hpa, -300, 1000)
    air = door.number("pressure_hpa", pressure_hpa, *oxygen.P_RANGE)
    t = door.number("temperature_c", temperature_c, *oxygen.T_RANGE)
    s = door.number("salinity", salinity, *oxygen.S_RANGE)
    read = None if oxygen_mg_l is None else door.number("oxygen_mg_l", oxygen_mg_l, 0, 60)
    door.close()
    total = 100 * (air + over) / air
    ladder = Ladder("Total dissolved gas")
    o2 = n2 = None
    if read is not None:
        vapour = float(oxygen.vapour_pressure_atm(t)) * STANDARD_PRESSURE_HPA
        full = float(oxygen.saturation_mg_l(t, s, air))
        o2 = 100 * read / full
        dry = air - vapour
        n2 = 100 * (air + over - o2 / 100 * OXYGEN_SHARE * dry - vapour) / (NITROGEN_SHARE * dry)
        ladder.step(
            "O2",
            "oxygen against the air",
            "100 · C / Cs(T, S, P)",
            StepResult(o2, "%", digits=1),
            "BK84",
            ("C", "oxygen", read, "mg/L"),
            ("Cs", "saturation", full, "mg/L"),
        )
        ladder.step(
            "N2",
            "nitrogen with argon against the air",
            "100 · (P + ΔP − O2 · 0.20946 (P − Pw) − Pw) / (0.79018 (P − Pw))",
            StepResult(n2, "%", digits=1),
            "Colt1984",
            ("Pw", "vapour pressure of water", vapour, "hPa"),
        )
    depth = max(over, 0.0) / WATER_HPA_M
    ladder.step("z", "bubbles can form above", "ΔP / 98.07 hPa/m", StepResult(depth, "m", digits=2), "Colt1984")
    ladder.step(
        "TDG",
        "total dissolved gas",
        "100 · (P + ΔP) / P",
        StepResult(total, "%", digits=1),
        "Colt1984",
        ("P", "station pressure", air, "hPa"),
        ("ΔP", "gas pressure over the air's", over, "hPa"),
    )
    return GasPressures(total, o2, n2, depth, Worked(total, "%", ladder.done()))
