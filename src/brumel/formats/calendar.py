"""iCalendar: what lies ahead, with an alarm where it is to come [RFC 5545, RFC 7986], by the icalendar package."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from icalendar import Alarm, Calendar, Event


@dataclass(frozen=True)
class Entry:
    """One entry: a stable key, words, when, by the clock of the zone of `at`, and where it is dealt with.

    The same key is the same entry in a calendar that knows it already. `timed` is at that minute; else it is of that day.
    """

    key: str
    words: str
    at: datetime
    url: str = ""
    timed: bool = False


def write_calendar(entries: Iterable[Entry], now: datetime) -> bytes:
    """The file; a calendar program that subscribes to it looks for another every few hours."""
    calendar = Calendar()
    calendar.add("prodid", "-//Brumel//what is due//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", "Brumel: what is due")
    calendar.add("name", "Brumel: what is due")
    calendar.add("refresh-interval", timedelta(hours=4), parameters={"VALUE": "DURATION"})
    for entry in entries:
        event = Event()
        event.add("uid", f"{entry.key}@brumel.invalid")
        event.add("dtstamp", now)
        event.add("dtstart", entry.at.astimezone(UTC) if entry.timed else entry.at.date())
        event.add("summary", entry.words)
        if entry.url:
            event.add("url", entry.url)
        if entry.at > now:
            alarm = Alarm()
            alarm.add("action", "DISPLAY")
            alarm.add("description", entry.words)
            alarm.add("trigger", timedelta(hours=-12))
            event.add_component(alarm)
        calendar.add_component(event)
    return bytes(calendar.to_ical())
