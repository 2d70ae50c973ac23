"""The desk every use case works at: sessions, clock, and writing exactly once with its audit entry."""

from __future__ import annotations

import hashlib
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import wraps
from typing import Any, Concatenate, ParamSpec, TypeVar

from pydantic import TypeAdapter
from sqlalchemy import select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, sessionmaker

from brumel.core.errors import BrumelError, InputError
from brumel.store.tables import Audit, User, WriteKey

Clock = Callable[[], datetime]


class NotFound(BrumelError):
    """The object a URL names does not exist, or is not for this person."""


class Refused(BrumelError):
    """A rule of the work forbids this now; the message says why and what to do."""


class MovedOn(Refused):
    """The thing was changed in another window meanwhile; nothing was written."""


class NotAllowed(Refused):
    """The person's role does not cover this."""


def utc_now() -> datetime:
    """The real clock."""
    return datetime.now(UTC)


@dataclass
class Write:
    """One write in progress.

    `now` is when it happened, `written` when it reached the record: they differ for what waited in a phone.
    """

    session: Session
    actor: User
    now: datetime
    key: uuid.UUID
    action: str
    written: datetime

    def record(self, subject: str, detail: dict[str, Any]) -> None:
        """Write the audit entry: what was done to what."""
        self.session.add(
            Audit(
                at=self.written, user_id=self.actor.id, action=self.action, subject=subject, detail=detail, key=self.key
            )
        )


@dataclass(frozen=True)
class Written:
    """What most writes answer with: the id, as it stands in an address, of the thing that was made or changed."""

    id: str


@dataclass(frozen=True)
class Desk:
    """Sessions and the clock, handed in so that tests and the simulated meter are deterministic."""

    sessions: sessionmaker[Session]
    clock: Clock = utc_now
    recorder: Clock | None = None

    @contextmanager
    def read(self) -> Iterator[Session]:
        """A session for looking only."""
        with self.sessions() as session:
            yield session


#: What whoever only looks on, an auditor or somebody of a client, may write: of their own account, and nothing else.
OF_ONESELF = frozenset(
    {"person.units", "person.password", "person.end_session", "token.make", "token.calendar", "token.end"}
)

P = ParamSpec("P")
R = TypeVar("R")


def writes(
    action: str, answer: type[R], secret: frozenset[str] = frozenset()
) -> Callable[[Callable[Concatenate[Write, P], R]], Callable[Concatenate[Desk, User, uuid.UUID, P], R]]:
    """Make a use case that writes: it is called with desk, person and the form's key, and gets its `Write`.

    All of it is one transaction that takes effect once per key: a second send of the same key gives back the first
    one's answer, a dataclass that is kept as JSON beside the key, but for its `secret` fields. Raises Refused where
    the key was used for something else, NotAllowed for whoever only looks on.
    """
    kind = TypeAdapter(answer)

    def decorate(use_case: Callable[Concatenate[Write, P], R]) -> Callable[Concatenate[Desk, User, uuid.UUID, P], R]:
        @wraps(use_case)
        def once(desk: Desk, actor: User, key: uuid.UUID, /, *args: P.args, **kwargs: P.kwargs) -> R:
            if actor.role not in ("technician", "lead") and action not in OF_ONESELF:
                raise NotAllowed("Your role looks at records and changes nothing.")
            with desk.sessions.begin() as session:
                now = desk.clock()
                if not _is_new(session, actor, key, action, now):
                    return kind.validate_python(_earlier_answer(session, actor, key, action))
                w = Write(session, actor, now, key, action, desk.recorder() if desk.recorder else now)
                result = use_case(w, *args, **kwargs)
                kept = kind.dump_python(result, mode="json", exclude=set(secret))
                session.execute(update(WriteKey).where(WriteKey.key == key).values(result=kept))
                return result

        return once

    return decorate


def inside(use_case: Callable[Concatenate[Desk, User, uuid.UUID, P], R]) -> Callable[Concatenate[Write, P], R]:
    """A use case as part of another write: called with that one's `Write`, in its transaction and under its key."""
    return use_case.__wrapped__  # type: ignore[attr-defined]


def _is_new(session: Session, actor: User, key: uuid.UUID, action: str, now: datetime) -> bool:
    taken = session.execute(
        insert(WriteKey)
        .values(key=key, user_id=actor.id, action=action, at=now, result={})
        .on_conflict_do_nothing()
        .returning(WriteKey.key)
    )
    return taken.scalar() is not None


def _earlier_answer(session: Session, actor: User, key: uuid.UUID, action: str) -> dict[str, Any]:
    earlier = session.execute(select(WriteKey).where(WriteKey.key == key)).scalar_one()
    if earlier.user_id != actor.id or earlier.action != action:
        raise Refused("This form was already used for something else. Reload the page and try again.")
    return earlier.result


def object_id(text: str | uuid.UUID, what: str) -> uuid.UUID:
    """The id in a URL or form; anything else is simply not found."""
    try:
        return text if isinstance(text, uuid.UUID) else uuid.UUID(text)
    except (ValueError, AttributeError, TypeError) as error:
        raise NotFound(f"There is no such {what}.") from error


def token_hash(token: str) -> str:
    """What is kept of a token: it is long and random, so a plain hash will do."""
    return hashlib.sha256(token.encode("utf-8", "replace")).hexdigest()


LONGEST_REASON = 500


def clean_reason(text: str, *, required: bool = True) -> str:
    """A reason as it is kept: trimmed, not empty where one is required, of a sensible length."""
    reason = " ".join(text.replace("\x00", "").split())
    if required and len(reason) < 3:
        raise InputError("reason", "Reason must say why, in a few words.", value=text[:40])
    if len(reason) > LONGEST_REASON:
        raise InputError("reason", f"Reason has {len(reason)} characters; {LONGEST_REASON} are allowed.")
    return reason


def lead_signs(actor: User, name: str) -> None:
    """Only the lead decides and signs, with their own name typed as it stands. Raises NotAllowed or Refused."""
    if actor.role != "lead":
        raise NotAllowed("Deciding about readings is for the lead.")
    if " ".join(name.split()).casefold() != " ".join(actor.name.split()).casefold():
        raise Refused(f"Sign with your own name as it stands above: {actor.name}.")


def only_the_lead_keeps(actor: User) -> None:
    if actor.role != "lead":
        raise NotAllowed("Clients, sites and rounds are kept by the lead.")
