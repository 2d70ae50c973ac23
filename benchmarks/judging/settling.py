"""Traces of known truth, judged as they grow: how often "settled" hides more than the limit, and how long it takes.

The error model, common practice where no source is named: a probe approaches its end in one exponential of 2 to 120 s, or
in one with a slow second term of 3 to 15 % that is 3 to 8 times slower (at most 120 s); white noise up to some tenths of the
limit; a display that rounds; samples every 0.2 to 10 s, one in forty late or doubled. The observer of the delay knows the
time constants and sees the same displayed values.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from brumel.core.remaining import UNSURE, Remaining, known, remaining
from brumel.core.settling import FieldCriteria, SettlingCriteria, State, judge, judge_by_readings, jumps
from brumel.core.typed import judge_typed
from brumel.methods.field import load_field
from brumel.methods.settling import load_settling


@dataclass(frozen=True)
class Kind:
    """What a quantity's signal does: where it ends, how far it comes from, and the displays it may be rounded to."""

    end: tuple[float, float]
    span: tuple[float, float]
    displays: tuple[float, ...]
    noisiest: float


#: By quantity, in the unit of its settling criteria.
BENCH = {
    "ph": Kind((-180, 180), (20, 180), (0, 0, 0.1, 0.59, 1.0), 0.25),
    "conductivity": Kind((80, 13000), (0.2, 0.9), (0, 0, 0.001, 0.005), 0.002),
    "oxygen": Kind((80, 110), (20, 100), (0, 0, 0.1, 0.5, 1.0), 0.2),
    "redox": Kind((200, 480), (20, 250), (0, 0, 1.0), 0.6),
    "ions": Kind((-60, 200), (10, 60), (0, 0, 0.1, 1.0), 0.15),
    "temperature": Kind((2, 30), (2, 15), (0, 0, 0.01, 0.1), 0.03),
}
#: By quantity, in the unit it is reported in at a site.
SITE = {
    "ph": Kind((6.5, 9), (0.3, 3), (0, 0.01, 0.1), 0.01),
    "conductivity": Kind((60, 45000), (0.2, 0.9), (0, 0.001, 0.01), 0.003),
    "oxygen": Kind((2, 12), (1, 9), (0, 0.01, 0.1), 0.03),
    "temperature": Kind((2, 30), (2, 15), (0, 0.1), 0.03),
}


@dataclass(frozen=True)
class Made:
    """A trace with its truth: what is still to come at each time, by the two time constants."""

    t: np.ndarray[Any, Any]
    y: np.ndarray[Any, Any]
    left: np.ndarray[Any, Any]
    tau_s: float
    slow_s: float
    interval_s: float
    display: float


def make(seed: int, kind: Kind, *, relative: bool, longest_s: float, slow: bool, until: float = 1.0) -> Made:
    """A trace of some quantity; the same for the same seed."""
    random = np.random.default_rng(seed)
    interval = float(np.exp(random.uniform(math.log(0.2), math.log(10))))
    t = np.arange(0, longest_s * until, interval)
    late = random.random(t.size) < 0.025
    t = t + late * random.uniform(0, 0.8, t.size) * interval
    end = float(np.exp(random.uniform(*np.log(kind.end)))) if relative else float(random.uniform(*kind.end))
    size = abs(end) if relative else 1.0
    span = float(random.uniform(*kind.span)) * size * float(random.choice([-1, 1]))
    tau = float(np.exp(random.uniform(math.log(2), math.log(40 if slow else 120))))
    left = -span * np.exp(-t / tau)
    slow_s = math.inf
    if slow:
        slow_s = min(tau * float(random.uniform(3, 8)), 120.0)
        left = left - span * float(random.uniform(0.03, 0.15)) * np.exp(-t / slow_s)
    noise = kind.noisiest * size * float(np.exp(random.uniform(math.log(0.1), 0)))
    display = float(random.choice(kind.displays)) * size
    if relative and display:
        display = 10.0 ** round(math.log10(display))
    y = end - left + random.normal(0, noise, t.size)
    if display:
        y = np.round(y / display) * display
    twice = np.flatnonzero(random.random(t.size) < 0.01)
    t, y, left = (np.insert(column, twice, column[twice]) for column in (t, y, left))
    return Made(t, y, left, tau, slow_s, interval, display)


def _moments(made: Made, first_s: float) -> Iterable[int]:
    """The samples at which somebody looks: every second or two, and less often as the wait grows."""
    at = first_s
    while at <= made.t[-1]:
        yield int(np.searchsorted(made.t, at, side="right")) - 1
        at += max(made.interval_s, 1.5, 0.02 * at)


@dataclass(frozen=True)
class Wait:
    """What was said of the wait while it lasted: how long it really was, what was told, and the most it would be [s]."""

    really_s: float
    told_s: float | None
    most_s: float | None


@dataclass(frozen=True)
class Found:
    """What came of one trace: when it was called settled, what was then to come in limits, the observer's time, and more."""

    at_s: float | None
    left: float
    observer_s: float | None
    allowed_s: float
    jumped: bool
    waits: tuple[Wait, ...]
    longest_s: float


def _limit(criteria: SettlingCriteria | FieldCriteria, end: float) -> float:
    limit = criteria.limit if isinstance(criteria, SettlingCriteria) else criteria.limit_at(end)
    return limit * (abs(end) / 100 if criteria.relative else 1.0)


def watch(made: Made, criteria: SettlingCriteria | FieldCriteria) -> Found:
    """Judge one trace as it grows, and let the observer do the same."""
    judged = judge if isinstance(criteria, SettlingCriteria) else judge_by_readings
    limit = _limit(criteria, float(made.y[-1]))
    settled_at = None
    said: list[tuple[float, float | None, float | None]] = []
    for i in _moments(made, criteria.shortest_s):
        found = judged(made.t[: i + 1], made.y[: i + 1], criteria)  # type: ignore[operator]
        if found.settled:
            settled_at = i
            break
        if found.state is State.SETTLING:
            said.append((float(made.t[i]), found.seconds_to_go, found.most_to_go))
    observer = _observed(made, limit, criteria.shortest_s)
    at = None if settled_at is None else float(made.t[settled_at])
    waits = tuple(Wait(at - when, told, most) for when, told, most in said if at is not None and at - when >= 10)
    return Found(
        at,
        0.0 if settled_at is None else abs(float(made.left[settled_at])) / limit,
        observer,
        max(15.0, 3 * made.interval_s, made.tau_s / 2, made.slow_s / 2 if math.isfinite(made.slow_s) else 0),
        isinstance(criteria, SettlingCriteria) and jumps(made.t, made.y, criteria) > 0,
        waits,
        float(made.t[-1]),
    )


def _observed(made: Made, limit: float, first_s: float) -> float | None:
    """When an observer who knows the time constants calls the same displayed values settled."""
    cells = known(made.tau_s, made.slow_s)
    t, keep = np.unique(made.t, return_index=True)
    y = made.y[keep]
    for i in _moments(replace(made, t=t, y=y), first_s):
        left: Remaining | None = remaining(t[: i + 1], y[: i + 1], limit, step=made.display, cells=cells)
        if left is not None and left.over <= UNSURE:
            return float(t[i])
    return None


def _rule(where: str, quantity: str) -> tuple[SettlingCriteria | FieldCriteria, Kind]:
    """What a trace is judged by, on bench or at a site, and what its signal does."""
    if where == "bench":
        return load_settling()[quantity].criteria(quantity), BENCH[quantity]
    return load_field()[quantity].criteria(quantity), SITE[quantity]


def one(task: tuple[str, str, bool, int]) -> Found:
    """One trace of a row: where (bench or site), quantity, whether a slow term is there, and the seed."""
    where, quantity, slow, seed = task
    criteria, kind = _rule(where, quantity)
    made = make(seed, kind, relative=criteria.relative, longest_s=criteria.longest_s, slow=slow)
    return watch(made, criteria)


#: What may befall a trace: a drift that never ends, a bubble that hangs on the probe for a while, a link that was silent.
EVENTS = ("drift", "bubble", "silence")


def odd_one(task: tuple[str, str, str, int]) -> tuple[bool, bool]:
    """A trace to which something happens: whether it was called settled where it was not, and whether that was noticed.

    Of a drift of two to five times the limit a minute any "settled" is false, also where it turns an approach round and
    nobody could tell; noticed is what was told to drift. While a bubble shifts the reading by more than the limit "settled"
    is false; noticed is a jump that was told. After a silence of 20 to 60 s "settled" is false as ever.
    """
    where, quantity, event, seed = task
    random = np.random.default_rng(seed + 90_000)
    criteria, kind = _rule(where, quantity)
    made = make(seed, kind, relative=criteria.relative, longest_s=criteria.longest_s, slow=False)
    limit = _limit(criteria, float(made.y[-1]))
    judged = judge if isinstance(criteria, SettlingCriteria) else judge_by_readings
    begins, ends = math.inf, math.inf
    if event == "drift":
        made = replace(
            made, y=made.y + made.t / 60 * limit * float(random.uniform(2, 5)) * float(random.choice([-1, 1]))
        )
    elif event == "bubble":
        begins = criteria.shortest_s + made.tau_s * float(random.uniform(3, 5))
        ends = begins + max(float(random.uniform(8, 25)), 5 * made.interval_s)
        size = limit * float(random.uniform(4, 12)) * float(random.choice([-1, 1]))
        made = replace(made, y=made.y + size * ((made.t >= begins) & (made.t < ends)))
    else:
        silent = float(random.uniform(0.5, 3)) * made.tau_s
        heard = (made.t < silent) | (made.t > silent + float(random.uniform(20, 60)))
        made = replace(made, t=made.t[heard], y=made.y[heard], left=made.left[heard])
    noticed = False
    for i in _moments(made, criteria.shortest_s):
        now = float(made.t[i])
        if event == "bubble" and now >= ends:
            return False, noticed
        found = judged(made.t[: i + 1], made.y[: i + 1], criteria)  # type: ignore[operator]
        noticed |= found.state in (State.STEPPING, State.DRIFTING)
        if found.settled and (event != "bubble" or now >= begins):
            return event != "silence" or abs(float(made.left[i])) > limit, noticed
    return False, noticed


def rows() -> list[tuple[str, str, bool]]:
    """Where, which quantity, and whether a slow second term is there."""
    places = [("bench", q) for q in BENCH] + [("site", q) for q in SITE]
    return [(where, quantity, slow) for slow in (False, True) for where, quantity in places]


@dataclass(frozen=True)
class Row:
    """A row of the table: shares in percent, the median delay in the allowed one.

    forecast : of the waits that were told, those within half; told : of all looks ten seconds or more before the end, those
    with a wait told; kept : of those with a longest wait told, those that did not last longer
    """

    name: str
    settled: int
    false: float
    late: float
    delay: float
    jumped: float
    forecast: float
    told: float
    kept: float


def row_of(name: str, found: list[Found]) -> Row:
    """The figures of one row."""
    settled = [f for f in found if f.at_s is not None]
    seen = [f for f in found if f.observer_s is not None]
    late = [((f.at_s or f.longest_s) - (f.observer_s or 0.0)) / f.allowed_s for f in seen]
    waits = [wait for f in found for wait in f.waits]
    told = [wait.told_s / wait.really_s for wait in waits if wait.told_s is not None]
    kept = [wait.really_s <= wait.most_s for wait in waits if wait.most_s is not None]
    return Row(
        name,
        len(settled),
        100 * sum(f.left > 1 for f in settled) / max(len(settled), 1),
        100 * sum(f.at_s is None for f in seen) / max(len(seen), 1),
        float(np.median(late)) if late else 0.0,
        100 * sum(f.jumped for f in found) / len(found),
        100 * sum(abs(r - 1) <= 0.5 for r in told) / max(len(told), 1),
        100 * len(told) / max(len(waits), 1),
        100 * sum(kept) / max(len(kept), 1),
    )


def typed_one(task: tuple[str, int]) -> tuple[bool, bool]:
    """Values typed from a display one spacing apart, of a probe that is no slower than that: (settled, falsely)."""
    quantity, seed = task
    random = np.random.default_rng(seed)
    spec, kind = load_settling()[quantity], BENCH[quantity]
    made_for = spec.criteria(quantity)
    end = float(np.exp(random.uniform(*np.log(kind.end)))) if spec.relative else float(random.uniform(*kind.end))
    size = abs(end) if spec.relative else 1.0
    display = float(random.choice([d for d in kind.displays if d])) * size
    if spec.relative:
        display = 10.0 ** round(math.log10(display))
    rule = spec.typed_rule(display)
    tau = float(np.exp(random.uniform(math.log(2), math.log(rule.spacing_s))))
    span = float(random.uniform(*kind.span)) * size * float(random.choice([-1, 1]))
    limit = _limit(made_for, end)
    at, times, values = rule.first_s + float(random.uniform(0, 5)), [], []
    while at <= rule.longest_s:
        times.append(at)
        values.append(round((end + span * math.exp(-at / tau) + random.normal(0, display / 10)) / display) * display)
        if judge_typed(times, values, rule).settled:
            return True, abs(span) * math.exp(-at / tau) > limit
        at += rule.spacing_s + float(random.uniform(0, 5))
    return False, False
