"""Practice: the simulated meter's hidden side, to switch faults on and learn what they look like."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, flash, render_template, request, url_for

from brumel.meters.sensors import FAULTS
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import WriteForm
from brumel.work import simulator

blueprint = Blueprint("practice", __name__, template_folder="templates", url_prefix="/practice")


@blueprint.get("/meter")
def meter(faults: Any = ()) -> Any:
    """The simulated meter: which faults are on, and how fast its clock runs."""
    with desk().read() as session:
        page = render_template(
            "practice/meter.html",
            probes=simulator.simulated(session),
            known=FAULTS,
            pace=simulator.pace(session),
            paces=simulator.PACES,
            faults=faults,
        )
        return page, 422 if faults else 200


@blueprint.post("/meter")
def set_meter() -> Any:
    """Switch faults and the clock."""
    form = WriteForm()

    def do() -> str:
        form.check()
        simulator.set_meter(
            desk(),
            actor(),
            form.write_key,
            probe_id=request.form.get("probe", ""),
            faults=request.form.getlist("fault"),
            pace=request.form.get("pace", "1"),
        )
        flash("The simulated meter is set. Dip again to see it from the start.", "note")
        return url_for("practice.meter")

    return answer(do, meter)
