"""Watching the cup of a run live: what is fixed is read once, then only new samples are asked for and judged."""

from __future__ import annotations

import uuid
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

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


class _Watch:
    """One dip being watched by one page."""

    dip: Dip | None

    def __init__(self) -> None:
        self.trace = Trace.none()

    def _news(self, session: Session) -> Trace | None:
        """Samples that came since the last look, None where there are none."""
        if self.dip is None:
            return None
        last = int(self.trace.seq[-1]) if self.trace.seq.size else -1
        new = samples.trace(session, self.dip, last)
        if not new.seq.size:
            return None
        self.trace = self.trace.joined(new)
        return new

    def _same_dip(self, session: Session, probe_id: uuid.UUID) -> bool:
        newest = session.scalar(select(func.max(Dip.number)).where(Dip.probe_id == probe_id))
        return self.dip is not None and newest == self.dip.number


class RunWatch(_Watch):
    """The present cup of a run."""

    def __init__(self, desk: Desk, run_id: str) -> None:
        super().__init__()
        self.silent = False
        self.desk = desk
        with desk.read() as session:
            self.state = run_state.load_run(session, run_id)
            self.before = run_state.reference_calibration(session, self.state)
        self.dip = self.state.dip

    def tick(self) -> dict[str, Any] | None:
        """What is new to show, None when nothing came."""
        with self.desk.read() as session:
            new = self._news(session)
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

    def _silent(self) -> bool:
        """Whether the meter has gone quiet, and the page was not told yet."""
        if self.silent or self.dip is None or self.dip.source != "live" or not self.trace.t_s.size:
            return False
        elapsed = (self.desk.clock() - self.dip.started_at).total_seconds()
        return elapsed - float(self.trace.t_s[-1]) > QUIET_S

    def moved(self) -> bool:
        """Whether the run has gone on elsewhere, so that the page must be read afresh."""
        with self.desk.read() as session:
            run_id = self.state.run.id
            points = select(func.count()).where(Point.run_id == run_id).scalar_subquery()
            changes = select(func.count()).where(RunChange.run_id == run_id).scalar_subquery()
            turn = session.scalar(select(points + changes))
            ended = session.get(RunEnd, run_id)
            return bool(ended) or turn != self.state.turn or not self._same_dip(session, self.state.run.probe_id)
