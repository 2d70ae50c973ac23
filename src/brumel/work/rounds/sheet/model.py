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

    @property
    def questions(self) -> tuple[belief.QualityFinding, ...]:
        """The findings that want an answer."""
        return tuple(f for f in self.findings if f.flag in (belief.Flag.SUSPECT, belief.Flag.FAIL))


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
    def questions(self) -> tuple[belief.QualityFinding, ...]:
        """Everything odd that wants an answer before this line is kept."""
        return tuple(f for v in (self.value, *self.also) if v is not None for f in v.questions)

    @property
    def waiting(self) -> bool:
        """Whether something stands here that can be kept."""
        return self.value is not None


@dataclass(frozen=True)
class Question:
    """Something odd that wants a repeat or a reason; `code` stays the same while its figures move."""

    code: str
    sentence: str


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

    @property
    def waiting(self) -> list[SheetLine]:
        """The lines with a value that can be kept."""
        return [line for line in self.lines if line.dip is not None and line.value is not None]

    @property
    def questions(self) -> list[Question]:
        """Everything that wants an answer before the sheet is kept, in the order it is spoken."""
        asked = [Question(f"{line.probe.id}:{f.key}", f.sentence) for line in self.waiting for f in line.questions]
        return asked + [Question(f"{v.quantity}:{f.key}", f.sentence) for v in self.follows for f in v.questions]

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
