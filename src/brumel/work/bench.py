"""Calibrating a probe: start a run, dip, take points, redo them, finish or abandon."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from dataclasses import asdict
from datetime import timedelta
from typing import Any

from sqlalchemy import func, select

from brumel.core.checking import Door
from brumel.core.errors import InputError, InputErrors
from brumel.core.verdict import Outcome
from brumel.methods import Method
from brumel.store.tables import Calibration, Dip, Lot, Point, Probe, Run, RunEnd, Superseding, User
from brumel.work import kit, practices, runstate, samples, solutions, trusting
from brumel.work.conditions import Conditions, checked, out_of_reach
from brumel.work.desk import Desk, MovedOn, NotFound, Refused, Write, object_id
from brumel.work.reasons import clean_reason
from brumel.work.trades import Case, Trade, trade


def start(
    desk: Desk,
    actor: User,
    key: uuid.UUID,
    *,
    probe_id: str,
    method_key: str,
    source: str,
    cups: Mapping[str, str],
    conditions: Conditions | None = None,
) -> dict[str, Any]:
    """Open a run on a probe. One open run a probe; all faults of the choice at once. Returns {"run": id}."""
    if source not in ("live", "typed"):
        raise InputError("source", "Readings are live or typed. Choose one of the two.", value=source)
    with desk.write(actor, key, "run.start") as w:
        if w.done:
            return w.done
        run = open_run(
            w, kit.probe(w.session, probe_id), method_key, source, cups, conditions or Conditions()
        )  # fmt: skip
        detail = {"method": run.method["key"], "version": run.method["version"], "cups": run.cups}
        return w.finish(f"run:{run.id}", {**detail, "conditions": run.conditions}, run=run.id)


def open_run(
    w: Write, probe: Probe, method_key: str, source: str, cups: Mapping[str, str], conditions: Conditions,
    sitting_id: uuid.UUID | None = None,
) -> Run:  # fmt: skip
    """The run itself, inside a write: everything that may stand in its way is looked at here."""
    method = practices.method(w.session, method_key)
    if method is None or method.quantity != probe.quantity:
        raise InputError("method", "That method is not known for this probe. Choose one of the list.", value=method_key)
    # Two people starting on one probe take turns here, and the second finds the first one's run.
    w.session.execute(select(Probe.id).where(Probe.id == probe.id).with_for_update())
    _may_start(w, probe, source)
    method = practices.for_probe(method, probe).with_found_and_left(conditions.as_found, conditions.as_left)
    chosen = _cups(w, method, cups, probe)
    stored = checked(w, probe, method, conditions, source)
    lots = [w.session.get_one(Lot, uuid.UUID(lot)) for lot in chosen.values()]
    if beyond := out_of_reach(w.session, probe, lots):
        stored["bracket"] = beyond
    snapshot, look = kit.last_snapshot(w.session, probe.meter_id), kit.last_inspection(w.session, probe.id)
    run = Run(
        id=uuid.uuid4(), probe_id=probe.id, operator_id=w.actor.id, source=source, method=method.stored(), cups=chosen,
        conditions=stored, snapshot_id=snapshot.id if snapshot else None, inspection_id=look.id if look else None,
        sitting_id=sitting_id, repeats_id=_repeats(w, probe, conditions.repeats), started_at=w.now,
    )  # fmt: skip
    w.session.add(run)
    w.session.flush()
    return run


def _may_start(w: Write, probe: Probe, source: str) -> None:
    if probe.retired_at:
        raise Refused(f"{probe.name} is retired; its record stays, but it is not calibrated any more.")
    if kit.open_run(w.session, probe.id):
        raise Refused(f"{probe.name} has a run open already. Go on with it, or abandon it first.")
    if waiting := trusting.conditioning(w.session, probe, w.now):
        raise Refused(
            f"{probe.name} was {waiting.words} and is {waiting.meanwhile or 'waiting'} until "
            f"{waiting.ready_at:%d %b, %H:%M} UTC. Calibrate it then; where its manual asks for less, "
            "the lead can set its own wait in Kit."
        )
    look = kit.last_inspection(w.session, probe.id)
    if look is not None and look.blocks:
        raise Refused(
            f"{probe.name} was looked over on {look.at:%d %b, %H:%M} UTC and a finding keeps it off Bench. Put it right, "
            "look it over again in Kit, then calibrate."
        )
    if source == "live" and probe.meter.link == "typed":
        raise InputError("source", f"{probe.meter.name} has no link; type its readings.", value=source)


def _repeats(w: Write, probe: Probe, run_id: str) -> uuid.UUID | None:
    if not run_id:
        return None
    earlier = w.session.get(Run, object_id(run_id, "run"))
    if earlier is None or earlier.probe_id != probe.id:
        raise NotFound("There is no such run of this probe to repeat.")
    return earlier.id


def _cups(w: Write, method: Method, cups: Mapping[str, str], probe: Probe) -> dict[str, str]:
    """The lot of every step that needs one, checked against the step's range."""
    own = trade(method.quantity)
    faults: list[InputError] = []
    chosen: dict[str, str] = {}
    given = dict(cups)
    first = next((s for s in method.steps if s.role == "adjust"), None)
    for twin in ("as-found", "as-left"):  # read in the cup that is adjusted in
        if first is not None and first.key in given:
            given.setdefault(twin, given[first.key])
    for step in method.steps:
        if step.vessel != "solution" or step.between is None:
            continue
        lot = w.session.get(Lot, object_id(given[step.key], "solution")) if given.get(step.key) else None
        if lot is None or lot.discarded_at or solutions.measure(lot, method.quantity) is None:
            faults.append(InputError(step.key, f"Choose the solution for “{step.title}”."))
            continue
        nominal = solutions.nominal(lot, method.quantity, probe)
        low, high = step.between
        if not low <= nominal <= high:
            shown = f"pH {nominal:.2f}" if own.unit == "pH" else f"{nominal:.6g} {own.unit}"
            takes = f"pH {low:g} to {high:g}" if own.unit == "pH" else f"{low:g} to {high:g} {own.unit}"
            faults.append(
                InputError(
                    step.key, f"{lot.code} is {shown}; “{step.title}” takes {takes}.", value=nominal, low=low, high=high
                )
            )
        twice = str(lot.id) in [v for k, v in chosen.items() if k not in ("as-found", "as-left")]
        if twice and step.role not in ("found", "left") and not step.key.endswith("-cold"):
            faults.append(InputError(step.key, f"{lot.code} stands in two cups of this run."))
        chosen[step.key] = str(lot.id)
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return chosen


def _open(w: Write, run_id: str, step: str | None, turn: int | None) -> runstate.RunState:
    """The run, locked, still open and still where the sender saw it."""
    state = runstate.load(w.session, run_id, lock=True)
    if state.end:
        raise MovedOn(f"This run was {state.end.how} at {state.end.at:%H:%M} UTC. Nothing was changed.")
    if turn is not None and turn != state.turn:
        raise MovedOn("This run moved on in another window. You now see where it stands; nothing was changed.")
    if step is not None and (state.current is None or state.current.spec.key != step):
        raise MovedOn("Another cup is in turn now. You now see where the run stands; nothing was changed.")
    return state


def dip(desk: Desk, actor: User, key: uuid.UUID, *, run_id: str, step: str, turn: int) -> dict[str, Any]:
    """The probe now stands in the cup of this step; its clock starts."""
    with desk.write(actor, key, "run.dip") as w:
        if w.done:
            return w.done
        state = _open(w, run_id, step, turn)
        _in_order(w, state.run)
        made = _dip(w, state, state.trade.native)
        return w.finish(f"run:{run_id}", {"step": step, "dip": str(made.id)}, dip=made.id)


def _in_order(w: Write, run: Run) -> None:
    """In a sitting, ion tips come after the pH, ORP and conductivity they rest on."""
    names = kit.waits_for(w.session, run)
    if names:
        raise Refused(f"Ion tips come last: finish {names} first, then go on with {run.probe.name}.")


def _dip(w: Write, state: runstate.RunState, entered: str) -> Dip:
    if state.current is None:
        raise MovedOn("All cups are done. You now see where the run stands; nothing was changed.")
    made = Dip(
        id=uuid.uuid4(), probe_id=state.run.probe_id, run_id=state.run.id, step=state.current.spec.key,
        lot_id=state.current.lot.lot.id if state.current.lot else None, source=state.run.source, entered=entered,
        started_at=w.now,
    )  # fmt: skip
    w.session.add(made)
    w.session.flush()
    return made


def type_reading(
    desk: Desk,
    actor: User,
    key: uuid.UUID,
    *,
    run_id: str,
    step: str,
    turn: int,
    signal: str,
    value: float,
    temperature_c: float,
    after_s: float | None = None,
) -> dict[str, Any]:
    """One typed value of the display: mV, or the displayed pH, with the cup's temperature.

    `after_s` is the time since the probe went in, where it was noted on paper; else the clock is taken.
    """
    with desk.write(actor, key, "run.type") as w:
        if w.done:
            return w.done
        state = _open(w, run_id, step, turn)
        if state.run.source != "typed":
            raise Refused("This run takes live readings; start a typed run to type them.")
        _in_order(w, state.run)
        if state.dip is None:
            check_typed(state.trade, signal, value, temperature_c, after_s)
        made = state.dip or _dip(w, state, signal)
        seq = add_typed(w, made, state.trade, state.case, signal, value, temperature_c, after_s)
        return w.finish(f"run:{run_id}", {"step": step, signal: value, "temperature_c": temperature_c}, seq=seq)


def check_typed(own: Trade, signal: str, value: float, temperature_c: float, after_s: float | None) -> None:
    """All faults of a typed value at once."""
    door = Door()
    door.name("signal", signal, own.entries)
    entry = own.entries.get(signal, own.entries.get(own.native))
    if entry is not None:
        field = {"ph": "displayed_ph", "mv": "millivolts"}.get(signal if signal in own.entries else own.native, "value")
        door.number(field, value, entry.low, entry.high)
    door.number("temperature_c", temperature_c, -5, 100)
    if after_s is not None:
        door.number("elapsed_s", after_s, 0, samples.LONGEST_DIP.total_seconds())
    door.close()


def add_typed(
    w: Write, made: Dip, own: Trade, case: Case, signal: str, value: float, temperature_c: float, after_s: float | None
) -> int:
    """Check a typed value and store it as a sample of the dip. Raises all faults at once."""
    check_typed(own, signal, value, temperature_c, after_s)
    if made.entered and made.entered != signal:
        raise InputError("signal", f"This cup was begun in another unit{own.unit_words}. Stay with that one.")
    t_s = (w.now - made.started_at).total_seconds() if after_s is None else after_s
    if not 0 <= t_s <= samples.LONGEST_DIP.total_seconds():
        raise Refused("The probe has stood here for over three hours; dip it afresh.")
    seq = samples.next_seq(w.session, made)
    shown = value if signal != own.native else None
    samples.store(
        w.session, made, [(seq, t_s, own.entries[signal].to_signal(value, temperature_c, case), temperature_c, shown)]
    )
    return seq


def accept(
    desk: Desk,
    actor: User,
    key: uuid.UUID,
    *,
    run_id: str,
    step: str,
    turn: int,
    early: bool = False,
    answer: str = "",
    seen: int | None = None,
    reference: float | None = None,
    reference_u: float | None = None,
) -> dict[str, Any]:
    """Take the point of this cup. Unsettled needs `early`; suspicions need an answer; both are recorded.

    `seen` is the last sample the page had shown: what was offered as settled is what is taken. `reference` is what the
    reference instrument showed beside it, with its expanded uncertainty, where the step asks for one.
    """
    with desk.write(actor, key, "run.accept") as w:
        if w.done:
            return w.done
        state = _open(w, run_id, step, turn)
        live = runstate.live(w.session, state, seen)
        if live is None or state.dip is None or state.current is None or live.settling.value is None:
            raise Refused("There is no reading to accept yet. Dip the probe in the cup first.")
        expected, expanded = _expected(state, live, reference, reference_u)
        if expected is None or live.temperature_c is None:
            raise Refused(live.suspicions[0].sentence if live.suspicions else "The cup's temperature is not known.")
        if not live.settling.settled and not early:
            raise Refused(
                f"Not settled: {live.settling.sentence} Wait, or accept it early; it is then recorded as early."
            )
        answer = clean_reason(answer, required=False)
        if live.suspicions and not answer:
            raise Refused(f"{live.suspicions[0].sentence} Say why you take it all the same, or redo the cup.")
        if state.current.lot and state.current.lot.lot.opened_at is None:
            w.session.get_one(Lot, state.current.lot.lot.id).opened_at = w.now  # poured into a cup: it is open now
        w.session.add(
            Point(
                run_id=state.run.id, step=step, version=_next_version(w, state, step), dip_id=state.dip.id,
                lot_id=state.current.lot.lot.id if state.current.lot else None, signal=live.settling.value,
                temperature_c=live.temperature_c, expected=expected, expanded=expanded, entered_as=live.trace.entered_as,
                settling=runstate.settling_record(live.trace, live.settling, state),
                early=not live.settling.settled, suspicions=[asdict(s) for s in live.suspicions] or None,
                reason=answer, at=w.now, by_id=actor.id,
            )
        )  # fmt: skip
        detail = {
            "step": step,
            "signal": live.settling.value,
            "early": not live.settling.settled,
            "answer": answer,
        }
        return w.finish(f"run:{run_id}", detail, step=step)


def _expected(
    state: runstate.RunState, live: runstate.Live, reference: float | None, reference_u: float | None
) -> tuple[float | None, float]:
    """What the quantity is in this cup and how well that is known (k = 2)."""
    step = state.current
    if step is None:
        return None, 0.0
    if step.spec.vessel != "reference":
        if live.expected is None:
            return None, 0.0
        return live.expected, state.trade.expanded(step.spec, step.lot.lot if step.lot else None, live.expected)
    low, high = (-30.0, 110.0) if state.method.quantity == "temperature" else (0.0, 50.0)
    door = Door()
    if reference is None:
        door.add(InputError("reference", "Reference must say what the instrument beside the probe showed."))
    else:
        door.number("reference", reference, low, high)
    if reference_u is None:
        door.add(InputError("expanded_uncertainty", "Expanded uncertainty of the reference must be given."))
    else:
        door.number("expanded_uncertainty", reference_u, 0.001, 5)
    door.close()
    return reference, float(reference_u or 0.0)


def _next_version(w: Write, state: runstate.RunState, step: str) -> int:
    newest = w.session.scalar(select(func.max(Point.version)).where(Point.run_id == state.run.id, Point.step == step))
    return (newest or 0) + 1


def redo(desk: Desk, actor: User, key: uuid.UUID, *, run_id: str, step: str, turn: int, reason: str) -> dict[str, Any]:
    """Withdraw a point with a reason and open its cup again; the old version stays in the record."""
    with desk.write(actor, key, "run.redo") as w:
        if w.done:
            return w.done
        state = _open(w, run_id, None, turn)
        if not any(s.spec.key == step and s.point for s in state.steps):
            raise NotFound("There is no accepted point of that cup.")
        w.session.add(
            Point(
                run_id=state.run.id, step=step, version=_next_version(w, state, step), withdrawn=True,
                reason=clean_reason(reason), at=w.now, by_id=actor.id,
            )
        )  # fmt: skip
        return w.finish(f"run:{run_id}", {"step": step, "reason": reason}, step=step)


def finish(
    desk: Desk, actor: User, key: uuid.UUID, *, run_id: str, turn: int, use: bool, words: str = ""
) -> dict[str, Any]:
    """End the run with what it found. "With care" is put in force only by a named decision with its reason."""
    with desk.write(actor, key, "run.finish") as w:
        if w.done:
            return w.done
        state = _open(w, run_id, None, turn)
        if state.run.purpose != "calibration":
            raise Refused("This is a closing check; record it as one. It puts nothing in force.")
        if state.current is not None:
            raise Refused(f"“{state.current.spec.title}” is still open. Take it first, or abandon the run.")
        found = runstate.result(w.session, state)
        if found.fit is None:
            reason = found.problem
            w.session.add(RunEnd(run_id=state.run.id, how="failed", at=w.now, by_id=actor.id, reason=reason))
            return w.finish(f"run:{run_id}", {"outcome": "failed", "reason": reason}, calibration=None)
        outcome = found.verdict.outcome
        if use and outcome is Outcome.NOT:
            raise Refused("The verdict is “do not use”; this calibration cannot be put in force.")
        words = clean_reason(words, required=outcome is not Outcome.FIT)
        made = Calibration(
            id=uuid.uuid4(), run_id=state.run.id, probe_id=state.run.probe_id, at=w.now,
            valid_until=w.now + timedelta(hours=state.method.valid_h.value), signal=found.signal,
            fit=found.fit.as_dict(), verdict=found.verdict.as_dict(), causes=[asdict(c) for c in found.causes],
            as_found=list(found.as_found), outcome=outcome.value, usable=use, decision=words, by_id=actor.id,
            figures=found.fit.figures,
        )  # fmt: skip
        w.session.add(made)
        w.session.add(RunEnd(run_id=state.run.id, how="finished", at=w.now, by_id=actor.id, reason=words))
        w.session.flush()
        _take_place(w, state, made)
        detail = {"outcome": outcome.value, "in_force": use, "decision": words}
        return w.finish(f"run:{run_id}", detail, calibration=made.id)


def abandon(desk: Desk, actor: User, key: uuid.UUID, *, run_id: str, reason: str) -> dict[str, Any]:
    """End the run without a result; it stays in the record with its reason."""
    with desk.write(actor, key, "run.abandon") as w:
        if w.done:
            return w.done
        state = _open(w, run_id, None, None)
        why = clean_reason(reason)
        w.session.add(RunEnd(run_id=state.run.id, how="abandoned", at=w.now, by_id=actor.id, reason=why))
        return w.finish(f"run:{run_id}", {"reason": why}, run=run_id)


def _take_place(w: Write, state: runstate.RunState, made: Calibration) -> None:
    """A repeat that is put in force takes the place of what it repeats."""
    if state.run.repeats_id is None or not made.usable:
        return
    old = w.session.scalar(select(Calibration).where(Calibration.run_id == state.run.repeats_id))
    if old is not None and w.session.get(Superseding, old.id) is None:
        reason = f"repeated by calibration {made.number}"
        w.session.add(Superseding(calibration_id=old.id, new_id=made.id, at=w.now, reason=reason, by_id=w.actor.id))


def supersede(desk: Desk, actor: User, key: uuid.UUID, *, calibration_id: str, reason: str) -> dict[str, Any]:
    """A calibration counts no longer, with a reason; readings that rest on it keep it as what it was."""
    with desk.write(actor, key, "calibration.supersede") as w:
        if w.done:
            return w.done
        found = w.session.get(Calibration, object_id(calibration_id, "calibration"))
        if found is None:
            raise NotFound("There is no such calibration.")
        w.session.execute(select(Probe.id).where(Probe.id == found.probe_id).with_for_update())
        if w.session.get(Superseding, found.id) is not None:
            raise MovedOn(f"Calibration {found.number} was set aside already. Nothing was changed.")
        why = clean_reason(reason)
        w.session.add(Superseding(calibration_id=found.id, new_id=None, at=w.now, reason=why, by_id=actor.id))
        return w.finish(f"calibration:{found.id}", {"number": found.number, "reason": why}, calibration=found.id)
