"""Dates as a document writes them, in the way and the language that the practice chose; pages keep their own."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date, datetime

from babel.dates import format_date
from flask import g, has_app_context


@contextmanager
def dates_of_document(way: str) -> Iterator[None]:
    """Whatever is rendered meanwhile writes its dates this way: "iso", or a locale."""
    g.dates_of_document = way
    try:
        yield
    finally:
        g.dates_of_document = ""


def way_of_document() -> str:
    """How dates are written just now; empty on pages."""
    return str(g.get("dates_of_document", "")) if has_app_context() else ""


def written(day: date, way: str) -> str:
    """A day in a way: "2026-11-27" for "iso", else as the locale writes it at medium length."""
    return f"{day:%Y-%m-%d}" if way == "iso" else format_date(day, "medium", locale=way)


def in_form(local: date, form: str) -> str:
    """A moment by the clock in a page's form, its day as the document writes days."""
    way = way_of_document()
    if not way or not ("%d" in form or "%b" in form):
        return f"{local:{form}}"
    day = local.date() if isinstance(local, datetime) else local
    clock = "%H:%M:%S" if "%S" in form else "%H:%M" if "%H" in form else ""
    return f"{written(day, way)} {local:{clock}}" if clock else written(day, way)
