"""Tokens by which a program or a calendar comes in without a sign-in, for the person who made them and no longer."""

from __future__ import annotations

import secrets
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import Select, select, update
from sqlalchemy.orm import Session

from brumel.core.errors import InputError, InputErrors
from brumel.store.tables import Token, User
from brumel.work.desk import Desk, NotAllowed, NotFound, Refused, Write, Written, object_id, token_hash, writes
from brumel.work.people.accounts import ROLES, SEEN_EVERY

#: What a program may be let do, and what that is.
SCOPES = {
    "sites": "read sites and their terms",
    "kit": "read meters, probes, calibrations and solutions",
    "records": "read visits, readings and logger series",
    "due": "read what falls due",
    "write": "write visits with their readings",
    "loggers": "send the records of live loggers",
}
#: For how many days a token may be good.
DAYS = (30, 90, 365)
CALENDAR_DAYS = 730
#: Tokens a person may have at once.
MOST = 20
#: Every token begins so, which lets a person see what a stray word is.
MARK = "brml_"


@dataclass(frozen=True)
class MadeToken:
    """A token as it is shown once; a second send of the same form finds it empty."""

    id: str
    token: str = ""


@writes("token.make", MadeToken, secret=frozenset({"token"}))
def make_token(w: Write, *, name: str, scopes: Sequence[str], days: int) -> MadeToken:
    """A token for a program, which acts in the name of the person who makes it. All faults at once."""
    called = " ".join(name.replace("\x00", "").split())
    faults = []
    if not 2 <= len(called) <= 60:
        faults.append(InputError("name", "Name must have 2 to 60 characters; it says which program has the token."))
    if not scopes or not set(scopes) <= set(SCOPES):
        faults.append(InputError("scopes", "Choose what the program may do."))
    if {"write", "loggers"} & set(scopes) and w.actor.role == "auditor":
        faults.append(InputError("scopes", "An auditor only reads, and so does a program of theirs."))
    if days not in DAYS:
        faults.append(InputError("days", f"Days must be one of {', '.join(map(str, DAYS))}."))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return _make(w, "program", called, sorted(set(scopes)), days)


@writes("token.calendar", MadeToken, secret=frozenset({"token"}))
def make_calendar(w: Write) -> MadeToken:
    """The address of a calendar feed of one's own; one of before no longer opens."""
    of_before = select(Token).where(Token.user_id == w.actor.id, Token.kind == "calendar", Token.ended_at.is_(None))
    for row in w.session.scalars(of_before):
        row.ended_at = w.now
    return _make(w, "calendar", "calendar", ["due"], CALENDAR_DAYS)


def _make(w: Write, kind: str, name: str, scopes: list[str], days: int) -> MadeToken:
    if w.actor.role not in ROLES:
        raise NotAllowed("Tokens are for the practice's own people.")
    if len(of_person(w.session, w.actor, w.now)) >= MOST:
        raise Refused(f"You have {MOST} tokens already. End one that is not used any more.")
    token = MARK + secrets.token_urlsafe(32)
    row = Token(
        id=uuid.uuid4(),
        token_hash=token_hash(token),
        user_id=w.actor.id,
        kind=kind,
        name=name,
        scopes=scopes,
        expires_at=w.now + timedelta(days=days),
        at=w.now,
    )
    w.session.add(row)
    w.session.flush()
    w.record(f"token:{row.id}", {"name": name, "scopes": scopes, "days": days})
    return MadeToken(str(row.id), token)


@writes("token.end", Written)
def end_token(w: Write, *, token_id: str) -> Written:
    """A token opens nothing any more: one's own, or anybody's where the lead does it."""
    row = w.session.get(Token, object_id(token_id, "token"), with_for_update={"of": Token})
    if row is None or (row.user_id != w.actor.id and w.actor.role != "lead"):
        raise NotFound("There is no such token.")
    if row.ended_at is None:
        row.ended_at = w.now
        w.record(f"token:{row.id}", {"name": row.name})
    return Written(str(row.user_id))


def of_person(session: Session, user: User, now: datetime) -> list[Token]:
    """The tokens of a person that still open something, the newest first."""
    return list(session.scalars(_good(now).where(Token.user_id == user.id).order_by(Token.at.desc())))


def all_tokens(session: Session, now: datetime) -> list[Token]:
    """Everybody's, by person."""
    return list(session.scalars(_good(now).join(User, User.id == Token.user_id).order_by(User.name, Token.at.desc())))


def _good(now: datetime) -> Select[Token]:
    return select(Token).where(Token.ended_at.is_(None), Token.expires_at > now)


def by_token(desk: Desk, token: str, kind: str) -> Token | None:
    """The token as it is kept, with its person; None where it ended, ran out, or its person may not sign in."""
    now = desk.clock()
    with desk.read() as session:
        row = session.scalar(_good(now).where(Token.token_hash == token_hash(token), Token.kind == kind))
    if row is None or not row.user.active or row.user.role not in ROLES:
        return None
    if row.used_at is None or now - row.used_at > SEEN_EVERY:
        with desk.sessions.begin() as session:
            session.execute(update(Token).where(Token.id == row.id).values(used_at=now))
    return row
