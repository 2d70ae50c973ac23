"""The closing check: choosing the standard, and what it does to the day's readings before anything is decided."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from flask import render_template, request, url_for

from brumel.core.errors import InputError
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.bench.place import blueprint
from brumel.web.bench.run import run
from brumel.web.forms import ReasonForm, WriteForm
from brumel.work import kit
from brumel.work.bench import closing_checks
from brumel.work.desk import Refused


@blueprint.get("/probes/<probe_id>/closing")
def plan_closing(probe_id: str, faults: Sequence[InputError | Refused] = ()) -> Any:
    """In what the probe is closed."""
    with desk().read() as session:
        probe = kit.probe_of(session, probe_id)
        now = desk().clock()
        in_force = closing_checks.in_force(session, probe, now)
        page = render_template(
            "bench/plan_closing.html",
            probe=probe,
            calibration=in_force,
            offers=closing_checks.offers(session, probe, now),
            judged=closing_checks.criteria(probe.quantity),
            faults=faults,
            given=request.form,
        )
        return page, 422 if faults else 200


@blueprint.post("/probes/<probe_id>/closing")
def start_closing(probe_id: str) -> Any:
    """Open the closing run."""
    form = WriteForm()

    def do() -> str:
        form.check()
        started = closing_checks.start(
            desk(),
            actor(),
            form.write_key,
            probe_id=probe_id,
            source=request.form.get("source", ""),
            cups=[request.form.get("first", ""), request.form.get("second", "")],
        )
        return url_for("bench.run", run_id=started.id)

    return answer(do, lambda faults: plan_closing(probe_id, faults))


@blueprint.post("/runs/<run_id>/close")
def close(run_id: str) -> Any:
    """End the closing run; the decision is the lead's."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        closed = closing_checks.finish(desk(), actor(), form.write_key, run_id=run_id, turn=form.turn_number)
        return url_for("records.closing", closing_id=closed.id)

    return answer(do, lambda faults: run(run_id, faults))
