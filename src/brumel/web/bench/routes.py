"""Bench: calibrate a probe one step at a time."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from itertools import groupby
from typing import Any

from flask import Blueprint, current_app, flash, redirect, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.core.meter_settings import contradictions
from brumel.methods import ORDER, StepSpec
from brumel.store.tables import Probe, Snapshot
from brumel.web import drawn, live, plates
from brumel.web.access import actor, desk
from brumel.web.forms import AcceptForm, ConditionsForm, ReasonForm, TypedForm, WriteForm, text_of
from brumel.work import bench, closings, kit, life, practices, runstate, solutions, trusting, watch
from brumel.work.conditions import PRESSURES, Conditions, missing_first, out_of_reach
from brumel.work.desk import MovedOn, NotFound, Refused

blueprint = Blueprint("bench", __name__, template_folder="templates", url_prefix="/bench")

Faults = Sequence[InputError | Refused]
#: What the button says that starts a cup's clock.
GOES_IN = {
    "solution": "The probe is in the cup", "saturated_water": "The probe is in the cup", "air": "The cell is dry, in air",
    "saturated_air": "The tip is over the water", "reference": "Both are in the water",
}  # fmt: skip


@blueprint.get("")
def index() -> Any:
    """Which probe? With what stands in its way."""
    with desk().read() as session:
        now = desk().clock()
        lines: list[dict[str, Any]] = []
        probes = kit.probes(session)
        trusts, runs = trusting.trusts(session, probes, now), kit.open_runs(session, probes)
        for p in probes:
            run, trust = runs.get(p.id), trusts[p.id]
            lines.append({"probe": p, "meter": p.meter.name, "trust": trust, "run": run,
                          "sitting": run.sitting_id if run else None})  # fmt: skip
        typed_last = {m.name: (m.link == "typed", m.name) for m in kit.meters(session)}
        lines.sort(
            key=lambda line: (typed_last[line["meter"]], ORDER.index(line["probe"].quantity), line["probe"].name)
        )
        groups = [(name, list(group)) for name, group in groupby(lines, key=lambda line: line["meter"])]
        first = next((line for line in lines if line["run"] or not line["trust"].valid), None)
        return render_template("bench/index.html", groups=groups, first=first, schools=practices.by_quantity(session))


@blueprint.get("/probes/<probe_id>")
def setup(probe_id: str, faults: Faults = ()) -> Any:
    """Choose method, solutions, conditions and source for a run."""
    with desk().read() as session:
        probe = kit.probe(session, probe_id)
        if open_run := kit.open_run(session, probe.id):
            return redirect(url_for("bench.run", run_id=open_run.id))
        now = desk().clock()
        asked = request.values.get("method", "")
        method = practices.method(session, asked) if asked else practices.default_for(session, probe)
        if method is None or method.quantity != probe.quantity:
            raise NotFound("There is no such method for this probe.")
        method = practices.for_probe(method, probe)
        lots = kit.lots(session, now)
        offers = {step.key: offers_for(step, lots, probe) for step in method.steps if step.vessel == "solution"}
        snapshot = kit.last_snapshot(session, probe.meter_id)
        last_run = kit.last_run(session, probe.id)
        source = _source(probe.meter.link)
        page = render_template(
            "bench/setup.html", probe=probe, method=method, methods=practices.methods(session, probe.quantity),
            offers=offers, faults=faults, given=request.form, before=kit.last_cups(session, probe.id),
            last=kit.last_usable(session, probe.id, full=True), source=source, repeats=request.values.get("repeats", ""),
            snapshot=snapshot, look=kit.last_inspection(session, probe.id), pressures=PRESSURES,
            last_conditions=last_run.conditions if last_run else {},
            can_find=any(s.role == "adjust" for s in method.steps),
            missing=missing_first(session, probe, now) if probe.quantity in ("nitrate", "ammonium") else (),
            contradictions=contradictions_for(snapshot, probe, offers, source),
            bracket=out_of_reach(session, probe, [v[0].lot for v in offers.values() if v]),
        )  # fmt: skip
        return page, 422 if faults else 200


def contradictions_for(
    snapshot: Snapshot | None, probe: Probe, offers: dict[str, list[kit.LotView]], source: str
) -> tuple[str, ...]:
    """What the meter's settings say against this probe and the solutions offered first."""
    if snapshot is None:
        return ()
    first = [views[0].lot for views in offers.values() if views]
    families = tuple(str((solutions.measure(lot, probe.quantity) or {}).get("family")) for lot in first)
    return contradictions(
        snapshot.settings, probe.quantity, nominal_per_cm=probe.nominal, families=families,
        typed="us_cm" if source == "typed" and probe.quantity == "conductivity" else "",
    )  # fmt: skip


def offers_for(step: StepSpec, lots: Sequence[kit.LotView], probe: Probe) -> list[kit.LotView]:
    """The lots that may stand in this cup: those in date first, then by how near they are to its middle."""
    low, high = step.between or (0.0, 0.0)
    fitting = []
    for v in lots:
        if solutions.measure(v.lot, probe.quantity) is not None:
            nominal = solutions.nominal(v.lot, probe.quantity, probe)
            if low <= nominal <= high:
                combined = len(v.quantities) > 1
                fitting.append(
                    (len(v.objections), combined != ("combined" in step.title), abs(nominal - (low + high) / 2), v)
                )
    if probe.quantity == "conductivity":  # the nearest general standard first, not the middle of a wide range
        return [f[-1] for f in sorted(fitting, key=lambda f: (f[0], f[1], abs(f[-1].nominal("conductivity") - 1413)))]
    return [f[-1] for f in sorted(fitting, key=lambda f: f[:3])]


def _source(link: str) -> str:
    given = request.values.get("source", "")
    return given if given in ("live", "typed") else ("typed" if link == "typed" else "live")


def conditions_of(form: ConditionsForm) -> Conditions:
    """The conditions as the form gives them."""
    got = request.form.get
    return Conditions(
        pressure_from=got("pressure_from", "station"), pressure_hpa=form.pressure_hpa.number,
        altitude_m=form.altitude_m.number, water_c=form.water_c.number, as_found=got("as_found") == "yes",
        as_left=got("as_left") == "yes",
        adjusted=got("adjusted") == "yes", settings_same=got("settings_same") == "yes", repeats=got("repeats", ""),
        reason=got("reason", ""),
    )  # fmt: skip


@blueprint.post("/probes/<probe_id>")
def start(probe_id: str) -> Any:
    """Open the run."""
    form = ConditionsForm()
    try:
        form.check()
        cups = {k.removeprefix("cup-"): v for k, v in request.form.items() if k.startswith("cup-")}
        made = bench.start(
            desk(), actor(), form.write_key, probe_id=probe_id, method_key=request.form.get("method", ""),
            source=request.form.get("source", ""), cups=cups, conditions=conditions_of(form),
        )  # fmt: skip
    except InputError as error:
        return setup(probe_id, error.faults)
    except Refused as error:
        return setup(probe_id, (error,))
    return redirect(url_for("bench.run", run_id=made["run"]))


@blueprint.get("/runs/<run_id>")
def run(run_id: str, faults: Faults = ()) -> Any:
    """The run as it stands: a cup in turn, or the verdict."""
    with desk().read() as session:
        state = runstate.load(session, run_id)
        seen = runstate.live(session, state, now=desk().clock())
        common = {
            "state": state, "faults": faults, "given": request.form, "nominals": nominals(state),
            "staff": drawn.staff([s.spec.title for s in state.steps] + ["verdict"], _level(state)),
        }  # fmt: skip
        if state.run.purpose == "closing" and (state.current is None or (state.end and state.end.how == "finished")):
            return _closing(session, state, common, faults)
        if state.end and state.calibration:
            return redirect(url_for("records.calibration", calibration_id=state.calibration.id))
        if state.end:
            page = render_template("bench/ended.html", result=_result(session, state), **common)
        elif state.current is None:
            result = runstate.result(session, state)
            page = render_template(
                "bench/verdict.html", result=result, **verdict_views(session, state, result), **common
            )
        else:
            spec = state.trade.criteria(state.method, state.current.spec)
            page = render_template(
                "bench/run.html", live=seen, spec=spec, band=3 * spec.noise, goes_in=GOES_IN, **common
            )
        return page, 422 if faults else 200


def _closing(session: Any, state: runstate.RunState, common: dict[str, Any], faults: Faults) -> Any:
    """A closing check whose cups are all done: what it found, or its record."""
    made = closings.of_run(session, state.run.id)
    if made is not None:
        return redirect(url_for("records.closing", closing_id=made.id))
    if state.end:
        return render_template("bench/ended.html", result=None, **common)
    found, told, problem = [], "", ""
    try:
        found = closings.checks(session, state)
        told = closings.sentence(state.run.probe.quantity, found)
    except InputError as error:
        problem = str(error)
    page = render_template(
        "bench/closed.html", checks=found, told=told, problem=problem, holds=bool(found) and all(c.holds for c in found),
        **common,
    )  # fmt: skip
    return page, 422 if faults else 200


def nominals(state: runstate.RunState) -> dict[str, float | None]:
    """What each cup is called by, before it is read."""
    return {
        s.spec.key: state.trade.nominal(s.spec, s.lot.lot if s.lot else None, state.case) for s in state.steps
    }  # fmt: skip


def _level(state: runstate.RunState) -> int:
    return state.done + (1 if state.end and state.end.how == "finished" else 0)


def _result(session: Any, state: runstate.RunState) -> runstate.Result | None:
    return runstate.result(session, state) if state.current is None else None


def verdict_views(session: Any, state: runstate.RunState, result: runstate.Result) -> dict[str, Any]:
    """Plate and history of a verdict."""
    plate = None
    if result.fit:
        before = runstate.reference(session, state)
        known = kit.restored(before) if before and before.signal == result.signal else None
        plate = plates.draw(result.fit, state.method, runstate.taken_points(state), known, state.trade)
    return {"plate": plate, "history": plates.history(life.life(session, state.run.probe))}


def _write(run_id: str, do: Callable[[], Any]) -> Any:
    """Do one write of a run; a refusal shows the page again with its sentence and what was typed."""
    try:
        do()
    except MovedOn as error:
        flash(str(error), "care")
    except InputError as error:
        return run(run_id, error.faults)
    except Refused as error:
        return run(run_id, (error,))
    back = request.form.get("back", "")
    if re.fullmatch(r"[0-9a-f-]{36}", back):  # from a sitting, back to its timers
        return redirect(url_for("bench.sitting", sitting_id=back))
    return redirect(url_for("bench.run", run_id=run_id))


@blueprint.post("/runs/<run_id>/dip/<step>")
def dip(run_id: str, step: str) -> Any:
    """The probe is in the cup."""
    form = WriteForm()

    def do() -> None:
        form.check()
        bench.dip(desk(), actor(), form.write_key, run_id=run_id, step=step, turn=form.turn_number)

    return _write(run_id, do)


@blueprint.post("/runs/<run_id>/type/<step>")
def type_reading(run_id: str, step: str) -> Any:
    """One typed value of the display."""
    form = TypedForm()

    def do() -> None:
        form.check()
        bench.type_reading(
            desk(), actor(), form.write_key, run_id=run_id, step=step, turn=form.turn_number,
            signal=text_of(form.signal), value=form.value.number or 0.0,
            temperature_c=form.temperature_c.number or 0.0, after_s=form.after_s.number,
        )  # fmt: skip

    return _write(run_id, do)


@blueprint.post("/runs/<run_id>/accept/<step>")
def accept(run_id: str, step: str) -> Any:
    """Take the point of the cup."""
    form = AcceptForm()

    def do() -> None:
        form.check()
        bench.accept(
            desk(), actor(), form.write_key, run_id=run_id, step=step, turn=form.turn_number,
            early=text_of(form.early) == "yes", seen=form.seen_number, answer=text_of(form.reason),
            reference=form.reference.number, reference_u=form.reference_u.number,
        )  # fmt: skip

    return _write(run_id, do)


@blueprint.post("/runs/<run_id>/redo/<step>")
def redo(run_id: str, step: str) -> Any:
    """Withdraw a point and open its cup again."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        bench.redo(
            desk(),
            actor(),
            form.write_key,
            run_id=run_id,
            step=step,
            turn=form.turn_number,
            reason=text_of(form.reason),
        )

    return _write(run_id, do)


@blueprint.post("/runs/<run_id>/finish")
def finish(run_id: str) -> Any:
    """End the run with what it found."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        bench.finish(
            desk(), actor(), form.write_key, run_id=run_id, turn=form.turn_number,
            use=request.form.get("use") == "yes", words=text_of(form.reason),
        )  # fmt: skip

    return _write(run_id, do)


@blueprint.post("/runs/<run_id>/abandon")
def abandon(run_id: str) -> Any:
    """End the run without a result."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        bench.abandon(desk(), actor(), form.write_key, run_id=run_id, reason=text_of(form.reason))

    return _write(run_id, do)


@blueprint.get("/runs/<run_id>/stream")
def stream(run_id: str) -> Any:
    """Live readings of the present cup as server-sent events."""
    found = watch.RunWatch(desk(), run_id)
    dip_id = str(found.dip.id) if found.dip else ""
    return live.stream(current_app.extensions["hub"], dip_id, found.tick, found.moved)
