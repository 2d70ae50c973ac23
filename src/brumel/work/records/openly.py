"""A part of the record as plain values for open formats, whole in itself."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, defer, joinedload, lazyload

from brumel.formats.open_record import How, OpenCalibration, OpenMethod, OpenProbe, OpenReading, OpenRecord, OpenSite
from brumel.store.deployments import Deployment
from brumel.store.logger import LoggerSeries
from brumel.store.records import Signature
from brumel.store.tables import Calibration, Probe, Reading, Run, Site
from brumel.work.quantities import names as quantity_names
from brumel.work.records.letterhead import practice
from brumel.work.records.narrowing import Search
from brumel.work.records.reading_rows import UNITS
from brumel.work.records.search import readings_found
from brumel.work.rounds import logger
from brumel.work.rounds.deployments import Whole, channels, out

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
        methods=_methods(session, {c.id for c in calibrations}),
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
    return [_site(s) for s in rows]


def _site(s: Site) -> OpenSite:
    return OpenSite(str(s.id), s.name, s.client, s.kind, s.use, s.zone, s.latitude, s.longitude, s.altitude_m)


def _probes(session: Session, ids: set[str]) -> list[OpenProbe]:
    rows = session.scalars(select(Probe).where(Probe.id.in_(ids)).order_by(Probe.name, Probe.id))
    return [_probe(p) for p in rows]


def _probe(p: Probe) -> OpenProbe:
    return OpenProbe(str(p.id), p.name, p.serial, p.quantity, p.meter.name, p.meter.serial)


def _methods(session: Session, ids: set[str]) -> list[OpenMethod]:
    """The methods of these calibrations, each version once, as their runs keep them."""
    found: dict[str, OpenMethod] = {}
    query = select(Run.method, Probe.quantity).join(Calibration, Calibration.run_id == Run.id)
    for method, quantity in session.execute(query.join(Probe, Probe.id == Run.probe_id).where(Calibration.id.in_(ids))):
        key, version = method.get("key", ""), method.get("version", 1)
        steps = " → ".join(step.get("title", "") for step in method.get("steps", ()))
        limits = "; ".join(
            f"{name}: {limit.get('source', '')}" for name, limit in sorted(method.get("limits", {}).items())
        )
        id_ = f"{key}@{version}"
        found.setdefault(id_, OpenMethod(id_, key, version, method.get("title", ""), quantity, steps, limits))
    return [found[id_] for id_ in sorted(found)]


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


def open_series(session: Session, series: LoggerSeries, now: datetime) -> OpenRecord:
    """A logger's series as it is reported; a value that is not reported is missing (flag 9)."""
    state = logger.standing(session, series).state
    calibrations = _calibrations(session, {str(series.calibration_id)} if series.calibration_id else set())
    readings = [
        OpenReading(
            id=f"{series.id}/{number}",
            version=1,
            visit_id="",
            site_id=str(series.site_id),
            probe_id=str(series.probe_id or ""),
            calibration_id=str(series.calibration_id or ""),
            quantity=series.quantity,
            title=quantity_names.title(series.quantity),
            value=recorded if reported is None else reported,
            unit=series.unit or UNITS.get(series.quantity, ""),
            expanded_uncertainty=None,
            at=at,
            depth_m=series.depth_m,
            temperature_c=None,
            role="first",
            how="sensor",
            flag=9 if reported is None else flag,
            backing=state,
            limit_outcome="",
            signed_by="",
            reason="",
        )
        for number, (at, recorded, reported, flag) in enumerate(logger.values(session, series), 1)
    ]
    return OpenRecord(
        practice=practice(session).name,
        made_at=now,
        sites=_sites(session, {str(series.site_id)}),
        probes=_probes(session, {str(series.probe_id)} if series.probe_id else set()),
        calibrations=calibrations,
        readings=readings,
    )


def open_deployment(session: Session, whole: Whole, several: Sequence[out.ChannelOut], now: datetime) -> OpenRecord:
    """All channels of a deployment: as the sensor recorded them, and, where it was signed, as calculated from that.

    A value that is not reported is missing (flag 9) among the calculated ones and stands among the recorded ones.
    """
    d = whole.deployment
    readings = list[OpenReading]()
    for c in several:
        signed = whole.corrections[c.channel.id]
        for number, (at, (cell,)) in enumerate(out.rows([c]), 1):
            if cell is None or cell.recorded is None:
                continue
            readings.append(_logged(d, c, at, f"{number}/recorded", cell.recorded, "sensor", cell.flag, c.state))
            if signed:
                is_there = cell.reported is not None
                value = cell.reported if cell.reported is not None else cell.recorded
                worth = f"{c.state}, {cell.grade}" if cell.grade else c.state
                one = _logged(d, c, at, f"{number}/reported", value, "calculated", cell.flag if is_there else 9, worth)
                readings.append(replace(one, expanded_uncertainty=cell.u, signed_by=signed[0].signed_name))
    return OpenRecord(
        practice=practice(session).name,
        made_at=now,
        sites=[_site(d.site)],
        probes=[_probe(c.channel.probe) for c in several if c.channel.probe],
        calibrations=_calibrations(session, {c.calibration_id for c in several if c.calibration_id}),
        readings=readings,
    )


def _logged(
    d: Deployment, c: out.ChannelOut, at: datetime, name: str, value: float, how: How, flag: int, backing: str
) -> OpenReading:
    """One value of a deployed channel."""
    return OpenReading(
        id=f"{c.channel.id}/{name}",
        version=1,
        visit_id="",
        site_id=str(d.site_id),
        probe_id=str(c.channel.probe_id or ""),
        calibration_id=c.calibration_id,
        quantity=c.channel.quantity,
        title=channels.title(c.channel.quantity),
        value=value,
        unit=c.channel.unit or UNITS.get(c.channel.quantity, ""),
        expanded_uncertainty=None,
        at=at,
        depth_m=d.depth_m,
        temperature_c=None,
        role="first",
        how=how,
        flag=flag,
        backing=backing,
        limit_outcome="",
        signed_by="",
        reason="",
    )
