"""The address the link program posts to: a token instead of a sign-in, JSON in and out."""

from __future__ import annotations

import queue
import time
from contextlib import suppress
from typing import Any

from flask import Blueprint, current_app, jsonify, request

from brumel.core.errors import BrumelError, InputError
from brumel.web.access import desk
from brumel.web.arriving import json_object
from brumel.web.reader import in_words
from brumel.work.desk import NotFound
from brumel.work.link import sessions as link_sessions

#: Well under what a proxy between link and server gives an answer.
LONGEST_WAIT_S = 20.0

blueprint = Blueprint("link", __name__, url_prefix="/link")


def _token() -> str:
    kind, _, token = request.headers.get("Authorization", "").partition(" ")
    return token.strip() if kind == "Bearer" else ""


def _body() -> dict[str, Any]:
    return json_object()


def _said(error: BrumelError, code: int) -> Any:
    return jsonify(error=in_words(error)), code


@blueprint.post("/hello")
def hello() -> Any:
    """A link program begins."""
    try:
        return jsonify(link_sessions.hello(desk(), _token(), str(_body().get("agent", ""))))
    except link_sessions.BadToken as error:
        return _said(error, 401)
    except InputError as error:
        return _said(error, 422)


@blueprint.post("/samples")
def samples() -> Any:
    """Samples of a session; a resend changes nothing."""
    try:
        body = _body()
        now = body.get("now")
        if now is not None and not (isinstance(now, (int, float)) and 0 <= now < 1e9):
            raise InputError("now", "The link's clock must be seconds since its session began.")
        return jsonify(
            link_sessions.take(
                desk(), _token(), str(body.get("session", "")), link_sessions.checked(body.get("rows")), now
            )
        )
    except link_sessions.BadToken as error:
        return _said(error, 401)
    except NotFound as error:
        return _said(error, 404)
    except InputError as error:
        return _said(error, 422)


@blueprint.post("/wait")
def wait() -> Any:
    """Answers once a probe of the meter is dipped, or after a while; until then the link need not hurry."""
    try:
        _body()
        end = time.monotonic() + LONGEST_WAIT_S
        probes = link_sessions.waits_for(desk(), _token())
        while probes and (left := end - time.monotonic()) > 0:
            with current_app.extensions["hub"].watch(*probes) as news:
                probes = link_sessions.waits_for(desk(), _token())  # it may have been dipped before we listened
                if probes:
                    with suppress(queue.Empty):
                        news.get(timeout=left)
                    probes = link_sessions.waits_for(desk(), _token())
        return jsonify(idle=bool(probes))
    except link_sessions.BadToken as error:
        return _said(error, 401)
    except InputError as error:
        return _said(error, 422)
