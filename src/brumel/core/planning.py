"""Waits and prerequisites as a graph: when is all ready, which chain decides, what cannot make it."""

from __future__ import annotations

import heapq
from collections.abc import Sequence
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
    tail: dict[str, float] = {}
    for task in reversed(order):
        followers = [tail[t.key] for t in order if task.key in t.after]
        tail[task.key] = _left(task) + max(followers, default=0.0)

    ended: dict[str, float] = {}
    slots: dict[str, Slot] = {}
    waiting = {t.key: t for t in order}
    hands_free, hands_by = 0.0, None
    queue: list[tuple[float, float, str]] = []
    while waiting or queue:
        for key, task in list(waiting.items()):
            if all(a in ended for a in task.after):
                ready = max([task.not_before_min, *(ended[a] for a in task.after)])
                heapq.heappush(queue, (ready, -tail[key], key))
                del waiting[key]
        key = _next(queue, hands_free, {t.key: t for t in order}, tail)
        task = next(t for t in order if t.key == key)
        before = max(task.after, key=lambda a: ended[a], default=None)
        ready = max([task.not_before_min, *(ended[a] for a in task.after)])
        start, waited = ready, before if before and ended[before] >= task.not_before_min else None
        if task.hands and hands_free > ready:
            start, waited = hands_free, hands_by
        end = start + _left(task)
        if task.hands:
            hands_free, hands_by = end, key
        ended[key] = end
        slots[key] = Slot(key, start, end, waited)
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


def _next(
    queue: list[tuple[float, float, str]], hands_free: float, tasks: dict[str, Task], tail: dict[str, float]
) -> str:
    """Waits start as soon as they can; among tasks for the hands, the longest tail of those that could start now."""
    for item in queue:
        if not tasks[item[2]].hands:
            queue.remove(item)
            heapq.heapify(queue)
            return item[2]
    soonest = max(min(ready for ready, _, _ in queue), hands_free)
    startable = [item for item in queue if item[0] <= soonest + 1e-9]
    best = max(startable, key=lambda item: (tail[item[2]], -item[0]))
    queue.remove(best)
    heapq.heapify(queue)
    return best[2]


def _checked(tasks: Sequence[Task], leave_min: float | None) -> list[Task]:
    """The tasks in an order in which each comes after what it needs."""
    door = Door()
    keys = [t.key for t in tasks]
    for key in {k for k in keys if keys.count(k) > 1}:
        door.add(InputError("task", f"Task “{key}” is named twice."))
    for task in tasks:
        door.number("minutes", task.minutes, 0, 60 * 24 * 60)
        door.number("not_before_min", task.not_before_min, 0, 60 * 24 * 60)
        door.number("done_min", task.done_min, 0, 60 * 24 * 60)
        for need in task.after:
            if need not in keys:
                door.add(UnknownName("task", need, keys))
    if leave_min is not None:
        door.number("leave_min", leave_min, 0, 60 * 24 * 60)
    door.close()
    done: list[Task] = []
    placed: set[str] = set()
    left = list(tasks)
    while left:
        free = [t for t in left if set(t.after) <= placed]
        if not free:
            circle = ", ".join(t.key for t in left[:5])
            raise InputError("task", f"These tasks wait for one another in a circle: {circle}.")
        done += free
        placed |= {t.key for t in free}
        left = [t for t in left if t.key not in placed]
    return done
