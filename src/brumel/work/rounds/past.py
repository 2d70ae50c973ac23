"""Outings that were gone: a list, and what was kept on each."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.store.records import Closing
from brumel.store.rounds import Outing, Photo, VisitNote
from brumel.store.standing import is_standing
from brumel.store.tables import Reading, Visit, VisitMove

PAGE = 25


@dataclass(frozen=True)
class PastOuting:
    """An outing in one line: sites read, readings recorded, those beyond a limit, and those still open."""

    outing: Outing
    sites: int
    readings: int
    exceeded: int
    open: int


def outings_gone(session: Session, page: int) -> tuple[list[PastOuting], int]:
    """A page of the outings, the newest first, and how many pages there are. Two queries."""
    count = session.scalar(select(func.count()).select_from(Outing)) or 0
    standing = is_standing()
    counted = (
        select(
            Visit.outing_id,
            func.count(Visit.site_id.distinct()).label("sites"),
            func.count(Reading.id).filter(standing).label("readings"),
            func.count(Reading.id).filter(standing, Reading.outcome == "exceeded").label("exceeded"),
            func.count(Reading.id).filter(standing, Reading.backing == "open").label("open"),
        )
        .outerjoin(Reading, Reading.visit_id == Visit.id)
        .where(~select(VisitMove.visit_id).where(VisitMove.visit_id == Visit.id).exists())
        .group_by(Visit.outing_id)
        .subquery()
    )
    figures = (func.coalesce(counted.c[name], 0) for name in ("sites", "readings", "exceeded", "open"))
    query = (
        select(Outing, *figures)
        .outerjoin(counted, counted.c.outing_id == Outing.id)
        .order_by(Outing.day.desc(), Outing.started_at.desc())
        .limit(PAGE)
        .offset((page - 1) * PAGE)
    )
    return [PastOuting(*row) for row in session.execute(query)], max(1, -(-count // PAGE))


@dataclass(frozen=True)
class KeptOnOuting:
    """What an outing left besides its readings: notes and photos by visit, and the closing checks of its calibrations."""

    notes: Mapping[uuid.UUID, Sequence[VisitNote]]
    photos: Mapping[uuid.UUID, int]
    closings: Sequence[Closing]


def kept_on(session: Session, visit_ids: Sequence[uuid.UUID]) -> KeptOnOuting:
    """Notes, photos and closing checks of an outing's visits. Three queries."""
    said = session.scalars(
        select(VisitNote).where(VisitNote.visit_id.in_(visit_ids), VisitNote.kind == "note").order_by(VisitNote.at)
    )
    notes: dict[uuid.UUID, list[VisitNote]] = {}
    for note in said:
        notes.setdefault(note.visit_id, []).append(note)
    photos = session.execute(
        select(Photo.visit_id, func.count()).where(Photo.visit_id.in_(visit_ids)).group_by(Photo.visit_id)
    )
    used = select(Reading.calibration_id).where(Reading.visit_id.in_(visit_ids))
    first = select(func.min(Visit.at)).where(Visit.id.in_(visit_ids)).scalar_subquery()
    closings = session.scalars(
        select(Closing).where(Closing.calibration_id.in_(used), Closing.at >= first).order_by(Closing.at)
    )
    return KeptOnOuting(notes, dict(photos.tuples().all()), list(closings))
