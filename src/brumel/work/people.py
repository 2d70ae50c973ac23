"""Who may sign in, and adding people."""

from __future__ import annotations

import hashlib
import secrets
import uuid
from collections.abc import Mapping
from datetime import timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from brumel.core.errors import InputError, InputErrors
from brumel.store.tables import SignIn, User
from brumel.work.desk import Desk, Write, Written, writes

ROLES = ("technician", "lead")
#: The units a person may choose for their pages, the one of the records first.
UNIT_CHOICES = {
    "temperature": ("°C", "°F"),
    "conductivity": ("µS/cm", "mS/cm"),
    "pressure": ("hPa", "kPa", "mmHg", "inHg"),
    "depth": ("m", "ft"),
}
SHORTEST_PASSWORD = 10
#: A session ends after this, however busy; and after this without a request. A working day fits into both.
LONGEST_SESSION = timedelta(hours=14)
LONGEST_IDLE = timedelta(hours=8)
SEEN_EVERY = timedelta(minutes=1)
_hasher = PasswordHasher()
# Checking against this for an unknown name takes as long as a real check, so names cannot be probed by time. It is the
# hash of a thrown-away random word, kept here because making one at every start takes as long as a sign-in.
_NOBODY = "$argon2id$v=19$m=65536,t=3,p=4$2sdkKNpRjd6idFaUvKt+PA$GPIdpl4q3Opx7XPAzUXAeY+zEfa5HAFL5mjXOl0JfAc"


def sign_in(desk: Desk, username: str, password: str) -> User | None:
    """The user whose name and password these are; None for anything else."""
    with desk.read() as session:
        user = session.scalar(select(User).where(User.username == username.strip().lower(), User.active))
    try:
        _hasher.verify(user.password_hash if user else _NOBODY, password[:1024])
    except (VerificationError, InvalidHashError):
        return None
    return user


def is_password(session: Session, user: User, password: str) -> bool:
    """Whether this is the password of a person who is signed in already; asked for again before they sign."""
    kept = session.get_one(User, user.id)
    try:
        return _hasher.verify(kept.password_hash, password[:1024])
    except (VerificationError, InvalidHashError):
        return False


def by_username(session: Session, username: str) -> User | None:
    """The person who signs in by that name."""
    return session.scalar(select(User).where(User.username == username.strip().lower()))


def add_user(session: Session, desk: Desk, username: str, name: str, role: str, password: str) -> User:
    """A new person; the caller's transaction. Raises InputError for a bad role or a short password."""
    if role not in ROLES:
        raise InputError("role", f"Role “{role[:20]}” is not known; it is technician or lead.", value=role)
    if len(password) < SHORTEST_PASSWORD:
        raise InputError("password", f"Password must have at least {SHORTEST_PASSWORD} characters.")
    if not username.strip() or len(username) > 60 or not name.strip() or len(name) > 80:
        raise InputError("username", "User name and name must be filled in, at most 60 and 80 characters.")
    if session.scalar(select(User.id).where(User.username == username.strip().lower())):
        raise InputError("username", f"User name “{username.strip().lower()}” is taken.")
    user = User(
        id=uuid.uuid4(),
        username=username.strip().lower(),
        name=name.strip(),
        role=role,
        password_hash=_hasher.hash(password),
        stamp=secrets.token_hex(8),
        created_at=desk.clock(),
    )
    session.add(user)
    session.flush()
    return user


def open_session(desk: Desk, user: User) -> str:
    """A new session of this person; returns its token, which only the cookie keeps."""
    token, now = secrets.token_urlsafe(32), desk.clock()
    with desk.sessions.begin() as session:
        session.execute(delete(SignIn).where(SignIn.at < now - timedelta(days=60)))
        session.add(SignIn(token_hash=_hash(token), user_id=user.id, stamp=user.stamp, at=now, seen_at=now))
    return token


def of_session(desk: Desk, token: str) -> SignIn | None:
    """The session of a token with its person; None where it ended, ran out, or the person's account was closed.

    It is bound to no address and no header: a phone changes its network while it is out.
    """
    with desk.read() as session:
        sign_in = session.get(SignIn, _hash(token))
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
    if now - sign_in.seen_at > SEEN_EVERY:
        with desk.sessions.begin() as session:
            session.execute(update(SignIn).where(SignIn.token_hash == sign_in.token_hash).values(seen_at=now))
    return sign_in


def end_session(desk: Desk, token: str) -> None:
    """The session ends on the server, so a copied cookie is worth nothing any more."""
    with desk.sessions.begin() as session:
        session.execute(
            update(SignIn)
            .where(SignIn.token_hash == _hash(token), SignIn.ended_at.is_(None))
            .values(ended_at=desk.clock())
        )


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode("utf-8", "replace")).hexdigest()


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
