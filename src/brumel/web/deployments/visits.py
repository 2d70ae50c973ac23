"""Service visits: the page that leads through one, with a signal or without, what was noted, and its corrections."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from flask import Response, flash, jsonify, make_response, redirect, render_template, request, url_for
from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel import __version__
from brumel.core.deployed.service import ServiceReading, Standard
from brumel.core.errors import InputError
from brumel.store.tables import Lot
from brumel.web.access import actor, desk
from brumel.web.deployments.place import Faults, blueprint, checkable
from brumel.web.forms import FormDoor, ReasonForm, local_time, text_of
from brumel.web.reader import in_words
from brumel.work import kit
from brumel.work.desk import MovedOn, NotFound, Refused
from brumel.work.rounds import deployments as dep
from brumel.work.rounds.deployments import channels
from brumel.work.rounds.deployments.plan import standards_for

MOST_PHOTOS = 6
#: What the browser keeps beside the page itself.
KEPT = (
    "css/ink.css",
    "css/book.css",
    "css/drawn.css",
    "css/field.css",
    "css/deployments.css",
    "vendor/bootstrap.css",
    "vendor/idb.js",
    "js/service.js",
    "js/field/photos.js",
    "js/kept.js",
    "js/root.js",
    "js/keys.js",
    "js/session.js",
    "img/mark.svg",
)


@blueprint.get("/<deployment_id>/service")
def service(deployment_id: str, faults: Faults = ()) -> Any:
    """The page of a visit at the water; the browser keeps it, and what is typed in it, without a signal."""
    with desk().read() as session:
        d = dep.deployment_of(session, deployment_id)
        whole = dep.whole_of(session, d)
        old_id = request.values.get("service", "")
        old = dep.service_of(session, old_id) if old_id else None
        probes = kit.probes_in_service(session)
        page = make_response(
            render_template(
                "deployments/service.html",
                d=d,
                zone=d.site.zone,
                whole=whole,
                checked=checkable(whole),
                resets=dep.RESETS,
                swaps={
                    c.quantity: [p for p in probes if p.quantity == c.quantity and p.id != c.probe_id]
                    for c in checkable(whole)
                },
                given=dict(request.form) or (_as_noted(old, ZoneInfo(d.site.zone)) if old else {}),
                old=old,
                faults=faults,
                meters=sorted({p.meter for p in probes if p.meter_id != d.meter_id}, key=lambda m: m.name),
                lots={c.quantity: several for c, several in standards_for(session, d, desk().clock())},
                kept=[url_for("static", filename=name) for name in KEPT],
            )
        )
        page.status_code = 422 if faults else 200
        page.headers["X-Brumel-User"] = str(actor().id)
        page.headers["X-Brumel-Version"] = __version__
        return page


def _as_noted(old: Any, zone: ZoneInfo) -> dict[str, str]:
    """The form as a visit was noted."""

    def local(text: str | None) -> str:
        return datetime.fromisoformat(text).astimezone(zone).strftime("%Y-%m-%dT%H:%M:%S") if text else ""

    body = old.body
    clock = body.get("clock") or {}
    found = {
        "at": local(old.at.isoformat()),
        "back_at": local(body.get("back_at")),
        "found": body.get("found", ""),
        "done": body.get("done", ""),
        "logger_at": local(clock.get("logger")),
        "true_at": local(clock.get("true")),
        "clock_set": "yes" if clock.get("set") else "",
        "battery_percent": "" if body.get("battery_percent") is None else f"{body['battery_percent']:g}",
        "memory_percent": "" if body.get("memory_percent") is None else f"{body['memory_percent']:g}",
        "seen": "yes" if body.get("seen") else "",
        "lifts": "yes" if body.get("lifts") else "",
        "beside": body.get("beside_id", ""),
    }
    for quantity in body.get("channels", {}):
        told = dep.reading_of(old, quantity)
        assert told is not None  # it stands there
        for name in ("before", "after", "beside_before", "beside_after"):
            value = getattr(told.read, name)
            found[f"{quantity}_{name}"] = "" if value is None else f"{value:.10g}"
        for name, several in (("standard", told.read.standards), ("reset", told.read.reset)):
            for number, s in enumerate(several, 1):
                found |= {
                    f"{quantity}_{name}{number}_read": f"{s.read:.10g}",
                    f"{quantity}_{name}{number}_value": f"{s.value:.10g}",
                }
        found |= {f"{quantity}_lot{n}": lot for n, lot in enumerate(told.lots, 1)}
        found |= {f"{quantity}_was": told.reset, f"{quantity}_probe": told.probe_id}
    return found


def _typed_visit(d: Any) -> dep.ServiceVisit:
    """The visit of the sent form. Raises every fault at once, each with its field."""
    door, f, zone = FormDoor(), request.form, ZoneInfo(d.site.zone)
    moments: dict[str, datetime | None] = {}
    for name, words in (
        ("at", "Out of the water at"),
        ("back_at", "Back in the water at"),
        ("logger_at", "The logger's clock"),
        ("true_at", "The time"),
    ):
        try:
            moments[name] = local_time(name, words, zone)
        except InputError as error:
            door.faults.extend(error.faults)
    if not f.get("at", "").strip():
        door.faults.append(InputError("at", "Out of the water at: this is missing."))
    battery, memory = door.number("battery_percent", "Battery"), door.number("memory_percent", "Memory")
    by_channel = {}
    for c in d.channels:
        if channels.criteria(c.quantity) is not None and (told := _typed_channel(door, c.quantity)) is not None:
            by_channel[c.quantity] = told
    photos = request.files.getlist("photo")[: MOST_PHOTOS + 1]
    if len(photos) > MOST_PHOTOS:
        door.faults.append(InputError("photo", f"A visit takes {MOST_PHOTOS} photos at once."))
    door.close()
    at = moments["at"]
    assert at is not None  # the door was open otherwise
    return dep.ServiceVisit(
        at=at,
        back_at=moments["back_at"],
        by_channel=by_channel,
        found=f.get("found", ""),
        done=f.get("done", ""),
        logger_at=moments["logger_at"],
        true_at=moments["true_at"],
        clock_set=f.get("clock_set") == "yes",
        battery_percent=battery,
        memory_percent=memory,
        seen=f.get("seen") == "yes",
        lifts=f.get("lifts") == "yes",
        outing_id=f.get("outing", ""),
        beside_id=f.get("beside", ""),
        photos=[(p.filename or "photo.jpg", p.read()) for p in photos if p.filename],
    )


def _typed_channel(door: FormDoor, quantity: str) -> dep.ChannelService | None:
    title = channels.title(quantity)

    def number(name: str, words: str) -> float | None:
        return door.number(f"{quantity}_{name}", f"{title}, {words}")

    plain = {
        "before": number("before", "before cleaning"),
        "after": number("after", "after cleaning"),
        "beside_before": number("beside_before", "checking instrument before"),
        "beside_after": number("beside_after", "checking instrument after"),
    }
    several: dict[str, list[Standard]] = {"standard": [], "reset": []}
    for name, found in several.items():
        for n in (1, 2):
            words = f"standard {n}" + (" again" if name == "reset" else "")
            read, value = number(f"{name}{n}_read", f"{words}, read"), number(f"{name}{n}_value", f"{words}, its value")
            if (read is None) != (value is None):
                missing = "its value" if value is None else "what was read in it"
                field = f"{quantity}_{name}{n}_{'value' if value is None else 'read'}"
                if not any(x.field == field for x in door.faults):
                    door.faults.append(InputError(field, f"{title}, {words}: {missing} is missing."))
            elif read is not None and value is not None:
                found.append(Standard(read, value))
    was = request.form.get(f"{quantity}_was", "")
    if not any(v is not None for v in plain.values()) and not several["standard"] and not several["reset"] and not was:
        return None
    read_ = ServiceReading(
        **plain, standards=tuple(several["standard"]), reset=tuple(several["reset"]), was_reset=bool(was)
    )
    probe = request.form.get(f"{quantity}_probe", "") if was == "swapped" else ""
    lots = tuple(request.form.get(f"{quantity}_lot{n}", "") for n in (1, 2)) if several["standard"] else ()
    return dep.ChannelService(read_, was, probe, lots)


@blueprint.post("/<deployment_id>/service")
def keep_service(deployment_id: str) -> Any:
    """A visit of the form, or one that waited in the browser: 409 something moved on, 422 something to put right."""
    queued = request.headers.get("Accept", "") == "application/json"
    form = ReasonForm()
    try:
        form.check()
        with desk().read() as session:
            d = dep.deployment_of(session, deployment_id)
            _ = d.channels, d.site
            visit = _typed_visit(d)
        kept = dep.record(
            desk(),
            actor(),
            form.write_key,
            deployment_id=deployment_id,
            visit=visit,
            service_id=request.form.get("service", ""),
            reason=text_of(form.reason),
            version=form.turn_number,
        )
    except (InputError, MovedOn, NotFound, Refused) as error:
        faults: Any = error.faults if isinstance(error, InputError) else (error,)
        if queued:
            return _told(faults, 409 if isinstance(error, MovedOn) else 422)
        if isinstance(error, NotFound):
            raise
        return service(deployment_id, faults)
    onward = url_for("deployments.visit", service_id=kept.id)
    if queued:
        return jsonify({"key": str(form.write_key), "visit": onward})
    flash("Recorded.", "note")
    return redirect(onward)


def _told(faults: Any, status: int) -> Response:
    listed = [{"field": getattr(f, "field", ""), "words": in_words(f)} for f in faults]
    response = jsonify({"message": " ".join(each["words"] for each in listed), "faults": listed})
    response.status_code = status
    return response


@blueprint.get("/service/<service_id>")
def visit(service_id: str) -> Any:
    """One service visit as it stands, what it says of each channel, and its earlier versions."""
    with desk().read() as session:
        row = dep.service_of(session, service_id)
        d = dep.deployment_of(session, row.deployment_id)
        told = []
        for c in d.channels:
            read = dep.reading_of(row, c.quantity)
            if read is None:
                continue
            level = dep.level_read(read)
            told.append((c, read, dep.errors_of(row, c, level), level))
        return render_template(
            "deployments/visit.html",
            d=d,
            zone=d.site.zone,
            service=row,
            told=told,
            clock=_clock(row),
            beside=kit.meter_of(session, row.body["beside_id"]) if row.body.get("beside_id") else None,
            lots=_lots(session, told),
            resets=dep.RESETS,
            versions=dep.versions_of(session, row),
            back_at=dep.back_at(row),
        )


def _lots(session: Session, told: list[Any]) -> dict[str, Lot]:
    """The lots that were named, by id."""
    ids = {lot for _, read, _, _ in told for lot in read.lots if lot}
    return {str(lot.id): lot for lot in session.scalars(select(Lot).where(Lot.id.in_(ids)))} if ids else {}


def _clock(row: Any) -> tuple[datetime, datetime, float, bool] | None:
    """What the logger showed, the time, by how much it was ahead [s], and whether it was set."""
    clock = row.body.get("clock")
    if not clock:
        return None
    shown, true = datetime.fromisoformat(clock["logger"]), datetime.fromisoformat(clock["true"])
    return shown, true, (shown - true).total_seconds(), bool(clock.get("set"))
