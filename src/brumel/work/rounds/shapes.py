"""What a sheet is made of: a value worked out, what is behind it, a probe's line, and the whole."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from brumel.core import believability as belief
from brumel.core.fitness import Fitted
from brumel.core.settling import Settling
from brumel.core.sheet import Outcome, Water
from brumel.core.working import Working
from brumel.store.tables import Calibration, Dip, Probe, Reading, Visit
from brumel.work import samples


@dataclass(frozen=True)
class Value:
    """One quantity of the sheet as it would be kept: number, working, backing, findings, what its limit makes of it."""

    quantity: str
    value: float
    unit: str
    expanded: float | None
    raw: float
    raw_unit: str
    temperature_c: float
    working: Working
    backing: str
    backing_words: str
    calibration: Calibration | None
    findings: tuple[belief.Finding, ...]
    outcome: Outcome = Outcome.NONE
    outcome_words: str = ""
    parents: tuple[str, ...] = ()

    @property
    def questions(self) -> tuple[belief.Finding, ...]:
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


@dataclass(frozen=True)
class Line:
    """One probe on the sheet: where it stands, the trace as reported, the judgement, the value, and what was kept."""

    probe: Probe
    role: str
    behind: Backing
    dip: Dip | None = None
    trace: samples.Trace | None = None
    shown: tuple[float, ...] = ()
    settling: Settling | None = None
    value: Value | None = None
    also: tuple[Value, ...] = ()
    problem: str = ""
    kept: tuple[Reading, ...] = ()

    @property
    def questions(self) -> tuple[belief.Finding, ...]:
        """Everything odd that wants an answer before this line is kept."""
        return tuple(f for v in (self.value, *self.also) if v is not None for f in v.questions)

    @property
    def waiting(self) -> bool:
        """Whether something stands here that can be kept."""
        return self.value is not None


@dataclass(frozen=True)
class Sheet:
    """A visit as it stands."""

    visit: Visit
    lines: tuple[Line, ...]
    water: Water
    conditions: Mapping[str, Any] = field(default_factory=dict)
    kept: tuple[Reading, ...] = ()
    depth_m: float | None = None
    follows: tuple[Value, ...] = ()

    def line(self, probe_id: str | uuid.UUID | None) -> Line:
        """The line of a probe; without one the first that waits, else the first."""
        for line in self.lines:
            if probe_id and str(line.probe.id) == str(probe_id):
                return line
        open_ones = [line for line in self.lines if line.dip is not None]
        return (open_ones or list(self.lines))[0]

    def of_dip(self, dip_id: str) -> Line | None:
        """The line whose probe stands in this dip."""
        return next((line for line in self.lines if line.dip is not None and str(line.dip.id) == dip_id), None)
