"""Cross-parameter sense: do the quantities of one visit fit together? [domain tests of believability]"""

from __future__ import annotations

from typing import NamedTuple

from brumel.core.believability import Flag, QualityFinding
from brumel.core.oxygen import saturation_mg_l
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


#: How near mg/L and % of one display fit: a share, and a step [%]; over what saturation needs light and plants [%]. Chosen.
TOGETHER_SHARE, TOGETHER_STEP_PERCENT, SUPERSATURATED_PERCENT = 0.02, 1.0, 140.0


class OxygenTerms(NamedTuple):
    """What mg/L of oxygen are worked out with: salinity, and pressure [hPa]."""

    salinity: float
    pressure_hpa: float


def oxygen_together(
    mg_l: float, percent: float, temperature_c: float, set_to: OxygenTerms, here: OxygenTerms
) -> QualityFinding:
    """Two displays of one oxygen meter, mg/L and % of local saturation: the one follows from the other [mg/L, %, °C].

    set_to : what the meter's settings on record say; here : what holds at the site
    They fit within 2 % and one step of 1 % saturation (chosen: 20 hPa, or 0.5 °C with 10 hPa). Source: BK84.
    """
    as_set, as_here = (100 * mg_l / float(saturation_mg_l(temperature_c, *terms)) for terms in (set_to, here))
    near = TOGETHER_SHARE * percent + TOGETHER_STEP_PERCENT
    words = {
        "mg_l": Amount(mg_l, "mg/L", ".2f"),
        "percent": Amount(percent, "%", ".1f"),
        "as_here": Amount(as_here, "%", ".1f"),
        "at": Amount(temperature_c, "°C", ".1f"),
        "pressure": Amount(here.pressure_hpa, "hPa", ".0f"),
        "salinity": Amount(here.salinity, "", ".3g"),
        "preset": Amount(set_to.salinity, "", ".3g"),
        "preset_pressure": Amount(set_to.pressure_hpa, "hPa", ".0f"),
    }
    test = "mg/L against %"
    if abs(as_set - percent) <= near:
        return QualityFinding("pair", test, Flag.PASS, say("{mg_l} and {percent} fit together at {at}.", **words))
    if abs(as_here - percent) <= near:
        sentence = (
            "{mg_l} and {percent} fit together at the site's salinity {salinity} and {pressure}, not at those on record for "
            "the meter, {preset} and {preset_pressure}. Take its settings down anew in Kit."
        )
    else:
        sentence = (
            "{mg_l} and {percent} do not fit together: at {at}, salinity {salinity} and {pressure} it would be {as_here}. "
            "One of them is a slip, or the meter is set to another salinity or pressure."
        )
    return QualityFinding("pair", test, Flag.SUSPECT, say(sentence, **words))


#: The factors TDS is worked out with; how near a display's second value fits: a share, and for salinity a step. Chosen.
TDS_FACTORS, FACTOR_SHARE, SALINITY_SHARE, SALINITY_STEP = (0.4, 1.0), 0.08, 0.05, 0.1


def solids_together(us_cm: float, solids_mg_l: float, factor: float | None) -> QualityFinding:
    """TDS of a display against the conductivity beside it: their ratio is the meter's factor [µS/cm at 25 °C, mg/L].

    factor : as on record for the meter, where it is. Common practice, no source: factors from 0.40 to 1.00.
    """
    test, ratio = "TDS against conductivity", solids_mg_l / us_cm if us_cm > 0 else float("inf")
    words = {
        "solids": Amount(solids_mg_l, "mg/L", ".4g"),
        "conductivity": Amount(us_cm, "µS/cm", ".5g"),
        "ratio": Amount(ratio, "", ".3g"),
        "factor": Amount(factor or 0.0, "", ".3g"),
    }
    low, high = TDS_FACTORS
    if not low * (1 - FACTOR_SHARE) <= ratio <= high * (1 + FACTOR_SHARE):
        sentence = (
            "TDS {solids} beside {conductivity} would be a factor of {ratio}, and factors go from 0.40 to 1.00. "
            "One is a slip."
        )
        return QualityFinding("pair", test, Flag.SUSPECT, say(sentence, **words))
    if factor is not None and abs(ratio / factor - 1) > FACTOR_SHARE:
        sentence = (
            "TDS {solids} beside {conductivity} is a factor of {ratio}; {factor} is on record for the meter. One is a "
            "slip, or its settings are to be taken down anew in Kit."
        )
        return QualityFinding("pair", test, Flag.SUSPECT, say(sentence, **words))
    return QualityFinding("pair", test, Flag.PASS, say("TDS {solids} fits {conductivity}: factor {ratio}.", **words))


def salinity_together(shown: float, practical: float, us_cm: float) -> QualityFinding:
    """Salinity of a display against what its conductivity makes [practical salinity, µS/cm]. Source: PSS78."""
    fits = abs(shown - practical) <= SALINITY_SHARE * practical + SALINITY_STEP
    words = {
        "shown": Amount(shown, "", ".3g"),
        "practical": Amount(practical, "", ".3g"),
        "conductivity": Amount(us_cm, "µS/cm", ".5g"),
    }
    sentence = (
        "Salinity {shown} fits {conductivity}."
        if fits
        else "Salinity {shown} does not fit {conductivity}, which makes {practical}. One is a slip."
    )
    flag = Flag.PASS if fits else Flag.SUSPECT
    return QualityFinding("pair", "salinity against conductivity", flag, say(sentence, **words))


#: Un-ionised ammonia as N that few fish live through for days [mg/L]: from memory of toxicity tests, 0.2 to 2.
DEADLY_AMMONIA_MG_L = 0.6
FISH = ("pond", "raceway", "hatchery")


def ammonia_against_fish(unionised_mg_l: float, ph: float, kind: str) -> QualityFinding | None:
    """Un-ionised ammonia where fish are: what they would not live through is a slip of pH or ammonium, or an alarm."""
    if kind not in FISH:
        return None
    deadly = unionised_mg_l > DEADLY_AMMONIA_MG_L
    words = {"value": Amount(unionised_mg_l, "mg/L", ".2f"), "ph": Amount(ph, "", ".2f"), "kind": kind}
    sentence = (
        "{value} of un-ionised ammonia at pH {ph} is deadly to most fish: pH or ammonium is a slip, or this {kind} needs "
        "help now. Repeat both at once."
        if deadly
        else "{value} of un-ionised ammonia is what fish can live in."
    )
    flag = Flag.SUSPECT if deadly else Flag.PASS
    return QualityFinding("fish", "ammonia against pH", flag, say(sentence, **words))


def oxygen_without_light(percent: float, *, light: bool | None) -> QualityFinding:
    """Over 140 % needs light and plants, or a wet tip [%]. Common practice, no source."""
    if percent <= SUPERSATURATED_PERCENT:
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
