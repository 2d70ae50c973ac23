"""Every refusal as a page with a sentence; nothing of the inside is shown."""

from __future__ import annotations

from typing import Any

from flask import Flask, flash, g, make_response, redirect, render_template, request, url_for
from flask_wtf.csrf import CSRFError
from sqlalchemy.exc import DataError, IntegrityError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from werkzeug.exceptions import HTTPException

from brumel.core.errors import BrumelError
from brumel.store.rules import already_there, is_taken, rule_of
from brumel.web.api.door import PREFIX, problem
from brumel.web.reader import in_words
from brumel.work.desk import Conflict, MovedOn, NotAllowed, NotFound

SENTENCES = {
    400: "The request could not be read.",
    401: "Please sign in again; what you sent was not kept.",
    403: "Your role does not cover this. Ask the lead.",
    404: "There is no such page or thing.",
    405: "That cannot be done here.",
    413: "That is too much to send at once; one megabyte is allowed.",
    429: "Too many tries. Wait a minute, then try again.",
    500: "Something went wrong on our side. What was accepted before is safe; try again.",
    503: "The database does not answer just now. What was accepted before is safe; try again.",
}


def _page(code: int, sentence: str = "") -> Any:
    words = sentence or SENTENCES.get(code, SENTENCES[400])
    if request.path.startswith(PREFIX):
        return problem(code, words)
    if request.accept_mimetypes.best == "application/json":
        return {"error": words}, code
    page = "unavailable.html" if code == 503 else "error.html"
    return render_template(page, code=code, sentence=words), code


def init(app: Flask) -> None:
    """Attach the handlers."""

    @app.errorhandler(CSRFError)
    def csrf(_: CSRFError) -> Any:
        return _page(400, "This form is out of date. Go back, reload the page and send it again.")

    @app.errorhandler(MovedOn)
    def moved(error: MovedOn) -> Any:
        flash(in_words(error), "care")
        return (
            redirect(request.referrer or url_for("today.show"))
            if _own(request.referrer)
            else _page(409, in_words(error))
        )

    @app.errorhandler(Conflict)
    def conflict(error: Conflict) -> Any:
        return _page(409, in_words(error))

    @app.errorhandler(IntegrityError)
    def taken(error: IntegrityError) -> Any:
        if not is_taken(error):
            app.logger.error("a rule of the tables was broken: %s on %s", rule_of(error), request.endpoint)
            return _page(500)
        app.logger.warning("refused by a rule of the tables: %s on %s", rule_of(error), request.endpoint)
        return _page(409, already_there(error))

    @app.errorhandler(NotFound)
    def not_found(error: NotFound) -> Any:
        return _page(404, in_words(error))

    @app.errorhandler(NotAllowed)
    def not_allowed(error: NotAllowed) -> Any:
        return _page(403, in_words(error))

    @app.errorhandler(BrumelError)
    def refused(error: BrumelError) -> Any:
        return _page(422, in_words(error))

    @app.errorhandler(OperationalError)
    @app.errorhandler(PoolTimeout)
    def database(error: OperationalError | PoolTimeout) -> Any:
        app.logger.warning("database: %s", type(getattr(error, "orig", None) or error).__name__)
        # Who asks cannot be found out either.
        g._login_user = app.login_manager.anonymous_user()  # type: ignore[attr-defined]
        response = make_response(_page(503))
        response.headers["Retry-After"] = "5"
        return response

    @app.errorhandler(DataError)
    @app.errorhandler(UnicodeError)
    @app.errorhandler(OverflowError)
    def unkeepable(error: Exception) -> Any:
        app.logger.warning("refused what cannot be kept: %s on %s", type(error).__name__, request.endpoint)
        return _page(422, "Something that was sent is too large, or holds a character that cannot be kept.")

    @app.errorhandler(HTTPException)
    def http(error: HTTPException) -> Any:
        return _page(error.code or 400)

    @app.errorhandler(500)
    def inside(_: Exception) -> Any:
        return _page(500)


def _own(url: str | None) -> bool:
    return bool(url) and str(url).startswith(request.host_url)
