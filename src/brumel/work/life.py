"""A probe's whole life on one line: calibrations, upkeep, control charts and a forecast of its end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from brumel.core import ageing
from brumel.core.verdict import Band
from brumel.methods import load_methods
from brumel.store.tables import Calibration, Probe, Upkeep
from brumel.work import kit, shelf

#: Differences that do not matter to the trade, per strip: chosen so that a steady start raises no alarm.
SMALLEST_SIGMA = {"slope": 0.3, "offset": 0.7, "settling": 3.0}
LONGEST_LIFE = 120


@dataclass(frozen=True)
class Strand:
    """One quantity over the life: values with their times and outcomes, limits, chart and forecast."""

    key: str
    name: str
    unit: str
    times: tuple[datetime, ...]
    values: tuple[float, ...]
    outcomes: tuple[str, ...]
    band: Band | None
    chart: ageing.Chart | None
    forecast: ageing.Forecast | None


@dataclass(frozen=True)
class Life:
    """Everything the probe's page draws."""

    strands: tuple[Strand, ...]
    upkeep: tuple[tuple[datetime, str], ...]

    @property
    def sentences(self) -> tuple[str, ...]:
        """What the charts and forecasts have to say, the forecasts first."""
        ahead = [s.forecast.sentence for s in self.strands if s.forecast]
        seen = [
            f"{s.name.capitalize()}: {signal.sentence}"
            for s in self.strands
            if s.chart
            for signal in s.chart.signals[-2:]
        ]
        return (*ahead, *seen)


def life(session: Session, probe: Probe) -> Life:
    """The life of a probe, oldest first. One-point calibrations carry their slope over and are left out of its strip."""
    past = list(reversed(kit.calibrations(session, probe.id, LONGEST_LIFE)))
    limits = load_methods()["ph-7-4-10"].limits
    full = [c for c in past if c.fit["kind"] != "offset"]
    settle = kit.settle_times(session, [c.run_id for c in past])
    timed = [c for c in past if c.run_id in settle]
    strands = (
        _strand("slope", "slope", "%", full, [c.slope_percent for c in full], limits.slope.band()),
        _strand("offset", "offset", "mV", past, [c.offset_mv for c in past], limits.offset.band()),
        _strand("settling", "slowest cup", "s", timed, [settle[c.run_id] for c in timed], None),
    )
    done = reversed(shelf.history(session, probe.id, 200))
    return Life(tuple(s for s in strands if len(s.values) > 1), tuple((u.at, _words(probe, u)) for u in done))


def _words(probe: Probe, done: Upkeep) -> str:
    return kit.upkeep_words(probe, done)[0]


def _strand(
    key: str, name: str, unit: str, past: Sequence[Calibration], values: list[float], band: Band | None
) -> Strand:
    chart = ageing.control_chart(values, smallest_sigma=SMALLEST_SIGMA[key]) if len(values) >= 5 else None
    ahead = None
    if band is not None and len(values) >= 5:
        recent = past[-12:]
        days = [(c.at - recent[0].at).total_seconds() / 86400 for c in recent]
        if days[-1] > 0:
            # The care limit the trend is heading for: beyond it the verdict is "do not use".
            falling = values[-1] < values[-len(recent)]
            limit = band.care_low if falling else band.care_high
            ahead = ageing.forecast(days, values[-len(recent) :], limit, what=name.capitalize())
    return Strand(
        key, name, unit, tuple(c.at for c in past), tuple(values), tuple(c.outcome for c in past), band, chart, ahead
    )
