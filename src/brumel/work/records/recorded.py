"""Visits as they stand in the record: every standing reading with its findings, what it was before, and its signature."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

from sqlalchemy import Select, select
from sqlalchemy.orm import Session, aliased, defer, joinedload, lazyload, load_only

from brumel.store.base import among
from brumel.store.records import Signature
from brumel.store.rounds import Photo, VisitNote
from brumel.store.standing import is_standing
from brumel.store.tables import Calibration, Probe, Reading, Site, User, Visit
from brumel.work.desk import NotFound, object_id
from brumel.work.quantities import names as quantity_names
from brumel.work.records.review import Asked, questions
from brumel.work.records.visits import in_a_row, marks_of


@dataclass(frozen=True)
class Recorded:
    """One standing reading of a visit.

    marks : what speaks against taking it as it is, the gravest first
    before : the value of the version before it, None where it is the first
    """

    reading: Reading
    marks: tuple[str, ...]
    before: float | None
    signature: Signature | None

    @property
    def sentences(self) -> list[tuple[str, str]]:
        """What its tests say against it, each with the answer that was given."""
        return [(f["sentence"], f.get("answer") or "") for f in self.reading.findings if f["flag"] > 2]


@dataclass(frozen=True)
class RecordedVisit:
    """A visit with its readings in the order of a sheet, its notes, the names of its photos, and its questions."""

    visit: Visit
    readings: list[Recorded]
    notes: list[VisitNote]
    photos: list[Photo]
    asked: list[Asked]

    @property
    def odd(self) -> list[Recorded]:
        """What is looked at first."""
        return [r for r in self.readings if r.marks]

    @property
    def plain(self) -> list[Recorded]:
        return [r for r in self.readings if not r.marks]

    @property
    def unsigned(self) -> list[Recorded]:
        return [r for r in self.readings if r.signature is None and r.reading.entered_as != "imported"]

    def signed_words(self) -> str:
        """Who signed its readings, in a few words."""
        names = list(dict.fromkeys(r.signature.name for r in self.readings if r.signature))
        waiting = len(self.unsigned)
        if not names:
            return "not yet" if waiting or not self.readings else "nobody: it was brought in"
        return f"by {', '.join(names)}" + (f"; {waiting} of {len(self.readings)} not yet" if waiting else "")

    @property
    def conditions(self) -> dict[str, Any]:
        """What was known of air and water; what was said last counts."""
        return {k: v for note in self.notes if note.kind == "conditions" for k, v in note.body.items()}

    @property
    def said(self) -> list[str]:
        return [str(note.body.get("text", "")) for note in self.notes if note.kind == "note"]


def recorded(session: Session, visits: Sequence[Visit]) -> list[RecordedVisit]:
    """These visits as they stand in the record, without the calculation steps, which are most of a reading's row."""
    ids = [visit.id for visit in visits]
    readings, signed = _readings(session, ids)
    before = _before(session, [row for rows in readings.values() for row in rows])
    notes = _by_visit(session, VisitNote, ids)
    photos = _by_visit(session, Photo, ids)
    asked = questions(session, ids)
    return [
        RecordedVisit(
            visit,
            [Recorded(r, marks_of(r), before.get(r.id), signed.get(r.id)) for r in readings.get(visit.id, [])],
            notes.get(visit.id, []),
            photos.get(visit.id, []),
            asked.get(visit.id, []),
        )
        for visit in visits
    ]


def _readings(
    session: Session, ids: Sequence[uuid.UUID]
) -> tuple[dict[uuid.UUID, list[Reading]], dict[uuid.UUID, Signature]]:
    """The standing readings by visit, and the signatures there are by reading."""
    found: dict[uuid.UUID, list[Reading]] = {}
    signed = {}
    for row, signature in session.execute(_readings_and_signatures(), {"visits": list(ids)}):
        found.setdefault(row.visit_id, []).append(row)
        if signature is not None:
            signed[row.id] = signature
    for rows in found.values():
        rows.sort(key=_place)
    return found, signed


@cache
def _readings_and_signatures() -> Select[Reading, Signature]:
    probe = joinedload(Reading.probe).options(lazyload("*"), load_only(Probe.name, Probe.serial, Probe.quantity))
    calibration = joinedload(Reading.calibration).options(lazyload("*"), load_only(Calibration.number, Calibration.at))
    by = joinedload(Reading.by).options(lazyload("*"), load_only(User.name))
    return (
        select(Reading, Signature)
        .outerjoin(Signature, Signature.reading_id == Reading.id)
        .where(among(Reading.visit_id, "visits"), is_standing())
        .options(lazyload("*"), probe, calibration, by, defer(Reading.working))
        .order_by(Reading.at, Reading.id)
    )


def _place(row: Reading) -> tuple[Any, ...]:
    order = quantity_names.ORDER.get(row.quantity, 99)
    return order, row.role != "first", row.depth_m is not None, row.depth_m or 0.0


def _before(session: Session, rows: Sequence[Reading]) -> dict[uuid.UUID, float]:
    """The value of the version before, by the id of a mended reading."""
    mended = [row.id for row in rows if row.version > 1]
    if not mended:
        return {}
    return dict(session.execute(_version_before(), {"mended": mended}).tuples().all())


@cache
def _version_before() -> Select[uuid.UUID, float]:
    now, old = aliased(Reading), aliased(Reading)
    before = (old.root_id == now.root_id) & (old.version == now.version - 1)
    return select(now.id, old.value).join(old, before).where(among(now.id, "mended"))


def _by_visit(session: Session, kind: Any, ids: Sequence[uuid.UUID]) -> dict[uuid.UUID, list[Any]]:
    found: dict[uuid.UUID, list[Any]] = {}
    for row in session.scalars(select(kind).where(among(kind.visit_id, ids)).order_by(kind.at)):
        found.setdefault(row.visit_id, []).append(row)
    return found


def site_of(session: Session, site_id: uuid.UUID) -> Site:
    """A site by its id."""
    return session.get_one(Site, site_id)


def visit_of(session: Session, visit_id: str) -> Visit:
    """A visit by the id in an address. Raises NotFound."""
    query = select(Visit).where(Visit.id == object_id(visit_id, "visit")).options(*in_a_row(whole_site=True))
    visit = session.scalars(query).first()
    if visit is None:
        raise NotFound("There is no such visit.")
    return visit
