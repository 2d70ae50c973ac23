"""Watching all probes of a visit live."""

from __future__ import annotations

import uuid
from dataclasses import replace
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core.trace import Trace
from brumel.store.tables import Dip, Reading
from brumel.work.bench.watch import settling_numbers
from brumel.work.desk import Desk
from brumel.work.link import samples
from brumel.work.questions import REMEDY
from brumel.work.rounds import sites
from brumel.work.rounds.sheet import judging, model, sheet


class VisitWatch:
    """All probes that stand in the water of a visit, with one of them looked at closely."""

    def __init__(self, desk: Desk, visit_id: str, probe_id: str = "") -> None:
        self.desk = desk
        #: What is announced of each dip.
        self.heard: dict[uuid.UUID, samples.Heard] = {}
        with desk.read() as session:
            whole_sheet = sheet.sheet_of_visit(session, visit_id, desk.clock())
            self.past = sites.past_values(
                session, whole_sheet.visit.site, before=whole_sheet.visit.at, depth_m=whole_sheet.depth_m
            )
            self.turn = self._turn(session, whole_sheet)
        bare = [replace(line, trace=Trace.none() if line.trace is not None else None) for line in whole_sheet.lines]
        self.bare = replace(whole_sheet, lines=tuple(bare))
        self.focus = whole_sheet.line(probe_id).probe.id

    @property
    def dips(self) -> list[uuid.UUID]:
        """Where probes stand now, by id."""
        return [line.dip.id for line in self.bare.lines if line.dip is not None and line.trace is not None]

    @property
    def dip(self) -> Dip | None:
        """Where the probe that is looked at stands."""
        return self.bare.line(self.focus).dip

    @staticmethod
    def _turn(session: Session, whole_sheet: model.Sheet) -> tuple[int, int]:
        """Changes when anything is kept, or a probe is dipped anywhere."""
        ids = [line.probe.id for line in whole_sheet.lines]
        newest = session.scalar(select(func.max(Dip.number)).where(Dip.probe_id.in_(ids))) or 0
        kept = session.scalar(select(func.count()).where(Reading.visit_id == whole_sheet.visit.id)) or 0
        return newest, kept

    def tick(self) -> dict[str, Any] | None:
        """What is new to show, None when nothing came."""
        fresh: dict[uuid.UUID, Trace] = {}
        lines = []
        for line in self.bare.lines:
            if line.dip is not None and line.trace is not None:
                heard = self.heard.get(line.dip.id, samples.nothing_heard)
                new = samples.news(self.desk.read, line.dip, line.trace, heard)
                if new.seq.size:
                    fresh[line.probe.id] = new
                    lines.append(replace(line, trace=line.trace.joined(new)))
                    continue
            lines.append(line)
        if not fresh:
            return None
        self.bare = replace(self.bare, lines=tuple(lines))
        whole_sheet = judging.judge_sheet(self.bare, self.past, self.desk.clock())
        line, news = whole_sheet.line(self.focus), fresh.get(self.focus)
        state = {
            "lines": [self._state(whole_sheet, each) for each in whole_sheet.lines],
            "follows": [self._follows(v) for v in whole_sheet.follows],
            "suspicions": self._questions(whole_sheet),
        }
        if line.trace is None or not line.trace.seq.size:
            return {"seq": -1, "t": [], "y": [], **state}
        seq = int(line.trace.seq[-1])
        if line.settling is None or line.value is None:
            return {"seq": seq, "t": [], "y": [], "problem": line.problem, **state}
        return {
            **settling_numbers(line.settling),
            "seq": seq,
            "t": news.t_s.tolist() if news else [],
            "y": list(line.shown[-news.t_s.size :]) if news else [],
            "temperature": line.value.temperature_c,
            "signal": line.value.raw,
            "reported": line.value.value,
            "expanded": line.value.expanded_uncertainty,
            **state,
        }

    @staticmethod
    def _questions(whole_sheet: model.Sheet) -> list[dict[str, str]]:
        """What speaks against keeping the sheet as it stands, of every line, not of the one that is looked at alone."""
        problems = [
            {"code": f"{line.probe.id}:problem", "sentence": line.problem, "remedy": ""}
            for line in whole_sheet.lines
            if line.problem
        ]
        return problems + [{"code": q.code, "sentence": q.sentence, "remedy": REMEDY} for q in whole_sheet.questions]

    @staticmethod
    def _state(whole_sheet: model.Sheet, line: model.SheetLine) -> dict[str, Any]:
        settling = line.settling
        return {
            "probe": str(line.probe.id),
            "quantity": line.probe.quantity,
            "value": line.value.value if line.value else None,
            "state": "problem" if line.problem else settling.state.value if settling else "",
            "seq": int(line.trace.seq[-1]) if line.trace is not None and line.trace.seq.size else None,
            "odd": bool(whole_sheet.asked_of(line)),
            "to_go": settling.seconds_to_go if settling else None,
            "most_to_go": settling.most_to_go if settling else None,
        }

    @staticmethod
    def _follows(value: model.SheetValue) -> dict[str, Any]:
        return {"quantity": value.quantity, "value": value.value}

    def moved(self) -> bool:
        """Whether something was kept, or a probe dipped elsewhere."""
        with self.desk.read() as session:
            return self._turn(session, self.bare) != self.turn
