"""The practice worlds: the real pages once more, mounted under a path of their own, on the learner's own schema.

They are another application on another desk, so that no page of the real record can show what is practised, nor the other
way round. Signing in is the real one's; whoever practises is the lead of their own world.
"""

from __future__ import annotations

import uuid
from typing import Any
from urllib.parse import urlencode

from flask import Flask, abort, current_app, g, redirect, render_template, request
from flask_login import current_user

from brumel.store import practice_world
from brumel.store.tables import User
from brumel.web.practice import table
from brumel.web.root import root
from brumel.work import practice
from brumel.work.desk import Desk, NotAllowed

#: Where they are mounted.
#: The places a world has; whatever else there is, documents, people, long work, leads back to the real one.
OPEN = frozenset({"today", "bench", "rounds", "kit", "records", "worksheet", "glossary", "table"})
#: Of these, what hands something over, lets a program in, or is kept by a phone beside what is real.
CLOSED = frozenset(
    {
        "records.export",
        "records.export_open",
        "records.certificate",
        "records.calibration_json",
        "kit.new_token",
        "kit.calendar_feed",
        "kit.due_calendar",
        "rounds.series_file",
        "rounds.series_waterml",
        "rounds.sites_out",
        "rounds.paper",
        "rounds.plan_on_paper",
        "rounds.field_form",
        "rounds.field",
        "rounds.cups",
        "rounds.send",
        "rounds.send_run",
        "rounds.worker",
        "rounds.manifest",
    }
)
_SHARED = ("static", "static_of_another_version", "auth.theme")


def furnish(app: Flask, real: Flask) -> None:
    """Make an application that of the practice worlds; its places are registered already."""
    app.extensions["desk of world"] = desk_of_world
    app.extensions["person of world"] = _as_lead
    app.extensions["closed in world"] = _closed
    app.extensions["hub"] = real.extensions["hub"]
    app.register_blueprint(table.blueprint)
    app.before_request(_look)
    app.context_processor(_of_world)


def _as_lead(person: User) -> User:
    """The person as they are in their own world; whoever only looks on has none."""
    if person.role not in ("technician", "lead"):
        return person
    same = {name: getattr(person, name) for name in ("id", "username", "name", "units", "totp_secret", "tour")}
    return User(role="lead", **same)


def desk_of_world() -> Desk:
    """The desk of the learner's world, its clock as it stands when the request first asks."""
    if "desk_of_world" not in g:
        real: Desk = current_app.extensions["desk"]
        if not g.get("let_in"):  # a fault before the door: its page is made where there may be no world
            with real.read() as session:
                if not practice_world.is_there(session, _person_id()):
                    return real
        sessions = practice_world.sessions_in(real.sessions.kw["bind"], _person_id())
        g.desk_of_world = practice.desk_of_world(sessions, real.clock)
    made: Desk = g.desk_of_world
    return made


def _person_id() -> uuid.UUID:
    account: Any = current_user
    person_id: uuid.UUID = account.user.id
    return person_id


def _closed() -> Any:
    """Turn away from what a world has not, and from a world that is not there."""
    endpoint = str(request.endpoint)
    if endpoint in _SHARED:
        return None
    if not current_user.is_authenticated:
        if request.method != "GET" or request.accept_mimetypes.best == "text/event-stream":
            abort(401)
        return redirect(f"{root()}/sign-in?{urlencode({'next': request.script_root + '/table'})}")
    if request.blueprint is None:
        return None  # there is no such page
    if request.blueprint not in OPEN:
        # The same path is the real page's; nothing is ever sent there from here.
        return redirect(root() + request.full_path.rstrip("?")) if request.method == "GET" else abort(403)
    if endpoint in CLOSED:
        raise NotAllowed("In Practice nothing is handed over, printed for a client or kept by a phone.")
    with current_app.extensions["desk"].read() as session:
        if not practice_world.is_there(session, _person_id()):
            return redirect(f"{root()}/practice")
    g.let_in = True
    return None


def _look() -> Any:
    """Before a page is made, the meter's samples are stored up to this moment and events have happened."""
    if current_user.is_authenticated and request.blueprint in OPEN and request.endpoint not in _SHARED:
        g.world = practice.look(desk_of_world())
        if g.world is not None and not g.world.table.signal and request.blueprint not in ("table", "glossary"):
            page = render_template("practice/no_signal.html")
            return page if request.method == "GET" else (page, 422)
    return None


def _of_world() -> dict[str, Any]:
    """What every page of a world is told besides: whose attempt it is, and the table as it is drawn."""
    world = g.get("world")
    return {"world": world, "drawn_table": table.drawn(world) if world else None, "act_fault": "", "act_words": ""}
