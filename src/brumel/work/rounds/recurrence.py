"""When a round is due: an RFC 5545 recurrence of whole days, chosen from plain parts and told in plain words."""

from __future__ import annotations

import functools
import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import MAXYEAR, date, datetime, time
from typing import Literal

from dateutil.rrule import rrulestr

from brumel.core.errors import InputError, InputErrors

#: Days of the week as RFC 5545 writes them, and in words.
WEEKDAYS = {
    "MO": "Monday",
    "TU": "Tuesday",
    "WE": "Wednesday",
    "TH": "Thursday",
    "FR": "Friday",
    "SA": "Saturday",
    "SU": "Sunday",
}
#: Which of a month's Mondays (or other days).
NTH = {1: "first", 2: "second", 3: "third", 4: "fourth", -1: "last"}
#: The parts a form offers, with what each is called there.
EVERY = {
    "once": "once",
    "days": "by days",
    "weeks": "by weeks",
    "months": "by months, on a day",
    "nth": "by months, on a weekday",
}
_UNIT = {"days": "day", "weeks": "week", "months": "month", "nth": "month"}
_FREQ = {"days": "DAILY", "weeks": "WEEKLY", "months": "MONTHLY", "nth": "MONTHLY"}
#: The last day of a month, where its number would leave out the shorter ones.
LAST_DAY = -1
MOST_INTERVAL = 99

Every = Literal["once", "days", "weeks", "months", "nth"]


@dataclass(frozen=True)
class Recurrence:
    """A recurrence in its plain parts.

    every : what is counted; interval : how many of them lie between two days
    weekdays : the days of the week of "weeks" (none: that of the first day), the one of "nth"
    month_day : of "months", 1 to 31 or LAST_DAY; None: that of the first day
    nth : of "nth", which of the month's weekdays; until : the last day it may come, None for no end
    """

    every: Every = "once"
    interval: int = 1
    weekdays: tuple[str, ...] = ()
    month_day: int | None = None
    nth: int = 1
    until: date | None = None

    def rule(self) -> str:
        """The RFC 5545 rule, empty for once."""
        if self.every == "once":
            return ""
        parts = [f"FREQ={_FREQ[self.every]}"]
        if self.interval != 1:
            parts.append(f"INTERVAL={self.interval}")
        if self.every == "weeks" and self.weekdays:
            parts.append("BYDAY=" + ",".join(self.weekdays))
        if self.every == "nth":
            parts.append(f"BYDAY={self.nth}{self.weekdays[0]}")
        if self.every == "months" and self.month_day is not None:
            parts.append(f"BYMONTHDAY={self.month_day}")
        if self.until:
            parts.append(f"UNTIL={self.until:%Y%m%d}")
        return ";".join(parts)

    def words(self) -> str:
        """As one says it: "every 2 weeks on Monday and Thursday"."""
        if self.every == "once":
            return "once"
        unit = _UNIT[self.every]
        told = f"every {unit}" if self.interval == 1 else f"every {self.interval} {unit}s"
        if self.every == "weeks" and self.weekdays:
            told += " on " + _and([WEEKDAYS[day] for day in self.weekdays])
        elif self.every == "nth":
            told += f" on the {NTH[self.nth]} {WEEKDAYS[self.weekdays[0]]}"
        elif self.every == "months" and self.month_day is not None:
            told += " on the last day" if self.month_day == LAST_DAY else f" on day {self.month_day}"
        return told + (f", until {self.until.day} {self.until:%b %Y}" if self.until else "")


def _and(words: list[str]) -> str:
    return " and ".join((", ".join(words[:-1]), words[-1])) if len(words) > 1 else words[0]


_PLAIN = re.compile(
    r"FREQ=(?P<freq>DAILY|WEEKLY|MONTHLY)(;INTERVAL=(?P<interval>[1-9]\d?))?"
    r"(;BYDAY=(?P<days>[A-Z0-9,-]+))?(;BYMONTHDAY=(?P<month_day>-1|[1-9]|[12]\d|3[01]))?(;UNTIL=(?P<until>\d{8}))?"
)


def in_parts(rule: str) -> Recurrence | None:
    """The plain parts of a rule, None where it has others: `Recurrence.rule` gives the same rule back."""
    rule = rule.strip().upper()
    if not rule:
        return Recurrence()
    match = _PLAIN.fullmatch(rule)
    if match is None:
        return None
    freq, days = match["freq"], tuple((match["days"] or "").split(",")) if match["days"] else ()
    nth = re.fullmatch(r"(-1|[1-4])([A-Z]{2})", days[0]) if freq == "MONTHLY" and len(days) == 1 else None
    counted: dict[str, Every] = {"DAILY": "days", "WEEKLY": "weeks", "MONTHLY": "nth" if nth else "months"}
    parts = Recurrence(
        counted[freq],
        int(match["interval"] or 1),
        (nth[2],) if nth else days,
        int(match["month_day"]) if match["month_day"] else None,
        int(nth[1]) if nth else 1,
        _day(match["until"]),
    )
    known = set(parts.weekdays) <= set(WEEKDAYS)
    return parts if known and parts.rule() == rule else None


def _day(text: str | None) -> date | None:
    try:
        return date.fromisoformat(text) if text else None
    except ValueError:
        return None  # a day that is not: the rule then does not come back the same, and stays as it is written


def in_words(rule: str) -> str:
    """A rule as one says it; one that no form makes, as it is written."""
    parts = in_parts(rule)
    return parts.words() if parts else rule


def read_parts(given: Mapping[str, str], weekdays: tuple[str, ...], starts: date) -> Recurrence:
    """A recurrence from what a form sent, each of its fields by name. Raises every fault at once."""
    every = given.get("every", "")
    if every not in EVERY:
        raise InputError("every", "Choose how the round recurs: once, by days, by weeks or by months.")
    faults: list[InputError] = []
    interval, text = 1, given.get("interval", "").strip()
    if every != "once":
        if re.fullmatch(r"[1-9]\d?", text, re.ASCII):
            interval = int(text)
        else:
            faults.append(
                InputError("interval", f"Every how many is a whole number from 1 to {MOST_INTERVAL}.", value=text[:20])
            )
    if not set(weekdays) <= set(WEEKDAYS):
        faults.append(InputError("weekday", "One of the weekdays is none."))
    month_day = None
    if every == "months":
        text = given.get("month_day", "").strip().lower()
        if text == "last":
            month_day = LAST_DAY
        elif re.fullmatch(r"[1-9]|[12]\d|3[01]", text, re.ASCII):
            month_day = int(text)
        else:
            faults.append(
                InputError("month_day", "The day of the month is a number from 1 to 31, or “last”.", value=text[:20])
            )
    nth, text = 1, given.get("nth", "")
    if every == "nth":
        if text not in {str(n) for n in NTH}:
            faults.append(InputError("nth", "Choose which of the month's weekdays it is.", value=text[:20]))
        elif given.get("nth_weekday") not in WEEKDAYS:
            faults.append(InputError("nth", "Choose the weekday."))
        else:
            nth, weekdays = int(text), (given["nth_weekday"],)
    until = _until(given.get("until", "").strip() if every != "once" else "", starts, faults)
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    ordered = tuple(day for day in WEEKDAYS if day in weekdays) if every in ("weeks", "nth") else ()
    return Recurrence(every, interval, ordered, month_day, nth, until)  # type: ignore[arg-type]


def _until(text: str, starts: date, faults: list[InputError]) -> date | None:
    if not text:
        return None
    try:
        until = date.fromisoformat(text)
    except ValueError:
        faults.append(InputError("until", "The last day is not a day.", value=text[:20]))
        return None
    if not starts <= until <= date(2100, 12, 31):
        faults.append(InputError("until", "The last day lies before the first, or after 2100.", value=text[:20]))
    return until


def occurrences(rule: str, starts: date, since: date, until: date) -> list[date]:
    """The days a round is due, both ends counted. The rule is an RFC 5545 recurrence of whole days; empty never recurs.

    Days are counted in the round's own calendar, so a change to summer time moves none of them. Raises InputError.
    """
    if not rule:
        return [starts] if since <= starts <= until else []
    check_rule(rule, starts)
    recurrence = rrulestr(rule.upper(), dtstart=datetime.combine(starts, time()))
    days = recurrence.between(datetime.combine(since, time()), datetime.combine(until, time()), inc=True)
    return sorted({d.date() for d in days})


#: The parts of a recurrence that people use, and how far their numbers go.
_PARTS = {
    "FREQ": r"DAILY|WEEKLY|MONTHLY|YEARLY",
    "INTERVAL": r"[1-9]\d?",
    "BYDAY": r"([+-]?[1-5])?(MO|TU|WE|TH|FR|SA|SU)(,([+-]?[1-5])?(MO|TU|WE|TH|FR|SA|SU)){0,6}",
    "BYMONTHDAY": r"-?[1-3]?\d(,-?[1-3]?\d){0,30}",
    "BYMONTH": r"1?\d(,1?\d){0,11}",
    "BYSETPOS": r"-?[1-5](,-?[1-5]){0,4}",
    "COUNT": r"[1-9]\d{0,3}",
    "UNTIL": r"\d{8}",
    "WKST": r"MO|SU",
}


#: A rule that gives no day in so many years never gives one.
_TRIAL_YEARS = 40


@functools.lru_cache(maxsize=256)
def check_rule(rule: str, starts: date) -> None:
    """Raise InputError where a recurrence cannot be read, is finer than days, or never comes."""
    if not 2000 <= starts.year <= 2100:
        raise InputError("starts", "The first day must lie between 2000 and 2100.", value=str(starts))
    parts = [part.partition("=")[::2] for part in rule.upper().split(";")]
    names = [name for name, _ in parts]
    for name, value in parts:
        if name not in _PARTS or not re.fullmatch(_PARTS[name], value) or names.count(name) > 1:
            raise InputError(
                "rule",
                f"The rule “{rule[:60]}” cannot be read at “{name[:20]}”: a round recurs by days, weeks, months or years.",
                value=rule[:200],
            )
    if "FREQ" not in names:
        raise InputError("rule", "The rule does not say how often: FREQ is missing.", value=rule[:200])
    try:
        # Near the last year there is, a rule that never comes runs out soon instead of searching eight thousand years.
        trial = ";".join(f"{name}={value}" for name, value in parts if name not in ("UNTIL", "COUNT"))
        if next(iter(rrulestr(trial, dtstart=datetime.combine(_twin(starts), time()))), None) is None:
            raise InputError("rule", f"The rule “{rule[:60]}” names a day that never comes.", value=rule[:200])
        rrulestr(rule.upper(), dtstart=datetime.combine(starts, time()))
    except (ValueError, TypeError) as error:
        raise InputError("rule", f"The rule “{rule[:60]}” cannot be read: {error}.", value=rule[:200]) from None


def _twin(day: date) -> date:
    """The same day of month and of week in the last years of the calendar."""
    years = range(MAXYEAR - _TRIAL_YEARS, MAXYEAR)
    wanted = [date(y, day.month, min(day.day, 28)) for y in years]
    return next((d for d in wanted if d.weekday() == day.weekday()), wanted[0])
