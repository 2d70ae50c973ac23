"""The sign-in limit, counted in PostgreSQL so that all web workers share it."""

from __future__ import annotations

import hashlib
import time
from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Flask, current_app, request
from flask_limiter import Limiter
from flask_limiter.util import get_remote_address
from flask_login import current_user
from itsdangerous import BadData, URLSafeTimedSerializer
from limits.storage import Storage
from sqlalchemy import Engine, delete, select, text
from sqlalchemy.dialects.postgresql import insert
from werkzeug.wrappers import Response as BaseResponse

from brumel.store.tables import RateLimit

#: Tries from one address, whoever is named; and of one name from one address. A name alone is only slowed down, so that
#: a stranger elsewhere cannot lock anybody out.
BY_ADDRESS = "40 per minute; 300 per hour"


#: Passwords judged while they are typed.
BY_TYPING = "120 per minute"


BY_ACCOUNT_AND_ADDRESS = "10 per minute; 60 per hour"


#: Passwords that a person who is signed in already may give to sign with.
BY_PERSON = "12 per minute; 200 per hour"


FREE_FAILURES = 5


LONGEST_DELAY_S = 1.5


#: How a try is slowed down.
nap = time.sleep


limiter = Limiter(get_remote_address, storage_uri="brumel-postgres://", strategy="fixed-window", headers_enabled=False)


class PostgresStorage(Storage):
    """Fixed windows as rows: one statement counts and tells."""

    STORAGE_SCHEME = ["brumel-postgres"]

    @property
    def base_exceptions(self) -> type[Exception]:
        return Exception

    @property
    def _engine(self) -> Engine:
        """That of the application which asks."""
        engine: Engine = current_app.extensions["desk"].sessions.kw["bind"]
        return engine

    def incr(self, key: str, expiry: float, amount: int = 1, **_: Any) -> int:
        now = datetime.now(UTC)
        fresh = insert(RateLimit).values(key=key, count=amount, expires_at=now + timedelta(seconds=expiry))
        gone = RateLimit.expires_at < now
        statement = fresh.on_conflict_do_update(
            index_elements=["key"],
            set_={
                "count": text(
                    "case when rate_limits.expires_at < now() then excluded.count "
                    "else rate_limits.count + excluded.count end"
                ),
                "expires_at": text(
                    "case when rate_limits.expires_at < now() then excluded.expires_at else rate_limits.expires_at end"
                ),
            },
        ).returning(RateLimit.count)
        with self._engine.begin() as connection:
            count = connection.execute(statement).scalar_one()
            if count == amount:  # a new window: a good moment to sweep old ones
                connection.execute(delete(RateLimit).where(gone, RateLimit.key != key))
        return int(count)

    def get(self, key: str) -> int:
        row = self._row(key)
        return row[0] if row else 0

    def get_expiry(self, key: str) -> float:
        row = self._row(key)
        return row[1].timestamp() if row else time.time()

    def _row(self, key: str) -> Any:
        query = select(RateLimit.count, RateLimit.expires_at).where(
            RateLimit.key == key, RateLimit.expires_at > datetime.now(UTC)
        )
        with self._engine.connect() as connection:
            return connection.execute(query).first()

    def check(self) -> bool:
        return True

    def reset(self) -> int:
        with self._engine.begin() as connection:
            return connection.execute(delete(RateLimit)).rowcount

    def clear(self, key: str) -> None:
        with self._engine.begin() as connection:
            connection.execute(delete(RateLimit).where(RateLimit.key == key))


def session_or_address() -> str:
    """What a password that is asked for again is counted by: the person who is signed in, else the address."""
    person = getattr(current_user, "user", None)
    return str(person.id) if person is not None else get_remote_address()


def account_and_address() -> str:
    """What a try is counted by besides its address: the name it gives, from here."""
    return f"{_named()}@{get_remote_address()}"


def _named() -> str:
    return _print_of(request.form.get("username", ""))


def _print_of(username: str) -> str:
    return hashlib.sha256(username.strip().lower().encode("utf-8", "replace")).hexdigest()[:20]


def slow_down() -> None:
    """Wait a little where this name has failed often of late, from wherever; not on a device it has signed in on before."""
    if _named() in _known_here():
        return
    failures = PostgresStorage().get(_failures())
    if failures > FREE_FAILURES:
        nap(min(0.1 * 2 ** min(failures - FREE_FAILURES, 8), LONGEST_DELAY_S))


def count_failure() -> None:
    """One more failure of this name, remembered for a quarter of an hour."""
    PostgresStorage().incr(_failures(), 900)


def _failures() -> str:
    return f"failed-sign-in:{_named()}"


#: How long a device is remembered, and how many names on it.
KNOWN_S, MOST_NAMES = 180 * 86_400, 6


def _signer() -> URLSafeTimedSerializer:
    keys = [*current_app.config["SECRET_KEY_FALLBACKS"], current_app.config["SECRET_KEY"]]
    return URLSafeTimedSerializer(keys, salt="brumel-device")


def _device_cookie() -> str:
    return f"{current_app.config['SESSION_COOKIE_NAME']}-device"


def _known_here() -> list[str]:
    """The names that have signed in on this device, as its signed cookie says."""
    try:
        return list(_signer().loads(request.cookies.get(_device_cookie(), ""), max_age=KNOWN_S))
    except BadData:
        return []


def known_here(username: str) -> bool:
    """Whether this name has signed in on this device before."""
    return _print_of(username) in _known_here()


def remember_device(response: BaseResponse, username: str) -> BaseResponse:
    """This device is known by the name that has just signed in: no stranger's failures slow it down."""
    name = _print_of(username)
    names = [name, *(known for known in _known_here() if known != name)][:MOST_NAMES]
    response.set_cookie(
        _device_cookie(),
        str(_signer().dumps(names)),
        max_age=KNOWN_S,
        secure=current_app.config["SESSION_COOKIE_SECURE"],
        httponly=True,
        samesite="Lax",
    )
    return response


def init(app: Flask) -> None:
    """Attach the limiter to the application."""
    limiter.init_app(app)
