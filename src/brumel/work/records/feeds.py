"""Lists for programs: a page of rows after the last one they have, in an order that new rows do not disturb."""

from __future__ import annotations

import base64
import binascii
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Generic, TypeVar

from sqlalchemy import Select, select, tuple_
from sqlalchemy.orm import Session, defer, joinedload, lazyload

from brumel.core.errors import InputError
from brumel.store.logger import LoggerSeries, LoggerValue
from brumel.store.records import Unsigned
from brumel.store.rounds import VisitNote
from brumel.store.standing import is_standing
from brumel.store.tables import Calibration, CalibrationWithdrawal, Client, Lot, Meter, Probe, Reading, Run, Site, Visit
from brumel.work.desk import NotFound, object_id
from brumel.work.records.narrowing import is_in_place

T = TypeVar("T")

#: Rows of a page at most.
MOST = 500


@dataclass(frozen=True)
class Wanted:
    """What of a list is asked for; what is None does not narrow. Times are moments, `until` is not part of the span.

    after : the mark of the last row there is already, as the page before gave it
    """

    site_id: uuid.UUID | None = None
    probe_id: uuid.UUID | None = None
    visit_id: uuid.UUID | None = None
    quantity: str = ""
    since: datetime | None = None
    until: datetime | None = None
    written_since: datetime | None = None
    after: str = ""
    size: int = 100


@dataclass(frozen=True)
class Rows(Generic[T]):
    """A page of rows, and the mark of its last one where there are more."""

    rows: Sequence[T]
    after: str | None


def _page(session: Session, query: Select[T], at: Any, key: Any, wanted: Wanted) -> Rows[T]:
    """The page of a query in the order of a time and, within it, of a key."""
    if wanted.since:
        query = query.where(at >= wanted.since)
    if wanted.until:
        query = query.where(at < wanted.until)
    if wanted.after:
        query = query.where(tuple_(at, key) > tuple_(*_read_mark(wanted.after)))
    found = list(session.scalars(query.order_by(at, key).limit(wanted.size + 1)).unique())
    rows = found[: wanted.size]
    more = len(found) > wanted.size
    return Rows(rows, _mark(getattr(rows[-1], at.key), getattr(rows[-1], key.key)) if more else None)


def _mark(at: datetime, key: Any) -> str:
    return base64.urlsafe_b64encode(f"{at.isoformat()}|{key}".encode()).decode().rstrip("=")


def _read_mark(mark: str) -> tuple[datetime, uuid.UUID]:
    wrong = InputError("after", "“after” is not a mark that a page of this list gave.", value=mark[:80])
    try:
        text = base64.urlsafe_b64decode(mark + "=" * (-len(mark) % 4)).decode()
        at, _, key = text.partition("|")
        found = datetime.fromisoformat(at)
        if found.tzinfo is None:
            raise wrong
        return found, uuid.UUID(key)
    except (binascii.Error, UnicodeError, ValueError):
        raise wrong from None


def sites(session: Session) -> list[Site]:
    """All sites, those put away too, by client and name."""
    return list(session.scalars(select(Site).join(Site.owner).order_by(Client.name, Site.name, Site.id)))


def meters(session: Session) -> list[Meter]:
    """All meters, retired ones too, by name."""
    return list(session.scalars(select(Meter).order_by(Meter.name, Meter.id)))


def probes(session: Session) -> list[Probe]:
    """All probes, retired ones too, by name."""
    return list(session.scalars(select(Probe).order_by(Probe.name, Probe.id)))


def lots(session: Session) -> list[Lot]:
    """All lots, discarded ones too, by code."""
    return list(session.scalars(select(Lot).order_by(Lot.code)))


def readings(session: Session, wanted: Wanted) -> Rows[Reading]:
    """Standing readings, the oldest first."""
    query = select(Reading).where(is_standing())
    if wanted.site_id:
        query = query.where(Reading.site_id == wanted.site_id)
    if wanted.probe_id:
        query = query.where(Reading.probe_id == wanted.probe_id)
    if wanted.visit_id:
        query = query.where(Reading.visit_id == wanted.visit_id)
    if wanted.quantity:
        query = query.where(Reading.quantity == wanted.quantity)
    if wanted.written_since:
        query = query.where(Reading.written_at >= wanted.written_since)
    left_out = (Reading.working, Reading.settling, Reading.findings)
    query = query.options(lazyload("*"), *(defer(column) for column in left_out))
    return _page(session, query, Reading.at, Reading.id, wanted)


def unsigned_among(session: Session, rows: Sequence[Reading]) -> set[uuid.UUID]:
    """Which of these versions wait for a signature."""
    asked = select(Unsigned.reading_id).where(Unsigned.reading_id.in_([row.id for row in rows]))
    return set(session.scalars(asked))


def visits(session: Session, wanted: Wanted) -> Rows[Visit]:
    """Visits, the oldest first; one that was moved to its right site is found there alone."""
    query = select(Visit).where(is_in_place())
    if wanted.site_id:
        query = query.where(Visit.site_id == wanted.site_id)
    query = query.options(lazyload("*"), joinedload(Visit.operator))
    return _page(session, query, Visit.at, Visit.id, wanted)


def notes(session: Session, visit: Visit) -> str:
    """What was noted of a visit, a line each."""
    query = select(VisitNote.body["text"].astext).where(VisitNote.visit_id == visit.id, VisitNote.kind == "note")
    return "\n".join(text for text in session.scalars(query.order_by(VisitNote.at)) if text)


def calibrations(session: Session, wanted: Wanted) -> Rows[Calibration]:
    """Calibrations, the oldest first, withdrawn ones too."""
    query = select(Calibration).options(
        lazyload("*"), joinedload(Calibration.by), joinedload(Calibration.run).options(lazyload("*"), defer(Run.cups))
    )
    if wanted.probe_id:
        query = query.where(Calibration.probe_id == wanted.probe_id)
    return _page(session, query, Calibration.at, Calibration.id, wanted)


def withdrawn(session: Session, rows: Sequence[Calibration]) -> dict[uuid.UUID, CalibrationWithdrawal]:
    """How those of these calibrations were withdrawn that count no longer."""
    asked = select(CalibrationWithdrawal).where(CalibrationWithdrawal.calibration_id.in_([row.id for row in rows]))
    return {row.calibration_id: row for row in session.scalars(asked.options(lazyload("*")))}


def series(session: Session, wanted: Wanted) -> Rows[LoggerSeries]:
    """Logger series by when they begin."""
    query = select(LoggerSeries).options(lazyload("*"))
    if wanted.site_id:
        query = query.where(LoggerSeries.site_id == wanted.site_id)
    if wanted.quantity:
        query = query.where(LoggerSeries.quantity == wanted.quantity)
    return _page(session, query, LoggerSeries.starts, LoggerSeries.id, wanted)


def one_series(session: Session, series_id: str) -> LoggerSeries:
    """One series. Raises NotFound."""
    row = session.get(LoggerSeries, object_id(series_id, "series"))
    if row is None:
        raise NotFound("There is no such series.")
    return row


def series_values(session: Session, row: LoggerSeries, wanted: Wanted) -> list[LoggerValue]:
    """Values of a series as they were recorded, the oldest first, from `since` on; at most the page's size."""
    query = select(LoggerValue).where(LoggerValue.series_id == row.id)
    if wanted.since:
        query = query.where(LoggerValue.at >= wanted.since)
    if wanted.until:
        query = query.where(LoggerValue.at < wanted.until)
    return list(session.scalars(query.order_by(LoggerValue.at).limit(wanted.size)))
