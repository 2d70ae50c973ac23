"""What follows from readings: salinity, solids, saturation and the rest, with what only readings together can say."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from brumel.core import believability as belief
from brumel.core import sense
from brumel.core.errors import InputError
from brumel.core.salinity import practical_salinity
from brumel.core.sheet import Reported, Water, derive
from brumel.core.working import Working
from brumel.store.tables import Reading, Site
from brumel.work.rounds import words
from brumel.work.rounds.believable import findings, limited
from brumel.work.rounds.places import Past
from brumel.work.rounds.shapes import Sheet, Value


@dataclass(frozen=True)
class Part:
    """A reading others follow from, kept or not yet."""

    quantity: str
    value: float
    unit: str
    expanded: float | None
    working: Working
    temperature_c: float
    backing: str
    backing_words: str
    root: str = ""


def part(row: Reading) -> Part:
    """A kept reading as a part."""
    return Part(
        row.quantity, row.value, row.unit, row.expanded_uncertainty, Working.from_dict(row.working), row.temperature_c,
        row.backing, row.backing_words, str(row.root_id),
    )  # fmt: skip


def parts(rows: Sequence[Reading]) -> list[Part]:
    """The kept readings others may follow from: the first ones, not those that follow themselves."""
    return [part(r) for r in rows if r.role == "first" and not r.parents]


def prospects(whole: Sheet, past: Past, now: datetime) -> list[Value]:
    """What follows from all that stands on the sheet now, kept or not; nothing where it contradicts itself."""
    have = {p.quantity: p for p in parts([r for r in whole.kept if r.depth_m == whole.depth_m])}
    for line in whole.lines:
        for v in (*line.also, line.value) if line.role == "first" and line.value else ():
            have[v.quantity] = Part(
                v.quantity, v.value, v.unit, v.expanded, v.working, v.temperature_c, v.backing, v.backing_words
            )
    try:
        return derived(whole, list(have.values()), past, now)
    except InputError:
        return []


def derived(whole: Sheet, have: Sequence[Part], past: Past, now: datetime) -> list[Value]:
    """What follows from readings, with their findings; raises InputError where they contradict each other."""
    site, water = whole.visit.site, whole.water
    first = {p.quantity: p for p in have}
    read = {q: Reported(q, p.value, p.unit, p.expanded, p.working) for q, p in first.items()}
    raw = uncompensated(first["conductivity"].working, first["conductivity"].value) if "conductivity" in first else None
    salt = salinity(raw, first["conductivity"].temperature_c) if raw is not None else None
    if salt is not None:
        water = replace(water, salinity=salt, salinity_from="read here")
    electrode = next((line.probe.reference_electrode for line in whole.lines if line.probe.quantity == "redox"), "")
    factor = site.water.get("tds_factor")
    at_c = first["temperature"].temperature_c if "temperature" in first else None
    found = derive(read, water, raw_us_cm=raw, tds_factor=float(factor) if factor else None, electrode=electrode)
    values = []
    for r in found:
        parents = [first[q] for q in r.parents]
        tests = [*findings(site, past, r.quantity, r.value, now), *_together(site, r, read, water, at_c)]
        worst = max(parents, key=lambda p: BACKING_RANK.get(p.backing, 0))
        behind = f"follows from {', '.join(words.name(p.quantity) for p in parents)}: {worst.backing_words}"
        values.append(
            Value(
                r.quantity, r.value, r.unit, r.expanded, r.value, r.unit, at_c or parents[0].temperature_c, r.working,
                worst.backing, behind, None, tuple(tests), *limited(site, r.quantity, r.value, r.expanded, r.unit),
                tuple(p.root for p in parents),
            )
        )  # fmt: skip
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


def _together(
    site: Site, r: Reported, read: Mapping[str, Reported], water: Water, at_c: float | None
) -> list[belief.Finding]:
    """What only readings together can say."""
    if r.quantity == "salinity":
        return [sense.salinity_against_kind(r.value, site.kind)]
    if r.quantity == "saturation":
        return [sense.oxygen_without_light(r.value, light=water.light)]
    if r.quantity in ("hypochlorous", "combined_chlorine") and "redox" in read and site.kind in ("pool", "spa"):
        return [sense.redox_against_chlorine(read["redox"].value, read["chlorine"].value)]
    return []


def uncompensated(working: Working, value: float) -> float | None:
    """Conductivity at the sample's own temperature; where a ruling moved the reported value, moved with it."""
    found = {s.symbol: s.result for s in working.steps}
    if "κ" not in found or not found.get("κ25"):
        return None
    return found["κ"] * value / found["κ25"]


def salinity(raw: float | None, at: float) -> float | None:
    if raw is None or raw <= 0 or not -2 <= at <= 35:
        return None
    try:
        return float(practical_salinity(raw, at))
    except InputError:
        return None
