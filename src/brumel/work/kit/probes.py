"""Probes, and where each stands now."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Sequence
from functools import cache
from typing import Any

from sqlalchemy import ScalarSelect, Select, exists, func, select, true
from sqlalchemy.dialects.postgresql import aggregate_order_by
from sqlalchemy.orm import Session, contains_eager

from brumel.core.ions import RESTS_ON
from brumel.core.quantity_table import IONS
from brumel.store.base import a_row_each, among
from brumel.store.deployments import Deployment
from brumel.store.tables import Dip, Meter, Probe, Run, RunChange, RunEnd
from brumel.work.desk import NotFound, object_id


def probe_of(session: Session, probe_id: str | uuid.UUID) -> Probe:
    """One probe by id; the front door for everything that names a probe."""
    probe = session.get(Probe, object_id(probe_id, "probe"))
    if probe is None:
        raise NotFound("There is no such probe.")
    return probe


def probes_of(session: Session, probe_ids: Sequence[str | uuid.UUID]) -> list[Probe]:
    """The probes of these ids, in their order. Raises NotFound where one is missing."""
    keys = [object_id(each, "probe") for each in probe_ids]
    known = {probe.id: probe for probe in session.scalars(select(Probe).where(Probe.id.in_(keys)))}
    if len(known) < len(set(keys)):
        raise NotFound("There is no such probe.")
    return [known[key] for key in keys]


def probes_at_hand(session: Session) -> list[Probe]:
    """All probes in service but those of a logger that is out: nobody calibrates or carries them."""
    return list(session.scalars(_at_hand()))


@cache
def _at_hand() -> Select[Probe]:
    out = exists().where(Deployment.meter_id == Probe.meter_id, Deployment.state.in_(("started", "confirmed")))
    return _in_service().where(~out)


@cache
def _in_service() -> Select[Probe]:
    on_meters = select(Probe).join(Meter, Meter.id == Probe.meter_id).options(contains_eager(Probe.meter))
    return on_meters.where(Probe.retired_at.is_(None), Meter.retired_at.is_(None)).order_by(Probe.name)


def probes_in_service(session: Session) -> list[Probe]:
    """All probes in service."""
    return list(session.scalars(_in_service()))


def retired_probes(session: Session) -> list[Probe]:
    """Probes that were put away for good, the last first."""
    return list(session.scalars(_retired()))


@cache
def _retired() -> Select[Probe]:
    return select(Probe).where(Probe.retired_at.is_not(None)).order_by(Probe.retired_at.desc())


def open_run(session: Session, probe_id: uuid.UUID) -> Run | None:
    """The run of this probe that has not ended, if there is one."""
    found = session.scalars(_open_runs(), {"probes": [probe_id]}).all()
    return found[-1] if found else None


def open_runs(session: Session, probes: Sequence[Probe]) -> dict[uuid.UUID, Run]:
    """The runs of these probes that have not ended, by probe."""
    open_ones = session.scalars(_open_runs(), {"probes": [p.id for p in probes]})
    return {run.probe_id: run for run in open_ones}


@cache
def _open_runs() -> Select[Run]:
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    return select(Run).where(among(Run.probe_id, "probes"), ~ended).order_by(Run.started_at)


def waits_for(session: Session, run: Run) -> str:
    """What of this calibration session must end before an ion tip's run goes on; empty where nothing stands in its way."""
    if run.calibration_session_id is None or run.probe.quantity not in IONS:
        return ""
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    open_ones = session.scalars(select(Run).where(Run.calibration_session_id == run.calibration_session_id, ~ended))
    names = [r.probe.name for r in open_ones if r.probe.quantity in RESTS_ON]
    return ", ".join(sorted(names))


def last_run(session: Session, probe_id: uuid.UUID) -> Run | None:
    """The newest run of a probe, whatever became of it."""
    return session.scalar(select(Run).where(Run.probe_id == probe_id).order_by(Run.started_at.desc()).limit(1))


def last_cups(session: Session, probe_id: uuid.UUID, method_key: str) -> dict[str, str]:
    """The lots of the probe's last finished run by this method, by step: what stands on the shelf is usually taken again."""
    return last_cups_of(session, [probe_of(session, probe_id)]).get((probe_id, method_key), {})


def last_cups_of(session: Session, probes: Sequence[Probe]) -> dict[tuple[uuid.UUID, str], dict[str, str]]:
    """The same for every method by which each of these probes was calibrated."""
    rows = session.execute(_last_cups(), {"probes": [p.id for p in probes]})
    return {(probe_id, key): cups | (changed or {}) for probe_id, key, cups, changed in rows}


@cache
def _last_cups() -> Select[Any, Any, Any, Any]:
    method = Run.method["key"].astext
    return (
        select(Run.probe_id, method, Run.cups, replaced_lots(Run.id))
        .distinct(Run.probe_id, method)
        .join(RunEnd, RunEnd.run_id == Run.id)
        .where(among(Run.probe_id, "probes"), Run.purpose == "calibration", RunEnd.how == "finished")
        .order_by(Run.probe_id, method, Run.started_at.desc())
    )


def replaced_lots(run_id: Any) -> ScalarSelect[Any]:
    """The lots that were replaced in a run on its way, by step, the last one of each; null where none was."""
    last_wins = aggregate_order_by(RunChange.lot_id, RunChange.id)
    return (
        select(func.jsonb_object_agg(RunChange.step, last_wins))
        .where(RunChange.run_id == run_id, RunChange.lot_id.is_not(None))
        .scalar_subquery()
    )


def present_dip(session: Session, probe_id: uuid.UUID) -> Dip | None:
    """Where the probe stands now: its newest dip."""
    return present_dips(session, [probe_id]).get(probe_id)


def present_dips(session: Session, probe_ids: Sequence[uuid.UUID]) -> dict[uuid.UUID, Dip]:
    """Where each of these probes stands now."""
    return {dip.probe_id: dip for dip in session.scalars(_newest_dips(), {"probes": list(probe_ids)})}


@cache
def _newest_dips() -> Select[Any]:
    newest = first_of_each(lambda one: select(Dip.id).where(Dip.probe_id == one).order_by(Dip.number.desc()))
    return select(Dip).where(Dip.id.in_(newest))


def last_typed_units(session: Session, probes: Sequence[Probe]) -> dict[uuid.UUID, str]:
    """The unit in which each of these probes was last typed, on Bench or at a site."""
    return {row.probe_id: row.entered for row in session.execute(_last_typed(), {"probes": [p.id for p in probes]})}


@cache
def _last_typed() -> Select[uuid.UUID, str]:
    newest = first_of_each(
        lambda one: select(Dip.id).where(Dip.probe_id == one, Dip.source == "typed").order_by(Dip.number.desc())
    )
    return select(Dip.probe_id, Dip.entered).where(Dip.id.in_(newest))


def first_of_each(rows: Callable[[Any], Select[Any]]) -> Select[Any]:
    """The id of the first row of each of the `probes` that a statement is sent with, by one look into an index a probe.

    rows : a probe's own, in order
    """
    wanted = a_row_each("probes", "probe_id")
    first = rows(wanted.c.probe_id).limit(1).lateral()
    return select(first.c.id).select_from(wanted).join(first, true())
