"""What lies ahead of deployments: loggers to set out, to visit and to lift, as it is noted on them."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.store.deployments import Deployment
from brumel.store.kept_words import from_data


def under_way(session: Session) -> list[Deployment]:
    """Deployments that are planned or out, what is next first."""
    return list(session.scalars(select(Deployment).where(Deployment.next_at.is_not(None)).order_by(Deployment.next_at)))


def next_words(d: Deployment) -> str:
    """What is next of it, in a sentence."""
    return from_data(d.next_words)


def upcoming(session: Session) -> list[tuple[Deployment, str, datetime, str]]:
    """What is next of each that is planned or out: the deployment, a short key of what, when, and words."""
    return [
        (d, f"{d.next_words.get('what', 'next')}-{d.next_at:%Y%m%d}", d.next_at, next_words(d))
        for d in under_way(session)
        if d.next_at is not None
    ]
