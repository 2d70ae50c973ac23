"""Answers that are written as things happen: a live page, a link that waits. They hold no thread while nothing happens.

The server (`brumel.web.doors`) takes them over from the view that made them; without it, as in a test, the view's own thread
writes them.
"""

from __future__ import annotations

import queue
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from flask import Response, request

from brumel.web.live import Hub

#: Where the server's list of taken-over answers stands in the scope of a request.
SLOT = "brumel.held"


@dataclass
class Held:
    """An answer in the making.

    look : called when something was announced or `idle_s` have passed; returns what to send now and whether that was all.
        It is called in a thread, never twice at once.
    names : the dips or probes whose news it waits for, by their ids
    longest_s : it ends after this, whatever happens
    """

    hub: Hub
    names: tuple[str, ...]
    look: Callable[[], tuple[bytes, bool]]
    longest_s: float
    idle_s: float


def answer(held: Held, mimetype: str) -> Response:
    """The response that is held."""
    taken_over: list[Held] | None = request.environ.get("asgi.scope", {}).get(SLOT)
    body: Iterator[bytes] = iter(())
    if taken_over is None:
        body = _in_this_thread(held)
    else:
        taken_over.append(held)
    response = Response(body, mimetype=mimetype)
    response.headers["X-Accel-Buffering"] = "no"
    return response


def _in_this_thread(held: Held) -> Iterator[bytes]:
    news: queue.Queue[Any] = queue.Queue()
    end = time.monotonic() + held.longest_s
    with held.hub.watch(lambda: news.put(None), *held.names):
        while time.monotonic() < end:
            while not news.empty():
                news.get_nowait()
            text, is_over = held.look()
            if text:
                yield text
            if is_over:
                return
            try:
                news.get(timeout=min(held.idle_s, max(end - time.monotonic(), 0.0)))
            except queue.Empty:
                continue
