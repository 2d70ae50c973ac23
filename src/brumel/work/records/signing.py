"""The lead's queue, and signing."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

from sqlalchemy import ColumnElement, Select, func, select
from sqlalchemy.orm import Session, aliased, joinedload, lazyload

from brumel.core.errors import InputError
from brumel.core.sentence import say
from brumel.store.records import Closing, Decision, Signature, Signing, Unsigned
from brumel.store.standing import is_standing
from brumel.store.tables import Reading
from brumel.work import people
from brumel.work.desk import MovedOn, NotAllowed, NotFound, Refused, Write, object_id, writes
from brumel.work.records.search import in_a_list

# -- the lead's queue


@dataclass(frozen=True)
class Signed:
    """A signing, and how many versions it was new for."""

    id: str
    signed: int


#: Lists of what waits are cut here.
MOST = 60


@cache
def _undecided() -> ColumnElement[bool]:
    """Where a closing check is not decided about, or its decision was opened again since."""
    later = aliased(Decision)
    overtaken = select(later.id).where(later.subject == Decision.subject, later.number > Decision.number)
    decided = select(Decision.id).where(
        Decision.subject == Closing.id, Decision.kind != "reopened", ~overtaken.exists()
    )
    return ~decided.exists()


def open_closings(session: Session) -> list[Closing]:
    """Closing checks that nobody decided about, newest first."""
    # Only what a line of the list names: the run behind a closing check brings half the database with it.
    named = (joinedload(part).lazyload("*") for part in (Closing.probe, Closing.calibration))
    waiting = select(Closing).where(_undecided()).options(lazyload("*"), *named)
    return list(session.scalars(waiting.order_by(Closing.at.desc()).limit(MOST)))


@dataclass(frozen=True)
class Waiting:
    """How much waits for the lead: closing checks without a decision, unsigned readings, those beyond a limit among them."""

    closings: int
    unsigned: int
    exceeded: int


def counts(session: Session) -> Waiting:
    """The same in numbers, by one query."""
    return Waiting(*session.execute(_counts()).one())


@cache
def _counts() -> Select[Any]:
    waiting = select(func.count()).select_from(Closing).where(_undecided()).scalar_subquery()
    unsigned = select(func.count()).select_from(Unsigned)
    exceeded = unsigned.join(Reading, Reading.id == Unsigned.reading_id).where(Reading.outcome == "exceeded")
    return select(waiting, unsigned.scalar_subquery(), exceeded.scalar_subquery())


@dataclass(frozen=True)
class Scope:
    """What is signed at once: a visit, a round that was gone, or single readings."""

    kind: str = "readings"
    subject: str = ""


@writes("reading.sign", Signed)
def sign(
    w: Write, *, readings: Sequence[str], password: str, apart: Sequence[str] = (), scope: Scope = Scope()
) -> Signed:
    """Sign versions of readings; the person's password is asked for again. What is set apart stays unsigned.

    A version that was overtaken meanwhile is refused, all of them kept. Raises InputError, MovedOn, NotAllowed, Refused.
    """
    if w.actor.role != "lead":
        raise NotAllowed("Signing readings is for the lead.")
    if not people.is_password(w, password):
        raise InputError("password", "Password is not yours as you signed in with it. Nothing was signed.")
    if scope.kind not in SCOPES:
        raise NotFound("There is nothing of that kind to sign.")
    left_out = {object_id(r, "reading") for r in apart}
    ids = [i for r in dict.fromkeys(readings) if (i := object_id(r, "reading")) not in left_out]
    if not ids:
        raise Refused("Nothing is left to sign: every reading is set apart, or signed already.")
    if len(ids) > MOST_AT_ONCE:
        raise Refused(say("Sign {n} at once at most.", n=MOST_AT_ONCE))
    rows = list(w.session.scalars(select(Reading).where(Reading.id.in_(ids), is_standing()).options(lazyload("*"))))
    if len(rows) != len(ids):
        raise MovedOn("One of these readings has a newer version. You now see it; nothing was signed.")
    have = set(w.session.scalars(select(Signature.reading_id).where(Signature.reading_id.in_(ids))))
    new = [row for row in rows if row.id not in have]
    if not new:
        raise MovedOn("All of these are signed already.")
    name = " ".join(w.actor.name.split())
    subject = object_id(scope.subject, scope.kind) if scope.subject else None
    act = Signing(id=uuid.uuid4(), kind=scope.kind, subject=subject, name=name, at=w.now, by_id=w.actor.id)
    w.session.add(act)
    w.session.flush()
    for row in new:
        w.session.add(Signature(reading_id=row.id, name=name, at=w.now, by_id=w.actor.id, signing_id=act.id))
    versions = {str(row.root_id): row.version for row in new}
    w.record(f"signing:{act.id}", {"signed": len(new), "apart": len(left_out), "versions": versions})
    return Signed(str(act.id), len(new))


SCOPES = ("visit", "round", "readings")
MOST_AT_ONCE = 500


def signature(session: Session, reading_id: uuid.UUID) -> Signature | None:
    """The signature of a version, None where it is unsigned."""
    return session.get(Signature, reading_id)


def signing(session: Session, signing_id: str) -> tuple[Signing, list[Reading]]:
    """What was signed at once: exactly these versions, in the order of a sheet. Raises NotFound."""
    act = session.get(Signing, object_id(signing_id, "signing"))
    if act is None:
        raise NotFound("There is no such signing.")
    query = select(Reading).join(Signature, Signature.reading_id == Reading.id).where(Signature.signing_id == act.id)
    return act, list(session.scalars(query.options(*in_a_list()).order_by(Reading.at, Reading.id)))
