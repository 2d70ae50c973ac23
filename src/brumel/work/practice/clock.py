"""The clock of a practice world: it runs at its own pace, and is set forward by what takes time."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.work import simulator
from brumel.work.desk import Clock, Write, Written, writes

SUBJECT = "world clock"
PACES = (1, 5, 20)


def begin(session: Session, real: datetime, world: datetime, pace: int) -> None:
    """Start a world's clock."""
    simulator.set_truth(session, SUBJECT, {"real": real.isoformat(), "world": world.isoformat(), "pace": pace})


def clock_of_world(session: Session, real: Clock) -> Clock:
    """The world's clock as it stands; it goes on by the real one."""
    body = simulator.truth(session, SUBJECT)
    if not body:
        return real
    since, world, pace = datetime.fromisoformat(body["real"]), datetime.fromisoformat(body["world"]), body["pace"]
    return lambda: world + (real() - since) * pace


def pace(session: Session) -> int:
    """How many of its seconds pass in one."""
    return int(simulator.truth(session, SUBJECT).get("pace", 1))


def go_on(session: Session, seconds: float) -> None:
    """Set it forward."""
    body = simulator.truth(session, SUBJECT)
    world = datetime.fromisoformat(body["world"]) + timedelta(seconds=seconds)
    simulator.set_truth(session, SUBJECT, {**body, "world": world.isoformat()})


@writes("practice.pace", Written)
def set_pace(w: Write, *, pace: str) -> Written:
    """Let it run faster or slower from now on. Raises InputError."""
    if pace not in {str(p) for p in PACES}:
        raise InputError("pace", f"Pace must be one of {', '.join(map(str, PACES))}.", value=pace[:10])
    begin(w.session, w.written, w.now, int(pace))
    w.record("practice:clock", {"pace": pace})
    return Written(pace)
