"""Kit: probes, solutions and methods as they stand; lots opened and discarded, upkeep, and what is due."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.core.ph import BUFFERS
from brumel.formats.calendar import write_calendar
from brumel.methods import load_method, load_methods
from brumel.methods.care import load_care
from brumel.web.access import actor, desk
from brumel.web.forms import NumberField, ReasonForm, WriteForm, text_of
from brumel.web.life import views as life_views
from brumel.work import kit, life, shelf
from brumel.work.desk import Refused

blueprint = Blueprint("kit", __name__, template_folder="templates", url_prefix="/kit")


class LotForm(WriteForm):
    expanded_uncertainty = NumberField("Uncertainty, k = 2", name_of="expanded_uncertainty")
    open_days = NumberField("Days it keeps once open", name_of="open_days")


class WaitForm(ReasonForm):
    hours = NumberField("Hours", name_of="hours", required=False)


@blueprint.get("")
def index(faults: Any = ()) -> Any:
    """Meters, probes and solutions with their state."""
    with desk().read() as session:
        now = desk().clock()
        probes = [{"probe": p, "trust": kit.trust(session, p, now)} for p in kit.probes(session)]
        page = render_template("kit/index.html", probes=probes, lots=kit.lots(session, now), faults=faults)
        return page, 422 if faults else 200


@blueprint.get("/probes/<probe_id>")
def probe(probe_id: str, faults: Any = ()) -> Any:
    """One probe: what it can be trusted for and how it has been ageing."""
    with desk().read() as session:
        found = kit.probe(session, probe_id)
        past = kit.calibrations(session, found.id, 30)
        lived = life.life(session, found)
        page = render_template(
            "kit/probe.html",
            kinds=shelf.kinds(found),
            waits={what: shelf.wait_h(found, what) for what in shelf.kinds(found)},
            upkeep=[(u, kit.upkeep_words(found, u)[0]) for u in shelf.history(session, found.id)],
            faults=faults,
            given=request.form, probe=found, trust=kit.trust(session, found, desk().clock()), past=past,
            life=lived, strips=life_views(lived, desk().clock()), run=kit.open_run(session, found.id),
            care=load_care().advice(found.quantity),
            cautions=load_care().cautions_at("handling", "cleaning", "solutions", quantity=found.quantity),
        )  # fmt: skip
        return page, 422 if faults else 200


@blueprint.get("/methods")
def methods() -> Any:
    """Every method with its sequence, limits and sources."""
    return render_template("kit/methods.html", methods=load_methods(), load=load_method)


@blueprint.get("/lots/new")
def new_lot(faults: Any = ()) -> Any:
    """The form of a new lot."""
    page = render_template("kit/lot_new.html", buffers=BUFFERS, faults=faults, given=request.form)
    return page, 422 if faults else 200


@blueprint.post("/lots/new")
def add_lot() -> Any:
    """Put a lot on the shelf."""
    form = LotForm()
    try:
        form.check()
        shelf.add_lot(
            desk(),
            actor(),
            form.write_key,
            shelf.NewLot(
                code=request.form.get("code", ""),
                name=request.form.get("name", ""),
                family=request.form.get("family", ""),
                label=request.form.get("label", ""),
                expanded_uncertainty=form.expanded_uncertainty.number,
                expires_on=request.form.get("expires_on", ""),
                open_days=form.open_days.number,
                single_use=request.form.get("single_use") == "yes",
            ),
        )
    except InputError as error:
        return new_lot(error.faults)
    flash("On the shelf.", "note")
    return redirect(url_for("kit.index"))


@blueprint.post("/lots/<lot_id>/open")
def open_lot(lot_id: str) -> Any:
    """The bottle was opened."""
    form = WriteForm()
    try:
        form.check()
        shelf.open_lot(desk(), actor(), form.write_key, lot_id=lot_id)
    except InputError as error:
        return index(error.faults)
    except Refused as error:
        return index((error,))
    return redirect(url_for("kit.index"))


@blueprint.post("/lots/<lot_id>/discard")
def discard_lot(lot_id: str) -> Any:
    """The lot was poured away."""
    form = ReasonForm()
    try:
        form.check()
        shelf.discard_lot(desk(), actor(), form.write_key, lot_id=lot_id, reason=text_of(form.reason))
    except InputError as error:
        return index(error.faults)
    except Refused as error:
        return index((error,))
    return redirect(url_for("kit.index"))


@blueprint.post("/probes/<probe_id>/upkeep")
def record_upkeep(probe_id: str) -> Any:
    """Something was done to the probe."""
    form = ReasonForm()
    try:
        form.check()
        shelf.record(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            what=request.form.get("what", ""),
            note=text_of(form.reason),
        )
    except InputError as error:
        return probe(probe_id, error.faults)
    except Refused as error:
        return probe(probe_id, (error,))
    return redirect(url_for("kit.probe", probe_id=probe_id))


@blueprint.post("/probes/<probe_id>/waits")
def set_wait(probe_id: str) -> Any:
    """A wait of the probe's own, from its manual."""
    form = WaitForm()
    try:
        form.check()
        shelf.set_wait(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            what=request.form.get("what", ""),
            hours=form.hours.number,
            reason=text_of(form.reason),
        )
    except InputError as error:
        return probe(probe_id, error.faults)
    return redirect(url_for("kit.probe", probe_id=probe_id))


@blueprint.get("/due")
def due() -> Any:
    """What falls due, the earliest first."""
    with desk().read() as session:
        now = desk().clock()
        return render_template("kit/due.html", rows=shelf.due(session, now), now=now)


@blueprint.get("/due.ics")
def due_calendar() -> Any:
    """The same as a calendar file."""
    with desk().read() as session:
        now = desk().clock()
        rows = [(d.key, f"{d.subject}: {d.what}", d.at) for d in shelf.due(session, now)]
    response = Response(write_calendar(rows, now), mimetype="text/calendar")
    response.headers["Content-Disposition"] = 'attachment; filename="brumel-due.ics"'
    return response
