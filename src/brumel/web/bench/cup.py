"""What the page of a cup shows besides its reading: the typed entry, what the meter is set to, other lots."""

from __future__ import annotations

from typing import Any

from flask import request

from brumel.core.errors import InputError
from brumel.core.units import convert
from brumel.methods.model import SET
from brumel.web.access import desk
from brumel.work import bench, kit
from brumel.work.bench.offers import offers_for


def set_to(state: bench.RunState) -> str:
    """What the meter is to be set to in the present cup: its value at the temperature it was just read at."""
    step = state.current
    before = next((s.point for s in state.steps if step and s.spec.key == step.spec.key.removesuffix(SET)), None)
    if before is None or before.expected is None or before.temperature_c is None:
        return "the cup's value at its temperature"
    shown = bench.should_show(state, before.entered_as, before.expected, before.temperature_c)
    return shown or state.quantity.with_unit(before.expected)


def other_lots(session: Any, state: bench.RunState) -> list[Any]:
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
    # A cup whose values were all struck out is still read in the unit they were typed in.
    struck = state.dip.entered if state.dip is not None and state.dip.source == "typed" else ""
    entry = request.form.get("signal") or begun or struck or bench.usual_entry(session, state)
    if entry not in state.quantity.entries:
        entry = bench.usual_entry(session, state)
    rule = state.quantity.criteria(state.method, state.current.spec).typed_rule(0.0) if state.current else None
    since = (desk().clock() - state.dip.started_at).total_seconds() if state.dip else 0.0
    shown = {"entry": entry, "elapsed_s": since, "next_s": rule.first_s if rule else 0.0, "should": ""}
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
    degrees = "" if at is None else f"{convert('temperature_c', at, '°C', unit, 'temperature'):.1f}"
    return {**shown, "temperature_unit": unit, "temperature_shown": degrees}
