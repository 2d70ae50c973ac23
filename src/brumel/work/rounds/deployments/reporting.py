"""A channel's record as it is reported: fouling and drift off by what was signed, oxygen compensated."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from brumel.core.constants.chosen import REFERENCE_C, TEMPERATURE_COEFFICIENT_PERCENT
from brumel.core.deployed.correction import GRADES_SHOWN, Corrected, Interval, correct
from brumel.core.deployed.oxygen import compensated_mg_l
from brumel.core.salinity import practical_salinity
from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Channel, Correction
from brumel.store.tables import Calibration
from brumel.work import kit
from brumel.work.rounds.deployments import channels, series
from brumel.work.rounds.deployments.series import Record
from brumel.work.rounds.deployments.whole import Whole

Values = NDArray[np.float64]
Times = NDArray[np.int64]


@dataclass(frozen=True)
class Reported:
    """A channel's record as it is reported now: recorded, reported (NaN where not), flags, grades, U, and each step's size.

    state : "open" while nothing is signed, "corrected" after it, "none" for what has no checks of its own
    """

    record: Record
    values: Values
    fouling: Values
    drift: Values
    compensation: Values
    grade: NDArray[np.int8]
    u: Values
    state: str


@dataclass(frozen=True)
class Recipe:
    """What a correction does: its intervals, and whether oxygen is brought to what was logged beside it."""

    intervals: tuple[Interval, ...]
    salinity: bool = False
    pressure: bool = False

    @classmethod
    def of(cls, correction: Correction) -> Recipe:
        """As it was signed."""
        body = correction.body
        return cls(tuple(Interval.restored(i) for i in body["intervals"]), body["salinity"], body["pressure"])


def newest_recipe(whole: Whole, channel: Channel) -> Recipe | None:
    """The recipe that stands, None while nothing is signed."""
    signed = whole.corrections[channel.id]
    return Recipe.of(signed[0]) if signed else None


def reported(
    session: Session, whole: Whole, channel: Channel, since_us: int | None = None, until_us: int | None = None
) -> Reported:
    """The record of a channel in a span with what is reported of it."""
    of = series.read(session, whole, channel, since_us, until_us)
    return apply(session, whole, channel, of, newest_recipe(whole, channel))


#: What another channel reported at the times of a record; None where it is not logged.
Beside = Callable[[str], Values | None]


def apply(
    session: Session, whole: Whole, channel: Channel, of: Record, recipe: Recipe | None, beside: Beside | None = None
) -> Reported:
    """A record by a recipe: fouling and drift off, oxygen compensated; what failed or is missing is not reported.

    beside : where the other channels are taken from, their records otherwise
    """
    criteria = channels.criteria(channel.quantity)
    shown = np.where(of.flags >= series.OUT_OF_WATER, np.nan, of.values)
    nothing = np.zeros(shown.shape)
    if criteria is None or recipe is None:
        state = "open" if criteria else "none"
        grade = np.full(shown.shape, -1, dtype=np.int8)
        return Reported(of, shown, nothing, nothing, nothing, grade, np.full(shown.shape, np.nan), state)
    done = correct(
        shown, of.times_s, recipe.intervals, criteria, load_deployments().quantities[channel.quantity].uncertainty()
    )
    values, compensation = done.values, nothing
    if recipe.salinity or recipe.pressure:
        values = compensate(whole, done.values, recipe, beside or _records_beside(session, whole, of))
        compensation = np.where(np.isfinite(values), values - done.values, 0.0)
    return Reported(of, values, done.fouling, done.drift, compensation, _grade(done, values), done.u, "corrected")


def _grade(done: Corrected, values: Values) -> NDArray[np.int8]:
    return np.where(np.isfinite(values), done.grade, -1).astype(np.int8)


def _records_beside(session: Session, whole: Whole, of: Record) -> Beside:
    """The other channels as they are reported, at the times of this record."""
    d = whole.deployment
    span = (int(of.times_us[0]), int(of.times_us[-1])) if of.times_us.size else (0, 0)

    def beside(quantity: str) -> Values | None:
        channel = next((c for c in d.channels if c.quantity == quantity), None)
        if channel is None:
            return None
        other = reported(session, whole, channel, *span)
        return at_times(of.times_us, other.record.times_us, other.values, 1.5e6 * d.interval_s)

    return beside


def compensate(whole: Whole, oxygen: Values, recipe: Recipe, beside: Beside) -> Values:
    """Oxygen with the temperature, salinity and pressure that were logged at the same time; NaN where one is missing."""
    d = whole.deployment
    temperature = beside("temperature")
    if temperature is None:
        return np.full(oxygen.shape, np.nan)
    salinity = _salinity(beside, temperature) if recipe.salinity else None
    return compensated_mg_l(
        oxygen,
        temperature,
        salinity=salinity,
        preset_salinity=float(d.oxygen_set.get("salinity", 0.0)),
        pressure_hpa=beside("air_pressure") if recipe.pressure else None,
        preset_pressure_hpa=float(d.oxygen_set.get("pressure_hpa", 1013.25)),
    )


def _salinity(beside: Beside, temperature: Values) -> Values | None:
    """As logged, else from the conductivity logged, which is kept at 25 °C and is brought back to the water's own."""
    logged = beside("salinity")
    if logged is not None:
        return logged
    at_25 = beside("conductivity")
    if at_25 is None:
        return None
    here = at_25 * (1 + TEMPERATURE_COEFFICIENT_PERCENT / 100 * (temperature - REFERENCE_C))
    out = np.full(here.shape, np.nan)
    # Salinity 42, where the scale ends, conducts some 50 mS/cm at 15 °C.
    can = (temperature >= 0) & (temperature <= 35) & (here > 0) & (here < 49_000 * (1 + 0.019 * (temperature - 15)))
    if can.any():
        out[can] = np.clip(np.asarray(practical_salinity(here[can], temperature[can])), 0, 42)
    return out


def at_times(wanted_us: Times, times_us: Times, values: Values, apart_us: float) -> Values:
    """Values of another channel at wanted times, linear between neighbours that lie no gap apart."""
    good = np.isfinite(values)
    t, v = times_us[good], values[good]
    if not t.size:
        return np.full(wanted_us.shape, np.nan)
    found = np.interp(wanted_us, t, v, left=np.nan, right=np.nan)
    after = np.clip(np.searchsorted(t, wanted_us), 0, t.size - 1)
    before = np.clip(after - 1, 0, t.size - 1)
    near = np.minimum(np.abs(t[after] - wanted_us), np.abs(t[before] - wanted_us))
    return np.where(near <= apart_us, found, np.nan)


def can_compensate(whole: Whole) -> dict[str, str]:
    """What oxygen may be brought to, by what is logged beside it, in words."""
    logged = {c.quantity for c in whole.deployment.channels}
    found = dict[str, str]()
    if "temperature" in logged and logged & {"salinity", "conductivity"}:
        by = "salinity" if "salinity" in logged else "conductivity"
        set_to = whole.deployment.oxygen_set.get("salinity", 0.0)
        found["salinity"] = f"The logger worked with a salinity of {set_to:g}; bring it to the {by} it logged"
    if "temperature" in logged and "air_pressure" in logged:
        set_to = whole.deployment.oxygen_set.get("pressure_hpa", 1013.25)
        found["pressure"] = f"The logger worked with {set_to:g} hPa; bring it to the air pressure it logged"
    return found


def backing(session: Session, whole: Whole, channel: Channel) -> Calibration | None:
    """The calibration in force when the logger was set out; None where there was none."""
    started = whole.steps.get("started")
    if channel.probe is None or started is None:
        return None
    if "backing" not in whole.held:
        probes = [c.probe.id for c in whole.deployment.channels if c.probe]
        whole.held["backing"] = kit.last_usables(session, probes, started.at)
    found: Calibration | None = whole.held["backing"].get(channel.probe.id)
    return found if found is not None and found.valid_until >= started.at else None


def summary(of: Reported) -> dict[str, Any]:
    """How much of a record is reported, in which grade, and how much was taken off at most."""
    there = np.isfinite(of.values)
    shares = {name: int((of.grade[there] == i).sum()) for i, name in enumerate(GRADES_SHOWN)}
    size = np.abs(of.fouling) + np.abs(of.drift)
    return {
        "recorded": int(of.values.size),
        "reported": int(there.sum()),
        "grades": {name: n for name, n in shares.items() if n},
        "most_off": float(size[there].max()) if there.any() else 0.0,
    }
