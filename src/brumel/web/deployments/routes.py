"""Deployments listed, planned, and followed from being configured to being lifted."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from flask import flash, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.store.deployments import Deployment
from brumel.store.tables import Site
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.deployments.place import Faults, blueprint, given
from brumel.web.forms import FormDoor, ReasonForm, WriteForm, local_time, text_of
from brumel.web.reader import in_words
from brumel.work import kit, rounds
from brumel.work.rounds import deployments as dep
from brumel.work.rounds.deployments import channels

#: The units an interval is typed in [s].
INTERVALS = {"s": 1.0, "min": 60.0, "h": 3600.0}


@blueprint.get("")
def index() -> Any:
    """What is out, what is planned, what is over; and what live loggers have noticed."""
    with desk().read() as session:
        under = dep.under_way(session)
        over = [d for d in dep.deployments(session) if d.next_at is None]
        return render_template(
            "deployments/index.html",
            under=[(d, dep.next_words(d)) for d in under],
            over=over,
            states=dep.STATES,
            now=desk().clock(),
            alarms=[(a, dep.sentence(a)) for a in dep.alarms(session)],
        )


@blueprint.get("/plan")
def plan(faults: Faults = ()) -> Any:
    """A deployment to plan, or a plan to change."""
    with desk().read() as session:
        known = request.values.get("deployment", "")
        d = dep.deployment_of(session, known) if known else None
        sites = [s for s in rounds.sites_by_client(session) if s.retired_at is None]
        probes = kit.probes_in_service(session)
        page = render_template(
            "deployments/plan.html",
            deployment=d,
            sites=sites,
            meters=kit.meters_in_service(session),
            probes={q: [p for p in probes if p.quantity == q] for q in channels.known()},
            quantities=channels.known(),
            intervals=INTERVALS,
            given=given() or _as_planned(d, request.args.get("site", ""), desk().clock()),
            lasts=dep.lasts(d) if d else None,
            faults=faults,
        )
        return page, 422 if faults else 200


def _as_planned(d: Any, site: str, now: datetime) -> dict[str, str]:
    """The form as it stands for a plan, or with what a new one begins with."""
    if d is None:
        return {"site": site, "interval_unit": "min"}
    zone = ZoneInfo(d.site.zone)
    unit = next(u for u in ("h", "min", "s") if d.interval_s % INTERVALS[u] == 0 or u == "s")

    def text(value: Any) -> str:
        return "" if value is None else f"{value:g}"

    found = {
        "site": str(d.site_id),
        "meter": str(d.meter_id),
        "name": d.name,
        "depth_m": text(d.depth_m),
        "interval": text(d.interval_s / INTERVALS[unit]),
        "interval_unit": unit,
        "memory_records": text(d.memory_records),
        "battery_days": text(d.battery_days),
        "planned_start": d.planned_start.astimezone(zone).strftime("%Y-%m-%dT%H:%M"),
        "planned_end": d.planned_end.astimezone(zone).strftime("%Y-%m-%dT%H:%M"),
        "set_salinity": text(d.oxygen_set.get("salinity")),
        "set_pressure_hpa": text(d.oxygen_set.get("pressure_hpa")),
        "note": d.note,
    }
    for c in d.channels:
        found |= {f"channel_{c.quantity}": "yes", f"probe_{c.quantity}": str(c.probe_id or "")}
    return found


@blueprint.post("/plan")
def save() -> Any:
    """Keep a plan."""
    form = WriteForm()

    def do() -> str:
        form.check()
        with desk().read() as session:
            site = rounds.site_of(session, request.form.get("site", "")) if request.form.get("site") else None
        new = _typed_plan(site)
        made = dep.save(desk(), actor(), form.write_key, new=new, deployment_id=request.form.get("deployment", ""))
        flash("Planned. Its calibrations and what is packed stand on its page.", "note")
        return url_for("deployments.show", deployment_id=made.id)

    return answer(do, plan)


def _typed_plan(site: Site | None) -> dep.NewDeployment:
    door = FormDoor()
    f = request.form
    if site is None:
        door.faults.append(InputError("site", "Choose the site."))
    if not f.get("meter"):
        door.faults.append(InputError("meter", "Choose the instrument."))
    zone = ZoneInfo(site.zone if site else "UTC")
    moments = {}
    for name, words in (("planned_start", "Set out on"), ("planned_end", "Lifted on")):
        try:
            moments[name] = local_time(name, words, zone)
            if moments[name] is None:
                door.faults.append(InputError(name, f"{words}: this is missing."))
        except InputError as error:
            door.faults.extend(error.faults)
    interval = door.number("interval", "Interval")
    if interval is None and not any(x.field == "interval" for x in door.faults):
        door.faults.append(InputError("interval", "Interval: how often it records is missing."))
    unit = INTERVALS.get(f.get("interval_unit", ""))
    if unit is None:
        door.faults.append(InputError("interval_unit", "An interval is in s, min or h."))
    numbers = {
        name: door.number(name, words)
        for name, words in (
            ("depth_m", "Depth"),
            ("memory_records", "Records its memory holds"),
            ("battery_days", "Days its batteries last"),
            ("set_salinity", "Salinity set in the logger"),
            ("set_pressure_hpa", "Pressure set in the logger"),
        )
    }
    door.close()
    assert interval is not None  # the door was open otherwise
    assert unit is not None
    return dep.NewDeployment(
        site_id=f.get("site", ""),
        meter_id=f.get("meter", ""),
        name=f.get("name", "")[:200],
        interval_s=interval * unit,
        planned_start=moments["planned_start"],  # type: ignore[arg-type]
        planned_end=moments["planned_end"],  # type: ignore[arg-type]
        channels=[
            dep.PlannedChannel(q, f.get(f"probe_{q}", "")) for q in channels.known() if f.get(f"channel_{q}") == "yes"
        ],
        note=f.get("note", "")[:2000],
        **numbers,
    )


@blueprint.get("/<deployment_id>")
def show(deployment_id: str, faults: Faults = ()) -> Any:
    """One deployment: where it stands, what is next, its visits, files, and what each channel is worth."""
    with desk().read() as session:
        now = desk().clock()
        d = dep.deployment_of(session, deployment_id)
        whole = dep.whole_of(session, d)
        started = whole.steps.get("started")
        is_out = started is not None and whole.state not in ("lifted", "cancelled")
        span = whole.span()
        page = render_template(
            "deployments/show.html",
            d=d,
            zone=d.site.zone,
            whole=whole,
            state=whole.state,
            state_words=dep.STATES[whole.state],
            lasts=dep.lasts(d),
            ready=dep.readiness(session, d, now) if started is None else None,
            next=dep.next_visit(d, started.at, whole.services) if is_out and started else None,
            stops_if_planned=_stops_if_planned(d),
            now=now,
            now_text=now.astimezone(ZoneInfo(d.site.zone)).strftime("%Y-%m-%dT%H:%M"),
            span=span,
            alarms=[(a, dep.sentence(a)) for a in dep.alarms(session, d.id)],
            sizes={s.root_id: dep.found_by(s, d) for s in whole.services},
            may_withdraw={f.file.id: dep.may_withdraw(actor().role, actor().id, whole, f.file) for f in whole.files},
            given=given(),
            faults=faults,
        )
        return page, 422 if faults else 200


def _stops_if_planned(d: Deployment) -> datetime | None:
    """When its memory is full or its battery flat, were it set out as planned; None where neither is known."""
    days = dep.lasts(d).first_d
    return d.planned_start + timedelta(days=days) if days is not None else None


# -- the steps


def _step(deployment_id: str, do: Any) -> Any:
    return answer(
        do, lambda faults: show(deployment_id, faults), url_for("deployments.show", deployment_id=deployment_id)
    )


def _at(deployment_id: str, field: str = "at", words: str = "At") -> datetime:
    """A time of the sent form by the site's clock; now where it was left empty."""
    with desk().read() as session:
        zone = ZoneInfo(dep.deployment_of(session, deployment_id).site.zone)
    return local_time(field, words, zone) or desk().clock()


@blueprint.post("/<deployment_id>/configure")
def configure(deployment_id: str) -> Any:
    """The logger is set and looked over."""
    form = WriteForm()

    def do() -> None:
        form.check()
        door = FormDoor()
        ahead = door.number("ahead_s", "Its clock is ahead by")
        door.close()
        dep.configure(
            desk(),
            actor(),
            form.write_key,
            deployment_id=deployment_id,
            looked_at=request.form.getlist("looked_at")[:20],
            at=_at(deployment_id),
            ahead_s=ahead,
        )
        flash("Configured. It does not record yet: start it, set it out, and see its first record.", "note")

    return _step(deployment_id, do)


@blueprint.post("/<deployment_id>/start")
def start(deployment_id: str) -> Any:
    """It was started and set out."""
    form = WriteForm()

    def do() -> None:
        form.check()
        dep.start(desk(), actor(), form.write_key, deployment_id=deployment_id, at=_at(deployment_id))
        flash("Started. It counts as recording once its first record was seen.", "note")

    return _step(deployment_id, do)


@blueprint.post("/<deployment_id>/confirm")
def confirm(deployment_id: str) -> Any:
    """Its first records were seen."""
    form = WriteForm()

    def do() -> None:
        form.check()
        door = FormDoor()
        count = door.number("count", "Records seen")
        if not request.form.get("first_at", "").strip():
            door.faults.append(InputError("first_at", "First record: its time is missing."))
        if count is None and not door.faults:
            door.faults.append(InputError("count", "Records seen: how many is missing."))
        door.close()
        dep.confirm(
            desk(),
            actor(),
            form.write_key,
            deployment_id=deployment_id,
            at=desk().clock(),
            first_at=_at(deployment_id, "first_at", "First record"),
            count=int(count or 0),
        )
        flash("Confirmed: it is recording.", "note")

    return _step(deployment_id, do)


@blueprint.post("/<deployment_id>/cancel")
def cancel(deployment_id: str) -> Any:
    """The plan is given up."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        dep.cancel(desk(), actor(), form.write_key, deployment_id=deployment_id, reason=text_of(form.reason))

    return _step(deployment_id, do)


@blueprint.post("/alarms/<alarm_id>/seen")
def seen_to(alarm_id: str) -> Any:
    """Somebody has seen to what a live logger's watch noticed."""
    form = WriteForm()

    def do() -> str:
        form.check()
        made = dep.seen_to(desk(), actor(), form.write_key, alarm_id=alarm_id)
        return url_for("deployments.show", deployment_id=made.id)

    def again(faults: Faults) -> Any:
        flash(" ".join(in_words(f) for f in faults), "care")
        return index(), 422

    return answer(do, again, url_for("deployments.index"))
