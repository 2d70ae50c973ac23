"""What a person does with a job: ask for it, watch it, stop it, try it again, fetch what it made."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core.sentence import say
from brumel.store.jobs import Job, JobFile
from brumel.store.tables import User
from brumel.work.desk import NotFound, Refused, Write, Written, object_id, writes

#: How many jobs one person may have open at once, and how long a finished one and its file are kept.
MOST_OPEN, KEPT = 4, timedelta(days=7)
OPEN = ("waiting", "running")
LISTED = 30


@writes("job.ask", Written)
def ask(w: Write, *, kind: str, title: str, asked: dict[str, Any]) -> Written:
    """Put a job in the queue. Raises Refused where the person has MOST_OPEN of them open."""
    _room(w)
    job = Job(kind=kind, title=title, asked=asked, by_id=w.actor.id, asked_at=w.now)
    w.session.add(job)
    w.session.flush()
    w.record(f"job:{job.id}", {"kind": kind, "title": title})
    return Written(str(job.id))


@writes("job.cancel", Written)
def cancel(w: Write, *, job_id: str) -> Written:
    """Stop a job; one that runs stops at its next step. One that has ended stays as it is."""
    job = _changed(w, job_id)
    if job.state in OPEN:
        job.state, job.ended_at = "cancelled", w.now
        w.record(f"job:{job.id}", {})
    return Written(str(job.id))


@writes("job.retry", Written)
def retry(w: Write, *, job_id: str) -> Written:
    """Put a failed or cancelled job back in the queue. Raises Refused for any other."""
    job = _changed(w, job_id)
    if job.state not in ("failed", "cancelled"):
        raise Refused("Only work that failed or was stopped can be tried again.")
    _room(w)
    job.state, job.tries, job.done, job.of, job.fault, job.ended_at = "waiting", 0, 0, 0, "", None
    w.record(f"job:{job.id}", {})
    return Written(str(job.id))


def mine(session: Session, actor: User) -> Sequence[Job]:
    """The person's jobs, newest first."""
    return session.scalars(select(Job).where(Job.by_id == actor.id).order_by(Job.asked_at.desc()).limit(LISTED)).all()


def job(session: Session, actor: User, job_id: str) -> Job:
    """One job of the person's own. Raises NotFound for another's."""
    found = session.get(Job, object_id(job_id, "job"))
    if found is None or found.by_id != actor.id:
        raise NotFound("There is no such job.")
    return found


def file_of(session: Session, actor: User, job_id: str) -> JobFile:
    """What a finished job made. Raises NotFound where there is none."""
    made = session.get(JobFile, job(session, actor, job_id).id)
    if made is None:
        raise NotFound("This job has made no file.")
    return made


def _changed(w: Write, job_id: str) -> Job:
    own = job(w.session, w.actor, job_id)
    w.session.refresh(own, with_for_update={"of": Job})
    return own


def _room(w: Write) -> None:
    """Taken under the person's row, so that two windows at once do not both find the last place."""
    w.session.execute(select(User.id).where(User.id == w.actor.id).with_for_update())
    n_open = w.session.scalar(select(func.count()).select_from(Job).where(Job.by_id == w.actor.id, Job.state.in_(OPEN)))
    if n_open is not None and n_open >= MOST_OPEN:
        raise Refused(say("You have {n} jobs open; wait for one of them, or stop it.", n=n_open))
