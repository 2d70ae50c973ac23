"""Cross-parameter sense: do the quantities of one visit fit together? [domain tests of believability]"""

from __future__ import annotations

from brumel.core.believability import Flag, QualityFinding
from brumel.core.sentence import Amount, say

FRESH = ("pond", "raceway", "hatchery", "stream", "lake", "well", "pool", "spa", "nutrient tank")
BRACKISH = ("lagoon", "estuary", "creek")


def salinity_against_kind(practical: float, kind: str) -> QualityFinding:
    """Salinity against the site's kind: fresh waters up to 1, brackish 0.5 to 40. Common practice, no source."""
    if kind in FRESH:
        flag = Flag.PASS if practical <= 1 else Flag.SUSPECT if practical <= 6 else Flag.FAIL
        return QualityFinding(
            "kind",
            "salinity against the site's kind",
            flag,
            say(
                "Salinity {practical} in a {kind}; up to 1 is usual.", practical=Amount(practical, "", ".3g"), kind=kind
            ),
        )
    if kind in BRACKISH:
        flag = Flag.PASS if 0.5 <= practical <= 40 else Flag.SUSPECT
        return QualityFinding(
            "kind",
            "salinity against the site's kind",
            flag,
            say(
                "Salinity {practical} in a {kind}; 0.5 to 40 is usual.",
                practical=Amount(practical, "", ".3g"),
                kind=kind,
            ),
        )
    return QualityFinding(
        "kind", "salinity against the site's kind", Flag.NOT_EVALUATED, f"Salinity is not judged for a {kind}."
    )


def oxygen_without_light(percent: float, *, light: bool | None) -> QualityFinding:
    """Over 140 % needs light and plants, or a wet tip [%]. Common practice, no source."""
    if percent <= 140:
        return QualityFinding(
            "oxygen_light",
            "supersaturation",
            Flag.PASS,
            say("{percent} saturation needs no explanation.", percent=Amount(percent, "%", ".0f")),
        )
    flag = Flag.SUSPECT if light or light is None else Flag.FAIL
    return QualityFinding(
        "oxygen_light",
        "supersaturation",
        flag,
        say(
            "{percent} saturation is over 140 %: only plants in light, or falling water, do that. Dry the tip and repeat.",
            percent=Amount(percent, "%", ".0f"),
        ),
    )


def redox_against_chlorine(orp_mv: float, free_mg_l: float) -> QualityFinding:
    """In pools: under 650 mV beside a good chlorine reading [mV, mg/L]. Common practice, no source."""
    if free_mg_l < 1.0:
        return QualityFinding(
            "redox",
            "ORP against chlorine",
            Flag.NOT_EVALUATED,
            say("Free chlorine {free} is too low to compare.", free=Amount(free_mg_l, "mg/L", ".2f")),
        )
    flag = Flag.PASS if orp_mv >= 650 else Flag.SUSPECT
    return QualityFinding(
        "redox",
        "ORP against chlorine",
        flag,
        say(
            "ORP {orp} beside {free} of free chlorine",
            orp=Amount(orp_mv, "mV", ".0f"),
            free=Amount(free_mg_l, "mg/L", ".2f"),
        )
        + ("." if flag is Flag.PASS else ": stabiliser, high pH or a dirty electrode hold it under 650 mV."),
    )
