"""What the server runs, and how: the application is made once, before its workers part from it."""

import asyncio
import gc
import os
import resource
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path
from types import FrameType

gc.disable()  # nothing of what is imported is ever garbage; looking for it takes a third of the start

import uvicorn  # noqa: E402
from gunicorn.arbiter import Arbiter  # noqa: E402
from uvicorn.server import Server  # noqa: E402
from uvicorn_worker import UvicornWorker  # noqa: E402

from brumel.config import Config  # noqa: E402
from brumel.web import create_app  # noqa: E402
from brumel.web.doors import PAGE_THREADS, Doors  # noqa: E402
from brumel.web.jobs import kinds  # noqa: E402
from brumel.work import demo  # noqa: E402

app = create_app(Config.from_env())
doors = Doors(app, int(os.environ.get("BRUMEL_THREADS", PAGE_THREADS)))
gc.freeze()
gc.enable()

#: How long after its start a worker loads what the first printed page would have to wait for [s]; first pages go before.
PRESS_READY_S = 4.0


class Patient(Server):
    """Looks once a second whether it is to end, not ten times, which is what idling would cost; told to, it ends at once."""

    def __init__(self, config: uvicorn.Config) -> None:
        super().__init__(config)
        self._told, self._loop = asyncio.Event(), asyncio.get_running_loop()

    async def main_loop(self) -> None:
        counter = 0
        while not await self.on_tick(counter):
            counter = (counter + 10) % 864_000  # tenths of a second, as it counts them
            with suppress(TimeoutError):
                await asyncio.wait_for(self._told.wait(), 1.0)

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        super().handle_exit(sig, frame)
        self._loop.call_soon_threadsafe(self._told.set)


class Worker(UvicornWorker):
    """An asynchronous worker: a connection that waits costs it nothing but its place in a list.

    Who asks is who is connected; headers that say otherwise are believed by BRUMEL_TRUSTED_PROXIES alone.
    """

    CONFIG_KWARGS = {
        "loop": "asyncio",
        "http": "h11",
        "lifespan": "off",
        "proxy_headers": False,
        "server_header": False,
        "timeout_keep_alive": 15,
        "h11_max_incomplete_event_size": 32_768,
    }

    async def _serve(self) -> None:
        self.config.app = self.wsgi
        server = Patient(config=self.config)
        self._install_sigquit_handler()
        await server.serve(sockets=self.sockets)
        if not server.started:
            sys.exit(Arbiter.WORKER_BOOT_ERROR)


def on_starting(server: object) -> None:
    """Called by gunicorn before anything: every live page keeps a connection open, so as many are allowed as may be."""
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))


def post_worker_init(worker: object) -> None:
    """Called by gunicorn in each worker, which answers from here on."""
    if ready := os.environ.get("BRUMEL_READY"):
        Path(ready).touch()
    threading.Thread(target=_make_ready, daemon=True).start()


def _make_ready() -> None:
    time.sleep(PRESS_READY_S)
    while app.config["DEMO"] and demo.history_under_way(app.extensions["desk"]):
        time.sleep(PRESS_READY_S)  # nobody can print yet, and the history wants the machine
    import scipy.optimize
    import scipy.special  # noqa: F401 - so that the first judgement does not wait for them

    kinds.make_ready(app)
