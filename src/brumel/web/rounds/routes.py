"""Rounds: the sites and what was read there."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from typing import Any

from flask import Blueprint, render_template, request, url_for
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.quantity_table import ON_SHEET
from brumel.methods.field import load_field
from brumel.store.tables import Site
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.drawings import site as site_drawings
from brumel.web.drawings.site_past import drawn as past_of
from brumel.web.drawings.site_past import readings_before
from brumel.web.forms import WriteForm
from brumel.work import kit, rounds
from brumel.work.desk import Refused
from brumel.work.quantities import names as quantity_names
from brumel.work.rounds import calendar, deployments, logger, outings, site_history

blueprint = Blueprint("rounds", __name__, template_folder="templates", url_prefix="/rounds")

Faults = Sequence[InputError | Refused]
SHOWN = ("temperature", "ph", "conductivity", "oxygen", "chlorine")


@blueprint.get("")
def index() -> Any:
    """The sites by client, with what they read last."""
    with desk().read() as session:
        every_site, every_round = rounds.sites_by_client(session, retired=True), calendar.rounds(session, retired=True)
        places = [s for s in every_site if s.retired_at is None]
        last = rounds.latest(session, [s.id for s in places], SHOWN)
        lines = [{"site": s, "last": {r.quantity: r for r in last[s.id]}} for s in places]
        going = [r for r in every_round if r.retired_at is None]
        ways = [(r, calendar.next_day(r, calendar.today_of(r, desk().clock()))) for r in going]
        return render_template(
            "rounds/index.html",
            lines=lines,
            shown=SHOWN,
            ways=ways,
            gone_sites=[s for s in every_site if s.retired_at is not None],
            gone_rounds=[r for r in every_round if r.retired_at is not None],
        )


#: how far back a site's page looks: at most so many readings of each quantity, so that five years stay quick
SPANS = {
    "season": ("the last 40 readings", 40),
    "year": ("the last 120", 120),
    "all": ("the last 300, five years of weeks", 300),
}


@blueprint.get("/sites/<site_id>")
def site(site_id: str, faults: Faults = ()) -> Any:
    """A site: its last readings drawn, and starting a visit."""
    with desk().read() as session:
        site = rounds.site_of(session, site_id)
        now = desk().clock()
        usual = set(site.ranges)
        meters = []
        every = kit.probes_at_hand(session)
        trusts = kit.trusts(session, every, now)
        for meter in sorted({p.meter for p in every}, key=lambda m: m.name):
            probes = [(p, trusts[p.id]) for p in every if p.meter_id == meter.id]
            if probes:
                meters.append((meter, sorted(probes, key=lambda line: quantity_names.ORDER[line[0].quantity])))
        wanted = kit.best_of([line for _, lines in meters for line in lines], usual)
        known = list(ON_SHEET)
        span = request.args.get("span", "season")
        span = span if span in SPANS else "season"
        rows = readings_before(session, site, known, SPANS[span][1])
        past = past_of(session, site, rows)
        deep = site_history.by_depth(session, site.id, site_drawings.DEEP) if site.depths else []
        last = site_history.last_profile(session, site.id) if site.depths else []
        page = render_template(
            "rounds/site.html",
            site=site,
            meters=meters,
            wanted=wanted,
            faults=faults,
            outing=request.values.get("outing", ""),
            given=request.form,
            source=request.form.get("source")
            or outings.usual_source(session, actor(), request.values.get("outing", ""))
            or ("live" if any(meter.link != "typed" for meter, _ in meters) else "typed"),
            **_logs(session, site),
            deployments=_deployments(session, site),
            probes=[p for _, lines in meters for p, _ in lines],
            quantities=list(ON_SHEET),
            spans={k: w for k, (w, _) in SPANS.items()},
            span=span,
            profile=site_drawings.profile(last),
            units=units(),
            sections=site_drawings.section(deep, site.zone),
            history={q: h for q, h in past.items() if h},
            **_last_visits(site, rows),
        )
        return page, 422 if faults else 200


def _deployments(session: Session, site: Site) -> list[tuple[Any, str]]:
    """The loggers that are or were left at this site, with what has happened to each last."""
    return [(d, deployments.STATES[d.state]) for d in deployments.deployments(session, site.id, whole=False)[:6]]


#: How many visits a site's page lists, and how many quantities of each.
VISITS_LISTED, MAIN_QUANTITIES = 8, 4


def _last_visits(site: Site, rows: Mapping[str, list[rounds.PastReading]]) -> dict[str, Any]:
    """The last visits with what the site is read for, {quantity: reading}, the newest first."""
    main = [q for q in ON_SHEET if q in site.ranges and rows.get(q)][:MAIN_QUANTITIES]
    visits: dict[uuid.UUID, dict[str, rounds.PastReading]] = {}
    for row in sorted((r for q in main for r in rows[q] if r.role == "first"), key=lambda r: r.at, reverse=True):
        visits.setdefault(row.visit_id, {}).setdefault(row.quantity, row)
    listed = list(visits.items())[:VISITS_LISTED]
    return {"main": main, "visits": [(visit_id, max(r.at for r in read.values()), read) for visit_id, read in listed]}


def _logs(session: Session, site: Site) -> dict[str, Any]:
    """The newest series of a site, drawn as they are reported, over what was recorded where they were corrected.

    With them those that were withdrawn, asked for by the same query.
    """
    every = logger.of_site(session, site.id, 12, withdrawn=None)
    stand = list(zip(every, logger.standings(session, every) if every else [], strict=True))
    kept = [(one, stands) for one, stands in stand if stands.state != "withdrawn"][:6]
    corrected = [one for one, stands in kept if stands.by]
    drawn = logger.bands(session, [*((one, s.by) for one, s in kept), *((one, None) for one in corrected)])
    before = dict(zip((one.id for one in corrected), drawn[len(kept) :], strict=True))
    return {
        "logs": [
            {**site_drawings.log_band(band, site.zone, before.get(one.id)), "words": stands.words}
            for (one, stands), band in zip(kept, drawn, strict=False)
        ],
        "withdrawn_logs": [one for one, stands in stand if stands.state == "withdrawn"],
    }


@blueprint.post("/sites/<site_id>")
def start(site_id: str) -> Any:
    """Open the sheet."""
    form = WriteForm()

    def do() -> str:
        form.check()
        started = rounds.start_visit(
            desk(),
            actor(),
            form.write_key,
            site_id=site_id,
            probes=request.form.getlist("probe")[:40],
            source=request.form.get("source", ""),
            outing_id=request.form.get("outing", ""),
        )
        return url_for("rounds.visit", visit_id=started.id)

    return answer(do, lambda faults: site(site_id, faults))


def units() -> dict[str, str]:
    """The unit of each quantity as its readings are kept; none for pH."""
    return {q: "" if q == "ph" else spec.unit for q, spec in load_field().items()}
