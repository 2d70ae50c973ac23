"""Inspecting a probe: what was found, and whether it keeps the probe off Bench."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from functools import cache

from sqlalchemy import Select, bindparam, select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.methods.inspection import InspectionFinding, items_for
from brumel.store.tables import Inspection, Probe
from brumel.work.desk import Write, Written, clean_reason, writes
from brumel.work.kit import probes
from brumel.work.kit.meters import raise_faults


def last_inspection(session: Session, probe_id: uuid.UUID) -> Inspection | None:
    """The last time a probe was inspected."""
    return session.scalar(_newest(), {"probe": probe_id})


@cache
def _newest() -> Select[Inspection]:
    return select(Inspection).where(Inspection.probe_id == bindparam("probe")).order_by(Inspection.at.desc()).limit(1)


@writes("probe.inspect", Written)
def inspect(w: Write, *, probe_id: str, seen: Mapping[str, str], note: str = "") -> Written:
    """Looked the probe over: every item needs an answer, "good" or one of its findings."""
    probe = probes.probe_of(w.session, probe_id)
    faults: list[InputError] = []
    noted: dict[str, str] = {}
    for item in items_for(probe.quantity, probe.kind):
        answer = seen.get(item.key, "")
        if answer != "good" and answer not in {f.key for f in item.findings}:
            faults.append(InputError(item.key, f"{item.question} Choose what you see."))
        noted[item.key] = answer
    raise_faults(faults)
    inspection = record_look(w, probe, noted, clean_reason(note, required=False))
    w.record(f"probe:{probe.id}", {"findings": noted, "blocks": inspection.blocks})
    return Written(str(inspection.id))


def record_look(
    w: Write, probe: Probe, noted: Mapping[str, str], note: str = "", stops: Sequence[str] = ()
) -> Inspection:
    """An inspection with these findings, {item: "good" or a finding}; within a write. `stops` keeps it off Bench besides."""
    blocking = [*stops, *(f.words for f in findings(probe, noted) if f.blocks)]
    inspection = Inspection(
        id=uuid.uuid4(),
        probe_id=probe.id,
        at=w.now,
        findings=dict(noted),
        blocks=bool(blocking),
        note=note or ", ".join(blocking),
        by_id=w.actor.id,
    )
    w.session.add(inspection)
    return inspection


def findings(probe: Probe, seen: Mapping[str, str]) -> tuple[InspectionFinding, ...]:
    """What was found that is not good, with its remedy."""
    return tuple(
        f for item in items_for(probe.quantity, probe.kind) for f in item.findings if seen.get(item.key) == f.key
    )
