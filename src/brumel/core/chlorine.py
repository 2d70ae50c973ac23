"""Chlorine and pools: total, free and combined, the hypochlorous share, and the saturation index."""

from __future__ import annotations

import math

import numpy as np

from brumel.core.checking import Door, Floats, plain
from brumel.core.constants.defined import ZERO_CELSIUS_K
from brumel.core.errors import InputError
from brumel.core.sentence import Amount, say
from brumel.core.working import Ladder, StepResult, Worked

CHLORINE_RANGE = (0.0, 200.0)
T_RANGE = (0.0, 50.0)


def combined_mg_l(
    total_mg_l: float, free_mg_l: float, *, total_u_mg_l: float = 0.05, free_u_mg_l: float = 0.05
) -> float:
    """Combined chlorine = total − free [mg/L]; the expanded uncertainties decide whether free may lie above total.

    A free value above the total beyond their joint uncertainty is refused: one of the two is wrong, or swapped. Within
    it the answer is 0. Source: SM4500, from memory.
    """
    door = Door()
    door.number("total_mg_l", total_mg_l, *CHLORINE_RANGE)
    door.number("free_mg_l", free_mg_l, *CHLORINE_RANGE)
    door.number("expanded_uncertainty", total_u_mg_l, 0, 10)
    door.number("expanded_uncertainty", free_u_mg_l, 0, 10)
    door.close()
    joint = math.hypot(total_u_mg_l, free_u_mg_l)
    if free_mg_l - total_mg_l > joint + 1e-12:
        raise InputError(
            "free_mg_l",
            say(
                "Free chlorine {free} lies above the total {total} by more than their joint uncertainty of "
                "{joint}. Were they swapped, or a tablet touched or old?",
                free=Amount(free_mg_l, "mg/L", ".2f"),
                total=Amount(total_mg_l, "mg/L", ".2f"),
                joint=Amount(joint, "", ".2f"),
            ),
            value=free_mg_l,
            high=total_mg_l,
            unit="mg/L",
        )
    return max(total_mg_l - free_mg_l, 0.0)


def hypochlorous_pka(temperature_c: Floats) -> Floats:
    """pKa = 3000/T − 10.0686 + 0.0253 T, T in K [°C]. Source: Morris1966."""
    door = Door()
    t = door.floats("temperature_c", temperature_c, *T_RANGE)
    door.close()
    k = t + ZERO_CELSIUS_K
    return plain(np.asarray(3000.0 / k - 10.0686 + 0.0253 * k))


def hypochlorous_fraction(ph: Floats, temperature_c: Floats) -> Floats:
    """Share of free chlorine that is hypochlorous acid, the part that disinfects; without stabiliser. 0 to 1.

    Half at pH 7.54 and 25 °C. Raises NotANumber, OutOfRange, WrongShape. Source: Morris1966.
    """
    door = Door()
    p = door.floats("ph", ph, 0, 14)
    t = door.floats("temperature_c", temperature_c, *T_RANGE)
    door.same_length(ph=p, temperature_c=t)
    door.close()
    return plain(np.asarray(1.0 / (1.0 + 10.0 ** (p - np.asarray(hypochlorous_pka(t))))))


def saturation_index(
    ph: float, temperature_c: float, calcium_mg_l: float, alkalinity_mg_l: float, dissolved_mg_l: float
) -> Worked:
    """Langelier's index of calcium carbonate, with its working: over 0 it may deposit, under 0 dissolve.

    Parameters
    ----------
    ph, temperature_c : of the water [°C], 0 to 50
    calcium_mg_l : calcium hardness [mg/L as CaCO3]
    alkalinity_mg_l : total alkalinity, taken as bicarbonate [mg/L as CaCO3]
    dissolved_mg_l : total dissolved solids, for the ionic strength I = TDS/40 000 [mg/L]

    Raises all faults at once. Source: SM2330, part B: pK2, pKs of calcite, pfm by Davies.
    """
    door = Door()
    door.number("ph", ph, 4, 11)
    t = door.number("temperature_c", temperature_c, *T_RANGE)
    ca = door.number("calcium_mg_l", calcium_mg_l, 1, 5000)
    alk = door.number("alkalinity_mg_l", alkalinity_mg_l, 1, 2000)
    tds = door.number("dissolved_mg_l", dissolved_mg_l, 1, 20_000)
    door.close()
    k = t + ZERO_CELSIUS_K
    strength = tds / 40_000
    pk2 = 107.8871 + 0.03252849 * k - 5151.79 / k - 38.92561 * math.log10(k) + 563713.9 / k**2
    pks = 171.9065 + 0.077993 * k - 2839.319 / k - 71.595 * math.log10(k)
    dielectric = 60954 / (k + 116) - 68.937
    a = 1.82e6 * (dielectric * k) ** -1.5
    root = math.sqrt(strength)
    pfm = a * (root / (1 + root) - 0.3 * strength)
    p_ca = -math.log10(ca / 100_087)
    p_alk = -math.log10(alk / 50_043)
    ph_s = pk2 - pks + p_ca + p_alk + 5 * pfm
    ladder = Ladder("Saturation index of calcium carbonate")
    ladder.step(
        "I",
        "ionic strength",
        "I = TDS / 40 000",
        StepResult(strength, "mol/L", digits=4),
        "SM2330",
        ("TDS", "TDS", tds, "mg/L"),
    )
    ladder.step(
        "pfm",
        "activity of one charge",
        "A·(√I/(1+√I) − 0.3·I)",
        StepResult(pfm, "", digits=4),
        "SM2330",
        ("A", "Debye-Hückel A", a, ""),
    )
    ladder.step(
        "pK2",
        "second dissociation of carbonic acid",
        "from T",
        StepResult(pk2),
        "SM2330",
        ("T", "temperature", t, "°C"),
    )
    ladder.step("pKs", "solubility of calcite", "from T", StepResult(pks), "SM2330")
    ladder.step(
        "pHs",
        "pH at which it would be saturated",
        "pHs = pK2 − pKs + p[Ca] + p[alk] + 5·pfm",
        StepResult(ph_s, "", digits=2),
        "SM2330",
        ("p[Ca]", "calcium", p_ca, ""),
        ("p[alk]", "alkalinity", p_alk, ""),
    )
    ladder.step(
        "SI", "saturation index", "SI = pH − pHs", StepResult(ph - ph_s, "", digits=2), "SM2330", ("pH", "pH", ph, "")
    )
    return Worked(ph - ph_s, "", ladder.done())


def explain(total_mg_l: float, free_mg_l: float, ph: float, temperature_c: float) -> Worked:
    """Combined chlorine and the hypochlorous part with their working [mg/L, °C]."""
    combined = combined_mg_l(total_mg_l, free_mg_l)
    share = float(hypochlorous_fraction(ph, temperature_c))
    ladder = Ladder("What the chlorine is")
    ladder.step("total", "total chlorine", "as read", StepResult(total_mg_l, "mg/L", digits=2), "reading")
    ladder.step("free", "free chlorine", "as read", StepResult(free_mg_l, "mg/L", digits=2), "reading")
    ladder.step("combined", "combined chlorine", "total − free", StepResult(combined, "mg/L", digits=2), "SM4500")
    ladder.step(
        "f",
        "hypochlorous share",
        "f = 1 / (1 + 10^(pH − pKa))",
        StepResult(share * 100, "%", digits=1),
        "Morris1966",
        ("pKa", "of hypochlorous acid", float(hypochlorous_pka(temperature_c)), ""),
        ("pH", "pH", ph, ""),
    )
    ladder.step(
        "HOCl",
        "free chlorine as hypochlorous acid",
        "f · free",
        StepResult(share * free_mg_l, "mg/L", digits=2),
        "Morris1966",
    )
    return Worked(combined, "mg/L", ladder.done())
