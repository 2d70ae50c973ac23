"""What each kind of document is made of, as values for its template."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any
from uuid import UUID

from sqlalchemy.orm import Session

from brumel.core.deployed.correction import COURSES
from brumel.core.errors import InputError
from brumel.core.sentence import say
from brumel.methods.glossary import load_glossary
from brumel.web.access import desk
from brumel.web.drawings import calibration as calibration_drawings
from brumel.web.drawings import deployment as deployment_drawings
from brumel.web.drawings import site as site_drawings
from brumel.web.drawings.site_past import at_depth
from brumel.web.units import scale_of
from brumel.work import kit
from brumel.work.quantities import names as quantity_names
from brumel.work.records import recorded, reports, review, visits
from brumel.work.rounds import deployments, logger, site_history
from brumel.work.rounds.deployments import channels
from brumel.work.rounds.deployments.looking import of_reported

#: Words of a document that its reader may not know, by the glossary's own.
EXPLAINED = (
    "expanded uncertainty",
    "calibration",
    "closing check",
    "closing check pending",
    "bracketed",
    "corrected",
    "doubtful",
    "no valid calibration",
    "not reported",
    "flagged",
    "second method",
)


@dataclass(frozen=True)
class Made:
    """A document before it is printed: its title, its template with its values, and whose it is."""

    title: str
    template: str
    values: Mapping[str, Any]
    client_id: UUID | None = None


@dataclass(frozen=True)
class Kind:
    """A kind of document. `takes` are the arguments that say of what it is made, `is_long` whether it is a job's work."""

    title: str
    takes: tuple[str, ...]
    make: Callable[[Session, Mapping[str, str]], Made]
    is_long: Callable[[Session, Mapping[str, str]], bool] = lambda session, asked: False


def _glossary() -> dict[str, str]:
    words = load_glossary()
    return {word: words[word] for word in EXPLAINED if word in words}


def _visit(session: Session, asked: Mapping[str, str]) -> Made:
    visit = recorded.visit_of(session, asked["visit"])
    (whole,) = recorded.recorded(session, [visit])
    return Made(
        f"Site visit, {visit.site.name}",
        "documents/visit.html",
        {
            "visits": [whole],
            "calibrations": reports.calibrations_behind(session, [r.reading for r in whole.readings]),
            "marks": visits.MARKS,
            "glossary": _glossary(),
        },
        visit.site.client_id,
    )


def _round(session: Session, asked: Mapping[str, str]) -> Made:
    outing = review.outing_of(session, asked["round"])
    found = recorded.recorded(session, review.visits_of(session, outing))
    owners = {each.visit.site.client_id for each in found}
    return Made(
        f"Round report, {outing.round.name}",
        "documents/round.html",
        {
            "outing": outing,
            "visits": found,
            "calibrations": reports.calibrations_behind(session, [r.reading for each in found for r in each.readings]),
            "marks": visits.MARKS,
            "glossary": _glossary(),
        },
        # A round through the waters of several clients belongs to none of them alone.
        owners.pop() if len(owners) == 1 else None,
    )


def period_of(asked: Mapping[str, str]) -> tuple[date, date]:
    """The period of a client's report. Raises InputError naming the field."""
    days = []
    for name, words in (("since", "From"), ("until", "Up to and with")):
        text = asked.get(name, "")
        try:
            days.append(datetime.strptime(text, "%Y-%m-%d").date())
        except ValueError:
            raise InputError(name, f"{words} “{text[:20]}” is not a date like 2026-05-31.", value=text[:20]) from None
    since, until = days
    if not 1990 <= since.year <= 2100 or not 1990 <= until.year <= 2100:
        raise InputError("since", "The period must lie between 1990 and 2100.")
    if until < since:
        raise InputError("until", "Up to and with lies before From.")
    if (until - since).days > LONGEST_DAYS:
        raise InputError("until", f"A report holds {LONGEST_DAYS} days at most; ask for it in parts.")
    return since, until


LONGEST_DAYS = 3 * 366


def _client(session: Session, asked: Mapping[str, str]) -> Made:
    since, until = period_of(asked)
    client = reports.client_of(session, asked["client"])
    told = reports.report(session, client, since, until)
    if sum(len(s.visits) for s in told.sites) > reports.MOST_VISITS:
        raise InputError("until", say("A report holds {n} visits at most; ask for fewer days.", n=reports.MOST_VISITS))
    charts = {of.site.id: _charts(session, of, told) for of in told.sites}
    values = {"report": told, "charts": charts, "glossary": _glossary()}
    return Made(f"Report, {client.name}", "documents/client.html", values, client.id)


def _charts(session: Session, of: reports.OfSite, told: reports.Report) -> list[dict[str, Any]]:
    """A drawing of every quantity that was read more than once, at the shallowest depth that is read there."""
    site, end = of.site, reports.end_of(told, of.site.zone)
    top = at_depth(site, None)
    readings = {
        q.quantity: [r for r in reversed(q.readings) if top is None or r.depth_m is None or r.depth_m <= top[1]]
        for q in of.quantities
    }
    seasons = site_history.seasons(session, site.id, list(readings), end, top)
    spans = site_history.spans(session, readings)
    drawn = []
    for quantity, rows in readings.items():
        if len(rows) > 1:
            behind = site_drawings.BehindReadings(
                site.ranges.get(quantity, {}),
                site.limits.get(quantity, {}),
                spans[quantity],
                seasons[quantity],
                scale_of(quantity),
                quantity != "temperature",
            )
            drawing = site_drawings.last_readings(rows, end, site.zone, behind, "end")
            drawn.append({"quantity": quantity, "unit": rows[0].unit, "drawing": drawing})
    return drawn


#: Visits in a period from which a report is made as long work.
LONG_VISITS = 24


def _is_long(session: Session, asked: Mapping[str, str]) -> bool:
    since, until = period_of(asked)
    return reports.count_visits(session, reports.client_of(session, asked["client"]), since, until) > LONG_VISITS


def _probe(session: Session, asked: Mapping[str, str]) -> Made:
    probe = kit.probe_of(session, asked["probe"])
    life = kit.life_of_probe(session, probe)
    return Made(
        f"Probe life, {probe.name}",
        "documents/probe.html",
        {
            "probe": probe,
            "life": life,
            "strips": calibration_drawings.history(life, count=40),
            "done": [(m, kit.maintenance_words(probe, m)[0]) for m in life.done],
            "trust": kit.trust_of(session, probe, desk().clock()),
            "backed": reports.readings_by_backing(session, probe.id),
            "quantity": quantity_names.short(probe.quantity),
        },
    )


def _deployment(session: Session, asked: Mapping[str, str]) -> Made:
    whole = deployments.whole_of(session, deployments.deployment_of(session, asked["deployment"]))
    d, told = whole.deployment, []
    for c in d.channels:
        reported = deployments.reported(session, whole, c)
        has_record = bool(reported.record.times_us.size)
        told.append(
            {
                "channel": c,
                "title": channels.title(c.quantity),
                "digits": channels.digits(c.quantity),
                "signed": whole.corrections[c.id],
                "marks": whole.marks[c.id],
                "drafts": deployments.draft(session, whole, c, reported.record)
                if channels.criteria(c.quantity)
                else [],
                "backed": deployments.backing(session, whole, c),
                "summary": deployments.summary(reported),
                "figures": of_reported(whole, c, reported) if has_record else None,
                "drawing": deployment_drawings.before_and_after(reported, whole, c, d.site.zone)
                if has_record
                else None,
            }
        )
    values = {
        "whole": whole,
        "d": d,
        "site": d.site,
        "span": whole.span(),
        "lasts": deployments.lasts(d),
        "told": told,
        "state": deployments.STATES[whole.state],
        "courses": COURSES,
        "mark_words": deployments.MARKS,
        "glossary": _glossary(),
    }
    return Made(f"Deployment report, {d.name}", "documents/deployment.html", values, d.site.client_id)


def _series(session: Session, asked: Mapping[str, str]) -> Made:
    series = logger.log(session, asked["series"])
    stands = logger.standing(session, series)
    (reported, *raw) = logger.bands(session, [(series, stands.by), *([(series, None)] if stands.by else [])])
    site = recorded.site_of(session, series.site_id)
    services = logger.services(session, series)
    return Made(
        f"Logger report, {site.name}",
        "documents/series.html",
        {
            "log": series,
            "site": site,
            "standing": stands,
            "services": services,
            "effect": logger.of_service(session, services[0]) if services else None,
            "decisions": logger.decisions_of(session, series),
            "decided": logger.DECIDED,
            "figures": logger.figures(session, series),
            "drawing": site_drawings.log_band(reported, site.zone, raw[0] if raw else None),
            "glossary": _glossary(),
        },
        site.client_id,
    )


KINDS = {
    "visit": Kind("Site visit sheet", ("visit",), _visit),
    "round": Kind("Round report", ("round",), _round),
    "client": Kind("Client report", ("client", "since", "until"), _client, _is_long),
    "probe": Kind("Probe life report", ("probe",), _probe),
    "series": Kind("Logger report", ("series",), _series),
    "deployment": Kind("Deployment report", ("deployment",), _deployment),
}
