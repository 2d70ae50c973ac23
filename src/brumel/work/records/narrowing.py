"""What Records is searched for: one search, whose conditions every view of it takes as far as they apply."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, time, timedelta, tzinfo
from functools import cache
from typing import Any

from sqlalchemy import (
    ColumnElement,
    CompoundSelect,
    Select,
    Text,
    and_,
    false,
    func,
    literal_column,
    or_,
    select,
    union_all,
)
from sqlalchemy.orm import Session

from brumel.store.base import among
from brumel.store.records import Decision, Unsigned
from brumel.store.rounds import Outing, VisitNote
from brumel.store.standing import is_standing
from brumel.store.tables import Client, Reading, Site, User, Visit, VisitMove

#: How visits may be ordered.
SORTS = ("newest", "oldest", "site", "person")
#: What readings may be searched for, beside their quantity and what stands behind them.
WORTHS = ("exceeded", "cannot tell", "questioned", "failed", "mended")
#: Rows of a page, by how closely they stand.
SIZES = {"wide": 15, "compact": 25}


#: Words of a search that are looked for; and up to how many visits that say one are named to the database.
MOST_WORDS, MOST_SAID = 8, 5000


@dataclass(frozen=True)
class Named:
    """The sites and people whose names hold a word, and the visits that say it, by id; None where those are many."""

    sites: Sequence[uuid.UUID]
    people: Sequence[uuid.UUID]
    visits: Sequence[uuid.UUID] | None


@dataclass(frozen=True)
class Search:
    """What to look for; empty fields do not narrow. Days are those of the site's own clock, of `zone` where there is no site.

    quantity, backing, worth, decision : of one and the same reading
    signed : of a visit: "yes" where all of it is signed, "no" where something waits; of a reading likewise
    words : in the names of site, client and person, in notes, and in the reasons of readings
    named : whose names hold each word, where that was looked up, see `with_names`
    """

    client_id: uuid.UUID | None = None
    site_id: uuid.UUID | None = None
    round_id: uuid.UUID | None = None
    person_id: uuid.UUID | None = None
    quantity: str = ""
    backing: str = ""
    worth: str = ""
    decision: str = ""
    signed: str = ""
    words: str = ""
    since: date | None = None
    until: date | None = None
    zone: tzinfo = UTC
    sort: str = "newest"
    page: int = 1
    size: int = SIZES["wide"]
    named: Mapping[str, Named] | None = None


def of_reading(search: Search, reading: Any = Reading) -> list[ColumnElement[bool]]:
    """What the search asks of one reading itself."""
    found = []
    if search.quantity:
        found.append(reading.quantity == search.quantity)
    if search.backing:
        found.append(reading.backing == search.backing)
    if search.decision:
        decided = select(Decision.id).where(Decision.decision == search.decision)
        found.append(reading.decision_id.in_(decided))
    if search.worth:
        found.append(
            {
                # As the indexes have it that find the few among the many.
                "exceeded": reading.outcome == literal_column("'exceeded'"),
                "cannot tell": reading.outcome == "cannot tell",
                "questioned": reading.flag == literal_column("3"),
                "failed": reading.flag == literal_column("4"),
                "mended": and_(reading.version > 1, reading.decision_id.is_(None)),
            }[search.worth]
        )
    return found


def of_visit(search: Search, at: Any = Visit.at) -> list[ColumnElement[bool]]:
    """What the search asks of a visit and its site, both joined to the query.

    at : the moment whose day is meant
    """
    found: list[ColumnElement[bool]] = []
    if search.client_id:
        found.append(Site.client_id == search.client_id)
    if search.site_id:
        found.append(Visit.site_id == search.site_id)
    if search.person_id:
        found.append(Visit.operator_id == search.person_id)
    if search.round_id:
        found.append(Visit.outing_id.in_(select(Outing.id).where(Outing.round_id == search.round_id)))
    found += on_days(search, at, Site.zone)
    return found + _says_all(search)


@cache
def is_in_place() -> ColumnElement[bool]:
    """A visit that was moved to its right site is found there alone; one that was brought in and taken back nowhere."""
    moved = select(VisitMove.visit_id).where(VisitMove.visit_id == Visit.id)
    return and_(~moved.exists(), or_(Visit.source != "imported", reads()))


def reads(*conditions: ColumnElement[bool]) -> ColumnElement[bool]:
    """Where a visit has a standing reading of which all this is true."""
    return select(Reading.id).where(Reading.visit_id == Visit.id, is_standing(), *conditions).exists()


def waits(reading: Any = Reading) -> ColumnElement[bool]:
    """Where a reading is not signed yet."""
    return select(Unsigned.reading_id).where(Unsigned.reading_id == reading.id).exists()


def on_days(search: Search, at: Any, zone: Any) -> list[ColumnElement[bool]]:
    """Where a moment lies on the days of the search by the clock of `zone`, a column or a name.

    The wide bounds in UTC let an index of time do the work.
    """
    local = func.timezone(zone, at)
    found: list[ColumnElement[bool]] = []
    if search.since:
        start = datetime.combine(search.since, time())
        found += [at >= (start - timedelta(hours=15)).replace(tzinfo=UTC), local >= start]
    if search.until:
        end = datetime.combine(search.until + timedelta(days=1), time())
        found += [at < (end + timedelta(hours=15)).replace(tzinfo=UTC), local < end]
    return found


def holds(column: Any, word: str) -> ColumnElement[bool]:
    """Where a text holds a word, in letters of either size."""
    contains: ColumnElement[bool] = column.icontains(word, autoescape=True)
    return contains


def _says_all(search: Search) -> list[ColumnElement[bool]]:
    """Where a visit's names, notes or reasons hold every word of the search."""
    named = search.named or {}
    # Words that no name holds are in the notes and reasons of known visits: those of all such words are met here, for the
    # database would try every one of the first with every one of the second.
    said = {w: set(n.visits) for w, n in named.items() if n.visits is not None and not n.sites and not n.people}
    found = [_says(word, named.get(word)) for word in _words(search) if word not in said]
    if said:
        found.append(among(Visit.id, set.intersection(*said.values())))
    return found


def _says(word: str, named: Named | None) -> ColumnElement[bool]:
    """Where a visit's names, notes or reasons hold a word."""
    if named is None:
        sites, people = _of_name(word)
        return or_(Visit.site_id.in_(sites), Visit.operator_id.in_(people), Visit.id.in_(_said(word)))
    # Where names alone hold it, their indexes tell the visits; where none does, the few that say it are all there are.
    known = ((Visit.site_id, named.sites), (Visit.operator_id, named.people), (Visit.id, named.visits))
    found = [among(column, ids) for column, ids in known if ids]
    return or_(false(), *found, *([Visit.id.in_(_said(word))] if named.visits is None else []))


def _said(word: str) -> CompoundSelect[Any]:
    """The visits of whose notes, or the reasons of whose readings, one holds a word."""
    noted = select(VisitNote.visit_id).where(VisitNote.kind == "note", holds(VisitNote.body.cast(Text), word))
    some = Reading.reason != literal_column("''")  # as the index has it that finds them
    reasoned = select(Reading.visit_id).where(some, holds(Reading.reason, word), is_standing())
    return union_all(noted, reasoned)


def _of_name(word: str) -> tuple[Select[uuid.UUID], Select[uuid.UUID]]:
    """The sites and the people whose name, or whose client's, holds a word."""
    owned = select(Client.id).where(holds(Client.name, word))
    sites = select(Site.id).where(or_(holds(Site.name, word), Site.client_id.in_(owned)))
    return sites, select(User.id).where(holds(User.name, word))


def with_names(session: Session, search: Search) -> Search:
    """The search with its words looked up among the names, by one query; the database finds visits by them the sooner."""
    if not (words := _words(search)):
        return search
    asked: list[Any] = []
    for word in words:
        sites, people = _of_name(word)
        said = select(_said(word).subquery().c.visit_id).limit(MOST_SAID + 1)
        asked += [func.array(found.scalar_subquery()) for found in (sites, people, said)]
    found = session.execute(select(*asked)).one()
    each = zip(words, found[0::3], found[1::3], found[2::3], strict=True)
    named = {w: Named(sites, people, said if len(said) <= MOST_SAID else None) for w, sites, people, said in each}
    return replace(search, named=named)


def _words(search: Search) -> list[str]:
    return search.words.split()[:MOST_WORDS]
