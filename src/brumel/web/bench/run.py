"""A run on Bench: the cup in turn, taking its point, the verdict, the end."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from flask import current_app, redirect, render_template, request, url_for

from brumel.core.errors import InputError, words_of
from brumel.core.meter_settings import low_battery
from brumel.methods.model import SET
from brumel.web import events
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.bench.cup import other_lots, set_to, typed_entry
from brumel.web.bench.forms import AcceptForm, StrikeForm, TypedForm
from brumel.web.bench.place import GOES_IN, USUAL_REASONS, Faults, blueprint
from brumel.web.drawings import calibration as calibration_drawings
from brumel.web.drawings import frame
from brumel.web.filters import number
from brumel.web.forms import ReasonForm, WriteForm, text_of
from brumel.web.live import Hub
from brumel.web.units import scale
from brumel.work import bench, kit
from brumel.work.bench import closing_checks
from brumel.work.bench import watch as run_watch


@blueprint.get("/runs/<run_id>")
def run(run_id: str, faults: Faults = ()) -> Any:
    """The run as it stands: a cup in turn, or the verdict."""
    with desk().read() as session:
        state = bench.load_run(session, run_id)
        seen = bench.live_cup(session, state, now=desk().clock())
        common = {
            "state": state,
            "faults": faults,
            "given": request.form,
            "nominals": nominals(state),
            "usual": USUAL_REASONS,
            "battery": low_battery(state.run.conditions.battery_percent),
            "staff": frame.staff([s.spec.title for s in state.in_order] + ["verdict"], _level(state)),
        }
        if state.run.purpose == "closing" and (state.current is None or (state.end and state.end.how == "finished")):
            return _closing(session, state, common, faults)
        if state.end and state.calibration:
            return redirect(url_for("records.calibration", calibration_id=state.calibration.id))
        if state.end:
            page = render_template("bench/ended.html", result=_result(session, state), **common)
        elif state.current is None:
            result = bench.run_result(session, state)
            page = render_template(
                "bench/verdict.html", result=result, **verdict_views(session, state, result), **common
            )
        else:
            spec = state.quantity.criteria(state.method, state.current.spec)
            is_setting = state.current.spec.key.endswith(SET)
            typed = typed_entry(session, state, seen) if state.run.source == "typed" else {}
            page = render_template(
                "bench/run.html",
                live=seen,
                spec=spec,
                band=3 * spec.noise,
                goes_in=GOES_IN,
                is_setting=is_setting,
                set_to=set_to(state) if is_setting else "",
                before=bench.reference_calibration(session, state),
                other=bench.stands_in(state, seen.suspicions) if seen else None,
                other_lots=other_lots(session, state),
                **typed,
                **common,
            )
        return page, 422 if faults else 200


def _closing(session: Any, state: bench.RunState, common: dict[str, Any], faults: Faults) -> Any:
    """A closing check whose cups are all done: what it found, or its record."""
    closing = closing_checks.of_run(session, state.run.id)
    if closing is not None:
        return redirect(url_for("records.closing", closing_id=closing.id))
    if state.end:
        return render_template("bench/ended.html", result=None, **common)
    cups, sentence, problem = [], "", ""
    try:
        cups = closing_checks.checks(session, state)
        sentence = closing_checks.sentence(state.run.probe.quantity, cups)
    except InputError as error:
        problem = words_of(error)
    page = render_template(
        "bench/closed.html",
        checks=cups,
        sentence=sentence,
        problem=problem,
        holds=bool(cups) and all(c.holds for c in cups),
        **common,
    )
    return page, 422 if faults else 200


def nominals(state: bench.RunState) -> dict[str, float | None]:
    """What each cup is called by, before it is read."""
    return {s.spec.key: state.quantity.nominal(s.spec, s.lot.lot if s.lot else None, state.case) for s in state.steps}


def _level(state: bench.RunState) -> int:
    return state.done + (1 if state.end and state.end.how == "finished" else 0)


def _result(session: Any, state: bench.RunState) -> bench.RunResult | None:
    return bench.run_result(session, state) if state.current is None else None


def verdict_views(session: Any, state: bench.RunState, result: bench.RunResult) -> dict[str, Any]:
    """Plate and history of a verdict."""
    plate = None
    if result.fit:
        before = bench.reference_calibration(session, state)
        known = kit.restored(before) if before and before.signal == result.signal else None
        points, fit = bench.taken_points(state), result.fit.as_dict()
        plate = calibration_drawings.draw(result.fit, state.method, points, known, state.quantity, fit)
    return {"plate": plate, "history": calibration_drawings.history(kit.life_of_probe(session, state.run.probe))}


def write_run(run_id: str, do: Callable[[], None]) -> Any:
    """Do one write of a run, and show it as it then stands."""
    stands = url_for("bench.run", run_id=run_id)
    back = request.form.get("back", "")
    if re.fullmatch(r"[0-9a-f-]{36}", back):  # from a calibration session, back to its timers
        stands = url_for("bench.calibration_session", calibration_session_id=back)
    return answer(do, lambda faults: run(run_id, faults), stands)


@blueprint.post("/runs/<run_id>/dip/<step>")
def dip(run_id: str, step: str) -> Any:
    """The probe is in the cup."""
    form = WriteForm()

    def do() -> None:
        form.check()
        bench.dip(desk(), actor(), form.write_key, run_id=run_id, step=step, turn=form.turn_number)

    return write_run(run_id, do)


@blueprint.post("/runs/<run_id>/type/<step>")
def type_reading(run_id: str, step: str) -> Any:
    """One typed value of the display."""
    form = TypedForm()

    def do() -> None:
        form.check()
        bench.type_reading(
            desk(),
            actor(),
            form.write_key,
            run_id=run_id,
            step=step,
            turn=form.turn_number,
            typed=bench.TypedValue(
                signal=text_of(form.signal),
                value=form.value.number or 0.0,
                temperature_c=form.temperature_c.number or 0.0,
                after_s=form.after_s.number,
                unit=form.value.unit,
            ),
        )

    return write_run(run_id, do)


@blueprint.post("/runs/<run_id>/strike/<step>")
def strike(run_id: str, step: str) -> Any:
    """Strike out a typed value of the cup."""
    form = StrikeForm()

    def do() -> None:
        form.check()
        bench.strike(
            desk(), actor(), form.write_key, run_id=run_id, step=step, turn=form.turn_number, seq=form.seq_number
        )

    return write_run(run_id, do)


@blueprint.post("/runs/<run_id>/accept/<step>")
def accept(run_id: str, step: str) -> Any:
    """Take the point of the cup."""
    form = AcceptForm()

    def do() -> None:
        form.check()
        bench.accept(
            desk(),
            actor(),
            form.write_key,
            run_id=run_id,
            step=step,
            turn=form.turn_number,
            how=bench.Acceptance(
                early=text_of(form.early) == "yes",
                seen=form.seen_number,
                answer=text_of(form.reason),
                reference=form.reference.number,
                reference_u=form.reference_u.number,
            ),
        )

    return write_run(run_id, do)


@blueprint.post("/runs/<run_id>/redo/<step>")
def redo(run_id: str, step: str) -> Any:
    """Withdraw a point and open its cup again."""
    return _redo(run_id, step, bench.redo)


@blueprint.post("/runs/<run_id>/redo-pair/<step>")
def redo_pair(run_id: str, step: str) -> Any:
    """Withdraw both points of a pair and open their cups again."""
    return _redo(run_id, step, bench.redo_pair)


def _redo(run_id: str, step: str, withdraw: Callable[..., Any]) -> Any:
    form = ReasonForm()

    def do() -> None:
        form.check()
        given = {"run_id": run_id, "step": step, "turn": form.turn_number, "reason": text_of(form.reason)}
        withdraw(desk(), actor(), form.write_key, **given)

    return write_run(run_id, do)


@blueprint.post("/runs/<run_id>/finish")
def finish(run_id: str) -> Any:
    """End the run with what it found."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        bench.finish(
            desk(),
            actor(),
            form.write_key,
            run_id=run_id,
            turn=form.turn_number,
            use=request.form.get("use") == "yes",
            words=text_of(form.reason),
        )

    return write_run(run_id, do)


@blueprint.post("/runs/<run_id>/abandon")
def abandon(run_id: str) -> Any:
    """End the run without a result."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        bench.abandon(desk(), actor(), form.write_key, run_id=run_id, reason=text_of(form.reason))

    return write_run(run_id, do)


@blueprint.get("/runs/<run_id>/stream")
def stream(run_id: str) -> Any:
    """Live readings of the present cup as server-sent events."""
    watch = run_watch.RunWatch(desk(), run_id)
    hub: Hub = current_app.extensions["hub"]
    dip_id = str(watch.dip.id) if watch.dip else ""
    if dip_id:
        watch.heard = hub.ear(dip_id)
    quantity = watch.state.quantity
    of_value = scale(quantity.unit)

    def tick() -> dict[str, Any] | None:
        """What the cup should read, and what the last calibration makes of it, in the reader's unit."""
        numbers = watch.tick()
        if numbers is None or of_value.unit == quantity.unit:
            return numbers
        if numbers.get("read") is not None:
            numbers["read"] = of_value(numbers["read"])
        if numbers.get("expected") is not None:
            numbers["expected_text"] = number(of_value(numbers["expected"]), of_value.digits or quantity.digits)
        return numbers

    return events.stream(hub, dip_id, tick, watch.moved)
