"""A run as it stands, worked out from its rows."""

from __future__ import annotations

import uuid
from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

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
        raise MovedOn(f"This run was {state.end.how} at {state.end.at:%H:%M} UTC. Nothing was changed.")
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
    run = session.get(Run, key)
    if run is None:
        raise NotFound("There is no such run.")
    if lock:
        session.execute(select(func.pg_advisory_xact_lock(func.hashtext(str(key)))))
    points = list(session.scalars(select(Point).where(Point.run_id == key).order_by(Point.version)))
    standing: dict[str, Point] = {}
    for point in points:
        standing[point.step] = point
    lots = {
        str(lot.id): lot
        for lot in session.scalars(select(Lot).where(Lot.id.in_([uuid.UUID(v) for v in run.cups.values()])))
    }
    method = Method.model_validate(run.method)
    left = left_of_lots(session, list(lots.values()), besides=run)
    steps = tuple(
        StepState(
            spec,
            kit.lot_view(lots[run.cups[spec.key]], run.started_at, left[uuid.UUID(run.cups[spec.key])])
            if spec.key in run.cups
            else None,
            p if (p := standing.get(spec.key)) and not p.withdrawn else None,
        )
        for spec in method.steps
    )
    end = session.get(RunEnd, key)
    calibration = session.scalar(select(Calibration).where(Calibration.run_id == key)) if end else None
    recorded = session.get(MeterSettings, run.settings_id) if run.settings_id else None
    case = RunContext(run.probe, run.conditions, recorded.settings if recorded else {})
    state = RunState(run, method, quantity_of(method.quantity), case, steps, None, len(points), end, calibration)
    dip = kit.present_dip(session, run.probe_id)
    current = state.current
    taken = {p.dip_id for p in points}
    if dip and not end and current and dip.run_id == key and dip.step == current.spec.key and dip.id not in taken:
        return replace(state, dip=dip)
    return state


def reference_calibration(session: Session, state: RunState) -> Calibration | None:
    """The last good calibration before the run, against which cups are recognised."""
    return kit.last_usable(session, state.run.probe_id, full=True, before=state.run.started_at)


def open_runs(session: Session) -> list[Run]:
    """All runs that have not ended, newest first."""
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    return list(session.scalars(select(Run).where(~ended).order_by(Run.started_at.desc())))


def timeline(session: Session, run_id: uuid.UUID) -> list[tuple[datetime, Point]]:
    """Every version of every point of a run, in the order they were made."""
    rows = session.scalars(select(Point).where(Point.run_id == run_id).order_by(Point.at, Point.version))
    return [(p.at, p) for p in rows]
