"""What gunicorn serves, and how: the application is made once, before its workers part from it."""

import gc
import threading
import time

gc.disable()  # nothing of what is imported is ever garbage; looking for it takes a third of the start

from brumel.config import Config  # noqa: E402
from brumel.web import create_app  # noqa: E402
from brumel.web.jobs import kinds  # noqa: E402
from brumel.work import demo  # noqa: E402

app = create_app(Config.from_env())
gc.freeze()
gc.enable()

#: How long after its start a worker loads what the first printed page would have to wait for [s]; first pages go before.
PRESS_READY_S = 4.0


def post_worker_init(worker: object) -> None:
    """Called by gunicorn in each worker."""
    threading.Thread(target=_make_ready, daemon=True).start()


def _make_ready() -> None:
    time.sleep(PRESS_READY_S)
    while app.config["DEMO"] and demo.history_under_way(app.extensions["desk"]):
        time.sleep(PRESS_READY_S)  # nobody can print yet, and the history wants the machine
    kinds.make_ready(app)
