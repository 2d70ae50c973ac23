"""The whole meter in one session: one run a probe in the order of the trade, waits side by side, rinses shared."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError, InputErrors, words_of
from brumel.core.fitness.ions import prerequisites
from brumel.core.ions import RESTS_ON
from brumel.core.planning import Plan, Task, plan
from brumel.core.quantity_table import IONS
from brumel.core.sentence import joined
from brumel.methods import ORDER, Method
from brumel.store.tables import CalibrationSession, Probe, Run
from brumel.work import kit
from brumel.work.bench import cup, run_state
from brumel.work.bench import runs as bench_runs
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import NotFound, Write, Written, object_id, writes
from brumel.work.quantities.standards import COMBINES

HANDS_MIN = 0.75  # rinse, blot, dip and a look: chosen, common practice


VERDICT_MIN = 0.5


@dataclass(frozen=True)
class SessionChoice:
    """What is chosen for one probe of the calibration session."""

    probe_id: str
    method_key: str
    cups: Mapping[str, str]


@dataclass(frozen=True)
class SessionLine:
    """One run of the session as it stands: what it waits for, how far the cup is, whether it is ready to be taken."""

    state: run_state.RunState
    live: cup.CupState | None
    waits_for: str
    elapsed_s: float | None
    shares_with: tuple[str, ...] = ()

    @property
    def rank(self) -> int:
        """What wants a hand first: settled cups, then free probes, then those that settle, then what has ended."""
        if self.state.end:
            return 5
        if self.waits_for:
            return 4
        if self.state.current is None:
            return 1
        if self.live is None:
            return 2
        return 0 if self.live.settling.settled else 3


def probes_of(session: Session, meter_id: uuid.UUID) -> list[Probe]:
    """The probes of a meter in the order they are calibrated in."""
    query = select(Probe).where(Probe.meter_id == meter_id, Probe.retired_at.is_(None))
    return sorted(session.scalars(query), key=lambda p: (ORDER.index(p.quantity), p.name))


def outline(chosen: Sequence[tuple[Probe, Method]]) -> Plan:
    """How long the session takes with one pair of hands: dipping takes them, settling does not, ions come last."""
    tasks: list[Task] = []
    ends: dict[str, list[str]] = {}
    warm: tuple[str, ...] = ()  # everything rests on temperature: the others go in once its last cup is dipped
    for probe, method in sorted(chosen, key=lambda c: ORDER.index(c[0].quantity)):
        before = () if probe.quantity == "temperature" else warm
        if probe.quantity in IONS:
            before = (*warm, *(k for q in RESTS_ON for k in ends.get(q, ())))
        for step in method.steps:
            hands, wait = f"{probe.name}: {step.title}", f"{probe.name}: {step.title} settles"
            tasks.append(Task(hands, HANDS_MIN, True, before))
            tasks.append(Task(wait, max(method.settling.shortest_s, 30.0) * 1.4 / 60, False, (hands,)))
            before = (wait,)
            if probe.quantity == "temperature":
                warm = (hands,)
        done = f"{probe.name}: verdict"
        tasks.append(Task(done, VERDICT_MIN, True, before))
        ends.setdefault(probe.quantity, []).append(done)
    return plan(tasks)


def shared_rinses(chosen: Sequence[tuple[Probe, Method, Mapping[str, str]]]) -> int:
    """How many cups serve more than one probe, so that one pouring and one rinse are saved for each."""
    lots = [lot for _, _, cups in chosen for lot in set(cups.values())]
    return len(lots) - len(set(lots))


@writes("session.start", Written)
def start(w: Write, *, meter_id: str, source: str, choices: Sequence[SessionChoice], conditions: Conditions) -> Written:
    """Open one run a chosen probe, all or none."""
    return open_session(w, meter_id, source, choices, conditions)


def open_session(
    w: Write, meter_id: str, source: str, choices: Sequence[SessionChoice], conditions: Conditions
) -> Written:
    """The same, within a write. Raises every fault of every run at once."""
    meter = kit.meter_of(w.session, meter_id)
    if len(choices) < 1:
        raise InputError("probe", "Choose at least one probe for the calibration session.")
    if source not in ("live", "typed"):
        raise InputError("source", "Readings are live or typed. Choose one of the two.", value=source)
    new_session = CalibrationSession(id=uuid.uuid4(), meter_id=meter.id, operator_id=w.actor.id, started_at=w.now)
    w.session.add(new_session)
    w.session.flush()
    probes = {c.probe_id: kit.probe_of(w.session, c.probe_id) for c in choices}
    covered = {p.quantity for p in probes.values()}
    faults: list[InputError] = []
    for choice in sorted(choices, key=lambda c: ORDER.index(probes[c.probe_id].quantity)):
        probe = probes[choice.probe_id]
        if probe.meter_id != meter.id:
            raise NotFound("There is no such probe on this meter.")
        try:
            own_conditions = _own(w.session, probe, conditions, covered, w.now)
            chosen = bench_runs.RunChoice(choice.method_key, source, choice.cups)
            bench_runs.open_run(w, probe, chosen, own_conditions, new_session.id)
        except InputError as error:
            faults += [InputError(f.field, joined((f"{probe.name}:", words_of(f)))) for f in error.faults]
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    w.record(f"session:{new_session.id}", {"probes": [p.name for p in probes.values()]})
    return Written(str(new_session.id))


def _own(session: Session, probe: Probe, given: Conditions, covered: set[str], now: datetime) -> Conditions:
    """Ion tips need no reason for what this very session calibrates first."""
    if probe.quantity not in IONS:
        return given
    others = probes_of(session, probe.meter_id)
    state = {
        q: q in covered or any(kit.trust_of(session, p, now).valid for p in others if p.quantity == q)
        for q in RESTS_ON
        if any(p.quantity == q for p in others)
    }
    missing = prerequisites(state)
    return replace(
        given, reason=given.reason if missing else "in this calibration session, after pH, ORP and conductivity"
    )


def load(session: Session, calibration_session_id: str | uuid.UUID) -> CalibrationSession:
    """A calibration session by id; the front door for everything that names one."""
    calibration_session = session.get(CalibrationSession, object_id(calibration_session_id, "calibration session"))
    if calibration_session is None:
        raise NotFound("There is no such calibration session.")
    return calibration_session


def lines(session: Session, calibration_session: CalibrationSession, now: datetime) -> list[SessionLine]:
    """Every run of the calibration session as it stands, in the order of the trade."""
    runs = session.scalars(select(Run).where(Run.calibration_session_id == calibration_session.id))
    result = []
    for run in sorted(runs, key=lambda r: (ORDER.index(r.probe.quantity), r.probe.name)):
        state = run_state.load_run(session, run.id)
        seen = cup.live_cup(session, state, now=now) if not state.end else None
        elapsed = (now - state.dip.started_at).total_seconds() if state.dip else None
        waits = "" if state.end else kit.waits_for(session, run)
        result.append(SessionLine(state, seen, waits, elapsed))
    return [replace(line, shares_with=_sharing(line, result)) for line in result]


def _sharing(line: SessionLine, others: Sequence[SessionLine]) -> tuple[str, ...]:
    """Which other probes stand in, or come next to, the same cup: poured once, rinsed once."""
    mine = line.state.current.lot if line.state.current else None
    if mine is None or line.state.end:
        return ()
    return tuple(
        o.state.run.probe.name
        for o in others
        if o is not line
        and not o.state.end
        and (there := o.state.current)
        and there.lot
        and there.lot.lot.id == mine.lot.id
    )


def next_line(session_lines: Sequence[SessionLine]) -> SessionLine | None:
    """Which run wants a hand now; None when all have ended or wait."""
    ready = [line for line in session_lines if line.rank < 3]
    return min(ready, key=lambda line: line.rank, default=None)


#: Quantities that one solution can set together.
_OTHER = dict(zip(COMBINES, reversed(COMBINES), strict=True))


def packet_partner(
    probe: Probe, method: Method, in_use: Mapping[str, Method], others: Sequence[Probe]
) -> tuple[Probe, Method] | None:
    """The probe of the same meter that may stand in the same cup of a combined solution, and its method; None where
    `method` takes no such solution, or the meter has no probe for the other half.

    others : the probes of the meter
    """
    if not _is_of_one_packet(method) or probe.quantity not in _OTHER:
        return None
    quantity = _OTHER[probe.quantity]
    partner = next((p for p in others if p.quantity == quantity), None)
    its = next((m for m in in_use.values() if m.quantity == quantity and _is_of_one_packet(m)), None)
    return (partner, its) if partner and its else None


def _is_of_one_packet(method: Method) -> bool:
    return len(method.steps) == 1 and method.steps[0].made_as == "combined"


@writes("session.packet", Written)
def start_packet(
    w: Write, *, probe_id: str, method_key: str, source: str, lot_id: str, conditions: Conditions
) -> Written:
    """Set pH and conductivity in one run from one packet: both probes in one cup, which is used up once."""
    probe, in_use = kit.probe_of(w.session, probe_id), kit.methods_in_use(w.session)
    method = in_use.get(method_key)
    partner = packet_partner(probe, method, in_use, probes_of(w.session, probe.meter_id)) if method else None
    if method is None or partner is None:
        raise InputError("method", "Choose a method that takes a combined solution, on a meter with both probes.")
    choices = [SessionChoice(str(p.id), m.key, {m.steps[0].key: lot_id}) for p, m in ((probe, method), partner)]
    return open_session(w, str(probe.meter_id), source, choices, conditions)


def default_choices(session: Session, meter_id: uuid.UUID) -> list[tuple[Probe, Method]]:
    """Every probe of the meter with the method it is usually calibrated by."""
    probes = probes_of(session, meter_id)
    usual = kit.default_methods(session, probes)
    return [(p, usual[p.id]) for p in probes]
