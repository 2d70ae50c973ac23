"""One listener a process hears which dip has new samples, or which probe was dipped, and wakes whoever waits for it.

What is announced of a dip carries its new samples, so that whoever watches need not ask the database for each.
"""

from __future__ import annotations

import threading
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from weakref import WeakSet

import psycopg

from brumel.store.sessions import SAMPLES_CHANNEL, announced_on
from brumel.work.link.samples import SampleRow, announced

IDLE_S = 2.0


class Ear:
    """Hears the samples of one dip, for one who watches it; it is forgotten with whoever holds it."""

    def __init__(self, hub: Hub) -> None:
        self._hub = hub
        self.rows: list[SampleRow] = []
        self.is_sure = False

    def __call__(self) -> list[SampleRow] | None:
        """The samples announced since the last call; None where some may have been missed, so that all must be asked for."""
        with self._hub.lock:
            rows, was_sure = self.rows, self.is_sure
            self.rows, self.is_sure = [], self._hub.is_listening
        return rows if was_sure else None


class Hub:
    """Listens to the samples channel once a process; started by the first page that watches."""

    def __init__(self, url: str) -> None:
        self._url = url.replace("+psycopg", "")
        self._waiting: dict[str, set[Callable[[], object]]] = defaultdict(set)
        self._ears: dict[str, WeakSet[Ear]] = {}
        self.lock = threading.Lock()
        self.is_listening = False
        self._thread: threading.Thread | None = None

    @contextmanager
    def watch(self, call: Callable[[], object], *names: str) -> Iterator[None]:
        """Call whenever samples of a dip were stored, or a probe was dipped, by their ids; from the listener's thread."""
        with self.lock:
            for name in names:
                self._waiting[name].add(call)
            if self._thread is None:
                self._thread = threading.Thread(target=self._listen, daemon=True, name="samples-listener")
                self._thread.start()
        try:
            yield
        finally:
            with self.lock:
                for name in names:
                    self._waiting[name].discard(call)
                    if not self._waiting[name]:
                        del self._waiting[name]

    def ear(self, dip_id: str) -> Ear:
        """An ear for the samples of a dip."""
        ear = Ear(self)
        with self.lock:
            for name in [name for name, ears in self._ears.items() if not ears]:
                del self._ears[name]
            self._ears.setdefault(dip_id, WeakSet()).add(ear)
        return ear

    def _listen(self) -> None:
        while True:
            try:
                with psycopg.connect(self._url, autocommit=True) as connection:
                    connection.execute(f"listen {SAMPLES_CHANNEL}")
                    self.is_listening = True
                    while True:
                        for note in announced_on(connection):
                            self._wake(note.payload)
            except psycopg.Error:
                self._deaf()
                time.sleep(1)  # pages look for themselves every IDLE_S meanwhile

    def _deaf(self) -> None:
        """Nothing is heard for a while: all that was, may be less than there is."""
        with self.lock:
            self.is_listening = False
            for ears in self._ears.values():
                for ear in ears:
                    ear.is_sure = False

    def _wake(self, said: str) -> None:
        name, rows = announced(said)
        with self.lock:
            for ear in self._ears.get(name, ()):
                ear.is_sure = ear.is_sure and rows is not None
                ear.rows += rows or []
            waiting = list(self._waiting.get(name, ()))
        for call in waiting:
            call()
