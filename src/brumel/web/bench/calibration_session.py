"""A calibration session: the probes of one meter together, with one pair of hands and several timers."""

from __future__ import annotations

from typing import Any

from flask import jsonify, render_template, request, url_for

from brumel.core.sentence import say
from brumel.methods import Method
from brumel.store.tables import Probe
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.bench.forms import ConditionsForm
from brumel.web.bench.place import GOES_IN, Faults, ask_for_skill, blueprint
from brumel.web.bench.routes import conditions_of
from brumel.work import kit
from brumel.work.bench import calibration_sessions
from brumel.work.bench.conditions import PRESSURES
from brumel.work.bench.offers import contradictions_for, offers_for, usual_cups


@blueprint.get("/meters/<meter_id>/session")
def plan_session(meter_id: str, faults: Faults = ()) -> Any:
    """Choose probes, methods and cups for one calibration session; the outline says how long it takes."""
    with desk().read() as session:
        meter, now = kit.meter_of(session, meter_id), desk().clock()
        lots, recorded = kit.lots_on_shelf(session, now), kit.last_settings(session, meter.id)
        source = request.values.get("source", "typed" if meter.link == "typed" else "live")
        rows: list[dict[str, Any]] = []
        chosen: list[tuple[Probe, Method]] = []
        poured: list[tuple[Probe, Method, dict[str, str]]] = []
        choices = calibration_sessions.default_choices(session, meter.id)
        probes, in_use = [p for p, _ in choices], kit.methods_in_use(session)
        facts, runs = kit.facts(session, probes, now), kit.open_runs(session, probes)
        poured_last = kit.last_cups_of(session, probes)
        for probe, usual in choices:
            asked = in_use.get(request.values.get(f"method-{probe.id}", "")) or usual
            method = kit.method_for_probe(asked if asked.quantity == probe.quantity else usual, probe)
            offers = {s.key: offers_for(s, lots, probe) for s in method.steps if s.vessel == "solution"}
            why = _in_the_way(facts[probe.id], probe.id in runs)
            rows.append(
                {
                    "probe": probe,
                    "method": method,
                    "methods": {k: m for k, m in in_use.items() if m.quantity == probe.quantity},
                    "offers": offers,
                    "why": why,
                    "before": usual_cups(offers, poured_last.get((probe.id, method.key), {})),
                    "taken": _is_taken(probe, why),
                    "against": contradictions_for(recorded, probe, offers, source),
                }
            )
            if rows[-1]["taken"]:
                chosen.append((probe, method))
                poured.append((probe, method, rows[-1]["before"]))
        page = render_template(
            "bench/plan_session.html",
            meter=meter,
            rows=rows,
            outline=calibration_sessions.outline(chosen),
            pressures=PRESSURES,
            recorded=recorded,
            faults=faults,
            given=request.values,
            source=source,
            apart=_one_after_another(chosen),
            shared=calibration_sessions.shared_rinses(poured),
        )
        return page, 422 if faults else 200


def _is_taken(probe: Probe, why: str) -> bool:
    if "chosen" in request.values:
        return str(probe.id) in request.values.getlist("probe")
    return not why


def _in_the_way(facts: kit.TrustFacts, has_run: bool) -> str:
    if has_run:
        return "has an open run"
    if waiting := facts.wait:
        return say("is {meanwhile} until {ready}", meanwhile=waiting.meanwhile or "waiting", ready=waiting.ready_at)
    return "is kept off Bench by its inspection" if facts.look and facts.look.blocks else ""


def _one_after_another(chosen: list[tuple[Probe, Method]]) -> float:
    """What the same runs would take one after the other [min]."""
    return sum(calibration_sessions.outline([pair]).ready_min for pair in chosen)


@blueprint.post("/meters/<meter_id>/session")
def start_session(meter_id: str) -> Any:
    """Open the runs."""
    form = ConditionsForm()

    def do() -> str:
        form.check()
        choices = [
            calibration_sessions.SessionChoice(
                probe,
                request.form.get(f"method-{probe}", ""),
                {k.removeprefix(f"cup-{probe}-"): v for k, v in request.form.items() if k.startswith(f"cup-{probe}-")},
            )
            for probe in request.form.getlist("probe")
        ]
        for choice in choices:
            ask_for_skill(choice.probe_id, choice.method_key)
        started = calibration_sessions.start(
            desk(),
            actor(),
            form.write_key,
            meter_id=meter_id,
            source=request.form.get("source", ""),
            choices=choices,
            conditions=conditions_of(form),
        )
        return url_for("bench.calibration_session", calibration_session_id=started.id)

    return answer(do, lambda faults: plan_session(meter_id, faults))


@blueprint.get("/sessions/<calibration_session_id>")
def calibration_session(calibration_session_id: str) -> Any:
    """The calibration session as it stands: every probe with its cup and its timer, and which one wants a hand."""
    with desk().read() as session:
        meter_session = calibration_sessions.load(session, calibration_session_id)
        lines = calibration_sessions.lines(session, meter_session, desk().clock())
        return render_template(
            "bench/calibration_session.html",
            calibration_session=meter_session,
            lines=lines,
            turn=calibration_sessions.next_line(lines),
            goes_in=GOES_IN,
        )


@blueprint.get("/sessions/<calibration_session_id>/now")
def session_now(calibration_session_id: str) -> Any:
    """The timers of the calibration session, for the page to follow."""
    with desk().read() as session:
        meter_session = calibration_sessions.load(session, calibration_session_id)
        lines = calibration_sessions.lines(session, meter_session, desk().clock())
        turn = calibration_sessions.next_line(lines)
        return jsonify(
            turn=str(turn.state.run.id) if turn else "",
            lines=[
                {
                    "run": str(line.state.run.id),
                    "rank": line.rank,
                    "done": line.state.done,
                    "state": line.live.settling.state.value if line.live else "",
                    "elapsed": line.elapsed_s,
                    "to_go": line.live.settling.seconds_to_go if line.live else None,
                    "speaks": line.live.suspicions[0].sentence if line.live and line.live.suspicions else "",
                }
                for line in lines
            ],
        )
