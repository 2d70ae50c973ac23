"""People come and go: invited by the lead, given a role, deactivated; a password is chosen by a link and nobody else."""

from __future__ import annotations

import secrets
import uuid
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError, InputErrors
from brumel.store.documents import Invitation
from brumel.store.tables import Audit, Client, Token, User
from brumel.work.changes import Changes
from brumel.work.desk import (
    Desk,
    NotAllowed,
    NotFound,
    Refused,
    Write,
    Written,
    add_entries,
    object_id,
    token_hash,
    writes,
)
from brumel.work.people import second_factor
from brumel.work.people.accounts import NO_PASSWORD, ROLES, add_user, check_password, hash_password

#: A password is chosen within this.
INVITED_FOR = timedelta(days=7)


@dataclass(frozen=True)
class Invited:
    """An invited person, and the token of the link by which they choose their password; it is shown once."""

    id: str
    token: str = ""


@writes("person.invite", Invited, secret=frozenset({"token"}))
def invite(w: Write, *, username: str, name: str, role: str = "client", client_id: str = "") -> Invited:
    """Invite somebody of the practice, or of a client, who sees what is the client's and nothing else. All faults at once."""
    _only_the_lead(w)
    client = None
    if role == "client":
        client = w.session.get(Client, object_id(client_id, "client"))
        if client is None:
            raise NotFound("There is no such client.")
    wanted, called = username.strip().lower(), " ".join(name.split())
    faults = []
    if role not in (*ROLES, "client"):
        faults.append(InputError("role", f"Role must be one of {', '.join(ROLES)}.", value=role[:20]))
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
        role=role,
        client_id=client.id if client else None,
        password_hash=NO_PASSWORD,
        stamp=secrets.token_hex(8),
        created_at=w.now,
    )
    w.session.add(user)
    w.session.flush()
    token = _invitation(w, user)
    w.record(f"user:{user.id}", {"invited": wanted, "role": role} | ({"client": client.name} if client else {}))
    return Invited(str(user.id), token)


def _invitation(w: Write, user: User) -> str:
    token = secrets.token_urlsafe(32)
    w.session.add(
        Invitation(
            token_hash=token_hash(token), user_id=user.id, expires_at=w.now + INVITED_FOR, at=w.now, by_id=w.actor.id
        )
    )
    return token


@writes("person.invite_again", Invited, secret=frozenset({"token"}))
def invite_again(w: Write, *, user_id: str) -> Invited:
    """A new link for a person, who then chooses a new password: after a forgotten one, or to let them in again.

    Their old password, second factor, sessions and links end at once; programs of theirs are not let in again.
    """
    user = _another(w, user_id)
    _end_invitations(w, user)
    user.active, user.password_hash, user.stamp = True, NO_PASSWORD, secrets.token_hex(8)
    second_factor.remove(w.session, user)
    w.record(f"user:{user.id}", {"invited again": user.username})
    return Invited(str(user.id), _invitation(w, user))


@writes("person.deactivate", Written)
def deactivate(w: Write, *, user_id: str) -> Written:
    """A person may sign in no longer: their sessions, invitations and the tokens of their programs end at once."""
    user = _another(w, user_id)
    user.active, user.stamp = False, secrets.token_hex(8)
    _end_invitations(w, user)
    for token in w.session.scalars(select(Token).where(Token.user_id == user.id, Token.ended_at.is_(None))):
        token.ended_at = w.now
    w.record(f"user:{user.id}", {"deactivated": user.username})
    return Written(str(user.id))


@writes("person.role", Written)
def change_role(w: Write, *, user_id: str, role: str) -> Written:
    """Another role for somebody of the practice, from their next page on."""
    user = _another(w, user_id)
    if user.role == "client":
        raise Refused(f"{user.name} belongs to a client, so they cannot become one of the practice. Invite them anew.")
    if role not in ROLES:
        raise InputError("role", f"Role must be one of {', '.join(ROLES)}.", value=role[:20])
    before, user.role = user.role, role
    w.record(f"user:{user.id}", {"role": role, "before": before})
    return Written(str(user.id))


def _end_invitations(w: Write, user: User) -> None:
    for row in w.session.scalars(select(Invitation).where(Invitation.user_id == user.id, Invitation.used_at.is_(None))):
        row.used_at = w.now


def _only_the_lead(w: Write) -> None:
    if w.actor.role != "lead":
        raise NotAllowed("People are kept by the lead.")


def _another(w: Write, user_id: str) -> User:
    """Somebody else; a lead who could lock themselves out would leave a practice without one."""
    _only_the_lead(w)
    # Leads are locked together: two who deactivate each other at once come one after the other.
    leads = select(User).where(User.role == "lead", User.active).order_by(User.id).with_for_update()
    acting = {lead.id for lead in w.session.scalars(leads.execution_options(populate_existing=True))}
    if w.actor.id not in acting:
        raise NotAllowed("People are kept by the lead.")
    wanted = select(User).where(User.id == object_id(user_id, "person")).with_for_update()
    user = w.session.scalar(wanted.execution_options(populate_existing=True))
    if user is None:
        raise NotFound("There is no such person.")
    if user.id == w.actor.id:
        raise Refused("Somebody else who is a lead does this for you, so that a practice never is without a lead.")
    return user


def invited(session: Session, token: str, now: datetime) -> User:
    """Whose invitation this is. Raises NotFound where it was used, ran out, or never was."""
    row = session.get(Invitation, token_hash(token))
    user = session.get(User, row.user_id) if row else None
    if row is None or user is None or row.used_at is not None or row.expires_at <= now or not user.active:
        raise NotFound("This invitation was used already, or has run out. Ask the practice for a new one.")
    return user


def accept(desk: Desk, token: str, password: str) -> User:
    """Choose the password that an invitation is for. Raises NotFound or InputError."""
    with desk.sessions.begin() as session:
        now = desk.clock()
        user = invited(session, token, now)
        check_password(password, of=(user.username, user.name))
        row = session.get_one(Invitation, token_hash(token), with_for_update=True, populate_existing=True)
        if row.used_at is not None:  # by somebody who was quicker
            raise NotFound("This invitation was used already.")
        entry = Audit(
            at=now, user_id=user.id, action="person.accept", subject=f"user:{user.id}", detail={}, key=uuid.uuid4()
        )
        with Changes(session) as changes:
            row.used_at = now
            user.password_hash, user.stamp = hash_password(password, desk.seal), secrets.token_hex(8)
            session.flush()
        add_entries(session, [entry], changes)
        return user


def of_client(session: Session, client_id: uuid.UUID) -> list[User]:
    """The people of a client, by name."""
    return list(session.scalars(select(User).where(User.client_id == client_id).order_by(User.name)))


def of_practice(session: Session) -> list[User]:
    """The practice's own people, who may sign in before who may not, by name."""
    return list(session.scalars(select(User).where(User.role.in_(ROLES)).order_by(User.active.desc(), User.name)))


def is_empty(session: Session) -> bool:
    """Whether nobody was ever added: the practice has yet to begin."""
    return session.scalar(select(User.id).limit(1)) is None


def person(session: Session, user_id: str) -> User:
    """One person. Raises NotFound."""
    user = session.get(User, object_id(user_id, "person"))
    if user is None:
        raise NotFound("There is no such person.")
    return user


@dataclass(frozen=True)
class FirstPerson:
    """The first person of a practice as they were typed."""

    username: str
    name: str
    password: str
    again: str


def begin(desk: Desk, given: FirstPerson) -> User:
    """The first person of an empty practice, who is its lead. Raises Refused where somebody is there already."""
    faults = []
    if given.password != given.again:
        faults.append(InputError("again", "The two passwords differ."))
    with desk.sessions.begin() as session:
        # Two who begin at once: the second waits here, and finds the first.
        session.connection().exec_driver_sql("lock table users in share row exclusive mode")
        if not is_empty(session):
            raise Refused("This practice has begun already. Sign in, or ask its lead for an invitation.")
        with Changes(session) as changes:
            try:
                user = add_user(session, desk, given.username, given.name, "lead", given.password)
            except InputError as error:
                faults.append(error)
        if faults:
            raise faults[0] if len(faults) == 1 else InputErrors(faults)
        entry = Audit(
            at=desk.clock(),
            user_id=user.id,
            action="person.begin",
            subject=f"user:{user.id}",
            detail={"begun": user.username},
            key=uuid.uuid4(),
        )
        add_entries(session, [entry], changes)
        return user


def let_leads_in(desk: Desk) -> list[tuple[str, str]]:
    """A link for each lead of a practice that has just moved in, by which they choose a password: (name, token)."""
    with desk.sessions.begin() as session:
        leads = session.scalars(select(User).where(User.role == "lead", User.active).order_by(User.name))
        made = []
        for lead in leads:
            token, now = secrets.token_urlsafe(32), desk.clock()
            session.add(
                Invitation(
                    token_hash=token_hash(token), user_id=lead.id, expires_at=now + INVITED_FOR, at=now, by_id=lead.id
                )
            )
            made.append((lead.name, token))
        return made
