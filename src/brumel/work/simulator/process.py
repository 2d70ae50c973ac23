"""The simulated meters as a process: busy while a probe stands somewhere, waiting for the next dip otherwise."""

from __future__ import annotations

import time
from collections.abc import Callable

from brumel.store.sessions import Announcements
from brumel.work.desk import Desk
from brumel.work.simulator.meters import Simulator

#: How long it waits at once [s], so that it notices when its parent has gone; and how often it looks all the same.
WAIT_S, LOOK_S = 4.0, 30.0


def run(desk: Desk, news: Announcements, goes_on: Callable[[], bool], say: Callable[[str], None]) -> None:
    """Store what the simulated meters show, for as long as `goes_on` says so."""
    simulator = Simulator(desk)
    looked, pause = 0.0, 0.0
    while goes_on():
        try:
            if pause:
                time.sleep(pause)
            elif not news.wait(WAIT_S) and time.monotonic() - looked < LOOK_S:
                continue
            looked = time.monotonic()
            simulator.pump()
            pause = simulator.pause_s
        except Exception as error:
            # The meter outlives a restart of the database; what was due is made up for by the next look.
            say(f"simulated meter: {type(error).__name__}, trying again")
            time.sleep(2)
