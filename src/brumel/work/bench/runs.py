"""A calibration run: started, finished, abandoned; a calibration withdrawn."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from datetime import timedelta

from sqlalchemy import select

from brumel.core.errors import InputError, InputErrors
from brumel.core.sentence import Amount, Span, say
from brumel.core.verdict import Outcome
from brumel.methods import Method, StepSpec
from brumel.methods.model import SET
from brumel.store.tables import Calibration, CalibrationWithdrawal, Lot, Probe, Run, RunEnd
from brumel.work import kit
from brumel.work.bench import run_state, verdict
from brumel.work.bench.conditions import Conditions, checked, out_of_reach
from brumel.work.bench.run_state import open_for_writing
from brumel.work.desk import MovedOn, NotFound, Refused, Write, Written, clean_reason, object_id, writes
from brumel.work.quantities import standards
from brumel.work.quantities.book import quantity_of


@dataclass(frozen=True)
class RunFinished:
    """The calibration a run ended with; None where its points made none."""

    calibration: str | None


@dataclass(frozen=True)
class RunChoice:
    """How a probe is to be calibrated: the method, live or typed, and the lot that goes into each cup."""

    method_key: str
    source: str
    cups: Mapping[str, str]


@writes("run.start", Written)
def start(
    w: Write,
    *,
    probe_id: str,
    method_key: str,
    source: str,
    cups: Mapping[str, str],
    conditions: Conditions | None = None,
) -> Written:
    """Open a run on a probe. One open run a probe; all faults of the choice at once."""
    if source not in ("live", "typed"):
        raise InputError("source", "Readings are live or typed. Choose one of the two.", value=source)
    choice = RunChoice(method_key, source, cups)
    run = open_run(w, kit.probe_of(w.session, probe_id), choice, conditions or Conditions())
    detail = {"method": run.method["key"], "version": run.method["version"], "cups": run.cups}
    w.record(f"run:{run.id}", {**detail, "conditions": run.conditions.model_dump(mode="json", exclude_unset=True)})
    return Written(str(run.id))


def open_run(
    w: Write, probe: Probe, choice: RunChoice, conditions: Conditions, calibration_session_id: uuid.UUID | None = None
) -> Run:
    """The run itself, inside a write: everything that may stand in its way is looked at here."""
    method = kit.method(w.session, choice.method_key)
    if method is None or method.quantity != probe.quantity:
        raise InputError(
            "method",
            "That method is not in use for this probe. Choose another, or let the lead bring it back.",
            value=choice.method_key,
        )
    # Two people starting on one probe take turns here, and the second finds the first one's run.
    w.session.execute(select(Probe.id).where(Probe.id == probe.id).with_for_update())
    _may_start(w, probe, choice.source)
    method = kit.method_for_probe(method, probe)
    if conditions.adjusted and choice.source == "typed":
        method = method.with_setting()
    else:
        method = method.with_found_and_left(conditions.as_found, conditions.as_left)
    chosen = _cups(w, method, choice.cups, probe)
    stored = checked(w, probe, method, conditions, choice.source)
    lots = [w.session.get_one(Lot, uuid.UUID(lot)) for lot in chosen.values()]
    if beyond := out_of_reach(w.session, probe, lots):
        stored = stored.model_copy(update={"bracket": beyond})
    recorded, look = kit.last_settings(w.session, probe.meter_id), kit.last_inspection(w.session, probe.id)
    run = Run(
        id=uuid.uuid4(),
        probe_id=probe.id,
        operator_id=w.actor.id,
        source=choice.source,
        method=method.stored(),
        cups=chosen,
        conditions=stored,
        settings_id=recorded.id if recorded else None,
        inspection_id=look.id if look else None,
        calibration_session_id=calibration_session_id,
        repeats_id=_repeats(w, probe, conditions.repeats),
        started_at=w.now,
    )
    w.session.add(run)
    w.session.flush()
    return run


def _may_start(w: Write, probe: Probe, source: str) -> None:
    if probe.retired_at:
        raise Refused(f"{probe.name} is retired; its record stays, but it is not calibrated any more.")
    if kit.open_run(w.session, probe.id):
        raise Refused(f"{probe.name} has a run open already. Go on with it, or abandon it first.")
    if waiting := kit.conditioning(w.session, probe, w.now):
        raise Refused(
            say(
                "{name} was {words} and is {meanwhile} until {ready_at}. Calibrate it then; where its manual "
                "asks for less, the lead can set its own wait in Kit.",
                name=probe.name,
                words=waiting.words,
                meanwhile=waiting.meanwhile or "waiting",
                ready_at=waiting.ready_at,
            )
        )
    look = kit.last_inspection(w.session, probe.id)
    if look is not None and look.blocks:
        raise Refused(
            say(
                "{name} was inspected on {at} and a finding keeps it off Bench. Put it right, inspect it again "
                "in Kit, then calibrate.",
                name=probe.name,
                at=look.at,
            )
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
    """The lot of every step that needs one, checked against the step's range; all faults at once."""
    given = dict(cups)
    first = next((s for s in method.steps if s.role == "adjust"), None)
    for twin in ("as-found", "as-left"):  # read in the cup that is adjusted in
        if first is not None and first.key in given:
            given.setdefault(twin, given[first.key])
    for step in method.steps:
        if step.key.endswith(SET) and step.key.removesuffix(SET) in given:
            given.setdefault(step.key, given[step.key.removesuffix(SET)])
    faults: list[InputError] = []
    chosen: dict[str, str] = {}
    for step in method.steps:
        if step.vessel != "solution" or step.between is None:
            continue
        lot = w.session.get(Lot, object_id(given[step.key], "solution")) if given.get(step.key) else None
        if fault := _unfit_lot(lot, step, method.quantity, probe):
            faults.append(fault)
        elif lot is not None:
            others = [v for k, v in chosen.items() if k not in ("as-found", "as-left")]
            if str(lot.id) in others and step.role not in ("found", "left") and not step.key.endswith("-cold"):
                faults.append(InputError(step.key, f"{lot.code} stands in two cups of this run."))
            chosen[step.key] = str(lot.id)
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return chosen


def lot_for_step(w: Write, lot_id: str, step: StepSpec, quantity_key: str, probe: Probe) -> Lot:
    """The lot of that id, where it may stand in this step's cup. Raises InputError."""
    lot = w.session.get(Lot, object_id(lot_id, "solution")) if lot_id else None
    if fault := _unfit_lot(lot, step, quantity_key, probe):
        raise fault
    assert lot is not None
    return lot


def _unfit_lot(lot: Lot | None, step: StepSpec, quantity_key: str, probe: Probe) -> InputError | None:
    """Why a lot cannot go into this step's cup; None where it can."""
    if lot is None or lot.discarded_at or standards.measure(lot, quantity_key) is None:
        return InputError(step.key, f"Choose the solution for “{step.title}”.")
    if not standards.is_made_as(lot, step.made_as):
        kind = "a combined solution" if step.made_as == standards.COMBINED else "a solution made from a tablet"
        return InputError(step.key, f"{lot.code} is not {kind}; “{step.title}” takes no other.")
    nominal, (low, high) = standards.nominal(lot, quantity_key, probe), step.between or (0.0, 0.0)
    if low <= nominal <= high:
        return None
    unit = quantity_of(quantity_key).unit
    shown, takes = (
        (say("pH {value}", value=Amount(nominal, "", ".2f")), say("pH {span}", span=Span(low, high)))
        if unit == "pH"
        else (say("{value}", value=Amount(nominal, unit, ".6g")), say("{span}", span=Span(low, high, unit)))
    )
    words = say(
        "{code} is {shown}; “{title}” takes {takes}.", code=lot.code, shown=shown, title=step.title, takes=takes
    )
    return InputError(step.key, words, value=nominal, low=low, high=high)


@writes("run.finish", RunFinished)
def finish(w: Write, *, run_id: str, turn: int, use: bool, words: str = "") -> RunFinished:
    """End the run with what it found. "With care" is put into use only by a named decision with its reason."""
    state = open_for_writing(w, run_id, None, turn)
    if state.run.purpose != "calibration":
        raise Refused("This is a closing check; record it as one. It puts nothing into use.")
    if state.current is not None:
        raise Refused(f"“{state.current.spec.title}” is still open. Take it first, or abandon the run.")
    result = verdict.run_result(w.session, state)
    if result.fit is None:
        reason = result.problem
        w.session.add(RunEnd(run_id=state.run.id, how="failed", at=w.now, by_id=w.actor.id, reason=reason))
        w.record(f"run:{run_id}", {"outcome": "failed", "reason": reason})
        return RunFinished(None)
    outcome = result.verdict.outcome
    if use and outcome is Outcome.NOT:
        raise Refused("The verdict is “do not use”; this calibration cannot be used.")
    words = clean_reason(words, required=outcome is not Outcome.FIT)
    calibration = Calibration(
        id=uuid.uuid4(),
        run_id=state.run.id,
        probe_id=state.run.probe_id,
        at=w.now,
        valid_until=w.now + timedelta(hours=state.method.valid_h.value),
        signal=result.signal,
        fit=result.fit.as_dict(),
        verdict=result.verdict.as_dict(),
        causes=[asdict(c) for c in result.causes],
        as_found=list(result.as_found),
        outcome=outcome.value,
        usable=use,
        decision=words,
        by_id=w.actor.id,
        figures=result.fit.figures,
    )
    w.session.add(calibration)
    w.session.add(RunEnd(run_id=state.run.id, how="finished", at=w.now, by_id=w.actor.id, reason=words))
    w.session.flush()
    _take_place(w, state, calibration)
    detail = {"outcome": outcome.value, "in_force": use, "decision": words}
    w.record(f"run:{run_id}", detail)
    return RunFinished(str(calibration.id))


@writes("run.abandon", Written)
def abandon(w: Write, *, run_id: str, reason: str) -> Written:
    """End the run without a result; it stays in the record with its reason."""
    state = open_for_writing(w, run_id, None, None)
    why = clean_reason(reason)
    w.session.add(RunEnd(run_id=state.run.id, how="abandoned", at=w.now, by_id=w.actor.id, reason=why))
    w.record(f"run:{run_id}", {"reason": why})
    return Written(run_id)


def _take_place(w: Write, state: run_state.RunState, calibration: Calibration) -> None:
    """A repeat that is put into use takes the place of what it repeats."""
    if state.run.repeats_id is None or not calibration.usable:
        return
    old = w.session.scalar(select(Calibration).where(Calibration.run_id == state.run.repeats_id))
    if old is not None and w.session.get(CalibrationWithdrawal, old.id) is None:
        reason = f"repeated by calibration {calibration.number}"
        w.session.add(
            CalibrationWithdrawal(
                calibration_id=old.id, new_id=calibration.id, at=w.now, reason=reason, by_id=w.actor.id
            )
        )


@writes("calibration.withdraw", Written)
def withdraw(w: Write, *, calibration_id: str, reason: str) -> Written:
    """A calibration counts no longer, with a reason; readings that rest on it keep it as what it was."""
    calibration = w.session.get(Calibration, object_id(calibration_id, "calibration"))
    if calibration is None:
        raise NotFound("There is no such calibration.")
    w.session.execute(select(Probe.id).where(Probe.id == calibration.probe_id).with_for_update())
    if w.session.get(CalibrationWithdrawal, calibration.id) is not None:
        raise MovedOn(f"Calibration {calibration.number} was withdrawn already. Nothing was changed.")
    why = clean_reason(reason)
    w.session.add(
        CalibrationWithdrawal(calibration_id=calibration.id, new_id=None, at=w.now, reason=why, by_id=w.actor.id)
    )
    w.record(f"calibration:{calibration.id}", {"number": calibration.number, "reason": why})
    return Written(str(calibration.id))
