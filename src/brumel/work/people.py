"""Who may sign in, and adding people."""

from __future__ import annotations

import hashlib
import secrets
import uuid
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from brumel.core.errors import InputError, InputErrors
from brumel.store.documents import Invitation
from brumel.store.tables import Audit, Client, SignIn, User
from brumel.work.desk import Desk, NotAllowed, NotFound, Write, Written, object_id, writes

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


# -- people of clients

#: A password is chosen within this.
INVITED_FOR = timedelta(days=7)
#: What is kept instead of a hash until a password is chosen; no password has it.
NO_PASSWORD = "!"  # noqa: S105


@dataclass(frozen=True)
class Invited:
    """An invited person, and the token of the link by which they choose their password; it is shown once."""

    id: str
    token: str = ""


@writes("person.invite", Invited, secret=frozenset({"token"}))
def invite(w: Write, *, client_id: str, username: str, name: str) -> Invited:
    """Invite a person of a client, who may look at what is the client's and nothing else. All faults at once."""
    if w.actor.role != "lead":
        raise NotAllowed("Inviting people is for the lead.")
    client = w.session.get(Client, object_id(client_id, "client"))
    if client is None:
        raise NotFound("There is no such client.")
    wanted, called = username.strip().lower(), " ".join(name.split())
    faults = []
    if not 3 <= len(wanted) <= 60 or "\x00" in wanted:
        faults.append(InputError("username", "User name must have 3 to 60 characters.", value=wanted[:60]))
    elif w.session.scalar(select(User.id).where(User.username == wanted)):
        faults.append(InputError("username", f"User name “{wanted}” is taken.", value=wanted))
    if not called or len(called) > 80 or "\x00" in called:
        faults.append(InputError("name", "Name must be filled in, at most 80 characters.", value=called[:80]))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    user = User(
        id=uuid.uuid4(),
        username=wanted,
        name=called,
        role="client",
        client_id=client.id,
        password_hash=NO_PASSWORD,
        stamp=secrets.token_hex(8),
        created_at=w.now,
    )
    w.session.add(user)
    w.session.flush()
    token = _invitation(w, user)
    w.record(f"user:{user.id}", {"invited": wanted, "client": client.name})
    return Invited(str(user.id), token)


def _invitation(w: Write, user: User) -> str:
    token = secrets.token_urlsafe(32)
    w.session.add(
        Invitation(token_hash=_hash(token), user_id=user.id, expires_at=w.now + INVITED_FOR, at=w.now, by_id=w.actor.id)
    )
    return token


@writes("person.invite_again", Invited, secret=frozenset({"token"}))
def invite_again(w: Write, *, user_id: str) -> Invited:
    """A new link for a person of a client, who then chooses a new password; links of before no longer open."""
    user = _of_client(w, user_id)
    w.session.execute(
        update(Invitation).where(Invitation.user_id == user.id, Invitation.used_at.is_(None)).values(used_at=w.now)
    )
    user.active, user.password_hash, user.stamp = True, NO_PASSWORD, secrets.token_hex(8)
    w.record(f"user:{user.id}", {"invited again": user.username})
    return Invited(str(user.id), _invitation(w, user))


@writes("person.deactivate", Written)
def deactivate(w: Write, *, user_id: str) -> Written:
    """A person of a client may sign in no longer: their sessions and open invitations end at once."""
    user = _of_client(w, user_id)
    user.active, user.stamp = False, secrets.token_hex(8)
    w.session.execute(
        update(Invitation).where(Invitation.user_id == user.id, Invitation.used_at.is_(None)).values(used_at=w.now)
    )
    w.record(f"user:{user.id}", {"deactivated": user.username})
    return Written(str(user.id))


def _of_client(w: Write, user_id: str) -> User:
    if w.actor.role != "lead":
        raise NotAllowed("The people of clients are kept by the lead.")
    user = w.session.get(User, object_id(user_id, "person"), with_for_update=True)
    if user is None or user.role != "client":
        raise NotFound("There is no such person.")
    return user


def invited(session: Session, token: str, now: datetime) -> User:
    """Whose invitation this is. Raises NotFound where it was used, ran out, or never was."""
    row = session.get(Invitation, _hash(token))
    user = session.get(User, row.user_id) if row else None
    if row is None or user is None or row.used_at is not None or row.expires_at <= now or not user.active:
        raise NotFound("This invitation was used already, or has run out. Ask the practice for a new one.")
    return user


def accept(desk: Desk, token: str, password: str) -> User:
    """Choose the password that an invitation is for. Raises NotFound or InputError."""
    if len(password) < SHORTEST_PASSWORD:
        raise InputError("password", f"Password must have at least {SHORTEST_PASSWORD} characters.")
    if len(password) > LONGEST_PASSWORD:
        raise InputError("password", f"Password has more than {LONGEST_PASSWORD} characters.")
    with desk.sessions.begin() as session:
        now = desk.clock()
        user = invited(session, token, now)
        used = session.execute(
            update(Invitation)
            .where(Invitation.token_hash == _hash(token), Invitation.used_at.is_(None))
            .values(used_at=now)
            .returning(Invitation.user_id)
        ).scalar()
        if used is None:
            raise NotFound("This invitation was used already.")
        user.password_hash, user.stamp = _hasher.hash(password), secrets.token_hex(8)
        session.add(
            Audit(
                at=now, user_id=user.id, action="person.accept", subject=f"user:{user.id}", detail={}, key=uuid.uuid4()
            )
        )
        return user


LONGEST_PASSWORD = 1024


def of_client(session: Session, client_id: uuid.UUID) -> list[User]:
    """The people of a client, by name."""
    return list(session.scalars(select(User).where(User.client_id == client_id).order_by(User.name)))
