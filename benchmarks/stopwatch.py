"""How long something takes: the median of repeats, after one that warms up; and waiting for a server to be timed."""

from __future__ import annotations

import socket
import statistics
import time
from collections.abc import Callable
from typing import Any


def median_s(do: Callable[[], Any], repeats: int = 25) -> float:
    """Seconds."""
    do()
    times = []
    for _ in range(repeats):
        start = time.perf_counter()
        do()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def wait_for_server(port: int, most_s: float = 60.0) -> None:
    """Until a server listens there."""
    until = time.monotonic() + most_s
    while True:
        try:
            socket.create_connection(("127.0.0.1", port), timeout=1).close()
            return
        except OSError:
            if time.monotonic() > until:
                raise
            time.sleep(0.1)
