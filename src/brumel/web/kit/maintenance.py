"""Maintenance, recorded at once or led step by step; waits and intervals; where probes are put away."""

from __future__ import annotations

from typing import Any

from flask import flash, render_template, request, url_for

from brumel.core.sentence import say
from brumel.methods.care import load_care
from brumel.methods.guides import battery_guide
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import NumberField, ReasonForm, WriteForm, text_of
from brumel.web.kit.meters import meter
from brumel.web.kit.place import blueprint
from brumel.web.kit.probes import probe
from brumel.work import kit


class WaitForm(ReasonForm):
    hours = NumberField("Hours", name_of="hours", required=False)
    days = NumberField("Days", name_of="days", required=False)


@blueprint.post("/probes/<probe_id>/maintenance")
def record_maintenance(probe_id: str) -> Any:
    """Something was done to the probe."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        kit.record_maintenance(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            what=request.form.get("what", ""),
            note=text_of(form.reason),
            fresh=request.form.get("fresh") == "yes",
        )
        return url_for("kit.probe", probe_id=probe_id)

    return answer(do, lambda faults: probe(probe_id, faults))


@blueprint.post("/probes/<probe_id>/waits")
def set_wait(probe_id: str) -> Any:
    """A wait of the probe's own, from its manual."""
    form = WaitForm()

    def do() -> str:
        form.check()
        kit.set_wait(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            what=request.form.get("what", ""),
            hours=form.hours.number,
            reason=text_of(form.reason),
        )
        return url_for("kit.probe", probe_id=probe_id)

    return answer(do, lambda faults: probe(probe_id, faults))


@blueprint.post("/probes/<probe_id>/intervals")
def set_interval(probe_id: str) -> Any:
    """How often a maintenance of this probe is due, from its manual."""
    form = WaitForm()

    def do() -> str:
        form.check()
        kit.set_interval(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            what=request.form.get("what", ""),
            days=form.days.number,
            reason=text_of(form.reason),
        )
        return url_for("kit.probe", probe_id=probe_id)

    return answer(do, lambda faults: probe(probe_id, faults))


def _answers() -> dict[str, str]:
    return {k.removeprefix("seen-"): v for k, v in request.form.items() if k.startswith("seen-")}


@blueprint.get("/probes/<probe_id>/maintenance/<what>")
def guide(probe_id: str, what: str, faults: Any = ()) -> Any:
    """One kind of maintenance, led step by step."""
    with desk().read() as session:
        probe = kit.probe_of(session, probe_id)
        page = render_template(
            "kit/guide.html",
            thing=probe,
            back=url_for("kit.probe", probe_id=probe.id),
            guide=kit.guide_of(probe, what),
            spec=kit.maintenance_kinds(probe)[what],
            wait_h=kit.wait_h(probe, what),
            cautions=load_care().cautions_at(
                "handling", "cleaning", "solutions", "membrane", quantity=probe.quantity, kind=probe.kind
            ),
            faults=faults,
            given=request.form,
        )
        return page, 422 if faults else 200


@blueprint.post("/probes/<probe_id>/maintenance/<what>")
def record_guided(probe_id: str, what: str) -> Any:
    """It is done, with what was seen on the way."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        done = kit.record_guided(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            what=what,
            answers=_answers(),
            fresh=request.form.get("fresh") == "yes",
            note=text_of(form.reason),
        )
        if done.blocked:
            flash(say("Kept off Bench: {seen}. Put it right, then go through it again.", seen=done.blocked), "care")
        return url_for("kit.probe", probe_id=probe_id)

    return answer(do, lambda faults: guide(probe_id, what, faults))


@blueprint.get("/meters/<meter_id>/battery")
def battery_guided(meter_id: str, faults: Any = ()) -> Any:
    """The batteries of a meter are changed, step by step."""
    with desk().read() as session:
        meter = kit.meter_of(session, meter_id)
        page = render_template(
            "kit/guide.html",
            thing=meter,
            back=url_for("kit.meter", meter_id=meter.id),
            guide=battery_guide(),
            spec=None,
            wait_h=0,
            cautions=(),
            faults=faults,
            given=request.form,
        )
        return page, 422 if faults else 200


@blueprint.post("/meters/<meter_id>/battery")
def battery(meter_id: str) -> Any:
    """The batteries were changed."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        done = kit.record_battery_change(
            desk(), actor(), form.write_key, meter_id=meter_id, note=text_of(form.reason), answers=_answers()
        )
        if done.waiting:
            flash(f"Recorded. Polarising again: {', '.join(done.waiting)}.", "note")
        return url_for("kit.meter", meter_id=meter_id)

    return answer(do, lambda faults: battery_guided(meter_id, faults))


@blueprint.post("/probes/<probe_id>/storage")
def store_probe(probe_id: str) -> Any:
    """The probe was put away."""
    form = WriteForm()

    def do() -> str:
        form.check()
        kit.store_probe(desk(), actor(), form.write_key, probe_id=probe_id, place=request.form.get("place", ""))
        return url_for("kit.probe", probe_id=probe_id)

    return answer(do, lambda faults: probe(probe_id, faults))


@blueprint.post("/meters/<meter_id>/storage")
def store_probes(meter_id: str) -> Any:
    """The probes of a meter were put away."""
    form = WriteForm()

    def do() -> str:
        form.check()
        places = {k.removeprefix("place-"): v for k, v in request.form.items() if k.startswith("place-")}
        kit.store_probes(desk(), actor(), form.write_key, meter_id=meter_id, places=places)
        return url_for("kit.meter", meter_id=meter_id)

    return answer(do, lambda faults: meter(meter_id, faults))
