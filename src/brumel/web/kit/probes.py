"""Probes: their record and life, installations, limits of their own, and inspecting them."""

from __future__ import annotations

from typing import Any

from flask import flash, render_template, request, url_for

from brumel.core.quantity_table import MEASURED
from brumel.core.redox import ELECTRODES
from brumel.methods import ORDER
from brumel.methods.care import load_care
from brumel.methods.guides import guides_for
from brumel.methods.inspection import items_for
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.drawings.probe_life import views as life_views
from brumel.web.forms import NumberField, ReasonForm, WriteForm, text_of
from brumel.web.kit.place import blueprint
from brumel.work import bench, kit


class ProbeWriteForm(WriteForm):
    cable_m = NumberField("Cable", name_of="cable length", required=False)
    nominal = NumberField("Nominal cell constant", name_of="nominal cell constant", required=False)


class LimitForm(ReasonForm):
    value = NumberField("Limit", name_of="limit", required=False)
    fit_low = NumberField("Fit from", name_of="limit", required=False)
    fit_high = NumberField("Fit to", name_of="limit", required=False)
    care_low = NumberField("With care from", name_of="limit", required=False)
    care_high = NumberField("With care to", name_of="limit", required=False)


def _form(session: Any, probe: Any, faults: Any) -> Any:
    asked = request.values.get("quantity", "ph")
    page = render_template(
        "kit/probe_form.html",
        probe=probe,
        quantities=ORDER,
        kinds=kit.KINDS,
        electrodes=ELECTRODES,
        meters=kit.meters_in_service(session),
        faults=faults,
        given=request.form,
        quantity=probe.quantity if probe else asked if asked in ORDER else "ph",
    )
    return page, 422 if faults else 200


@blueprint.get("/probes/new")
def new_probe(faults: Any = ()) -> Any:
    """The form of a new probe."""
    with desk().read() as session:
        return _form(session, None, faults)


def _given(form: ProbeWriteForm) -> kit.ProbeForm:
    got = request.form.get
    return kit.ProbeForm(
        name=got("name", ""),
        serial=got("serial", ""),
        quantity=got("quantity", ""),
        meter_id=got("meter_id", ""),
        kind=got("kind", ""),
        cable_m=form.cable_m.number,
        nominal=form.nominal.number,
        reference_electrode=got("reference_electrode", ""),
        storage=got("storage", ""),
        address=got("address", "").strip(),
        note=got("note", ""),
        measures=got("measures", ""),
    )


@blueprint.post("/probes/new")
def add_probe() -> Any:
    """Add a probe."""
    form = ProbeWriteForm()

    def do() -> str:
        form.check()
        saved = kit.save_probe(desk(), actor(), form.write_key, _given(form))
        return url_for("kit.probe", probe_id=saved.id)

    return answer(do, new_probe)


@blueprint.get("/probes/<probe_id>/record")
def probe_record(probe_id: str, faults: Any = ()) -> Any:
    """The form to change a probe's record."""
    with desk().read() as session:
        return _form(session, kit.probe_of(session, probe_id), faults)


@blueprint.post("/probes/<probe_id>/record")
def save_probe(probe_id: str) -> Any:
    """Change the record of a probe."""
    form = ProbeWriteForm()

    def do() -> str:
        form.check()
        kit.save_probe(desk(), actor(), form.write_key, _given(form), probe_id)
        flash("The record is changed.", "note")
        return url_for("kit.probe", probe_id=probe_id)

    return answer(do, lambda faults: probe_record(probe_id, faults))


@blueprint.get("/probes/<probe_id>")
def probe(probe_id: str, faults: Any = ()) -> Any:
    """One probe: what it can be trusted for and how it has been ageing."""
    with desk().read() as session:
        probe, now = kit.probe_of(session, probe_id), desk().clock()
        lived = kit.life_of_probe(session, probe)
        bands = MEASURED[probe.quantity].judged.bands
        trust = kit.trust_of(session, probe, now)
        look = trust.facts.look if trust.facts else None
        page = render_template(
            "kit/probe.html",
            probe=probe,
            trust=trust,
            past=lived.calibrations[:30],
            kinds=kit.maintenance_kinds(probe),
            waits={what: kit.wait_h(probe, what) for what in kit.maintenance_kinds(probe)},
            intervals={what: kit.interval_days(probe, what) for what in kit.maintenance_kinds(probe)},
            maintenance=[
                (u, kit.maintenance_words(probe, u)[0], kit.answers_in_words(probe, u)) for u in lived.done[:20]
            ],
            faults=faults,
            given=request.form,
            life=lived,
            strips=life_views(lived, now),
            run=kit.open_run(session, probe.id),
            again=None if probe.retired_at else bench.same_again(session, [probe], now).get(probe.id),
            care=load_care().advice(probe.quantity, probe.kind),
            cautions=load_care().cautions_at(
                "handling", "cleaning", "solutions", "membrane", quantity=probe.quantity, kind=probe.kind
            ),
            guides=guides_for(probe.quantity, probe.kind),
            waits_words=kit.waits_in_words(probe),
            stored=kit.stored_by(probe, trust.facts, now) if trust.facts else None,
            storage_places=kit.places_of(probe),
            installations=lived.installations,
            meters=kit.meters_in_service(session),
            look=look,
            bands=bands,
            seen=kit.findings(probe, look.findings) if look else (),
            method=lived.method,
        )
        return page, 422 if faults else 200


@blueprint.post("/probes/<probe_id>/limits")
def set_limit(probe_id: str) -> Any:
    """A limit of the probe's own, from its manual."""
    form = LimitForm()

    def do() -> str:
        form.check()
        numbers = {n: getattr(form, n).number for n in ("value", "fit_low", "fit_high", "care_low", "care_high")}
        kit.set_limit(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            name=request.form.get("limit", ""),
            numbers=numbers,
            source=request.form.get("source", ""),
            reason=text_of(form.reason),
        )
        return url_for("kit.probe", probe_id=probe_id)

    return answer(do, lambda faults: probe(probe_id, faults))


@blueprint.post("/probes/<probe_id>/move")
def move_probe(probe_id: str) -> Any:
    """Fit the probe to another meter."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        kit.move_probe(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            meter_id=request.form.get("meter_id", ""),
            address=request.form.get("address", ""),
            reason=text_of(form.reason),
        )
        return url_for("kit.probe", probe_id=probe_id)

    return answer(do, lambda faults: probe(probe_id, faults))


@blueprint.post("/probes/<probe_id>/retire")
def retire_probe(probe_id: str) -> Any:
    """The probe is thrown away, or put away for good."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        kit.retire_probe(desk(), actor(), form.write_key, probe_id=probe_id, reason=text_of(form.reason))
        return url_for("kit.probe", probe_id=probe_id)

    return answer(do, lambda faults: probe(probe_id, faults))


@blueprint.post("/probes/<probe_id>/restore")
def restore_probe(probe_id: str) -> Any:
    """The probe comes back into service."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        kit.restore_probe(desk(), actor(), form.write_key, probe_id=probe_id, reason=text_of(form.reason))
        return url_for("kit.probe", probe_id=probe_id)

    return answer(do, lambda faults: probe(probe_id, faults))


@blueprint.get("/probes/<probe_id>/inspection")
def inspection(probe_id: str, faults: Any = ()) -> Any:
    """Look the probe over: pictures and plain findings."""
    with desk().read() as session:
        probe = kit.probe_of(session, probe_id)
        last = kit.last_inspection(session, probe.id)
        page = render_template(
            "kit/inspection.html",
            probe=probe,
            items=items_for(probe.quantity, probe.kind),
            last=last,
            faults=faults,
            given=request.form,
            seen=kit.findings(probe, last.findings) if last else (),
            kinds=kit.maintenance_kinds(probe),
            guides=guides_for(probe.quantity, probe.kind),
            stored=kit.stored_of(session, [probe], desk().clock()).get(probe.id),
        )
        return page, 422 if faults else 200


@blueprint.post("/probes/<probe_id>/inspection")
def inspect(probe_id: str) -> Any:
    """What was seen."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        seen = {k.removeprefix("item-"): v for k, v in request.form.items() if k.startswith("item-")}
        kit.inspect(desk(), actor(), form.write_key, probe_id=probe_id, seen=seen, note=text_of(form.reason))
        return url_for("kit.inspection", probe_id=probe_id)

    return answer(do, lambda faults: inspection(probe_id, faults))
