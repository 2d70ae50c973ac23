"""Waits and prerequisites as a graph: when is all ready, which chain decides, what cannot make it."""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from brumel.core.checking import Door
from brumel.core.errors import InputError, UnknownName


@dataclass(frozen=True)
class Task:
    """A step of the day. Minutes it takes; `hands` when the technician is tied to it; what must be done before it.

    not_before_min : it cannot start earlier, counted from now; done_min : minutes of it that have already run.
    """

    key: str
    minutes: float
    hands: bool = False
    after: tuple[str, ...] = ()
    not_before_min: float = 0.0
    done_min: float = 0.0


@dataclass(frozen=True)
class Slot:
    """When a task starts and ends, in minutes from now, and which task it waited for."""

    key: str
    start_min: float
    end_min: float
    waited_for: str | None


@dataclass(frozen=True)
class Plan:
    """The order of the day: slots by start, ready time, deciding chain, and what ends after `leave_min`."""

    slots: tuple[Slot, ...]
    ready_min: float
    chain: tuple[str, ...]
    late: tuple[str, ...]

    def slot(self, key: str) -> Slot:
        return next(s for s in self.slots if s.key == key)


def plan(tasks: Sequence[Task], *, leave_min: float | None = None) -> Plan:
    """Order the tasks so that all is ready as early as one pair of hands allows.

    Waits overlap freely; tasks with `hands` go one at a time, the one with the longest chain behind it first. Raises all
    faults at once: doubled or unknown keys, bad durations, and circles, named. [min]
    """
    order = _checked(tasks, leave_min)
    by_key = {t.key: t for t in order}
    followers: dict[str, list[str]] = {t.key: [] for t in order}
    for task in order:
        for need in set(task.after):
            followers[need].append(task.key)
    tail: dict[str, float] = {}
    for task in reversed(order):
        tail[task.key] = _left(task) + max((tail[k] for k in followers[task.key]), default=0.0)

    ended: dict[str, float] = {}
    slots: dict[str, Slot] = {}
    hands_free, hands_by = 0.0, None
    # Two queues of tasks whose needs are known to end: waits start by themselves, the others share one pair of hands.
    waits: list[str] = []
    hands: list[tuple[float, str]] = []
    open_needs = {t.key: len(set(t.after)) for t in order}

    def enter(task: Task) -> None:
        if task.hands:
            heapq.heappush(hands, (_ready(task, ended), task.key))
        else:
            waits.append(task.key)

    for task in order:
        if not task.after:
            enter(task)
    while waits or hands:
        task = by_key[waits.pop() if waits else _next(hands, hands_free, tail)]
        before = max(task.after, key=lambda a: ended[a], default=None)
        ready = _ready(task, ended)
        start, waited = ready, before if before and ended[before] >= task.not_before_min else None
        if task.hands and hands_free > ready:
            start, waited = hands_free, hands_by
        end = start + _left(task)
        if task.hands:
            hands_free, hands_by = end, task.key
        ended[task.key] = end
        slots[task.key] = Slot(task.key, start, end, waited)
        for key in followers[task.key]:
            open_needs[key] -= 1
            if not open_needs[key]:
                enter(by_key[key])
    ready_min = max(ended.values(), default=0.0)
    chain: list[str] = []
    at: str | None = max(slots, key=lambda k: (slots[k].end_min, slots[k].start_min), default=None)
    while at is not None:
        chain.append(at)
        at = slots[at].waited_for
    late = tuple(s.key for s in slots.values() if leave_min is not None and s.end_min > leave_min + 1e-9)
    ordered = tuple(sorted(slots.values(), key=lambda s: (s.start_min, s.end_min)))
    return Plan(ordered, ready_min, tuple(reversed(chain)), late)


def _left(task: Task) -> float:
    return max(task.minutes - task.done_min, 0.0)


def _ready(task: Task, ended: Mapping[str, float]) -> float:
    return max([task.not_before_min, *(ended[a] for a in task.after)])


def _next(queue: list[tuple[float, str]], hands_free: float, tail: Mapping[str, float]) -> str:
    """Of the tasks for the hands that could start first, the one with the longest tail, taken off the queue."""
    soonest = max(queue[0][0], hands_free) + 1e-9
    best = max(
        (i for i, (ready, _) in enumerate(queue) if ready <= soonest), key=lambda i: (tail[queue[i][1]], -queue[i][0])
    )
    _, key = queue.pop(best)
    heapq.heapify(queue)
    return key


def _checked(tasks: Sequence[Task], leave_min: float | None) -> list[Task]:
    """The tasks in an order in which each comes after what it needs."""
    door = Door()
    known = Counter(t.key for t in tasks)
    for key in (k for k, times in known.items() if times > 1):
        door.add(InputError("task", f"Task “{key}” is named twice."))
    for task in tasks:
        door.number("minutes", task.minutes, 0, 60 * 24 * 60)
        door.number("not_before_min", task.not_before_min, 0, 60 * 24 * 60)
        door.number("done_min", task.done_min, 0, 60 * 24 * 60)
        for need in task.after:
            if need not in known:
                door.add(UnknownName("task", need, list(known)))
    if leave_min is not None:
        door.number("leave_min", leave_min, 0, 60 * 24 * 60)
    door.close()
    done: list[Task] = []
    placed: set[str] = set()
    left = list(tasks)
    while left:
        rest = []
        for task in left:  # a task placed in this pass frees those named after it in the same pass
            if all(a in placed for a in task.after):
                done.append(task)
                placed.add(task.key)
            else:
                rest.append(task)
        if len(rest) == len(left):
            circle = ", ".join(t.key for t in left[:5])
            raise InputError("task", f"These tasks wait for one another in a circle: {circle}.")
        left = rest
    return done
