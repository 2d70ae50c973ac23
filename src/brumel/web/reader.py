"""The one place where what is known becomes words for a reader: times by the clock, numbers in their form."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import Any
from zoneinfo import ZoneInfo

from flask import Flask, current_app, g
from flask.json.provider import DefaultJSONProvider

from brumel.core.errors import words_of
from brumel.core.sentence import Amount, Moment, Sentence, Span, Writer
from brumel.web.dates import in_form, way_of_document
from brumel.web.practice_clock import practice_zone
from brumel.web.units import readers_units, scale

DAY = "%d %b %Y"
DAY_AND_TIME = "%d %b, %H:%M"
DAY_AND_TIME_OF_ANOTHER_YEAR = "%d %b %Y, %H:%M"


@dataclass(frozen=True)
class Reader(Writer):
    """Writes the values of sentences for one reader: times by the clock of `zone`, amounts in `units`."""

    zone: ZoneInfo
    year: int
    units: Mapping[str, Any] = field(default_factory=dict)

    def amount(self, amount: Amount) -> str:
        chosen = scale(amount.unit, self.units)
        value = chosen.step(amount.value) if amount.difference else chosen(amount.value)
        return super().amount(replace(amount, value=value, unit=chosen.unit, form=chosen.form(amount.form)))

    def span(self, span: Span) -> str:
        chosen = scale(span.unit, self.units)
        return super().span(Span(chosen(span.low), chosen(span.high), chosen.unit, chosen.form(span.form)))

    def moment(self, moment: Moment, form: str) -> str:
        if not isinstance(moment, datetime):
            return in_form(moment, DAY) if isinstance(moment, date) else moment.strftime(DAY)
        local = moment.astimezone(self.zone)
        both = DAY_AND_TIME if local.year == self.year else DAY_AND_TIME_OF_ANOTHER_YEAR
        if way_of_document() and form != "clock":
            return in_form(local, DAY if form == "date" else both)
        return local.strftime({"": both, "date": DAY, "clock": "%H:%M"}[form])


def reader() -> Reader:
    """Who reads this page, in which units. The practice has one zone: its own, or BRUMEL_ZONE."""
    zone, units = practice_zone(), readers_units()
    kept: Reader | None = g.get("reader")  # asked for each sentence of a page
    if kept is None or kept.zone is not zone or kept.units is not units:
        year = current_app.extensions["desk"].clock().astimezone(zone).year
        kept = g.reader = Reader(zone, year, units)
    return kept


def in_words(words: str | BaseException, to: Reader | None = None) -> str:
    """A sentence, or an error's, for the reader."""
    text = words_of(words) if isinstance(words, BaseException) else words
    return (to or reader()).write(text) if isinstance(text, Sentence) else text


def all_in_words(tree: Any, to: Reader | None = None) -> Any:
    """Plain data with every sentence in it written for the reader, who is asked for only when there is one."""
    if isinstance(tree, Sentence):
        return in_words(tree, to)
    if isinstance(tree, Mapping):
        return {key: all_in_words(value, to) for key, value in tree.items()}
    if isinstance(tree, (list, tuple)):
        return [all_in_words(value, to) for value in tree]
    return tree


def _finalize(value: Any) -> Any:
    return in_words(value) if isinstance(value, (Sentence, BaseException)) else value


class ReadersJson(DefaultJSONProvider):
    """What a page's script is told, by an answer or within the page, is in the reader's words too."""

    def dumps(self, obj: Any, **kwargs: Any) -> str:
        return super().dumps(all_in_words(obj), **kwargs)


def init(app: Flask) -> None:
    """Whatever a template prints, and whatever is answered as JSON, passes by here."""
    app.jinja_env.finalize = _finalize
    app.json = ReadersJson(app)
    app.jinja_env.policies["json.dumps_function"] = app.json.dumps  # `tojson` kept the first provider's
