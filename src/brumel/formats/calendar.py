"""iCalendar: what is due, as all-day entries, with an alarm where it is to come [RFC 5545], by the icalendar package."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta

from icalendar import Alarm, Calendar, Event


def write_calendar(rows: Iterable[tuple[str, str, datetime]], now: datetime) -> bytes:
    """The file from (stable key, words, when); the same key is the same entry in a calendar that knows it already."""
    calendar = Calendar()
    calendar.add("prodid", "-//Brumel//what is due//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", "Brumel: what is due")
    for key, words, at in rows:
        event = Event()
        event.add("uid", f"{key}@brumel.invalid")
        event.add("dtstamp", now)
        event.add("dtstart", at.date())
        event.add("summary", words)
        if at > now:
            alarm = Alarm()
            alarm.add("action", "DISPLAY")
            alarm.add("description", words)
            alarm.add("trigger", timedelta(hours=-12))
            event.add_component(alarm)
        calendar.add_component(event)
    return bytes(calendar.to_ical())
