"""A client's waters over a period: what was read at each site, what exceeded a limit, and what it all rests on."""

from __future__ import annotations

import statistics
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session, defer, joinedload, lazyload

from brumel.core.sentence import Amount, Sentence, say
from brumel.store.records import Closing, Unsigned
from brumel.store.rounds import Photo, VisitNote
from brumel.store.standing import is_standing
from brumel.store.tables import Calibration, Client, Reading, Site, Visit
from brumel.work.desk import NotFound, object_id
from brumel.work.quantities import names as quantity_names
from brumel.work.records.narrowing import Search, is_in_place, of_visit
from brumel.work.records.review import Asked, questions
from brumel.work.records.visits import in_a_row

#: The most visits that one report holds; more is asked for in parts.
MOST_VISITS = 600


@dataclass(frozen=True)
class OfQuantity:
    """What a site read of one quantity in the period, oldest first; `reported` leaves out what is not reported."""

    quantity: str
    readings: list[Reading]

    @property
    def reported(self) -> list[Reading]:
        return [r for r in self.readings if r.backing != "not reported"]

    @property
    def unit(self) -> str:
        return self.readings[0].unit

    @property
    def low(self) -> float | None:
        return min((r.value for r in self.reported), default=None)

    @property
    def high(self) -> float | None:
        return max((r.value for r in self.reported), default=None)

    @property
    def median(self) -> float | None:
        return statistics.median(r.value for r in self.reported) if self.reported else None

    @property
    def exceeded(self) -> int:
        return sum(r.outcome == "exceeded" for r in self.reported)

    @property
    def doubtful(self) -> int:
        return sum(r.backing in ("doubtful", "unbacked") or r.flag > 2 for r in self.reported)


@dataclass(frozen=True)
class OfSite:
    """A site in the period."""

    site: Site
    visits: list[Visit]
    quantities: list[OfQuantity]


@dataclass(frozen=True)
class Exceedance:
    """A reading beyond its limit, and what was said and done about it."""

    reading: Reading
    done: list[str]


@dataclass(frozen=True)
class Report:
    """Everything of one client in a period; days are those of each site's clock."""

    client: Client
    since: date
    until: date
    sites: list[OfSite]
    exceedances: list[Exceedance]
    calibrations: list[tuple[Calibration, Closing | None]]
    notes: list[tuple[Visit, str]]
    photos: list[tuple[Visit, Photo]]
    unsigned: int
    #: readings that are not reported, and how many values are reported
    left_out: int = 0
    reported: int = 0
    summary: list[Sentence | str] = field(default_factory=list)


def client_of(session: Session, client_id: str) -> Client:
    """A client by the id in an address. Raises NotFound."""
    client = session.get(Client, object_id(client_id, "client"))
    if client is None:
        raise NotFound("There is no such client.")
    return client


def report(session: Session, client: Client, since: date, until: date) -> Report:
    """The client's waters from one day to another, both included."""
    search = Search(client_id=client.id, since=since, until=until)
    visits_of_it = (
        select(Visit).join(Site, Site.id == Visit.site_id).where(is_in_place(), *of_visit(search)).order_by(Visit.at)
    )
    visits = list(session.scalars(visits_of_it.options(*in_a_row(whole_site=True)).limit(MOST_VISITS + 1)))
    readings = _readings(session, [v.id for v in visits])
    by_id = {v.id: v for v in visits}
    notes = _notes(session, by_id)
    asked = questions(session, list(by_id))
    sites = _by_site(visits, readings)
    told = Report(
        client,
        since,
        until,
        sites,
        [Exceedance(r, _done(r, notes, asked)) for r in readings if r.outcome == "exceeded"],
        calibrations_behind(session, readings),
        [(by_id[visit_id], text) for visit_id, texts in notes.items() for text in texts],
        _photos(session, by_id),
        sum(1 for _ in _unsigned(session, readings)),
        sum(r.backing == "not reported" for r in readings),
        sum(r.backing != "not reported" for r in readings),
    )
    told.summary.extend(_in_words(told))
    return told


def _readings(session: Session, visit_ids: Sequence[uuid.UUID]) -> list[Reading]:
    query = (
        select(Reading)
        .where(Reading.visit_id.in_(visit_ids), is_standing(), Reading.role == "first")
        .options(lazyload("*"), defer(Reading.working), defer(Reading.settling))
        .order_by(Reading.at, Reading.id)
    )
    return list(session.scalars(query))


def _by_site(visits: Sequence[Visit], readings: Sequence[Reading]) -> list[OfSite]:
    sites: dict[uuid.UUID, tuple[Site, list[Visit]]] = {}
    for visit in visits:
        sites.setdefault(visit.site_id, (visit.site, []))[1].append(visit)
    of: dict[uuid.UUID, dict[str, list[Reading]]] = {}
    for row in readings:
        of.setdefault(row.site_id, {}).setdefault(row.quantity, []).append(row)

    def order(quantity: str) -> int:
        return quantity_names.ORDER.get(quantity, 99)

    return [
        OfSite(site, gone, [OfQuantity(q, of.get(site.id, {})[q]) for q in sorted(of.get(site.id, {}), key=order)])
        for site, gone in sorted(sites.values(), key=lambda pair: pair[0].name)
    ]


def _notes(session: Session, by_id: Mapping[uuid.UUID, Visit]) -> dict[uuid.UUID, list[str]]:
    found: dict[uuid.UUID, list[str]] = {}
    query = select(VisitNote).where(VisitNote.visit_id.in_(by_id), VisitNote.kind == "note").order_by(VisitNote.at)
    for note in session.scalars(query):
        found.setdefault(note.visit_id, []).append(str(note.body.get("text", "")))
    return found


def _photos(session: Session, by_id: Mapping[uuid.UUID, Visit]) -> list[tuple[Visit, Photo]]:
    query = select(Photo).where(Photo.visit_id.in_(by_id)).order_by(Photo.at)
    return [(by_id[photo.visit_id], photo) for photo in session.scalars(query)]


def _unsigned(session: Session, readings: Sequence[Reading]) -> set[uuid.UUID]:
    query = select(Unsigned.reading_id).where(Unsigned.reading_id.in_([r.id for r in readings]))
    return set(session.scalars(query))


def _done(
    reading: Reading, notes: Mapping[uuid.UUID, Sequence[str]], asked: Mapping[uuid.UUID, Sequence[Asked]]
) -> list[str]:
    """What was said about a reading: why it may be so, notes of its visit, and what the lead asked and heard."""
    said = [str(f["answer"]) for f in reading.findings if f.get("answer")]
    said += [reading.reason] if reading.reason else []
    said += notes.get(reading.visit_id, ())
    said += [f"{a.question.question} {a.answer.answer}" for a in asked.get(reading.visit_id, ()) if a.answer]
    return list(dict.fromkeys(said))


def calibrations_behind(session: Session, readings: Sequence[Reading]) -> list[tuple[Calibration, Closing | None]]:
    """Every calibration the readings rest on, oldest first, with the closing check that ended its span."""
    ids = {r.calibration_id for r in readings if r.calibration_id}
    last: dict[uuid.UUID, Closing] = {}
    for closing in session.scalars(
        select(Closing).where(Closing.calibration_id.in_(ids)).options(lazyload("*")).order_by(Closing.at)
    ):
        last[closing.calibration_id] = closing
    query = select(Calibration).where(Calibration.id.in_(ids)).order_by(Calibration.at)
    named = joinedload(Calibration.run)
    return [(c, last.get(c.id)) for c in session.scalars(query.options(named))]


def count_visits(session: Session, client: Client, since: date, until: date) -> int:
    """How many visits a report of this period would hold."""
    asked = of_visit(Search(client_id=client.id, since=since, until=until))
    query = select(func.count()).select_from(Visit).join(Site, Site.id == Visit.site_id).where(is_in_place(), *asked)
    return session.scalar(query) or 0


def readings_by_backing(session: Session, probe_id: uuid.UUID) -> dict[str, int]:
    """How many standing readings of a probe have what behind them."""
    query = select(Reading.backing, func.count()).where(Reading.probe_id == probe_id, is_standing())
    return dict(session.execute(query.group_by(Reading.backing)).tuples().all())


def _in_words(report: Report) -> list[Sentence | str]:
    """The summary, built from what was found."""
    visits = sum(len(s.visits) for s in report.sites)
    if not visits:
        return ["No site of this client was visited in this period."]
    lines: list[Sentence | str] = [
        say(
            "{sites} {places} visited {visits} {times}; {values} values are reported.",
            sites=len(report.sites),
            places="site was" if len(report.sites) == 1 else "sites were",
            visits=visits,
            times="time" if visits == 1 else "times",
            values=report.reported,
        )
    ]
    lines += _limits_in_words(report)
    if report.left_out:
        lines.append(
            say(
                "{n} {values} not reported, because their probe could not be relied on; no figure here counts them.",
                n=report.left_out,
                values="value is" if report.left_out == 1 else "values are",
            )
        )
    corrected = sum(r.backing == "corrected" for s in report.sites for q in s.quantities for r in q.reported)
    if corrected:
        lines.append(
            say(
                "{n} {values} corrected for the drift that a closing check found.",
                n=corrected,
                values="value was" if corrected == 1 else "values were",
            )
        )
    doubtful = sum(q.doubtful for s in report.sites for q in s.quantities)
    if doubtful:
        lines.append(
            say(
                "{n} {values} to be read with care: questioned by a test, doubtful, or without a valid calibration.",
                n=doubtful,
                values="value is" if doubtful == 1 else "values are",
            )
        )
    if report.unsigned:
        lines.append(
            say(
                "{n} {values} not signed yet, so this report is provisional.",
                n=report.unsigned,
                values="value is" if report.unsigned == 1 else "values are",
            )
        )
    return lines


def _limits_in_words(report: Report) -> list[Sentence | str]:
    limited = [(s, q) for s in report.sites for q in s.quantities if s.site.limits.get(q.quantity)]
    if not limited:
        return ["No limits are on record for these sites."]
    beyond = [(s, q) for s, q in limited if q.exceeded]
    if not beyond:
        return ["Every value that has a limit keeps it, or lies so near that its uncertainty leaves it open."]
    found = []
    for s, q in beyond:
        worst = max((r for r in q.reported if r.outcome == "exceeded"), key=lambda r: _beyond(r, s.site.limits))
        found.append(
            say(
                "{what} at {site} exceeded its limit {n} of {of} times, furthest with {worst} on {day}.",
                what=quantity_names.title(q.quantity),
                site=s.site.name,
                n=q.exceeded,
                of=len(q.reported),
                worst=Amount(worst.value, worst.unit, f".{quantity_names.digits(q.quantity)}f"),
                day=worst.at.astimezone(ZoneInfo(s.site.zone)).date(),
            )
        )
    return [*found]


def _beyond(reading: Reading, limits: Mapping[str, Any]) -> float:
    """How far a reading lies beyond the nearer of its limits, in its own unit."""
    ends = limits.get(reading.quantity, {})
    low, high = ends.get("low"), ends.get("high")
    return max(
        float(low) - reading.value if low is not None else 0.0, reading.value - float(high) if high is not None else 0.0
    )


def end_of(report: Report, zone: str) -> datetime:
    """The last moment of the period by a site's clock."""
    return datetime.combine(report.until + timedelta(days=1), time(), ZoneInfo(zone))
