"""What a process does with jobs: claim one, do it step by step, keep what came of it; and take over a lost one's."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import and_, delete, or_, select, update

from brumel.core.errors import BrumelError
from brumel.store.jobs import Job, JobFile
from brumel.store.sessions import Announcements
from brumel.store.tables import User
from brumel.work.desk import Desk
from brumel.work.jobs.asking import KEPT

#: After so long without a sign of life a job is taken over [s]; a sign is given at most so often [s].
LOST_S, SIGN_S = 120.0, 0.5
#: A job whose process ended so often is not tried again by itself.
MOST_TRIES = 3
#: How long a process waits at once [s], so that it notices when its parent has gone; and how often it looks all the same.
WAIT_S, LOOK_S = 4.0, 60.0


class Cancelled(Exception):
    """Whoever asked for the job stopped it, or another process has taken it over."""


@dataclass(frozen=True)
class Done:
    """The file a job made."""

    name: str
    kind: str
    body: bytes


#: Told after each step: how many of how many are done. Raises Cancelled.
Tell = Callable[[int, int], None]
#: Does one kind of job: for whom, what was asked, whom to tell.
Kind = Callable[[User, Mapping[str, Any], Tell], Done]


@dataclass
class Doer:
    """Does jobs one after another. Several of them on one database never do the same one."""

    desk: Desk
    kinds: Mapping[str, Kind]
    _signed: float = field(default=0.0, init=False)

    def do_one(self) -> bool:
        """Claim the oldest job there is and do it; False where there is none."""
        claimed = self._claim()
        if claimed is None:
            return False
        job, tries = claimed
        try:
            done = self.kinds[job.kind](job.by, job.asked, lambda n, of: self._tell(job.id, tries, n, of))
            self._end(job.id, tries, "done", made=done)
        except Cancelled:
            pass
        except BrumelError as error:
            self._end(job.id, tries, "failed", fault=str(error))
        except Exception as error:
            self._end(
                job.id,
                tries,
                "failed",
                fault=f"It broke ({type(error).__name__}). Try again; if it breaks again, tell whoever runs Brumel.",
            )
        return True

    def tidy(self) -> None:
        """Let go of what ended longer ago than it is kept."""
        with self.desk.sessions.begin() as session:
            session.execute(delete(Job).where(Job.ended_at < self.desk.clock() - KEPT))

    def _claim(self) -> tuple[Job, int] | None:
        now = self.desk.clock()
        lost = and_(Job.state == "running", Job.seen_at < now - timedelta(seconds=LOST_S))
        given_up = "The process that did it ended before it was through, three times."
        with self.desk.sessions.begin() as session:
            session.execute(
                update(Job).where(lost, Job.tries >= MOST_TRIES).values(state="failed", fault=given_up, ended_at=now)
            )
            # A row another process is just claiming is passed over, not waited for.
            job = session.scalar(
                select(Job)
                .where(or_(Job.state == "waiting", lost))
                .order_by(Job.asked_at)
                .limit(1)
                .with_for_update(of=Job, skip_locked=True)
            )
            if job is None:
                return None
            job.state, job.seen_at, job.done, job.of, job.tries = "running", now, 0, 0, job.tries + 1
            return job, job.tries

    def _tell(self, job_id: uuid.UUID, tries: int, done: int, of: int) -> None:
        if done < of and time.monotonic() - self._signed < SIGN_S:
            return
        self._signed = time.monotonic()
        self._change(job_id, tries, seen_at=self.desk.clock(), done=done, of=of)

    def _end(self, job_id: uuid.UUID, tries: int, state: str, fault: str = "", made: Done | None = None) -> None:
        now = self.desk.clock()
        try:
            self._change(job_id, tries, made, state=state, fault=fault, ended_at=now, seen_at=now)
        except Cancelled:
            return

    def _change(self, job_id: uuid.UUID, tries: int, made: Done | None = None, **values: Any) -> None:
        """Change the job while it is still ours: running, and claimed by nobody since. Raises Cancelled otherwise."""
        ours = (Job.id == job_id, Job.state == "running", Job.tries == tries)
        with self.desk.sessions.begin() as session:
            if session.scalar(update(Job).where(*ours).values(**values).returning(Job.id)) is None:
                raise Cancelled
            if made is not None:
                session.add(JobFile(job_id=job_id, name=made.name, kind=made.kind, body=made.body))


def _nothing() -> None:
    """No chore."""


def process(
    doer: Doer,
    news: Announcements,
    goes_on: Callable[[], bool],
    say: Callable[[str], None],
    chore: Callable[[], object] = _nothing,
) -> None:
    """Do what is asked for, for as long as `goes_on` says so; nothing is looked for while nothing is announced.

    chore : done besides, about once a minute
    """
    looked = tidied = done_besides = datetime.min
    while goes_on():
        try:
            now = datetime.now()
            if not news.wait(WAIT_S) and now - looked < timedelta(seconds=LOOK_S):
                continue
            if now - done_besides >= timedelta(seconds=LOOK_S):
                chore()
                done_besides = now
            looked = now
            if now - tidied > timedelta(hours=1):
                doer.tidy()
                tidied = now
            while goes_on() and doer.do_one():
                pass
        except Exception as error:
            # It outlives a restart of the database; what was asked for is still there.
            say(f"jobs: {type(error).__name__}, trying again")
            time.sleep(2)
