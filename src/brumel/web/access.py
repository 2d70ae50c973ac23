"""Who may call what, and the headers every answer carries. A route that is not in ROLES is closed to everyone."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from flask import Flask, Response, abort, current_app, redirect, request, url_for
from flask_login import LoginManager, current_user
from flask_wtf import CSRFProtect

from brumel.store.tables import User
from brumel.web import arriving, kept_pages, moved
from brumel.work import people
from brumel.work.desk import Desk

ANYONE = frozenset({"anyone", "technician", "lead", "client"})
STAFF = frozenset({"technician", "lead"})
LEAD = frozenset({"lead"})
#: A client's own people: what is theirs, and nothing of the practice.
CLIENT = frozenset({"client"})
EVERYBODY = STAFF | CLIENT

ROLES: dict[str, frozenset[str]] = {
    "static": ANYONE,
    "static_of_another_version": ANYONE,
    "auth.sign_in": ANYONE,
    "auth.history": ANYONE,
    "auth.invited": ANYONE,
    "auth.accept_invitation": ANYONE,
    "auth.sign_out": EVERYBODY,
    "auth.units": EVERYBODY,
    "auth.choose_units": EVERYBODY,
    "auth.theme": ANYONE,
    "today.show": STAFF,
    "bench.index": STAFF,
    "bench.setup": STAFF,
    "bench.start": STAFF,
    "bench.run": STAFF,
    "bench.dip": STAFF,
    "bench.type_reading": STAFF,
    "bench.strike": STAFF,
    "bench.tell_figures": STAFF,
    "bench.take_next": STAFF,
    "bench.leave_out": STAFF,
    "bench.leave_out_the_rest": STAFF,
    "bench.replace_lot": STAFF,
    "bench.accept": STAFF,
    "bench.redo": STAFF,
    "bench.redo_pair": STAFF,
    "bench.start_packet": STAFF,
    "bench.finish": STAFF,
    "bench.abandon": STAFF,
    "bench.stream": STAFF,
    "bench.plan_closing": STAFF,
    "bench.start_closing": STAFF,
    "bench.close": STAFF,
    "jobs.index": STAFF,
    "jobs.ask": STAFF,
    "jobs.job": STAFF,
    "jobs.now": STAFF,
    "jobs.cancel": STAFF,
    "jobs.retry": STAFF,
    "jobs.file": STAFF,
    "records.review": LEAD,
    "records.sign": LEAD,
    "records.closing": STAFF,
    "records.decide": LEAD,
    "records.reopen": LEAD,
    "records.affected_results": STAFF,
    "records.decide_affected": LEAD,
    "bench.plan_session": STAFF,
    "bench.start_session": STAFF,
    "bench.calibration_session": STAFF,
    "bench.session_now": STAFF,
    "rounds.index": STAFF,
    "rounds.site": STAFF,
    "rounds.start": STAFF,
    "rounds.visit": STAFF,
    "rounds.dip": STAFF,
    "rounds.type_reading": STAFF,
    "rounds.strike": STAFF,
    "rounds.take": STAFF,
    "rounds.by_hand": STAFF,
    "rounds.say": STAFF,
    "rounds.add_probe": STAFF,
    "rounds.add_photo": STAFF,
    "rounds.take_in_series": STAFF,
    "rounds.photo": STAFF,
    "rounds.stream": STAFF,
    "rounds.round": STAFF,
    "rounds.begin": STAFF,
    "rounds.outings_gone": STAFF,
    "rounds.outing_kept": STAFF,
    "rounds.outing": STAFF,
    "rounds.pack": STAFF,
    "rounds.paper": STAFF,
    "rounds.enter_paper": STAFF,
    "rounds.plan_on_paper": STAFF,
    "rounds.field_form": STAFF,
    "rounds.series": STAFF,
    "rounds.check_series": STAFF,
    "rounds.decide_series": LEAD,
    "rounds.withdraw_series": STAFF,
    "rounds.series_file": STAFF,
    "rounds.confirm_settings": STAFF,
    "rounds.come_back": STAFF,
    "rounds.field": STAFF,
    "rounds.worker": ANYONE,
    "rounds.manifest": ANYONE,
    "rounds.running": STAFF,
    "rounds.send": STAFF,
    "rounds.cups": STAFF,
    "rounds.send_run": STAFF,
    "rounds.edit_round": LEAD,
    "rounds.save_round": LEAD,
    "rounds.edit_site": LEAD,
    "rounds.save_site": LEAD,
    "rounds.retire_site": LEAD,
    "rounds.restore_site": LEAD,
    "rounds.sites_out": STAFF,
    "rounds.sites_in": LEAD,
    "kit.index": STAFF,
    "kit.probe": STAFF,
    "kit.methods": STAFF,
    "kit.new_lot": STAFF,
    "kit.add_lot": STAFF,
    "kit.open_lot": STAFF,
    "kit.fill_off": STAFF,
    "kit.discard_lot": STAFF,
    "kit.count_lot": STAFF,
    "kit.count_spare": STAFF,
    "kit.record_maintenance": STAFF,
    "kit.guide": STAFF,
    "kit.record_guided": STAFF,
    "kit.battery_guided": STAFF,
    "kit.store_probe": STAFF,
    "kit.store_probes": STAFF,
    "kit.set_wait": LEAD,
    "kit.set_interval": LEAD,
    "kit.set_limit": LEAD,
    "kit.retire_probe": LEAD,
    "kit.restore_probe": LEAD,
    "kit.new_probe": STAFF,
    "kit.add_probe": STAFF,
    "kit.probe_record": STAFF,
    "kit.save_probe": STAFF,
    "kit.move_probe": STAFF,
    "kit.inspection": STAFF,
    "kit.inspect": STAFF,
    "kit.new_meter": STAFF,
    "kit.add_meter": STAFF,
    "kit.meter": STAFF,
    "kit.save_meter": STAFF,
    "kit.battery": STAFF,
    "kit.retire_meter": LEAD,
    "kit.restore_meter": LEAD,
    "kit.new_token": LEAD,
    "kit.settings": STAFF,
    "kit.record_settings": STAFF,
    "kit.method": STAFF,
    "kit.method_file": STAFF,
    "kit.save_method": LEAD,
    "kit.retire_method": LEAD,
    "kit.restore_method": LEAD,
    "kit.due": STAFF,
    "kit.due_calendar": STAFF,
    "records.index": STAFF,
    "documents.index": STAFF,
    "documents.preview": STAFF,
    "documents.issue": STAFF,
    "documents.document": STAFF,
    "documents.file": STAFF,
    "documents.practice": STAFF,
    "documents.save_practice": LEAD,
    "documents.release": LEAD,
    "documents.take_back": LEAD,
    "documents.shared": ANYONE,
    "documents.shared_file": ANYONE,
    "documents.mine": CLIENT,
    "documents.my_file": CLIENT,
    "documents.client_people": LEAD,
    "documents.invite": LEAD,
    "documents.invite_again": LEAD,
    "documents.deactivate": LEAD,
    "records.readings": STAFF,
    "records.listing": STAFF,
    "records.decision": STAFF,
    "records.visit": STAFF,
    "records.round_gone": STAFF,
    "records.tables": STAFF,
    "records.sign_visit": LEAD,
    "records.sign_round": LEAD,
    "records.signed": STAFF,
    "records.ask": LEAD,
    "records.answer_question": STAFF,
    "records.export": STAFF,
    "records.reading": STAFF,
    "records.correct": STAFF,
    "records.strike": STAFF,
    "records.bring_back": STAFF,
    "rounds.wrong_site": STAFF,
    "rounds.move_visit": STAFF,
    "records.calibrations": STAFF,
    "records.calibration": STAFF,
    "records.certificate": STAFF,
    "records.withdraw": STAFF,
    "records.audit": LEAD,
    "glossary.show": EVERYBODY,
    "worksheet.index": STAFF,
    "worksheet.show": STAFF,
    "practice.meter": STAFF,
    "practice.set_meter": STAFF,
    # The link program has a token of its meter instead of a sign-in; the routes check it themselves.
    "link.hello": ANYONE,
    "link.samples": ANYONE,
    "link.wait": ANYONE,
}

#: What may be larger than a form, by endpoint [bytes].
LARGER = {
    "rounds.add_photo": 12_500_000,
    "rounds.send": 16_500_000,
    "rounds.sites_in": 2_100_000,
    "documents.save_practice": 4_200_000,
    "rounds.take_in_series": 8_100_000,
}

POLICY = "; ".join(
    (
        "default-src 'none'",
        "script-src 'self'",
        "style-src 'self'",
        "img-src 'self' data:",
        "font-src 'self'",
        "connect-src 'self'",
        "worker-src 'self'",
        "manifest-src 'self'",
        "form-action 'self'",
        "frame-ancestors 'none'",
        "base-uri 'none'",
    )
)


class Account:
    """The signed-in person as Flask-Login wants it; `user` is the row, `token` that of this session."""

    is_active = is_authenticated = True
    is_anonymous = False

    def __init__(self, user: User, token: str, until: datetime) -> None:
        self.user, self.token, self.until = user, token, until

    def get_id(self) -> str:
        return self.token


def desk() -> Desk:
    """The desk of this application."""
    shared_desk: Desk = current_app.extensions["desk"]
    return shared_desk


def actor() -> User:
    """The signed-in person; routes that need one are closed to others before this is called."""
    account: Any = current_user
    user: User = account.user
    return user


def init(app: Flask) -> None:
    """Sign-in, CSRF, the roles table and the headers."""

    moved.init(app)

    @app.before_request
    def room() -> None:
        # Before the form is read for its token: a photo and a file of sites may be larger than a form.
        if request.endpoint in LARGER:
            request.max_content_length = LARGER[request.endpoint]

    arriving.init(app)
    csrf = CSRFProtect(app)
    app.extensions["csrf"] = csrf
    login = LoginManager(app)
    login.session_protection = None  # a session is a row of the database, and lives through a change of network

    @login.user_loader
    def load(token: str) -> Account | None:
        person = people.of_session(app.extensions["desk"], token)
        return Account(person.user, token, person.at + people.LONGEST_SESSION) if person else None

    @app.before_request
    def guard() -> Any:
        endpoint = request.endpoint
        if endpoint is None:  # no such page; signed out people learn no more than that
            return None if current_user.is_authenticated else _to_sign_in()
        allowed = ROLES.get(endpoint, frozenset())
        if "anyone" in allowed:
            return None
        if not current_user.is_authenticated:
            return _to_sign_in()
        if actor().role == "client" and endpoint == "today.show":  # whoever signs in comes here
            return redirect(url_for("documents.mine"))
        if actor().role not in allowed:
            abort(403)
        return None

    @app.after_request
    def headers(response: Response) -> Response:
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers["X-Content-Type-Options"] = "nosniff"
        response.headers["Referrer-Policy"] = "same-origin"
        response.headers["Cross-Origin-Opener-Policy"] = "same-origin"
        response.headers["Permissions-Policy"] = "camera=(), microphone=(), geolocation=()"
        if request.endpoint not in ("static", "static_of_another_version") and not kept_pages.is_kept():
            response.headers["Cache-Control"] = "no-store"
        if app.config["SESSION_COOKIE_SECURE"]:
            response.headers["Strict-Transport-Security"] = "max-age=31536000"
        return response


def _to_sign_in() -> Any:
    if request.method != "GET" or request.accept_mimetypes.best == "text/event-stream":
        abort(401)
    return redirect(url_for("auth.sign_in", next=request.full_path.rstrip("?") if request.path != "/" else None))
