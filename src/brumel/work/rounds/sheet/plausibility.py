"""Is it believable, and does it keep to the site's limits?"""

from __future__ import annotations

from datetime import datetime

from brumel.core import believability as belief
from brumel.core import conductivity, ions
from brumel.core.quantity_table import IONS
from brumel.core.sentence import say
from brumel.core.sheet import LimitOutcome, Water, against
from brumel.core.uncertainty import digits_for
from brumel.methods.field import load_field
from brumel.store.tables import Site
from brumel.work.quantities import names as quantity_names
from brumel.work.rounds.sites import Past


def limited(
    site: Site, quantity: str, value: float, expanded_uncertainty: float | None, unit: str
) -> tuple[LimitOutcome, str]:
    """What the site's limit makes of a value, with the limit's source."""
    limit = site.limits.get(quantity)
    if not limit:
        return LimitOutcome.NONE, ""
    ruled = against(value, expanded_uncertainty, limit.get("low"), limit.get("high"), unit)
    source = limit.get("source", "")
    return ruled.outcome, say(
        "{words} Source: {source}.", words=ruled.sentence, source=source
    ) if source else ruled.sentence


def findings(
    place: Site, past: Past, quantity: str, value: float, now: datetime, expanded_uncertainty: float | None = None
) -> tuple[belief.QualityFinding, ...]:
    """Every test of believability that applies to one value alone; its figures follow its uncertainty in the sentences."""
    digits = quantity_names.digits(quantity) if expanded_uncertainty is None else digits_for(expanded_uncertainty)
    spec = load_field()[quantity]
    ranges = place.ranges.get(quantity, {})
    before = past.get(quantity, [])
    last = (before[0][0], (now - before[0][1]).total_seconds() / 86400) if before else None
    usual, gross = (tuple(ranges[key]) if key in ranges else None for key in ("usual", "gross"))
    shown = belief.Shown(quantity_names.title(quantity), "" if quantity == "ph" else spec.unit, digits)
    floor = max(spec.floor.value, spec.share * abs(before[0][0])) if before else spec.floor.value
    spread = (
        max(spec.smallest_spread.value, spec.share / 4 * abs(before[0][0])) if before else spec.smallest_spread.value
    )
    judged = [
        belief.instrument_range(shown, value, *spec.instrument),
        belief.site_range(shown, value, usual, gross),
        belief.history(shown, value, [v for v, _ in before], smallest_spread=spread),
        belief.rate_since(shown, value, last, per_day=spec.per_day.value, floor=floor),
    ]
    if quantity == "conductivity" and usual is not None:
        slip = conductivity.slip(value, usual)
        if slip:
            judged.append(belief.QualityFinding("slip", "unit", belief.Flag.FAIL, slip))
    return tuple(judged)


def water_findings(quantity: str, water: Water) -> tuple[belief.QualityFinding, ...]:
    ec = water.conductivity_25_us_cm
    if quantity not in IONS or ec is None:
        return ()
    interference = ions.interference(ec, quantity)
    flag = belief.Flag.SUSPECT if interference else belief.Flag.PASS
    return (belief.QualityFinding("interference", "other ions", flag, interference or "Other ions are few enough."),)
