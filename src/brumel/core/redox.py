"""ORP: standards, the reference electrode by its name, and Eh against the standard hydrogen electrode."""

from __future__ import annotations

import numpy as np

from brumel.core.checking import Door, Floats, plain, shape_of
from brumel.core.constants.measured import HALF_CELL_C, HALF_CELL_MV, HALF_CELL_NAMES
from brumel.core.ph.electrode import nernst_slope_mv
from brumel.core.sentence import Amount, say
from brumel.core.verdict import CriterionRow, Outcome, Verdict
from brumel.core.working import Ladder, StepResult, Worked

MV_RANGE = (-1500.0, 1500.0)
ZOBELL_RANGE = (0.0, 50.0)
#: Quinhydrone against the standard hydrogen electrode at 25 °C [mV], and its fall with temperature [mV/°C]: from memory.
QUINHYDRONE_E0_MV, QUINHYDRONE_MV_PER_C = 699.4, -0.74
#: How far the course of a half-cell is followed below its table [°C], and what that is worth: standard uncertainty of the
#: table's values [mV], and what each degree beyond it adds [mV/°C]. Chosen; the table's own steps differ by as much.
COLDEST_C = -2.0
HALF_CELL_U_MV, HALF_CELL_U_MV_PER_C = 1.0, 0.2
ELECTRODES = tuple(HALF_CELL_MV)


def reference_electrode_mv(electrode: str, temperature_c: Floats) -> Floats:
    """Potential of a reference half-cell against the standard hydrogen electrode, -2 to 40 °C [°C] -> [mV].

    electrode : "agcl-3m", "agcl-3.3m", "agcl-3.5m", "agcl-saturated" or "calomel-saturated". Linear between the table's
    5 °C; below its 10 °C the course of its first step goes on, see `half_cell_u_mv`.
    Raises UnknownName with the nearest match, OutOfRange. Source: USGS-A6.5, from memory of its table.
    """
    door = Door()
    door.name("electrode", electrode, ELECTRODES)
    t = door.floats("temperature_c", temperature_c, COLDEST_C, HALF_CELL_C[-1], "The table of half-cells ends there.")
    door.close()
    table = HALF_CELL_MV[electrode]
    per_c = (table[1] - table[0]) / (HALF_CELL_C[1] - HALF_CELL_C[0])
    return plain(np.interp(t, HALF_CELL_C, table) + per_c * np.minimum(t - HALF_CELL_C[0], 0.0))


def half_cell_u_mv(temperature_c: Floats) -> Floats:
    """Standard uncertainty of a half-cell's potential [°C] -> [mV]; it grows below the table. Chosen."""
    door = Door()
    t = door.floats("temperature_c", temperature_c, COLDEST_C, HALF_CELL_C[-1])
    door.close()
    return plain(np.asarray(HALF_CELL_U_MV + HALF_CELL_U_MV_PER_C * np.maximum(HALF_CELL_C[0] - t, 0.0)))


def eh_mv(orp_mv: Floats, electrode: str, temperature_c: Floats) -> Floats:
    """Eh: the reading plus the half-cell's potential at the sample's temperature [mV]. Source: USGS-A6.5."""
    door = Door()
    e = door.floats("orp_mv", orp_mv, *MV_RANGE)
    door.same_length(orp_mv=e, temperature_c=shape_of(temperature_c))
    door.close()
    return plain(np.asarray(e + reference_electrode_mv(electrode, temperature_c)))


def zobell_mv(temperature_c: Floats) -> Floats:
    """Zobell's ferro/ferricyanide solution against the standard hydrogen electrode [°C] -> [mV].

    Eh = 0.43028 − 2.5157e-3 (T − 25) − 3.7979e-6 (T − 25)² V, 0 to 50 °C. Source: Nordstrom1977.
    """
    door = Door()
    t = door.floats("temperature_c", temperature_c, *ZOBELL_RANGE)
    door.close()
    d = t - 25.0
    return plain(np.asarray(430.28 - 2.5157 * d - 3.7979e-3 * d * d))


def quinhydrone_mv(ph: Floats, temperature_c: Floats = 25.0) -> Floats:
    """Quinhydrone in a buffer against the standard hydrogen electrode, E = E0(T) − k(T)·pH; 10 to 40 °C, pH up to 8 [mV].

    E0 = 699.4 mV − 0.74 mV/°C · (T − 25); pH is the buffer's own at that temperature. Source: from memory; beyond pH 8
    quinhydrone oxidises.
    """
    door = Door()
    p = door.floats("ph", ph, 0, 8, "Beyond pH 8 quinhydrone oxidises.")
    t = door.floats("temperature_c", temperature_c, 10, 40)
    door.same_length(ph=p, temperature_c=t)
    door.close()
    e0 = QUINHYDRONE_E0_MV + QUINHYDRONE_MV_PER_C * (t - 25.0)
    return plain(np.asarray(e0 - nernst_slope_mv(t) * p))


def expected_mv(standard_eh_mv: Floats, electrode: str, temperature_c: Floats) -> Floats:
    """What an ORP probe with this reference should show in a standard known by its Eh [mV]."""
    return plain(np.asarray(standard_eh_mv) - np.asarray(reference_electrode_mv(electrode, temperature_c)))


def verdict(orp_mv: float, expected: float, tolerance_mv: float, source: str) -> Verdict:
    """Check in a standard: within ± tolerance fit, within twice it with care, else not [mV]."""
    door = Door()
    door.number("orp_mv", orp_mv, *MV_RANGE)
    door.number("expected_mv", expected, *MV_RANGE)
    door.number("tolerance_mv", tolerance_mv, 0.1, 200)
    door.close()
    error = orp_mv - expected
    size = round(abs(error), 9)
    outcome = Outcome.FIT if size <= tolerance_mv else Outcome.CARE if size <= 2 * tolerance_mv else Outcome.NOT
    row = CriterionRow(
        "orp",
        "error in the standard",
        error,
        "mV",
        say("within ±{tolerance}", tolerance=Amount(tolerance_mv, "mV")),
        outcome,
        source,
        "",
        0,
    )
    return Verdict((row,))


def explain(orp_mv: float, electrode: str, temperature_c: float) -> Worked:
    """Eh with its working [mV, °C]."""
    half = float(reference_electrode_mv(electrode, temperature_c))
    value = float(eh_mv(orp_mv, electrode, temperature_c))
    ladder = Ladder("Eh against the standard hydrogen electrode")
    ladder.step(
        "ORP",
        f"as read, against {HALF_CELL_NAMES[electrode]}",
        "as read",
        StepResult(orp_mv, "mV", digits=0),
        "reading",
    )
    ladder.step(
        "Eref",
        f"half-cell {HALF_CELL_NAMES[electrode]}",
        "table, linear in T" if temperature_c >= HALF_CELL_C[0] else "table from 10 °C, followed on below it",
        StepResult(half, "mV", digits=0),
        "USGS-A6.5",
        ("T", "temperature", temperature_c, "°C"),
    )
    ladder.step(
        "Eh",
        "against the standard hydrogen electrode",
        "Eh = ORP + Eref",
        StepResult(value, "mV", digits=0),
        "USGS-A6.5",
    )
    return Worked(value, "mV", ladder.done())
