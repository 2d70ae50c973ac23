"""Closing checks: what the calibration in force still reads in a standard at the end of the day."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core import drift
from brumel.core.errors import InputError
from brumel.core.sentence import Amount, joined, say
from brumel.methods import Method, StepSpec
from brumel.methods.checks import load_checks
from brumel.methods.model import CLOSING
from brumel.store.records import Closing
from brumel.store.tables import Calibration, Lot, Probe, Run, RunEnd
from brumel.store.typed_json import CheckedCup, RunConditions
from brumel.work import kit
from brumel.work.bench import run_state
from brumel.work.desk import NotFound, Refused, Write, Written, object_id, writes
from brumel.work.quantities import standards
from brumel.work.quantities.book import quantity_of

MOST_CUPS = 2


@dataclass(frozen=True)
class Offer:
    """Where a probe may be closed: a solution, or a vessel its method reads in."""

    value: str
    words: str


def criteria(quantity: str) -> drift.DriftCriteria:
    """When a closing check of this quantity holds."""
    return load_checks().closing[quantity].criteria()


def in_force(session: Session, probe: Probe, now: datetime) -> Calibration | None:
    """The calibration whose span is closed: the newest usable one, run out or not."""
    return kit.last_usable(session, probe, before=now)


def offers(session: Session, probe: Probe, now: datetime) -> list[Offer]:
    """In what this probe can be closed: its method's vessels, then every open solution it is measured by."""
    backing = in_force(session, probe, now)
    if backing is None:
        return []
    method = Method.model_validate(backing.run.method)
    seen, offered = set[str](), []
    for step in method.steps:
        if step.vessel != "solution" and step.vessel not in seen and step.role != "zero":
            seen.add(step.vessel)
            offered.append(Offer(f"step:{step.key}", step.title))
    for view in kit.lots_on_shelf(session, now):
        if view.usable and standards.measure(view.lot, probe.quantity) is not None:
            offered.append(Offer(f"lot:{view.lot.id}", f"{view.lot.code} · {view.lot.name}"))
    return offered


@writes("closing.start", Written)
def start(w: Write, *, probe_id: str, source: str, cups: Sequence[str]) -> Written:
    """Open a closing run: one cup, or two for a correction along the scale."""
    if source not in ("live", "typed"):
        raise InputError("source", "Readings are live or typed. Choose one of the two.", value=source)
    probe = kit.probe_of(w.session, probe_id)
    w.session.execute(select(Probe.id).where(Probe.id == probe.id).with_for_update())
    if kit.open_run(w.session, probe.id):
        raise Refused(f"{probe.name} has a run open already. Go on with it, or abandon it first.")
    if source == "live" and probe.meter.link == "typed":
        raise InputError("source", f"{probe.meter.name} has no link; type its readings.", value=source)
    backing = in_force(w.session, probe, w.now)
    if backing is None:
        raise Refused(f"{probe.name} has no calibration whose span could be closed.")
    done = kit.last_maintenance(w.session, probe.id, w.now)
    if done is not None and done.at > backing.at:
        raise Refused(
            say(
                "{name} was {treated} {at}, after calibration {number}: what it reads now says nothing "
                "of the span before.",
                name=probe.name,
                treated=kit.maintenance_words(probe, done)[0],
                at=done.at,
                number=backing.number,
            )
        )
    wanted = [c for c in dict.fromkeys(cups) if c]
    if not 1 <= len(wanted) <= MOST_CUPS:
        raise InputError("closing", "Choose one standard to close in, or two.")
    steps, lots = _steps(w, probe, Method.model_validate(backing.run.method), wanted)
    base = Method.model_validate(backing.run.method)
    method = base.model_copy(
        update={"steps": tuple(steps), "fit": CLOSING, "title": f"Closing check of calibration {backing.number}"}
    )
    taken = kit.last_settings(w.session, probe.meter_id)
    keep = {"pressure_hpa", "pressure_from", "adjusted", "water_c"}
    stood_in = RunConditions(**backing.run.conditions.model_dump(include=keep, exclude_unset=True))
    run = Run(
        id=uuid.uuid4(),
        probe_id=probe.id,
        operator_id=w.actor.id,
        source=source,
        method=method.stored(),
        cups=lots,
        conditions=stood_in,
        settings_id=taken.id if taken else None,
        purpose="closing",
        closes_id=backing.id,
        started_at=w.now,
    )
    w.session.add(run)
    w.session.flush()
    w.record(f"run:{run.id}", {"closes": backing.number, "cups": lots})
    return Written(str(run.id))


def _steps(w: Write, probe: Probe, method: Method, wanted: Sequence[str]) -> tuple[list[StepSpec], dict[str, str]]:
    steps: list[StepSpec] = []
    lots: dict[str, str] = {}
    for i, choice in enumerate(wanted, 1):
        kind, _, what = choice.partition(":")
        if kind == "step":
            dry_step = next((s for s in method.steps if s.key == what and s.vessel != "solution"), None)
            if dry_step is None:
                raise InputError("closing", "That is not a place this probe's method reads in.", value=choice)
            steps.append(dry_step.model_copy(update={"key": f"closing-{i}", "role": "check"}))
            continue
        lot = w.session.get(Lot, object_id(what, "solution")) if kind == "lot" else None
        if lot is None or lot.discarded_at or standards.measure(lot, probe.quantity) is None:
            raise InputError("closing", "Choose a solution that is a standard of this probe.", value=choice)
        nominal = standards.nominal(lot, probe.quantity, probe)
        near = (nominal - 1 - abs(nominal), nominal + 1 + abs(nominal))
        steps.append(
            StepSpec(key=f"closing-{i}", title=lot.name[:80], vessel="solution", between=near, role="check", hint="")
        )
        lots[f"closing-{i}"] = str(lot.id)
    return steps, lots


def closed(session: Session, state: run_state.RunState) -> Calibration:
    """The calibration a closing run closes."""
    calibration = session.get(Calibration, state.run.closes_id) if state.run.closes_id else None
    if calibration is None:
        raise NotFound("There is no such calibration.")
    return calibration


def checks(session: Session, state: run_state.RunState) -> list[CheckedCup]:
    """What the calibration reads in each cup taken so far; raises InputError where it was made in another unit."""
    calibration = closed(session, state)
    fit, judged = kit.restored(calibration), criteria(calibration.run.probe.quantity)
    checked_cups = []
    for step in state.steps:
        p = step.point
        if p is None or p.signal is None or p.temperature_c is None or p.expected is None:
            continue
        if not state.quantity.can_read(calibration, p.entered_as):
            raise InputError(
                "signal",
                f"Calibration {calibration.number} was made from another unit than this cup was read in; redo it in that.",
            )
        read = fit.read(p.signal, p.temperature_c)
        holds = drift.holds(drift.StandardCheck(1.0, read, p.expected), judged)
        checked_cups.append(
            CheckedCup(cup=step.name, read=read, expected=p.expected, temperature_c=p.temperature_c, holds=holds)
        )
    return checked_cups


def sentence(quantity: str, checked_cups: Sequence[CheckedCup]) -> str:
    """What the checks say, in one line."""
    spec, judged = quantity_of(quantity), criteria(quantity)
    parts = [
        say(
            "{cup}: read {read}, should be {expected}",
            cup=c.cup,
            read=spec.text(c.read),
            expected=spec.text(c.expected),
        )
        for c in checked_cups
    ]
    limit = say("±{holds}", holds=Amount(judged.holds, judged.unit, difference=True)) + (
        say(" or ±{holds}", holds=Amount(judged.holds_percent, "%")) if judged.holds_percent else ""
    )
    outcome = "It holds" if all(c.holds for c in checked_cups) else "It does not hold"
    return say(
        "{cups}. {outcome} (limit {limit}, {source}).",
        cups=joined(parts, "; "),
        outcome=outcome,
        limit=limit,
        source=judged.source,
    )


@writes("closing.finish", Written)
def finish(w: Write, *, run_id: str, turn: int) -> Written:
    """End the closing run; what it does to the span's readings is the lead's to decide."""
    state = run_state.load_run(w.session, run_id, lock=True)
    if state.run.purpose != "closing" or state.end:
        raise Refused("This is no closing check that is still open.")
    if state.turn != turn or state.current is not None:
        raise Refused("A cup is still open. Take it first, or abandon the check.")
    checked_cups = checks(w.session, state)
    calibration = closed(w.session, state)
    words = sentence(state.run.probe.quantity, checked_cups)
    row = Closing(
        id=uuid.uuid4(),
        run_id=state.run.id,
        probe_id=state.run.probe_id,
        calibration_id=calibration.id,
        at=w.now,
        checks=tuple(checked_cups),
        holds=all(c.holds for c in checked_cups),
        sentence=words,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.session.add(RunEnd(run_id=state.run.id, how="finished", at=w.now, by_id=w.actor.id, reason=words))
    w.session.flush()
    w.record(f"closing:{row.id}", {"holds": row.holds, "sentence": words})
    return Written(str(row.id))


def closing(session: Session, closing_id: str | uuid.UUID) -> Closing:
    """One closing check by id; the front door for everything that names one."""
    closing_check = session.get(Closing, object_id(closing_id, "closing check"))
    if closing_check is None:
        raise NotFound("There is no such closing check.")
    return closing_check


def of_run(session: Session, run_id: uuid.UUID) -> Closing | None:
    """The closing check a run ended in."""
    return session.scalar(select(Closing).where(Closing.run_id == run_id))


def newest(session: Session, count: int = 30) -> list[Closing]:
    """The last closing checks, newest first."""
    return list(session.scalars(select(Closing).order_by(Closing.at.desc()).limit(count)))
