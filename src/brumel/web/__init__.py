"""The interface: Flask, a folder a place. HTTP in, use cases out; no rule of the trade lives here."""

from __future__ import annotations

import functools
import hashlib
import os
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from flask import Flask
from flask_compress import Compress
from jinja2 import FileSystemBytecodeCache, StrictUndefined
from sqlalchemy import Engine
from werkzeug.middleware.dispatcher import DispatcherMiddleware
from werkzeug.middleware.proxy_fix import ProxyFix

from brumel import __version__
from brumel.config import Config
from brumel.store.cluster import data_home
from brumel.store.sessions import make_engine, make_sessions
from brumel.web import access, errors, filters, kept_pages, practice_clock, reader, sign_in_limit, static_files
from brumel.web.live import Hub
from brumel.web.practice import world as practice_world
from brumel.web.root import WORLDS, quick_addresses, under
from brumel.web.watching import log
from brumel.work.desk import Clock, Desk, utc_now
from brumel.work.people import LONGEST_SESSION
from brumel.work.sealing import Seal

if TYPE_CHECKING:
    from _typeshed.wsgi import StartResponse, WSGIEnvironment

LARGEST_REQUEST = 1_000_000


#: No statement of a page takes longer than this; one that does is given up [s].
LONGEST_STATEMENT_S = 15.0


def create_app(config: Config, *, clock: Clock = utc_now, longest_s: float | None = LONGEST_STATEMENT_S) -> Flask:
    """The application on a database that is already migrated, with the practice worlds mounted in it.

    longest_s : how long a statement may take; None for the jobs, whose work is long
    """
    from brumel.web import places  # not with this module: most of what imports it needs none of them

    engine = make_engine(config.database_url, longest_s=longest_s)
    app = _made(config, engine, clock)
    places.register(app)

    @functools.cache
    def worlds() -> Flask:
        """Made when somebody practises for the first time: a start need not wait for it."""
        made = _made(config, engine, clock)
        places.register(made)
        practice_world.furnish(made, app)
        return made

    def of_world(environ: WSGIEnvironment, start_response: StartResponse) -> Iterable[bytes]:
        return worlds().wsgi_app(environ, start_response)

    app.extensions["worlds"] = worlds
    app.wsgi_app = DispatcherMiddleware(app.wsgi_app, {WORLDS: of_world})  # type: ignore[method-assign]
    if config.trusted_proxies:
        # Only so many proxies are believed about who asks; whatever a stranger writes before them is not.
        n = config.trusted_proxies
        app.wsgi_app = ProxyFix(app.wsgi_app, x_for=n, x_proto=n, x_host=n)  # type: ignore[method-assign]
    if config.path:
        app.wsgi_app = under(config.path, app.wsgi_app)  # type: ignore[method-assign, assignment]
    return app


def _made(config: Config, engine: Engine, clock: Clock) -> Flask:
    """An application with all that its places share, and none of them yet."""
    static_path = f"/static/{static_files.version()}"
    app = Flask(__name__, template_folder="templates", static_folder="static", static_url_path=static_path)
    app.url_map.strict_slashes = False  # /bench/ is /bench
    app.config.update(
        SECRET_KEY=config.secret_key,
        SECRET_KEY_FALLBACKS=list(config.old_secret_keys),
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        SESSION_COOKIE_SECURE=not config.insecure_cookies,
        # The prefix binds it to this host over TLS: no other of the domain can set one.
        SESSION_COOKIE_NAME="brumel" if config.insecure_cookies else "__Host-brumel",
        APPLICATION_ROOT=config.path or "/",
        SESSION_COOKIE_PATH="/",  # as the prefix __Host- asks for
        PERMANENT_SESSION_LIFETIME=LONGEST_SESSION,
        MAX_CONTENT_LENGTH=LARGEST_REQUEST,
        WTF_CSRF_TIME_LIMIT=None,
        COMPRESS_MIMETYPES=["text/html", "application/json", "image/svg+xml", "text/csv", "application/geo+json"],
        COMPRESS_ALGORITHM=["br", "gzip"],
        COMPRESS_STREAMS=False,
        DEMO=config.demo,
        DATABASE_URL=config.database_url,
        VERSION=__version__,
        METRICS_TOKEN=config.metrics_token,
        TRUSTED_PROXIES=config.trusted_proxies,
        LEADS_NEED_TWO=config.leads_need_two,
    )
    log.init(app, config.log_level)
    app.jinja_env.undefined = StrictUndefined
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.jinja_env.bytecode_cache = _compiled_templates()
    app.extensions["desk"] = Desk(make_sessions(engine), clock, seal=Seal(config.keys))
    app.extensions["hub"] = Hub(config.database_url)
    practice_clock.init(app, config.zone)
    access.init(app)
    sign_in_limit.init(app)
    errors.init(app)
    filters.init(app)
    reader.init(app)
    quick_addresses(app)
    static_files.init(app)
    Compress(app)
    kept_pages.init(app)
    return app


def _compiled_templates() -> FileSystemBytecodeCache | None:
    """Templates compiled once a machine, not once a process; none where no folder for them can be made."""
    # How a filter is called is compiled in, so templates of other filters are none of ours.
    filters_here = hashlib.sha256(Path(filters.__file__).read_bytes()).hexdigest()[:12]
    folder = data_home() / "templates" / filters_here
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError:
        return None
    # What lies there is run: only in a folder that is ours and nobody else's to write in.
    stands = folder.stat()
    return (
        FileSystemBytecodeCache(str(folder)) if stands.st_uid == os.geteuid() and not stands.st_mode & 0o022 else None
    )
