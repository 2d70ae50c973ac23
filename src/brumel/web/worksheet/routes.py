"""Worksheet: one quick sum with its working; its state is in the URL, so it can be shared."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, render_template, request

from brumel.core.errors import InputError, InputErrors
from brumel.core.units import UNITS, apart
from brumel.web.drawings import worksheet as worksheet_drawings
from brumel.web.forms import parse_number
from brumel.work import worksheet
from brumel.work.worksheet import book

blueprint = Blueprint("worksheet", __name__, template_folder="templates", url_prefix="/worksheet")
LONGEST = 200


@blueprint.get("")
def index() -> Any:
    """The contents of the Worksheet."""
    return render_template("worksheet/index.html", sums=worksheet.SUMS)


@blueprint.get("/<key>")
def show(key: str) -> Any:
    """A sum with what the URL gives; without anything, with an example."""
    asked = worksheet.find(key)
    words = {k: v[:LONGEST] for k, v in request.args.items()}
    fresh = not any(e.key in words for e in asked.entries)
    shown = {e.key: words.get(e.key, e.default if fresh or e.choices else "") for e in asked.entries}
    units = {e.key: words.get(f"{e.key}_unit", e.unit) for e in asked.entries if e.dimension}
    faults: list[InputError] = []
    answer = None
    try:
        numbers, hidden = _numbers(asked, shown, units)
        answer = worksheet.answer(asked, numbers, {**shown, **{f"{k}_unit": v for k, v in units.items()}})
    except InputError as error:
        faults, hidden = list(error.faults), _hidden(asked, shown)
    page = render_template(
        "worksheet/show.html",
        asked=asked,
        sums=worksheet.SUMS,
        shown=shown,
        units=units,
        faults=faults,
        answer=answer,
        hidden=hidden,
        unit_choices={e.key: book.units(e) for e in asked.entries},
        picture=worksheet_drawings.picture(answer.picture) if answer and answer.picture else None,
    )
    return page, 422 if faults else 200


def _hidden(asked: worksheet.Sum, shown: dict[str, str]) -> set[str]:
    """Fields that do not matter for what was chosen."""
    return {e.key for e in asked.entries if e.only_for and shown.get(e.only_for[0]) not in e.only_for[1]}


def _numbers(
    asked: worksheet.Sum, shown: dict[str, str], units: dict[str, str]
) -> tuple[dict[str, float | None], set[str]]:
    """The typed numbers; all that cannot be read are told at once. A unit behind a number wins over the one chosen."""
    hidden = _hidden(asked, shown)
    numbers: dict[str, float | None] = {}
    faults: list[InputError] = []
    for entry in asked.entries:
        if entry.choices:
            continue
        text = shown[entry.key]
        if entry.key in hidden and not text.strip():
            text = entry.default
        try:
            if entry.dimension:
                text, written = apart(text, UNITS[entry.dimension])
                units[entry.key] = written or units[entry.key]
            numbers[entry.key] = parse_number(entry.label, text, required=not entry.optional)
        except InputError as error:
            faults.append(error)
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return numbers, hidden
