"""What a service visit says of a channel: fouling and drift apart [USGS-TM1D3]; signs are read − right throughout."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from brumel.core.checking import Door
from brumel.core.drift import DriftCriteria
from brumel.core.errors import InputError
from brumel.core.working import Ladder, StepResult, Working

#: Standards that lie closer than this share of the larger one make no line between them: chosen.
_APART = 0.02


@dataclass(frozen=True)
class Standard:
    """A standard: what the cleaned sensor read in it, and what it should read [unit]."""

    read: float
    value: float

    @property
    def error(self) -> float:
        return self.read - self.value


@dataclass(frozen=True)
class ServiceReading:
    """What was read of one channel at a service visit [unit]; what was not read is None, or no standard.

    before, after : the logger in the water as it was, and cleaned; beside_ : a checking instrument at the same moments
    standards : the cleaned sensor in one standard or two, before anything was set; reset : the same after a
    recalibration or a swap, where there was one
    """

    before: float | None = None
    after: float | None = None
    beside_before: float | None = None
    beside_after: float | None = None
    standards: tuple[Standard, ...] = ()
    reset: tuple[Standard, ...] = ()
    was_reset: bool = False


@dataclass(frozen=True)
class ErrorLine:
    """The error of a cleaned sensor at any of its readings: offset + slope·read [unit], from no, one or two standards."""

    offset: float = 0.0
    slope: float = 0.0
    known: bool = False

    def at(self, read: NDArray[np.float64] | float) -> NDArray[np.float64]:
        """The error where it reads so [unit]."""
        return np.asarray(self.offset + self.slope * np.asarray(read, dtype=np.float64))


#: Of a sensor nobody has read in a standard, or that was just set.
NO_ERROR = ErrorLine()


def error_line(standards: tuple[Standard, ...], *, gain: bool) -> ErrorLine:
    """The error line of one standard or two.

    One : the same share of every reading where the quantity's error is a gain, else the same offset. Two : the line
    through both. Raises InputError for two that are too close to make a line, for more, and for a gain at nothing.
    Source: USGS-TM1D3, one- and two-point drift; formulas from memory.
    """
    if not standards:
        return ErrorLine()
    if len(standards) > 2:
        raise InputError("standards", "Drift is told from one standard or two.")
    low, high = sorted(standards, key=lambda s: s.value)[0], sorted(standards, key=lambda s: s.value)[-1]
    if len(standards) == 1:
        if gain:
            if low.read <= 0 or low.value <= 0:
                raise InputError(
                    "standards", "A single standard of nothing says nothing of a share; read another one too."
                )
            return ErrorLine(0.0, low.error / low.read, True)
        return ErrorLine(low.error, 0.0, True)
    if abs(high.value - low.value) <= _APART * max(abs(high.value), abs(low.value)) or high.read <= low.read:
        raise InputError("standards", "The two standards are too close, or were read the wrong way round.")
    slope = (high.error - low.error) / (high.read - low.read)
    return ErrorLine(low.error - slope * low.read, slope, True)


@dataclass(frozen=True)
class ServiceErrors:
    """The errors a service visit found [unit; fouling in % where relative], and whether they hold.

    fouling : None where it was not read; drift : before anything was set; left : what a reset left, the drift again
    where nothing was set
    """

    fouling: float | None
    drift: ErrorLine
    left: ErrorLine
    relative: bool
    size: float
    allowed: float
    unit: str
    working: Working

    @property
    def is_checked(self) -> bool:
        return self.fouling is not None or self.drift.known

    @property
    def holds(self) -> bool:
        return self.size <= self.allowed + 1e-9


def service_errors(reading: ServiceReading, criteria: DriftCriteria, level: float) -> ServiceErrors:
    """What a visit's readings say of a channel whose values lie about `level` [unit].

    Fouling is what cleaning changed beyond what the water did meanwhile; drift what the cleaned sensor reads in
    standards beyond their values, at `level`. They hold where their sizes together are within the criterion, the
    absolute or the relative one, whichever is greater. Raises every fault at once. Source: USGS-TM1D3, from memory.
    """
    door = Door()
    r = reading
    for name in ("before", "after", "beside_before", "beside_after"):
        value = getattr(r, name)
        if value is not None:
            door.number(name, value, -1e6, 1e6)
    for s in (*r.standards, *r.reset):
        door.number("standards", s.read, -1e6, 1e6)
        door.number("standards", s.value, -1e6, 1e6)
    for pair in (("before", "after"), ("beside_before", "beside_after")):
        missing = [name for name in pair if getattr(r, name) is None]
        if len(missing) == 1:
            words = {"before": "as it was", "after": "cleaned", "beside_before": "beside it before cleaning",
                     "beside_after": "beside it after cleaning"}  # fmt: skip
            door.add(InputError(missing[0], f"What was read {words[missing[0]]} is missing; the two go together."))
    if r.beside_before is not None and r.before is None:
        door.add(InputError("before", "The checking instrument was read, the logger was not."))
    level = abs(door.number("level", level, -1e6, 1e6))
    lines: list[ErrorLine] = []
    for several in (r.standards, r.reset):
        try:
            lines.append(error_line(several, gain=criteria.relative))
        except InputError as error:
            door.add(error)
            lines.append(ErrorLine())
    door.close()
    drift, reset = lines
    ladder, unit = Ladder("What the service says"), criteria.unit
    fouling = _fouling(r, criteria, ladder)
    drifted = float(drift.at(level))
    if drift.known:
        _drift_steps(r.standards, drifted, level, criteria, ladder)
    size, allowed = abs(fouling or 0.0) + abs(drifted), max(criteria.holds, level * criteria.holds_percent / 100)
    if criteria.relative:
        unit = "%"
        size = abs(fouling or 0.0) + (100 * abs(drifted) / level if level else 0.0)
        allowed = max(criteria.holds_percent, 100 * criteria.holds / level if level else 0.0)
    together_step(ladder, size, allowed, unit)
    left = (reset if reset.known else ErrorLine()) if r.was_reset else drift
    return ServiceErrors(fouling, drift, left, criteria.relative, size, allowed, unit, ladder.done())


def together_step(ladder: Ladder, size: float, allowed: float, unit: str) -> None:
    """Fouling and drift together against their limit [unit], as a line of a working. Source: USGS-TM1D3."""
    result = StepResult(size, unit, 2)
    ladder.step("|E|", "both together", "|Ef| + |Ed|", result, "USGS-TM1D3", ("limit", "limit", allowed, unit))


def digits_of(unit: str) -> int:
    """Decimals that a check is worked out to: what its instruments resolve."""
    return 1 if unit in ("µS/cm", "mV") else 2


def fouling_step(ladder: Ladder, before: float, after: float, moved: float, unit: str) -> float:
    """Fouling, what cleaning changed beyond what the water did [unit], as a line of a working. Source: USGS-TM1D3."""
    fouling = before - after + moved
    ladder.step(
        "Ef",
        "fouling",
        "Ef = (before − after) + (beside after − beside before)",
        StepResult(fouling, unit, digits_of(unit)),
        "USGS-TM1D3",
        ("before", "before cleaning", before, unit),
        ("after", "after cleaning", after, unit),
        ("moved", "what the water did meanwhile", moved, unit),
    )
    return fouling


def _fouling(r: ServiceReading, criteria: DriftCriteria, ladder: Ladder) -> float | None:
    if r.before is None or r.after is None:
        return None
    moved = (r.beside_after or 0.0) - (r.beside_before or 0.0)
    fouling = fouling_step(ladder, r.before, r.after, moved, criteria.unit)
    if criteria.relative:
        right = r.before - fouling
        if right <= 0:
            raise InputError("after", "Cleaned it read nothing; a share of that cannot be taken.")
        fouling = 100 * fouling / right
        ladder.step("Ef%", "fouling, of the value", "100·Ef / (before − Ef)", StepResult(fouling, "%", 2), "USGS-TM1D3")
    return fouling


def _drift_steps(
    standards: tuple[Standard, ...], drifted: float, level: float, criteria: DriftCriteria, ladder: Ladder
) -> None:
    unit = criteria.unit
    for number, s in enumerate(standards, 1):
        ladder.step(
            f"Ed{number}" if len(standards) > 1 else "Ed",
            "drift in a standard",
            "Ed = read − standard",
            StepResult(s.error, unit, digits_of(unit)),
            "USGS-TM1D3",
            ("read", "cleaned, in the standard", s.read, unit),
            ("std", "the standard's value", s.value, unit),
        )
    how = (
        "on the line between both"
        if len(standards) > 1
        else "its share"
        if criteria.relative
        else "the same everywhere"
    )
    ladder.step(
        "Ed(v)",
        "drift where the water is",
        how,
        StepResult(drifted, unit, digits_of(unit)),
        "USGS-TM1D3",
        ("v", "level", level, unit),
    )
