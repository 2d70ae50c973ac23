"""Engine and sessions, and the channel on which new samples are announced."""

from __future__ import annotations

from sqlalchemy import Engine, create_engine
from sqlalchemy.orm import Session, sessionmaker

# Tables of one file name those of another: whoever opens a session knows them all.
from brumel.store import logger, records, rounds, standing  # noqa: F401

SAMPLES_CHANNEL = "brumel_samples"


def make_engine(url: str, *, pool_size: int = 10) -> Engine:
    """An engine that checks a connection before use, so a restarted database is no error.

    Just-in-time compiling is off: it costs more than these short queries take.
    """
    return create_engine(
        url,
        pool_pre_ping=True,
        pool_size=pool_size,
        max_overflow=20,
        pool_timeout=15,
        connect_args={"options": "-c jit=off"},
    )


def make_sessions(engine: Engine) -> sessionmaker[Session]:
    """Sessions whose objects stay readable after the commit."""
    return sessionmaker(engine, expire_on_commit=False)
