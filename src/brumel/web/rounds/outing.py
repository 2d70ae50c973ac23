"""A round and its day: the plan, the packing list, the sites in their order, and coming home."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from datetime import date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from flask import flash, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.core.logged import days_until_full
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.drawings import site as site_drawings
from brumel.web.forms import WriteForm, parse_number
from brumel.web.rounds.routes import blueprint
from brumel.work import kit, rounds
from brumel.work.desk import Refused
from brumel.work.rounds import calendar, outings, packing, past, recurrence
from brumel.work.rounds import plan as day_plan

Faults = Sequence[InputError | Refused]


def asked_leave(planned: Any, now: datetime) -> tuple[datetime | None, list[InputError]]:
    """The time of leaving the page was asked for, "08:15", today where the round is."""
    text = request.args.get("leave", "").strip()
    if not text:
        return None, []
    try:
        hour, minute = (int(part) for part in text.split(":"))
        there = now.astimezone(ZoneInfo(planned.zone))
        return there.replace(hour=hour, minute=minute, second=0, microsecond=0), []
    except ValueError:
        return None, [InputError("leave", f"Leave at “{text[:20]}” is not a time; write it as 08:15.", value=text)]


@blueprint.get("/plans/<round_id>")
def round(round_id: str, faults: Faults = ()) -> Any:
    """A round: its sketch, its next days, and the plan up to leaving."""
    with desk().read() as session:
        now = desk().clock()
        planned_round = calendar.round_of(session, round_id)
        leave, wrong = asked_leave(planned_round, now)
        day = calendar.today_of(planned_round, now)
        leave = leave or calendar.leaving(planned_round, calendar.next_day(planned_round, day) or day)
        page = render_template(
            "rounds/round.html",
            round=planned_round,
            plan=day_plan.plan_day(session, planned_round, now, leave_at=leave),
            sketch=site_drawings.sketch(planned_round.sites),
            outing=outings.running(session, planned_round, day),
            today=day,
            days=_days(planned_round, day)[:6],
            recurs=recurrence.in_words(planned_round.rule),
            faults=[*faults, *wrong],
            zone=ZoneInfo(planned_round.zone),
        )
        return page, 422 if faults or wrong else 200


def _days(planned_round: Any, since: date) -> list[date]:
    """When the round is due in the two months from a day on; none where an old rule cannot be read."""
    try:
        return recurrence.occurrences(planned_round.rule, planned_round.starts, since, since + timedelta(days=60))
    except InputError:
        return []


@blueprint.post("/plans/<round_id>/begin")
def begin(round_id: str) -> Any:
    """Begin today's round, or go on with it."""
    form = WriteForm()

    def do() -> str:
        form.check()
        started = outings.start(desk(), actor(), form.write_key, round_id=round_id)
        return url_for("rounds.outing", outing_id=started.id)

    return answer(do, lambda faults: round(round_id, faults))


@blueprint.get("/outings")
def outings_gone() -> Any:
    """The outings that were gone, the newest first."""
    text = request.args.get("page", "1")
    wrong = not re.fullmatch(r"[1-9]\d{0,4}", text, re.ASCII)
    page = 1 if wrong else int(text)
    with desk().read() as session:
        rows, pages = past.outings_gone(session, page)
        faults = [InputError("page", f"Page “{text[:20]}” is not a page number.")] if wrong else []
        shown = render_template("rounds/outings.html", rows=rows, page=page, pages=pages, faults=faults)
        return shown, 422 if wrong else 200


@blueprint.get("/outings/<outing_id>")
def outing(outing_id: str, faults: Faults = ()) -> Any:
    """The day out: the packing list, the sites in their order, and at the end the closing checks."""
    with desk().read() as session:
        now = desk().clock()
        outing = outings.outing(session, outing_id)
        visits = {v.site_id: v for v in outings.visits_of(session, outing)}
        carried = outings.choice(session, outing.round, now)
        aboard = {c.probe.meter_id for some in carried.options.values() for c in some}
        recorded = kit.settings_of(session, list(aboard))
        full = None
        wrong: list[InputError] = []
        if request.args.get("records"):
            try:
                full = days_until_full(
                    parse_number("records", request.args["records"]) or 0,
                    parse_number("interval_min", request.args.get("interval_min", "")) or 0,
                )
            except InputError as error:
                wrong = list(error.faults)
        page = render_template(
            "rounds/outing.html",
            outing=outing,
            packing=packing.packing(session, outing.round, now, carried, recorded),
            visits=visits,
            kept=rounds.of_visits(session, [v.id for v in visits.values()]),
            to_close=outings.to_close(session, outing),
            settings=packing.settings(session, outing, now, carried, recorded),
            until_next=_until_next(outing, now),
            sketch=site_drawings.sketch(outing.round.sites),
            faults=[*faults, *wrong],
            full=full,
            args=request.args,
            chosen=carried.best(now),
        )
        return page, 422 if faults or wrong else 200


@blueprint.get("/outings/<outing_id>/kept")
def outing_kept(outing_id: str) -> Any:
    """What an outing left: readings, notes and photos by site, and its closing checks."""
    with desk().read() as session:
        outing = outings.outing(session, outing_id)
        visits = outings.visits_of(session, outing)
        ids = [v.id for v in visits]
        return render_template(
            "rounds/outing_kept.html",
            outing=outing,
            visits=visits,
            kept=rounds.of_visits(session, ids),
            besides=past.kept_on(session, ids),
        )


def _until_next(outing: Any, now: datetime) -> int | None:
    """Days until the round is due again, so that a logger's memory can be held against it."""
    today = calendar.today_of(outing.round, now)
    days = _days(outing.round, today + timedelta(days=1))
    return (days[0] - today).days if days else None


def _write(outing_id: str, do: Callable[[WriteForm], Any]) -> Any:
    form = WriteForm()

    def checked() -> None:
        form.check()
        do(form)

    return answer(checked, lambda faults: outing(outing_id, faults), url_for("rounds.outing", outing_id=outing_id))


@blueprint.post("/outings/<outing_id>/pack")
def pack(outing_id: str) -> Any:
    """What is on the packing list."""

    def do(form: WriteForm) -> None:
        packed = packing.pack(
            desk(), actor(), form.write_key, outing_id=outing_id, ticked=request.form.getlist("item")[:200]
        )
        flash(f"{packed.packed} things are on the packing list.", "note")

    return _write(outing_id, do)


@blueprint.post("/outings/<outing_id>/settings")
def confirm_settings(outing_id: str) -> Any:
    """The settings were checked before leaving."""

    def do(form: WriteForm) -> None:
        packing.confirm(
            desk(), actor(), form.write_key, outing_id=outing_id, settings_id=request.form.get("snapshot", "")
        )

    return _write(outing_id, do)


@blueprint.post("/outings/<outing_id>/back")
def come_back(outing_id: str) -> Any:
    """Back from the round."""
    return _write(outing_id, lambda form: outings.end(desk(), actor(), form.write_key, outing_id=outing_id))
