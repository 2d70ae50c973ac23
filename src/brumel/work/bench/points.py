"""The points of a run: dipping, typing, accepting, redoing."""

from __future__ import annotations

import math
import uuid
from dataclasses import dataclass, replace

from sqlalchemy import bindparam, func, inspect, select

from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.core.quantity_table import MEASURED
from brumel.core.sentence import Amount, as_evidence, joined, say
from brumel.core.trace import Trace
from brumel.store.tables import Dip, Lot, Point, Run, StruckValue
from brumel.work import kit
from brumel.work.bench import cup, run_state
from brumel.work.bench.run_state import open_for_writing
from brumel.work.desk import MovedOn, NotFound, Refused, Write, Written, clean_reason, writes
from brumel.work.link import samples
from brumel.work.quantities.base import Quantity, RunContext
from brumel.work.questions import Question, Unanswered


@writes("run.dip", Written)
def dip(w: Write, *, run_id: str, step: str, turn: int) -> Written:
    """The probe now stands in the cup of this step; its clock starts."""
    state = open_for_writing(w, run_id, step, turn)
    _in_order(w, state.run)
    typed = state.run.source == "typed"
    new_dip = _dip(w, state, run_state.usual_entry(w.session, state) if typed else state.quantity.native)
    w.record(f"run:{run_id}", {"step": step, "dip": str(new_dip.id)})
    return Written(str(new_dip.id))


def _in_order(w: Write, run: Run) -> None:
    """In a calibration session, ion tips come after the pH, ORP and conductivity they rest on."""
    names = kit.waits_for(w.session, run)
    if names:
        raise Refused(f"Ion tips come last: finish {names} first, then go on with {run.probe.name}.")


def _dip(w: Write, state: run_state.RunState, entered: str) -> Dip:
    if state.current is None:
        raise MovedOn("All cups are done. You now see where the run stands; nothing was changed.")
    new_dip = Dip(
        id=uuid.uuid4(),
        probe_id=state.run.probe_id,
        run_id=state.run.id,
        step=state.current.spec.key,
        lot_id=state.current.lot.lot.id if state.current.lot else None,
        source=state.run.source,
        entered=entered,
        started_at=w.now,
    )
    w.session.add(new_dip)
    w.session.flush()
    return new_dip


#: Between what a typed temperature must lie [°C].
TYPED_C = (-5.0, 100.0)


@dataclass(frozen=True)
class TypedValue:
    """What a display showed: the value, the signal it is of (mV, the displayed pH ...), and the cup's temperature [°C].

    after_s : the time since the probe went in, where it was noted on paper; else the clock is taken [s]
    unit : what was written behind the value; it goes before the signal that was chosen
    """

    signal: str
    value: float
    temperature_c: float
    after_s: float | None = None
    unit: str = ""

    def read_as(self, quantity: Quantity) -> TypedValue:
        """The same with the signal its unit means. Raises InputError for a unit the quantity is not read in."""
        return replace(self, signal=quantity.entry_of(self.unit, self.signal), unit="") if self.unit else self


@writes("run.type", samples.TypedSample)
def type_reading(w: Write, *, run_id: str, step: str, turn: int, typed: TypedValue) -> samples.TypedSample:
    """One typed value of the display in this cup."""
    state = open_for_writing(w, run_id, step, turn)
    if state.run.source != "typed":
        raise Refused("This run takes live readings; start a typed run to type them.")
    _in_order(w, state.run)
    typed = typed.read_as(state.quantity)
    if state.run.conditions.adjusted and not state.quantity.is_display(typed.signal):
        raise InputError("signal", "This run sets the meter itself: type what its display shows, not the raw signal.")
    if state.dip is None:
        check_typed(state.quantity, typed)
    current_dip = state.dip or _dip(w, state, typed.signal)
    added = add_typed(w, current_dip, state.quantity, state.case, typed)
    w.record(f"run:{run_id}", {"step": step, typed.signal: typed.value, "temperature_c": typed.temperature_c})
    return added


def check_typed(quantity: Quantity, typed: TypedValue) -> None:
    """All faults of a typed value at once."""
    door = Door()
    door.name("signal", typed.signal, quantity.entries)
    known = typed.signal if typed.signal in quantity.entries else quantity.native
    entry = quantity.entries.get(known)
    if entry is not None:
        field = {"ph": "displayed_ph", "mv": "millivolts"}.get(known, "value")
        door.number(field, typed.value, entry.low, entry.high)
    door.number("temperature_c", typed.temperature_c, *TYPED_C)
    if typed.after_s is not None:
        door.number("elapsed_s", typed.after_s, 0, samples.LONGEST_DIP.total_seconds())
    door.close()


def add_typed(w: Write, dip: Dip, quantity: Quantity, case: RunContext, typed: TypedValue) -> samples.TypedSample:
    """Check a typed value and store it as a sample of the dip. Raises all faults at once."""
    check_typed(quantity, typed)
    before = samples.trace(w.session, dip)
    entry, signal = typed.signal, quantity.entries[typed.signal].to_signal(typed.value, typed.temperature_c, case)
    if entry != dip.entered and not before.seq.size:
        dip = _in_unit(w, dip, entry)
    elif entry != dip.entered:
        if quantity.is_display(entry) != quantity.is_display(dip.entered):
            raise InputError(
                "signal",
                f"This cup was begun in another unit{quantity.unit_words}. Stay with that one, or strike out what "
                "was typed in it.",
            )
        entry = dip.entered
    shown = typed.value if entry == typed.signal else quantity.shown(entry, signal, typed.temperature_c, case)
    t_s = _time_in_cup(w, dip, before, typed.after_s)
    seq = samples.next_seq(w.session, dip)
    row = (seq, t_s, signal, typed.temperature_c, shown if entry != quantity.native else None)
    samples.store_samples(w.session, dip, [row])
    return samples.TypedSample(seq=seq)


def _in_unit(w: Write, dip: Dip, entered: str) -> Dip:
    """The same stay in the cup, typed in another unit; nothing that was typed before stands."""
    kept = {c.key: getattr(dip, c.key) for c in inspect(Dip).columns if c.key not in ("id", "number", "entered")}
    again = Dip(id=uuid.uuid4(), entered=entered, **kept)
    w.session.add(again)
    w.session.flush()
    return again


def _time_in_cup(w: Write, dip: Dip, before: Trace, after_s: float | None) -> float:
    """When a value was typed [s since the dip]: as noted, else by the clock, and never before the one before it."""
    t_s = (w.now - dip.started_at).total_seconds() if after_s is None else after_s
    if not 0 <= t_s <= samples.LONGEST_DIP.total_seconds():
        raise Refused("The probe has stood here for over three hours; dip it afresh.")
    last = float(before.t_s[-1]) if before.t_s.size else 0.0
    if t_s < last:
        raise InputError(
            "after_s",
            say(
                "The value before was read after {last}; this one cannot be earlier. Give the seconds it has stood.",
                last=Amount(last, "s", ".0f"),
            ),
            value=t_s,
        )
    return t_s


@writes("run.strike", Written)
def strike(w: Write, *, run_id: str, step: str, turn: int, seq: int) -> Written:
    """Strike out a typed value of this cup; its sample stays in the record and counts for nothing."""
    state = open_for_writing(w, run_id, step, turn)
    if state.dip is None:
        raise NotFound("There is no such value in this cup.")
    strike_out(w, state.dip, seq)
    w.record(f"run:{run_id}", {"step": step, "struck out": seq})
    return Written(step)


def strike_out(w: Write, dip: Dip, seq: int) -> None:
    """Strike out a typed value of a dip, inside a write."""
    if dip.source != "typed" or seq not in samples.trace(w.session, dip).seq:
        raise NotFound("There is no such value in this cup.")
    w.session.add(StruckValue(dip_id=dip.id, seq=seq, at=w.now, by_id=w.actor.id))
    w.session.flush()


@dataclass(frozen=True)
class Acceptance:
    """How a point is taken: unsettled needs `early`, suspicions need an answer; both are recorded.

    seen : the last sample the page had shown; what was offered as settled is what is taken
    reference, reference_u : what the reference instrument showed beside the probe, with its expanded uncertainty, where
        the step asks for one
    """

    early: bool = False
    answer: str = ""
    seen: int | None = None
    reference: float | None = None
    reference_u: float | None = None


@writes("run.accept", Written)
def accept(w: Write, *, run_id: str, step: str, turn: int, how: Acceptance = Acceptance()) -> Written:
    """Take the point of this cup."""
    state = open_for_writing(w, run_id, step, turn)
    live = cup.live_cup(w.session, state, how.seen)
    if live is None or state.dip is None or state.current is None or live.settling.value is None:
        raise Refused("There is no reading to accept yet. Dip the probe in the cup first.")
    expected, expanded_uncertainty = _expected(state, live, how.reference, how.reference_u)
    if expected is None or live.temperature_c is None:
        raise Refused(live.suspicions[0].sentence if live.suspicions else "The cup's temperature is not known.")
    if not live.settling.settled and not how.early:
        raise Refused(
            say(
                "Not settled: {why} Wait, or accept it early; it is then recorded as early.", why=live.settling.sentence
            )
        )
    before = run_state.reference_calibration(w.session, state)
    expanded_uncertainty = math.hypot(expanded_uncertainty, cup.display_uncertainty(state, live.trace, before))
    answer = clean_reason(how.answer, required=False)
    if live.suspicions and not answer:
        asked = Question(f"cup:{step}", joined(s.sentence for s in live.suspicions))
        raise Unanswered([asked], "Say why you take it all the same, or redo the cup.")
    if state.current.lot and state.current.lot.lot.opened_at is None and not state.current.lot.lot.single_use:
        w.session.get_one(Lot, state.current.lot.lot.id).opened_at = w.now  # poured into a cup: it is open now
    w.session.add(
        Point(
            run_id=state.run.id,
            step=step,
            version=_next_version(w, state, step),
            dip_id=state.dip.id,
            lot_id=state.current.lot.lot.id if state.current.lot else None,
            signal=live.settling.value,
            temperature_c=live.temperature_c,
            expected=expected,
            expanded_uncertainty=expanded_uncertainty,
            entered_as=live.trace.entered_as,
            settling=cup.settling_record(live.trace, live.settling, state),
            early=not live.settling.settled,
            suspicions=[as_evidence(s) for s in live.suspicions] or None,
            reason=answer,
            at=w.now,
            by_id=w.actor.id,
        )
    )
    detail = {"step": step, "signal": live.settling.value, "early": not live.settling.settled, "answer": answer}
    w.record(f"run:{run_id}", detail)
    return Written(step)


def _expected(
    state: run_state.RunState, live: cup.CupState, reference: float | None, reference_u: float | None
) -> tuple[float | None, float]:
    """What the quantity is in this cup and how well that is known (k = 2)."""
    step = state.current
    if step is None:
        return None, 0.0
    if step.spec.vessel != "reference":
        if live.expected is None:
            return None, 0.0
        return live.expected, state.quantity.expanded_uncertainty(
            step.spec, step.lot.lot if step.lot else None, live.expected, live.temperature_c
        )
    low, high = (-30.0, 110.0) if state.method.quantity == "temperature" else (0.0, 50.0)
    door = Door()
    if reference is None:
        door.add(InputError("reference", "Reference must say what the instrument beside the probe showed."))
    else:
        door.number("reference", reference, low, high)
    if reference_u is None and reference is not None and (usual := MEASURED[state.method.quantity].second_method):
        reference_u = usual.at(reference)
    if reference_u is None:
        door.add(InputError("expanded_uncertainty", "Expanded uncertainty of the reference must be given."))
    else:
        door.number("expanded_uncertainty", reference_u, 0.001, 5)
    door.close()
    return reference, float(reference_u or 0.0)


def _next_version(w: Write, state: run_state.RunState, step: str) -> int:
    return (w.session.scalar(_NEWEST_VERSION, {"run": state.run.id, "step": step}) or 0) + 1


_NEWEST_VERSION = select(func.max(Point.version)).where(
    Point.run_id == bindparam("run"), Point.step == bindparam("step")
)


@writes("run.redo", Written)
def redo(w: Write, *, run_id: str, step: str, turn: int, reason: str) -> Written:
    """Withdraw a point with a reason and open its cup again; the old version stays in the record."""
    state = open_for_writing(w, run_id, None, turn)
    if not any(s.spec.key == step and s.point for s in state.steps):
        raise NotFound("There is no accepted point of that cup.")
    _withdraw(w, state, step, clean_reason(reason))
    w.record(f"run:{run_id}", {"step": step, "reason": reason})
    return Written(step)


@writes("run.redo_pair", Written)
def redo_pair(w: Write, *, run_id: str, step: str, turn: int, reason: str) -> Written:
    """Withdraw both points of the pair this cup belongs to: standards of one temperature are taken anew together."""
    state, why = open_for_writing(w, run_id, None, turn), clean_reason(reason)
    pair = next((p for p in state.pairs if step in {s.spec.key for s in p}), ())
    taken = [s.spec.key for s in pair if s.point]
    if not taken:
        raise NotFound("There is no accepted pair of that cup.")
    for key in taken:
        _withdraw(w, state, key, why)
    w.record(f"run:{run_id}", {"steps": taken, "reason": reason})
    return Written(step)


def _withdraw(w: Write, state: run_state.RunState, step: str, reason: str) -> None:
    w.session.add(
        Point(
            run_id=state.run.id,
            step=step,
            version=_next_version(w, state, step),
            withdrawn=True,
            reason=reason,
            at=w.now,
            by_id=w.actor.id,
        )
    )
