"""Who may call what, and the headers every answer carries. A route that is not in ROLES is closed to everyone."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from flask import Flask, Response, abort, current_app, redirect, request, url_for
from flask_login import LoginManager, current_user
from flask_wtf import CSRFProtect

from brumel.store.tables import User
from brumel.web import arriving, kept_pages, moved
from brumel.web.root import this_path
from brumel.work import people
from brumel.work.desk import Desk

STAFF = frozenset({"technician", "lead"})
#: Who may look: an auditor sees the records and all that stands behind them, and changes nothing.
READERS = STAFF | {"auditor"}
LEAD = frozenset({"lead"})
LEAD_OR_AUDITOR = LEAD | {"auditor"}
#: A client's own people: what is theirs, and nothing of the practice.
CLIENT = frozenset({"client"})
EVERYBODY = READERS | CLIENT
ANYONE = EVERYBODY | {"anyone"}

ROLES: dict[str, frozenset[str]] = {
    "static": ANYONE,
    "static_of_another_version": ANYONE,
    "watching.alive": ANYONE,
    "watching.ready": ANYONE,
    "watching.metrics": ANYONE,
    "auth.sign_in": ANYONE,
    "auth.second_factor": ANYONE,
    "auth.history": ANYONE,
    "auth.invited": ANYONE,
    "auth.accept_invitation": ANYONE,
    "auth.strength": ANYONE,
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
    "deployments.index": READERS,
    "deployments.plan": STAFF,
    "deployments.save": STAFF,
    "deployments.show": READERS,
    "deployments.configure": STAFF,
    "deployments.start": STAFF,
    "deployments.confirm": STAFF,
    "deployments.cancel": STAFF,
    "deployments.seen_to": STAFF,
    "deployments.service": STAFF,
    "deployments.keep_service": STAFF,
    "deployments.visit": READERS,
    "deployments.bring": STAFF,
    "deployments.file": READERS,
    "deployments.take": STAFF,
    "deployments.withdraw": STAFF,
    "deployments.raw": READERS,
    "deployments.look": READERS,
    "deployments.view": READERS,
    "deployments.records_csv": READERS,
    "deployments.records_waterml": READERS,
    "deployments.records_package": READERS,
    "deployments.correct": READERS,
    "deployments.decide": LEAD,
    "deployments.mark": LEAD,
    "deployments.unmark": LEAD,
    "jobs.index": READERS,
    "jobs.ask": STAFF,
    "jobs.job": READERS,
    "jobs.now": READERS,
    "jobs.cancel": STAFF,
    "jobs.retry": STAFF,
    "jobs.file": READERS,
    "records.review": LEAD,
    "records.sign": LEAD,
    "records.closing": READERS,
    "records.decide": LEAD,
    "records.reopen": LEAD,
    "records.affected_results": READERS,
    "records.decide_affected": LEAD,
    "bench.plan_session": STAFF,
    "bench.start_session": STAFF,
    "bench.calibration_session": STAFF,
    "bench.session_now": STAFF,
    "rounds.index": READERS,
    "rounds.site": READERS,
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
    "rounds.photo": READERS,
    "rounds.stream": STAFF,
    "rounds.round": READERS,
    "rounds.begin": STAFF,
    "rounds.outings_gone": READERS,
    "rounds.outing_kept": READERS,
    "rounds.outing": STAFF,
    "rounds.pack": STAFF,
    "rounds.paper": STAFF,
    "rounds.enter_paper": STAFF,
    "rounds.plan_on_paper": STAFF,
    "rounds.field_form": STAFF,
    "rounds.series": READERS,
    "rounds.check_series": STAFF,
    "rounds.decide_series": LEAD,
    "rounds.withdraw_series": STAFF,
    "rounds.series_file": READERS,
    "rounds.series_waterml": READERS,
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
    "rounds.sites_out": READERS,
    "rounds.sites_in": LEAD,
    "kit.index": READERS,
    "kit.probe": READERS,
    "kit.methods": READERS,
    "kit.lot": READERS,
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
    "kit.meter": READERS,
    "kit.save_meter": STAFF,
    "kit.link_values": STAFF,
    "kit.battery": STAFF,
    "kit.retire_meter": LEAD,
    "kit.restore_meter": LEAD,
    "kit.new_token": LEAD,
    "kit.settings": STAFF,
    "kit.record_settings": STAFF,
    "kit.method": READERS,
    "kit.method_file": READERS,
    "kit.save_method": LEAD,
    "kit.retire_method": LEAD,
    "kit.restore_method": LEAD,
    "kit.due": READERS,
    "kit.due_calendar": READERS,
    "records.index": READERS,
    "documents.index": READERS,
    "documents.preview": STAFF,
    "documents.issue": STAFF,
    "documents.document": READERS,
    "documents.file": READERS,
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
    "records.readings": READERS,
    "records.listing": READERS,
    "records.decision": READERS,
    "records.visit": READERS,
    "records.round_gone": READERS,
    "records.tables": READERS,
    "records.sign_visit": LEAD,
    "records.sign_round": LEAD,
    "records.signed": READERS,
    "records.ask": LEAD,
    "records.answer_question": STAFF,
    "records.export": READERS,
    "records.export_open": READERS,
    "records.reading": READERS,
    "records.correct": STAFF,
    "records.strike": STAFF,
    "records.bring_back": STAFF,
    "rounds.wrong_site": STAFF,
    "rounds.move_visit": STAFF,
    "records.calibrations": READERS,
    "records.calibration": READERS,
    "records.certificate": READERS,
    "records.calibration_json": READERS,
    "records.withdraw": STAFF,
    "records.audit": LEAD_OR_AUDITOR,
    "glossary.show": EVERYBODY,
    "glossary.sources": EVERYBODY,
    "glossary.source": EVERYBODY,
    "glossary.formats": EVERYBODY,
    "glossary.licences": EVERYBODY,
    "glossary.sample": EVERYBODY,
    "glossary.schema": EVERYBODY,
    "imports.index": LEAD,
    "imports.upload": LEAD,
    "imports.show": LEAD,
    "imports.keep_mapping": LEAD,
    "imports.write": LEAD,
    "imports.drop": LEAD,
    "imports.take_back": LEAD,
    "people.index": LEAD,
    "people.invite": LEAD,
    "people.person": LEAD,
    "people.change_role": LEAD,
    "people.invite_again": LEAD,
    "people.deactivate": LEAD,
    "people.end_session": LEAD,
    "people.account": EVERYBODY,
    "people.second_factor": READERS,
    "people.set_up_second_factor": READERS,
    "people.take_off_second_factor": READERS,
    "people.change_password": EVERYBODY,
    "people.end_own_session": EVERYBODY,
    "people.make_token": READERS,
    "people.make_calendar": READERS,
    "people.end_token": READERS,
    "people.webhooks": LEAD,
    "people.add_webhook": LEAD,
    "people.end_webhook": LEAD,
    "people.begin": ANYONE,
    "people.begin_with": ANYONE,
    "worksheet.index": READERS,
    "worksheet.show": READERS,
    "practice.index": STAFF,
    "practice.begin": STAFF,
    "practice.attempt": STAFF,
    "practice.give_finding": STAFF,
    "practice.leave": STAFF,
    "practice.tour": STAFF,
    "practice.skills_page": STAFF,
    "practice.person": STAFF,
    "practice.assign": LEAD,
    "practice.sign_skill": LEAD,
    "practice.take_back_skill": LEAD,
    "practice.set_rule": LEAD,
    "practice.certificate": STAFF,
    "practice.scenarios": LEAD,
    "practice.scenario": LEAD,
    "practice.save_scenario": LEAD,
    # At the table of a practice world, which is an application of its own (web/practice/world.py).
    "table.show": STAFF,
    "table.act": STAFF,
    "table.now": STAFF,
    "table.set_pace": STAFF,
    # The link program has a token of its meter instead of a sign-in; the routes check it themselves.
    "link.clock": ANYONE,
    "link.hello": ANYONE,
    "link.samples": ANYONE,
    "link.wait": ANYONE,
    # So have programs and calendars: a token of their person.
    "kit.calendar_feed": ANYONE,
    "api.openapi": ANYONE,
    "api.sites": ANYONE,
    "api.site": ANYONE,
    "api.probes": ANYONE,
    "api.probe": ANYONE,
    "api.lots": ANYONE,
    "api.due": ANYONE,
    "api.calibrations": ANYONE,
    "api.calibration": ANYONE,
    "api.readings": ANYONE,
    "api.visits": ANYONE,
    "api.visit": ANYONE,
    "api.create_visit": ANYONE,
    "api.series": ANYONE,
    "api.series_values": ANYONE,
    "api.deployments": ANYONE,
    "api.deployment_records": ANYONE,
    "api.send_records": ANYONE,
}

#: What a lead who has yet to set up their second factor may do, where the practice asks for one.
WITH_ONE = frozenset({"people.second_factor", "people.set_up_second_factor", "auth.sign_out"})

#: Where those begin who have no day's work here.
FIRST_PAGE = {"client": "documents.mine", "auditor": "records.index"}

#: What may be larger than a form, by endpoint [bytes].
LARGER = {
    "rounds.add_photo": 12_500_000,
    "rounds.send": 16_500_000,
    "rounds.sites_in": 2_100_000,
    "documents.save_practice": 4_200_000,
    "imports.upload": 41_000_000,
    "deployments.bring": 151_000_000,
    "deployments.keep_service": 75_000_000,
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
    """The desk of this application; in Practice that of the learner's own world."""
    of_world = current_app.extensions.get("desk of world")
    shared_desk: Desk = of_world() if of_world else current_app.extensions["desk"]
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
        if person is None:
            return None
        user: User = app.extensions.get("person of world", lambda who: who)(person.user)
        return Account(user, token, person.at + people.LONGEST_SESSION)

    @app.before_request
    def guard() -> Any:
        endpoint = request.endpoint
        # In a practice world most is closed, and what is open to anyone there would have no world to stand in.
        if (closed := app.extensions.get("closed in world")) and (turned := closed()) is not None:
            return turned
        if endpoint is None and request.path.startswith("/api/"):
            return None
        if endpoint is None:  # no such page; signed out people learn no more than that
            return None if current_user.is_authenticated else _to_sign_in()
        allowed = ROLES.get(endpoint, frozenset())
        if "anyone" in allowed:
            return None
        if not current_user.is_authenticated:
            return _to_sign_in()
        if endpoint == "today.show" and actor().role in FIRST_PAGE:  # whoever signs in comes here
            return redirect(url_for(FIRST_PAGE[actor().role]))
        if actor().role not in allowed:
            abort(403)
        if (
            app.config["LEADS_NEED_TWO"]
            and actor().role == "lead"
            and not actor().totp_secret
            and endpoint not in WITH_ONE
        ):
            return redirect(url_for("people.second_factor"))
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
    return redirect(url_for("auth.sign_in", next=this_path(query=True) if request.path != "/" else None))
