"""The simulated meter at work: it looks where probes stand and stores what they would show by now."""

from __future__ import annotations

import uuid
from dataclasses import replace
from datetime import datetime
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.meters.simulated import SAMPLES_PER_S, Electrode, Liquid, Start, contaminated, sense
from brumel.store.tables import Dip, Lot, Meter, Probe, Run, RunEnd, Sample, Truth, Visit
from brumel.work import kit, samples
from brumel.work.desk import Desk

MOST_AT_ONCE = 600


def truth(session: Session, subject: str) -> dict[str, Any]:
    """What the simulator knows about a subject; empty where nothing was set."""
    found = session.get(Truth, subject)
    return found.body if found else {}


def set_truth(session: Session, subject: str, body: dict[str, Any]) -> None:
    """Set what the simulator knows about a subject."""
    session.merge(Truth(subject=subject, body=body))


def pump(desk: Desk) -> int:
    """Store every sample that is due by now on every live dip of a simulated meter. Returns how many are new.

    Safe to run anywhere, any number of times: a sample is a pure function of its dip and number.
    """
    new = 0
    with desk.read() as session:
        dips = _open_dips(session, desk.clock())
    for dip in dips:
        with desk.sessions.begin() as session:
            new += advance(session, dip, desk.clock())
    return new


def _open_dips(session: Session, now: datetime) -> list[Dip]:
    newest = (
        select(Dip)
        .distinct(Dip.probe_id)
        .join(Probe, Probe.id == Dip.probe_id)
        .join(Meter, Meter.id == Probe.meter_id)
        .where(Meter.link == "simulated", Dip.started_at > now - samples.LONGEST_DIP)
        .order_by(Dip.probe_id, Dip.number.desc())
    )
    ended = set(session.scalars(select(RunEnd.run_id).where(RunEnd.at > now - 2 * samples.LONGEST_DIP)))
    return [d for d in session.scalars(newest) if d.source == "live" and d.run_id not in ended]


def advance(session: Session, dip: Dip, now: datetime, *, upto_s: float | None = None) -> int:
    """Bring one dip's trace up to now (or to `upto_s` of the meter's own time)."""
    pace = float(truth(session, "clock").get("pace", 1.0))
    due_s = (now - dip.started_at).total_seconds() * pace if upto_s is None else upto_s
    first = samples.next_seq(session, dip)
    last = min(int(due_s * SAMPLES_PER_S), first + MOST_AT_ONCE - 1)
    last = min(last, int(samples.LONGEST_DIP.total_seconds() * SAMPLES_PER_S))
    if last < first:
        return 0
    seq = np.arange(first, last + 1)
    t_s = seq / SAMPLES_PER_S
    electrode = Electrode.from_body(truth(session, f"probe:{dip.probe_id}"))
    mv, c = sense(electrode, _liquid(session, dip, electrode), t_s, _start(session, dip), dip.number)
    rows = [(int(s), float(t), float(e), float(k), None) for s, t, e, k in zip(seq, t_s, mv, c, strict=True)]
    return samples.store(session, dip, rows)


def _liquid(session: Session, dip: Dip, electrode: Electrode) -> Liquid:
    """What the probe really stands in, faults of cups included."""
    if dip.visit_id:
        visit = session.get_one(Visit, dip.visit_id)
        water = truth(session, f"site:{visit.site_id}")
        return Liquid(float(water.get("ph", 7.4)), float(water.get("temperature_c", 12.0)))
    body = truth(session, f"probe:{dip.probe_id}")
    at = float(body.get("cups_c", 20.0))
    run = session.get_one(Run, dip.run_id)
    steps = [s["key"] for s in run.method["steps"]]
    lot_id = dip.lot_id
    if "wrong_cup" in electrode.faults and len(steps) > 1 and dip.step == steps[1]:
        lot_id = uuid.UUID(run.cups[steps[0]])
    lot = session.get_one(Lot, lot_id)
    at += 0.3 * steps.index(dip.step)
    value = kit.lot_ph(lot, at) + float(truth(session, f"lot:{lot.id}").get("shift_ph", 0.0))
    if "contaminated_buffer" in electrode.faults:
        value = contaminated(value)
    return Liquid(value, at)


def _start(session: Session, dip: Dip) -> Start:
    """Where the earlier dip left signal and thermistor; rinsing brings them half way back."""
    earlier = session.scalar(
        select(Dip).where(Dip.probe_id == dip.probe_id, Dip.number < dip.number).order_by(Dip.number.desc()).limit(1)
    )
    if earlier is None:
        return Start()
    row = session.execute(
        select(Sample.millivolts, Sample.temperature_c)
        .where(Sample.dip_id == earlier.id, *samples.within(earlier.started_at))
        .order_by(Sample.seq.desc())
        .limit(1)
    ).first()
    return Start(row[0] / 2, row[1]) if row else Start()


def set_faults(session: Session, probe: Probe, faults: list[str]) -> None:
    """Switch the simulator's faults of a probe on and off."""
    body = truth(session, f"probe:{probe.id}")
    electrode = replace(Electrode.from_body(body), faults=tuple(faults))
    set_truth(session, f"probe:{probe.id}", {**body, "faults": list(electrode.faults)})
