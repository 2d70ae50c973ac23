"""Free chlorine beside cyanuric acid: how much of it is hypochlorous acid, and how much alkalinity the stabiliser makes."""

from __future__ import annotations

from dataclasses import dataclass

from brumel.core.checking import Door
from brumel.core.chlorine import hypochlorous_pka
from brumel.core.constants.measured import CHLORINE_G_MOL, CYANURIC_G_MOL
from brumel.core.working import Ladder, StepResult, Worked

#: Dissociation of cyanuric acid and its chlorinated forms, and how readily they give hypochlorous acid back (−log K at
#: 25 °C, mol/L). Source: Obrien1974, from memory; the cycles through them close, which a test holds.
PK_CYANURIC = (6.88, 11.40, 13.5)  # H3Cy, H2Cy−, HCy2−
PK_MONO = (5.33, 10.12)  # H2ClCy, HClCy−
PK_DI = 3.75  # HCl2Cy
PK_GIVES = {"H2ClCy": 4.07, "HClCy-": 5.62, "ClCy2-": 6.90, "HCl2Cy": 2.93, "Cl2Cy-": 4.51, "Cl3Cy": 1.80}

#: Where the constants at 25 °C may be used [°C], and where the equilibria are believed [pH]: chosen.
T_RANGE, PH_RANGE = (10.0, 40.0), (6.0, 9.0)


@dataclass(frozen=True)
class Chlorine:
    """Free chlorine in its parts [mg/L as Cl2]."""

    hypochlorous_mg_l: float
    hypochlorite_mg_l: float
    bound_mg_l: float


def free_parts(free_mg_l: float, cyanuric_mg_l: float, ph: float, temperature_c: float) -> Chlorine:
    """What free chlorine consists of beside cyanuric acid.

    free_mg_l : as a test of free chlorine reads it, which takes the bound part along [mg/L as Cl2]
    cyanuric_mg_l : cyanuric acid [mg/L]; 0 gives the share of Morris1966

    The stabiliser's constants are those of 25 °C; hypochlorous acid's own follows the temperature. Raises all faults.
    Source: Obrien1974, Morris1966.
    """
    door = Door()
    free = door.number("free_mg_l", free_mg_l, 0, 50)
    acid = door.number("cyanuric_mg_l", cyanuric_mg_l, 0, 1000)
    p = door.number("ph", ph, *PH_RANGE)
    t = door.number("temperature_c", temperature_c, *T_RANGE)
    door.close()
    chlorine, stabiliser = free / 1000 / CHLORINE_G_MOL, acid / 1000 / CYANURIC_G_MOL
    alone = 1 + 10 ** (p - float(hypochlorous_pka(t)))
    if not chlorine:
        return Chlorine(0.0, 0.0, 0.0)

    def bound(hocl: float) -> float:
        """Chlorine held by the stabiliser beside so much hypochlorous acid [mol/L]."""
        mono = 10 ** PK_GIVES["HClCy-"] * hocl  # HClCy− for each H2Cy−
        di = mono * 10 ** PK_GIVES["Cl2Cy-"] * hocl
        di_acid = di * 10 ** (PK_DI - p)
        tri = di_acid * 10 ** PK_GIVES["Cl3Cy"] * hocl
        monos = mono * (1 + 10 ** (PK_MONO[0] - p) + 10 ** (p - PK_MONO[1]))
        bare = 10 ** (PK_CYANURIC[0] - p) + 1 + 10 ** (p - PK_CYANURIC[1]) * (1 + 10 ** (p - PK_CYANURIC[2]))
        for_each = stabiliser / (bare + monos + di + di_acid + tri)
        return for_each * (monos + 2 * (di + di_acid) + 3 * tri)

    from scipy import optimize  # loaded only where water is stabilised

    hocl = float(optimize.brentq(lambda h: h * alone + bound(h) - chlorine, 0.0, chlorine, xtol=1e-16, rtol=1e-12))
    as_chlorine = 1000 * CHLORINE_G_MOL
    return Chlorine(hocl * as_chlorine, hocl * (alone - 1) * as_chlorine, bound(hocl) * as_chlorine)


def cyanurate_alkalinity(cyanuric_mg_l: float, ph: float) -> float:
    """The part of total alkalinity that is cyanurate [mg/L as CaCO3]; the saturation index counts carbonate alone.

    About a third of the cyanuric acid at pH 7.5, as is common practice. Source: Obrien1974 (pKa 6.88, 11.40).
    """
    door = Door()
    acid = door.number("cyanuric_mg_l", cyanuric_mg_l, 0, 1000)
    p = door.number("ph", ph, 4, 11)
    door.close()
    first, second = 10 ** (p - PK_CYANURIC[0]), 10 ** (p - PK_CYANURIC[1])
    charge = first * (1 + 2 * second) / (1 + first * (1 + second))
    return acid / CYANURIC_G_MOL * charge * 50.043


def explain(free_mg_l: float, cyanuric_mg_l: float, ph: float, temperature_c: float) -> Worked:
    """Hypochlorous acid beside cyanuric acid, with its working [mg/L as Cl2, °C]."""
    parts = free_parts(free_mg_l, cyanuric_mg_l, ph, temperature_c)
    ladder = Ladder("Free chlorine beside cyanuric acid")
    ladder.step("free", "free chlorine", "as read", StepResult(free_mg_l, "mg/L", digits=2), "reading")
    ladder.step(
        "bound",
        "held by the stabiliser",
        "mass balance of chlorine and cyanuric acid",
        StepResult(parts.bound_mg_l, "mg/L", digits=3),
        "Obrien1974",
        ("CYA", "cyanuric acid", cyanuric_mg_l, "mg/L"),
        ("pH", "pH", ph, ""),
    )
    ladder.step(
        "OCl", "hypochlorite", "HOCl · 10^(pH − pKa)", StepResult(parts.hypochlorite_mg_l, "mg/L"), "Morris1966"
    )
    ladder.step(
        "HOCl",
        "hypochlorous acid",
        "free − bound − OCl",
        StepResult(parts.hypochlorous_mg_l, "mg/L", digits=3),
        "Obrien1974",
    )
    return Worked(parts.hypochlorous_mg_l, "mg/L", ladder.done())
