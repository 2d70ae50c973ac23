"""A page that a browser still has and that would look the same is not sent again (HTTP 304).

What stands in every page anew, tokens and keys, is left out of the comparison. A key takes effect once, so whatever a
person has written in this session belongs to it: after a write no kept page passes for a fresh one.
"""

from __future__ import annotations

import hashlib
import re

from flask import Flask, Response, g, request, session
from flask_login import current_user

#: Fields that differ each time a page is made.
_ANEW = re.compile(rb'name="(?:csrf_token|key)" value="[^"]*"')
_WRITES = "writes"


def init(app: Flask) -> None:
    """Pages of the signed-in carry an ETag. Called after Compress, so that it runs before: a 304 is not compressed."""

    @app.after_request
    def tag(response: Response) -> Response:
        if not current_user.is_authenticated:
            return response
        if request.method == "POST" and response.status_code < 400:
            session[_WRITES] = session.get(_WRITES, 0) + 1
        elif request.method == "GET" and response.status_code == 200 and response.mimetype == "text/html":
            g.is_kept = True
            response.headers["Cache-Control"] = "private, no-cache"
            response.headers["Vary"] = "Cookie"
            response.set_etag(_digest(response.get_data(), current_user.get_id(), session.get(_WRITES, 0)), weak=True)
            response.make_conditional(request)
        return response


def is_kept() -> bool:
    """Whether the browser may keep what is being answered, and ask whether it still holds."""
    return bool(g.get("is_kept"))


def _digest(page: bytes, sign_in: str, writes: int) -> str:
    told = f"{sign_in} {writes} ".encode()
    return hashlib.blake2b(told + _ANEW.sub(b"", page), digest_size=16).hexdigest()
