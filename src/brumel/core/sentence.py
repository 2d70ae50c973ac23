"""Sentences that keep what they speak of: words with named values, put into a reader's units and zone at the page.

A sentence is made where the thing is known, `say("Calibration {number} ran out on {at}.", number=…, at=…)`, and is a text
like any other: its own words are canonical (units as given, times in ISO 8601) and go into records as they are. A page
writes the same template with the values as its reader wants them, through a `Writer`.
"""

from __future__ import annotations

import functools
import string
from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass
from typing import Any, Protocol, cast


class Moment(Protocol):
    """A date, or a date with a time and its zone."""

    def strftime(self, form: str, /) -> str: ...


@dataclass(frozen=True)
class Amount:
    """A number with its unit and the form its digits take, such as ".2f", "+.1f" or "g".

    difference : a step, not a place on the scale: 2 °C warmer is 3.6 °F warmer, not 35.6 °F.
    """

    value: float
    unit: str = ""
    form: str = "g"
    difference: bool = False


@dataclass(frozen=True)
class Span:
    """Two numbers of one unit, "4 to 7 °C"."""

    low: float
    high: float
    unit: str = ""
    form: str = "g"


@dataclass(frozen=True)
class PlaceClock:
    """A moment that is told by a place's own clock, whoever reads it; its zone is that place's already."""

    at: Moment


def digits_as(value: float, form: str) -> str:
    """A number with a true minus sign, and none before nothing; no power of ten below a million millions."""
    text = f"{value:{form}}"
    if "e+" in text and abs(value) < 1e12:
        text = f"{float(text):.0f}"
    if text.startswith("-") and not text.strip("-0."):
        text = text[1:]
    return text.replace("-", "−")


class Writer:
    """How values are written: canonically here; a page's own writer knows its reader."""

    def amount(self, amount: Amount) -> str:
        return " ".join(filter(None, (digits_as(amount.value, amount.form), amount.unit)))

    def span(self, span: Span) -> str:
        return f"{digits_as(span.low, span.form)} to {self.amount(Amount(span.high, span.unit, span.form))}"

    def moment(self, moment: Moment, form: str) -> str:
        """`form` is "" for day and time, "date" for the day alone, "clock" for the time alone."""
        return moment.strftime({"": "%Y-%m-%d %H:%MZ", "date": "%Y-%m-%d", "clock": "%H:%MZ"}[form])

    def write(self, value: object, form: str = "") -> str:
        """One value, or a whole sentence, in words."""
        if isinstance(value, Sentence):
            return self.fill(value.template, value.values)
        if isinstance(value, str):
            return value
        if isinstance(value, Amount):
            return self.amount(value)
        if isinstance(value, Span):
            return self.span(value)
        if isinstance(value, PlaceClock):
            return value.at.strftime("%H:%M")
        if isinstance(value, (int, float)) or not hasattr(value, "strftime"):
            return format(value, form)
        return self.moment(cast(Moment, value), form)

    def fill(self, template: str, values: Mapping[str, object]) -> str:
        """A template with its values written; raises KeyError where one is missing."""
        return "".join(
            literal if name is None else literal + self.write(values[name], form)
            for literal, name, form in _parts(template)
        )


@functools.lru_cache(maxsize=4096)
def _parts(template: str) -> tuple[tuple[str, str | None, str], ...]:
    """(text before, name, form) of every field of a template; the name is None after the last."""
    return tuple((literal, name, form or "") for literal, name, form, _ in string.Formatter().parse(template))


CANONICAL = Writer()


class Sentence(str):
    """Words with the values they were made of. Joined to other words by +, it stays one."""

    template: str
    values: Mapping[str, object]
    __slots__ = ("template", "values")

    def __new__(cls, template: str, values: Mapping[str, object]) -> Sentence:
        words = super().__new__(cls, CANONICAL.fill(template, values))
        words.template, words.values = template, dict(values)
        return words

    def __getnewargs__(self) -> tuple[str, Mapping[str, object]]:  # type: ignore[override]
        return self.template, self.values

    def __add__(self, other: str) -> Sentence:
        return say("{first}{second}", first=self, second=other)

    def __radd__(self, other: str) -> Sentence:
        return say("{first}{second}", first=other, second=self)


def say(template: str, /, **values: object) -> Sentence:
    """A sentence of a template and its values; raises KeyError where the template names one that is not given."""
    return Sentence(template, values)


def joined(parts: Iterable[str], between: str = " ") -> Sentence:
    """Several sentences as one."""
    values = {f"part_{i}": part for i, part in enumerate(parts)}
    return Sentence(between.join(f"{{{name}}}" for name in values), values)


def as_data(words: str) -> dict[str, Any]:
    """Words as they were, and the values beside them, for what is kept as evidence."""
    if not isinstance(words, Sentence):
        return {"words": str(words)}
    return {"words": str(words), "template": words.template, "values": {k: _plain(v) for k, v in words.values.items()}}


def _plain(value: object) -> object:
    if isinstance(value, Amount):
        step = {"difference": True} if value.difference else {}
        return {"value": value.value, "unit": value.unit, **step}
    if isinstance(value, Span):
        return {"low": value.low, "high": value.high, "unit": value.unit}
    if isinstance(value, Sentence):
        return as_data(value)
    if isinstance(value, PlaceClock):
        return value.at.strftime("%Y-%m-%d %H:%M%z")
    if isinstance(value, (int, float, bool)) or value is None:
        return value
    return CANONICAL.moment(cast(Moment, value), "") if hasattr(value, "strftime") else str(value)


def as_evidence(row: Any) -> dict[str, Any]:
    """A judgement, a dataclass with a `sentence`, as plain data: the words as they were, and the values beside them."""
    sentence = row.sentence
    values = {"sentence_data": as_data(sentence)} if isinstance(sentence, Sentence) else {}
    return {**asdict(row), "sentence": str(sentence), **values}
