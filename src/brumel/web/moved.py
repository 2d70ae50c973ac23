"""Old addresses lead to the new ones: bookmarks, pages left open, and whatever a phone still sends to the old place."""

from __future__ import annotations

import re
from typing import Any

from flask import Flask, redirect, request

#: (old path, new path); what is in brackets is carried over. 308 keeps the method and what was sent.
MOVED = tuple(
    (re.compile(old), new)
    for old, new in (
        (r"^/look$", "/theme"),
        (r"^/bench/meters/([^/]+)/sitting$", r"/bench/meters/\1/session"),
        (r"^/bench/sittings/(.+)$", r"/bench/sessions/\1"),
        (r"^/kit/probes/([^/]+)/upkeep$", r"/kit/probes/\1/maintenance"),
        (r"^/records/closings/([^/]+)/rule$", r"/records/closings/\1/decide"),
        (r"^/records/rulings/([^/]+)/reopen$", r"/records/decisions/\1/reopen"),
        (r"^/records/discoveries/(.+)$", r"/records/affected/\1"),
        (r"^/records/calibrations/([^/]+)/supersede$", r"/records/calibrations/\1/withdraw"),
        (r"^/rounds/rounds/(.+)$", r"/rounds/plans/\1"),
        (r"^/rounds/sites/([^/]+)/logs$", r"/rounds/sites/\1/series"),
        (r"^/rounds/logs/([^/]+)/service$", r"/rounds/series/\1/check"),
        (r"^/rounds/logs/([^/]+)/rule$", r"/rounds/series/\1/decide"),
        (r"^/rounds/logs/([^/]+)$", r"/rounds/series/\1"),
    )
)


def new_path(path: str) -> str:
    """Where an old path has gone; empty for a path that was never one."""
    for old, new in MOVED:
        if old.match(path):
            return old.sub(new, path)
    return ""


def init(app: Flask) -> None:
    """Answer old addresses before anything says that there is no such page."""

    @app.before_request
    def old_address() -> Any:
        if request.endpoint is not None or not (path := new_path(request.path)):
            return None
        query = request.query_string.decode("latin-1")
        return redirect(request.script_root + (f"{path}?{query}" if query else path), code=308)
