"""Files of a logger: brought, previewed and mapped, taken in, withdrawn."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from flask import Response, flash, render_template, request, url_for

from brumel.core.errors import InputError, InputErrors
from brumel.formats.logger_files import ORDERS, Shape, ShapeColumn
from brumel.formats.logger_files.shape import FIXED, OFFSETS
from brumel.store.tables import User
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.deployments.place import Faults, blueprint
from brumel.web.deployments.routes import show
from brumel.web.forms import ReasonForm, WriteForm, text_of
from brumel.work import jobs
from brumel.work.rounds import deployments as dep
from brumel.work.rounds.deployments import channels
from brumel.work.rounds.deployments.series import clock_of
from brumel.work.rounds.deployments.whole import moment, told_of_clock
from brumel.work.rounds.sheet.photos import clean_name


@blueprint.post("/<deployment_id>/files")
def bring(deployment_id: str) -> Any:
    """A file of the logger; its columns are mapped on the next page."""
    form = WriteForm()

    def do() -> str:
        form.check()
        file = request.files.get("file")
        if file is None or not file.filename:
            raise InputError("file", "Choose the logger's file.")
        made = dep.arrive(
            desk(),
            actor(),
            form.write_key,
            deployment_id=deployment_id,
            name=clean_name(file.filename),
            data=file.read(),
        )
        return url_for("deployments.file", file_id=made.id)

    return answer(do, lambda faults: show(deployment_id, faults))


@blueprint.get("/files/<file_id>")
def file(file_id: str, faults: Faults = ()) -> Any:
    """How a file is read: what it shows of itself, and what only whoever set the logger knows; or how it was read."""
    with desk().read() as session:
        row = dep.file_of(session, file_id)
        d = dep.deployment_of(session, row.deployment_id)
        whole = dep.whole_of(session, d)
        state = next(f for f in whole.files if f.file.id == row.id)
        shared = {"d": d, "zone": d.site.zone, "state": state, "faults": faults, "orders": ORDERS}
        if state.intake is not None or state.end is not None:
            clock = clock_of(state.intake) if state.intake is not None else None
            shared |= {"columns": _columns(state.intake), "clock": clock, "clock_words": clock_words}
            page = render_template("deployments/file_kept.html", **shared)
            return page, 422 if faults else 200
        guess, is_known = dep.guess(session, row)
        page = render_template(
            "deployments/file.html",
            **shared,
            guess=guess,
            is_known=is_known,
            given=dict(request.form) or _as_guessed(guess.shape, d.site.zone),
            zones=_zones(d.site.zone, guess.shape.zone),
            recorded=[c.quantity for c in d.channels],
            units=list(dict.fromkeys(u for c in d.channels for u in channels.units(c.quantity) if u)),
            clock=[(moment(1e6 * c.true_s), c.ahead_s) for c, _ in told_of_clock(whole)],
        )
        return page, 422 if faults else 200


def _columns(intake: Any) -> list[Any]:
    return Shape.restored(intake.shape).columns if intake is not None else []  # type: ignore[return-value]


def clock_words(zone: str) -> str:
    """The clock a logger ran by, in words."""
    if zone == OFFSETS:
        return "as each line says, with its offset"
    if zone == "UTC":
        return "universal time"
    return f"always {zone[3:]}" if FIXED.match(zone) else f"{zone}, with summer time as it is there"


def _zones(of_site: str, told: str) -> dict[str, str]:
    """The clocks a logger may have run by, the file's own first where it says one."""
    if told == OFFSETS:
        return {OFFSETS: clock_words(OFFSETS)}
    found = {zone: clock_words(zone) for zone in ("UTC", of_site)}
    if told and told not in found:
        found = {told: f"{clock_words(told)}, as the file says", **found}
    return found | {"other": "another, always the same from universal time"}


def _as_guessed(shape: Shape, of_site: str) -> dict[str, str]:
    zone = shape.zone
    named = zone in ("", "UTC", OFFSETS, of_site) or bool(FIXED.match(zone))
    found = {"order": shape.order, "zone": zone if named else "", "clock": "yes"}
    for c in shape.columns:
        found |= {f"column_{c.place}": c.quantity, f"unit_{c.place}": c.unit}
    return found


def _mapped(guess: Any) -> dict[str, Any]:
    """The shape as the form has it. Raises every fault at once by the use case."""
    f, shape = request.form, guess.shape
    faults, zone = list[InputError](), f.get("zone", "")
    if zone == "other":
        zone = f.get("offset", "").strip().replace("−", "-")
        zone = zone if zone.startswith("UTC") else f"UTC{zone}"
        if not FIXED.match(zone) or zone == "UTC":
            faults.append(
                InputError("offset", "Write how far its clock was from universal time, as +01:00.", value=zone[:20])
            )
    elif not zone:
        faults.append(InputError("zone", "Say which clock the logger ran by."))
    columns = [
        ShapeColumn(place, f[f"column_{place}"], f.get(f"unit_{place}", ""))
        for place in range(len(guess.heads))
        if f.get(f"column_{place}")
    ]
    order = f.get("order", "") or shape.order
    if order not in guess.orders:
        faults.append(InputError("order", "Say what comes first in its dates, the day or the month."))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return replace(shape, zone=zone, order=order, columns=tuple(columns)).as_dict()


@blueprint.post("/files/<file_id>/take")
def take(file_id: str) -> Any:
    """Read a file as it is mapped; a large one is a job."""
    form = WriteForm()

    def do() -> str:
        form.check()
        with desk().read() as session:
            row = dep.file_of(session, file_id)
            guess, _ = dep.guess(session, row)
            size, deployment, name = row.size, str(row.deployment_id), row.name
        asked: dict[str, Any] = {
            "file_id": file_id,
            "shape": _mapped(guess),
            "put_clock_right": request.form.get("clock") == "yes",
        }
        if size > dep.AT_ONCE:
            job = jobs.ask(
                desk(),
                actor(),
                form.write_key,
                kind="logger",
                title=f"A logger's file: {name}",
                asked={**asked, "key": str(uuid.uuid4())},
            )
            return url_for("jobs.job", job_id=job.id)
        made = dep.take_in(desk(), actor(), form.write_key, **asked)
        flash(_words(made), "note")
        return url_for("deployments.show", deployment_id=deployment)

    return answer(do, lambda faults: file(file_id, faults), url_for("deployments.file", file_id=file_id))


def _words(made: dep.TakenIn) -> str:
    there = f"; {made.there} stood there already with the same values" if made.there else ""
    gaps = f"; {made.gaps} gap{'s' if made.gaps > 1 else ''}" if made.gaps else ""
    return f"{made.new} records taken in{there}{gaps}."


def take_as_job(asker: User, asked: Mapping[str, Any], tell: jobs.Tell) -> jobs.Done:
    """The job "logger": the same for a file that takes longer than a page may be waited for."""
    made = dep.take_in(
        desk(),
        asker,
        uuid.UUID(str(asked["key"])),
        file_id=str(asked["file_id"]),
        shape=dict(asked["shape"]),
        put_clock_right=bool(asked["put_clock_right"]),
        tell=tell,
    )
    tell(1, 1)
    return jobs.Done("taken-in.txt", "text/plain", _words(made).encode())


def check(asked: Mapping[str, Any]) -> None:
    """Such a job is asked for on the page of its file alone."""
    raise InputError("kind", "A logger's file is taken in on its own page.")


@blueprint.post("/files/<file_id>/withdraw")
def withdraw(file_id: str) -> Any:
    """It is the wrong file."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        made = dep.withdraw(desk(), actor(), form.write_key, file_id=file_id, reason=text_of(form.reason))
        flash("Withdrawn. The right file can be taken in now.", "note")
        return url_for("deployments.show", deployment_id=made.id)

    return answer(do, lambda faults: file(file_id, faults), url_for("deployments.file", file_id=file_id))


@blueprint.get("/files/<file_id>/as-it-came")
def raw(file_id: str) -> Any:
    """The file as it came."""
    with desk().read() as session:
        row = dep.file_of(session, file_id)
        response = Response(dep.body_of(row), mimetype="application/octet-stream")
        response.headers["Content-Disposition"] = f'attachment; filename="{clean_name(row.name)}"'
        return response
