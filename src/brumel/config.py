"""Settings from the environment, checked once at the start. Every variable is named in the README."""

from __future__ import annotations

import hmac
import os
import re
from collections.abc import Mapping
from dataclasses import dataclass
from zoneinfo import available_timezones

#: The people of the demo, all with one password that its sign-in page shows.
DEMO_ACCOUNTS = (("ansa", "Ansa Merrik", "technician"), ("ilka", "Ilka Torvend", "lead"))
DEMO_PASSWORD = "tarnholt-field-book"  # noqa: S105

#: The role of the database the application signs in as, where it is not called otherwise.
APP_ROLE = "brumel_app"

DEFAULT_SECRETS = {"", "secret", "changeme", "change-me", "dev", "demo", "development", "default", "brumel"}
SHORTEST_SECRET = 32
MOST_PROXIES = 5
LOG_LEVELS = ("info", "warning", "error")


class ConfigError(Exception):
    """Brumel cannot start as it is set up; the message says what to set."""


@dataclass(frozen=True)
class Config:
    """Where the database is, what signs the cookies, and whether this is the demo."""

    database_url: str
    secret_key: str
    demo: bool = False
    insecure_cookies: bool = False
    trusted_proxies: int = 0
    zone: str = "UTC"
    metrics_token: str = ""
    log_level: str = "warning"
    old_secret_keys: tuple[str, ...] = ()
    leads_need_two: bool = False
    path: str = ""

    @property
    def keys(self) -> tuple[str, ...]:
        """All keys that still count, the present one first."""
        return (self.secret_key, *self.old_secret_keys)

    @classmethod
    def from_env(cls, env: Mapping[str, str] | None = None) -> Config:
        """Read DATABASE_URL and the variables that begin with BRUMEL_; raise ConfigError with all faults."""
        env = os.environ if env is None else env
        url, secret = env.get("DATABASE_URL", ""), env.get("BRUMEL_SECRET_KEY", "")
        demo = env.get("BRUMEL_DEMO", "") == "1"
        faults = []
        if not url:
            faults.append("DATABASE_URL is not set; point it at a PostgreSQL server.")
        if secret.lower() in DEFAULT_SECRETS or len(secret) < SHORTEST_SECRET:
            faults.append(
                f"BRUMEL_SECRET_KEY must be a secret of at least {SHORTEST_SECRET} characters, not a default."
            )
        proxies = env.get("BRUMEL_TRUSTED_PROXIES", "0").strip() or "0"
        if proxies not in {str(n) for n in range(MOST_PROXIES + 1)}:
            faults.append(f"BRUMEL_TRUSTED_PROXIES must be a whole number from 0 to {MOST_PROXIES}.")
        zone = env.get("BRUMEL_ZONE", "").strip() or "UTC"
        if zone not in available_timezones():
            faults.append(f"BRUMEL_ZONE is “{zone[:40]}”; it must be the name of a time zone in the tz database.")
        level = env.get("BRUMEL_LOG", "").strip().lower() or "warning"
        if level not in LOG_LEVELS:
            faults.append(f"BRUMEL_LOG must be one of {', '.join(LOG_LEVELS)}; info logs each request.")
        path = env.get("BRUMEL_PATH", "").strip().rstrip("/")
        if path and not re.fullmatch(r"(/[A-Za-z0-9._~-]+)+", path):
            faults.append("BRUMEL_PATH is the path Brumel lies under on its host, as /field-book, or empty.")
        metrics = env.get("BRUMEL_METRICS_TOKEN", "").strip()
        if metrics and len(metrics) < SHORTEST_SECRET:
            faults.append(f"BRUMEL_METRICS_TOKEN must be a secret of at least {SHORTEST_SECRET} characters, or empty.")
        if faults:
            raise ConfigError(" ".join(faults))
        plain_http = env.get("BRUMEL_PLAIN_HTTP", "") == "1"
        old = tuple(key for key in env.get("BRUMEL_OLD_SECRET_KEYS", "").split() if key)
        two = env.get("BRUMEL_LEADS_SECOND_FACTOR", "") == "1"
        return cls(sqlalchemy_url(url), secret, demo, plain_http, int(proxies), zone, metrics, level, old, two, path)


def sqlalchemy_url(url: str) -> str:
    """The URL with the psycopg 3 driver named, as SQLAlchemy wants it."""
    for prefix in ("postgres://", "postgresql://"):
        if url.startswith(prefix):
            return "postgresql+psycopg://" + url.removeprefix(prefix)
    return url


def first_code(secret_key: str) -> str:
    """What proves that whoever begins a practice also runs its server: the start command prints it."""
    return hmac.digest(secret_key.encode(), b"brumel: the first person", "sha256").hex()[:12]
