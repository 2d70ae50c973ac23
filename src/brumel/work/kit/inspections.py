"""Inspecting a probe: what was found, and whether it keeps the probe off Bench."""

from __future__ import annotations

import uuid
from collections.abc import Mapping

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.methods.inspection import InspectionFinding, items_for
from brumel.store.tables import Inspection, Probe
from brumel.work.desk import Write, Written, clean_reason, writes
from brumel.work.kit import probes
from brumel.work.kit.meters import raise_faults


def last_inspection(session: Session, probe_id: uuid.UUID) -> Inspection | None:
    """The last time a probe was inspected."""
    query = select(Inspection).where(Inspection.probe_id == probe_id)
    return session.scalar(query.order_by(Inspection.at.desc()).limit(1))


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
    blocking = [f.words for f in findings(probe, noted) if f.blocks]
    note = clean_reason(note, required=False) or ", ".join(blocking)
    inspection = Inspection(
        id=uuid.uuid4(), probe_id=probe.id, at=w.now, findings=noted, blocks=bool(blocking), note=note, by_id=w.actor.id
    )
    w.session.add(inspection)
    w.record(f"probe:{probe.id}", {"findings": noted, "blocks": bool(blocking)})
    return Written(str(inspection.id))


def findings(probe: Probe, seen: Mapping[str, str]) -> tuple[InspectionFinding, ...]:
    """What was found that is not good, with its remedy."""
    return tuple(
        f for item in items_for(probe.quantity, probe.kind) for f in item.findings if seen.get(item.key) == f.key
    )
