"""What a program can ask for and send, and the description of it."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from typing import Any

from flask import Response, jsonify, request
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.methods.field import load_field
from brumel.store import tables
from brumel.store.logger import LoggerSeries
from brumel.web.access import desk
from brumel.web.api import models
from brumel.web.api.door import OPERATIONS, acting, blueprint, operation, problem, spec
from brumel.web.practice_clock import practice_zone
from brumel.web.reader import in_words
from brumel.work import bench, kit, records, rounds
from brumel.work.desk import NotFound, object_id
from brumel.work.quantities import standards
from brumel.work.quantities.book import quantity_of
from brumel.work.questions import Unanswered
from brumel.work.records import feeds, late, reading_rows
from brumel.work.records.feeds import Wanted
from brumel.work.rounds import offline
from brumel.work.rounds.agenda import agenda

__all__ = ["OPERATIONS", "blueprint"]


@blueprint.get("/openapi.json")
def openapi() -> Any:
    """The API's own description."""
    return jsonify(spec())


def _wanted(asked: models.OfList) -> Wanted:
    return Wanted(**asked.model_dump(exclude_none=True))


# -- sites and kit


@operation("GET", "/sites", "sites", models.Sites)
def sites(_: models.Nothing) -> models.Sites:
    """All sites, those put away too."""
    with desk().read() as session:
        return models.Sites(items=[_site(row) for row in feeds.sites(session)])


@operation("GET", "/sites/{site_id}", "sites", models.Site)
def site(_: models.Nothing, site_id: str) -> models.Site:
    """One site."""
    with desk().read() as session:
        return _site(rounds.site_of(session, site_id))


def _site(row: tables.Site) -> models.Site:
    limits = {
        key: models.Limit(
            low=limit.get("low"), high=limit.get("high"), unit=_unit(key), source=str(limit.get("source", ""))
        )
        for key, limit in row.limits.items()
    }
    return models.Site(
        id=row.id,
        client=row.client,
        name=row.name,
        kind=row.kind,
        use=row.use,
        zone=row.zone,
        latitude=row.latitude,
        longitude=row.longitude,
        altitude_m=row.altitude_m,
        depths_m=[float(depth) for depth in row.depths],
        limits=limits,
        terms_version=row.terms_version,
        retired=row.retired_at is not None,
    )


def _unit(quantity: str) -> str:
    spec = load_field().get(quantity)
    return (spec.unit if spec else "") or reading_rows.UNITS.get(quantity, "")


@operation("GET", "/probes", "kit", models.Probes)
def probes(_: models.Nothing) -> models.Probes:
    """All probes, retired ones too, and what they may be trusted for now."""
    with desk().read() as session:
        rows, now = feeds.probes(session), desk().clock()
        trusts = kit.trusts(session, rows, now)
        return models.Probes(items=[_probe(row, trusts[row.id]) for row in rows])


@operation("GET", "/probes/{probe_id}", "kit", models.Probe)
def probe(_: models.Nothing, probe_id: str) -> models.Probe:
    """One probe."""
    with desk().read() as session:
        row = kit.probe_of(session, probe_id)
        return _probe(row, kit.trusts(session, [row], desk().clock())[row.id])


def _probe(row: tables.Probe, trust: Any) -> models.Probe:
    meter, newest = row.meter, trust.calibration
    return models.Probe(
        id=row.id,
        name=row.name,
        serial=row.serial,
        quantity=row.quantity,
        meter=models.MeterOf(id=meter.id, name=meter.name, serial=meter.serial, firmware=meter.firmware),
        in_service_since=row.in_service,
        retired=row.retired_at is not None,
        valid=trust.valid and row.retired_at is None,
        state=in_words(trust.words),
        calibration_id=newest.id if newest else None,
        valid_until=newest.valid_until if newest and newest.usable else None,
        ways_of_entering={key: way.unit for key, way in quantity_of(row.quantity).entries.items()},
    )


@operation("GET", "/lots", "kit", models.Lots)
def lots(_: models.Nothing) -> models.Lots:
    """All solutions by lot, discarded ones too."""
    with desk().read() as session:
        return models.Lots(items=[_lot(row) for row in feeds.lots(session)])


def _lot(row: tables.Lot) -> models.Lot:
    view = kit.lot_view(row, desk().clock())
    return models.Lot(
        id=row.id,
        code=row.code,
        name=row.name,
        container=row.container,
        measures={quantity: _measure(row, quantity) for quantity in row.measures},
        expires_on=row.expires_on,
        opened_at=row.opened_at,
        open_days=row.open_days,
        discarded_at=row.discarded_at,
        usable=view.usable,
        objections=[in_words(words) for words in view.objections],
    )


def _measure(row: tables.Lot, quantity: str) -> models.LotMeasure:
    known = standards.LABELS[quantity]
    return models.LotMeasure(
        value=standards.nominal(row, quantity),
        unit=known.unit or reading_rows.UNITS.get(quantity, ""),
        label=row.measures[quantity].label,
        expanded_uncertainty=standards.label_uncertainty(row, quantity) or known.u,
        uncertainty_unit=known.u_unit,
    )


@operation("GET", "/due", "due", models.DueList)
def due(_: models.Nothing) -> models.DueList:
    """What lies ahead, overdue first: calibrations, maintenance, solutions, rounds, outings under way."""
    with desk().read() as session:
        now = desk().clock()
        rows = agenda(session, now, practice_zone())
    return models.DueList(
        items=[
            models.Due(
                key=row.key, what=row.what, words=in_words(row.words), at=row.at, timed=row.timed, id=row.id,
                overdue=row.at < now,
            )
            for row in rows
        ]
    )  # fmt: skip


# -- calibrations


@operation("GET", "/calibrations", "kit", models.Calibrations, models.OfCalibrations)
def calibrations(asked: models.OfCalibrations) -> models.Calibrations:
    """Calibrations, the oldest first, withdrawn ones too."""
    with desk().read() as session:
        page = feeds.calibrations(session, _wanted(asked))
        gone = feeds.withdrawn(session, page.rows)
        rows = [models.CalibrationSummary(**_calibration(row, gone.get(row.id))) for row in page.rows]
        return models.Calibrations(items=rows, after=page.after)


def _calibration(row: tables.Calibration, withdrawal: tables.CalibrationWithdrawal | None) -> dict[str, Any]:
    return {
        "id": row.id,
        "number": row.number,
        "probe_id": row.probe_id,
        "at": row.at,
        "valid_until": row.valid_until,
        "method": row.run.method.get("key", ""),
        "method_version": row.run.method.get("version", 1),
        "outcome": row.outcome,
        "usable": row.usable,
        "decision": row.decision,
        "by": row.by.name,
        "withdrawn_at": withdrawal.at if withdrawal else None,
        "withdrawn_because": withdrawal.reason if withdrawal else "",
    }


@operation("GET", "/calibrations/{calibration_id}", "kit", models.Calibration)
def calibration(_: models.Nothing, calibration_id: str) -> models.Calibration:
    """One whole calibration record: points, fit, verdict."""
    with desk().read() as session:
        return whole_calibration(session, calibration_id)


def whole_calibration(session: Session, calibration_id: str) -> models.Calibration:
    """The same for other places that give it."""
    row = records.calibration(session, calibration_id)
    state = bench.load_run(session, row.run_id)
    withdrawal = records.withdrawals_of(session, row)[0]
    known, meter = row.run.probe, row.run.probe.meter
    points = [
        models.Point(
            step=point.step,
            title=state.method.step(point.step).title,
            role=state.method.step(point.step).role,
            version=point.version,
            withdrawn=point.withdrawn,
            lot=lot.code if lot else None,
            expected=point.expected,
            expanded_uncertainty=point.expanded_uncertainty,
            signal=point.signal,
            temperature_c=point.temperature_c,
            early=point.early,
            reason=point.reason,
            at=point.at,
        )
        for point, lot in state.points
    ]
    verdict = [
        models.Criterion(**{name: _plain(each.get(name)) for name in models.Criterion.model_fields})
        for each in row.verdict["rows"]
    ]
    return models.Calibration(
        **_calibration(row, withdrawal),
        probe=known.name,
        probe_serial=known.serial,
        meter=meter.name,
        meter_serial=meter.serial,
        meter_firmware=meter.firmware,
        quantity=known.quantity,
        signal_unit=state.quantity.signal_unit,
        method_title=state.method.title,
        points=points,
        fit=row.fit,
        verdict=verdict,
        pressure_hpa=row.run.conditions.pressure_hpa,
    )


def _plain(value: Any) -> Any:
    return in_words(value) if isinstance(value, str) else value


# -- visits, readings, series


@operation("GET", "/readings", "records", models.Readings, models.OfReadings)
def readings(asked: models.OfReadings) -> models.Readings:
    """Readings as they stand, the oldest first; `written_since` gives what is new or corrected."""
    with desk().read() as session:
        page = feeds.readings(session, _wanted(asked))
        waiting = feeds.unsigned_among(session, page.rows)
        return models.Readings(items=[_reading(row, row.id not in waiting) for row in page.rows], after=page.after)


def _reading(row: tables.Reading, signed: bool) -> models.Reading:
    return models.Reading(
        id=row.root_id,
        version=row.version,
        visit_id=row.visit_id,
        site_id=row.site_id,
        probe_id=row.probe_id,
        calibration_id=row.calibration_id,
        quantity=row.quantity,
        value=row.value,
        unit=row.unit or reading_rows.UNITS.get(row.quantity, ""),
        expanded_uncertainty=row.expanded_uncertainty,
        at=row.at,
        depth_m=row.depth_m,
        temperature_c=row.temperature_c,
        role=row.role,
        raw=row.raw,
        raw_unit=row.raw_unit,
        entered_as=row.entered_as,
        flag=row.flag,
        backing=row.backing,
        limit_outcome=row.outcome,
        signed=signed and row.entered_as != "imported",
        written_at=row.written_at,
        reason=row.reason,
    )


@operation("GET", "/visits", "records", models.Visits, models.OfVisits)
def visits(asked: models.OfVisits) -> models.Visits:
    """Visits, the oldest first."""
    with desk().read() as session:
        page = feeds.visits(session, _wanted(asked))
        return models.Visits(items=[models.VisitSummary(**_visit(row)) for row in page.rows], after=page.after)


def _visit(row: tables.Visit) -> dict[str, Any]:
    return {
        "id": row.id,
        "site_id": row.site_id,
        "outing_id": row.outing_id,
        "at": row.at,
        "by": row.operator.name,
        "source": row.source,
    }


@operation("GET", "/visits/{visit_id}", "records", models.Visit)
def visit(_: models.Nothing, visit_id: str) -> models.Visit:
    """One visit with all that stands of it."""
    with desk().read() as session:
        row = rounds.visit_of(session, visit_id)
        page = feeds.readings(session, Wanted(visit_id=row.id, size=feeds.MOST))
        waiting = feeds.unsigned_among(session, page.rows)
        given = [_reading(each, each.id not in waiting) for each in page.rows]
        return models.Visit(**_visit(row), note=feeds.notes(session, row), readings=given)


@operation("POST", "/visits", "write", models.KeptVisit, body=models.NewVisit)
def create_visit(_: models.Nothing, sent: models.NewVisit) -> models.KeptVisit:
    """A visit with its readings, taken in whole or not at all, judged as on a sheet that was typed."""
    key = _write_key()
    sets = [
        offline.ReadSet(
            one.at,
            [rounds.Typed(str(r.probe_id), r.entered_as, r.value) for r in one.readings],
            one.temperature_c,
            one.depth_m,
            "",
            one.answers,
            {str(r.probe_id): rounds.Beside(r.beside) for r in one.readings if r.beside is not None},
        )
        for one in sent.sets
    ]
    outing = str(sent.outing_id) if sent.outing_id else ""
    kept = late.send(
        desk(), acting(), key, offline.QueuedVisit(outing, str(sent.site_id), sets, sent.note, both=sent.both)
    )
    return models.KeptVisit(id=uuid.UUID(kept.visit), readings=kept.readings, decisions_opened=list(kept.opened))


def _write_key() -> uuid.UUID:
    try:
        return object_id(request.headers.get("Idempotency-Key", "").strip(), "key")
    except NotFound:
        raise InputError(
            "Idempotency-Key", "Send a UUID made for this one write in the header Idempotency-Key."
        ) from None


@operation("GET", "/series", "records", models.SeriesList, models.OfSeries)
def series(asked: models.OfSeries) -> models.SeriesList:
    """What loggers recorded, by when it begins."""
    with desk().read() as session:
        page = feeds.series(session, _wanted(asked))
        return models.SeriesList(items=[_series(row) for row in page.rows], after=page.after)


def _series(row: LoggerSeries) -> models.Series:
    fields: Mapping[str, Any] = {name: getattr(row, name) for name in models.Series.model_fields}
    return models.Series(**fields)


@operation("GET", "/series/{series_id}/values", "records", models.SeriesValues, models.OfValues)
def series_values(asked: models.OfValues, series_id: str) -> models.SeriesValues:
    """Values of a series as they were recorded; ask on from the last one's time."""
    with desk().read() as session:
        row = feeds.one_series(session, series_id)
        wanted = Wanted(**asked.model_dump(exclude_none=True))
        found = feeds.series_values(session, row, wanted)
        return models.SeriesValues(items=[models.SeriesValue(at=v.at, value=v.value, flag=v.flag) for v in found])


# -- what was refused of a visit


@blueprint.errorhandler(offline.Conflict)
def _conflict(error: offline.Conflict) -> Response:
    return problem(409, in_words(error))


@blueprint.errorhandler(Unanswered)
def _unanswered(error: Unanswered) -> Response:
    questions = []
    for asked in error.questions:
        number, _, code = asked.code.partition(":")
        questions.append(models.Question(code=code, set=int(number), detail=in_words(asked.sentence)))
    return problem(422, in_words(error), questions=questions)


@blueprint.errorhandler(InputError)
def _input(error: InputError) -> Response:
    faults = [models.Fault(field=fault.field[:120] or "body", detail=in_words(fault)) for fault in error.faults]
    return problem(422, " ".join(fault.detail for fault in faults), faults=faults)
