"""Finding and proving: readings, calibrations, the audit trail, and rows for export."""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterator, Sequence
from datetime import datetime
from functools import cache
from typing import Any, NamedTuple

from sqlalchemy import Select, Text, bindparam, func, select
from sqlalchemy.orm import Session, aliased, defer, joinedload, lazyload, load_only
from sqlalchemy.sql.base import ExecutableOption

from brumel.core.believability import Flag
from brumel.core.sentence import Amount, say
from brumel.store.standing import is_standing
from brumel.store.tables import Audit, Calibration, CalibrationWithdrawal, Probe, Reading, Site, User, Visit
from brumel.work.desk import NotAllowed, NotFound, object_id
from brumel.work.records import reading_rows
from brumel.work.records.narrowing import Search, holds, of_reading, of_visit, on_days, waits

PAGE = 50


#: Counting goes no further: beyond it, a search is narrowed rather than leafed through.
MOST_COUNTED = 5000


_outer = aliased(Reading)


def _query(search: Search) -> Select[Any]:
    query = select(_outer).where(is_standing(_outer), *of_reading(search, _outer))
    if asked := of_visit(search, _outer.at):
        query = query.join(Visit, Visit.id == _outer.visit_id).join(Site, Site.id == Visit.site_id).where(*asked)
    if search.signed:
        signed = ~waits(_outer) & (_outer.entered_as != "imported")
        query = query.where(waits(_outer) if search.signed == "no" else signed)
    return query


def readings_found(search: Search) -> tuple[Select[Any], type[Reading]]:
    """The standing readings of a search, in no order, and what they are called in the query."""
    return _query(search), _outer


def in_a_list(reading: type[Reading] = Reading, *, findings: bool = False) -> tuple[ExecutableOption, ...]:
    """How readings are loaded that are shown a line each: with their site, without the workings that make most of a row.

    findings : also with what their tests found
    """
    of_site = (Site.name, Site.zone)
    visit = joinedload(reading.visit).options(
        lazyload("*"), joinedload(Visit.site).options(lazyload("*"), load_only(*of_site))
    )
    left_out = (reading.working, reading.settling, *(() if findings else (reading.findings,)))
    return lazyload("*"), visit, *(defer(column) for column in left_out)


class RecentReading(NamedTuple):
    """A standing reading by the first instrument, of a quantity that its site is read for: what a line of it shows."""

    id: uuid.UUID
    visit_id: uuid.UUID
    at: datetime
    site: str
    zone: str
    depth_m: float | None
    quantity: str
    value: float
    unit: str
    backing: str


def recent(session: Session, count: int) -> list[RecentReading]:
    """The newest of them, without counting them all; only what is shown, for it is asked on every look at Today."""
    return [RecentReading._make(row) for row in session.execute(_newest_of_sheets(), {"most": count})]


@cache
def _newest_of_sheets() -> Any:
    of_reading = (_outer.depth_m, _outer.quantity, _outer.value, _outer.unit, _outer.backing)
    query = select(_outer.id, _outer.visit_id, _outer.at, Site.name, Site.zone, *of_reading)
    wanted = query.join(Site, Site.id == _outer.site_id).where(
        is_standing(_outer), _outer.role == "first", Site.ranges.has_key(_outer.quantity)
    )
    return wanted.order_by(_outer.at.desc(), _outer.id).limit(bindparam("most"))


def readings(session: Session, search: Search) -> tuple[list[Reading], int]:
    """One page of standing readings, newest first, and how many there are, counted up to `MOST_COUNTED`."""
    query = _query(search)
    counted = query.with_only_columns(_outer.id).order_by(None).limit(MOST_COUNTED).subquery()
    total = session.scalar(select(func.count()).select_from(counted)) or 0
    newest = query.options(*in_a_list(_outer)).order_by(_outer.at.desc(), _outer.id)
    return list(session.scalars(newest.offset((search.page - 1) * search.size).limit(search.size))), total


def newest(session: Session, root_ids: Sequence[uuid.UUID]) -> dict[uuid.UUID, int]:
    """The number of the newest version of each of these readings, struck ones too, by root."""
    query = select(Reading.root_id, func.max(Reading.version)).where(Reading.root_id.in_(root_ids))
    return dict(session.execute(query.group_by(Reading.root_id)).tuples().all())


def with_versions(session: Session, reading_id: str | uuid.UUID) -> tuple[Reading, list[Reading]]:
    """One version of a reading by its id, and every version of it, oldest first. Raises NotFound."""
    wanted = object_id(reading_id, "reading")
    versions = {version.id: version for version in session.scalars(_all_versions(), {"wanted": wanted})}
    if wanted not in versions:
        raise NotFound("There is no such reading.")
    return versions[wanted], list(versions.values())


@cache
def _all_versions() -> Select[Any]:
    """With what a page about one reading tells of each: where, who, what with, and the number of its calibration."""
    root = select(Reading.root_id).where(Reading.id == bindparam("wanted")).scalar_subquery()
    site = joinedload(Visit.site).options(lazyload("*"), joinedload(Site.owner))
    return (
        select(Reading)
        .where(Reading.root_id == root)
        .order_by(Reading.version)
        .options(
            lazyload("*"),
            joinedload(Reading.visit).options(lazyload("*"), site),
            joinedload(Reading.by).load_only(User.name),
            joinedload(Reading.probe).options(lazyload("*"), load_only(Probe.name, Probe.quantity, Probe.measures)),
            joinedload(Reading.calibration).options(lazyload("*"), load_only(Calibration.number)),
        )
    )


def count_up_to(session: Session, search: Search, most: int) -> int:
    """How many readings a search finds, counted to one more than `most` at the furthest."""
    counted = _query(search).with_only_columns(_outer.id).limit(most + 1).subquery()
    return session.scalar(select(func.count()).select_from(counted)) or 0


def count(session: Session, search: Search) -> int:
    """How many readings a search finds, counted to the last."""
    return session.scalar(select(func.count()).select_from(_query(search).with_only_columns(_outer.id).subquery())) or 0


def calibrations(session: Session, search: Search) -> tuple[list[Calibration], int]:
    """One page of the calibrations made within a search's days, newest first, and how many there are in all."""
    query = _calibrations(search)
    total = session.scalar(select(func.count()).select_from(query.with_only_columns(Calibration.id).subquery())) or 0
    return list(
        session.scalars(
            query.order_by(Calibration.at.desc()).offset((search.page - 1) * search.size).limit(search.size)
        )
    ), total


def calibration_ids(session: Session, search: Search) -> list[uuid.UUID]:
    """All calibrations made within a search's days, oldest first."""
    return list(session.scalars(_calibrations(search).with_only_columns(Calibration.id).order_by(Calibration.at)))


def _calibrations(search: Search) -> Select[Any]:
    query = select(Calibration).where(*on_days(search, Calibration.at, str(search.zone)))
    if search.person_id:
        query = query.where(Calibration.by_id == search.person_id)
    if search.quantity or search.words:
        query = query.join(Probe, Probe.id == Calibration.probe_id)
    if search.quantity:
        query = query.where(Probe.quantity == search.quantity)
    return query.where(*(holds(Probe.name, word) for word in search.words.split()[:8]))


def calibration(session: Session, calibration_id: str | uuid.UUID) -> Calibration:
    """One calibration by id; the front door for everything that names one."""
    calibration = session.get(Calibration, object_id(calibration_id, "calibration"))
    if calibration is None:
        raise NotFound("There is no such calibration.")
    return calibration


def withdrawals_of(
    session: Session, calibration: Calibration
) -> tuple[CalibrationWithdrawal | None, Calibration | None]:
    """How this calibration was withdrawn, and the calibration it took the place of; None where neither happened."""
    of_it = (CalibrationWithdrawal.calibration_id == calibration.id) | (CalibrationWithdrawal.new_id == calibration.id)
    query = select(CalibrationWithdrawal, Calibration).join(
        Calibration, Calibration.id == CalibrationWithdrawal.calibration_id
    )
    withdrawal, old = None, None
    for row, withdrawn in session.execute(query.where(of_it)):
        if withdrawn.id == calibration.id:
            withdrawal = row
        else:
            old = withdrawn
    return withdrawal, old


def withdrawn_among(session: Session, ids: list[uuid.UUID]) -> set[uuid.UUID]:
    """Which of these calibrations count no longer."""
    return set(
        session.scalars(
            select(CalibrationWithdrawal.calibration_id).where(CalibrationWithdrawal.calibration_id.in_(ids))
        )
    )


def backed_by(session: Session, calibration: Calibration) -> int:
    """How many standing readings rest on a calibration."""
    query = _query(Search()).where(_outer.calibration_id == calibration.id)
    return session.scalar(select(func.count()).select_from(query.subquery())) or 0


#: What older entries of the trail call things; the entries stay as they were written.
_OLDER_WORDS = {
    "ruling.discovery": "decision.affected",
    "ruling.": "decision.",
    "ruling:": "decision:",
    "sitting.": "session.",
    "sitting:": "session:",
    "log.rule": "series.decide",
    "log.service": "series.check",
    "log.": "series.",
    "log:": "series:",
    "calibration.supersede": "calibration.withdraw",
    "probe.upkeep": "probe.maintenance",
}


def standard_words(text: str) -> str:
    """An action or a subject of the trail in today's words, however old the entry is."""
    for older, today in _OLDER_WORDS.items():
        if text.startswith(older):
            return today + text[len(older) :]
    return text


def audit(session: Session, actor: User, search: Search) -> tuple[list[Audit], int]:
    """One page of the audit trail as far as the search narrows it, newest first; for the lead and for auditors."""
    if actor.role not in ("lead", "auditor"):
        raise NotAllowed("The audit trail is for the lead and for auditors.")
    query = select(Audit).where(*on_days(search, Audit.at, str(search.zone)))
    if search.person_id:
        query = query.where(Audit.user_id == search.person_id)
    for word in search.words.split()[:8]:
        query = query.where(
            holds(Audit.action, word) | holds(Audit.subject, word) | holds(Audit.detail.cast(Text), word)
        )
    counted = query.with_only_columns(Audit.id).limit(MOST_COUNTED).subquery()
    total = session.scalar(select(func.count()).select_from(counted)) or 0
    newest = query.order_by(Audit.seq.desc()).offset((search.page - 1) * search.size).limit(search.size)
    return list(session.scalars(newest)), total


def newest_entry(session: Session) -> Audit | None:
    """The end of the audit chain, None while nothing was written."""
    return session.scalar(select(Audit).order_by(Audit.seq.desc()).limit(1))


def export(session: Session, search: Search) -> Iterator[dict[str, Any]]:
    """Rows of the CSV export, newest first, one a standing reading."""
    return reading_rows.rows(session, _query(search).order_by(_outer.at.desc(), _outer.id), _outer)


_SPREAD = re.compile(r"lie within ±(\S+) %")


def settling_note(reading: Reading) -> str:
    """What must be said beside a settling sentence that an earlier version wrote in the wrong unit; empty where it is right.

    The spread of a relative limit was written in the quantity's own unit and called "%". Evidence keeps its words.
    """
    written = _SPREAD.search(str(reading.settling.get("sentence", "")))
    spread = reading.settling.get("noise")
    if written is None or spread is None or f"{float(spread):.2g}" == written.group(1):
        return ""
    return say(
        "An earlier version wrote “%” where {unit} is meant; as a share of the reading it is {spread}.",
        unit=reading.unit,
        spread=Amount(spread, "%", ".2g"),
    )


def flag_words(flag: int) -> str:
    """The words of a QARTOD flag."""
    return Flag(flag).words
