"""The further views of Records: closing checks, maintenance, lots and decisions, found by the same search."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Select, Text, cast, func, select
from sqlalchemy.orm import Session, contains_eager, joinedload, lazyload

from brumel.core.sentence import Sentence, say
from brumel.store.records import Closing, Decision
from brumel.store.tables import Lot, Maintenance, Probe
from brumel.work import kit
from brumel.work.desk import NotFound
from brumel.work.quantities import names as quantity_names
from brumel.work.records.decisions import DECISIONS
from brumel.work.records.narrowing import Search, holds, on_days

Words = str | Sentence


@dataclass(frozen=True)
class Line:
    """One row: when, what it opens (a kind and an id), and its words."""

    at: datetime
    kind: str
    id: uuid.UUID
    cells: tuple[Words, ...]
    mark: str = ""


@dataclass(frozen=True)
class Listing:
    """A page of a view: the heads of its columns after the time, its rows, and how many there are in all."""

    title: str
    heads: tuple[str, ...]
    lines: list[Line]
    total: int


@dataclass(frozen=True)
class View:
    """A view: its name, its columns, what of a search it takes, and how its rows are found and written."""

    title: str
    heads: tuple[str, ...]
    takes: tuple[str, ...]
    query: Callable[[Search], Select[Any]]
    line: Callable[..., Line]


def _of_probe(query: Any, search: Search, row: Any) -> Any:
    query = query.where(*on_days(search, row.at, str(search.zone)))
    if search.person_id:
        query = query.where(row.by_id == search.person_id)
    if search.quantity:
        query = query.where(Probe.quantity == search.quantity)
    return query


def _closings(search: Search) -> Any:
    probe = contains_eager(Closing.probe).lazyload("*")
    rest = (joinedload(part).lazyload("*") for part in (Closing.calibration, Closing.by))
    query = select(Closing).join(Probe, Probe.id == Closing.probe_id).options(lazyload("*"), probe, *rest)
    for word in search.words.split()[:8]:
        query = query.where(holds(Probe.name, word) | holds(Closing.sentence, word))
    return _of_probe(query, search, Closing).order_by(Closing.at.desc(), Closing.id)


def _closing_line(row: Closing) -> Line:
    cells = (
        str(row.number),
        row.probe.name,
        say("calibration {number}", number=row.calibration.number),
        row.sentence,
        row.by.name,
    )
    return Line(row.at, "closing", row.id, cells, "fit" if row.holds else "not")


def _maintenance(search: Search) -> Any:
    query = select(Maintenance, Probe).join(Probe, Probe.id == Maintenance.probe_id).options(lazyload("*"))
    query = query.options(joinedload(Maintenance.by).lazyload("*"))
    for word in search.words.split()[:8]:
        query = query.where(holds(Probe.name, word) | holds(Maintenance.what, word) | holds(Maintenance.note, word))
    return _of_probe(query, search, Maintenance).order_by(Maintenance.at.desc(), Maintenance.id)


def _lots(search: Search) -> Select[Any]:
    query = select(Lot).options(lazyload("*"), joinedload(Lot.parent).lazyload("*"))
    query = query.where(*on_days(search, Lot.expires_on, str(search.zone)))
    if search.quantity:
        query = query.where(func.jsonb_exists(Lot.measures, cast(search.quantity, Text)))
    for word in search.words.split()[:8]:
        query = query.where(holds(Lot.code, word) | holds(Lot.name, word))
    return query.order_by(Lot.expires_on.desc(), Lot.id)


def _lot_line(row: Lot) -> Line:
    opened = say("opened {day}", day=row.opened_at.date()) if row.opened_at else "sealed"
    state = say("discarded {day}", day=row.discarded_at.date()) if row.discarded_at else opened
    of = ", ".join(quantity_names.short(q) for q in row.measures)
    return Line(row.expires_on, "lot", row.id, (row.code, row.name, of, state, row.parent.code if row.parent else ""))


def _decisions(search: Search) -> Select[Any]:
    query = select(Decision).options(lazyload("*"), joinedload(Decision.by).lazyload("*"))
    query = query.where(*on_days(search, Decision.at, str(search.zone)))
    if search.person_id:
        query = query.where(Decision.by_id == search.person_id)
    if search.decision:
        query = query.where(Decision.decision == search.decision)
    for word in search.words.split()[:8]:
        query = query.where(holds(Decision.reason, word) | holds(Decision.signed_name, word))
    return query.order_by(Decision.number.desc())


_ABOUT = {"closing": "closing check", "lot": "lot", "calibration": "calibration", "reopened": "earlier decision"}


def _decision_line(row: Decision) -> Line:
    became = "opened again" if row.kind == "reopened" else DECISIONS.get(row.decision, row.decision)
    cells = (str(row.number), _ABOUT.get(row.kind, row.kind), became, row.reason or "no reason needed", row.signed_name)
    return Line(row.at, "decision", row.id, cells)


def _maintenance_line(row: Maintenance, probe: Probe) -> Line:
    done = kit.maintenance_words(probe, row)[0]
    return Line(row.at, "probe", probe.id, (probe.name, done, row.note, row.by.name))


VIEWS = {
    "checks": View(
        "Closing checks",
        ("No.", "Probe", "Of", "Found", "By"),
        ("words", "person", "quantity"),
        _closings,
        _closing_line,
    ),
    "maintenance": View(
        "Maintenance", ("Probe", "Done", "Note", "By"), ("words", "person", "quantity"), _maintenance, _maintenance_line
    ),
    "lots": View("Lots", ("Lot", "Solution", "Standard of", "State", "From"), ("words", "quantity"), _lots, _lot_line),
    "decisions": View(
        "Decisions",
        ("No.", "About", "What became of it", "Why", "Signed"),
        ("words", "person", "decision"),
        _decisions,
        _decision_line,
    ),
}


def listing(session: Session, name: str, search: Search) -> Listing:
    """One page of a view. Raises NotFound for a name that is none."""
    view = VIEWS.get(name)
    if view is None:
        raise NotFound("There is no such view of Records.")
    query = view.query(search)
    total = session.scalar(select(func.count()).select_from(query.order_by(None).subquery())) or 0
    rows = session.execute(query.offset((search.page - 1) * search.size).limit(search.size))
    return Listing(view.title, view.heads, [view.line(*row) for row in rows], total)
