"""Who may sign in, their passwords, sessions and units."""

from __future__ import annotations

import secrets
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from brumel.core.errors import InputError, InputErrors
from brumel.store.tables import Audit, SignIn, User
from brumel.work.desk import Desk, NotFound, Write, Written, token_hash, writes
from brumel.work.sealing import Seal

#: The practice's own people: who does the work, who answers for it, who only looks at it.
ROLES = ("technician", "lead", "auditor")
#: The units a person may choose for their pages, the one of the records first.
UNIT_CHOICES = {
    "temperature": ("°C", "°F"),
    "conductivity": ("µS/cm", "mS/cm"),
    "pressure": ("hPa", "kPa", "mmHg", "inHg"),
    "depth": ("m", "ft"),
}
SHORTEST_PASSWORD, LONGEST_PASSWORD = 12, 128
#: What is looked at of a password that is given: those of before there was a longest one still open.
MOST_TYPED = 1024
#: How hard to guess it must be, from 0 to 4 as zxcvbn judges it by its lists of leaked ones; and how much is judged.
WEAKEST, LONGEST_JUDGED = 2, 64
#: A session ends after this, however busy; and after this without a request. A working day fits into both.
LONGEST_SESSION = timedelta(hours=12)
LONGEST_IDLE = timedelta(hours=8)
SEEN_EVERY = timedelta(minutes=1)
#: What stands in a password's place while none was chosen; nothing is a hash of it.
NO_PASSWORD = "!"  # noqa: S105
_hasher = PasswordHasher()
# Checking against this for an unknown name takes as long as a real check, so names cannot be probed by time. It is the
# hash of a thrown-away random word, kept here because making one at every start takes as long as a sign-in.
_NOBODY = "$argon2id$v=19$m=65536,t=3,p=4$2sdkKNpRjd6idFaUvKt+PA$GPIdpl4q3Opx7XPAzUXAeY+zEfa5HAFL5mjXOl0JfAc"


def sign_in(desk: Desk, username: str, password: str) -> User | None:
    """The user whose name and password these are; None for anything else, which is put down where the name is known."""
    with desk.read() as session:
        user = session.scalar(select(User).where(User.username == username.strip().lower(), User.active))
    if not is_hash_of(user.password_hash if user else _NOBODY, password, desk.seal):
        if user is not None:
            note(desk, user, "person.sign_in_refused", {"why": "password"})
        return None
    return user


def note(desk: Desk, user: User, action: str, detail: dict[str, Any]) -> None:
    """Put down in the audit what somebody did, or tried, before they were let in."""
    with desk.sessions.begin() as session:
        session.add(_entry(desk, user, action, detail))


def _entry(desk: Desk, user: User, action: str, detail: dict[str, Any]) -> Audit:
    subject, key = f"user:{user.id}", uuid.uuid4()
    return Audit(at=desk.clock(), user_id=user.id, action=action, subject=subject, detail=detail, key=key)


def is_password(w: Write, password: str) -> bool:
    """Whether this is the password of the person who writes; asked for again before they sign."""
    return is_hash_of(w.session.get_one(User, w.actor.id).password_hash, password, w.seal)


def is_hash_of(kept: str, password: str, seal: Seal) -> bool:
    """Whether what is kept was made of this password; no, where none of the keys opens it."""
    try:
        return _hasher.verify(seal.open(kept) if seal.opens(kept) else _NOBODY, password[:MOST_TYPED])
    except (VerificationError, InvalidHashError):
        return False


def check_password(password: str, field: str = "password", of: Sequence[str] = ()) -> None:
    """Raises InputError for one that is too short, too long, or among the first that anybody would try.

    of : the names of its person, which are no secret either
    """
    if len(password) < SHORTEST_PASSWORD:
        raise InputError(field, f"Password must have at least {SHORTEST_PASSWORD} characters.")
    if len(password) > LONGEST_PASSWORD:
        raise InputError(field, f"Password has more than {LONGEST_PASSWORD} characters.")
    if strength(password, of) < WEAKEST:
        raise InputError(
            field, "Password is among the first that are tried: known words, names, runs of keys. Take four words."
        )


def strength(password: str, of: Sequence[str] = ()) -> int:
    """How hard a password is to guess, from 0 (among the first that are tried) to 4, as zxcvbn judges it."""
    from zxcvbn import zxcvbn  # its lists of known passwords are large, and most processes need none of them

    if not password:
        return 0
    names = [word.lower() for name in of for word in (name, *name.split())]
    return int(zxcvbn(password[:LONGEST_JUDGED], user_inputs=[*names, "brumel"])["score"])


def by_username(session: Session, username: str) -> User | None:
    """The person who signs in by that name."""
    return session.scalar(select(User).where(User.username == username.strip().lower()))


def add_user(session: Session, desk: Desk, username: str, name: str, role: str, password: str) -> User:
    """A new person; the caller's transaction. Raises InputError for a bad role or a short password."""
    if role not in ROLES:
        raise InputError("role", f"Role “{role[:20]}” is not known; it is {', '.join(ROLES)}.", value=role)
    check_password(password, of=(username, name))
    if not username.strip() or len(username) > 60 or not name.strip() or len(name) > 80:
        raise InputError("username", "User name and name must be filled in, at most 60 and 80 characters.")
    if session.scalar(select(User.id).where(User.username == username.strip().lower())):
        raise InputError("username", f"User name “{username.strip().lower()}” is taken.")
    user = User(
        id=uuid.uuid4(),
        username=username.strip().lower(),
        name=name.strip(),
        role=role,
        password_hash=hash_password(password, desk.seal),
        stamp=secrets.token_hex(8),
        created_at=desk.clock(),
    )
    session.add(user)
    session.flush()
    return user


def open_session(desk: Desk, user: User, device: str = "", *, known: bool = True) -> str:
    """A new session of this person; returns its token, which only the cookie keeps.

    device : a word for what it is on
    known : whether they have signed in on it before
    """
    token, now = secrets.token_urlsafe(32), desk.clock()
    with desk.sessions.begin() as session:
        session.execute(delete(SignIn).where(SignIn.at < now - timedelta(days=60)))
        session.add(
            SignIn(
                token_hash=token_hash(token), user_id=user.id, stamp=user.stamp, device=device[:40], at=now, seen_at=now
            )
        )
        session.add(_entry(desk, user, "person.sign_in", {"device": device[:40], "known": known}))
    return token


def of_session(desk: Desk, token: str) -> SignIn | None:
    """The session of a token with its person; None where it ended, ran out, or the person's account was closed.

    It is bound to no address and no header: a phone changes its network while it is out.
    """
    sign_in, now = standing_session(desk, token), desk.clock()
    if sign_in is not None and now - sign_in.seen_at > SEEN_EVERY:
        with desk.sessions.begin() as session:
            session.execute(update(SignIn).where(SignIn.token_hash == sign_in.token_hash).values(seen_at=now))
    return sign_in


def standing_session(desk: Desk, token: str) -> SignIn | None:
    """The same without counting as having been seen: for a page that merely stands open."""
    with desk.read() as session:
        sign_in = session.get(SignIn, token_hash(token))
    now = desk.clock()
    if (
        sign_in is None
        or sign_in.ended_at is not None
        or not sign_in.user.active
        or sign_in.stamp != sign_in.user.stamp
    ):
        return None
    if now >= sign_in.at + LONGEST_SESSION or now >= sign_in.seen_at + LONGEST_IDLE:
        return None
    return sign_in


def end_session(desk: Desk, token: str) -> None:
    """The session ends on the server, so a copied cookie is worth nothing any more."""
    with desk.sessions.begin() as session:
        row = session.get(SignIn, token_hash(token), with_for_update={"of": SignIn})
        if row is not None and row.ended_at is None:
            row.ended_at = desk.clock()
            session.add(_entry(desk, row.user, "person.sign_out", {"device": row.device}))


def running_sessions(session: Session, user: User, now: datetime) -> list[SignIn]:
    """The sessions by which a person is signed in, the last seen first."""
    query = select(SignIn).where(
        SignIn.user_id == user.id,
        SignIn.stamp == user.stamp,
        SignIn.ended_at.is_(None),
        SignIn.at > now - LONGEST_SESSION,
        SignIn.seen_at > now - LONGEST_IDLE,
    )
    return list(session.scalars(query.order_by(SignIn.seen_at.desc())))


@writes("person.end_session", Written)
def end_one_session(w: Write, *, session_id: str) -> Written:
    """End a session: one's own, or anybody's where the lead does it. `session_id` is the hash of its token."""
    row = w.session.get(SignIn, session_id)
    if row is None or (row.user_id != w.actor.id and w.actor.role != "lead"):
        raise NotFound("There is no such session.")
    if row.ended_at is None:
        row.ended_at = w.now
        w.record(f"user:{row.user_id}", {"session ended": row.device})
    return Written(str(row.user_id))


@writes("person.password", Written)
def change_password(w: Write, *, old: str, new: str, again: str) -> Written:
    """Choose another password for oneself; every session ends, and the person signs in with it. All faults at once."""
    faults = []
    if not is_password(w, old):
        faults.append(InputError("old", "This is not the password you signed in with."))
    try:
        check_password(new, "new", of=(w.actor.username, w.actor.name))
    except InputError as error:
        faults.append(error)
    if new != again:
        faults.append(InputError("again", "The two new passwords differ."))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    user = w.session.get_one(User, w.actor.id)
    user.password_hash, user.stamp = hash_password(new, w.seal), secrets.token_hex(8)
    w.record(f"user:{user.id}", {})
    return Written(str(user.id))


def hash_password(password: str, seal: Seal) -> str:
    """What is kept of a password: its salted hash, sealed where there is a key, so that the database alone is no help."""
    hashed = _hasher.hash(password)
    return seal.close(hashed) if seal.keys else hashed


def seal_anew(desk: Desk) -> tuple[int, int]:
    """Seal what is kept of passwords and second factors by the server's present key: how much, and what no key opens.

    It lay open, or is of a key that is going. What no key opens belongs to people who are to be invited again.
    """
    done = lost = 0
    with desk.sessions.begin() as session:
        for user in session.scalars(select(User).with_for_update(of=User)):
            for column in ("password_hash", "totp_secret"):
                kept = getattr(user, column)
                if kept in ("", NO_PASSWORD) or desk.seal.is_of_the_present_key(kept):
                    continue
                if desk.seal.opens(kept):
                    setattr(user, column, desk.seal.close(desk.seal.open(kept)))
                    done += 1
                else:
                    lost += 1
    return done, lost


@dataclass(frozen=True)
class Since:
    """What happened about a person's account since they last signed in."""

    at: datetime
    refused: int
    changed: tuple[str, ...]
    was_known: bool


#: What is told at the next sign-in, by the action that the audit has of it.
TOLD = {
    "person.password": "your password was changed",
    "person.second_factor": "a second factor was set up",
    "person.second_factor_off": "the second factor was taken off",
    "person.invite_again": "you were invited anew",
    "person.role": "your role was changed",
}


def since_last(desk: Desk, user: User) -> Since | None:
    """What happened about an account since its person last signed in; None where they never did, or nothing is told."""
    with desk.read() as session:
        about = select(Audit).where(Audit.subject == f"user:{user.id}").order_by(Audit.at.desc())
        last = session.scalar(about.where(Audit.action == "person.sign_in", Audit.user_id == user.id).limit(1))
        if last is None:
            return None
        wanted = about.where(Audit.at > last.at, Audit.action.in_(["person.sign_in_refused", *TOLD]))
        actions = list(session.scalars(wanted.limit(200).with_only_columns(Audit.action)))
        was_known = last.detail.get("known", True)
    refused = actions.count("person.sign_in_refused")
    if not actions and was_known:
        return None
    return Since(last.at, refused, tuple(w for a, w in TOLD.items() if a in actions), was_known)


@writes("person.units", Written)
def choose_units(w: Write, *, units: Mapping[str, str]) -> Written:
    """The units of a person's own pages; records keep theirs. All faults at once."""
    faults = [
        InputError(what, f"Choose the unit of {what} from the list.", value=units.get(what))
        for what, choices in UNIT_CHOICES.items()
        if units.get(what) not in choices
    ]
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    user = w.session.get_one(User, w.actor.id)
    user.units = {what: units[what] for what in UNIT_CHOICES}
    w.record(f"user:{user.id}", {"units": user.units})
    return Written(str(user.id))
