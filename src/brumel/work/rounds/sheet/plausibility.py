"""Is it believable, and does it keep to the site's limits?"""

from __future__ import annotations

import statistics
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from brumel.core import believability as belief
from brumel.core import ions, oxygen
from brumel.core.expectation import Expected, expected
from brumel.core.quantity_table import IONS
from brumel.core.sentence import Amount, say
from brumel.core.sheet import LimitOutcome, Water, against
from brumel.core.slips import Sight, slip_of
from brumel.core.uncertainty import digits_for
from brumel.methods.field import load_field
from brumel.store.tables import Site
from brumel.work.quantities import names as quantity_names
from brumel.work.rounds.sheet.answers import SWAPPED_WITH
from brumel.work.rounds.sites import Past

#: Below so much an electrode is slow and uncertain [µS/cm at 25 °C]. Source: USGS-A6.4.
PURE_US_CM = 100.0

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
    """What a value of a quantity is compared with at a site [unit]; without enough of a past, the last visit and the rate."""

    instrument: tuple[float, float]
    usual: tuple[float, float] | None
    gross: tuple[float, float] | None
    expected: Expected | None
    count: int
    last: tuple[float, float] | None
    floor: float
    per_day: float


def _compared(place: Site, past: Past, quantity: str, now: datetime) -> _Compared:
    spec, before = load_field()[quantity], past.get(quantity, [])
    ranges = place.ranges.get(quantity, {})
    usual, gross = (tuple(ranges[key]) if key in ranges else None for key in ("usual", "gross"))
    newest = abs(before[0].value) if before else 0.0
    return _Compared(
        spec.instrument,
        usual,
        gross,
        expected_here(past, quantity, now),
        len(before),
        (before[0].value, _days(now - before[0].at)) if before else None,
        max(spec.floor.value, spec.share * newest),
        spec.per_day.value,
    )


def _days(apart: timedelta) -> float:
    return apart.total_seconds() / 86400


def expected_here(past: Past, quantity: str, now: datetime) -> Expected | None:
    """What the past of a site makes expect of a quantity now; None where it is too short."""
    spec, before = load_field()[quantity], [row for row in past.get(quantity, []) if row.at <= now]
    if not before:
        return None
    return expected(
        [row.value for row in before],
        [_days(now - row.at) for row in before],
        least_spread=spec.least_spread(statistics.median(row.value for row in before)),
        in_proportion=spec.in_proportion,
        within=spec.instrument,
    )


def should_be(place: Site, past: Past, quantity: str, now: datetime) -> Expected | None:
    """What a site's past makes expect, else its usual range; None where there is neither."""
    here, usual = expected_here(past, quantity, now), place.ranges.get(quantity, {}).get("usual")
    if here is None and usual:
        return Expected(sum(usual) / 2, usual[0], usual[1], count=0)
    return here


def sight(place: Site, past: Past, now: datetime, read: Mapping[str, float], water: Water) -> Sight:
    """What a slip is looked for with: of all that was read here, what it should have been."""
    should = {q: here for q in read if (here := should_be(place, past, q, now)) is not None}
    factor = place.water.get("tds_factor")
    return Sight(
        should,
        read,
        {q: quantity_names.name(q) for q in read},
        read.get("temperature"),
        water.salinity,
        water.pressure_hpa,
        float(factor) if factor else None,
    )


def shown_as(quantity: str, expanded_uncertainty: float | None) -> belief.Shown:
    """How a value of a quantity is written in a sentence: its figures follow its uncertainty."""
    digits = quantity_names.digits(quantity) if expanded_uncertainty is None else digits_for(expanded_uncertainty)
    unit = "" if quantity == "ph" else load_field()[quantity].unit
    return belief.Shown(quantity_names.title(quantity), unit, digits)


def findings(
    place: Site, past: Past, quantity: str, value: float, now: datetime, expanded_uncertainty: float | None = None
) -> tuple[belief.QualityFinding, ...]:
    """Every test of believability that applies to one value alone."""
    shown, with_ = shown_as(quantity, expanded_uncertainty), _compared(place, past, quantity, now)
    judged = [
        belief.instrument_range(shown, value, *with_.instrument),
        belief.site_range(shown, value, with_.usual, with_.gross),
        belief.history(shown, value, with_.expected, with_.count),
    ]
    if with_.expected is None:
        judged.append(belief.rate_since(shown, value, with_.last, per_day=with_.per_day, floor=with_.floor))
    return tuple(judged)


#: A slip that makes a value impossible rather than unusual: it is kept out of the site's past.
_IMPOSSIBLE = frozenset({"thousand"})


def slip_finding(
    quantity: str, value: float, expanded_uncertainty: float | None, seen: Sight
) -> belief.QualityFinding | None:
    """The slip that would explain an odd value, where there is one."""
    slip = slip_of(quantity, shown_as(quantity, expanded_uncertainty), value, seen)
    if slip is None:
        return None
    flag = belief.Flag.FAIL if slip.key in _IMPOSSIBLE else belief.Flag.SUSPECT
    key = f"{SWAPPED_WITH}{slip.partner}" if slip.partner else "slip"
    return belief.QualityFinding(key, "slip", flag, slip.sentence)


@dataclass(frozen=True)
class BelievableBand:
    """The values a test does not question: from `low` to `high` [unit]; what is said of others, after the value."""

    key: str
    low: float
    high: float
    words: str


def bands(place: Site, past: Past, quantity: str, now: datetime) -> list[BelievableBand]:
    """The tests of `findings` as plain bands, for a page that judges without the server: the same values are questioned.

    Which slip would make such a value, `core.slips` says by the same figures there and here.
    """
    with_ = _compared(place, past, quantity, now)
    found = [BelievableBand("instrument", *with_.instrument, "is outside what the instrument can show")]
    range_ = [("is outside what this site can be", with_.gross), ("is outside this site's usual", with_.usual)]
    found += [BelievableBand("site_range", *span, words) for words, span in range_ if span]
    past_band = with_.expected
    if past_band is not None:
        words = "is unusual by this site's past and the season"
        found.append(BelievableBand("history", past_band.low, past_band.high, words))
    elif rate := belief.rate_band(with_.last, per_day=with_.per_day, floor=with_.floor):
        found.append(BelievableBand("rate", *rate, "has changed more since the last visit than it should"))
    return found


def water_findings(quantity: str, water: Water, altitude_m: float) -> tuple[belief.QualityFinding, ...]:
    """What the rest of the water says of a reading: other ions beside an ion's tip, a pressure that may be of sea level."""
    if quantity == "oxygen" and water.pressure_from == MEASURED_HERE:
        odd = oxygen.may_be_sea_level(water.pressure_hpa, altitude_m)
        return (belief.QualityFinding("pressure", "sea-level pressure", belief.Flag.SUSPECT, odd),) if odd else ()
    ec = water.conductivity_25_us_cm
    if quantity == "ph" and ec is not None and ec < PURE_US_CM:
        words = say(
            "Water of {ec} has few ions: an electrode is slow and uncertain in it. Rinse long, read two fresh portions.",
            ec=Amount(ec, "µS/cm", ".0f"),
        )
        return (belief.QualityFinding("pure", "water of few ions", belief.Flag.PASS, words),)
    if quantity not in IONS or ec is None:
        return ()
    interference = ions.interference(ec, quantity)
    flag = belief.Flag.SUSPECT if interference else belief.Flag.PASS
    return (belief.QualityFinding("interference", "other ions", flag, interference or "Other ions are few enough."),)
