"""A run on Bench: the cup in turn, taking its point, the verdict, the end."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from flask import current_app, redirect, render_template, request, url_for

from brumel.core.errors import InputError, words_of
from brumel.methods.model import SET
from brumel.web import live
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.bench.forms import AcceptForm, StrikeForm, TypedForm
from brumel.web.bench.place import GOES_IN, USUAL_REASONS, Faults, blueprint
from brumel.web.drawings import calibration as calibration_drawings
from brumel.web.drawings import frame
from brumel.web.forms import ReasonForm, WriteForm, optional_number, text_of
from brumel.work import bench, kit
from brumel.work.bench import closing_checks
from brumel.work.bench import watch as run_watch
from brumel.work.bench.offers import offers_for


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
            "staff": frame.staff([s.spec.title for s in state.steps] + ["verdict"], _level(state)),
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
                set_to=_set_to(state) if is_setting else "",
                before=bench.reference_calibration(session, state),
                other=bench.stands_in(state, seen.suspicions) if seen else None,
                other_lots=_other_lots(session, state),
                **typed,
                **common,
            )
        return page, 422 if faults else 200


def _set_to(state: bench.RunState) -> str:
    """What the meter is to be set to in the present cup: its value at the temperature it was just read at."""
    step = state.current
    before = next((s.point for s in state.steps if step and s.spec.key == step.spec.key.removesuffix(SET)), None)
    if before is None or before.expected is None or before.temperature_c is None:
        return "the cup's value at its temperature"
    shown = bench.should_show(state, before.entered_as, before.expected, before.temperature_c)
    return shown or state.quantity.with_unit(before.expected)


def _other_lots(session: Any, state: bench.RunState) -> list[Any]:
    """The lots that could stand in the present cup instead: in date, not empty, not in another cup of the run."""
    step = state.current
    if step is None or step.lot is None:
        return []
    used = {s.lot.lot.id for s in state.steps if s.lot}
    offers = offers_for(step.spec, kit.lots_on_shelf(session, desk().clock()), state.run.probe)
    return [view for view in offers if view.usable and view.lot.id not in used]


def typed_entry(session: Any, state: bench.RunState, seen: bench.CupState | None) -> dict[str, Any]:
    """What the typing of a cup opens with: the unit, the clock, what the display should show."""
    begun = seen.trace.entered_as if seen is not None and seen.trace.t_s.size else ""
    entry = request.form.get("signal") or begun or bench.usual_entry(session, state)
    if entry not in state.quantity.entries:
        entry = bench.usual_entry(session, state)
    rule = state.quantity.criteria(state.method, state.current.spec).typed_rule(0.0) if state.current else None
    since = (desk().clock() - state.dip.started_at).total_seconds() if state.dip else 0.0
    shown = {"entry": entry, "elapsed_s": since, "next_s": rule.shortest_s if rule else 0.0, "should": ""}
    unit = "°F" if state.case.settings.get("temperature_unit") == "°F" else "°C"
    shown["on_paper"] = state.dip is None
    if seen is not None and seen.trace.t_s.size:
        # What is later than the clock was noted on paper: the next one's seconds are asked for too.
        shown["on_paper"] = float(seen.trace.t_s[-1]) > since
        shown["next_s"] = float(seen.trace.t_s[-1]) + (seen.settling.seconds_to_go or 0.0)
    at = seen.temperature_c if seen and seen.temperature_c is not None else None
    step = state.current
    here = at if at is not None else next((s.point.temperature_c for s in state.steps if s.point), None)
    if step is not None and here is not None:
        try:
            value = state.quantity.vessel_value(step.spec, step.lot.lot if step.lot else None, here, state.case)
        except InputError:
            value = None
        shown["should"] = bench.should_show(state, entry, value, here) if value is not None else ""
    degrees = "" if at is None else f"{at * 1.8 + 32:.1f}" if unit == "°F" else f"{at:.1f}"
    return {**shown, "temperature_unit": unit, "temperature_shown": degrees}


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


def _write(run_id: str, do: Callable[[], None]) -> Any:
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

    return _write(run_id, do)


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

    return _write(run_id, do)


@blueprint.post("/runs/<run_id>/strike/<step>")
def strike(run_id: str, step: str) -> Any:
    """Strike out a typed value of the cup."""
    form = StrikeForm()

    def do() -> None:
        form.check()
        bench.strike(
            desk(), actor(), form.write_key, run_id=run_id, step=step, turn=form.turn_number, seq=form.seq_number
        )

    return _write(run_id, do)


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


@blueprint.post("/runs/<run_id>/next/<step>")
def take_next(run_id: str, step: str) -> Any:
    """Take this cup next; or the probe stands in it already."""
    form = WriteForm()

    def do() -> None:
        form.check()
        is_there = request.form.get("is_there") == "yes"
        bench.take_next(
            desk(), actor(), form.write_key, run_id=run_id, step=step, turn=form.turn_number, is_there=is_there
        )

    return _write(run_id, do)


@blueprint.post("/runs/<run_id>/leave-out/<step>")
def leave_out(run_id: str, step: str) -> Any:
    """Do without this cup."""
    form = WriteForm()

    def do() -> None:
        form.check()
        bench.leave_out(desk(), actor(), form.write_key, run_id=run_id, step=step, turn=form.turn_number)

    return _write(run_id, do)


@blueprint.post("/runs/<run_id>/told")
def tell_figures(run_id: str) -> Any:
    """What the meter shows of the probe after it was adjusted."""
    form = WriteForm()

    def do() -> None:
        form.check()
        named = [k.removeprefix("told-") for k in request.form if k.startswith("told-")]
        given = {key: optional_number(f"told-{key}", key.replace("_", " ")) for key in named[:6]}
        figures = {key: value for key, value in given.items() if value is not None}
        bench.tell_figures(desk(), actor(), form.write_key, run_id=run_id, turn=form.turn_number, figures=figures)

    return _write(run_id, do)


@blueprint.post("/runs/<run_id>/done")
def leave_out_the_rest(run_id: str) -> Any:
    """Done with the cups that were taken."""
    form = WriteForm()

    def do() -> None:
        form.check()
        bench.leave_out_the_rest(desk(), actor(), form.write_key, run_id=run_id, turn=form.turn_number)

    return _write(run_id, do)


@blueprint.post("/runs/<run_id>/lot/<step>")
def replace_lot(run_id: str, step: str) -> Any:
    """Another lot stands in this cup."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        bench.replace_lot(
            desk(),
            actor(),
            form.write_key,
            run_id=run_id,
            step=step,
            turn=form.turn_number,
            lot_id=request.form.get("lot", ""),
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
            desk(),
            actor(),
            form.write_key,
            run_id=run_id,
            turn=form.turn_number,
            use=request.form.get("use") == "yes",
            words=text_of(form.reason),
        )

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
    watch = run_watch.RunWatch(desk(), run_id)
    dip_id = str(watch.dip.id) if watch.dip else ""
    return live.stream(current_app.extensions["hub"], dip_id, watch.tick, watch.moved)
