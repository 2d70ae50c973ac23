"""One listener a process hears which dip has new samples, or which probe was dipped, and wakes whoever waits for it."""

from __future__ import annotations

import threading
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import psycopg

from brumel.store.sessions import SAMPLES_CHANNEL

IDLE_S = 2.0


class Hub:
    """Listens to the samples channel once a process; started by the first page that watches."""

    def __init__(self, url: str) -> None:
        self._url = url.replace("+psycopg", "")
        self._waiting: dict[str, set[Callable[[], object]]] = defaultdict(set)
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    @contextmanager
    def watch(self, call: Callable[[], object], *names: str) -> Iterator[None]:
        """Call whenever samples of a dip were stored, or a probe was dipped, by their ids; from the listener's thread."""
        with self._lock:
            for name in names:
                self._waiting[name].add(call)
            if self._thread is None:
                self._thread = threading.Thread(target=self._listen, daemon=True, name="samples-listener")
                self._thread.start()
        try:
            yield
        finally:
            with self._lock:
                for name in names:
                    self._waiting[name].discard(call)
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
        for call in waiting:
            call()
