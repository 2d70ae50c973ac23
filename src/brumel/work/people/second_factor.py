"""A second factor: a code of six figures from the person's own device (TOTP, RFC 6238), and codes for a lost one."""

from __future__ import annotations

import hmac
import secrets
import uuid
from dataclasses import dataclass
from datetime import datetime

import pyotp
from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.store.desk import RecoveryCode
from brumel.store.tables import User
from brumel.work.desk import Desk, MovedOn, Write, Written, token_hash, writes
from brumel.work.people.accounts import hash_password, is_hash_of
from brumel.work.sealing import Seal

#: A code counts for 30 s; one of the step before and after is taken too, for clocks that are a little off.
STEP_S, WINDOW = 30, 1
RECOVERY_CODES, CODE_LENGTH = 8, 10
#: A seed in the letters of base32.
SEED_LENGTH, SEED_LETTERS = 32, frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZ234567")


@dataclass(frozen=True)
class Codes:
    """Codes for a lost device, shown this once: who sends the same again gets none."""

    codes: tuple[str, ...] = ()


def new_seed() -> str:
    """A seed for the person's device; it counts once a code of it was typed."""
    return pyotp.random_base32()


def is_seed(text: str) -> bool:
    """Whether it looks like one of ours."""
    return len(text) == SEED_LENGTH and not set(text) - SEED_LETTERS


def address(seed: str, username: str, practice: str) -> str:
    """What the device reads from the drawing: an otpauth address."""
    return pyotp.TOTP(seed, interval=STEP_S).provisioning_uri(name=username, issuer_name=practice)


def _step(seed: str, one_time: str, now: datetime) -> int | None:
    """The time step whose code this is, None where it is none of those that count now."""
    typed = "".join(one_time.split())
    if len(typed) != 6 or not (typed.isascii() and typed.isdigit()):
        return None
    here = int(now.timestamp()) // STEP_S
    maker = pyotp.TOTP(seed, interval=STEP_S)
    steps = (here + offset for offset in range(-WINDOW, WINDOW + 1))
    return next((step for step in steps if hmac.compare_digest(maker.generate_otp(step), typed)), None)


@writes("person.second_factor", Codes, secret=frozenset({"codes"}))
def set_up(w: Write, *, seed: str, one_time: str) -> Codes:
    """From now on this person signs in with a code of this seed besides the password. Raises InputError."""
    user = w.session.get_one(User, w.actor.id, with_for_update={"of": User})
    if user.totp_secret:
        raise MovedOn("You have a second factor already.")
    if not is_seed(seed):
        raise InputError("one_time", "This page is out of date. Reload it and scan the drawing anew.")
    step = _step(seed, one_time, w.now)
    if step is None:
        raise InputError(
            "one_time", "This is not the code your device shows now. Look at its clock, and type the next one."
        )
    user.totp_secret, user.totp_step = w.seal.close(seed), step
    codes = tuple(secrets.token_hex(CODE_LENGTH // 2) for _ in range(RECOVERY_CODES))
    # They are short enough to be guessed from a plain hash: they are kept as passwords are (ASVS 2.6.2).
    w.session.add_all(RecoveryCode(token_hash=hash_password(code, w.seal), user_id=user.id) for code in codes)
    w.record(f"user:{user.id}", {"second factor": "set up"})
    return Codes(codes)


@writes("person.second_factor_off", Written)
def take_off(w: Write, *, one_time: str) -> Written:
    """Without a second factor again; a code of it is asked for. Raises InputError."""
    user = w.session.get_one(User, w.actor.id, with_for_update={"of": User})
    if not user.totp_secret:
        raise MovedOn("You have no second factor.")
    if not _is_right(w.session, user, one_time, w.now, w.seal):
        raise InputError("one_time", "This is not the code your device shows now.")
    remove(w.session, user)
    w.record(f"user:{user.id}", {"second factor": "taken off"})
    return Written(str(user.id))


def remove(session: Session, user: User) -> None:
    """Forget a person's second factor, as part of another write: their device is lost."""
    user.totp_secret, user.totp_step = "", 0
    for code in session.scalars(select(RecoveryCode).where(RecoveryCode.user_id == user.id)):
        session.delete(code)


def is_right(desk: Desk, user_id: uuid.UUID, one_time: str) -> bool:
    """Whether this is the code of now, or one for a lost device. Either counts once."""
    with desk.sessions.begin() as session:
        user = session.get(User, user_id, with_for_update={"of": User})
        return user is not None and user.active and _is_right(session, user, one_time, desk.clock(), desk.seal)


def _is_right(session: Session, user: User, one_time: str, now: datetime, seal: Seal) -> bool:
    step = _step(seal.open(user.totp_secret), one_time, now) if seal.opens(user.totp_secret) else None
    if step is not None and step > user.totp_step:  # a code that was seen once is worth nothing
        user.totp_step = step
        return True
    typed = "".join(one_time.split()).lower()
    left = select(RecoveryCode).where(RecoveryCode.user_id == user.id, RecoveryCode.used_at.is_(None))
    for code in session.scalars(left.with_for_update()) if len(typed) == CODE_LENGTH else ():
        if code.token_hash == token_hash(typed) or is_hash_of(
            code.token_hash, typed, seal
        ):  # the first: of earlier versions
            code.used_at = now
            return True
    return False


def codes_left(session: Session, user: User) -> int:
    """How many codes for a lost device are left."""
    return len(
        session.scalars(
            select(RecoveryCode.token_hash).where(RecoveryCode.user_id == user.id, RecoveryCode.used_at.is_(None))
        ).all()
    )
