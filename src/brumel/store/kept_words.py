"""Sentences that were kept as data, made sentences again."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from brumel.core.sentence import Amount, Span, say

_KEPT_MOMENT = re.compile(r"^\d{4}-\d{2}-\d{2} \d{2}:\d{2}Z$")


def from_data(body: Mapping[str, Any]) -> str:
    """What `as_data` kept, as a sentence again for a page to put into its reader's units and zone."""
    if "template" not in body:
        return str(body.get("words", ""))
    return say(body["template"], **{name: _restored(each) for name, each in body["values"].items()})


def _restored(kept: Any) -> Any:
    if isinstance(kept, dict) and "template" in kept:
        return from_data(kept)
    if isinstance(kept, dict) and "low" in kept:
        return Span(kept["low"], kept["high"], kept["unit"], ".4g")
    if isinstance(kept, dict):
        return Amount(kept["value"], kept["unit"], ".4g", bool(kept.get("difference")))
    if isinstance(kept, str) and _KEPT_MOMENT.match(kept):
        return datetime.strptime(kept, "%Y-%m-%d %H:%MZ").replace(tzinfo=UTC)
    return kept
