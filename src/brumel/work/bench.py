"""Calibrating a probe: start a run, dip, take points, redo them, finish or abandon."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from dataclasses import asdict
from datetime import timedelta
from typing import Any

from sqlalchemy import func, select

from brumel.core import ph
from brumel.core.checking import Door
from brumel.core.errors import InputError, InputErrors
from brumel.core.verdict import Outcome
from brumel.methods import Method, load_method
from brumel.store.tables import Calibration, Dip, Lot, Point, Probe, Run, RunEnd, User
from brumel.work import kit, runstate, samples
from brumel.work.desk import Desk, MovedOn, NotFound, Refused, Write, object_id

LONGEST_REASON = 500


def start(
    desk: Desk,
    actor: User,
    key: uuid.UUID,
    *,
    probe_id: str,
    method_key: str,
    source: str,
    cups: Mapping[str, str],
) -> dict[str, Any]:
    """Open a run on a probe. One open run a probe; all faults of the choice at once. Returns {"run": id}."""
    method = load_method(method_key)
    if method is None:
        raise InputError("method", "That method is not known. Choose one of the list.", value=method_key)
    if source not in ("live", "typed"):
        raise InputError("source", "Readings are live or typed. Choose one of the two.", value=source)
    with desk.write(actor, key, "run.start") as w:
        if w.done:
            return w.done
        probe = kit.probe(w.session, probe_id)
        # Two people starting on one probe take turns here, and the second finds the first one's run.
        w.session.execute(select(Probe.id).where(Probe.id == probe.id).with_for_update())
        if kit.open_run(w.session, probe.id):
            raise Refused(f"{probe.name} has a run open already. Go on with it, or abandon it first.")
        if waiting := kit.conditioning(w.session, probe, w.now):
            raise Refused(
                f"{probe.name} was {waiting.words} and is {waiting.meanwhile or 'waiting'} until "
                f"{waiting.ready_at:%d %b, %H:%M} UTC. Calibrate it then; where its manual asks for less, "
                "the lead can set its own wait in Kit."
            )
        if source == "live" and probe.meter.link != "simulated":
            raise InputError("source", f"{probe.meter.name} has no link; type its readings.", value=source)
        chosen = _cups(w, method, cups)
        run = Run(
            id=uuid.uuid4(), probe_id=probe.id, operator_id=actor.id, source=source,
            method=method.model_dump(mode="json"), cups=chosen, started_at=w.now,
        )  # fmt: skip
        w.session.add(run)
        w.session.flush()
        return w.finish(f"run:{run.id}", {"method": method.key, "version": method.version, "cups": chosen}, run=run.id)


def _cups(w: Write, method: Method, cups: Mapping[str, str]) -> dict[str, str]:
    """The lot of every step, checked against the step's range of pH."""
    faults: list[InputError] = []
    chosen: dict[str, str] = {}
    for step in method.steps:
        given = cups.get(step.key, "")
        lot = w.session.get(Lot, object_id(given, "solution")) if given else None
        if lot is None or lot.discarded_at:
            faults.append(InputError(step.key, f"Choose the solution for “{step.title}”."))
            continue
        nominal = kit.buffer_of(lot).nominal_ph
        low, high = step.ph_between
        if not low <= nominal <= high:
            faults.append(
                InputError(
                    step.key,
                    f"{lot.code} is pH {nominal:.2f}; “{step.title}” takes pH {low:g} to {high:g}.",
                    value=nominal,
                    low=low,
                    high=high,
                )
            )
        if str(lot.id) in chosen.values():
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
        made = _dip(w, state)
        return w.finish(f"run:{run_id}", {"step": step, "dip": str(made.id)}, dip=made.id)


def _dip(w: Write, state: runstate.RunState) -> Dip:
    if state.current is None:
        raise MovedOn("All cups are done. You now see where the run stands; nothing was changed.")
    made = Dip(
        id=uuid.uuid4(), probe_id=state.run.probe_id, run_id=state.run.id, step=state.current.spec.key,
        lot_id=state.current.lot.lot.id, source=state.run.source, started_at=w.now,
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
        made = state.dip or _dip(w, state)
        seq = add_typed(w, made, signal, value, temperature_c, after_s)
        return w.finish(f"run:{run_id}", {"step": step, signal: value, "temperature_c": temperature_c}, seq=seq)


def add_typed(w: Write, made: Dip, signal: str, value: float, temperature_c: float, after_s: float | None) -> int:
    """Check a typed value and store it as a sample of the dip. Raises all faults at once."""
    door = Door()
    door.name("signal", signal, ("mv", "ph"))
    if signal == "ph":
        door.number("displayed_ph", value, -2, 16)
    else:
        door.number("millivolts", value, -2000, 2000)
    door.number("temperature_c", temperature_c, -5, 100)
    if after_s is not None:
        door.number("elapsed_s", after_s, 0, samples.LONGEST_DIP.total_seconds())
    door.close()
    found = samples.trace(w.session, made.id, made.started_at)
    if found.t_s.size and found.entered_as != signal:
        raise InputError("signal", "This cup was begun in another unit (mV or displayed pH). Stay with that one.")
    millivolts = ph.pseudo_millivolts(value, temperature_c) if signal == "ph" else value
    t_s = (w.now - made.started_at).total_seconds() if after_s is None else after_s
    if not 0 <= t_s <= samples.LONGEST_DIP.total_seconds():
        raise Refused("The probe has stood here for over three hours; dip it afresh.")
    seq = samples.next_seq(w.session, made)
    samples.store(w.session, made, [(seq, t_s, millivolts, temperature_c, value if signal == "ph" else None)])
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
) -> dict[str, Any]:
    """Take the point of this cup. Unsettled needs `early`; suspicions need an answer; both are recorded.

    `seen` is the last sample the page had shown: what was offered as settled is what is taken.
    """
    with desk.write(actor, key, "run.accept") as w:
        if w.done:
            return w.done
        state = _open(w, run_id, step, turn)
        live = runstate.live(w.session, state, seen)
        if live is None or state.dip is None or state.current is None or live.settling.value is None:
            raise Refused("There is no reading to accept yet. Dip the probe in the cup first.")
        if live.expected_ph is None or live.temperature_c is None:
            raise Refused(live.suspicions[0].sentence if live.suspicions else "The cup's temperature is not known.")
        if not live.settling.settled and not early:
            raise Refused(
                f"Not settled: {live.settling.sentence} Wait, or accept it early; it is then recorded as early."
            )
        answer = clean_reason(answer, required=False)
        if live.suspicions and not answer:
            raise Refused(f"{live.suspicions[0].sentence} Say why you take it all the same, or redo the cup.")
        if state.current.lot.lot.opened_at is None:
            w.session.get_one(Lot, state.current.lot.lot.id).opened_at = w.now  # poured into a cup: it is open now
        w.session.add(
            Point(
                run_id=state.run.id, step=step, version=_next_version(w, state, step), dip_id=state.dip.id,
                lot_id=state.current.lot.lot.id, millivolts=live.settling.value, temperature_c=live.temperature_c,
                expected_ph=live.expected_ph, entered_as=live.trace.entered_as,
                settling=runstate.settling_record(live.trace, live.settling, state.method),
                early=not live.settling.settled, suspicions=[asdict(s) for s in live.suspicions] or None,
                reason=answer, at=w.now, by_id=actor.id,
            )
        )  # fmt: skip
        detail = {
            "step": step,
            "mv": live.settling.value,
            "early": not live.settling.settled,
            "answer": answer,
        }
        return w.finish(f"run:{run_id}", detail, step=step)


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
        words = clean_reason(words, required=use and outcome is Outcome.CARE)
        made = Calibration(
            id=uuid.uuid4(), run_id=state.run.id, probe_id=state.run.probe_id, at=w.now,
            valid_until=w.now + timedelta(hours=state.method.valid_h.value), signal=found.signal,
            fit=found.fit.as_dict(), verdict=found.verdict.as_dict(), causes=[asdict(c) for c in found.causes],
            as_found=list(found.as_found), outcome=outcome.value, usable=use, decision=words, by_id=actor.id,
            slope_percent=found.fit.slope_percent, offset_mv=found.fit.offset_mv,
        )  # fmt: skip
        w.session.add(made)
        w.session.add(RunEnd(run_id=state.run.id, how="finished", at=w.now, by_id=actor.id, reason=words))
        w.session.flush()
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


def clean_reason(text: str, *, required: bool = True) -> str:
    """A reason as it is kept: trimmed, not empty where one is required, of a sensible length."""
    reason = " ".join(text.replace("\x00", "").split())
    if required and len(reason) < 3:
        raise InputError("reason", "Reason must say why, in a few words.", value=text[:40])
    if len(reason) > LONGEST_REASON:
        raise InputError("reason", f"Reason has {len(reason)} characters; {LONGEST_REASON} are allowed.")
    return reason
