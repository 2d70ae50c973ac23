"""What a sheet is made of: a value worked out, what is behind it, a probe's line, and the whole."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from brumel.core import believability as belief
from brumel.core.fitness import Fitted
from brumel.core.settling import Settling
from brumel.core.sheet import LimitOutcome, NotStated, Water
from brumel.core.trace import Trace
from brumel.core.working import Working
from brumel.store.rounds import VisitNote
from brumel.store.tables import Calibration, Dip, Probe, Reading, Visit
from brumel.work.kit import Trust
from brumel.work.questions import Question, each_once
from brumel.work.rounds.sheet.answers import questions_of


@dataclass(frozen=True)
class SheetValue:
    """One quantity of the sheet as it would be kept: number, working, backing, findings, what its limit makes of it."""

    quantity: str
    value: float
    unit: str
    expanded_uncertainty: float | None
    raw: float
    raw_unit: str
    temperature_c: float
    working: Working
    backing: str
    backing_words: str
    calibration: Calibration | None
    findings: tuple[belief.QualityFinding, ...]
    outcome: LimitOutcome = LimitOutcome.NONE
    outcome_words: str = ""
    parents: tuple[str, ...] = ()
    follows_from: tuple[str, ...] = ()

    def questions(self, before: Reading | None = None) -> list[Question]:
        """What its findings ask; what an earlier version of the same reading was asked is not asked again."""
        asked = (
            {f["key"] for f in before.findings if f["flag"] > belief.Flag.NOT_EVALUATED} if before is not None else ()
        )
        return questions_of(self.quantity, self.findings, self.follows_from, asked)


@dataclass(frozen=True)
class Backing:
    """What a signal is read with, and what it is worth; without a fit it cannot be read."""

    fit: Fitted | None
    calibration: Calibration | None
    state: str
    words: str
    u: float
    trust: Trust | None = None
    #: What stands in for a calibration where there is none, such as "an ideal electrode".
    ideal: str = "a perfect probe"

    @property
    def origin(self) -> str:
        """The calibration, or what stands in for it, in words."""
        return f"calibration {self.calibration.number}" if self.calibration else self.ideal


@dataclass(frozen=True)
class SheetLine:
    """One probe on the sheet: where it stands, the trace as reported, the judgement, the value, and what was kept."""

    probe: Probe
    role: str
    behind: Backing
    dip: Dip | None = None
    trace: Trace | None = None
    shown: tuple[float, ...] = ()
    settling: Settling | None = None
    value: SheetValue | None = None
    also: tuple[SheetValue, ...] = ()
    problem: str = ""
    kept: tuple[Reading, ...] = ()

    @property
    def waiting(self) -> bool:
        """Whether something stands here that can be kept."""
        return self.value is not None


@dataclass(frozen=True)
class OtherDisplay:
    """What a display showed besides, the way it was typed, and what the meter was set to.

    set_to : salinity and pressure [hPa] of an oxygen meter; the TDS factor of a conductivity meter, where it is on record
    """

    entered: str
    value: float
    set_to: tuple[float, ...] = ()


@dataclass(frozen=True)
class Sheet:
    """A visit as it stands."""

    visit: Visit
    lines: tuple[SheetLine, ...]
    water: Water
    conditions: Mapping[str, Any] = field(default_factory=dict)
    kept: tuple[Reading, ...] = ()
    depth_m: float | None = None
    notes: tuple[VisitNote, ...] = ()
    follows: tuple[SheetValue, ...] = ()
    missing: tuple[NotStated, ...] = ()
    #: what a probe's display showed besides, by the probe's id, for the dip it stands in
    beside: Mapping[uuid.UUID, OtherDisplay] = field(default_factory=dict)
    #: the probes whose display was watched standing still since they went in
    still: frozenset[uuid.UUID] = frozenset()

    @property
    def waiting(self) -> list[SheetLine]:
        """The lines with a value that can be kept."""
        return [line for line in self.lines if line.dip is not None and line.value is not None]

    @property
    def questions(self) -> list[Question]:
        """Everything that wants an answer before the sheet is kept, in the order it is spoken."""
        asked = [q for line in self.waiting for q in self.asked_of(line)]
        calculated = {r.quantity: r for r in self.kept if r.parents and r.depth_m == self.depth_m}
        return each_once(asked + [q for v in self.follows for q in v.questions(calculated.get(v.quantity))])

    def asked_of(self, line: SheetLine) -> list[Question]:
        """What wants an answer before this line is kept; the temperature that another probe gave is asked of that alone."""
        if line.value is None or line.dip is None:
            return []
        depth = line.dip.depth_m
        have = {r.quantity for r in self.kept if r.depth_m == depth} if len(self.lines) > 1 else set()
        beside = [v for v in line.also if v.quantity not in have]
        return [q for v in (line.value, *beside) for q in v.questions()]

    def line(self, probe_id: str | uuid.UUID | None) -> SheetLine:
        """The line of a probe; without one the first that waits, else the first."""
        for line in self.lines:
            if probe_id and str(line.probe.id) == str(probe_id):
                return line
        open_ones = [line for line in self.lines if line.dip is not None]
        return (open_ones or list(self.lines))[0]

    def of_dip(self, dip_id: str) -> SheetLine | None:
        """The line whose probe stands in this dip."""
        return next((line for line in self.lines if line.dip is not None and str(line.dip.id) == dip_id), None)
