"""A line of JSON for each request, on standard error: with a number of its own, without secrets.

The rule of an address is logged, not the address: links carry tokens, and search words are nobody's business. What was sent,
headers and parameters of the database are never logged.
"""

from __future__ import annotations

import logging
import re
import sys
import time
import uuid
from typing import Any

from flask import Flask, Response, g, request
from flask_login import current_user
from pythonjsonlogger.json import JsonFormatter

from brumel.web.watching import figures

access = logging.getLogger("brumel.access")
_NUMBER = re.compile(r"[0-9A-Za-z-]{8,64}")


def init(app: Flask, level: str) -> None:
    """Give each request its number, log and count it."""
    _set_up(level)

    @app.before_request
    def begin() -> None:
        given = request.headers.get("X-Request-Id", "")
        is_believed = app.config["TRUSTED_PROXIES"] and _NUMBER.fullmatch(given)
        g.request_id, g.begun = (given if is_believed else uuid.uuid4().hex), time.perf_counter()

    # Registered first, so it is called last: other handlers' answers are counted as they go out.
    @app.after_request
    def end(response: Response) -> Response:
        endpoint, seconds = request.endpoint or "none", time.perf_counter() - g.get("begun", time.perf_counter())
        figures.requests.labels(endpoint, request.method, str(response.status_code)).inc()
        figures.took.labels(endpoint).observe(seconds)
        response.headers["X-Request-Id"] = g.get("request_id", "")
        access.info("request", extra=_line(endpoint, response, seconds))
        return response


def _line(endpoint: str, response: Response, seconds: float) -> dict[str, Any]:
    person = getattr(current_user, "user", None) if "_login_user" in g else None
    return {
        "request_id": g.get("request_id", ""),
        "method": request.method,
        "endpoint": endpoint,
        "rule": request.url_rule.rule if request.url_rule else "",
        "status": response.status_code,
        "ms": round(seconds * 1000, 1),
        "bytes": response.content_length,
        "person": str(person.id) if person is not None else None,
        "from": request.remote_addr,
    }


class _Numbered(logging.Filter):
    """Whatever is logged while a request is answered carries its number."""

    def filter(self, record: logging.LogRecord) -> bool:
        if not hasattr(record, "request_id"):
            record.request_id = g.get("request_id") if g else None
        return True


def _set_up(level: str) -> None:
    brumel = logging.getLogger("brumel")
    if not any(isinstance(each, _OurHandler) for each in brumel.handlers):
        handler = _OurHandler()
        handler.setFormatter(
            JsonFormatter(
                ["asctime", "levelname", "name", "message", "process"],
                rename_fields={"asctime": "at", "levelname": "level", "name": "of", "process": "pid"},
            )
        )
        handler.addFilter(_Numbered())
        brumel.addHandler(handler)
        brumel.propagate = False
    brumel.setLevel(level.upper())


class _OurHandler(logging.Handler):
    """Writes to standard error as it is now; known by its class, so that two applications in a process do not log twice."""

    def emit(self, record: logging.LogRecord) -> None:
        try:
            sys.stderr.write(self.format(record) + "\n")
        except (OSError, ValueError):
            self.handleError(record)
