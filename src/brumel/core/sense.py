"""Cross-parameter sense: do the quantities of one visit fit together? [domain tests of believability]"""

from __future__ import annotations

from brumel.core import ions, oxygen, salinity
from brumel.core.believability import Flag, QualityFinding

FRESH = ("pond", "raceway", "hatchery", "stream", "lake", "well", "pool", "spa", "nutrient tank")
BRACKISH = ("lagoon", "estuary", "creek")


def solids_against_conductivity(tds_mg_l: float, conductivity_25_us_cm: float) -> QualityFinding:
    """TDS over specific conductance must lie between 0.45 and 1.0, the factors there are [mg/L, µS/cm at 25 °C]."""
    if conductivity_25_us_cm <= 0:
        return QualityFinding(
            "tds", "TDS against conductivity", Flag.NOT_EVALUATED, "TDS is not compared: conductivity is 0."
        )
    ratio = tds_mg_l / conductivity_25_us_cm
    flag = Flag.PASS if 0.45 <= ratio <= 1.0 else Flag.FAIL if ratio > 10 or ratio < 0.01 else Flag.SUSPECT
    tail = " Was one of them in thousands?" if flag is Flag.FAIL else ""
    return QualityFinding(
        "tds",
        "TDS against conductivity",
        flag,
        f"TDS {tds_mg_l:.4g} mg/L beside {conductivity_25_us_cm:.4g} µS/cm is a factor of {ratio:.3g}; "
        f"0.45 to 1.0 are in use.{tail}",
    )


def salinity_against_conductivity(practical: float, conductivity_us_cm: float, temperature_c: float) -> QualityFinding:
    """The stated salinity against the one that follows from conductivity and temperature [µS/cm, °C]."""
    expected = float(salinity.practical_salinity(conductivity_us_cm, temperature_c))
    off = abs(practical - expected)
    allowed = max(0.1, 0.05 * expected)
    flag = Flag.PASS if off <= allowed else Flag.SUSPECT if off <= 5 * allowed else Flag.FAIL
    return QualityFinding(
        "salinity",
        "salinity against conductivity",
        flag,
        f"Salinity {practical:.3g} beside {conductivity_us_cm:.5g} µS/cm at {temperature_c:.1f} °C; "
        f"{expected:.3g} follows from it.",
    )


def salinity_against_kind(practical: float, kind: str) -> QualityFinding:
    """Salinity against the site's kind: fresh waters up to 1, brackish 0.5 to 40. Common practice, no source."""
    if kind in FRESH:
        flag = Flag.PASS if practical <= 1 else Flag.SUSPECT if practical <= 6 else Flag.FAIL
        return QualityFinding(
            "kind", "salinity against the site's kind", flag, f"Salinity {practical:.3g} in a {kind}; up to 1 is usual."
        )
    if kind in BRACKISH:
        flag = Flag.PASS if 0.5 <= practical <= 40 else Flag.SUSPECT
        return QualityFinding(
            "kind",
            "salinity against the site's kind",
            flag,
            f"Salinity {practical:.3g} in a {kind}; 0.5 to 40 is usual.",
        )
    return QualityFinding(
        "kind", "salinity against the site's kind", Flag.NOT_EVALUATED, f"Salinity is not judged for a {kind}."
    )


def oxygen_against_percent(
    oxygen_mg_l: float, percent: float, temperature_c: float, practical: float, pressure_hpa: float
) -> QualityFinding:
    """mg/L against the % shown at that temperature, salinity and pressure, by either meaning of % [mg/L, %, °C, hPa]."""
    local = float(oxygen.percent_saturation(oxygen_mg_l, temperature_c, practical, pressure_hpa))
    standard = float(
        oxygen.percent_saturation(oxygen_mg_l, temperature_c, practical, pressure_hpa, relative_to="standard")
    )
    off = min(abs(percent - local), abs(percent - standard))
    flag = Flag.PASS if off <= 3 else Flag.SUSPECT if off <= 10 else Flag.FAIL
    return QualityFinding(
        "oxygen_percent",
        "mg/L against % saturation",
        flag,
        f"{oxygen_mg_l:.2f} mg/L at {temperature_c:.1f} °C is {local:.0f} % of what this pressure gives ({standard:.0f} % of "
        f"1013 hPa), not {percent:.0f} %."
        if flag is not Flag.PASS
        else f"{oxygen_mg_l:.2f} mg/L fits {percent:.0f} % at {temperature_c:.1f} °C.",
    )


def oxygen_without_light(percent: float, *, light: bool | None) -> QualityFinding:
    """Over 140 % needs light and plants, or a wet tip [%]. Common practice, no source."""
    if percent <= 140:
        return QualityFinding(
            "oxygen_light", "supersaturation", Flag.PASS, f"{percent:.0f} % saturation needs no explanation."
        )
    flag = Flag.SUSPECT if light or light is None else Flag.FAIL
    return QualityFinding(
        "oxygen_light",
        "supersaturation",
        flag,
        f"{percent:.0f} % saturation is over 140 %: only plants in light, or falling water, do that. Dry the tip and repeat.",
    )


def redox_against_chlorine(orp_mv: float, free_mg_l: float) -> QualityFinding:
    """In pools: under 650 mV beside a good chlorine reading [mV, mg/L]. Common practice, no source."""
    if free_mg_l < 1.0:
        return QualityFinding(
            "redox",
            "ORP against chlorine",
            Flag.NOT_EVALUATED,
            f"Free chlorine {free_mg_l:.2f} mg/L is too low to compare.",
        )
    flag = Flag.PASS if orp_mv >= 650 else Flag.SUSPECT
    return QualityFinding(
        "redox",
        "ORP against chlorine",
        flag,
        f"ORP {orp_mv:.0f} mV beside {free_mg_l:.2f} mg/L of free chlorine"
        + ("." if flag is Flag.PASS else ": stabiliser, high pH or a dirty electrode hold it under 650 mV."),
    )


def ammonia_against_ph(
    unionised_mg_l: float, total_mg_l: float, ph: float, temperature_c: float, practical: float = 0.0
) -> QualityFinding:
    """The stated un-ionised ammonia against the share that pH and temperature allow [mg/L as N, °C]."""
    expected = total_mg_l * float(ions.unionised_ammonia_fraction(ph, temperature_c, practical))
    off = abs(unionised_mg_l - expected)
    flag = (
        Flag.PASS if off <= max(0.002, 0.15 * expected) else Flag.SUSPECT if off <= max(0.02, expected) else Flag.FAIL
    )
    return QualityFinding(
        "ammonia",
        "ammonia against pH",
        flag,
        f"Un-ionised ammonia {unionised_mg_l:.3g} mg/L beside {total_mg_l:.3g} in all; {expected:.3g} "
        f"follows from pH {ph:.2f} at {temperature_c:.1f} °C.",
    )
