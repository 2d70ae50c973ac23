"""Who may sign in, and adding people."""

from __future__ import annotations

import secrets
import uuid

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.store.tables import User
from brumel.work.desk import Desk

ROLES = ("technician", "lead")
SHORTEST_PASSWORD = 10
_hasher = PasswordHasher()
# Checking against this for an unknown name takes as long as a real check, so names cannot be probed by time.
_nobody = _hasher.hash(secrets.token_urlsafe(16))


def sign_in(desk: Desk, username: str, password: str) -> User | None:
    """The user whose name and password these are; None for anything else."""
    with desk.read() as session:
        user = session.scalar(select(User).where(User.username == username.strip().lower(), User.active))
    try:
        _hasher.verify(user.password_hash if user else _nobody, password[:1024])
    except (VerificationError, InvalidHashError):
        return None
    return user


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
        id=uuid.uuid4(), username=username.strip().lower(), name=name.strip(), role=role,
        password_hash=_hasher.hash(password), stamp=secrets.token_hex(8), created_at=desk.clock(),
    )  # fmt: skip
    session.add(user)
    session.flush()
    return user


def by_session_id(desk: Desk, session_id: str) -> User | None:
    """The user of a sign-in cookie "id:stamp"; None when the stamp has changed or the account is closed."""
    raw, _, stamp = session_id.partition(":")
    try:
        user_id = uuid.UUID(raw)
    except ValueError:
        return None
    with desk.read() as session:
        user = session.get(User, user_id)
    return user if user and user.active and user.stamp == stamp else None
