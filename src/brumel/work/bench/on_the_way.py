"""Changing a run on its way: another cup next, a cup left out, a lot replaced."""

from __future__ import annotations

import uuid
from collections.abc import Mapping

from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.store.tables import Dip, Lot, RunChange
from brumel.work.bench.run_state import RunState, StepState, open_for_writing
from brumel.work.bench.runs import lot_for_step
from brumel.work.desk import NotFound, Refused, Write, Written, clean_reason, writes
from brumel.work.link import samples


@writes("run.next", Written)
def take_next(w: Write, *, run_id: str, step: str, turn: int, is_there: bool = False) -> Written:
    """Take this cup next, whatever the method's order; one that was left out is taken after all.

    is_there : the probe stands in it already, as the page had recognised; what was typed is then of this cup
    """
    state = open_for_writing(w, run_id, None, turn)
    wanted = _step(state, step)
    if wanted.point is not None:
        raise Refused(f"{wanted.code} was taken already. Redo it, if it is to be read again.")
    _change(w, state, "next", step)
    if is_there and state.dip is not None:
        _move_dip(w, state.dip, wanted)
    w.record(f"run:{run_id}", {"next": step, "is there": is_there})
    return Written(step)


def _move_dip(w: Write, old: Dip, to: StepState) -> None:
    """The probe stood in another cup than was thought: its stay, and what was typed of it, belong to that one."""
    moved = Dip(
        id=uuid.uuid4(),
        probe_id=old.probe_id,
        run_id=old.run_id,
        step=to.spec.key,
        lot_id=to.lot.lot.id if to.lot else None,
        source=old.source,
        entered=old.entered,
        started_at=old.started_at if old.source == "typed" else w.now,
    )
    w.session.add(moved)
    w.session.flush()
    if old.source == "typed":
        was = samples.trace(w.session, old)
        columns = (was.seq.tolist(), was.t_s.tolist(), was.signal.tolist(), was.temperature_c.tolist(), was.displayed)
        samples.store_samples(w.session, moved, list(zip(*columns, strict=True)))


@writes("run.leave-out", Written)
def leave_out(w: Write, *, run_id: str, step: str, turn: int) -> Written:
    """Do without this cup, where the run still adds up without it."""
    state = open_for_writing(w, run_id, None, turn)
    wanted = _step(state, step)
    if not state.can_leave_out(step):
        raise Refused(f"{wanted.spec.title} cannot be left out: the fit rests on it.")
    _change(w, state, "leave out", step)
    w.record(f"run:{run_id}", {"left out": step})
    return Written(step)


@writes("run.done", Written)
def leave_out_the_rest(w: Write, *, run_id: str, turn: int) -> Written:
    """Done with the cups that were taken: all that wait are left out."""
    state = open_for_writing(w, run_id, None, turn)
    if not state.can_be_done:
        raise Refused("The cups that were taken do not add up to a calibration yet. Go on with the next one.")
    for step in state.waiting:
        _change(w, state, "leave out", step.spec.key)
    w.record(f"run:{run_id}", {"left out": [step.spec.key for step in state.waiting]})
    return Written(run_id)


@writes("run.told", Written)
def tell_figures(w: Write, *, run_id: str, turn: int, figures: Mapping[str, float]) -> Written:
    """What the meter shows of the probe after it was adjusted: slope, offset, cell constant, response factor."""
    state = open_for_writing(w, run_id, None, turn)
    if not state.run.conditions.adjusted:
        raise Refused("In this run Brumel works the figures out; the meter's own are not asked for.")
    known = {spec.key: spec for spec in state.quantity.told}
    door = Door()
    for key, value in figures.items():
        door.name("figure", key, known)
        if key in known:
            door.number(known[key].name, value, known[key].low, known[key].high)
    door.close()
    if not figures:
        raise InputError("figure", "Type what the meter shows of itself, or go on without it: it is then not known.")
    for key, value in figures.items():
        _change(w, state, "told", key, value=value)
    w.record(f"run:{run_id}", {"told": dict(figures)})
    return Written(run_id)


@writes("run.lot", Written)
def replace_lot(w: Write, *, run_id: str, step: str, turn: int, lot_id: str, reason: str) -> Written:
    """Another lot stands in this cup from now on; a cup that was taken keeps the lot it was taken with."""
    state = open_for_writing(w, run_id, None, turn)
    wanted = _step(state, step)
    if wanted.point is not None:
        raise Refused(f"{wanted.code} was taken already with this lot. Redo it first, then replace the lot.")
    lot = lot_for_step(w, lot_id, wanted.spec, state.method.quantity, state.run.probe)
    others = [s.lot.lot.id for s in state.steps if s.lot and s is not wanted and s.spec.role not in ("found", "left")]
    if lot.id in others and not wanted.spec.key.endswith("-cold"):
        raise InputError("lot", f"{lot.code} stands in two cups of this run.")
    _change(w, state, "lot", step, lot, clean_reason(reason))
    w.record(f"run:{run_id}", {"step": step, "lot": lot.code, "reason": reason})
    return Written(str(lot.id))


def _step(state: RunState, step: str) -> StepState:
    found = next((s for s in state.steps if s.spec.key == step), None)
    if found is None:
        raise NotFound("There is no such cup in this run.")
    return found


def _change(
    w: Write,
    state: RunState,
    kind: str,
    step: str,
    lot: Lot | None = None,
    reason: str = "",
    value: float | None = None,
) -> None:
    w.session.add(
        RunChange(
            run_id=state.run.id,
            kind=kind,
            step=step,
            lot_id=lot.id if lot else None,
            value=value,
            reason=reason,
            at=w.now,
            by_id=w.actor.id,
        )
    )
    w.session.flush()
