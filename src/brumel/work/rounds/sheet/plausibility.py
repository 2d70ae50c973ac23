"""Is it believable, and does it keep to the site's limits?"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from brumel.core import believability as belief
from brumel.core import conductivity, ions, oxygen
from brumel.core.quantity_table import IONS
from brumel.core.sentence import say
from brumel.core.sheet import LimitOutcome, Water, against
from brumel.core.uncertainty import digits_for
from brumel.methods.field import load_field
from brumel.store.tables import Site
from brumel.work.quantities import names as quantity_names
from brumel.work.rounds.sites import Past

#: How a pressure is known that was typed on the sheet as the station's.
MEASURED_HERE = "as measured here"


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


@dataclass(frozen=True)
class _Compared:
    """What a value of a quantity is compared with at a site [unit]."""

    instrument: tuple[float, float]
    usual: tuple[float, float] | None
    gross: tuple[float, float] | None
    earlier: list[float]
    last: tuple[float, float] | None
    floor: float
    spread: float
    per_day: float


def _compared(place: Site, past: Past, quantity: str, now: datetime) -> _Compared:
    spec, before = load_field()[quantity], past.get(quantity, [])
    ranges = place.ranges.get(quantity, {})
    usual, gross = (tuple(ranges[key]) if key in ranges else None for key in ("usual", "gross"))
    newest = abs(before[0][0]) if before else 0.0
    return _Compared(
        spec.instrument,
        usual,
        gross,
        [v for v, _ in before],
        (before[0][0], (now - before[0][1]).total_seconds() / 86400) if before else None,
        max(spec.floor.value, spec.share * newest),
        max(spec.smallest_spread.value, spec.share / 4 * newest),
        spec.per_day.value,
    )


def findings(
    place: Site, past: Past, quantity: str, value: float, now: datetime, expanded_uncertainty: float | None = None
) -> tuple[belief.QualityFinding, ...]:
    """Every test of believability that applies to one value alone; its figures follow its uncertainty in the sentences."""
    digits = quantity_names.digits(quantity) if expanded_uncertainty is None else digits_for(expanded_uncertainty)
    unit = "" if quantity == "ph" else load_field()[quantity].unit
    shown = belief.Shown(quantity_names.title(quantity), unit, digits)
    with_ = _compared(place, past, quantity, now)
    judged = [
        belief.instrument_range(shown, value, *with_.instrument),
        belief.site_range(shown, value, with_.usual, with_.gross),
        belief.history(shown, value, with_.earlier, smallest_spread=with_.spread),
        belief.rate_since(shown, value, with_.last, per_day=with_.per_day, floor=with_.floor),
    ]
    if quantity == "conductivity" and with_.usual is not None:
        slip = conductivity.slip(value, with_.usual)
        if slip:
            judged.append(belief.QualityFinding("slip", "unit", belief.Flag.FAIL, slip))
    return tuple(judged)


@dataclass(frozen=True)
class BelievableBand:
    """The values a test does not question: from `low` to `high` [unit]; what is said of others, after the value."""

    key: str
    low: float
    high: float
    words: str


def bands(place: Site, past: Past, quantity: str, now: datetime) -> list[BelievableBand]:
    """The tests of `findings` as plain bands, for a page that judges without the server: the same values are questioned.

    The slip of a unit, which needs more than a band, is left to the server.
    """
    with_ = _compared(place, past, quantity, now)
    found = [BelievableBand("instrument", *with_.instrument, "is outside what the instrument can show")]
    range_ = [("is outside what this site can be", with_.gross), ("is outside this site's usual", with_.usual)]
    found += [BelievableBand("site_range", *span, words) for words, span in range_ if span]
    if history := belief.history_band(with_.earlier, smallest_spread=with_.spread):
        found.append(BelievableBand("history", *history, "is far from what this site read before"))
    if rate := belief.rate_band(with_.last, per_day=with_.per_day, floor=with_.floor):
        found.append(BelievableBand("rate", *rate, "has changed more since the last visit than it should"))
    return found


def water_findings(quantity: str, water: Water, altitude_m: float) -> tuple[belief.QualityFinding, ...]:
    """What the rest of the water says of a reading: other ions beside an ion's tip, a pressure that may be of sea level."""
    if quantity == "oxygen" and water.pressure_from == MEASURED_HERE:
        odd = oxygen.may_be_sea_level(water.pressure_hpa, altitude_m)
        return (belief.QualityFinding("pressure", "sea-level pressure", belief.Flag.SUSPECT, odd),) if odd else ()
    ec = water.conductivity_25_us_cm
    if quantity not in IONS or ec is None:
        return ()
    interference = ions.interference(ec, quantity)
    flag = belief.Flag.SUSPECT if interference else belief.Flag.PASS
    return (belief.QualityFinding("interference", "other ions", flag, interference or "Other ions are few enough."),)
