"""The practice's own clock: its zone and the day its week begins on, looked up now and then and not at every page."""

from __future__ import annotations

import time
from typing import NamedTuple
from zoneinfo import ZoneInfo

from flask import Flask, current_app

from brumel.work.desk import Desk
from brumel.work.records import letterhead

#: How long another process may not know yet of a change [s].
LOOKED_UP_EVERY_S = 30.0


class PracticeClock(NamedTuple):
    """A zone by its IANA name, and a weekday by its two letters of RFC 5545."""

    zone: str
    first_day: str


class _Kept:
    def __init__(self, desk: Desk, zone: str) -> None:
        self._desk, self._fallback = desk, zone
        self._clock, self._until = PracticeClock(zone, letterhead.FIRST_DAYS[0]), 0.0

    def now(self) -> PracticeClock:
        if time.monotonic() >= self._until:
            with self._desk.read() as session:
                zone, first_day = letterhead.clock(session)
            self._clock = PracticeClock(zone or self._fallback, first_day)
            self._until = time.monotonic() + LOOKED_UP_EVERY_S
        return self._clock

    def forget(self) -> None:
        self._until = 0.0


def init(app: Flask, zone: str) -> None:
    """Keep the clock of this application; `zone` is of a practice that has not said."""
    app.extensions["practice clock"] = _Kept(app.extensions["desk"], zone)


def practice_clock() -> PracticeClock:
    """The clock of the practice that pages are for."""
    kept: _Kept = current_app.extensions["practice clock"]
    return kept.now()


def practice_zone() -> ZoneInfo:
    """Its zone."""
    return ZoneInfo(practice_clock().zone)


def forget() -> None:
    """It was changed here."""
    current_app.extensions["practice clock"].forget()
