"""Rounds: sites, visits, and the sheet that takes a reading."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from flask import Blueprint, current_app, flash, redirect, render_template, request, url_for
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.store.tables import Site
from brumel.web import drawn, live
from brumel.web.access import actor, desk
from brumel.web.forms import ReasonForm, TypedForm, WriteForm, text_of
from brumel.work import kit, rounds, watch
from brumel.work.desk import MovedOn, Refused

blueprint = Blueprint("rounds", __name__, template_folder="templates", url_prefix="/rounds")

Faults = Sequence[InputError | Refused]


@blueprint.get("")
def index() -> Any:
    """The sites by client, with what they read last."""
    with desk().read() as session:
        lines = [
            {
                "site": s,
                "ph": rounds.standing(session, s.id, "ph", 1),
                "t": rounds.standing(session, s.id, "temperature", 1),
            }
            for s in rounds.sites(session)
        ]
        return render_template("rounds/index.html", lines=lines)


def _history(session: Session, site: Site) -> dict[str, Any]:
    now = desk().clock()
    return {
        quantity: drawn.last_readings(
            rounds.standing(session, site.id, quantity, 40), site.ranges.get(quantity, {}), now, site.zone
        )
        for quantity in ("ph", "temperature")
    }


@blueprint.get("/sites/<site_id>")
def site(site_id: str, faults: Faults = ()) -> Any:
    """A site: its last readings drawn, and starting a visit."""
    with desk().read() as session:
        found = rounds.site(session, site_id)
        now = desk().clock()
        probes = [(p, kit.trust(session, p, now)) for p in kit.probes(session) if p.quantity == "ph"]
        probes.sort(key=lambda line: not line[1].valid)
        page = render_template(
            "rounds/site.html", site=found, probes=probes, faults=faults, history=_history(session, found),
            readings=rounds.standing(session, found.id, "ph", 8),
        )  # fmt: skip
        return page, 422 if faults else 200


@blueprint.post("/sites/<site_id>")
def start(site_id: str) -> Any:
    """Open the sheet."""
    form = WriteForm()
    try:
        form.check()
        made = rounds.start_visit(
            desk(), actor(), form.write_key, site_id=site_id, probe_id=request.form.get("probe", ""),
            source=request.form.get("source", ""),
        )  # fmt: skip
    except InputError as error:
        return site(site_id, error.faults)
    return redirect(url_for("rounds.visit", visit_id=made["visit"]))


@blueprint.get("/visits/<visit_id>")
def visit(visit_id: str, faults: Faults = ()) -> Any:
    """The sheet: take the reading, with its ladder and what is odd about it."""
    with desk().read() as session:
        sheet = rounds.sheet(session, visit_id, desk().clock())
        readings = rounds.of_visit(session, sheet.visit.id)
        page = render_template(
            "rounds/visit.html", sheet=sheet, site=sheet.visit.site, faults=faults, given=request.form,
            history=_history(session, sheet.visit.site), readings=readings,
            trust=kit.trust(session, sheet.visit.probe, desk().clock()),
        )  # fmt: skip
        return page, 422 if faults else 200


def _write(visit_id: str, do: Callable[[], Any]) -> Any:
    try:
        do()
    except MovedOn as error:
        flash(str(error), "care")
    except InputError as error:
        return visit(visit_id, error.faults)
    except Refused as error:
        return visit(visit_id, (error,))
    return redirect(url_for("rounds.visit", visit_id=visit_id))


@blueprint.post("/visits/<visit_id>/dip")
def dip(visit_id: str) -> Any:
    """The probe is in the water."""
    form = WriteForm()

    def do() -> None:
        form.check()
        rounds.dip(desk(), actor(), form.write_key, visit_id=visit_id)

    return _write(visit_id, do)


@blueprint.post("/visits/<visit_id>/type")
def type_reading(visit_id: str) -> Any:
    """One typed value at the site."""
    form = TypedForm()

    def do() -> None:
        form.check()
        rounds.type_reading(
            desk(), actor(), form.write_key, visit_id=visit_id, signal=text_of(form.signal),
            value=form.value.number or 0.0, temperature_c=form.temperature_c.number or 0.0,
            after_s=form.after_s.number,
        )  # fmt: skip

    return _write(visit_id, do)


@blueprint.post("/visits/<visit_id>/take")
def take(visit_id: str) -> Any:
    """Keep the readings."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        rounds.take(
            desk(), actor(), form.write_key, visit_id=visit_id, dip_id=request.form.get("dip", ""),
            early=text_of(form.early) == "yes", seen=form.seen_number, reason=text_of(form.reason),
        )  # fmt: skip
        flash("Kept.", "note")

    return _write(visit_id, do)


@blueprint.get("/visits/<visit_id>/stream")
def stream(visit_id: str) -> Any:
    """Live readings at the site as server-sent events."""
    found = watch.VisitWatch(desk(), visit_id)
    dip_id = str(found.dip.id) if found.dip else ""
    return live.stream(current_app.extensions["hub"], dip_id, found.tick, found.moved)
