"""Shared form parts: numbers as the trade types them, the idempotency key, and errors as sentences."""

from __future__ import annotations

import math
import re
import uuid
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from flask import request
from flask_wtf import FlaskForm
from wtforms import Field, HiddenField, StringField
from wtforms.validators import ValidationError

from brumel.core import units
from brumel.core.errors import InputError, InputErrors, NotANumber, words_of
from brumel.core.quantities import label, sentence_label

_THOUSANDS = re.compile(r"^[+-]?\d{1,3},\d{3}$", re.ASCII)


_NUMBER = re.compile(r"^[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d{1,3})?$", re.ASCII)


def parse_number(name: str, text: str, *, required: bool = True) -> float | None:
    """A number as people type it, with point or comma; None for empty where that is allowed.

    "1,413" could be 1.413 or 1413, so it is sent back rather than guessed. Raises InputError naming the field.
    """
    plain = text.strip().replace("−", "-").replace("\u00a0", "")
    if not plain and not required:
        return None
    if _THOUSANDS.match(plain):
        raise InputError(
            name,
            f"{sentence_label(name)} “{plain}” can be read in two ways; write {plain.replace(',', '.')} or "
            f"{plain.replace(',', '')}.",
            value=plain,
        )
    if not _NUMBER.match(plain):
        raise NotANumber(name, plain)
    value = float(plain.replace(",", "."))
    if not math.isfinite(value):
        raise NotANumber(name, plain)
    return value


def parse_numbers(name: str, text: str) -> tuple[float, ...]:
    """A list of numbers, parted by semicolons, spaces, or a comma with a space behind it: "0,5" is one number.

    "0,5,1" could be two lists, so it is sent back rather than guessed. Raises InputError naming the field.
    """
    if re.search(r"\d,\d+,\d", text):
        raise InputError(
            name,
            f"{sentence_label(name)} “{text.strip()[:40]}” can be read in two ways; part the numbers by semicolons.",
            value=text[:40],
        )
    parts = re.split(r"[;\s]+", re.sub(r",\s+", ";", text.replace("\u00a0", " ").strip()))
    if "." in text:  # with decimal points, a comma parts
        parts = [piece for part in parts for piece in part.split(",")]
    return tuple(float(parse_number(name, part) or 0.0) for part in parts if part)


def optional_number(field: str, label: str) -> float | None:
    """A field of the sent form as a number, None where it was left empty; a fault names the field by its label."""
    text = request.form.get(field, "").strip()
    try:
        return parse_number(label, text) if text else None
    except InputError as error:
        raise InputError(field, words_of(error), value=text) from None


def optional_measured(field: str, label: str, dimension: str = "") -> tuple[float | None, str]:
    """The same with the unit that may be written behind the number."""
    text = request.form.get(field, "").strip()
    try:
        return measured(label, text, dimension) if text else (None, "")
    except InputError as error:
        raise InputError(field, words_of(error), value=text) from None


#: What a field that answers a question is called: this, and the question's code behind it.
ANSWERS = "why:"


def answers_sent(*, of_set: str = "") -> dict[str, str]:
    """Why what is odd may be so, by the question's code, as the sent form has it.

    of_set : those of this set of a visit, whose number stands before their codes
    """
    start = f"{ANSWERS}{of_set}:" if of_set else ANSWERS
    fields = [name for name in request.form if name.startswith(start)][:200]
    return {name.removeprefix(start)[:80]: request.form[name] for name in fields}


def local_time(field: str, label: str, zone: ZoneInfo) -> datetime | None:
    """A field of the sent form as a time by the clock of `zone`, or of an offset it names; None where it was left empty."""
    text = request.form.get(field, "").strip()
    if not text:
        return None
    wrong = InputError(field, f"{label} “{text[:30]}” is not a time; write it as 2026-11-25T08:15.", value=text)
    try:
        sent = datetime.fromisoformat(text)
    except ValueError:
        raise wrong from None
    if not 2000 <= sent.year <= 2100:  # beyond them a zone may lead out of the calendar
        raise wrong
    return sent if sent.tzinfo else sent.replace(tzinfo=zone)


class FormDoor:
    """Reads fields of the sent form; faults are gathered, and `close` raises all of them at once."""

    def __init__(self) -> None:
        self.faults: list[InputError] = []

    def number(self, field: str, label: str) -> float | None:
        """As `optional_number`; None where it is no number."""
        try:
            return optional_number(field, label)
        except InputError as error:
            self.faults.extend(error.faults)
            return None

    def measured(self, field: str, label: str, dimension: str = "") -> tuple[float | None, str]:
        """As `optional_measured`; (None, "") where it cannot be read."""
        try:
            return optional_measured(field, label, dimension)
        except InputError as error:
            self.faults.extend(error.faults)
            return None, ""

    def close(self) -> None:
        """Raises InputError, or InputErrors where several are wrong."""
        if self.faults:
            raise self.faults[0] if len(self.faults) == 1 else InputErrors(self.faults)


class NumberField(StringField):
    """A number typed with point or comma; `number` is a float, or None when empty and not required."""

    def __init__(self, text: str = "", *, name_of: str, required: bool = True, **kwargs: Any) -> None:
        super().__init__(text or sentence_label(name_of), **kwargs)
        self.name_of, self.required = name_of, required
        self.number: float | None = None

    def post_validate(self, form: Any, validation_stopped: bool) -> None:
        try:
            self.number = parse_number(label(self.name_of), str(self.data or ""), required=self.required)
        except InputError as error:
            raise ValidationError(str(error)) from error


class MeasuredField(NumberField):
    """A number with or without its unit behind it, as "12.8 mS"; `unit` is what was written, empty where nothing was.

    dimension : where the field has a unit of its own: what is written in another is turned into it
    unit_from : the field of the form that says which unit the page had asked for
    """

    def __init__(
        self, text: str = "", *, name_of: str, dimension: str = "", unit_from: str = "", **kwargs: Any
    ) -> None:
        super().__init__(text, name_of=name_of, **kwargs)
        self.dimension, self.unit, self.unit_from = dimension, "", unit_from

    def post_validate(self, form: Any, validation_stopped: bool) -> None:
        text = str(self.data or "")
        asked = str(form[self.unit_from].data or "") if self.unit_from else ""
        if asked and not units.apart(text)[1]:
            text = f"{text} {asked}" if text.strip() else text
        try:
            self.number, self.unit = measured(label(self.name_of), text, self.dimension, self.required)
        except InputError as error:
            raise ValidationError(words_of(error)) from error


def measured(name: str, text: str, dimension: str = "", required: bool = True) -> tuple[float | None, str]:
    """A number and the unit written behind it; with a dimension, the number in its canonical unit. Raises InputError."""
    number, unit = units.apart(text)
    value = parse_number(name, number, required=required)
    if value is not None and unit and dimension:
        return units.to_canonical(name, value, unit, dimension), ""
    return value, unit


class WriteForm(FlaskForm):
    """A form that writes: it carries the idempotency key the page was given."""

    key = HiddenField()
    turn = HiddenField()

    @property
    def write_key(self) -> uuid.UUID:
        try:
            return uuid.UUID(str(self.key.data))
        except ValueError as error:
            raise InputError("form", "This form has no key. Reload the page and send it again.") from error

    @property
    def turn_number(self) -> int:
        text = str(self.turn.data or "")
        if not re.fullmatch(r"\d{1,6}", text):
            raise InputError("form", "This form does not say which turn it is for. Reload the page and send it again.")
        return int(text)

    def check(self) -> None:
        """Raise every fault of the form at once, as sentences that name the field."""
        if self.validate():
            return
        faults = [
            InputError(name, str(message)) for name, messages in self.errors.items() if name for message in messages
        ]
        raise faults[0] if len(faults) == 1 else InputErrors(faults)


class ReasonForm(WriteForm):
    """A reason in words, whether it is early, and the last sample the page had shown."""

    reason = StringField("Reason")
    early = StringField("Early")
    seen = HiddenField()

    @property
    def seen_number(self) -> int | None:
        text = str(self.seen.data or "")
        if not text:
            return None
        if not re.fullmatch(r"\d{1,8}", text):  # a linked sample is numbered in ms, up to 3 h
            raise InputError(
                "form", "This form does not say which sample it is for. Reload the page and send it again."
            )
        return int(text)


def text_of(field: Field) -> str:
    """The field's text, never None."""
    return str(field.data or "")
