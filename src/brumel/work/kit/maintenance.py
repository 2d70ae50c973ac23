"""What is done to probes, the waits it starts, and how often it is due."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import BindParameter, Select, func, select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError, OutOfRange
from brumel.core.sentence import Amount, Sentence, say
from brumel.methods.maintenance import MaintenanceSpec, kinds_of, load_maintenance
from brumel.store.tables import Maintenance, Probe
from brumel.work.desk import NotAllowed, Refused, Write, Written, clean_reason, writes
from brumel.work.kit import probes


def last_maintenance(session: Session, probe_id: uuid.UUID, before: datetime) -> Maintenance | None:
    """The newest thing done to a probe."""
    query = select(Maintenance).where(Maintenance.probe_id == probe_id, Maintenance.at <= before)
    return session.scalar(query.order_by(Maintenance.at.desc()).limit(1))


def maintenance_words(probe: Probe, done: Maintenance) -> tuple[str, str]:
    """What was done and what the probe does meanwhile, in words."""
    return words_of(probe, done.what)


def words_of(probe: Probe, what: str) -> tuple[str, str]:
    """A kind of maintenance and what the probe does meanwhile, in words."""
    spec = load_maintenance().get(probe.quantity, {}).get(what)
    return (spec.words, spec.meanwhile) if spec else (what, "")


def hours_since(session: Session, probe: Probe, what: str, now: datetime) -> float | None:
    """Hours since something was last done to a probe; None where it never was."""
    query = select(Maintenance.at).where(
        Maintenance.probe_id == probe.id, Maintenance.what == what, Maintenance.at <= now
    )
    at = session.scalar(query.order_by(Maintenance.at.desc()).limit(1))
    return None if at is None else (now - at).total_seconds() / 3600


LONGEST_WAIT_H = 24 * 14


# -- maintenance


def maintenance_kinds(probe: Probe) -> Mapping[str, MaintenanceSpec]:
    """What can be done to a probe of this quantity and kind."""
    return kinds_of(probe.quantity, probe.kind)


def wait_h(probe: Probe, what: str) -> float:
    """The wait a maintenance starts: the probe's own, from its manual, else the default of its kind [h]."""
    return float(probe.waits.get(what, maintenance_kinds(probe)[what].wait_for(probe.kind)))


def interval_days(probe: Probe, what: str) -> int | None:
    """How often it is due: the probe's own interval, else the default; None or 0 where only on need [d]."""
    interval = probe.intervals.get(what)
    return (int(interval) or None) if interval is not None else maintenance_kinds(probe)[what].every_days


@writes("probe.maintenance", Written)
def record_maintenance(w: Write, *, probe_id: str, what: str, note: str = "", fresh: bool = True) -> Written:
    """Something was done to the probe just now; the wait it needs starts. The calibration before it no longer holds.

    `fresh` says that a part which must be new (a membrane, a tip) is new.
    """
    probe = probes.probe_of(w.session, probe_id)
    if what not in maintenance_kinds(probe):
        raise InputError("what", "Choose what was done from the list.", value=what)
    refuse_on_bench(w, probe)
    spec = maintenance_kinds(probe)[what]
    if spec.fresh and not fresh:
        raise Refused(f"Say that it is a new {spec.fresh}: a used one must not go on again.")
    note = clean_reason(note, required=False)
    ready = begin_wait(w, probe, what, note)
    w.record(f"probe:{probe.id}", {"what": what, "ready": ready.isoformat(), "note": note})
    return Written(str(probe.id))


def refuse_on_bench(w: Write, probe: Probe) -> None:
    """Raises Refused while the probe is in an open run."""
    if probes.open_run(w.session, probe.id):
        raise Refused(f"{probe.name} is on Bench in an open run. Finish or abandon that first.")


def begin_wait(w: Write, probe: Probe, what: str, note: str, answers: Mapping[str, str] | None = None) -> datetime:
    """What was done goes on record, and its wait begins; within a write. When the probe may be calibrated."""
    ready = w.now + timedelta(hours=wait_h(probe, what))
    row = Maintenance(probe_id=probe.id, what=what, at=w.now, ready_at=ready, note=note, by_id=w.actor.id)
    row.answers = dict(answers or {})
    w.session.add(row)
    return ready


def _first_upper(words: str) -> str:
    return words[:1].upper() + words[1:]


#: Waits that a sensor needs of itself, not for what was done to clean it.
OF_THE_SENSOR = ("polarising", "hydrating", "running")


def waits_in_words(probe: Probe, *, of_the_sensor: bool = False) -> list[Sentence]:
    """What this probe has to wait for and how long, by its record or its kind: "When cleaned: 2 h in storage solution"."""
    by_wait: dict[tuple[float, str], list[str]] = {}
    for what, spec in maintenance_kinds(probe).items():
        if of_the_sensor and not spec.meanwhile.startswith(OF_THE_SENSOR):
            continue
        if hours := wait_h(probe, what):
            by_wait.setdefault((hours, spec.meanwhile), []).append(spec.words)
    if of_the_sensor:
        return [
            say(
                "{meanwhile}: {wait} at need; none runs now.",
                meanwhile=_first_upper(meanwhile),
                wait=Amount(hours, "h"),
            )
            for meanwhile in dict.fromkeys(meanwhile for _, meanwhile in by_wait)
            for hours in [max(h for h, m in by_wait if m == meanwhile)]
        ]
    return [
        say(
            "When {treated}: {wait} {meanwhile}.",
            treated=" or ".join(words),
            wait=Amount(hours, "h"),
            meanwhile=meanwhile,
        )
        for (hours, meanwhile), words in by_wait.items()
    ]


@writes("probe.interval", Written)
def set_interval(w: Write, *, probe_id: str, what: str, days: float | None, reason: str) -> Written:
    """How often a maintenance of this probe is due [d]; None goes back to the default, 0 is never. For the lead."""
    if days is not None and (not 0 <= days <= 3650 or days != int(days)):
        raise OutOfRange("days", days, 0, 3650, "d")
    return _set_own(w, probe_id, "intervals", what, days, reason)


@writes("probe.wait", Written)
def set_wait(w: Write, *, probe_id: str, what: str, hours: float | None, reason: str) -> Written:
    """A wait of the probe's own, as its manual says [h]; None goes back to the default. For the lead."""
    if hours is not None and not 0 <= hours <= LONGEST_WAIT_H:
        raise OutOfRange("hours", hours, 0, LONGEST_WAIT_H, "h")
    return _set_own(w, probe_id, "waits", what, hours, reason)


def _set_own(w: Write, probe_id: str, field: str, what: str, value: float | None, reason: str) -> Written:
    """Set one entry of the probe's own record, or take it out again."""
    if w.actor.role != "lead":
        raise NotAllowed(f"{field.capitalize()} of a probe are set by the lead.")
    probe = probes.probe_of(w.session, probe_id)
    if what not in maintenance_kinds(probe):
        raise InputError("what", "Choose which maintenance from the list.", value=what)
    why = clean_reason(reason)
    others = {k: v for k, v in getattr(probe, field).items() if k != what}
    setattr(probe, field, others if value is None else {**others, what: value})
    w.record(f"probe:{probe.id}", {"what": what, field: value, "reason": why})
    return Written(str(probe.id))


def maintenance_history(session: Session, probe_id: uuid.UUID, count: int = 20) -> list[Maintenance]:
    """What was done to a probe, newest first."""
    query = select(Maintenance).where(Maintenance.probe_id == probe_id).order_by(Maintenance.at.desc()).limit(count)
    return list(session.scalars(query))


def last_done(session: Session) -> dict[tuple[uuid.UUID, str], datetime]:
    """When each kind of maintenance was last done to each probe."""
    query = select(Maintenance.probe_id, Maintenance.what, func.max(Maintenance.at))
    return {(p, what): at for p, what, at in session.execute(query.group_by(Maintenance.probe_id, Maintenance.what))}


@dataclass(frozen=True)
class Wait:
    """A wait that still runs: when it began, what was done, what the probe does meanwhile, and when it ends."""

    at: datetime
    words: str
    meanwhile: str
    ready_at: datetime


LONGEST_WAIT = timedelta(days=14)


def conditioning(session: Session, probe: Probe, now: datetime) -> Wait | None:
    """The wait of a probe that ends last; None where it may be calibrated. The probe's own waits win over the default."""
    rows = session.scalar(waits_within(now, now - LONGEST_WAIT).where(Maintenance.probe_id == probe.id))
    return running_wait(probe, rows or [], now)


def waits_within(now: datetime | BindParameter[Any], since: datetime | BindParameter[Any]) -> Select[Any]:
    """What was done lately enough that its wait may still run, as one value: [[what, begun, ready], ...].

    since : `LONGEST_WAIT` before now
    """
    done = func.jsonb_build_array(Maintenance.what, Maintenance.at, Maintenance.ready_at)
    rows = func.jsonb_agg(done).label("rows")
    return select(rows).where(Maintenance.at <= now, Maintenance.at > since)


def running_wait(probe: Probe, rows: Sequence[tuple[str, str, str]], now: datetime) -> Wait | None:
    """The wait that ends last among those of `waits_within`; None where none runs any more."""
    last: Wait | None = None
    for what, begun, usually_ready in rows:
        at, hours = datetime.fromisoformat(begun), probe.waits.get(what)
        ready = datetime.fromisoformat(usually_ready) if hours is None else at + timedelta(hours=float(hours))
        if ready > now and (last is None or ready > last.ready_at):
            last = Wait(at, *words_of(probe, what), ready)
    return last
