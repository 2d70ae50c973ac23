"""What arrives is looked at before any page reads it: text that cannot be kept is refused with a sentence."""

from __future__ import annotations

from typing import Any

from flask import Flask, request

from brumel.core.errors import InputError

LONGEST_FIELD = 20_000
DEEPEST = 12


def init(app: Flask) -> None:
    """Look at every request's query, form and address first."""

    @app.before_request
    def look() -> None:
        for name, value in (*request.args.items(multi=True), *(request.view_args or {}).items()):
            check_text(name, str(value))
        if request.mimetype in ("application/x-www-form-urlencoded", "multipart/form-data"):
            for name, value in request.form.items(multi=True):
                check_text(name, value)


def check_text(name: str, text: str) -> None:
    """Raise InputError for text that no record can hold: a NUL, half a character, or a field as long as a book."""
    label = _plain(name).replace("_", " ")[:40]
    for each in (name, text):
        if "\x00" in each or any(0xD800 <= ord(c) <= 0xDFFF for c in each):
            raise InputError(_plain(name), f"“{label}” holds a character that cannot be kept. Type it anew.")
    if len(text) > LONGEST_FIELD:
        raise InputError(_plain(name), f"“{label}” has {len(text):,} characters; {LONGEST_FIELD:,} are taken.")


def _plain(text: str) -> str:
    return text.encode("utf-8", "replace").decode().replace("\x00", "?")[:80]


def json_object() -> dict[str, Any]:
    """The JSON object of this request. Raises InputError where it is none, is nested too deep, or holds unkeepable text."""
    try:
        body = request.get_json(silent=True)
    except RecursionError:
        raise InputError("body", f"What was sent is nested deeper than {DEEPEST} levels.") from None
    if not isinstance(body, dict):
        raise InputError("body", "A JSON object must be sent.")
    _check(body, 0)
    return body


def _check(value: Any, depth: int) -> None:
    if depth > DEEPEST:
        raise InputError("body", f"What was sent is nested deeper than {DEEPEST} levels.")
    if isinstance(value, str):
        check_text("body", value)
    elif isinstance(value, dict):
        for key, each in value.items():
            check_text(str(key), "")
            _check(each, depth + 1)
    elif isinstance(value, list):
        for each in value:
            _check(each, depth + 1)
    elif isinstance(value, int) and abs(value) > 10**15:
        raise InputError("body", "A number that was sent is larger than any reading.")
