"""Clients and sites as the lead keeps them: made, changed with a reason, retired; and in and out as GeoJSON."""

from __future__ import annotations

import re
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any
from zoneinfo import available_timezones

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.checking import Door
from brumel.core.errors import InputError, InputErrors
from brumel.core.geodesy import distance_m
from brumel.core.quantity_table import ON_SHEET
from brumel.core.sentence import Amount, say
from brumel.methods.field import load_field
from brumel.store.rounds import RoundStop
from brumel.store.tables import Client, Site, SiteTerms
from brumel.work.desk import MovedOn, Write, Written, clean_reason, only_the_lead_keeps, writes
from brumel.work.rounds.sheet.judging import BY_MANUAL
from brumel.work.rounds.sites import site_of as find_site
from brumel.work.rounds.sites import unknown_zone

KINDS = (
    "pond",
    "raceway",
    "hatchery",
    "pool",
    "spa",
    "stream",
    "lake",
    "lagoon",
    "estuary",
    "creek",
    "well",
    "nutrient tank",
    "other",
)


COMPENSATIONS = ("natural", "linear", "sea")


MOST_SITES = 500


@dataclass(frozen=True)
class SitesTakenIn:
    """How many sites a file made and changed."""

    made: int
    changed: int


@dataclass(frozen=True)
class Terms:
    """What a site is held to: ranges {quantity: {usual, gross}}, limits {quantity: {low, high, source}}, its water."""

    use: str = ""
    ranges: Mapping[str, Any] = field(default_factory=dict)
    limits: Mapping[str, Any] = field(default_factory=dict)
    water: Mapping[str, Any] = field(default_factory=dict)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return {"use": self.use, "ranges": dict(self.ranges), "limits": dict(self.limits), "water": dict(self.water)}


@dataclass(frozen=True)
class Place:
    """Where a site is and what it is."""

    client: str
    name: str
    kind: str
    zone: str
    altitude_m: float | None
    latitude: float | None = None
    longitude: float | None = None
    depths: tuple[float, ...] = ()
    note: str = ""


_PAIR = re.compile(r"^\s*([a-z_ ]+?)\s*:\s*(\S+)\s+to\s+(\S+)\s*(?:\((\S+)\s+to\s+(\S+)\))?\s*(?:\|\s*(.*))?$", re.I)


def read_lines(text: str, what: str) -> dict[str, tuple[float | None, float | None, float | None, float | None, str]]:
    """Lines as "ph: 6.5 to 9.0 (5 to 10) | source"; "-" leaves an end open. Raises every fault at once, by line."""
    values: dict[str, tuple[float | None, float | None, float | None, float | None, str]] = {}
    faults: list[InputError] = []
    for number, line in enumerate(text.splitlines()[:60], 1):
        if not line.strip():
            continue
        match = _PAIR.match(line[:300])
        quantity = match.group(1).strip().lower().replace(" ", "_") if match else ""
        if match is None or quantity not in load_field():
            known = ", ".join(q for q in ON_SHEET)
            faults.append(
                InputError(what, f"{what.capitalize()}, line {number}: write “ph: 6.5 to 9.0”; known are {known}.")
            )
            continue
        if quantity in values:
            faults.append(InputError(what, f"{what.capitalize()}, line {number}: {quantity} is there twice."))
            continue
        try:
            ends = [_end(match.group(i)) for i in (2, 3, 4, 5)]
        except ValueError:
            faults.append(InputError(what, f"{what.capitalize()}, line {number}: one of the ends is not a number."))
            continue
        for low, high in ((ends[0], ends[1]), (ends[2], ends[3])):
            if low is not None and high is not None and low >= high:
                place, words = f"{what.capitalize()}, line {number}", "{place}: {low} is not below {high}."
                faults.append(InputError(what, say(words, place=place, low=Amount(low), high=Amount(high))))
        values[quantity] = (ends[0], ends[1], ends[2], ends[3], (match.group(6) or "").strip()[:200])
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return values


def _end(text: str | None) -> float | None:
    if text is None or text in ("-", "–"):
        return None
    value = float(text.replace(",", ".").replace("−", "-"))
    if not -1e7 < value < 1e7:
        raise ValueError
    return value


def write_lines(terms: Mapping[str, Any], *, limits: bool) -> str:
    """The inverse of `read_lines`."""

    def show(v: float | None) -> str:
        return "-" if v is None else f"{v:g}"

    lines = []
    for quantity, body in terms.items():
        if limits:
            lines.append(f"{quantity}: {show(body.get('low'))} to {show(body.get('high'))} | {body.get('source', '')}")
        elif body.get("usual"):
            gross = f" ({show(body['gross'][0])} to {show(body['gross'][1])})" if body.get("gross") else ""
            lines.append(f"{quantity}: {show(body['usual'][0])} to {show(body['usual'][1])}{gross}")
    return "\n".join(lines)


def terms_of(use: str, ranges: str, limits: str, water: Mapping[str, Any]) -> Terms:
    """Terms from what was typed. Raises every fault at once."""
    faults: list[InputError] = []
    got: dict[str, Any] = {"ranges": {}, "limits": {}}
    try:
        for q, (a, b, c, d, _) in read_lines(ranges, "ranges").items():
            if a is None or b is None:
                raise InputError("ranges", f"Ranges: the usual range of {q} needs both ends.")
            got["ranges"][q] = {"usual": [a, b]} | ({"gross": [c, d]} if c is not None and d is not None else {})
    except InputError as error:
        faults += error.faults
    try:
        for q, (a, b, _, _, source) in read_lines(limits, "limits").items():
            if not source:
                raise InputError("limits", f"Limits: say after “|” where the limit of {q} comes from.")
            got["limits"][q] = {"low": a, "high": b, "source": source}
    except InputError as error:
        faults += error.faults
    door = Door()
    kind = str(water.get("compensation") or "natural")
    door.name("kind", kind, COMPENSATIONS)
    kept: dict[str, Any] = {"compensation": kind}
    spacing = str(water.get("settling") or "")
    door.name("kind", spacing, ("", BY_MANUAL))
    if spacing:
        kept["settling"] = spacing
    for name, low, high in (
        ("usual_salinity", 0, 42),
        ("tds_factor", 0.3, 1.2),
        ("coefficient_percent", 0.5, 4),
        ("alkalinity_mg_l", 1, 2000),
        ("cyanuric_mg_l", 0, 1000),
        ("chloride_mg_l", 0, 20_000),
        ("potassium_mg_l", 0, 1000),
    ):
        if water.get(name) is not None:
            kept[name] = door.number({"usual_salinity": "salinity"}.get(name, name), water[name], low, high)
    faults += door.faults
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return Terms(clean_reason(use, required=False)[:60], got["ranges"], got["limits"], kept)


def _place(place: Place) -> list[InputError]:
    door = Door()
    for name, text in (("client", place.client), ("name", place.name)):
        if not text.strip():
            door.add(InputError(name, f"{name.capitalize()} is missing."))
        elif len(text) > 80:
            door.add(InputError(name, f"{name.capitalize()} may have 80 letters."))
    door.name("kind", place.kind, KINDS)
    if place.zone not in available_timezones():
        door.add(unknown_zone(place.zone))
    if place.altitude_m is None:
        door.add(InputError("altitude_m", "Altitude is missing; oxygen is judged by it."))
    else:
        door.number("altitude_m", place.altitude_m, -430, 5000)
    if (place.latitude is None) != (place.longitude is None):
        door.add(InputError("latitude", "Latitude and longitude come together, or not at all."))
    elif place.latitude is not None:
        door.number("latitude", place.latitude, -90, 90)
        door.number("longitude", place.longitude, -180, 180)
    for depth in place.depths:
        door.number("depth_m", depth, 0, 400)
    if len(set(place.depths)) != len(place.depths):
        door.add(InputError("depth_m", "A depth stands twice in the profile."))
    if len(place.depths) > 20:
        door.add(InputError("depth_m", "A profile takes 20 depths at most."))
    return door.faults


def client(w: Write, name: str) -> Client:
    """The client of that name, made where there is none."""
    clean = " ".join(name.split())
    client = w.session.scalar(select(Client).where(Client.name == clean))
    if client is None:
        client = Client(id=uuid.uuid4(), name=clean, note="")
        w.session.add(client)
        w.session.flush()
    return client


@writes("site.save", Written)
def save_site(
    w: Write, *, place: Place, terms: Terms, reason: str = "", site_id: str = "", version: int | None = None
) -> Written:
    """Make a site, or change one: what differs becomes a new version, terms with their reason.

    A change of the altitude by more than 30 m or of the position by more than 1 km asks why. Raises InputErrors, MovedOn.
    """
    only_the_lead_keeps(w.actor)
    faults = _place(place)
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    saved, changed = _save(w, place, terms, reason, site_id, version)
    w.record(f"site:{saved.id}", {"name": saved.name, "terms": saved.terms_version, "changed": changed})
    return Written(str(saved.id))


def _save(
    w: Write,
    place: Place,
    terms: Terms,
    reason: str,
    site_id: str,
    version: int | None,
    new_id: uuid.UUID | None = None,
) -> tuple[Site, dict[str, Any]]:
    """The site as it was saved, and what changed of it: {name: [before, after]}. `new_id` is of a new one."""
    owner = client(w, place.client)
    body = {
        "client_id": owner.id,
        "name": " ".join(place.name.split()),
        "kind": place.kind,
        "zone": place.zone,
        "altitude_m": place.altitude_m,
        "latitude": place.latitude,
        "longitude": place.longitude,
        "depths": sorted(set(place.depths)),
        "note": clean_reason(place.note, required=False),
    }
    twin = w.session.scalar(select(Site).where(Site.client_id == owner.id, Site.name == body["name"]))
    if twin is not None and str(twin.id) != site_id:
        raise InputError("name", f"{owner.name} has a site called {twin.name} already.", value=place.name)
    new = terms.as_dict()
    changed: dict[str, Any] = {}
    if site_id:
        site = find_site(w.session, site_id)
        w.session.execute(select(Site.id).where(Site.id == site.id).with_for_update())
        if version is not None and site.terms_version != version:
            raise MovedOn("This site was changed meanwhile. You now see it; nothing was changed.")
        changed = {name: [getattr(site, name), value] for name, value in body.items() if getattr(site, name) != value}
        old = Terms(site.use, site.ranges, site.limits, site.water).as_dict()
        of_terms = {name: [old[name], new[name]] for name in new if new[name] != old[name]}
        if not changed and not of_terms:
            return site, {}
        _ask_of_the_move(site, place, reason)
        why = clean_reason(reason, required=bool(of_terms)) or "the site's own record was changed"
        changed |= of_terms
        for name, value in body.items():
            setattr(site, name, value)
        site.terms_version += 1
    else:
        _ask_of_the_swap(w.session, owner, place, reason)
        why = clean_reason(reason, required=False) or "as the site was made"
        site = Site(id=new_id or uuid.uuid4(), terms_version=1, ranges={}, limits={}, water={}, use="", **body)
        w.session.add(site)
    site.use, site.ranges, site.limits, site.water = new["use"], new["ranges"], new["limits"], new["water"]
    w.session.flush()
    w.session.add(
        SiteTerms(
            id=uuid.uuid4(),
            site_id=site.id,
            version=site.terms_version,
            body={**new, "place": {name: body[name] for name in _PLACE}},
            reason=why,
            at=w.now,
            by_id=w.actor.id,
        )
    )
    return site, {name: [str(part) if name == "client_id" else part for part in pair] for name, pair in changed.items()}


#: What of a site's own record its versions keep.
_PLACE = ("name", "kind", "zone", "altitude_m", "latitude", "longitude", "depths", "note")
#: From which change on a site's altitude and position are asked about [m]: oxygen rests on the one, the map on the other.
ALTITUDE_ASKED_M = 30.0
POSITION_ASKED_M = 1000.0


def _position(of: Site | Place) -> tuple[float, float] | None:
    if of.latitude is None or of.longitude is None:
        return None
    return of.latitude, of.longitude


def _ask_of_the_move(site: Site, place: Place, reason: str) -> None:
    """Raise InputError where the altitude or the position of a site changes far and no reason is given."""
    if len(reason.strip()) >= 3:
        return
    assert place.altitude_m is not None
    if abs(place.altitude_m - site.altitude_m) > ALTITUDE_ASKED_M:
        words = "Altitude changes from {old} to {new}. Oxygen is judged by it: say why below, or put it right."
        old, new = Amount(site.altitude_m, "m"), Amount(place.altitude_m, "m")
        raise InputError("altitude_m", say(words, old=old, new=new))
    before, after = _position(site), _position(place)
    if before is None or after is None or distance_m(before, after) <= POSITION_ASKED_M:
        return
    if _can_swap(after) and distance_m(before, after[::-1]) < POSITION_ASKED_M:
        raise InputError("latitude", "Latitude and longitude are swapped: turned round they are where the site was.")
    moved = Amount(distance_m(before, after) / 1000, "km", ".1f")
    raise InputError("latitude", say("Latitude and longitude move the site by {moved}: say why below.", moved=moved))


def _can_swap(position: tuple[float, float]) -> bool:
    return abs(position[1]) <= 90


#: A new site this far from the client's others, but near them with its coordinates turned round, has them swapped [m].
_FAR_M, _NEAR_M = 500_000.0, 100_000.0


def _ask_of_the_swap(session: Session, owner: Client, place: Place, reason: str) -> None:
    position = _position(place)
    if position is None or len(reason.strip()) >= 3 or not _can_swap(position):
        return
    others = session.scalars(select(Site).where(Site.client_id == owner.id, Site.latitude.is_not(None)))
    known = [other for site in others if (other := _position(site)) is not None]
    if not known or min(distance_m(position, other) for other in known) < _FAR_M:
        return
    if min(distance_m(position[::-1], other) for other in known) < _NEAR_M:
        raise InputError(
            "latitude",
            f"Latitude and longitude look swapped: turned round they lie near {owner.name}'s other sites. "
            "If they are right, say why below.",
        )


def history(session: Session, site_id: uuid.UUID) -> list[SiteTerms]:
    """The versions of a site's terms, newest first."""
    query = select(SiteTerms).where(SiteTerms.site_id == site_id).order_by(SiteTerms.version.desc())
    return list(session.scalars(query))


@writes("site.retire", Written)
def retire_site(w: Write, *, site_id: str, reason: str) -> Written:
    """A site is read no more; its record stays. It leaves its rounds."""
    only_the_lead_keeps(w.actor)
    site = find_site(w.session, site_id)
    why = clean_reason(reason)
    site.retired_at = site.retired_at or w.now
    for stop in w.session.scalars(select(RoundStop).where(RoundStop.site_id == site.id)):
        w.session.delete(stop)
    w.record(f"site:{site.id}", {"name": site.name, "reason": why})
    return Written(str(site.id))


@writes("site.restore", Written)
def restore_site(w: Write, *, site_id: str, reason: str) -> Written:
    """A site that was put away is read again; it stands in no round until it is put into one."""
    only_the_lead_keeps(w.actor)
    site = find_site(w.session, site_id)
    if site.retired_at is None:
        raise MovedOn(f"{site.name} is read already.")
    why = clean_reason(reason)
    site.retired_at = None
    w.record(f"site:{site.id}", {"name": site.name, "reason": why})
    return Written(str(site.id))


# -- in and out


def features(sites: Sequence[Site]) -> list[dict[str, Any]]:
    """The sites as plain properties with their positions, for the format's writer."""
    return [
        {
            "id": str(s.id),
            "position": None if s.latitude is None else (s.longitude, s.latitude, s.altitude_m),
            "properties": {
                "client": s.client,
                "name": s.name,
                "kind": s.kind,
                "use": s.use,
                "zone": s.zone,
                "altitude_m": s.altitude_m,
                "depths_m": s.depths,
                "ranges": s.ranges,
                "limits": s.limits,
                "water": s.water,
                "note": s.note,
            },
        }
        for s in sites
    ]


@writes("site.import", SitesTakenIn)
def take_in(w: Write, *, features: Sequence[Mapping[str, Any]]) -> SitesTakenIn:
    """Sites from a file: known ones are changed, others made; all of them or none.

    A site is known by the feature's id where that is one of ours, else by client and name; a new one keeps its id.

    Every fault is told at once, by the number of the feature.
    """
    only_the_lead_keeps(w.actor)
    if not features:
        raise InputError("file", "The file holds no site.")
    if len(features) > MOST_SITES:
        raise InputError("file", f"The file holds {len(features)} sites; {MOST_SITES} are taken at once.")
    faults: list[InputError] = []
    count = changed = 0
    for number, one in enumerate(features, 1):
        try:
            place, terms = _given(one)
            clean_place = _place(place)
            if clean_place:
                raise InputErrors(clean_place)
            own_id = _own_id(one.get("id"))
            known = w.session.get(Site, own_id) if own_id else None
            named = select(Site).join(Site.owner).where(Client.name == place.client, Site.name == place.name)
            known = known or w.session.scalar(named)
            _save(w, place, terms, "taken in from a file", str(known.id) if known else "", None, own_id)
            count, changed = count + (known is None), changed + (known is not None)
        except InputError as error:
            faults += [InputError(f.field, f"Feature {number}: {f}", value=f.value) for f in error.faults]
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults[:20])
    w.record("sites", {"made": count, "changed": changed})
    return SitesTakenIn(made=count, changed=changed)


def _own_id(text: Any) -> uuid.UUID | None:
    """The id of a feature where it is such as ours are; other programs number theirs otherwise."""
    try:
        return uuid.UUID(str(text)) if text is not None else None
    except ValueError:
        return None


def _given(one: Mapping[str, Any]) -> tuple[Place, Terms]:
    p = one["properties"]

    def text(name: str, usual: str = "") -> str:
        return str(p.get(name) or usual)[:400]

    position = one.get("position") or (None, None)
    place = Place(
        text("client").strip(),
        text("name").strip(),
        text("kind", "other"),
        text("zone", "UTC"),
        p.get("altitude_m"),
        position[1],
        position[0],
        tuple(p.get("depths_m") or ()),
        text("note"),
    )
    ranges = write_lines(p.get("ranges") or {}, limits=False)
    limits = write_lines(p.get("limits") or {}, limits=True)
    return place, terms_of(text("use"), ranges, limits, p.get("water") or {})
