"""A run as it stands, worked out from its rows."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass, replace

from sqlalchemy import func, select
from sqlalchemy.orm import Session, lazyload

from brumel.core.sentence import say
from brumel.methods import Method, StepSpec
from brumel.store.tables import Calibration, Dip, Lot, MeterSettings, Point, Run, RunEnd
from brumel.work import kit
from brumel.work.desk import MovedOn, NotFound, Write, object_id
from brumel.work.kit.stock import left_of_lots
from brumel.work.quantities.base import Quantity, RunContext
from brumel.work.quantities.book import quantity_of


def open_for_writing(w: Write, run_id: str, step: str | None, turn: int | None) -> RunState:
    """The run, locked, still open and still where the sender saw it."""
    state = load_run(w.session, run_id, lock=True)
    if state.end:
        raise MovedOn(say("This run was {how} at {at:clock}. Nothing was changed.", how=state.end.how, at=state.end.at))
    if turn is not None and turn != state.turn:
        raise MovedOn("This run moved on in another window. You now see where it stands; nothing was changed.")
    if step is not None and (state.current is None or state.current.spec.key != step):
        raise MovedOn("Another cup is in turn now. You now see where the run stands; nothing was changed.")
    return state


#: What a vessel without a solution is called.
VESSEL_WORDS = {
    "air": "in air",
    "saturated_air": "saturated air",
    "saturated_water": "saturated water",
    "reference": "beside the reference",
}


@dataclass(frozen=True)
class StepState:
    """One step of the run: its spec, the lot that stands there (None in air or beside a reference), the standing point."""

    spec: StepSpec
    lot: kit.LotView | None
    point: Point | None

    @property
    def name(self) -> str:
        """The cup by its name."""
        return f"{self.lot.lot.name} ({self.lot.lot.code})" if self.lot else self.spec.title

    @property
    def code(self) -> str:
        """The short name written under the cup."""
        return self.lot.lot.code if self.lot else VESSEL_WORDS[self.spec.vessel]

    @property
    def objections(self) -> tuple[str, ...]:
        """What speaks against the solution."""
        return self.lot.objections if self.lot else ()


@dataclass(frozen=True)
class RunState:
    """A run as it stands. `turn` counts its point rows: a write names the turn it was made for."""

    run: Run
    method: Method
    quantity: Quantity
    case: RunContext
    steps: tuple[StepState, ...]
    dip: Dip | None
    turn: int
    end: RunEnd | None
    calibration: Calibration | None
    points: tuple[tuple[Point, Lot | None], ...] = ()

    @property
    def current(self) -> StepState | None:
        """The first step without a standing point; None when all cups are done."""
        return next((s for s in self.steps if s.point is None), None)

    @property
    def done(self) -> int:
        return sum(s.point is not None for s in self.steps)


def load_run(session: Session, run_id: str | uuid.UUID, *, lock: bool = False) -> RunState:
    """The run of that id, the front door for everything that names a run. With `lock`, writes take turns."""
    key = object_id(run_id, "run")
    if lock:
        session.execute(select(func.pg_advisory_xact_lock(func.hashtext(str(key)))))
    query = (
        select(Run, RunEnd, Calibration, MeterSettings)
        .outerjoin(RunEnd, RunEnd.run_id == Run.id)
        .outerjoin(Calibration, Calibration.run_id == Run.id)
        .outerjoin(MeterSettings, MeterSettings.id == Run.settings_id)
        .options(lazyload(Calibration.run), lazyload(MeterSettings.by))
    )
    found = session.execute(query.where(Run.id == key)).first()
    if found is None:
        raise NotFound("There is no such run.")
    run, end, calibration, recorded = found
    versions, lots = _points_and_lots(session, run)
    standing = {point.step: point for point in versions}
    method = Method.model_validate(run.method)
    # What is left in a bottle says nothing of a run that has ended.
    left = {} if end else left_of_lots(session, list(lots.values()), besides=run)
    steps = tuple(
        StepState(
            spec,
            kit.lot_view(lots[lot_id], run.started_at, left.get(lot_id)) if (lot_id := _cup(run, spec)) else None,
            p if (p := standing.get(spec.key)) and not p.withdrawn else None,
        )
        for spec in method.steps
    )
    case = RunContext(run.probe, run.conditions, recorded.settings if recorded else {})
    quantity = quantity_of(method.quantity)
    points = tuple((p, lots.get(p.lot_id)) for p in sorted(versions, key=lambda p: (p.at, p.version)))
    state = RunState(run, method, quantity, case, steps, None, len(versions), end, calibration, points)
    if end:
        return state
    dip = kit.present_dip(session, run.probe_id)
    current = state.current
    taken = {p.dip_id for p in versions}
    if dip and current and dip.run_id == key and dip.step == current.spec.key and dip.id not in taken:
        return replace(state, dip=dip)
    return state


def _cup(run: Run, spec: StepSpec) -> uuid.UUID | None:
    lot = run.cups.get(spec.key)
    return uuid.UUID(lot) if lot else None


def _points_and_lots(session: Session, run: Run) -> tuple[list[Point], dict[uuid.UUID | None, Lot]]:
    """Every version of every point, in the order of versions, and the lots of the run's cups."""
    rows = session.execute(
        select(Point, Lot)
        .outerjoin(Lot, Lot.id == Point.lot_id)
        .where(Point.run_id == run.id)
        .order_by(Point.version, Point.at)
    ).all()
    lots: dict[uuid.UUID | None, Lot] = {lot.id: lot for _, lot in rows if lot is not None}
    missing = {uuid.UUID(v) for v in run.cups.values()} - lots.keys()
    if missing:
        lots |= {lot.id: lot for lot in session.scalars(select(Lot).where(Lot.id.in_(missing)))}
    return [point for point, _ in rows], lots


def reference_calibration(session: Session, state: RunState) -> Calibration | None:
    """The last good calibration before the run, against which cups are recognised."""
    return kit.last_usable(session, state.run.probe, full=True, before=state.run.started_at)


def usual_entry(session: Session, state: RunState) -> str:
    """The unit a cup is typed in unless another is chosen.

    That of the run's last cup, of the probe's last typed run, of the meter's recorded settings, or the first there is.
    """
    for step in reversed(state.steps):
        if step.point and step.point.entered_as:
            return step.point.entered_as
    last = session.scalar(
        select(Point.entered_as)
        .join(Run, Run.id == Point.run_id)
        .where(Run.probe_id == state.run.probe_id, Run.source == "typed", ~Point.withdrawn)
        .order_by(Point.at.desc())
        .limit(1)
    )
    entries = state.quantity.entries
    if last in entries:
        return str(last)
    set_to = state.quantity.entry_of_settings(state.case.settings)
    return set_to if set_to in entries else next(iter(entries))


def open_runs(session: Session) -> list[Run]:
    """All runs that have not ended, newest first."""
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    return list(session.scalars(select(Run).where(~ended).order_by(Run.started_at.desc())))


def steps_to_go(session: Session, runs: Sequence[Run]) -> dict[uuid.UUID, list[StepSpec]]:
    """The steps each of these runs has still before it, by run; one query for all of them."""
    standing: dict[tuple[uuid.UUID, str], bool] = {}
    if runs:
        points = select(Point.run_id, Point.step, Point.withdrawn).where(Point.run_id.in_([run.id for run in runs]))
        for run_id, step, withdrawn in session.execute(points.order_by(Point.version)):
            standing[run_id, step] = not withdrawn
    return {
        run.id: [spec for spec in Method.model_validate(run.method).steps if not standing.get((run.id, spec.key))]
        for run in runs
    }
