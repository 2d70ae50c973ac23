"""Bench: which probe, and setting up its calibration."""

from __future__ import annotations

from itertools import groupby
from typing import Any

from flask import redirect, render_template, request, url_for

from brumel.core.errors import InputError, OutOfRange
from brumel.core.quantity_table import IONS
from brumel.methods import ORDER
from brumel.store.typed_json import RunConditions
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.bench.forms import ConditionsForm
from brumel.web.bench.place import Faults, ask_for_skill, blueprint, give_keys
from brumel.web.forms import measured
from brumel.work import bench, kit
from brumel.work.bench import calibration_sessions
from brumel.work.bench.conditions import PRESSURES, Conditions, missing_first, out_of_reach
from brumel.work.bench.offers import contradictions_for, is_same_again, offers_for, usual_cups
from brumel.work.desk import NotFound


@blueprint.get("")
def index() -> Any:
    """Which probe? With what stands in its way."""
    with desk().read() as session:
        now = desk().clock()
        lines: list[dict[str, Any]] = []
        probes = kit.probes_in_service(session)
        trusts, runs = kit.trusts(session, probes, now), kit.open_runs(session, probes)
        again = bench.same_again(session, [p for p in probes if p.id not in runs], now)
        for p in probes:
            run, trust = runs.get(p.id), trusts[p.id]
            lines.append(
                {
                    "probe": p,
                    "meter": p.meter.name,
                    "trust": trust,
                    "run": run,
                    "again": again.get(p.id),
                    "key": "",
                    "calibration_session": run.calibration_session_id if run else None,
                }
            )
        typed_last = {m.name: (m.link == "typed", m.name) for m in kit.meters_in_service(session)}
        lines.sort(
            key=lambda line: (typed_last[line["meter"]], ORDER.index(line["probe"].quantity), line["probe"].name)
        )
        give_keys(lines, taken="cs")
        groups = [(name, list(group)) for name, group in groupby(lines, key=lambda line: line["meter"])]
        first = next((line for line in lines if line["run"] or not line["trust"].valid), None)
        return render_template("bench/index.html", groups=groups, first=first, schools=kit.methods_by_quantity(session))


@blueprint.get("/probes/<probe_id>")
def setup(probe_id: str, faults: Faults = ()) -> Any:
    """Choose method, solutions, conditions and source for a run."""
    with desk().read() as session:
        probe = kit.probe_of(session, probe_id)
        if open_run := kit.open_run(session, probe.id):
            return redirect(url_for("bench.run", run_id=open_run.id))
        now = desk().clock()
        asked = request.values.get("method", "")
        in_use = kit.methods_in_use(session)
        mine = {k: m for k, m in in_use.items() if m.quantity == probe.quantity}
        last_run = kit.last_run(session, probe.id)
        again = last_run.method["key"] if last_run and last_run.purpose == "calibration" else ""
        method = (
            in_use.get(asked) if asked else mine.get(again) or kit.first_offered(in_use, probe.quantity, probe.kind)
        )
        if not asked and method is None:
            method = kit.default_method(session, probe)
        if method is None or method.quantity != probe.quantity:
            raise NotFound("There is no such method for this probe.")
        method = kit.method_for_probe(method, probe)
        lots = kit.lots_on_shelf(session, now)
        reads, reads_fault = _reads_next(probe)
        offers = {step.key: offers_for(step, lots, probe, reads) for step in method.steps if step.vessel == "solution"}
        recorded = kit.last_settings(session, probe.meter_id)
        source = _source(probe.meter.link)
        last_cups = kit.last_cups(session, probe.id, method.key)
        cups = usual_cups(offers, {} if reads else last_cups)
        known = kit.facts(session, [probe], now)[probe.id]
        partner = None
        if any(step.made_as == "combined" for step in method.steps):
            on_it = calibration_sessions.probes_of(session, probe.meter_id)
            partner = calibration_sessions.packet_partner(probe, method, in_use, on_it)
        page = render_template(
            "bench/setup.html",
            probe=probe,
            method=method,
            methods=mine,
            offers=offers,
            faults=(*faults, *reads_fault),
            given=request.form,
            reads=request.values.get("reads", ""),
            before=cups,
            codes=[v.lot.code for step, views in offers.items() for v in views if cups[step] == str(v.lot.id)],
            same=is_same_again(last_cups, cups) if cups else method.key == again,
            is_chosen=bool(asked) or bool(reads),
            in_use=bool(mine),
            last=kit.last_usable(session, probe, full=True),
            source=source,
            repeats=request.values.get("repeats", ""),
            recorded=recorded,
            look=known.look,
            partner=partner[0] if partner else None,
            stored=kit.stored_by(probe, known, now),
            waits_words=kit.waits_in_words(probe, of_the_sensor=True),
            pressures=PRESSURES,
            last_conditions=last_run.conditions if last_run else RunConditions(),
            can_find=any(s.role == "adjust" for s in method.steps),
            missing=missing_first(session, probe, now) if probe.quantity in IONS else (),
            contradictions=contradictions_for(recorded, probe, offers, source),
            bracket=out_of_reach(session, probe, [v[0].lot for v in offers.values() if v]),
        )
        return page, 422 if faults else 200


def _reads_next(probe: Any) -> tuple[float | None, tuple[InputError, ...]]:
    """About what will be read after this calibration, as it was typed; standards are offered just above it."""
    text = request.values.get("reads", "").strip()[:20]
    if not text or probe.quantity != "conductivity":
        return None, ()
    try:
        value, _ = measured("what will be read next", text, "conductivity")
    except InputError as error:
        return None, tuple(error.faults)
    if value is None or not 0 < value <= 1_000_000:
        return None, (OutOfRange("conductivity_us_cm", value or 0.0, 0, 1_000_000),)
    return value, ()


@blueprint.post("/probes/<probe_id>/packet")
def start_packet(probe_id: str) -> Any:
    """pH and conductivity from one packet, in one run."""
    form = ConditionsForm()

    def do() -> str:
        form.check()
        got = request.form.get
        ask_for_skill(probe_id, got("method", ""))
        started = calibration_sessions.start_packet(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            method_key=got("method", ""),
            source=got("source", ""),
            lot_id=next((v for k, v in request.form.items() if k.startswith("cup-")), ""),
            conditions=conditions_of(form),
        )
        return url_for("bench.calibration_session", calibration_session_id=started.id)

    return answer(do, lambda faults: setup(probe_id, faults))


def _source(link: str) -> str:
    given = request.values.get("source", "")
    return given if given in ("live", "typed") else ("typed" if link == "typed" else "live")


def conditions_of(form: ConditionsForm) -> Conditions:
    """The conditions as the form gives them."""
    got = request.form.get
    return Conditions(
        pressure_from=got("pressure_from", "station"),
        pressure_hpa=form.pressure_hpa.number,
        altitude_m=form.altitude_m.number,
        water_c=form.water_c.number,
        as_found=got("as_found") == "yes",
        as_left=got("as_left") == "yes",
        adjusted=got("adjusted") == "yes",
        settings_same=got("settings_same") == "yes",
        repeats=got("repeats", ""),
        reason=got("reason", ""),
        battery_percent=form.battery_percent.number,
    )


@blueprint.post("/probes/<probe_id>")
def start(probe_id: str) -> Any:
    """Open the run."""
    form = ConditionsForm()

    def do() -> str:
        form.check()
        cups = {k.removeprefix("cup-"): v for k, v in request.form.items() if k.startswith("cup-")}
        ask_for_skill(probe_id, request.form.get("method", ""))
        started = bench.start(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            method_key=request.form.get("method", ""),
            source=request.form.get("source", ""),
            cups=cups,
            conditions=conditions_of(form),
        )
        return url_for("bench.run", run_id=started.id)

    return answer(do, lambda faults: setup(probe_id, faults))
