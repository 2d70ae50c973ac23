"""Free carbon dioxide of fresh water, from pH, alkalinity and temperature."""

from __future__ import annotations

import math

from brumel.core.checking import Door
from brumel.core.constants.defined import ZERO_CELSIUS_K
from brumel.core.constants.measured import CARBON_DIOXIDE_G_MOL
from brumel.core.ions import activity_coefficient, ionic_strength_mol_l
from brumel.core.working import Ladder, StepResult, Worked

T_RANGE = (0.0, 50.0)


def carbonic_pk(temperature_c: float) -> tuple[float, float, float]:
    """−log of carbonic acid's two constants and of water's, at zero ionic strength [°C]. Source: Plummer1982, SM2330."""
    door = Door()
    k = door.number("temperature_c", temperature_c, *T_RANGE) + ZERO_CELSIUS_K
    door.close()
    log = math.log10(k)
    first = 356.3094 + 0.06091964 * k - 21834.37 / k - 126.8339 * log + 1684915 / k**2
    second = 107.8871 + 0.03252849 * k - 5151.79 / k - 38.92561 * log + 563713.9 / k**2
    water = 4471 / k + 0.01706 * k - 6.0875
    return first, second, water


def free_carbon_dioxide(
    ph: float, alkalinity_mg_l: float, temperature_c: float, conductivity_25_us_cm: float = 0.0
) -> Worked:
    """Free carbon dioxide with its working [mg/L].

    alkalinity_mg_l : total alkalinity, taken as carbonate [mg/L as CaCO3]
    conductivity_25_us_cm : for the ionic strength; 0 leaves activities out [µS/cm at 25 °C]

    Fresh water to 5000 µS/cm, pH 4 to 10. Raises all faults at once. Source: Plummer1982, Griffin1973, Davies.
    """
    door = Door()
    p = door.number("ph", ph, 4, 10)
    alkalinity = door.number("alkalinity_mg_l", alkalinity_mg_l, 1, 2000)
    t = door.number("temperature_c", temperature_c, *T_RANGE)
    ec = door.number("conductivity_25_us_cm", conductivity_25_us_cm, 0, 5000)
    door.close()
    pk1, pk2, pkw = carbonic_pk(t)
    strength = float(ionic_strength_mol_l(ec)) if ec else 0.0
    one, two = (float(activity_coefficient(strength, charge)) for charge in (1, 2))
    hydrogen = 10**-p  # an activity, as an electrode reads it
    hydroxide = 10 ** (p - pkw) / one
    equivalents = alkalinity / 50_043
    bicarbonate = (equivalents - hydroxide + hydrogen / one) / (1 + 2 * 10 ** (p - pk2) * one / two)
    bicarbonate = max(bicarbonate, 0.0)
    dioxide = one * bicarbonate * 10 ** (pk1 - p)
    value = 1000 * CARBON_DIOXIDE_G_MOL * dioxide
    ladder = Ladder("Free carbon dioxide")
    ladder.step(
        "pK1",
        "first constant of carbonic acid",
        "from T",
        StepResult(pk1),
        "Plummer1982",
        ("T", "temperature", t, "°C"),
    )
    ladder.step("pK2", "second constant", "from T", StepResult(pk2), "Plummer1982")
    ladder.step(
        "γ",
        "activity coefficient of one charge",
        "Davies of I = 1.3e-5 · κ25",
        StepResult(one),
        "Davies",
        ("I", "ionic strength", strength, "mol/L"),
    )
    ladder.step(
        "HCO3",
        "bicarbonate",
        "(alk − OH + H) / (1 + 2 · 10^(pH − pK2) · γ1/γ2)",
        StepResult(1000 * bicarbonate, "mmol/L"),
        "Plummer1982",
        ("alk", "alkalinity", 1000 * equivalents, "mmol/L"),
        ("pH", "pH", p, ""),
    )
    ladder.step(
        "CO2", "free carbon dioxide", "γ · HCO3 · 10^(pK1 − pH)", StepResult(value, "mg/L", digits=2), "Plummer1982"
    )
    return Worked(value, "mg/L", ladder.done())
