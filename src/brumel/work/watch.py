"""Watching a dip live: what is fixed is read once, then only new samples are asked for and judged."""

from __future__ import annotations

import uuid
from dataclasses import replace
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core.settling import Settling
from brumel.store.tables import Dip, Point, Reading, RunEnd
from brumel.work import rounds, runstate, samples
from brumel.work.desk import Desk

#: After so many seconds without a sample the page is told.
QUIET_S = 6.0


def _numbers(settling: Settling) -> dict[str, Any]:
    return {
        "state": settling.state.value, "settled": settling.settled, "sentence": settling.sentence,
        "value": settling.value, "drift": settling.drift_per_min, "noise": settling.noise,
        "drift_limit": settling.drift_limit, "noise_limit": settling.noise_limit, "forecast": settling.forecast,
        "to_go": settling.seconds_to_go, "elapsed": settling.elapsed_s, "skipped": settling.skipped,
    }  # fmt: skip


class _Watch:
    """One dip being watched by one page."""

    dip: Dip | None

    def __init__(self) -> None:
        self.trace = samples.Trace.none()

    def _news(self, session: Session) -> samples.Trace | None:
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
            self.state = runstate.load(session, run_id)
            self.before = runstate.reference(session, self.state)
        self.dip = self.state.dip

    def tick(self) -> dict[str, Any] | None:
        """What is new to show, None when nothing came."""
        with self.desk.read() as session:
            new = self._news(session)
        if new is None and not self._silent():
            return None
        self.silent = new is None
        seen = runstate.judge(self.state, self.trace, self.before, self.desk.clock())
        if seen is None or not self.trace.seq.size:
            return None
        return {
            **_numbers(seen.settling), "seq": int(self.trace.seq[-1]), "t": new.t_s.tolist() if new else [],
            "y": new.signal.tolist() if new else [], "temperature": seen.temperature_c, "expected": seen.expected,
            "expected_text": self.state.trade.text(seen.expected) if seen.expected is not None else "",
            "suspicions": [{"code": s.code, "sentence": s.sentence, "remedy": s.remedy} for s in seen.suspicions],
        }  # fmt: skip

    def _silent(self) -> bool:
        """Whether the meter has gone quiet, and the page was not told yet."""
        if self.silent or self.dip is None or self.dip.source != "live" or not self.trace.t_s.size:
            return False
        elapsed = (self.desk.clock() - self.dip.started_at).total_seconds()
        return elapsed - float(self.trace.t_s[-1]) > QUIET_S

    def moved(self) -> bool:
        """Whether the run has gone on elsewhere, so that the page must be read afresh."""
        with self.desk.read() as session:
            turn = session.scalar(select(func.count()).where(Point.run_id == self.state.run.id))
            ended = session.get(RunEnd, self.state.run.id)
            return bool(ended) or turn != self.state.turn or not self._same_dip(session, self.state.run.probe_id)


class VisitWatch:
    """All probes that stand in the water of a visit, with one of them looked at closely."""

    def __init__(self, desk: Desk, visit_id: str, probe_id: str = "") -> None:
        self.desk = desk
        with desk.read() as session:
            found = rounds.sheet(session, visit_id, desk.clock())
            self.past = rounds.past_values(session, found.visit.site, before=found.visit.at, depth_m=found.depth_m)
            self.turn = self._turn(session, found)
        bare = [replace(line, trace=samples.Trace.none() if line.trace is not None else None) for line in found.lines]
        self.bare = replace(found, lines=tuple(bare))
        self.focus = found.line(probe_id).probe.id

    @property
    def dip(self) -> Dip | None:
        """Where the probe that is looked at stands."""
        return self.bare.line(self.focus).dip

    @staticmethod
    def _turn(session: Session, found: rounds.Sheet) -> tuple[int, int]:
        """Changes when anything is kept, or a probe is dipped anywhere."""
        ids = [line.probe.id for line in found.lines]
        newest = session.scalar(select(func.max(Dip.number)).where(Dip.probe_id.in_(ids))) or 0
        kept = session.scalar(select(func.count()).where(Reading.visit_id == found.visit.id)) or 0
        return newest, kept

    def tick(self) -> dict[str, Any] | None:
        """What is new to show, None when nothing came."""
        fresh: dict[uuid.UUID, samples.Trace] = {}
        lines = []
        with self.desk.read() as session:
            for line in self.bare.lines:
                if line.dip is not None and line.trace is not None:
                    last = int(line.trace.seq[-1]) if line.trace.seq.size else -1
                    new = samples.trace(session, line.dip, last)
                    if new.seq.size:
                        fresh[line.probe.id] = new
                        lines.append(replace(line, trace=line.trace.joined(new)))
                        continue
                lines.append(line)
        if not fresh:
            return None
        self.bare = replace(self.bare, lines=tuple(lines))
        found = rounds.judge(self.bare, self.past, self.desk.clock())
        line, news = found.line(self.focus), fresh.get(self.focus)
        told = {
            "lines": [self._state(each) for each in found.lines],
            "follows": [self._follows(v) for v in found.follows],
        }
        if line.trace is None or not line.trace.seq.size:
            return {"seq": -1, "t": [], "y": [], **told}
        seq = int(line.trace.seq[-1])
        if line.settling is None or line.value is None:
            return {"seq": seq, "t": [], "y": [], "problem": line.problem, **told}
        return {
            **_numbers(line.settling), "seq": seq, "t": news.t_s.tolist() if news else [],
            "y": list(line.shown[-news.t_s.size :]) if news else [], "temperature": line.value.temperature_c,
            "signal": line.value.raw, "reported": line.value.value, "expanded": line.value.expanded,
            "suspicions": [{"code": f.key, "sentence": f.sentence, "remedy": "Repeat it, or say why it may be so."}
                           for f in line.questions], **told,
        }  # fmt: skip

    @staticmethod
    def _state(line: rounds.Line) -> dict[str, Any]:
        settling = line.settling
        return {
            "probe": str(line.probe.id), "value": line.value.value if line.value else None,
            "state": "problem" if line.problem else settling.state.value if settling else "",
            "seq": int(line.trace.seq[-1]) if line.trace is not None and line.trace.seq.size else None,
            "odd": bool(line.questions), "to_go": settling.seconds_to_go if settling else None,
        }  # fmt: skip

    @staticmethod
    def _follows(value: rounds.Value) -> dict[str, Any]:
        return {"quantity": value.quantity, "value": value.value}

    def moved(self) -> bool:
        """Whether something was kept, or a probe dipped elsewhere."""
        with self.desk.read() as session:
            return self._turn(session, self.bare) != self.turn
