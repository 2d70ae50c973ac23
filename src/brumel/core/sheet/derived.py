"""What follows from the readings of a sheet together: salinity, solids, saturation, Eh, ammonia, chlorine's parts."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

from brumel.core import chlorine, conductivity, ions, oxygen, redox, salinity
from brumel.core.sheet.ladders import Reported, Water
from brumel.core.uncertainty import propagate
from brumel.core.working import Ladder

#: What can be derived, and the readings each needs.
DERIVED: dict[str, tuple[str, ...]] = {
    "salinity": ("conductivity", "temperature"),
    "solids": ("conductivity",),
    "saturation": ("oxygen", "temperature"),
    "eh": ("redox", "temperature"),
    "ammonia": ("ammonium", "ph", "temperature"),
    "combined_chlorine": ("total_chlorine", "chlorine"),
    "hypochlorous": ("chlorine", "ph", "temperature"),
}


def derive(
    read: Mapping[str, Reported], water: Water, *, raw_us_cm: float | None = None, tds_factor: float | None = None,
    electrode: str = "",
) -> list[Reported]:  # fmt: skip
    """Everything that follows from what was read.

    Parameters
    ----------
    read : the readings by quantity
    raw_us_cm : conductivity at the sample's own temperature, where it is known [µS/cm]
    tds_factor : the factor of the site or the meter; without one no TDS is stated
    electrode : the reference electrode of the ORP probe; without one no Eh is stated

    A value beyond the end of its scale is left out; free chlorine above the total raises InputError.
    """
    found: list[Reported] = []

    def add(quantity: str, unit: str, title: str, formula: str, source: str, work: Callable[..., float]) -> None:
        names = DERIVED[quantity]
        values = {n: (read[n].value, (read[n].expanded or 0.0) / 2) for n in names}
        budget = propagate(lambda x: work(*(x[n] for n in names)), values)
        backed = all(read[n].expanded is not None for n in names)
        value = work(*(read[n].value for n in names))
        ladder = Ladder(title)
        ladder.step(
            _SYMBOLS[quantity], title[0].lower() + title[1:], formula, value, unit, source,
            *((_SYMBOLS.get(n, n), n.replace("_", " "), read[n].value, read[n].unit) for n in names),
        )  # fmt: skip
        if backed:
            ladder.step("U", "expanded uncertainty, k = 2", "each input moved", budget.expanded, unit, "GUM")
        found.append(Reported(quantity, value, unit, budget.expanded if backed else None, ladder.done(), names))

    have = set(read)
    can = lambda q: set(DERIVED[q]) <= have  # noqa: E731
    at = read["temperature"].value if "temperature" in read else None
    if can("salinity") and raw_us_cm is not None and at is not None and -2 <= at <= 35 and raw_us_cm > 0:
        per = raw_us_cm / read["conductivity"].value if read["conductivity"].value else 0.0
        if raw_us_cm < float(conductivity_end(at)):
            add("salinity", "", "Practical salinity", "PSS-78 of κ and T", "PSS78",
                lambda c, t: float(salinity.practical_salinity(max(c * per, 0.0), min(max(t, -2.0), 35.0))))  # fmt: skip
    if can("solids") and tds_factor is not None:
        add("solids", "mg/L", f"Dissolved solids, factor {tds_factor:g}", f"{tds_factor:g} · κ25",
            "common practice, no source", lambda c: float(conductivity.tds_mg_l(max(c, 0.0), tds_factor)))  # fmt: skip
    if can("saturation"):
        add("saturation", "%", f"Saturation at {water.pressure_hpa:.0f} hPa, salinity {water.salinity:.3g}",
            "100 · c / Cs(T, S, P)", "BK84",
            lambda c, t: float(100 * c / float(oxygen.saturation_mg_l(t, water.salinity, water.pressure_hpa))))  # fmt: skip
    if can("eh") and electrode and at is not None and 10 <= at <= 40:
        add("eh", "mV", "Eh, against the standard hydrogen electrode", "ORP + Eref(T)", "USGS-A6.5",
            lambda e, t: e + float(redox.reference_electrode_mv(electrode, min(max(t, 10.0), 40.0))))  # fmt: skip
    if can("ammonia") and at is not None and 0 <= at <= 40:
        salt = min(max(water.salinity, 0.0), 40.0)
        add("ammonia", "mg/L", "Un-ionised ammonia as N", "total · share(pH, T, S)", "Emerson1975",
            lambda n, p, t: n * float(ions.unionised_ammonia_fraction(p, min(max(t, 0.0), 40.0), salt)))  # fmt: skip
    if can("combined_chlorine"):
        total, free = read["total_chlorine"], read["chlorine"]
        chlorine.combined_mg_l(
            total.value, free.value, total_u_mg_l=total.expanded or 0.1, free_u_mg_l=free.expanded or 0.1
        )
        add("combined_chlorine", "mg/L", "Combined chlorine", "total − free", "SM4500", lambda t, f: max(t - f, 0.0))
    if can("hypochlorous") and at is not None and 0 <= at <= 40:
        add("hypochlorous", "mg/L", "Hypochlorous acid, without stabiliser", "free · share(pH, T)", "Morris1966",
            lambda c, p, t: c * float(chlorine.hypochlorous_fraction(p, min(max(t, 0.0), 40.0))))  # fmt: skip
    return [r for r in found if math.isfinite(r.value)]


_SYMBOLS = {
    "salinity": "S", "solids": "TDS", "saturation": "sat", "eh": "Eh", "ammonia": "NH₃", "combined_chlorine": "Clc",
    "hypochlorous": "HOCl", "conductivity": "κ25", "temperature": "T", "oxygen": "c", "redox": "ORP", "ph": "pH",
    "ammonium": "TAN", "chlorine": "Clf", "total_chlorine": "Clt",
}  # fmt: skip


def conductivity_end(temperature_c: float) -> float:
    """Conductivity where the practical salinity scale ends, at this temperature [°C] -> [µS/cm]. Source: PSS78."""
    return float(salinity.conductivity_of_us_cm(42.0, temperature_c))
