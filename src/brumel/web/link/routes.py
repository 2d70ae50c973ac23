"""The address the link program posts to: a token instead of a sign-in, JSON in and out."""

from __future__ import annotations

import json
import time
from typing import Any

from flask import Blueprint, current_app, jsonify, request

from brumel.core.errors import BrumelError, InputError
from brumel.web.access import desk
from brumel.web.arriving import json_object
from brumel.web.held import Held, answer
from brumel.web.reader import in_words
from brumel.work.desk import NotFound
from brumel.work.link import sessions as link_sessions

#: Well under what a proxy between link and server gives an answer.
LONGEST_WAIT_S = 20.0
#: How often a link that waits is looked after, where nothing was announced.
LOOK_S = 5.0

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
                desk(),
                _token(),
                str(body.get("session", "")),
                link_sessions.checked(body.get("rows")),
                now,
                _standing(body),
            )
        )
    except link_sessions.WrongClock as error:
        return _said(error, 409)
    except link_sessions.BadToken as error:
        return _said(error, 401)
    except NotFound as error:
        return _said(error, 404)
    except InputError as error:
        return _said(error, 422)


def _standing(body: dict[str, Any]) -> link_sessions.Standing | None:
    """What the link says of itself; None where it says nothing. Raises InputError."""
    if "waiting" not in body:
        return None
    waiting, refused, words = (body.get(name, "" if name == "words" else 0) for name in ("waiting", "refused", "words"))
    counts = all(isinstance(n, int) and not isinstance(n, bool) and 0 <= n < 10**9 for n in (waiting, refused))
    if not counts or not isinstance(words, str) or len(words) > 300:
        raise InputError("waiting", "What the link says of itself must be two counts and a sentence.")
    return link_sessions.Standing(waiting, refused, words.replace("\x00", ""))


@blueprint.post("/wait")
def wait() -> Any:
    """Answers once a probe of the meter is dipped, or after a while; until then the link need not hurry."""
    try:
        _body()
        token, its_desk = _token(), desk()
        probes = link_sessions.waits_for(its_desk, token)
    except link_sessions.BadToken as error:
        return _said(error, 401)
    except InputError as error:
        return _said(error, 422)
    if not probes:
        return jsonify(idle=False)
    end = time.monotonic() + LONGEST_WAIT_S

    def look() -> tuple[bytes, bool]:
        """Nothing while all of them stand idle; then, or at the end, how they stand."""
        try:
            is_idle = bool(link_sessions.waits_for(its_desk, token))
        except link_sessions.BadToken:  # it was replaced meanwhile: the link asks anew, and is told
            is_idle = False
        is_over = not is_idle or time.monotonic() >= end
        return (json.dumps({"idle": is_idle}).encode() if is_over else b""), is_over

    held_answer = Held(current_app.extensions["hub"], probes, look, LONGEST_WAIT_S + LOOK_S, LOOK_S)
    return answer(held_answer, "application/json")
