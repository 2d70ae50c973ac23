"""Suspicions any probe may raise while it stands in a cup: each says what was seen, against what, and what to do."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from brumel.core.sentence import Amount, Span, say
from brumel.core.settling import State


@dataclass(frozen=True)
class Suspicion:
    """Something that does not fit: a code, a sentence and what to do about it.

    vessel : the cup of the tray the probe seems to stand in, by its name
    """

    code: str
    sentence: str
    remedy: str
    vessel: str = ""


@dataclass(frozen=True)
class Vessel:
    """A cup of the tray: name as on its label, and what should be read in it."""

    name: str
    value: float


@dataclass(frozen=True)
class Scale:
    """How far apart two values of a quantity are: as a difference, or as a ratio (natural logarithm).

    near, margin : another cup explains the reading when it is within `near` and nearer by `margin`
    far : beyond this the reading belongs to no cup. Chosen, common practice, no source.
    """

    unit: str
    digits: int
    ratio: bool
    near: float
    margin: float
    far: float

    def apart(self, a: float, b: float) -> float:
        """The distance of two values on this scale."""
        if not self.ratio:
            return abs(a - b)
        return abs(math.log(max(a, 1e-9) / max(b, 1e-9)))

    def text(self, value: float) -> str:
        """The value with its unit, as it is spoken."""
        shown = f"{value:.4g}" if self.ratio else f"{value:.{self.digits}f}"
        return f"{shown} {self.unit}".strip().replace("-", "−")


def wrong_vessel(seen: float, here: Vessel, tray: Sequence[Vessel], scale: Scale, against: str) -> Suspicion | None:
    """Speaks when another cup explains the reading better than the intended one, or when none does."""
    off = scale.apart(seen, here.value)
    others = [v for v in tray if scale.apart(v.value, here.value) > scale.margin]
    best = min(others, key=lambda v: scale.apart(seen, v.value), default=None)
    reads = f"This reads {scale.text(seen)} by {against}"
    if best and scale.apart(seen, best.value) < scale.near and off - scale.apart(seen, best.value) > scale.margin:
        return Suspicion(
            "wrong_cup",
            f"{reads}: nearer to {best.name} ({scale.text(best.value)}) than to {here.name} ({scale.text(here.value)}).",
            f"Check the cup. If it holds {best.name}, rinse, blot and dip in {here.name}.",
            best.name,
        )
    if off > scale.far:
        return Suspicion(
            "no_cup",
            f"{reads}; {here.name} should read {scale.text(here.value)}, and no other cup explains it.",
            "Look for a probe that is dry, not covered or not plugged in, or for a solution that is not on the tray.",
        )
    return None


def same_signal(
    signal: float, expected: float, earlier: Sequence[tuple[str, float, float]], scale: Scale, *, share: float = 0.03
) -> Suspicion | None:
    """Speaks when the signal repeats an earlier point although the two should differ. `earlier`: (name, signal, expected)."""
    for name, before, value in earlier:
        same = abs(signal - before) <= share * max(abs(before), 1e-6)
        if same and scale.apart(expected, value) > 2 * scale.margin:
            return Suspicion(
                "same_cup",
                f"The signal is almost what {name} gave, but these two should read {scale.text(expected)} and "
                f"{scale.text(value)}.",
                "The same cup was probably dipped twice.",
            )
    return None


def carried_over(
    seen: float, here: Vessel, earlier: Sequence[tuple[str, float, float]], *, least: float = 0.03, most: float = 0.25
) -> Suspicion | None:
    """Speaks when a weak solution reads a little high right after a strong one that read right.

    `earlier` holds (name, read, expected), the cup just before last. Limits: common practice, no source.
    """
    if not earlier or here.value <= 0:
        return None
    name, read, value = earlier[-1]
    high = seen / here.value - 1
    if value > 3 * here.value and abs(read / value - 1) < least and least < high < most:
        return Suspicion(
            "carry_over",
            say(
                "{name} reads {high} high right after the stronger {stronger}: some of that came along.",
                name=here.name,
                high=Amount(100 * high, "%", ".0f"),
                stronger=name,
            ),
            "Rinse twice with pure water and once with this solution, pour a fresh cup, dip again; weak before strong.",
        )
    return None


def restless(state: State, what: str = "bulb") -> Suspicion | None:
    """Speaks while the signal jumps or is too noisy to settle; `what` is where a bubble would sit."""
    if state is State.STEPPING:
        return Suspicion(
            "bubble", "The signal jumped.", f"Look for a bubble at the {what}, a bumped probe or a swapped cup."
        )
    if state is State.NOISY:
        return Suspicion(
            "noisy",
            "The signal is too noisy to settle.",
            f"Look for a bubble at the {what}, a drying or fouled tip, a wet plug or a loose lead.",
        )
    return None


def temperature_spread(temperatures_c: Sequence[float], limit_c: float) -> Suspicion | None:
    """Speaks when the cups of a run differ by more than `limit_c` [°C]."""
    if len(temperatures_c) < 2:
        return None
    spread = max(temperatures_c) - min(temperatures_c)
    if spread <= limit_c:
        return None
    return Suspicion(
        "cup_temperature",
        say(
            "The cups differ by {spread} ({span}); the method allows {limit}.",
            spread=Amount(spread, "°C", ".1f", difference=True),
            span=Span(min(temperatures_c), max(temperatures_c), "°C", ".1f"),
            limit=Amount(limit_c, "°C", difference=True),
        ),
        "Let the cups come to one temperature, then repeat the point that is off.",
    )


def wet_tip(seen_mg_l: float, expected_mg_l: float, against: str, *, least: float = 0.06) -> Suspicion | None:
    """Speaks when an oxygen probe reads low in saturated air by its last good calibration: a drop on the membrane."""
    low = 1 - seen_mg_l / expected_mg_l
    if not least < low < 0.4:
        return None
    return Suspicion(
        "wet_tip",
        say(
            "In saturated air it reads {seen} by {against}, {low} under the {expected} that should be there.",
            seen=Amount(seen_mg_l, "mg/L", ".2f"),
            against=against,
            low=Amount(100 * low, "%", ".0f"),
            expected=Amount(expected_mg_l, "mg/L", ".2f"),
        ),
        "Blot the tip dry, open air and not breathed on; look for a drop or a fold on the membrane.",
    )


def still_water(times_s: NDArray[np.float64], signal: NDArray[np.float64], *, least: float = 3.0) -> Suspicion | None:
    """Speaks when an oxygen signal sags after its peak, as it does where the water stands still at the membrane [s, %]."""
    drop = sag_percent(times_s, signal)
    if drop < least:
        return None
    return Suspicion(
        "still_water",
        say(
            "The reading has sunk {drop} since its peak: the probe uses up the oxygen of still water.",
            drop=Amount(drop, "%", ".0f"),
        ),
        "Move the probe or stir, about 30 cm/s; an optical probe does not need it.",
    )


def sag_percent(times_s: NDArray[np.float64], signal: NDArray[np.float64]) -> float:
    """How far the smoothed signal lies under its peak, once it had been up [s, %] -> [%]; 0 where it still rises."""
    if len(times_s) < 12 or times_s[-1] - times_s[0] < 15:
        return 0.0
    smooth = np.convolve(signal, np.ones(5) / 5, mode="valid")
    peak = int(np.argmax(smooth))
    if smooth[peak] < 5 or peak > len(smooth) - 6:
        return 0.0
    return float(100 * (1 - smooth[-1] / smooth[peak]))


def still_warming(drift_c_min: float | None, limit_c_min: float = 1.0) -> Suspicion | None:
    """Speaks while the cup's temperature moves on: a standard's value follows it [°C/min]."""
    if drift_c_min is None or abs(drift_c_min) <= limit_c_min:
        return None
    way = "rising" if drift_c_min > 0 else "falling"
    return Suspicion(
        "warming",
        say(
            "The cup's temperature is still {way} by {drift} a minute.",
            way=way,
            drift=Amount(abs(drift_c_min), "°C", ".1f", difference=True),
        ),
        "Wait until probe and cup are at one temperature, hands off the cup.",
    )


def air_water_apart(air_c: float, water_c: float, limit_c: float) -> Suspicion | None:
    """Speaks when the oxygen point is taken in air far from the water's temperature [°C]."""
    apart = abs(air_c - water_c)
    if apart <= limit_c:
        return None
    return Suspicion(
        "air_water",
        say(
            "Air {air} and water {water} are {apart} apart; the method allows {limit}.",
            air=Amount(air_c, "°C", ".1f"),
            water=Amount(water_c, "°C", ".1f"),
            apart=Amount(apart, "°C", ".1f", difference=True),
            limit=Amount(limit_c, "°C", difference=True),
        ),
        "Let the probe in its moist cap come to the water's temperature, then take the point.",
    )


def unstable_link(times_s: NDArray[np.float64], now_s: float | None, every_s: float = 0.5) -> Suspicion | None:
    """Speaks when live samples stop coming (`now_s` given), or come with gaps [s]."""
    if len(times_s) < 4:
        return None
    silent = 0.0 if now_s is None else now_s - float(times_s[-1])
    if silent > max(5.0, 8 * every_s):
        return Suspicion(
            "link",
            say("Nothing has come from the meter for {silent}.", silent=Amount(silent, "s", ".0f")),
            "Look at cable, battery and the link program; what was read is kept, and late samples are put in their place.",
        )
    gaps = np.diff(times_s[-120:])
    lost = float(gaps[gaps > 4 * every_s].sum())
    if lost > 0.2 * float(times_s[-1] - times_s[max(0, len(times_s) - 120)]):
        return Suspicion(
            "link",
            say("The link has gaps: {lost} are missing from the last stretch.", lost=Amount(lost, "s", ".0f")),
            "Look at the plug and the cable; dip afresh when it is steady.",
        )
    return None


def out_of_bracket(highest: float, usual: float, unit: str) -> str:
    """A sentence when sites read above the strongest standard of a run, empty otherwise."""
    if usual <= highest * 1.02:
        return ""
    return say(
        "Your sites read up to {usual}, above the strongest standard of this run ({highest}): readings "
        "up there are not bracketed.",
        usual=Amount(usual, unit, ".6g"),
        highest=Amount(highest, unit, ".6g"),
    )
