"""The simulated meters as a process: busy while a probe stands somewhere, waiting for the next dip otherwise."""

from __future__ import annotations

import time
from collections.abc import Callable

from brumel.store.sessions import Announcements
from brumel.work.desk import Desk
from brumel.work.simulator.meters import Simulator

#: How long it waits at once [s], so that it notices when its parent has gone; and how often it looks all the same.
WAIT_S, LOOK_S = 4.0, 30.0


def _nothing(_: Desk) -> None:
    """Nothing besides."""


def run(
    desk: Desk,
    news: Announcements,
    goes_on: Callable[[], bool],
    say: Callable[[str], None],
    besides: Callable[[Desk], object] = _nothing,
) -> None:
    """Store what the simulated meters show, for as long as `goes_on` says so.

    besides : done with each look, as what simulated loggers send
    """
    simulator = Simulator(desk)
    looked, pause, done_besides = 0.0, 0.0, 0.0
    while goes_on():
        try:
            if pause:
                time.sleep(pause)
            elif not news.wait(WAIT_S) and time.monotonic() - looked < LOOK_S:
                continue
            looked = time.monotonic()
            simulator.pump()
            if looked - done_besides >= LOOK_S:
                besides(desk)
                done_besides = looked
            pause = simulator.pause_s
        except Exception as error:
            # The meter outlives a restart of the database; what was due is made up for by the next look.
            say(f"simulated meter: {type(error).__name__}, trying again")
            time.sleep(2)
