"""Where Brumel lies on its host: at the top, or under a path (BRUMEL_PATH)."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING

from flask import request

if TYPE_CHECKING:
    from _typeshed.wsgi import StartResponse, WSGIApplication, WSGIEnvironment

#: Where the practice worlds hang in the application.
WORLDS = "/practice/world"


def under(path: str, inside: WSGIApplication) -> Callable[[WSGIEnvironment, StartResponse], Iterable[bytes]]:
    """The application under a path, whether a proxy in front takes it off or not. No header says where; the setting does."""

    def application(environ: WSGIEnvironment, start_response: StartResponse) -> Iterable[bytes]:
        asked = environ.get("PATH_INFO", "")
        environ["SCRIPT_NAME"] = path
        environ["PATH_INFO"] = asked[len(path) :] if asked == path or asked.startswith(f"{path}/") else asked
        return inside(environ, start_response)

    return application


def root() -> str:
    """The path that stands before every address of ours, empty at the top of a host; a practice world is no part of it."""
    return request.script_root.removesuffix(WORLDS)


def this_path(*, query: bool = False) -> str:
    """The path of this page as a browser asks for it."""
    return request.script_root + (request.full_path.rstrip("?") if query else request.path)
