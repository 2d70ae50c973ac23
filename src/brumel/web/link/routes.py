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


#: What a refusal is answered with; a link is told in JSON what a person is told on a page.
CODES = {link_sessions.WrongClock: 409, link_sessions.BadToken: 401, NotFound: 404, InputError: 422}


def _said(error: BrumelError) -> Any:
    return jsonify(error=in_words(error)), next(code for kind, code in CODES.items() if isinstance(error, kind))


for _kind in CODES:
    blueprint.register_error_handler(_kind, _said)


@blueprint.post("/hello")
def hello() -> Any:
    """A link program begins."""
    return jsonify(link_sessions.hello(desk(), _token(), str(_body().get("agent", ""))))


@blueprint.post("/samples")
def samples() -> Any:
    """Samples of a session; a resend changes nothing."""
    body = _body()
    return jsonify(
        link_sessions.take(
            desk(),
            _token(),
            str(body.get("session", "")),
            link_sessions.checked(body.get("rows")),
            _seconds(body, "now", "The link's clock must be seconds since its session began.", least=0.0),
            _seconds(body, "off", "How far the link's clock is off must be seconds.", least=-1e9),
            _standing(body),
        )
    )


@blueprint.post("/clock")
def clock() -> Any:
    """The server's clock, for the link to compare its own with."""
    return jsonify(link_sessions.clock(desk(), _token(), str(_body().get("session", ""))))


def _seconds(body: dict[str, Any], name: str, words: str, least: float) -> float | None:
    """A number of seconds that may be left out. Raises InputError."""
    value = body.get(name)
    if value is None:
        return None
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not least <= value < 1e9:
        raise InputError(name, words)
    return float(value)


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
    _body()
    token, its_desk = _token(), desk()
    probes = link_sessions.waits_for(its_desk, token)
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
