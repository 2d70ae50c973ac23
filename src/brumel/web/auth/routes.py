"""Signing in and out, and the look of the pages."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, current_app, flash, redirect, render_template, request, session, url_for
from flask_login import current_user, login_user, logout_user
from flask_wtf import FlaskForm
from wtforms import PasswordField, StringField

from brumel.core.errors import InputError
from brumel.core.sentence import say
from brumel.store.tables import User
from brumel.web.access import Account, actor, desk
from brumel.web.answer import answer
from brumel.web.filters import THEMES
from brumel.web.forms import WriteForm
from brumel.web.people.routes import device
from brumel.web.reader import in_words
from brumel.web.sign_in_limit import (
    BY_ACCOUNT_AND_ADDRESS,
    BY_ADDRESS,
    BY_PERSON,
    BY_TYPING,
    account_and_address,
    count_failure,
    known_here,
    limiter,
    remember_device,
    slow_down,
)
from brumel.web.watching import figures
from brumel.work import demo, people
from brumel.work.people import second_factor as second_factors

#: Where the signed cookie keeps who has given their password and still has to give a code; for how long that counts [s].
HALF_WAY, LONGEST_HALF_WAY_S = "half way", 300.0

blueprint = Blueprint("auth", __name__, template_folder="templates")


class SignInForm(FlaskForm):
    username = StringField("User name")
    password = PasswordField("Password")


@blueprint.route("/sign-in", methods=["GET", "POST"])
@limiter.limit(BY_ADDRESS, methods=["POST"])
@limiter.limit(BY_ACCOUNT_AND_ADDRESS, key_func=account_and_address, methods=["POST"])
def sign_in() -> Any:
    """The sign-in page; in demo mode it offers the demo accounts."""
    if current_user.is_authenticated:
        return redirect(url_for("today.show"))
    form, problem, history = SignInForm(), "", _history()
    if history and form.is_submitted():
        problem = say("The demo's history is still being made, week {n} of {of}. Sign in when it is whole.", **history)
    elif form.is_submitted() and form.validate():
        slow_down()
        user = people.sign_in(desk(), str(form.username.data or ""), str(form.password.data or ""))
        if user and user.totp_secret:
            session.clear()
            session[HALF_WAY] = {"user": str(user.id), "stamp": user.stamp, "at": desk().clock().timestamp()}
            return redirect(url_for("auth.second_factor", next=request.args.get("next")))
        if user:
            return _let_in(user)
        count_failure()
        figures.refused_sign_ins.inc()
        problem = "User name or password is not right."
    offers = demo.ACCOUNTS if current_app.config["DEMO"] else ()
    page = render_template(
        "auth/sign_in.html", form=form, problem=problem, offers=offers, password=demo.PASSWORD, history=history
    )
    return page, (409 if history else 401) if problem else 200


def _let_in(user: User) -> Any:
    session.clear()
    session.permanent = True
    is_known = known_here(user.username)
    if since := people.since_last(desk(), user):
        flash(_told(since), "care" if since.refused or not since.was_known else "note")
    token = people.open_session(desk(), user, device(), known=is_known)
    login_user(Account(user, token, desk().clock() + people.LONGEST_SESSION))
    return remember_device(redirect(_own_path(request.args.get("next", ""))), user.username)


def _told(since: people.Since) -> str:
    """What a person should know of their account before anything else."""
    told = list(since.changed)
    if since.refused:
        tries = "1 try to sign in as you was" if since.refused == 1 else f"{since.refused} tries to sign in as you were"
        told.insert(0, f"{tries} refused")
    if not since.was_known:
        told.append("that sign-in was from a browser not known before")
    words = "Since you last signed in, {at}: {what}. If that was not you, change your password."
    return in_words(say(words, at=since.at, what="; ".join(told)))


def _half_way() -> User | None:
    """Whoever has given their password within the last minutes, and it still is."""
    stands = session.get(HALF_WAY)
    if not stands or not 0 <= desk().clock().timestamp() - stands["at"] < LONGEST_HALF_WAY_S:
        return None
    with desk().read() as session_:
        user = people.person(session_, stands["user"])
    return user if user.active and user.totp_secret and user.stamp == stands["stamp"] else None


def half_way_person() -> str:
    """What a try at a code is counted by: whose it is, from wherever."""
    return str((session.get(HALF_WAY) or {}).get("user", ""))


@blueprint.route("/sign-in/code", methods=["GET", "POST"])
@limiter.limit(BY_ADDRESS, methods=["POST"])
@limiter.limit(BY_PERSON, key_func=half_way_person, methods=["POST"])
def second_factor() -> Any:
    """The code of the person's device, after the password."""
    user, problem = _half_way(), ""
    if user is None:
        flash("Sign in again: the password was given too long ago.", "note")
        return redirect(url_for("auth.sign_in", next=request.args.get("next")))
    if request.method == "POST":
        if second_factors.is_right(desk(), user.id, request.form.get("one_time", "")[:40]):
            return _let_in(user)
        people.note(desk(), user, "person.sign_in_refused", {"why": "code"})
        figures.refused_sign_ins.inc()
        problem = "This is not the code your device shows now, or it was used already. Type the next one."
    return render_template("auth/second_factor.html", problem=problem), 401 if problem else 200


#: How a password's strength is said, weakest first.
STRENGTHS = ("among the first that are tried", "weak", "fair", "good", "strong")


@blueprint.post("/password-strength")
@limiter.limit(BY_TYPING)
def strength() -> Any:
    """How hard a password is to guess, said while it is typed; it is judged and forgotten."""
    typed = request.form.get("password", "")[: people.LONGEST_PASSWORD]
    score = people.strength(typed, of=tuple(request.form.get("of", "")[:200].split()))
    longer = people.SHORTEST_PASSWORD - len(typed)
    missing = f"{longer} more character{'s' if longer > 1 else ''}"
    return {"score": score, "words": missing if longer > 0 else STRENGTHS[score]}


@blueprint.get("/sign-in/history")
def history() -> Any:
    """How far the demo's history has come, for the sign-in page's script; empty once it is whole."""
    return _history()


def _history() -> dict[str, int]:
    """Asked of the database only until the history is whole, and only in the demo."""
    if not current_app.config["DEMO"] or current_app.extensions.get("history is whole"):
        return {}
    under_way = demo.history_under_way(desk())
    if under_way is None:
        current_app.extensions["history is whole"] = True
        return {}
    return {"n": under_way[0], "of": under_way[1]}


@blueprint.post("/sign-out")
def sign_out() -> Any:
    """End the session."""
    people.end_session(desk(), current_user.token)
    logout_user()
    flash("Signed out.", "note")
    gone = redirect(url_for("auth.sign_in"))
    # Whoever uses this browser next sees no page of before; what waits to be sent is in its storage, and stays.
    gone.headers["Clear-Site-Data"] = '"cache", "cookies"'
    return gone


@blueprint.get("/invited/<token>")
@limiter.limit(BY_ADDRESS)
def invited(token: str, faults: Any = ()) -> Any:
    """A person who was invited chooses their password."""
    with desk().read() as session_:
        person = people.invited(session_, token, desk().clock())
        page = render_template("auth/invited.html", person=person, shortest=people.SHORTEST_PASSWORD, faults=faults)
        return page, 422 if faults else 200


@blueprint.post("/invited/<token>")
@limiter.limit(BY_ADDRESS)
def accept_invitation(token: str) -> Any:
    """The password they chose."""
    password = request.form.get("password", "")

    def do() -> str:
        if password != request.form.get("again", ""):
            raise InputError("again", "The two passwords differ.")
        people.accept(desk(), token, password)
        flash("Your password is kept. Sign in with it.", "note")
        return url_for("auth.sign_in")

    return answer(do, lambda faults: invited(token, faults))


@blueprint.get("/units")
def units(faults: Any = ()) -> Any:
    """The units of one's own pages."""
    page = render_template(
        "auth/units.html", choices=people.UNIT_CHOICES, chosen=actor().units, faults=faults, given=request.form
    )
    return page, 422 if faults else 200


@blueprint.post("/units")
def choose_units() -> Any:
    """Choose them."""
    form = WriteForm()

    def do() -> str:
        form.check()
        chosen = {what: request.form.get(what, "") for what in people.UNIT_CHOICES}
        people.choose_units(desk(), actor(), form.write_key, units=chosen)
        flash("Your pages show these units from now on.", "note")
        return url_for("auth.units")

    return answer(do, units)


@blueprint.post("/theme")
def theme() -> Any:
    """Choose paper, sun or night; kept in a cookie of this device."""
    chosen = request.form.get("theme", "paper")
    response = redirect(_own_path(request.form.get("next", "")))
    response.set_cookie(
        "brumel-look",
        chosen if chosen in THEMES else "paper",
        max_age=400 * 86400,
        samesite="Lax",
        httponly=True,
        secure=current_app.config["SESSION_COOKIE_SECURE"],
    )
    return response


def _own_path(path: str) -> str:
    """A path of this site; anything that could lead elsewhere becomes Today."""
    fine = path.startswith("/") and not path.startswith("//") and "\\" not in path and path.isprintable()
    return path if fine else url_for("today.show")
