"""A run changed on its way: another cup next, one left out, done early, a lot replaced, a figure the meter told."""

from __future__ import annotations

from typing import Any

from flask import request

from brumel.web.access import actor, desk
from brumel.web.bench.place import blueprint
from brumel.web.bench.run import write_run
from brumel.web.forms import ReasonForm, WriteForm, optional_number, text_of
from brumel.work import bench


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

    return write_run(run_id, do)


@blueprint.post("/runs/<run_id>/leave-out/<step>")
def leave_out(run_id: str, step: str) -> Any:
    """Do without this cup."""
    form = WriteForm()

    def do() -> None:
        form.check()
        bench.leave_out(desk(), actor(), form.write_key, run_id=run_id, step=step, turn=form.turn_number)

    return write_run(run_id, do)


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

    return write_run(run_id, do)


@blueprint.post("/runs/<run_id>/done")
def leave_out_the_rest(run_id: str) -> Any:
    """Done with the cups that were taken."""
    form = WriteForm()

    def do() -> None:
        form.check()
        bench.leave_out_the_rest(desk(), actor(), form.write_key, run_id=run_id, turn=form.turn_number)

    return write_run(run_id, do)


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

    return write_run(run_id, do)
