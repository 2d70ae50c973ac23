"""What follows from readings: salinity, solids, saturation and the rest, with what only readings together can say."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from brumel.core import believability as belief
from brumel.core import sense
from brumel.core.errors import InputError
from brumel.core.salinity import practical_salinity
from brumel.core.sentence import say
from brumel.core.sheet import NotStated, Reported, SheetFacts, Water, follow
from brumel.core.working import Working
from brumel.store.tables import Reading, Site
from brumel.work.quantities import names as quantity_names
from brumel.work.rounds.sheet.model import Sheet, SheetValue
from brumel.work.rounds.sheet.plausibility import findings, limited
from brumel.work.rounds.sites import Past


@dataclass(frozen=True)
class Part:
    """A reading others follow from, kept or not yet."""

    quantity: str
    value: float
    unit: str
    expanded_uncertainty: float | None
    working: Working
    temperature_c: float
    backing: str
    backing_words: str
    root: str = ""


def part(row: Reading) -> Part:
    """A kept reading as a part."""
    assert (
        row.temperature_c is not None
    )  # only what was brought in may have none, and nothing is made to follow from it
    return Part(
        row.quantity,
        row.value,
        row.unit,
        row.expanded_uncertainty,
        Working.from_dict(row.working),
        row.temperature_c,
        row.backing,
        row.backing_words,
        str(row.root_id),
    )


def parts(rows: Sequence[Reading]) -> list[Part]:
    """The kept readings others may follow from: the first ones, not those that follow themselves."""
    return [part(r) for r in rows if r.role == "first" and not r.parents]


def prospects(whole: Sheet, past: Past, now: datetime) -> tuple[list[SheetValue], list[NotStated]]:
    """What follows from all that stands on the sheet now, kept or not; and what would but cannot be stated, with why.

    Nothing follows where it contradicts itself.
    """
    have = _standing(whole)
    facts = _facts(whole, have)
    try:
        follows, missing = follow(facts)
    except InputError:
        return [], []
    return _judged(whole, have, facts, follows, past, now), missing


def _standing(whole: Sheet) -> list[Part]:
    """All first values of the sheet at its present depth, one a quantity, kept or not."""
    have = {p.quantity: p for p in parts([r for r in whole.kept if r.depth_m == whole.depth_m])}
    for line in whole.lines:
        for v in (*line.also, line.value) if line.role == "first" and line.value else ():
            have[v.quantity] = Part(
                v.quantity,
                v.value,
                v.unit,
                v.expanded_uncertainty,
                v.working,
                v.temperature_c,
                v.backing,
                v.backing_words,
            )
    return list(have.values())


def _facts(whole: Sheet, have: Sequence[Part]) -> SheetFacts:
    """What core derives from: the readings and what is known of the water and the probes."""
    first = {p.quantity: p for p in have}
    water = whole.water
    raw = salt = None
    if (read := first.get("conductivity")) is not None:
        raw = uncompensated(read.working, read.value)
        salt = salinity(raw, read.temperature_c)
    if salt is not None:
        water = replace(water, salinity=salt, salinity_from="read here")
    factor = whole.visit.site.water.get("tds_factor")
    return SheetFacts(
        {q: Reported(q, p.value, p.unit, p.expanded_uncertainty, p.working) for q, p in first.items()},
        water,
        raw,
        float(factor) if factor else None,
        next((line.probe.reference_electrode for line in whole.lines if line.probe.quantity == "redox"), ""),
        total_ammonia="ammonium" in first and first["ammonium"].backing == "by hand",
    )


def derived(whole: Sheet, have: Sequence[Part], past: Past, now: datetime) -> list[SheetValue]:
    """What follows from readings, with their findings; raises InputError where they contradict each other."""
    facts = _facts(whole, have)
    return _judged(whole, have, facts, follow(facts)[0], past, now)


def _judged(
    whole: Sheet, have: Sequence[Part], facts: SheetFacts, follows: Sequence[Reported], past: Past, now: datetime
) -> list[SheetValue]:
    """What follows, as it stands on the sheet."""
    site = whole.visit.site
    first = {p.quantity: p for p in have}
    at_c = first["temperature"].temperature_c if "temperature" in first else None
    values = []
    for r in follows:
        parents = [first[q] for q in r.parents]
        tests = [
            *findings(site, past, r.quantity, r.value, now, r.expanded_uncertainty),
            *_together(site, r, facts.read, facts.water),
        ]
        worst = max(parents, key=lambda p: BACKING_RANK.get(p.backing, 0))
        behind = say(
            "follows from {parents}: {backing}",
            parents=", ".join(quantity_names.name(p.quantity) for p in parents),
            backing=worst.backing_words,
        )
        values.append(
            SheetValue(
                r.quantity,
                r.value,
                r.unit,
                r.expanded_uncertainty,
                r.value,
                r.unit,
                at_c or parents[0].temperature_c,
                r.working,
                worst.backing,
                behind,
                None,
                tuple(tests),
                *limited(site, r.quantity, r.value, r.expanded_uncertainty, r.unit),
                tuple(p.root for p in parents),
                tuple(r.parents),
            )
        )
    return values


BACKING_RANK = {
    "bracketed": 0,
    "by hand": 1,
    "open": 1,
    "corrected": 2,
    "unbacked": 3,
    "doubtful": 4,
    "not reported": 5,
}


def _together(site: Site, r: Reported, read: Mapping[str, Reported], water: Water) -> list[belief.QualityFinding]:
    """What only readings together can say."""
    if r.quantity == "salinity":
        return [sense.salinity_against_kind(r.value, site.kind)]
    if r.quantity == "saturation":
        return [sense.oxygen_without_light(r.value, light=water.light)]
    if r.quantity == "ammonia":
        deadly = sense.ammonia_against_fish(r.value, read["ph"].value, site.kind)
        return [deadly] if deadly else []
    if r.quantity in ("hypochlorous", "combined_chlorine") and "redox" in read and site.kind in ("pool", "spa"):
        return [sense.redox_against_chlorine(read["redox"].value, read["chlorine"].value)]
    return []


def uncompensated(working: Working, value: float) -> float | None:
    """Conductivity at the sample's own temperature; where a decision moved the reported value, moved with it."""
    results_by_symbol = {s.symbol: s.result for s in working.steps}
    if "κ" not in results_by_symbol or not results_by_symbol.get("κ25"):
        return None
    return results_by_symbol["κ"] * value / results_by_symbol["κ25"]


def salinity(raw: float | None, temperature_c: float) -> float | None:
    if raw is None or raw <= 0 or not -2 <= temperature_c <= 35:
        return None
    try:
        return float(practical_salinity(raw, temperature_c))
    except InputError:
        return None
