"""Watching the cup of a run live: what is fixed is read once, then only new samples are asked for and judged."""

from __future__ import annotations

from functools import cache
from typing import Any

from sqlalchemy import Select, Uuid, bindparam, exists, func, select

from brumel.core.settling import Settling
from brumel.core.trace import Trace
from brumel.store.tables import Dip, Point, RunChange, RunEnd
from brumel.work.bench import cup, run_state
from brumel.work.desk import Desk
from brumel.work.link import samples

#: After so many seconds without a sample the page is told.
QUIET_S = 6.0


def settling_numbers(settling: Settling) -> dict[str, Any]:
    return {
        "state": settling.state.value,
        "settled": settling.settled,
        "sentence": settling.sentence,
        "value": settling.value,
        "drift": settling.drift_per_min,
        "noise": settling.noise,
        "drift_limit": settling.drift_limit,
        "noise_limit": settling.noise_limit,
        "forecast": settling.forecast,
        "to_go": settling.seconds_to_go,
        "most_to_go": settling.most_to_go,
        "elapsed": settling.elapsed_s,
        "skipped": settling.skipped,
    }


class RunWatch:
    """The present cup of a run, watched by one page."""

    def __init__(self, desk: Desk, run_id: str) -> None:
        self.trace = Trace.none()
        self.heard: samples.Heard = samples.nothing_heard
        self.silent = False
        self.desk = desk
        with desk.read() as session:
            self.state = run_state.load_run(session, run_id)
            self.before = run_state.reference_calibration(session, self.state)
        self.dip = self.state.dip

    def tick(self) -> dict[str, Any] | None:
        """What is new to show, None when nothing came."""
        new = self._news()
        if new is None and not self._silent():
            return None
        self.silent = new is None
        seen = cup.judge_cup(self.state, self.trace, self.before, self.desk.clock())
        if seen is None or not self.trace.seq.size:
            return None
        return {
            **settling_numbers(seen.settling),
            "seq": int(self.trace.seq[-1]),
            "t": new.t_s.tolist() if new else [],
            "y": new.signal.tolist() if new else [],
            "temperature": seen.temperature_c,
            "read": seen.read,
            "expected": seen.expected,
            "expected_text": self.state.quantity.text(seen.expected) if seen.expected is not None else "",
            "stands_in": other.spec.key if (other := cup.stands_in(self.state, seen.suspicions)) else "",
            "suspicions": [{"code": s.code, "sentence": s.sentence, "remedy": s.remedy} for s in seen.suspicions],
        }

    def _news(self) -> Trace | None:
        """Samples that came since the last look, None where there are none."""
        if self.dip is None:
            return None
        new = samples.news(self.desk.read, self.dip, self.trace, self.heard)
        if not new.seq.size:
            return None
        self.trace = self.trace.joined(new)
        return new

    def _silent(self) -> bool:
        """Whether the meter has gone quiet, and the page was not told yet."""
        if self.silent or self.dip is None or self.dip.source != "live" or not self.trace.t_s.size:
            return False
        elapsed = (self.desk.clock() - self.dip.started_at).total_seconds()
        return elapsed - float(self.trace.t_s[-1]) > QUIET_S

    def moved(self) -> bool:
        """Whether the run has gone on elsewhere, so that the page must be read afresh."""
        run = self.state.run
        with self.desk.read() as session:
            ended, turn, newest = session.execute(_where_it_stands(), {"run": run.id, "probe": run.probe_id}).one()
        return bool(ended) or turn != self.state.turn or self.dip is None or newest != self.dip.number


@cache
def _where_it_stands() -> Select[Any]:
    """Whether a run has ended, its turn, and the number of its probe's newest dip."""
    run = bindparam("run", type_=Uuid)
    ended = exists().where(RunEnd.run_id == run)
    points = select(func.count()).where(Point.run_id == run).scalar_subquery()
    changes = select(func.count()).where(RunChange.run_id == run).scalar_subquery()
    newest = select(func.max(Dip.number)).where(Dip.probe_id == bindparam("probe", type_=Uuid)).scalar_subquery()
    return select(ended, points + changes, newest)
