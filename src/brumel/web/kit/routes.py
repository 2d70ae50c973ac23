"""Kit: what there is and in which state; solutions by lot; what is due."""

from __future__ import annotations

from functools import partial
from typing import Any

from flask import Response, abort, flash, render_template, request, url_for

from brumel.core.quantity_table import IONS
from brumel.core.redox import ELECTRODES
from brumel.formats.calendar import Entry, write_calendar
from brumel.methods import ORDER
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.bench.place import give_keys
from brumel.web.forms import NumberField, ReasonForm, WriteForm, text_of
from brumel.web.kit import maintenance, meters, methods, probes
from brumel.web.kit.place import blueprint
from brumel.web.practice_clock import practice_zone
from brumel.web.sign_in_limit import limiter
from brumel.work import bench, kit
from brumel.work.kit.stock import CUP_ML
from brumel.work.people import tokens
from brumel.work.quantities import standards
from brumel.work.rounds.agenda import Ahead, agenda

__all__ = ["blueprint", "maintenance", "meters", "methods", "probes"]


class LotForm(WriteForm):
    expanded_uncertainty = NumberField("Uncertainty, k = 2", name_of="expanded_uncertainty")
    expanded_uncertainty_2 = NumberField("Uncertainty, k = 2", name_of="expanded_uncertainty", required=False)
    strength = NumberField("Ionic strength", name_of="ionic_strength_mol_l", required=False)
    factor = NumberField("Factor of a label in ppm or ppt", name_of="tds_factor", required=False)
    open_days = NumberField("Days it keeps once open", name_of="open_days")


class CountForm(ReasonForm):
    amount = NumberField("How much there is", name_of="amount")


class FillOffForm(WriteForm):
    amount = NumberField("How much", name_of="amount", required=False)
    open_days = NumberField("Days it keeps", name_of="open_days", required=False)


@blueprint.get("")
def index(faults: Any = ()) -> Any:
    """Meters, probes and solutions with their state."""
    with desk().read() as session:
        now = desk().clock()
        probes = kit.probes_in_service(session)
        trusts = kit.trusts(session, probes, now)
        on_shelf = kit.lots_on_shelf(session, now)
        again = bench.same_again(session, probes, now, on_shelf)
        lines: list[dict[str, Any]] = [
            {"probe": p, "trust": trusts[p.id], "again": again.get(p.id), "key": ""} for p in probes
        ]
        lines.sort(key=lambda line: (ORDER.index(line["probe"].quantity), line["probe"].name))
        give_keys(lines, taken="adpms")
        meters = kit.meters_in_service(session)
        recorded = kit.settings_of(session, [m.id for m in meters])
        groups = [
            {
                "meter": m,
                "lines": [line for line in lines if line["probe"].meter_id == m.id],
                "recorded": recorded.get(m.id),
            }
            for m in sorted(meters, key=lambda m: (m.link == "typed", m.name))
        ]
        lots = sorted(on_shelf, key=lambda v: (ORDER.index(v.quantities[0]), v.lot.code))
        code = request.args.get("code", "")[:40]
        page = render_template(
            "kit/index.html",
            groups=groups,
            lots=[v for v in lots if kit.is_coded(v.lot, code)],
            code=code,
            faults=faults,
            given=request.form,
            spares=kit.spares(session, meters),
            cup_ml=CUP_ML,
            solutions=standards,
            retired=kit.retired_probes(session),
            retired_meters=kit.retired_meters(session),
        )
        return page, 422 if faults else 200


@blueprint.get("/lots/<lot_id>")
def lot(lot_id: str, faults: Any = ()) -> Any:
    """One lot: what it is worth, what is left of it, and what is done with it by hand."""
    with desk().read() as session:
        page = render_template(
            "kit/lot.html",
            view=kit.lot_as_of(session, lot_id, desk().clock()),
            described=standards.described,
            containers=kit.CONTAINERS,
            given=request.form,
            done=request.endpoint,
            faults=faults,
        )
    return page, 422 if faults else 200


@blueprint.get("/lots/new")
def new_lot(faults: Any = ()) -> Any:
    """The form of a new lot: of which quantity decides what it asks."""
    quantity = request.values.get("quantity", "ph")
    quantity = quantity if quantity in (*standards.LABELS, standards.COMBINED) else "ph"
    parts = standards.parts_of(quantity)
    page = render_template(
        "kit/lot_new.html",
        quantity=quantity,
        parts=parts,
        faults=faults,
        given=request.form,
        labels=standards.LABELS,
        families={q: standards.families(q) for q in parts},
        electrodes=ELECTRODES,
        ions=IONS,
        containers={k: words for k, words in kit.CONTAINERS.items() if k != "aliquot"},
        units={q: kit.label_units(q) for q in parts},
        quantities=[*standards.LABELS, standards.COMBINED],
    )
    return page, 422 if faults else 200


def _measures(form: LotForm) -> tuple[kit.NewMeasure, ...]:
    got, quantity = request.form.get, request.form.get("quantity", "")
    first = kit.NewMeasure(
        quantity=standards.parts_of(quantity)[0],
        family=got("family", ""),
        label=got("label", ""),
        expanded_uncertainty=form.expanded_uncertainty.number,
        basis=got("basis", ""),
        against=got("against", ""),
        strength=form.strength.number,
        unit=got("unit", ""),
        factor=form.factor.number,
    )
    if len(standards.parts_of(quantity)) == 1:
        return (first,)
    second = kit.NewMeasure(
        standards.parts_of(quantity)[1],
        got("family_2", ""),
        got("label_2", ""),
        form.expanded_uncertainty_2.number,
        unit=got("unit_2", ""),
        factor=form.factor.number,
    )
    return first, second


@blueprint.post("/lots/new")
def add_lot() -> Any:
    """Put a lot on the shelf."""
    form = LotForm()

    def do() -> str:
        form.check()
        got = request.form.get
        new = kit.NewLot(
            code=got("code", ""),
            name=got("name", ""),
            measures=_measures(form),
            expires_on=got("expires_on", ""),
            open_days=form.open_days.number,
            container=got("container", ""),
            traceable_to=got("traceable_to", ""),
        )
        kit.add_lot(desk(), actor(), form.write_key, new)
        flash("On the shelf.", "note")
        return url_for("kit.index")

    return answer(do, new_lot)


@blueprint.post("/lots/<lot_id>/open")
def open_lot(lot_id: str) -> Any:
    """The bottle was opened."""
    form = WriteForm()

    def do() -> str:
        form.check()
        kit.open_lot(desk(), actor(), form.write_key, lot_id=lot_id)
        return url_for("kit.index")

    return answer(do, partial(lot, lot_id))


@blueprint.post("/lots/<lot_id>/fill-off")
def fill_off(lot_id: str) -> Any:
    """A part of a bottle was filled into another one."""
    form = FillOffForm()

    def do() -> str:
        form.check()
        new = kit.NewAliquot(request.form.get("code", ""), form.amount.number, form.open_days.number)
        kit.fill_off(desk(), actor(), form.write_key, lot_id=lot_id, new=new)
        flash("On the shelf.", "note")
        return url_for("kit.index")

    return answer(do, partial(lot, lot_id))


@blueprint.post("/lots/<lot_id>/discard")
def discard_lot(lot_id: str) -> Any:
    """The lot was poured away."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        kit.discard_lot(desk(), actor(), form.write_key, lot_id=lot_id, reason=text_of(form.reason))
        return url_for("kit.index")

    return answer(do, partial(lot, lot_id))


def _count(again: Any, **what: str) -> Any:
    form = CountForm()

    def do() -> str:
        form.check()
        amount = form.amount.number
        assert amount is not None
        kit.count_stock(desk(), actor(), form.write_key, amount=amount, reason=text_of(form.reason), **what)
        flash("Counted.", "note")
        return url_for("kit.index")

    return answer(do, again)


@blueprint.post("/lots/<lot_id>/count")
def count_lot(lot_id: str) -> Any:
    """How much of a lot is left, counted by hand."""
    return _count(partial(lot, lot_id), lot_id=lot_id)


@blueprint.post("/spares/count")
def count_spare() -> Any:
    """How many of a spare are left, counted by hand."""
    return _count(index, spare=request.form.get("spare", "")[:60])


@blueprint.get("/due")
def due() -> Any:
    """What falls due, the earliest first."""
    with desk().read() as session:
        now = desk().clock()
        return render_template("kit/due.html", rows=kit.due_items(session, now), now=now)


@blueprint.get("/due.ics")
def due_calendar() -> Any:
    """The same as a calendar file."""
    response = _calendar()
    response.headers["Content-Disposition"] = 'attachment; filename="brumel-due.ics"'
    return response


@blueprint.get("/calendar/<token>.ics")
@limiter.limit("60 per minute")
def calendar_feed(token: str) -> Any:
    """The same as a calendar program subscribes to it, by the token of a person's account."""
    if tokens.by_token(desk(), token, "calendar") is None:
        abort(404)
    return _calendar()


def _calendar() -> Response:
    def url(row: Ahead) -> str:
        if row.what == "round":
            return url_for("rounds.round", round_id=row.id, _external=True)
        if row.what == "outing":
            return url_for("rounds.outing", outing_id=row.id, _external=True)
        if row.what == "deployment":
            return url_for("deployments.show", deployment_id=row.id, _external=True)
        if row.what == "probe":
            return url_for("kit.probe", probe_id=row.id, _external=True)
        return url_for("kit.due", _external=True)

    with desk().read() as session:
        now = desk().clock()
        ahead = agenda(session, now, practice_zone())
        body = write_calendar([Entry(row.key, row.words, row.at, url(row), row.timed) for row in ahead], now)
    return Response(body, mimetype="text/calendar")
