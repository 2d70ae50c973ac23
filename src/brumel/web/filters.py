"""How numbers, times and outcomes are written on pages."""

from __future__ import annotations

import functools
import re
import uuid
from collections.abc import Callable
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from flask import Flask, current_app, g, request, url_for
from flask_login import current_user
from jinja2 import pass_context
from markupsafe import Markup, escape

from brumel.core.believability import Flag
from brumel.core.uncertainty import digits_for, shown_u
from brumel.core.verdict import Outcome
from brumel.methods.sources import parts_of
from brumel.store.tables import Calibration
from brumel.web.access import desk
from brumel.web.dates import in_form, way_of_document, written
from brumel.web.drawings.frame import short_lines
from brumel.web.practice_clock import practice_clock
from brumel.web.reader import in_words, reader
from brumel.web.root import this_path
from brumel.web.units import Scale, scale, scale_of
from brumel.work.quantities import names as quantity_names
from brumel.work.quantities.book import quantity_of

THEMES = ("paper", "sun", "night")
PLACES = (
    ("today.show", "Today", "1"),
    ("bench.index", "Bench", "2"),
    ("rounds.index", "Rounds", "3"),
    ("kit.index", "Kit", "4"),
    ("records.index", "Records", "5"),
    ("worksheet.index", "Worksheet", "6"),
    ("practice.index", "Practice", "7"),
)
#: Those where an auditor finds something to look at.
PLACES_OF_AUDITOR = frozenset({"rounds.index", "kit.index", "records.index", "worksheet.index"})


def number(value: float | None, digits: int = 2, *, plus: bool = False) -> str:
    """A number with a true minus sign; a dash where there is none."""
    if value is None:
        return "–"
    text = f"{value:+.{digits}f}" if plus else f"{value:.{digits}f}"
    if text[0] not in "+-":
        return text
    return text.lstrip("+-") if float(text) == 0 else text.replace("-", "−")


def with_u(
    value: float, expanded_uncertainty: float | None, unit: str = "", least: int = 0, *, bare: bool = False
) -> str:
    """ "8.14 ± 0.05 (k=2)": the digits shown follow U. In the reader's unit; `bare` leaves it out where it stands above."""
    shown = scale(unit)
    value, unit = shown(value), "" if bare else shown.unit
    if expanded_uncertainty is None:
        return f"{number(value, 2 + shown.digits)}{' ' + unit if unit else ''}"
    expanded_uncertainty = shown.step(expanded_uncertainty)
    digits = max(digits_for(expanded_uncertainty), least)
    u = number(shown_u(expanded_uncertainty, digits), digits)
    return f"{number(value, digits)} ± {u}{' ' + unit if unit else ''} (k=2)"


def as_read(value: float | None, quantity: str) -> str:
    """A reading of a quantity in the reader's unit, with the decimals of a sheet."""
    shown = scale_of(quantity)
    return number(None if value is None else shown(value), quantity_names.digits(quantity) + shown.digits)


def column_of(quantity: str) -> Callable[[float | None], str]:
    """`as_read` for a column of readings of one quantity: what it takes to write them is looked up once."""
    return _column(scale_of(quantity), quantity_names.digits(quantity))


def column_in(unit: str, digits: int = 1) -> Callable[[float | None], str]:
    """`in_unit` in the same way, with its unit."""
    shown = scale(unit)
    bare = _column(shown, digits)
    return lambda value: f"{bare(value)} {shown.unit}"


def _column(shown: Scale, digits: int) -> Callable[[float | None], str]:
    digits += shown.digits
    if (shown.factor, shown.shift) == (1.0, 0.0):
        return lambda value: number(value, digits)
    return lambda value: number(None if value is None else shown(value), digits)


def in_unit(value: float | None, unit: str, digits: int = 1, *, bare: bool = False) -> str:
    """A value and its unit, both the reader's: "66.2 °F" of 19.0 and "°C"; `bare` leaves the unit out."""
    shown = scale(unit)
    if bare:
        return number(None if value is None else shown(value), digits + shown.digits)
    return f"{number(None if value is None else shown(value), digits + shown.digits)} {shown.unit}"


def step_in_unit(value: float, unit: str, digits: int = 1) -> str:
    """The same of an error or another difference, which is no place on the scale."""
    shown = scale(unit)
    return f"{number(shown.step(value), digits + shown.digits)} {shown.unit}"


def sourced(text: str) -> Markup:
    """A text with the keys of its sources linked to their pages; on paper, as it is."""
    if way_of_document() or g.get("units_of_record"):
        return escape(in_words(text))
    pieces = [
        Markup('<a href="{}">{}</a>').format(url_for("glossary.source", key=part.text), part.text)
        if part.is_key
        else escape(part.text)
        for part in parts_of(in_words(text))
    ]
    return Markup("").join(pieces)


def when(at: datetime | None, zone: str = "", form: str = "%d %b %Y, %H:%M") -> str:
    """A time by the clock of a site's zone, or of the reader's; the zone is named where there is a time of day."""
    if at is None:
        return "–"
    local = at.astimezone(ZoneInfo(zone) if zone else reader().zone)
    words = in_form(local, form)
    return f"{words} {local.tzname()}" if "%H" in form else words


def clock_face(seconds: float) -> str:
    """Seconds as a running clock shows them, 0:42 or 12:05."""
    return f"{int(seconds) // 60}:{int(seconds) % 60:02d}"


_TIME = re.compile(r"(?<![\d.,])(\d{1,3}) (s|min)\b")
LONGEST_TIMER_S = 2 * 3600


def times_in(text: str) -> list[int]:
    """The times a sentence states, such as "shake 6 s, stand 2 min" [s]; each is one to wait for, and gets a timer."""
    times = [int(number) * (60 if unit == "min" else 1) for number, unit in _TIME.findall(str(text))]
    return [seconds for seconds in dict.fromkeys(times) if 0 < seconds <= LONGEST_TIMER_S]


def outcome_shape(outcome: str) -> str:
    """The drawn mark that goes with a word, so that colour is never alone."""
    return {"fit": "disc", "care": "diamond", "not": "cross"}.get(outcome, "ring")


def figures(calibration: Calibration) -> str:
    """What a calibration found, in one line of its quantity's own figures."""
    return quantity_of(calibration.run.probe.quantity).figures_text(calibration.figures)


def _plan_clock(zone: ZoneInfo, today: datetime) -> Any:
    """Times of a plan by the wall clock of its zone, with the day where it is another."""

    def at(moment: datetime) -> str:
        local, now = moment.astimezone(zone), today.astimezone(zone)
        return f"{local:%H:%M}" if local.date() == now.date() else f"{local:%a %H:%M}"

    return at


def _anew(function: Callable[..., Any]) -> Callable[..., Any]:
    """A filter that is asked for each reader: without a context Jinja would work out a constant once, for the first."""

    @pass_context
    @functools.wraps(function)
    def asked(context: Any, *args: Any, **kwargs: Any) -> Any:
        return function(*args, **kwargs)

    return asked


def init(app: Flask) -> None:
    """Filters and names every template may use."""
    app.add_template_filter(number, "number")
    app.add_template_filter(_anew(with_u), "with_u")
    app.add_template_filter(_anew(as_read), "as_read")
    app.add_template_filter(_anew(in_unit), "in_unit")
    app.add_template_filter(_anew(step_in_unit), "step_in_unit")
    app.add_template_filter(_anew(lambda unit: scale(unit).unit), "readers_unit")
    app.add_template_filter(
        _anew(lambda quantity: quantity_names.digits(quantity) + scale_of(quantity).digits), "read_digits"
    )
    app.add_template_filter(lambda value, shown: shown(value), "on_scale")
    app.add_template_global(scale, "scale")
    app.add_template_filter(quantity_names.column, "column_words")
    app.add_template_filter(in_words, "in_words")
    app.add_template_filter(when, "when")
    app.add_template_filter(lambda at: f"{at.astimezone(reader().zone):%d %b}", "day_of_drawing")
    app.add_template_filter(lambda day: written(day, way_of_document() or "iso"), "document_day")
    app.add_template_filter(lambda value: f"{value:.6g}".replace("-", "−"), "number_plain")
    app.add_template_filter(clock_face, "clock_face")
    app.add_template_filter(times_in, "times_in")
    app.add_template_filter(short_lines, "short_lines")
    app.add_template_filter(figures, "figures")
    app.add_template_filter(quantity_names.short, "quantity_words")
    app.add_template_filter(quantity_names.name, "reading_words")
    app.add_template_filter(quantity_names.title, "reading_title")
    app.add_template_filter(quantity_names.backing, "backing_words")
    app.add_template_filter(quantity_names.digits, "reading_digits")
    app.add_template_filter(outcome_shape, "shape")
    app.add_template_filter(sourced, "sourced")
    app.add_template_filter(lambda value: Outcome(value).words, "outcome_words")
    app.add_template_filter(lambda value: Flag(value).words, "flag_words")

    app.add_template_global(lambda: str(uuid.uuid4()), "new_key")
    app.add_template_global(this_path, "this_path")
    app.add_template_global(_plan_clock, "plan_at")

    @app.context_processor
    def names() -> dict[str, Any]:
        theme = request.cookies.get("brumel-look", "paper")
        return {
            "theme": theme if theme in THEMES else "paper",
            "themes": THEMES,
            "places": PLACES,
            "places_of_auditor": PLACES_OF_AUDITOR,
            "me": current_user.user if current_user.is_authenticated else None,
            "session_until": current_user.until if current_user.is_authenticated else None,
            "now": desk().clock() if current_user.is_authenticated else current_app.extensions["desk"].clock(),
            "world": None,
            "demo": current_app.config["DEMO"],
            "zone": practice_clock().zone,
            "version": current_app.config["VERSION"],
        }
