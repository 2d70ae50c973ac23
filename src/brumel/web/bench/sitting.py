"""A whole meter in one sitting: choosing, the outline of its time, and the desk with several timers going at once."""

from __future__ import annotations

from typing import Any

from flask import jsonify, redirect, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.methods import Method
from brumel.store.tables import Probe
from brumel.web.access import actor, desk
from brumel.web.bench.routes import GOES_IN, Faults, blueprint, conditions_of, contradictions_for, offers_for
from brumel.web.forms import ConditionsForm
from brumel.work import kit, practices, sittings, trusting
from brumel.work.conditions import PRESSURES
from brumel.work.desk import Refused


@blueprint.get("/meters/<meter_id>/sitting")
def plan_sitting(meter_id: str, faults: Faults = ()) -> Any:
    """Choose probes, methods and cups for one sitting; the outline says how long it takes."""
    with desk().read() as session:
        meter, now = kit.meter(session, meter_id), desk().clock()
        lots, snapshot = kit.lots(session, now), kit.last_snapshot(session, meter.id)
        source = request.values.get("source", "typed" if meter.link == "typed" else "live")
        rows: list[dict[str, Any]] = []
        chosen: list[tuple[Probe, Method]] = []
        poured: list[tuple[Probe, Method, dict[str, str]]] = []
        for probe, usual in sittings.default_choices(session, meter.id):
            asked = practices.method(session, request.values.get(f"method-{probe.id}", "")) or usual
            method = practices.for_probe(asked if asked.quantity == probe.quantity else usual, probe)
            offers = {s.key: offers_for(s, lots, probe) for s in method.steps if s.vessel == "solution"}
            why = _in_the_way(session, probe, now)
            rows.append({"probe": probe, "method": method, "methods": practices.methods(session, probe.quantity),
                         "offers": offers, "before": kit.last_cups(session, probe.id), "why": why,
                         "taken": _is_taken(probe, why),
                         "against": contradictions_for(snapshot, probe, offers, source)})  # fmt: skip
            if rows[-1]["taken"]:
                chosen.append((probe, method))
                poured.append((probe, method, _likely(offers, rows[-1]["before"])))
        page = render_template(
            "bench/plan_sitting.html", meter=meter, rows=rows, outline=sittings.outline(chosen), pressures=PRESSURES,
            snapshot=snapshot, faults=faults, given=request.values,
            source=source,
            apart=_one_after_another(chosen), shared=sittings.shared_rinses(poured),
        )  # fmt: skip
        return page, 422 if faults else 200


def _likely(offers: dict[str, list[kit.LotView]], before: dict[str, str]) -> dict[str, str]:
    """The lot each cup would hold: the one of last time where it is offered, else the first."""
    found = {}
    for step, views in offers.items():
        ids = [str(v.lot.id) for v in views]
        if ids:
            found[step] = before[step] if before.get(step) in ids else ids[0]
    return found


def _is_taken(probe: Probe, why: str) -> bool:
    if "chosen" in request.values:
        return str(probe.id) in request.values.getlist("probe")
    return not why


def _in_the_way(session: Any, probe: Probe, now: Any) -> str:
    if kit.open_run(session, probe.id):
        return "has an open run"
    if waiting := trusting.conditioning(session, probe, now):
        return f"is {waiting.meanwhile or 'waiting'} until {waiting.ready_at:%d %b, %H:%M} UTC"
    look = kit.last_inspection(session, probe.id)
    return "is kept off Bench by its inspection" if look and look.blocks else ""


def _one_after_another(chosen: list[tuple[Probe, Method]]) -> float:
    """What the same runs would take one after the other [min]."""
    return sum(sittings.outline([pair]).ready_min for pair in chosen)


@blueprint.post("/meters/<meter_id>/sitting")
def start_sitting(meter_id: str) -> Any:
    """Open the runs."""
    form = ConditionsForm()
    try:
        form.check()
        choices = [
            sittings.Choice(
                probe, request.form.get(f"method-{probe}", ""),
                {k.removeprefix(f"cup-{probe}-"): v for k, v in request.form.items() if k.startswith(f"cup-{probe}-")},
            )
            for probe in request.form.getlist("probe")
        ]  # fmt: skip
        made = sittings.start(
            desk(), actor(), form.write_key, meter_id=meter_id, source=request.form.get("source", ""), choices=choices,
            conditions=conditions_of(form),
        )  # fmt: skip
    except InputError as error:
        return plan_sitting(meter_id, error.faults)
    except Refused as error:
        return plan_sitting(meter_id, (error,))
    return redirect(url_for("bench.sitting", sitting_id=made["sitting"]))


@blueprint.get("/sittings/<sitting_id>")
def sitting(sitting_id: str) -> Any:
    """The sitting as it stands: every probe with its cup and its timer, and which one wants a hand."""
    with desk().read() as session:
        found = sittings.load(session, sitting_id)
        lines = sittings.lines(session, found, desk().clock())
        return render_template(
            "bench/sitting.html", sitting=found, lines=lines, turn=sittings.next_line(lines), goes_in=GOES_IN
        )


@blueprint.get("/sittings/<sitting_id>/now")
def sitting_now(sitting_id: str) -> Any:
    """The timers of the sitting, for the page to follow."""
    with desk().read() as session:
        found = sittings.load(session, sitting_id)
        lines = sittings.lines(session, found, desk().clock())
        turn = sittings.next_line(lines)
        return jsonify(
            turn=str(turn.state.run.id) if turn else "",
            lines=[
                {
                    "run": str(line.state.run.id), "rank": line.rank, "done": line.state.done,
                    "state": line.live.settling.state.value if line.live else "", "elapsed": line.elapsed_s,
                    "to_go": line.live.settling.seconds_to_go if line.live else None,
                    "speaks": line.live.suspicions[0].sentence if line.live and line.live.suspicions else "",
                }
                for line in lines
            ],
        )  # fmt: skip
