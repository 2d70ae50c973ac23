"""A live page: server-sent events of one dip, or of the cups and probes that are watched together."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from typing import Any

from flask import Response, current_app
from flask_login import current_user

from brumel.web.held import Held, answer
from brumel.web.live import IDLE_S, Hub
from brumel.web.reader import Reader, all_in_words, reader
from brumel.web.units import live_numbers
from brumel.work import people

LONGEST_STREAM_S = 1800.0


def _event(kind: str, data: dict[str, Any], to: Reader) -> str:
    number = f"id: {data['seq']}\n" if "seq" in data else ""
    return f"{number}event: {kind}\ndata: {json.dumps(all_in_words(data, to), allow_nan=False)}\n\n"


def stream(
    hub: Hub, dip_id: str, tick: Callable[[], dict[str, Any] | None], moved: Callable[[], bool], unit: str = ""
) -> Response:
    """Events "reading" as samples come, "moved" when the page must be read afresh, a comment to keep the line open.

    unit : of the values, where the reader may have chosen another; empty for a signal
    """

    whose = reader()  # the events themselves are written outside the request
    token, desk = current_user.token, current_app.extensions["desk"]
    looked, begun = time.monotonic(), False

    def look() -> tuple[bytes, bool]:
        nonlocal looked, begun
        lines = [] if begun else ["retry: 1500\n\n"]
        begun = True
        update = tick()
        if update is not None:
            lines.append(_event("reading", live_numbers(update, unit, whose.units), whose))
        if time.monotonic() - looked > IDLE_S:
            looked = time.monotonic()
            # Whoever is no longer let in sees no further: their page asks anew, and is sent to sign in.
            if moved() or people.standing_session(desk, token) is None:
                return "".join([*lines, _event("moved", {}, whose)]).encode(), True
            lines.append(": here\n\n")
        return "".join(lines).encode(), False

    return answer(Held(hub, (dip_id,), look, LONGEST_STREAM_S, IDLE_S), "text/event-stream")
