"""Where Brumel lies on its host: at the top, or under a path (BRUMEL_PATH)."""

from __future__ import annotations

import functools
import uuid
from collections.abc import Callable, Iterable
from types import NoneType
from typing import TYPE_CHECKING, Any

from flask import Flask, request

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


#: What stands in an address as it is written; lists and the like are more than one value.
_PLAIN = frozenset({str, int, uuid.UUID, NoneType})


def quick_addresses(app: Flask) -> None:
    """Templates ask for the same addresses again and again: working one out is dear, so it is kept for the next that asks."""

    @functools.lru_cache(maxsize=8192)
    def kept(_under: str, endpoint: str, values: tuple[tuple[str, str], ...]) -> str:
        return app.url_for(endpoint, **dict(values))  # type: ignore[arg-type]

    def url_for(endpoint: str, **values: Any) -> str:
        if not _PLAIN.issuperset(map(type, values.values())):
            return app.url_for(endpoint, **values)
        told = tuple((name, str(value)) for name, value in values.items() if value is not None)
        return kept(request.script_root, endpoint, told)

    app.jinja_env.globals["url_for"] = url_for


def root() -> str:
    """The path that stands before every address of ours, empty at the top of a host; a practice world is no part of it."""
    return request.script_root.removesuffix(WORLDS)


def this_path(*, query: bool = False) -> str:
    """The path of this page as a browser asks for it."""
    return request.script_root + (request.full_path.rstrip("?") if query else request.path)
