"""pH electrodes on Bench."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from brumel.core import ph
from brumel.core.fitness import CalibrationPoint, Fitted
from brumel.core.fitness import ph as fitness
from brumel.core.suspicion import Suspicion, restless
from brumel.store.tables import Probe
from brumel.work.quantities.base import CupReading, OwnFigureSpec, Quantity, RunContext, SignalEntry, StrandSpec, as_is


def _pseudo(displayed: float, at_c: float, case: RunContext) -> float:
    return ph.pseudo_millivolts(displayed, at_c)


class Ph(Quantity):
    """Signal in mV; a displayed pH stands for the mV of an ideal electrode."""

    tip = "bulb"
    unit_words = " (mV or displayed pH)"
    module = fitness
    entries = {"mv": SignalEntry("mV", 1, -2000, 2000, as_is), "ph": SignalEntry("pH", 2, -2, 16, _pseudo)}
    left_limit = "linearity"
    told = (
        OwnFigureSpec("slope_percent", "slope", "%", 1, "slope", 20.0, 130.0),
        OwnFigureSpec("offset_mv", "offset", "mV", 1, "offset", -200.0, 200.0),
    )
    strands = (
        StrandSpec("slope_percent", "slope", "%", 1, 0.3, "slope", 4.0),
        StrandSpec("offset_mv", "offset", "mV", 1, 0.7, "offset", 10.0),
    )

    def ideal(self, probe: Probe) -> Fitted:
        """Slope 100 %, offset 0."""
        return fitness.ElectrodeFit(ph.fit([ph.BufferPoint(0.0, 25.0, 7.0)]))

    def entry_of_settings(self, settings: Mapping[str, Any]) -> str:
        """As the meter is set to show it."""
        return {"pH": "ph", "mV": "mv"}.get(str(settings.get("ph_unit")), "")

    def scale_of(self, entered: str) -> str:
        """A displayed pH holds the meter's own calibration; its mV do not."""
        return entered

    def budget_share(self, rest: float, signal: float) -> float:
        """From mV to pH, at 20 °C."""
        return rest / float(ph.nernst_slope_mv(20.0))

    def is_near(self, read: float, expected: float) -> bool:
        """Within 0.8 pH, as far as an old electrode may be off."""
        return abs(read - expected) <= 0.8

    def display_step(self, entered: str, shown: float, at_c: float, case: RunContext) -> float:
        """A displayed pH steps as the meter is set to show it."""
        if entered == "ph" and (set_to := case.setting("ph_resolution", 0.0)) > 0:
            return abs(_pseudo(shown + set_to, at_c, case) - _pseudo(shown, at_c, case))
        return super().display_step(entered, shown, at_c, case)

    def run_features(self, points: Sequence[CalibrationPoint]) -> dict[str, float]:
        """The span of the signals, which tells a broken bulb even where no line can be fitted."""
        span = fitness.span_percent(points)
        return {} if span is None else {"span_percent": span}

    def suspicions(self, seen: CupReading) -> list[Suspicion | None]:
        """Wrong cup, same cup, one cup off, label value, bubbles, temperatures."""
        return [*self._cup(seen), restless(seen.settling.state), *self._temperatures(seen), self._label(seen)]

    def _cup(self, seen: CupReading) -> list[Suspicion | None]:
        signal = seen.signal
        if signal is None or seen.expected is None:
            return []
        known = seen.known.calibration if isinstance(seen.known, fitness.ElectrodeFit) else None
        here = ph.Cup(seen.here.name, seen.expected)
        tray = [ph.Cup(v.name, v.value) for v in seen.tray]
        raised: list[Suspicion | None] = [ph.wrong_cup(signal, seen.at_c, here, tray, known)]
        points = [e for e in seen.earlier if e.role in ("adjust", "check")]
        raised.append(ph.same_cup(signal, seen.expected, [(e.name, e.signal, e.expected) for e in points], seen.at_c))
        if not any(raised):
            before = [(e.signal, e.temperature_c, e.expected) for e in points]
            raised.append(ph.cup_off(signal, seen.at_c, here, before))
        if not any(raised):
            raised.append(ph.neighbour_buffer(signal, seen.at_c, here, known))
        return raised

    def _label(self, seen: CupReading) -> Suspicion | None:
        shown = seen.trace.displayed[-1] if seen.trace.displayed else None
        if seen.trace.entered_as != "ph" or shown is None or seen.expected is None:
            return None
        return ph.label_value_used(shown, seen.nominal, seen.expected)
