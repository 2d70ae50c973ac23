"""What falls due: calibrations, maintenance, solutions."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from brumel.work.kit import lots, maintenance, probes, trust
from brumel.work.kit.maintenance import interval_days, maintenance_kinds

# -- the calendar


@dataclass(frozen=True)
class Due:
    """Something that falls due: a stable key, what, of which thing, when, and where to go."""

    key: str
    what: str
    subject: str
    at: datetime
    probe_id: uuid.UUID | None = None

    def overdue(self, now: datetime) -> bool:
        return self.at < now


def due_items(session: Session, now: datetime) -> list[Due]:
    """Everything that falls due: calibrations, waits that end, maintenance, solutions; the earliest first."""
    items: list[Due] = []
    in_service = probes.probes_in_service(session)
    known, done = trust.facts(session, in_service, now), maintenance.last_done(session)
    for probe in in_service:
        newest, waiting = known[probe.id].calibration, known[probe.id].wait
        if waiting:
            key = f"ready-{probe.id}-{waiting.at:%Y%m%d%H%M}"
            items.append(Due(key, "ready to calibrate", probe.name, waiting.ready_at, probe.id))
        elif newest and newest.usable:
            items.append(Due(f"calibrate-{newest.id}", "calibrate again", probe.name, newest.valid_until, probe.id))
        for what, spec in maintenance_kinds(probe).items():
            if every := interval_days(probe, what):
                last = done.get((probe.id, what), probe.in_service)
                at = last + timedelta(days=every)
                items.append(
                    Due(f"{what}-{probe.id}-{last:%Y%m%d}", f"due to be {spec.words}", probe.name, at, probe.id)
                )
    for view in lots.lots_on_shelf(session, now):
        lot = view.lot
        ends = [lot.expires_on] + ([lot.opened_at + timedelta(days=lot.open_days)] if lot.opened_at else [])
        items.append(Due(f"lot-{lot.id}", "replace the solution", f"{lot.code}, {lot.name}", min(ends)))
    return sorted(items, key=lambda d: (d.at, d.subject))
