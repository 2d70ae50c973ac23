"""Server-sent events: one listener a process hears which dip has new samples and wakes the pages that show it."""

from __future__ import annotations

import json
import queue
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import psycopg
from flask import Response, current_app
from flask_login import current_user

from brumel.store.sessions import SAMPLES_CHANNEL
from brumel.web.reader import Reader, all_in_words, reader
from brumel.web.units import live_numbers
from brumel.work import people

LONGEST_STREAM_S = 1800.0
IDLE_S = 2.0


class Hub:
    """Listens to the samples channel once a process; started by the first page that watches."""

    def __init__(self, url: str) -> None:
        self._url = url.replace("+psycopg", "")
        self._waiting: dict[str, set[queue.Queue[None]]] = defaultdict(set)
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    @contextmanager
    def watch(self, *names: str) -> Iterator[queue.Queue[None]]:
        """A queue that gets an item whenever samples of a dip were stored, or a probe was dipped, by their ids."""
        mine: queue.Queue[None] = queue.Queue(maxsize=1)
        with self._lock:
            for name in names:
                self._waiting[name].add(mine)
            if self._thread is None:
                self._thread = threading.Thread(target=self._listen, daemon=True, name="samples-listener")
                self._thread.start()
        try:
            yield mine
        finally:
            with self._lock:
                for name in names:
                    self._waiting[name].discard(mine)
                    if not self._waiting[name]:
                        del self._waiting[name]

    def _listen(self) -> None:
        while True:
            try:
                with psycopg.connect(self._url, autocommit=True) as connection:
                    connection.execute(f"listen {SAMPLES_CHANNEL}")
                    for note in connection.notifies():
                        self._wake(note.payload)
            except psycopg.Error:
                time.sleep(1)  # pages look for themselves every IDLE_S meanwhile

    def _wake(self, name: str) -> None:
        with self._lock:
            waiting = list(self._waiting.get(name, ()))
        for one in waiting:
            try:
                one.put_nowait(None)
            except queue.Full:
                continue  # it has not looked since the last wake; one is enough


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

    def events() -> Iterator[str]:
        yield "retry: 1500\n\n"
        end = time.monotonic() + LONGEST_STREAM_S
        looked = time.monotonic()
        with hub.watch(dip_id) as news:
            while time.monotonic() < end:
                update = tick()
                if update is not None:
                    yield _event("reading", live_numbers(update, unit, whose.units), whose)
                if time.monotonic() - looked > IDLE_S:
                    looked = time.monotonic()
                    # Whoever is no longer let in sees no further: their page asks anew, and is sent to sign in.
                    if moved() or people.standing_session(desk, token) is None:
                        yield _event("moved", {}, whose)
                        return
                    yield ": here\n\n"
                try:
                    news.get(timeout=IDLE_S)
                except queue.Empty:
                    continue

    response = Response(events(), mimetype="text/event-stream")
    response.headers["X-Accel-Buffering"] = "no"
    return response
