"""What the server runs, and how: the application is made once, before its workers part from it."""

import gc
import os
import resource
import threading
import time
from pathlib import Path

gc.disable()  # nothing of what is imported is ever garbage; looking for it takes a third of the start

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
    kinds.make_ready(app)
