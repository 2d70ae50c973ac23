"""The desk every use case works at: sessions, clock, and writing exactly once with its audit entry."""

from __future__ import annotations

import hashlib
import uuid
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import wraps
from typing import Any, Concatenate, ParamSpec, TypeVar

from pydantic import TypeAdapter
from sqlalchemy import String, bindparam, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session, sessionmaker

from brumel.core.errors import BrumelError, InputError
from brumel.store import held
from brumel.store.rules import already_there, is_taken
from brumel.store.tables import Audit, User, WriteKey
from brumel.work.changes import Changes
from brumel.work.once import fingerprint
from brumel.work.sealing import NO_SEAL, Seal

Clock = Callable[[], datetime]


class NotFound(BrumelError):
    """The object a URL names does not exist, or is not for this person."""


class Refused(BrumelError):
    """A rule of the work forbids this now; the message says why and what to do."""


class MovedOn(Refused):
    """The thing was changed in another window meanwhile; nothing was written."""


class Conflict(Refused):
    """It cannot be so beside what stands already; nothing was written."""


class UsedBefore(Conflict):
    """The key was used for another write already: by somebody else, for something else, or with other content."""


class Taken(Conflict):
    """Somebody else was quicker with what there can be only one of."""


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
    seal: Seal = NO_SEAL
    entries: list[Audit] = field(default_factory=list)
    added_in_bulk: dict[str, list[str]] = field(default_factory=dict)

    def record(self, subject: str, detail: dict[str, Any]) -> None:
        """Put down the audit entry, what was done to what; it reaches the record as the last of this write."""
        entry = Audit(
            at=self.written, user_id=self.actor.id, action=self.action, subject=subject, detail=detail, key=self.key
        )
        self.entries.append(entry)

    def name_rows(self, table: str, keys: Iterable[uuid.UUID]) -> None:
        """Say which rows of evidence a statement of many added: the session, which names all others, never saw them."""
        self.added_in_bulk.setdefault(table, []).extend(map(str, keys))


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
    seal: Seal = NO_SEAL

    @contextmanager
    def read(self) -> Iterator[Session]:
        """A session for looking only, which the database sees to.

        It ends by a commit: after a rollback the driver forgets the statements the database has planned already, and
        planning takes most of the time of a query.
        """
        with self.sessions() as session:
            session.connection(execution_options=LOOKING)
            yield session
            if not (session.new or session.dirty or session.deleted):
                session.commit()


#: How a connection is used for looking only.
LOOKING = {"postgresql_readonly": True}


#: What whoever only looks on, an auditor or somebody of a client, may write: of their own account, and nothing else.
OF_ONESELF = frozenset(
    {
        "person.units",
        "person.password",
        "person.second_factor",
        "person.second_factor_off",
        "person.end_session",
        "token.make",
        "token.calendar",
        "token.end",
    }
)

#: What is no part of a key's content: a print of a password, which is short, would let it be guessed.
UNPRINTED = frozenset({"old", "new", "again", "password", "seed", "one_time"})

P = ParamSpec("P")
R = TypeVar("R")


def writes(
    action: str, answer: type[R], secret: frozenset[str] = frozenset()
) -> Callable[[Callable[Concatenate[Write, P], R]], Callable[Concatenate[Desk, User, uuid.UUID, P], R]]:
    """Make a use case that writes: it is called with desk, person and the form's key, and gets its `Write`.

    All of it is one transaction that takes effect once per key: a second send of the same key with the same content
    gives back the first one's answer, a dataclass that is kept as JSON beside the key, but for its `secret` fields.
    Raises UsedBefore where the key was used for something else or with other content, Taken where somebody was quicker
    with what there can be only one of, NotAllowed for whoever only looks on.
    """
    kind = TypeAdapter(answer)

    def decorate(use_case: Callable[Concatenate[Write, P], R]) -> Callable[Concatenate[Desk, User, uuid.UUID, P], R]:
        @wraps(use_case)
        def once(desk: Desk, actor: User, key: uuid.UUID, /, *args: P.args, **kwargs: P.kwargs) -> R:
            if actor.role not in ("technician", "lead") and action not in OF_ONESELF:
                raise NotAllowed("Your role looks at records and changes nothing.")
            open_words = {k: v for k, v in kwargs.items() if not (k in UNPRINTED and isinstance(v, str))}
            mine = {"key": key, "user_id": actor.id, "action": action, "content": fingerprint(args, open_words)}
            with _only_one_of_each(), desk.sessions.begin() as session:
                now = desk.clock()
                if not _is_new(session, mine, now):
                    return kind.validate_python(_earlier_answer(session, mine))
                w = Write(session, actor, now, key, action, desk.recorder() if desk.recorder else now, desk.seal)
                with Changes(session) as changes:
                    result = use_case(w, *args, **kwargs)
                    session.flush()
                kept = kind.dump_python(result, mode="json", exclude=set(secret))
                session.execute(_CAME_OF_IT, {"used": key, "kept": kept})
                add_entries(session, w.entries, changes, w.added_in_bulk)
                return result

        return once

    return decorate


def add_entries(
    session: Session, entries: Sequence[Audit], changes: Changes, in_bulk: Mapping[str, Sequence[str]] | None = None
) -> None:
    """Add audit entries as the last of a transaction: the next writer's wait for them, so little may come after.

    What was before and after stands in the first one, with a print of the evidence that was added.
    """
    for number, entry in enumerate(entries):
        entry.changes = changes.as_dict(in_bulk or {}) if number == 0 else {}
        if added := entry.changes.get("added"):
            entry.changes = {**entry.changes, "held": held.prints(session, added)}
        session.add(entry)
    session.flush()


@contextmanager
def _only_one_of_each() -> Iterator[None]:
    """What the tables allow only once is said as a sentence. Raises Taken."""
    try:
        yield
    except IntegrityError as error:
        if not is_taken(error):
            raise
        raise Taken(already_there(error)) from error


def inside(use_case: Callable[Concatenate[Desk, User, uuid.UUID, P], R]) -> Callable[Concatenate[Write, P], R]:
    """A use case as part of another write: called with that one's `Write`, in its transaction and under its key."""
    return use_case.__wrapped__  # type: ignore[attr-defined]


#: Made once, as every write begins and ends with them.
_KEYS = WriteKey.metadata.tables[WriteKey.__tablename__]
_USE_KEY = insert(_KEYS).on_conflict_do_nothing().returning(_KEYS.c.key)
_CAME_OF_IT = update(_KEYS).where(_KEYS.c.key == bindparam("used")).values(result=bindparam("kept"))


def _is_new(session: Session, mine: dict[str, Any], now: datetime) -> bool:
    return session.execute(_USE_KEY, mine | {"at": now}).scalar() is not None


def _earlier_answer(session: Session, mine: dict[str, Any]) -> Any:
    earlier = session.execute(select(WriteKey).where(WriteKey.key == mine["key"])).scalar_one()
    if (earlier.user_id, earlier.action) != (mine["user_id"], mine["action"]):
        raise UsedBefore("This form was already used for something else. Reload the page and try again.")
    if earlier.content and earlier.content != mine["content"]:  # empty: a key of before content was kept
        raise UsedBefore(
            "This form was sent before with other content. What was sent then stands; look at it before you send this too."
        )
    return earlier.result


def alone_with(session: Session, subject: object) -> None:
    """Wait until nobody else writes about this subject, and keep them waiting until this transaction ends."""
    session.execute(_WAIT_ALONE, {"subject": str(subject)})


_WAIT_ALONE = select(func.pg_advisory_xact_lock(func.hashtext(bindparam("subject", type_=String()))))


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
