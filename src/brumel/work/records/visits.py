"""Finding visits: one row each, with what it read of every quantity and what that is worth."""

from __future__ import annotations

import uuid
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cache, cached_property
from typing import Any, NamedTuple

from sqlalchemy import Select, and_, select, true
from sqlalchemy.orm import Load, Session, aliased, joinedload, lazyload, load_only

from brumel.core.believability import Flag
from brumel.store.base import among
from brumel.store.records import Unsigned
from brumel.store.rounds import Outing, Round
from brumel.store.standing import StandingReading
from brumel.store.tables import Client, Reading, Site, User, Visit
from brumel.work.quantities import names as quantity_names
from brumel.work.records.narrowing import Search, is_in_place, of_reading, of_visit, reads, waits, with_names

#: Visits are counted no further: beyond it, a search is narrowed rather than leafed through.
MOST_COUNTED = 300


class Value(NamedTuple):
    """One standing reading, as a row of visits shows it."""

    id: uuid.UUID
    root_id: uuid.UUID
    visit_id: uuid.UUID
    quantity: str
    depth_m: float | None
    role: str
    value: float
    unit: str
    expanded_uncertainty: float | None
    backing: str
    flag: int
    outcome: str
    outcome_words: str
    grade: str
    version: int
    reason: str
    decision_id: uuid.UUID | None
    is_unsigned: bool


@dataclass(frozen=True)
class Cell:
    """What a visit read of one quantity: from the surface down, the first instrument before others."""

    values: tuple[Value, ...]

    @cached_property
    def shown(self) -> tuple[Value, ...]:
        """The values of the first instrument; all of them where it read nothing."""
        return tuple(v for v in self.values if v.role == "first") or self.values

    @cached_property
    def low(self) -> Value:
        return min(self.shown, key=lambda v: v.value)

    @cached_property
    def high(self) -> Value:
        return max(self.shown, key=lambda v: v.value)

    @cached_property
    def marks(self) -> tuple[str, ...]:
        """What speaks against taking it as it is, the gravest first; empty where nothing does."""
        said = {mark for value in self.values for mark in marks_of(value)}
        return tuple(mark for mark in MARKS if mark in said)


#: What speaks about a value, the gravest first, each with the words for it.
MARKS = {
    "exceeded": "beyond a limit",
    "not reported": "not reported",
    "failed": "failed a test",
    "questioned": "questioned by a test",
    "doubtful": "doubtful",
    "unbacked": "no valid calibration",
    "mended": "corrected",
}


def marks_of(value: Any) -> tuple[str, ...]:
    """The marks of one reading: a `Value`, or a reading itself."""
    found = []
    if value.outcome == "exceeded":
        found.append("exceeded")
    if value.backing == "not reported":
        found.append("not reported")
    if value.flag in (Flag.SUSPECT, Flag.FAIL):
        found.append("failed" if value.flag == Flag.FAIL else "questioned")
    if value.backing in ("doubtful", "unbacked"):
        found.append(value.backing)
    # A decision makes a version of every reading of its span; what it changed, its backing says.
    if value.backing == "corrected" or (value.version > 1 and value.decision_id is None):
        found.append("mended")
    return tuple(found)


@dataclass(frozen=True)
class VisitRow:
    """A visit with what it read."""

    visit: Visit
    cells: dict[str, Cell]

    @property
    def values(self) -> list[Value]:
        return [value for cell in self.cells.values() for value in cell.values]

    @property
    def unsigned(self) -> int:
        """How many of its readings wait for a signature."""
        return sum(value.is_unsigned for value in self.values)


@dataclass(frozen=True)
class Found:
    """A page of visits: its rows, the quantities they read in the order of a sheet, and how many visits there are."""

    rows: list[VisitRow]
    quantities: list[str]
    total: int

    @property
    def is_more(self) -> bool:
        """Whether there are more than were counted."""
        return self.total >= MOST_COUNTED


def find(session: Session, search: Search) -> Found:
    """One page of the visits a search finds. At most `MOST_COUNTED` are counted."""
    # What is shown of a visit is looked up for those of the page alone, so that finding them stays a narrow query.
    ids = list(session.scalars(_first(with_names(session, search))))
    shown = ids[(search.page - 1) * search.size : search.page * search.size]
    visits = {v.id: v for v in session.scalars(_in_rows(), {"visits": shown})}
    rows = rows_of(session, [visits[i] for i in shown])
    return Found(rows, quantities_of(rows), len(ids))


@cache
def _in_rows() -> Select[Visit]:
    return select(Visit).where(among(Visit.id, "visits")).options(*in_a_row())


#: The sites one after another, of each its visits.
_site = aliased(Site)


def _first(search: Search) -> Select[Any]:
    """The ids of the first visits of a search, as many as are counted, in its order."""
    found = query_of(search)
    if search.sort != "site":
        return ordered(found, search.sort).with_only_columns(Visit.id).limit(MOST_COUNTED)
    # Site by site, each read from its newest visit on, so that those of the last sites are not sorted to be left out.
    newest = ordered(found.where(Visit.site_id == _site.id), "newest").limit(MOST_COUNTED)
    each = newest.with_only_columns(Visit.id, Visit.at).lateral()
    of_sites = select(each.c.id).select_from(_site).join(Client, Client.id == _site.client_id).join(each, true())
    return of_sites.order_by(Client.name, _site.name, each.c.at.desc(), each.c.id).limit(MOST_COUNTED)


def quantities_of(rows: Iterable[VisitRow]) -> list[str]:
    """The quantities that stand in these rows, in the order of a sheet."""
    return sorted({q for row in rows for q in row.cells}, key=lambda q: quantity_names.ORDER.get(q, 99))


def query_of(search: Search) -> Select[Any]:
    """The visits that a search finds, in no order."""
    query = select(Visit).join(Site, Site.id == Visit.site_id).where(is_in_place(), *of_visit(search))
    if asked := of_reading(search):
        query = query.where(reads(*asked))
    if search.signed:
        some = reads(waits())
        query = query.where(some if search.signed == "no" else and_(reads(), ~some, Visit.source != "imported"))
    return query


def ordered(query: Select[Any], sort: str) -> Select[Any]:
    """The same visits in an order of `SORTS`."""
    newest = (Visit.at.desc(), Visit.id)
    if sort == "oldest":
        return query.order_by(Visit.at, Visit.id)
    if sort == "site":
        return query.join(Client, Client.id == Site.client_id).order_by(Client.name, Site.name, *newest)
    if sort == "person":
        return query.join(User, User.id == Visit.operator_id).order_by(User.name, *newest)
    return query.order_by(*newest)


@cache
def in_a_row(*, whole_site: bool = False) -> tuple[Any, ...]:
    """How visits are loaded that are shown a line each: with the names of site, client, person and round, and nothing else.

    whole_site : also with all that is known of the site
    """
    of = Load(Visit)
    of_site = () if whole_site else (load_only(Site.name, Site.zone, Site.client_id),)
    owner = joinedload(Site.owner).options(lazyload("*"), load_only(Client.name))
    round_ = joinedload(Outing.round).options(lazyload("*"), load_only(Round.name))
    return (
        of.lazyload("*"),
        of.joinedload(Visit.site).options(lazyload("*"), owner, *of_site),
        of.joinedload(Visit.operator).options(lazyload("*"), load_only(User.name)),
        of.joinedload(Visit.outing).options(lazyload("*"), load_only(Outing.day, Outing.round_id), round_),
    )


def rows_of(session: Session, visits: Sequence[Visit]) -> list[VisitRow]:
    """These visits with what they read, by one query."""
    values = values_of(session, [visit.id for visit in visits])
    return [VisitRow(visit, _cells(values.get(visit.id, []))) for visit in visits]


def _cells(values: Sequence[Value]) -> dict[str, Cell]:
    by_quantity: dict[str, list[Value]] = {}
    for value in values:
        by_quantity.setdefault(value.quantity, []).append(value)

    def place(value: Value) -> tuple[Any, ...]:
        return value.role != "first", value.depth_m is not None, value.depth_m or 0.0

    return {q: Cell(tuple(sorted(found, key=place))) for q, found in by_quantity.items()}


@cache
def _values() -> Select[Any]:
    columns = [getattr(Reading, column) for column in Value._fields if not column.startswith("is_")]
    return (
        select(*columns, Unsigned.reading_id.is_not(None))
        .join(StandingReading, StandingReading.reading_id == Reading.id)
        .outerjoin(Unsigned, Unsigned.reading_id == Reading.id)
        .where(among(Reading.visit_id, "visits"))
        .order_by(Reading.at, Reading.id)
    )


def values_of(session: Session, visit_ids: Sequence[uuid.UUID]) -> dict[uuid.UUID, list[Value]]:
    """The standing readings of these visits, by visit, in the order they were read."""
    found: dict[uuid.UUID, list[Value]] = {}
    for value in map(Value._make, session.execute(_values(), {"visits": list(visit_ids)}).tuples()):
        found.setdefault(value.visit_id, []).append(value)
    return found


@dataclass(frozen=True)
class Choices:
    """What the fields of a search offer."""

    sites: list[tuple[str, uuid.UUID, list[tuple[uuid.UUID, str]]]]
    rounds: list[tuple[uuid.UUID, str]]
    people: list[tuple[uuid.UUID, str]]


def choices(session: Session) -> Choices:
    """Clients with their sites, rounds and people, retired ones too: their records are still looked for."""
    sites: dict[tuple[str, uuid.UUID], list[tuple[uuid.UUID, str]]] = {}
    of_clients, of_rounds, of_people = _choices()
    for client, client_id, site_id, site in session.execute(of_clients):
        sites.setdefault((client, client_id), []).append((site_id, site))
    return Choices(
        [(client, client_id, of_it) for (client, client_id), of_it in sites.items()],
        [(id_, name) for id_, name in session.execute(of_rounds)],
        [(id_, name) for id_, name in session.execute(of_people)],
    )


@cache
def _choices() -> tuple[Select[str, uuid.UUID, uuid.UUID, str], Select[uuid.UUID, str], Select[uuid.UUID, str]]:
    """Put together once a process."""
    named = select(Client.name, Client.id, Site.id, Site.name).join(Site, Site.client_id == Client.id)
    return (
        named.order_by(Client.name, Site.name),
        select(Round.id, Round.name).order_by(Round.name),
        select(User.id, User.name).order_by(User.name),
    )
