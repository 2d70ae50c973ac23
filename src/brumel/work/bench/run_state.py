"""A run as it stands, worked out from its rows."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from typing import Any, NamedTuple

from sqlalchemy import CompoundSelect, Select, bindparam, false, func, literal, select, union_all
from sqlalchemy.dialects.postgresql import aggregate_order_by
from sqlalchemy.orm import Session, aliased, lazyload

from brumel.core.meter_settings import OF_THE_DAY
from brumel.core.sentence import say
from brumel.methods import Method, StepSpec
from brumel.methods.model import SET
from brumel.store.base import among
from brumel.store.tables import Calibration, Dip, Lot, MeterSettings, Point, Run, RunChange, RunEnd
from brumel.work import kit
from brumel.work.desk import MovedOn, NotFound, Write, alone_with, object_id
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
    """One step of the run: its spec, the lot that stands there (None in air or beside a reference), the standing point.

    left_out : the technician does without this cup
    """

    spec: StepSpec
    lot: kit.LotView | None
    point: Point | None
    left_out: bool = False

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
    """A run as it stands. `turn` counts its rows of points and changes: a write names the turn it was made for.

    chosen : the step the technician takes next, out of the method's order
    told : what a meter that is adjusted itself shows of the probe, by figure
    """

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
    chosen: str = ""
    told: Mapping[str, float] = field(default_factory=dict)

    @property
    def waiting(self) -> tuple[StepState, ...]:
        """The steps that are still to be taken, in the method's order."""
        return tuple(s for s in self.steps if s.point is None and not s.left_out)

    @property
    def current(self) -> StepState | None:
        """The step in turn; None when all cups are done.

        The chosen one, else the setting of the meter in the cup the probe still stands in, else the method's next.
        """
        waiting = {s.spec.key: s for s in self.waiting}
        taken = self.taken
        first = next(iter(waiting.values()), None)
        setting = waiting.get(f"{taken[-1].spec.key}{SET}") if taken else None
        return waiting.get(self.chosen) or setting or first

    @property
    def taken(self) -> tuple[StepState, ...]:
        """The steps with a standing point, in the order they were taken."""
        return tuple(s for _, s in sorted(((s.point.at, s) for s in self.steps if s.point), key=lambda pair: pair[0]))

    @property
    def in_order(self) -> tuple[StepState, ...]:
        """The steps as they were and will be taken; those that are left out are not among them."""
        current = self.current
        ahead = [s for s in self.waiting if s is not current]
        return (*self.taken, *([current] if current else []), *ahead)

    def called(self, step: StepState) -> str:
        """The short name of a cup; with its step where the same solution stands in another step as well."""
        same = [s for s in self.steps if s.code == step.code]
        return step.code if len(same) == 1 else f"{step.code}, {step.spec.title}"

    @property
    def pairs(self) -> tuple[tuple[StepState, StepState], ...]:
        """The pairs of standards whose gap is judged, where the fit is by pairs: they are good or bad together."""
        if self.method.fit != "pairs":
            return ()
        adjust = [s for s in self.steps if s.spec.role == "adjust"]
        return tuple(zip(adjust[0::2], adjust[1::2], strict=False))

    @property
    def done(self) -> int:
        return sum(s.point is not None for s in self.steps)

    @property
    def can_be_done(self) -> bool:
        """Whether what was taken adds up already, so that the cups that wait may all be left out."""
        roles = [s.spec.role for s in self.steps if s.point is not None]
        waiting = [s.spec.role for s in self.waiting]
        enough = roles.count("adjust") >= self.method.least_points and bool({"adjust", "check"} & set(roles))
        return bool(waiting) and "zero" not in waiting and enough

    def can_leave_out(self, step: str) -> bool:
        """Whether the run still adds up without this step: nothing rests on it, or its fit has points enough."""
        others = [s.spec.role for s in self.steps if not s.left_out and s.spec.key != step]
        role = next((s.spec.role for s in self.waiting if s.spec.key == step), None)
        if role is None or role == "zero":
            return False
        if role == "adjust":
            return others.count("adjust") >= self.method.least_points
        return bool(others) and (role != "check" or self.method.least_points > 0 or "check" in others)


class _Change(NamedTuple):
    """A change of the run on its way, as its row says it."""

    kind: str
    step: str
    lot_id: str | None
    value: float | None


def load_run(session: Session, run_id: str | uuid.UUID, *, lock: bool = False) -> RunState:
    """The run of that id, the front door for everything that names a run. With `lock`, writes take turns."""
    key = object_id(run_id, "run")
    if lock:
        alone_with(session, key)
    found = session.execute(_run_and_what_happened(), {"run_id": key}).first()
    if found is None:
        raise NotFound("There is no such run.")
    run, end, calibration, recorded, rows = found
    changes = [_Change(*row) for row in rows or ()]
    cups = {step: uuid.UUID(lot) for step, lot in run.cups.items()}
    cups |= {change.step: uuid.UUID(change.lot_id) for change in changes if change.lot_id}
    versions, lots = _points_and_lots(session, run, cups)
    standing = {point.step: point for point in versions}
    method = Method.model_validate(run.method)
    left_out: set[str] = set()
    for change in changes:
        if change.kind == "leave out":
            left_out.add(change.step)
        elif change.kind == "next":
            left_out.discard(change.step)
    told = {change.step: change.value for change in changes if change.kind == "told" and change.value is not None}
    chosen = next((c.step for c in reversed(changes) if c.kind == "next"), "")
    # What is left in a bottle says nothing of a run that has ended.
    left = {} if end else left_of_lots(session, list(lots.values()), besides=run)
    steps = tuple(
        StepState(
            spec,
            kit.lot_view(lots[lot_id], run.started_at, left.get(lot_id)) if (lot_id := cups.get(spec.key)) else None,
            p if (p := standing.get(spec.key)) and not p.withdrawn else None,
            spec.key in left_out,
        )
        for spec in method.steps
    )
    # Clock and battery, as they were that day, say nothing of what is shown now.
    settings = {k: v for k, v in recorded.settings.items() if k not in OF_THE_DAY} if recorded else {}
    case = RunContext(run.probe, run.conditions, settings)
    quantity = quantity_of(method.quantity)
    points = tuple((p, lots.get(p.lot_id)) for p in sorted(versions, key=lambda p: (p.at, p.version)))
    turn = len(versions) + len(changes)
    state = RunState(run, method, quantity, case, steps, None, turn, end, calibration, points, chosen, told)
    if end:
        return state
    dip = kit.present_dip(session, run.probe_id)
    current = state.current
    taken = {p.dip_id for p in versions}
    if dip and current and dip.run_id == key and dip.step == current.spec.key and dip.id not in taken:
        return replace(state, dip=dip)
    return state


@cache
def _run_and_what_happened() -> Select[Any]:
    on_the_way = (
        select(
            func.jsonb_agg(
                aggregate_order_by(
                    func.jsonb_build_array(RunChange.kind, RunChange.step, RunChange.lot_id, RunChange.value),
                    RunChange.id,
                )
            )
        )
        .where(RunChange.run_id == Run.id)
        .scalar_subquery()
    )
    return (
        select(Run, RunEnd, Calibration, MeterSettings, on_the_way)
        .outerjoin(RunEnd, RunEnd.run_id == Run.id)
        .outerjoin(Calibration, Calibration.run_id == Run.id)
        .outerjoin(MeterSettings, MeterSettings.id == Run.settings_id)
        .options(lazyload(Calibration.run), lazyload(MeterSettings.by))
        .where(Run.id == bindparam("run_id"))
    )


@cache
def _points_in_cups() -> Select[Point, Lot]:
    return (
        select(Point, Lot)
        .outerjoin(Lot, Lot.id == Point.lot_id)
        .where(Point.run_id == bindparam("run_id"))
        .order_by(Point.version, Point.at)
    )


@cache
def _lots() -> Select[Lot]:
    return select(Lot).where(among(Lot.id, "lots"))


def _points_and_lots(
    session: Session, run: Run, cups: Mapping[str, uuid.UUID]
) -> tuple[list[Point], dict[uuid.UUID | None, Lot]]:
    """Every version of every point, in the order of versions, and the lots of the run's cups."""
    rows = session.execute(_points_in_cups(), {"run_id": run.id}).all()
    lots: dict[uuid.UUID | None, Lot] = {lot.id: lot for _, lot in rows if lot is not None}
    missing = set(cups.values()) - lots.keys()
    if missing:
        lots |= {lot.id: lot for lot in session.scalars(_lots(), {"lots": list(missing)})}
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
    return list(session.scalars(_open_ones()))


@cache
def _open_ones() -> Select[Run]:
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    return select(Run).where(~ended).order_by(Run.started_at.desc())


@cache
def _taken_or_left_out() -> CompoundSelect[uuid.UUID, str, bool, int]:
    """The points of runs, and the cups that were left out of them, before their points."""
    points = select(Point.run_id, Point.step, Point.withdrawn, Point.version.label("n"))
    later = aliased(RunChange)
    taken_after_all = select(later.id).where(
        later.run_id == RunChange.run_id, later.step == RunChange.step, later.kind == "next", later.id > RunChange.id
    )
    left_out = select(RunChange.run_id, RunChange.step, false(), literal(0).label("n")).where(
        among(RunChange.run_id, "runs"), RunChange.kind == "leave out", ~taken_after_all.exists()
    )
    return union_all(left_out, points.where(among(Point.run_id, "runs"))).order_by("n")


def steps_to_go(session: Session, runs: Sequence[Run]) -> dict[uuid.UUID, list[StepSpec]]:
    """The steps each of these runs has still before it, by run; one query for all of them."""
    standing: dict[tuple[uuid.UUID, str], bool] = {}
    if runs:
        for run_id, step, withdrawn, _ in session.execute(_taken_or_left_out(), {"runs": [run.id for run in runs]}):
            standing[run_id, step] = not withdrawn
    return {
        run.id: [spec for spec in Method.model_validate(run.method).steps if not standing.get((run.id, spec.key))]
        for run in runs
    }
