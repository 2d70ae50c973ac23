"""Bench: calibrate a probe one step at a time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from flask import Blueprint, current_app, flash, redirect, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.methods import StepSpec, load_method, load_methods
from brumel.store.tables import Calibration
from brumel.web import drawn, live
from brumel.web.access import actor, desk
from brumel.web.forms import ReasonForm, TypedForm, WriteForm, text_of
from brumel.work import bench, kit, runstate, watch
from brumel.work.desk import MovedOn, NotFound, Refused

blueprint = Blueprint("bench", __name__, template_folder="templates", url_prefix="/bench")

Faults = Sequence[InputError | Refused]


@blueprint.get("")
def index() -> Any:
    """Which probe? With what stands in its way."""
    with desk().read() as session:
        now = desk().clock()
        lines = [
            {"probe": p, "trust": kit.trust(session, p, now), "run": kit.open_run(session, p.id)}
            for p in kit.probes(session)
        ]
        return render_template("bench/index.html", lines=lines, methods=load_methods())


@blueprint.get("/probes/<probe_id>")
def setup(probe_id: str, faults: Faults = ()) -> Any:
    """Choose method, solutions and source for a run."""
    with desk().read() as session:
        probe = kit.probe(session, probe_id)
        if open_run := kit.open_run(session, probe.id):
            return redirect(url_for("bench.run", run_id=open_run.id))
        now = desk().clock()
        method = load_method(request.values.get("method", "ph-7-4-10"))
        if method is None:
            raise NotFound("There is no such method.")
        lots = kit.lots(session, now)
        offers = {step.key: _offers(step, lots) for step in method.steps}
        page = render_template(
            "bench/setup.html", probe=probe, method=method, methods=load_methods(), offers=offers, faults=faults,
            given=request.form, before=kit.last_cups(session, probe.id),
            last=kit.last_usable(session, probe.id, full=True), source=_source(probe.meter.link),
        )  # fmt: skip
        return page, 422 if faults else 200


def _offers(step: StepSpec, lots: Sequence[kit.LotView]) -> list[kit.LotView]:
    """The lots that may stand in this cup: those in date first, then by how near they are to its middle."""
    low, high = step.ph_between
    fitting = [v for v in lots if low <= v.buffer.nominal_ph <= high]
    return sorted(fitting, key=lambda v: (len(v.objections), abs(v.buffer.nominal_ph - (low + high) / 2)))


def _source(link: str) -> str:
    given = request.values.get("source", "")
    return given if given in ("live", "typed") else ("live" if link == "simulated" else "typed")


@blueprint.post("/probes/<probe_id>")
def start(probe_id: str) -> Any:
    """Open the run."""
    form = WriteForm()
    try:
        form.check()
        cups = {k.removeprefix("cup-"): v for k, v in request.form.items() if k.startswith("cup-")}
        made = bench.start(
            desk(), actor(), form.write_key, probe_id=probe_id, method_key=request.form.get("method", ""),
            source=request.form.get("source", ""), cups=cups,
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
        seen = runstate.live(session, state)
        common = {
            "state": state, "faults": faults, "given": request.form,
            "staff": drawn.staff([s.spec.title for s in state.steps] + ["verdict"], _level(state)),
        }  # fmt: skip
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
            page = render_template("bench/run.html", live=seen, **common)
        return page, 422 if faults else 200


def _level(state: runstate.RunState) -> int:
    return state.done + (1 if state.end and state.end.how == "finished" else 0)


def _result(session: Any, state: runstate.RunState) -> runstate.Result | None:
    return runstate.result(session, state) if state.current is None else None


def verdict_views(session: Any, state: runstate.RunState, result: runstate.Result) -> dict[str, Any]:
    """Plate and history of a verdict."""
    limits = state.method.limits
    past: list[Calibration] = kit.calibrations(session, state.run.probe_id)
    plate = None
    if result.fit:
        checks = [
            {"ph": s.point.expected_ph, "mv": s.point.millivolts, "c": s.point.temperature_c}
            for s in state.steps
            if s.point and s.spec.role == "check"
        ]
        middle = float(np.mean([p.temperature_c for p in result.fit.points]))
        plate = drawn.plate(result.fit, limits, checks, middle)
    return {"plate": plate, "history": drawn.history(past, limits)}


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
    form = ReasonForm()

    def do() -> None:
        form.check()
        bench.accept(
            desk(), actor(), form.write_key, run_id=run_id, step=step, turn=form.turn_number,
            early=text_of(form.early) == "yes", seen=form.seen_number, answer=text_of(form.reason),
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
