"""A part of the record as plain values for open formats, whole in itself."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, defer, joinedload, lazyload

from brumel.formats.open_record import How, OpenCalibration, OpenProbe, OpenReading, OpenRecord, OpenSite
from brumel.store.records import Signature
from brumel.store.tables import Calibration, Probe, Reading, Run, Site
from brumel.work.quantities import names as quantity_names
from brumel.work.records.letterhead import practice
from brumel.work.records.narrowing import Search
from brumel.work.records.reading_rows import UNITS
from brumel.work.records.search import readings_found

Told = Callable[[int], None]


def open_record(session: Session, search: Search, now: datetime, told: Told = lambda _: None) -> OpenRecord:
    """What a search finds, oldest first, with every site, probe and calibration that its readings name."""
    query, reading = readings_found(search)
    query = query.add_columns(Signature.name).outerjoin(Signature, Signature.reading_id == reading.id)
    query = query.options(lazyload("*"), *(defer(c) for c in (reading.working, reading.settling, reading.findings)))
    readings = []
    ordered = query.order_by(reading.at, reading.id).execution_options(yield_per=1000)
    for count, (row, signed_by) in enumerate(session.execute(ordered), 1):
        readings.append(_reading(row, signed_by or ""))
        if count % 1000 == 0:
            told(count)
    calibrations = _calibrations(session, {r.calibration_id for r in readings if r.calibration_id})
    probe_ids = {r.probe_id for r in readings if r.probe_id} | {c.probe_id for c in calibrations}
    return OpenRecord(
        practice=practice(session).name,
        made_at=now,
        sites=_sites(session, {r.site_id for r in readings}),
        probes=_probes(session, probe_ids),
        calibrations=calibrations,
        readings=readings,
    )


def _how(row: Reading) -> How:
    if row.entered_as == "imported":
        return "unknown"
    if row.parents:
        return "calculated"
    return "sensor" if row.probe_id else "manual"


def _reading(row: Reading, signed_by: str) -> OpenReading:
    return OpenReading(
        id=str(row.root_id),
        version=row.version,
        visit_id=str(row.visit_id),
        site_id=str(row.site_id),
        probe_id=str(row.probe_id or ""),
        calibration_id=str(row.calibration_id or ""),
        quantity=row.quantity,
        title=quantity_names.title(row.quantity),
        value=row.value,
        unit=row.unit or UNITS.get(row.quantity, ""),
        expanded_uncertainty=row.expanded_uncertainty,
        at=row.at,
        depth_m=row.depth_m,
        temperature_c=row.temperature_c,
        role=row.role,
        how=_how(row),
        flag=row.flag,
        backing=row.backing,
        limit_outcome=row.outcome,
        signed_by=signed_by,
        reason=row.reason,
    )


def _sites(session: Session, ids: set[str]) -> list[OpenSite]:
    rows = session.scalars(select(Site).where(Site.id.in_(ids)).order_by(Site.name, Site.id))
    return [
        OpenSite(str(s.id), s.name, s.client, s.kind, s.use, s.zone, s.latitude, s.longitude, s.altitude_m)
        for s in rows
    ]


def _probes(session: Session, ids: set[str]) -> list[OpenProbe]:
    rows = session.scalars(select(Probe).where(Probe.id.in_(ids)).order_by(Probe.name, Probe.id))
    return [OpenProbe(str(p.id), p.name, p.serial, p.quantity, p.meter.name, p.meter.serial) for p in rows]


def _calibrations(session: Session, ids: set[str]) -> list[OpenCalibration]:
    with_run = joinedload(Calibration.run).options(lazyload("*"), defer(Run.cups))
    query = (
        select(Calibration).where(Calibration.id.in_(ids)).options(lazyload("*"), with_run, joinedload(Calibration.by))
    )
    return [
        OpenCalibration(
            str(row.id),
            row.number,
            str(row.probe_id),
            row.at,
            row.valid_until,
            row.run.method.get("key", ""),
            row.run.method.get("version", 1),
            row.outcome,
            row.usable,
            row.by.name,
        )
        for row in session.scalars(query.order_by(Calibration.at, Calibration.id))
    ]
