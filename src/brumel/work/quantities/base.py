"""What all quantities share on Bench."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from types import ModuleType
from typing import Any, NamedTuple

from brumel.core import suspicion
from brumel.core.errors import CannotFit, InputError
from brumel.core.fitness import CalibrationPoint, Fitness, Fitted, JudgingTerms, adjusted
from brumel.core.fitness.common import band
from brumel.core.quantity_table import QuantityRow
from brumel.core.settling import Settling
from brumel.core.suspicion import Scale, Suspicion, Vessel
from brumel.core.trace import Trace
from brumel.core.verdict import Limits, Tolerance
from brumel.methods import Method, StepSpec
from brumel.methods.model import SettlingSpec
from brumel.store.tables import Calibration, Lot, Probe
from brumel.store.typed_json import RunConditions
from brumel.work.quantities import standards


@dataclass(frozen=True)
class RunContext:
    """What a probe stands in besides its cup: its own record, the run's conditions, the meter's settings."""

    probe: Probe
    conditions: RunConditions = field(default_factory=RunConditions)
    settings: Mapping[str, Any] = field(default_factory=dict)

    def setting(self, name: str, usual: float) -> float:
        """A setting of the meter as a number."""
        value = self.settings.get(name)
        return usual if value in (None, "") else float(value)


@dataclass(frozen=True)
class SignalEntry:
    """A way to type what the display shows: words, range, and how it becomes the quantity's own signal.

    figures : how many a display shows at most, where that is fewer than the decimals say
    to_signal : linear in what is shown
    """

    label: str
    digits: int
    low: float
    high: float
    to_signal: Callable[[float, float, RunContext], float]
    figures: int = 9

    @property
    def unit(self) -> str:
        """The unit it is typed in."""
        head = self.label.partition(",")[0]
        return head if head.startswith("mg/L as") else head.split()[0]

    def step(self, shown: float) -> float:
        """One step of a display at this value: its last decimal, or its last figure where it has no more of them."""
        decimal = 10.0**-self.digits
        if shown == 0:
            return decimal
        return max(decimal, 10.0 ** (math.floor(math.log10(abs(shown))) - self.figures + 1))


@dataclass(frozen=True)
class Earlier:
    """A point taken earlier in the run."""

    name: str
    signal: float
    temperature_c: float
    expected: float
    role: str


@dataclass(frozen=True)
class CupReading:
    """A probe in a cup, with everything its reading is compared with."""

    trace: Trace
    settling: Settling
    at_c: float
    expected: float | None
    here: Vessel
    nominal: float
    tray: tuple[Vessel, ...]
    earlier: tuple[Earlier, ...]
    known: Fitted | None
    method: Method
    step: StepSpec
    case: RunContext
    source: str

    @property
    def signal(self) -> float | None:
        """Where the signal is heading, once it has stood long enough to say."""
        if self.settling.elapsed_s < min(15.0, self.method.settling.shortest_s):
            return None
        return self.settling.forecast if self.settling.forecast is not None else self.settling.value

    @property
    def by(self) -> str:
        """What the reading is read with, in words."""
        return "the last good calibration" if self.known else "a perfect probe"


class StrandSpec(NamedTuple):
    """A figure that is followed over a probe's life.

    smallest_sigma : the difference that does not matter to the trade
    limit : the method's band it is held to; empty where it has none
    step : what it may change by from one calibration to the next before it is spoken of (chosen); 0 where nothing is said
    """

    key: str
    name: str
    unit: str
    digits: int
    smallest_sigma: float
    limit: str = ""
    step: float = 0.0


class OwnFigureSpec(NamedTuple):
    """A figure that a meter which is adjusted itself may show of the probe.

    key : of the figures that are followed; limit : the band of a method it is held to; low, high : what is possible
    judged_unit : of the band, where it is not the figure's own
    """

    key: str
    name: str
    unit: str
    digits: int
    limit: str
    low: float
    high: float
    judged_unit: str = ""


class Quantity:
    """The common part; each quantity says what is its own."""

    suffix = "mv"
    tip = "tip"
    native = "mv"
    scale: Scale | None = None
    module: ModuleType
    entries: Mapping[str, SignalEntry] = {}
    #: the limit of a method an error in a cup is held to
    error_limit = "tolerance"
    unit_words = ""  # the ways to type, where naming them helps more than saying "unit"
    #: the limit of a method that a display is held to in the standard it was just set to
    left_limit = "tolerance"
    #: what a meter that is adjusted itself may tell of the probe
    told: Sequence[OwnFigureSpec] = ()
    #: what is followed over the probe's life
    strands: Sequence[StrandSpec] = ()

    def __init__(self, row: QuantityRow) -> None:
        self.row, self.quantity, self.unit, self.digits = row, row.key, row.unit, row.standard_digits
        self.signal_unit, self.signal_digits = row.signal.unit, row.signal.digits

    # -- what is typed

    def entry_of(self, unit: str, chosen: str) -> str:
        """The way of typing that a unit written behind a value means; where several share it, the one of the chosen kind.

        Raises InputError for a unit this quantity is not read in.
        """
        units = {key: entry.unit for key, entry in self.entries.items()}
        fitting = [key for key, each in units.items() if each == unit]
        if not fitting:
            known = ", ".join(dict.fromkeys(units.values()))
            raise InputError(
                "value",
                f"The value's unit “{unit[:20]}” is none that {self.row.words} is read in here: {known}.",
                value=unit,
            )
        kind = self._kind(chosen)
        return next((key for key in fitting if self._kind(key) == kind), fitting[0])

    def scale_of(self, entered: str) -> str:
        """What a way of typing is a reading of: where two are of one scale, a fit made by the one serves the other."""
        return "signal"

    def can_read(self, calibration: Calibration, entered: str) -> bool:
        """Whether a calibration reads what is entered this way: made from the same, or from another unit of its scale.

        One of a meter that was adjusted itself takes the display it was made from as it is, and no other.
        """
        if calibration.signal == entered:
            return True
        return self.scale_of(calibration.signal) == self.scale_of(entered) and not calibration.run.conditions.adjusted

    def entry_of_settings(self, settings: Mapping[str, Any]) -> str:
        """The way of typing that the meter's recorded settings speak for; empty where they say nothing of it."""
        return ""

    def shown(self, entered: str, signal: float, at_c: float, case: RunContext) -> float:
        """What a display in this unit shows for a signal; the way back of typing it."""
        to_signal = self.entries[entered].to_signal
        zero = to_signal(0.0, at_c, case)
        return (signal - zero) / (to_signal(1.0, at_c, case) - zero)

    def display_step(self, entered: str, shown: float, at_c: float, case: RunContext) -> float:
        """What one step of the display is worth in the signal's unit."""
        to_signal = self.entries[entered].to_signal
        step = self.entries[entered].step(shown)
        return abs(to_signal(shown + step, at_c, case) - to_signal(shown, at_c, case))

    def should_show(self, entered: str, expected: float, at_c: float, case: RunContext) -> float | None:
        """What the display should show where the quantity is `expected`; None where its unit does not tell."""
        if self.row.displayed not in self.entries or entered not in self.entries:
            return None
        signal = self.entries[self.row.displayed].to_signal(expected, at_c, case)
        return self.shown(entered, signal, at_c, case)

    def is_near(self, read: float, expected: float) -> bool:
        """Whether a reading could be of a cup that should read `expected`."""
        return self.scale is not None and self.scale.apart(read, expected) <= self.scale.near

    def _kind(self, key: str) -> str:
        entry = self.entries.get(key)
        return entry.label.partition(",")[2] if entry else ""

    # -- values

    def text(self, value: float) -> str:
        """A value as it is written, without its unit."""
        return f"{value:.{self.digits}f}".replace("-", "−")

    def with_unit(self, value: float) -> str:
        """A value as it is spoken, with its unit."""
        return f"pH {self.text(value)}" if self.unit == "pH" else f"{self.text(value)} {self.unit}"

    def figures_text(self, figures: Mapping[str, float]) -> str:
        """The figures that are followed over the life, in one line."""
        return ", ".join(
            f"{name} {figures[key]:.{digits}f} {unit}".replace("-", "−").rstrip()
            for key, name, unit, digits, *_ in self.strands
            if key in figures
        )

    def vessel_value(self, step: StepSpec, lot: Lot | None, at_c: float, case: RunContext) -> float | None:
        """What should be read where the probe stands, at this temperature [°C]; None beside a reference not yet read."""
        if step.vessel == "solution" and lot is not None:
            return standards.value(lot, self.quantity, at_c, case.probe)
        return 0.0 if step.vessel == "air" else None

    def nominal(self, step: StepSpec, lot: Lot | None, case: RunContext) -> float | None:
        """The value people call the cup by."""
        if step.vessel == "solution" and lot is not None:
            return standards.nominal(lot, self.quantity, case.probe)
        return self.vessel_value(step, lot, 25.0, case)

    def expanded_uncertainty(
        self, step: StepSpec, lot: Lot | None, expected: float, at_c: float | None = None
    ) -> float:
        """Expanded uncertainty of what should be read (k = 2), in a cup of this temperature [°C]."""
        return standards.expanded_uncertainty(lot, self.quantity, expected, at_c) if lot is not None else 0.0

    def criteria(self, method: Method, step: StepSpec) -> SettlingSpec:
        """When a reading counts as settled in this cup."""
        return method.settling

    # -- fits

    def ideal(self, probe: Probe) -> Fitted | None:
        """A perfect probe of this kind, where there is such a thing."""
        return None

    def restore(self, data: dict[str, Any]) -> Fitted:
        """A stored fit."""
        fitted: Fitted = self.module.restore({key: value for key, value in data.items() if key != "display"})
        return fitted

    def assess(self, points: Sequence[CalibrationPoint], limits: Limits, terms: JudgingTerms) -> Fitness:
        """What the points of a run add up to."""
        fit: Fitness = self.module.assess(points, limits, terms)
        return fit

    def assess_adjusted(
        self,
        points: Sequence[CalibrationPoint],
        limits: Limits,
        terms: JudgingTerms,
        case: RunContext,
        told: Mapping[str, float],
    ) -> Fitness:
        """What the points of a run add up to that set the meter itself; `told` is what the meter said, by figure."""
        display = self.display(case)
        if display is None:
            raise CannotFit("points", f"A meter does not show {self.row.words} by an adjustment of its own.")
        found, left = limits.get("as_found"), limits[self.left_limit]
        left = left if isinstance(left, Tolerance) else Tolerance(1.0, self.unit)
        figures = [
            adjusted.OwnFigure(
                spec.key,
                spec.name,
                spec.unit,
                spec.digits,
                told.get(spec.key),
                self.judged_figure(spec.key, told[spec.key], terms) if spec.key in told else None,
                band(limits, spec.limit),
                spec.judged_unit,
            )
            for spec in self.told
        ]
        return adjusted.assess(points, display, found if isinstance(found, Tolerance) else left, left, figures, terms)

    def display(self, case: RunContext) -> Fitted | None:
        """What takes a display as it is."""
        return self.ideal(case.probe)

    def judged_figure(self, key: str, value: float, terms: JudgingTerms) -> float | None:
        """A figure the meter told on the scale of its band; None where it cannot be said."""
        return value

    def is_display(self, entered: str) -> bool:
        """Whether what was typed is the meter's own reading of the quantity, not a raw signal."""
        return entered in self.entries and entered != self.native

    def budget_share(self, rest: float, signal: float) -> float:
        """What was still to come in a cup, in the unit of the quantity's budget; `rest` is in the signal's unit."""
        return rest

    # -- suspicions

    def suspicions(self, seen: CupReading) -> list[Suspicion | None]:
        """Everything that speaks against taking this point."""
        return [*self._cup(seen), *self._state(seen), *self._temperatures(seen)]

    def _cup(self, seen: CupReading) -> list[Suspicion | None]:
        reader = seen.known or self.ideal(seen.case.probe)
        signal = seen.signal
        if signal is None or seen.expected is None or self.scale is None or seen.step.vessel != "solution":
            return []
        raised: list[Suspicion | None] = []
        here = Vessel(seen.here.name, seen.expected)
        earlier = [(e.name, e.signal, e.expected) for e in seen.earlier if e.role in ("adjust", "check")]
        if reader is not None:
            read = reader.read(signal, seen.at_c)
            raised.append(suspicion.wrong_vessel(read, here, seen.tray, self.scale, seen.by))
            before = [(e.name, reader.read(e.signal, e.temperature_c), e.expected) for e in seen.earlier]
            if not any(raised) and self.scale.ratio:
                raised.append(suspicion.carried_over(read, here, before))
        raised.append(suspicion.same_signal(signal, seen.expected, earlier, self.scale))
        return raised

    def _state(self, seen: CupReading) -> list[Suspicion | None]:
        return [suspicion.restless(seen.settling.state, self.tip)]

    def _temperatures(self, seen: CupReading) -> list[Suspicion | None]:
        raised: list[Suspicion | None] = []
        limit = seen.method.judged_by().get("cup_spread")
        if isinstance(limit, Tolerance) and (seen.settling.elapsed_s >= 10 or seen.source == "typed"):
            before = [e.temperature_c for e in seen.earlier if e.role != "zero"]
            raised.append(suspicion.temperature_spread([*before, seen.at_c], limit.value))
        if seen.source == "live" and seen.settling.elapsed_s >= 20:
            raised.append(suspicion.still_warming(seen.trace.temperature_drift()))
        return raised

    # -- diagnosis

    def trace_features(self, trace: Trace, step: StepSpec) -> dict[str, float]:
        """What a trace in the cup of a step showed of this quantity's own, by the names the fault files use."""
        return {}

    def run_features(self, points: Sequence[CalibrationPoint]) -> dict[str, float]:
        """What the points show of this quantity's own, whether or not they can be fitted."""
        return {}


def as_is(value: float, at_c: float, case: RunContext) -> float:
    """The display is the signal."""
    return value
