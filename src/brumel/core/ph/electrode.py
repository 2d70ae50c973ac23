"""The electrode as a line: E = E0 - s k(T) (pH - pHiso), with k(T) = ln(10) R T / F [Buck2002, eq. 4]."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from brumel.core.checking import Door, Floats, plain
from brumel.core.constants.defined import NERNST_MV_PER_K, ZERO_CELSIUS_K
from brumel.core.errors import CannotFit, WrongShape
from brumel.core.sentence import Amount, say

FitKind = Literal["segments", "line"]
MIN_BUFFER_GAP_PH = 1.0  # two buffers closer than this refuse to make a slope: common practice, no source
T_LOW, T_HIGH = -5.0, 105.0
MV_LIMIT = 2000.0


def nernst_slope_mv(temperature_c: Floats) -> Floats:
    """Ideal slope k(T) = ln(10) R T / F, 59.16 at 25 °C.

    Parameters
    ----------
    temperature_c : scalar or array, -5 to 105 [°C]

    Returns mV per pH, same shape. Source: CODATA (exact R and F).
    """
    door = Door()
    t = door.floats("temperature_c", temperature_c, T_LOW, T_HIGH)
    door.close()
    return plain(NERNST_MV_PER_K * (t + ZERO_CELSIUS_K))


@dataclass(frozen=True)
class BufferPoint:
    """One accepted point: signal [mV], the cup's own temperature [°C], and the buffer's pH at it."""

    millivolts: float
    temperature_c: float
    ph: float
    key: str = ""


@dataclass(frozen=True)
class Segment:
    """The line between two neighbouring buffers: E0 [mV at the isopotential pH] and slope efficiency."""

    low_ph: float
    high_ph: float
    offset_mv: float
    slope: float

    @property
    def slope_percent(self) -> float:
        return self.slope * 100

    @property
    def side(self) -> str:
        return "acid" if (self.low_ph + self.high_ph) / 2 < 7 else "alkaline"


@dataclass(frozen=True)
class Carried:
    """A slope carried over into a one-point calibration, and where it comes from."""

    slope: float
    origin: str


@dataclass(frozen=True)
class PhFit:
    """What a fit found. `segments` are in order of pH; residuals belong to `points` [mV]."""

    points: tuple[BufferPoint, ...]
    segments: tuple[Segment, ...]
    residuals_mv: tuple[float, ...]
    slope: float
    offset_mv: float
    kind: str
    isopotential_ph: float = 7.0
    carried: Carried | None = None

    @property
    def slope_percent(self) -> float:
        """Response factor: the slope as a percentage of the ideal one."""
        return self.slope * 100

    @property
    def slope_mv_per_ph(self) -> float:
        """The slope as people speak of it, at 25 °C [mV/pH]."""
        return -self.slope * float(nernst_slope_mv(25.0))

    def _breaks(self) -> list[float]:
        """Signals at which one segment hands over to the next, descending with pH [mV]."""
        inner = sorted(self.points, key=lambda p: p.ph)[1:-1] if len(self.segments) > 1 else []
        return [p.millivolts for p in inner]

    def ph(self, millivolts: Floats, temperature_c: Floats) -> Floats:
        """pH of a sample from its signal, at the sample's own temperature; arrays broadcast [mV, °C].

        Beyond the outer buffers the end segment is extended. Raises NotANumber, OutOfRange, WrongShape.
        """
        e, t = self._enter(millivolts, temperature_c)
        if not e.ndim and not t.ndim:  # one reading needs no arrays, and an uncertainty asks for a dozen
            signal, kelvin = float(e), float(t) + ZERO_CELSIUS_K
            one = self.segments[sum(signal < at for at in self._breaks())]
            return self.isopotential_ph + (one.offset_mv - signal) / (one.slope * NERNST_MV_PER_K * kelvin)
        breaks = -np.array(self._breaks())
        chosen = np.searchsorted(breaks, -e, side="left") if len(self.segments) > 1 else np.zeros(e.shape, int)
        e0 = np.array([s.offset_mv for s in self.segments])[chosen]
        slope = np.array([s.slope for s in self.segments])[chosen]
        return plain(self.isopotential_ph + (e0 - e) / (slope * NERNST_MV_PER_K * (t + ZERO_CELSIUS_K)))

    def millivolts(self, ph: Floats, temperature_c: Floats) -> Floats:
        """The signal the calibrated electrode would give at a pH and temperature [pH, °C] -> [mV]."""
        door = Door()
        p = door.floats("ph", ph, -2, 16)
        t = door.floats("temperature_c", temperature_c, T_LOW, T_HIGH)
        door.same_length(ph=p, temperature_c=t)
        door.close()
        x = NERNST_MV_PER_K * (t + ZERO_CELSIUS_K) * (p - self.isopotential_ph)
        lines = np.array([s.offset_mv - s.slope * x for s in self.segments])
        if len(self.segments) == 1:
            return plain(lines[0])
        # Neighbouring lines meet at the shared point's x; there the choice changes.
        inner = sorted(self.points, key=lambda q: q.ph)[1:-1]
        at = np.array(
            [NERNST_MV_PER_K * (q.temperature_c + ZERO_CELSIUS_K) * (q.ph - self.isopotential_ph) for q in inner]
        )
        chosen = np.searchsorted(at, x, side="left")
        return plain(np.take_along_axis(lines, np.expand_dims(chosen, 0), axis=0)[0])

    @staticmethod
    def _enter(millivolts: Floats, temperature_c: Floats) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        door = Door()
        e = door.floats("millivolts", millivolts, -MV_LIMIT, MV_LIMIT)
        t = door.floats("temperature_c", temperature_c, T_LOW, T_HIGH)
        door.same_length(millivolts=e, temperature_c=t)
        door.close()
        return e, t

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return asdict(self)

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> PhFit:
        """The inverse of `as_dict`."""
        return cls(
            points=tuple(BufferPoint(**p) for p in data["points"]),
            segments=tuple(Segment(**s) for s in data["segments"]),
            residuals_mv=tuple(data["residuals_mv"]),
            slope=data["slope"],
            offset_mv=data["offset_mv"],
            kind=data["kind"],
            isopotential_ph=data["isopotential_ph"],
            carried=Carried(**data["carried"]) if data["carried"] else None,
        )


def fit(
    points: Sequence[BufferPoint] | Sequence[tuple[float, float, float]],
    *,
    kind: FitKind = "segments",
    carried: Carried | None = None,
    isopotential_ph: float = 7.0,
) -> PhFit:
    """Fit 1 to 5 buffer points.

    Parameters
    ----------
    points : BufferPoint, or (millivolts, temperature_c, ph) [mV, °C, pH]; any order
    kind : "segments" between neighbours, or one least-squares "line"; the same for two points
    carried : the slope a one-point calibration keeps; the ideal slope where None
    isopotential_ph : where temperature does not change the signal [pH]

    Returns Calibration. Raises all faults of the points at once; CannotFit where buffers stand closer than
    1 pH (neighbours for segments, the outermost for one line), where all points have the same signal, or where
    the slope comes out zero or reversed.
    Source: Buck2002, section 5 (bracketing and multi-point procedures).
    """
    entered = [p if isinstance(p, BufferPoint) else BufferPoint(*p) for p in points]
    door = Door()
    if not 1 <= len(entered) <= 5:
        door.add(WrongShape("points", f"A pH calibration takes 1 to 5 points; there are {len(entered)}."))
    for p in entered:
        door.number("millivolts", p.millivolts, -MV_LIMIT, MV_LIMIT)
        door.number("temperature_c", p.temperature_c, T_LOW, T_HIGH)
        door.number("ph", p.ph, 0, 14)
    door.number("isopotential_ph", isopotential_ph, 0, 14)
    door.name("kind", kind, ("segments", "line"))
    door.close()

    ordered = sorted(entered, key=lambda p: p.ph)
    # One line rests on all its points, so only its ends must be apart; a segment rests on two neighbours.
    pairs = (
        zip(ordered, ordered[1:], strict=False)
        if kind == "segments"
        else [(ordered[0], ordered[-1])][: len(ordered) - 1]
    )
    for a, b in pairs:
        if b.ph - a.ph < MIN_BUFFER_GAP_PH:
            raise CannotFit(
                "points",
                say(
                    "The buffers pH {ph} and pH {other} are closer than {least} and cannot make a slope. Was "
                    "one cup used twice?",
                    ph=Amount(a.ph, "", ".2f"),
                    other=Amount(b.ph, "", ".2f"),
                    least=Amount(MIN_BUFFER_GAP_PH, "pH"),
                ),
            )
    x = [NERNST_MV_PER_K * (p.temperature_c + ZERO_CELSIUS_K) * (p.ph - isopotential_ph) for p in ordered]
    e = [float(p.millivolts) for p in ordered]

    if len(ordered) == 1:
        slope = carried.slope if carried else 1.0
        if not 0.1 <= slope <= 2:
            raise CannotFit(
                "slope_percent", say("The carried slope {slope} is not a slope.", slope=Amount(slope * 100, "%", ".0f"))
            )
        whole = Segment(ordered[0].ph, ordered[0].ph, e[0] + slope * x[0], slope)
        carried = carried or Carried(1.0, "ideal slope, no earlier full calibration")
        return PhFit(tuple(entered), (whole,), (0.0,), slope, whole.offset_mv, "offset", isopotential_ph, carried)

    line = _line(x, e, ordered)
    segments: tuple[Segment, ...] = (line,)
    if kind == "segments" and len(ordered) > 2:
        segments = tuple(_line(x[i : i + 2], e[i : i + 2], ordered[i : i + 2]) for i in range(len(ordered) - 1))
    at = {id(p): ei - (line.offset_mv - line.slope * xi) for p, xi, ei in zip(ordered, x, e, strict=True)}
    centre = bisect_left([p.ph for p in ordered[1:-1]], isopotential_ph) if len(segments) > 1 else 0
    return PhFit(
        points=tuple(entered),
        segments=segments,
        residuals_mv=tuple(at[id(p)] for p in entered),
        slope=line.slope,
        offset_mv=segments[centre].offset_mv,
        kind=kind if len(ordered) > 2 else "two points",
        isopotential_ph=isopotential_ph,
    )


def _line(x: Sequence[float], e: Sequence[float], points: Sequence[BufferPoint]) -> Segment:
    """Least squares of E on x = k(T)(pH - pHiso), centred so that two points are met to rounding."""
    mean_x, mean_e = sum(x) / len(x), sum(e) / len(e)
    dx = [xi - mean_x for xi in x]
    slope = -sum(di * (ei - mean_e) for di, ei in zip(dx, e, strict=True)) / sum(di * di for di in dx)
    low, high = points[0].ph, points[-1].ph
    if slope <= 0.02:
        what = "hardly changes" if abs(slope) <= 0.02 else "rises instead of falling"
        raise CannotFit(
            "points",
            say(
                "Between pH {low} and pH {high} the signal {what} (slope {slope}). Look for swapped cups, a "
                "broken bulb or a shorted lead.",
                low=Amount(low, "", ".2f"),
                high=Amount(high, "", ".2f"),
                what=what,
                slope=Amount(slope * 100, "%", ".0f"),
            ),
            value=slope * 100,
            unit="%",
        )
    return Segment(low, high, mean_e + slope * mean_x, slope)


def ideal_millivolts(ph: Floats, temperature_c: Floats) -> Floats:
    """The signal of a perfect electrode (slope 100 %, offset 0) [pH, °C] -> [mV]."""
    perfect = PhFit((), (Segment(0, 14, 0.0, 1.0),), (), 1.0, 0.0, "ideal")
    return perfect.millivolts(ph, temperature_c)


def pseudo_millivolts(displayed_ph: float, temperature_c: float) -> float:
    """mV that stand for a displayed pH where the meter shows no mV: the ideal line at that temperature.

    A calibration made this way describes the meter together with its own stored calibration.
    """
    door = Door()
    door.number("displayed_ph", displayed_ph, -2, 16)
    door.number("temperature_c", temperature_c, T_LOW, T_HIGH)
    door.close()
    return float(ideal_millivolts(displayed_ph, temperature_c))
