"""What the checks at the two ends of a logged series say of it, and the series corrected by them [USGS-TM1D3]."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brumel.core.checking import Door, Floats, plain
from brumel.core.deployed.service import digits_of, fouling_step, together_step
from brumel.core.drift import DriftCriteria, grade
from brumel.core.errors import InputError
from brumel.core.quantities import sentence_label
from brumel.core.working import Ladder, StepResult, Worked


@dataclass(frozen=True)
class Service:
    """What was read when the logger was lifted, in the unit of the series.

    before, after : the logger in the water, as it was and after cleaning
    beside_before, beside_after : a second meter in the same water at the same moments; what the water did meanwhile is
    taken off. Without one the water is taken to have stood still
    standard_read, standard_value : the cleaned logger in a standard, and what the standard should read
    opening_read, opening_value : the same when it was set out; without them it is taken to have started without error
    """

    before: float
    after: float
    standard_read: float
    standard_value: float
    beside_before: float | None = None
    beside_after: float | None = None
    opening_read: float | None = None
    opening_value: float | None = None


@dataclass(frozen=True)
class Ends:
    """The errors of a series at its two ends [unit of the series, % where relative], and whether it held."""

    opening: float
    fouling: float
    drift: float
    relative: bool
    holds: bool
    worked: Worked

    @property
    def closing(self) -> float:
        """What is wrong at the end: fouling and drift together, as read − right."""
        return self.fouling + self.drift


def ends(service: Service, criteria: DriftCriteria, level: float) -> Ends:
    """Errors at the ends of a series whose values lie about `level`, and whether they are within the criterion.

    Fouling is what cleaning changed beyond what the water did; drift what the cleaned sensor reads in a standard beyond
    its value. They hold where their sizes together are within the criterion of the closing check, the absolute or the
    relative one, whichever is greater. Signs are read − right throughout, the source's are the other way round.
    Raises NotANumber, OutOfRange. Source: USGS-TM1D3, fouling and drift; its formulas from memory.
    """
    door = Door()
    given = {n: getattr(service, n) for n in Service.__dataclass_fields__}
    for name, value in given.items():
        if value is not None:
            door.number(name, value, -1e6, 1e6)
    level = abs(door.number("level", level, -1e6, 1e6))
    for pair in (("beside_before", "beside_after"), ("opening_read", "opening_value")):
        missing = [name for name in pair if given[name] is None]
        if len(missing) == 1:
            door.add(InputError(missing[0], f"{sentence_label(missing[0])} is missing; the two go together."))
    if criteria.relative:
        for name in ("after", "standard_value", *(("opening_value",) if service.opening_value is not None else ())):
            door.number(name, given[name], 0.001, 1e6, "A share of it is taken.")
    door.close()
    moved = (service.beside_after or 0.0) - (service.beside_before or 0.0)
    drift = service.standard_read - service.standard_value
    opening = (service.opening_read or 0.0) - (service.opening_value or 0.0)
    unit = criteria.unit
    ladder = Ladder("What the checks at the ends say")
    fouling = fouling_step(ladder, service.before, service.after, moved, unit)
    ladder.step(
        "Ed",
        "drift",
        "Ed = read − standard",
        StepResult(drift, unit, digits_of(unit)),
        "USGS-TM1D3",
        ("read", "cleaned, in the standard", service.standard_read, unit),
        ("std", "the standard's value", service.standard_value, unit),
    )
    allowed = max(criteria.holds, level * criteria.holds_percent / 100)
    if criteria.relative:
        unit = "%"
        fouling, drift = 100 * fouling / service.after, 100 * drift / service.standard_value
        opening = 100 * opening / service.opening_value if service.opening_value else 0.0
        allowed = max(criteria.holds_percent, 100 * criteria.holds / level if level else 0.0)
        ladder.step("Ef%", "fouling, of the value", "100·Ef / after", StepResult(fouling, unit, 2), "USGS-TM1D3")
        ladder.step("Ed%", "drift, of the standard", "100·Ed / standard", StepResult(drift, unit, 2), "USGS-TM1D3")
    size = abs(fouling) + abs(drift)
    together_step(ladder, size, allowed, unit)
    holds = size <= allowed + 1e-9
    return Ends(opening, fouling, drift, criteria.relative, holds, Worked(size, unit, ladder.done()))


def error_at(ends: Ends, time_share: Floats) -> Floats:
    """The error after a share of the series' time, linear from opening to closing [unit, % where relative]."""
    door = Door()
    s = door.floats("time_share", time_share, 0, 1)
    door.close()
    return plain(np.asarray(ends.opening + (ends.closing - ends.opening) * s))


def corrected(values: Floats, time_share: Floats, ends: Ends) -> Floats:
    """The series with the error taken off, each value at its share of the time.

    v − e(s), or v / (1 + e(s)/100) where the error is relative: a value read too high by e % is brought back exactly.
    """
    door = Door()
    v = door.floats("values", values, -1e9, 1e9)
    error = np.asarray(error_at(ends, time_share))
    door.same_length(values=v, time_share=error)
    door.close()
    return plain(np.asarray(v / (1 + error / 100) if ends.relative else v - error))


def worst_grade(ends: Ends, criteria: DriftCriteria) -> str:
    """The grade at the end that was worse; "not reported" beyond the most that may be corrected."""
    size = max(abs(ends.opening), abs(ends.fouling) + abs(ends.drift))
    if not criteria.relative:
        return str(grade(size, criteria))
    return str(grade(size, criteria, 100.0))


def reported_until(ends: Ends, criteria: DriftCriteria) -> float:
    """The share of the time up to which the correction stays within the most that may be applied (0 to 1)."""
    if abs(ends.opening) > criteria.most:
        return 0.0
    if abs(ends.closing) <= criteria.most:
        return 1.0
    edge = criteria.most if ends.closing > 0 else -criteria.most
    return float((edge - ends.opening) / (ends.closing - ends.opening))


def days_until_full(records: float, interval_min: float) -> float:
    """Days a memory of so many records lasts at one record an interval [records, min] -> [d].

    Raises NotANumber, OutOfRange. Source: arithmetic; 3 000 records at 10 min fill in 20.8 days.
    """
    door = Door()
    n = door.number("records", records, 1, 1e9)
    m = door.number("interval_min", interval_min, 0.01, 10_080)
    door.close()
    return n * m / 1440
