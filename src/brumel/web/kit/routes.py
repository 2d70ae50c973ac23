"""Kit: probes, solutions and methods as they stand."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, render_template

from brumel.methods import load_method, load_methods
from brumel.methods.care import load_care
from brumel.web import drawn
from brumel.web.access import desk
from brumel.work import kit

blueprint = Blueprint("kit", __name__, template_folder="templates", url_prefix="/kit")


@blueprint.get("")
def index() -> Any:
    """Meters, probes and solutions with their state."""
    with desk().read() as session:
        now = desk().clock()
        probes = [{"probe": p, "trust": kit.trust(session, p, now)} for p in kit.probes(session)]
        return render_template("kit/index.html", probes=probes, lots=kit.lots(session, now))


@blueprint.get("/probes/<probe_id>")
def probe(probe_id: str) -> Any:
    """One probe: what it can be trusted for and how it has been ageing."""
    with desk().read() as session:
        found = kit.probe(session, probe_id)
        past = kit.calibrations(session, found.id, 30)
        limits = load_methods()["ph-7-4-10"].limits
        return render_template(
            "kit/probe.html", probe=found, trust=kit.trust(session, found, desk().clock()), past=past,
            history=drawn.history(past, limits), run=kit.open_run(session, found.id),
            care=load_care().advice(found.quantity),
            cautions=load_care().cautions_at("handling", "cleaning", "solutions", quantity=found.quantity),
        )  # fmt: skip


@blueprint.get("/methods")
def methods() -> Any:
    """Every method with its sequence, limits and sources."""
    return render_template("kit/methods.html", methods=load_methods(), load=load_method)
