"""People: who works here, one's own account with its sessions and tokens, and the first person of a practice."""

from __future__ import annotations

import hmac
import io
from collections.abc import Callable, Mapping
from typing import Any

import segno
from flask import Blueprint, abort, current_app, flash, redirect, render_template, request, url_for
from flask_login import current_user, login_user
from markupsafe import Markup

from brumel.config import first_code
from brumel.store import archive
from brumel.store.tables import User
from brumel.web.access import Account, actor, desk
from brumel.web.answer import answer
from brumel.web.forms import WriteForm
from brumel.web.sign_in_limit import BY_ADDRESS, BY_PERSON, limiter, session_or_address
from brumel.work import jobs, people
from brumel.work.desk import NotAllowed, token_hash
from brumel.work.people import second_factor as second_factors
from brumel.work.people import tokens
from brumel.work.records import letterhead, telling

blueprint = Blueprint("people", __name__, template_folder="templates")

#: What a role may do, in the words of the pages.
ROLE_WORDS = {
    "technician": "calibrates, reads sites, keeps kit",
    "lead": "all of it, and decides, signs, keeps people and clients",
    "auditor": "looks at everything, changes nothing",
    "client": "sees what is their client's",
}


@blueprint.get("/people")
def index(faults: Any = ()) -> Any:
    """The practice's people, and who is invited next."""
    with desk().read() as session:
        page = render_template(
            "people/index.html",
            people=people.of_practice(session),
            tokens=tokens.all_tokens(session, desk().clock()),
            scopes=tokens.SCOPES,
            roles=people.ROLES,
            words=ROLE_WORDS,
            faults=faults,
            given=request.form,
        )
    return page, 422 if faults else 200


@blueprint.post("/people")
def invite() -> Any:
    """Invite somebody of the practice; the link is shown this once."""
    form = WriteForm()

    def do() -> str:
        form.check()
        given = request.form
        made = people.invite(
            desk(),
            actor(),
            form.write_key,
            username=given.get("username", "")[:200],
            name=given.get("name", "")[:200],
            role=given.get("role", "") if given.get("role") in people.ROLES else "?",
        )
        show_invitation(made)
        return url_for("people.index")

    return answer(do, index, url_for("people.index"))


def show_invitation(made: people.Invited) -> None:
    """The link of an invitation, as a note at the head of the next page."""
    if made.token:
        link = url_for("auth.invited", token=made.token, _external=True)
        flash(f"Their link, shown this once and good for {people.INVITED_FOR.days} days: {link}", "note")
    else:
        flash("Invited already; a link is shown only once.", "care")


@blueprint.get("/people/<user_id>")
def person(user_id: str, faults: Any = ()) -> Any:
    """One person: role, sessions, the tokens of their programs."""
    with desk().read() as session:
        found, now = people.person(session, user_id), desk().clock()
        page = render_template(
            "people/person.html",
            person=found,
            sessions=people.running_sessions(session, found, now),
            tokens=tokens.of_person(session, found, now),
            scopes=tokens.SCOPES,
            roles=people.ROLES,
            words=ROLE_WORDS,
            faults=faults,
        )
    return page, 422 if faults else 200


def _change(user_id: str, do: Callable[[WriteForm], None]) -> Any:
    form = WriteForm()

    def checked() -> str:
        form.check()
        do(form)
        return url_for("people.person", user_id=user_id)

    return answer(checked, lambda faults: person(user_id, faults), url_for("people.person", user_id=user_id))


@blueprint.post("/people/<user_id>/role")
def change_role(user_id: str) -> Any:
    """Another role for them."""

    def do(form: WriteForm) -> None:
        people.change_role(desk(), actor(), form.write_key, user_id=user_id, role=request.form.get("role", "")[:20])
        flash("Their role is changed, from their next page on.", "note")

    return _change(user_id, do)


@blueprint.post("/people/<user_id>/invite-again")
def invite_again(user_id: str) -> Any:
    """A new link, by which they choose a new password."""
    return _change(
        user_id, lambda form: show_invitation(people.invite_again(desk(), actor(), form.write_key, user_id=user_id))
    )


@blueprint.post("/people/<user_id>/deactivate")
def deactivate(user_id: str) -> Any:
    """They may come in no longer, nor may their programs."""

    def do(form: WriteForm) -> None:
        people.deactivate(desk(), actor(), form.write_key, user_id=user_id)
        flash("They are signed out everywhere and may come in no longer; nor may their programs.", "note")

    return _change(user_id, do)


@blueprint.post("/people/<user_id>/sessions/<session_id>/end")
def end_session(user_id: str, session_id: str) -> Any:
    """End a session of theirs."""

    def do(form: WriteForm) -> None:
        people.end_one_session(desk(), actor(), form.write_key, session_id=session_id)
        flash("That session has ended.", "note")

    return _change(user_id, do)


# -- one's own account


@blueprint.get("/account")
def account(faults: Any = ()) -> Any:
    """One's own account: password, sessions, tokens, the calendar."""
    with desk().read() as session:
        now = desk().clock()
        page = render_template(
            "people/account.html",
            sessions=people.running_sessions(session, actor(), now),
            here=token_hash(current_user.token),
            tokens=tokens.of_person(session, actor(), now) if actor().role in people.ROLES else None,
            scopes=tokens.SCOPES,
            days=tokens.DAYS,
            words=ROLE_WORDS,
            shortest=people.SHORTEST_PASSWORD,
            codes_left=second_factors.codes_left(session, actor()) if actor().totp_secret else 0,
            faults=faults,
            given=request.form,
        )
    return page, 422 if faults else 200


def _own(do: Callable[[WriteForm], str | None]) -> Any:
    form = WriteForm()

    def checked() -> str:
        form.check()
        return do(form) or url_for("people.account")

    return answer(checked, account, url_for("people.account"))


@blueprint.post("/account/password")
@limiter.limit(BY_PERSON, key_func=session_or_address)
def change_password() -> Any:
    """Another password. All one's sessions end; this one begins anew."""

    def do(form: WriteForm) -> None:
        old, new, again = (request.form.get(name, "") for name in ("old", "new", "again"))
        people.change_password(desk(), actor(), form.write_key, old=old, new=new, again=again)
        with desk().read() as session:
            _sign_in(people.person(session, str(actor().id)))
        flash("Your password is changed. You are signed out everywhere else.", "note")

    return _own(do)


@blueprint.get("/account/second-factor")
def second_factor(faults: Any = ()) -> Any:
    """Set up a second factor: a seed as a drawing and as letters, and the first code of it."""
    if actor().totp_secret:
        return redirect(url_for("people.account"))
    seed = request.form.get("seed", "")
    if not second_factors.is_seed(seed):
        seed = second_factors.new_seed()
    with desk().read() as session:
        practice = letterhead.practice(session).name
    address = second_factors.address(seed, actor().username, practice)
    drawn = segno.make(address, micro=False)
    page = render_template(
        "people/second_factor.html",
        seed=seed,
        address=address,
        drawing=Markup(drawn.svg_inline(scale=5, border=3, dark="#000", light="#fff", title="The same as a drawing")),  # noqa: S704 - made here
        needed=current_app.config["LEADS_NEED_TWO"] and actor().role == "lead",
        faults=faults,
    )
    return page, 422 if faults else 200


@blueprint.post("/account/second-factor")
@limiter.limit(BY_PERSON, key_func=session_or_address)
def set_up_second_factor() -> Any:
    """The first code was typed: from now on one is asked for."""
    form, made = WriteForm(), []

    def do() -> str:
        form.check()
        given = {name: request.form.get(name, "")[:40] for name in ("seed", "one_time")}
        made.append(second_factors.set_up(desk(), actor(), form.write_key, **given))
        return ""

    answered = answer(do, second_factor, url_for("people.account"))
    if not made:
        return answered
    return render_template("people/recovery_codes.html", codes=made[0].codes)


@blueprint.post("/account/second-factor/off")
@limiter.limit(BY_PERSON, key_func=session_or_address)
def take_off_second_factor() -> Any:
    """Without one again."""

    def do(form: WriteForm) -> None:
        second_factors.take_off(desk(), actor(), form.write_key, one_time=request.form.get("one_time", "")[:40])
        flash("You sign in with your password alone again.", "note")

    return _own(do)


def _sign_in(user: User) -> None:
    token = people.open_session(desk(), user, device())
    login_user(Account(user, token, desk().clock() + people.LONGEST_SESSION))


def device() -> str:
    """What asks, as its browser says: a phone or a computer."""
    return "phone" if "Mobi" in request.headers.get("User-Agent", "") else "computer"


@blueprint.post("/account/sessions/<session_id>/end")
def end_own_session(session_id: str) -> Any:
    """End a session of one's own."""

    def do(form: WriteForm) -> None:
        people.end_one_session(desk(), actor(), form.write_key, session_id=session_id)
        flash("That session has ended.", "note")

    return _own(do)


@blueprint.post("/account/tokens")
def make_token() -> Any:
    """A token for a program; it is shown this once."""

    def do(form: WriteForm) -> None:
        given, days = request.form, request.form.get("days", "")
        made = tokens.make_token(
            desk(),
            actor(),
            form.write_key,
            name=given.get("name", "")[:200],
            scopes=given.getlist("scopes")[:20],
            days=int(days) if days in {str(d) for d in tokens.DAYS} else 0,
        )
        if made.token:
            flash(f"The token, shown this once: {made.token}", "note")
        else:
            flash("Made already; a token is shown only once. End it and make another.", "care")

    return _own(do)


@blueprint.post("/account/calendar")
def make_calendar() -> Any:
    """The address of one's calendar feed; it is shown this once."""

    def do(form: WriteForm) -> None:
        made = tokens.make_calendar(desk(), actor(), form.write_key)
        if made.token:
            feed = url_for("kit.calendar_feed", token=made.token, _external=True)
            flash(f"The address for your calendar program, shown this once: {feed}", "note")
        else:
            flash("Made already; an address is shown only once. Make it anew.", "care")

    return _own(do)


@blueprint.post("/tokens/<token_id>/end")
def end_token(token_id: str) -> Any:
    """End a token of one's own, or of anybody where the lead does it."""
    form = WriteForm()

    def do() -> str:
        form.check()
        of = tokens.end_token(desk(), actor(), form.write_key, token_id=token_id)
        flash("That token opens nothing any more.", "note")
        return url_for("people.account") if of.id == str(actor().id) else url_for("people.person", user_id=of.id)

    return answer(do, account, url_for("people.account"))


# -- other programs that are told


@blueprint.get("/people/webhooks")
def webhooks(faults: Any = ()) -> Any:
    """The addresses that are told of events, and what was sent to them."""
    with desk().read() as session:
        page = render_template(
            "people/webhooks.html",
            webhooks=telling.webhooks(session),
            deliveries=telling.last_deliveries(session),
            events=telling.EVENTS,
            faults=faults,
            given=request.form,
        )
    return page, 422 if faults else 200


@blueprint.post("/people/webhooks")
def add_webhook() -> Any:
    """Tell another address; its secret is shown this once."""
    form = WriteForm()

    def do() -> str:
        form.check()
        url, events = request.form.get("url", "")[:1000], request.form.getlist("events")[:10]
        made = telling.add_webhook(desk(), actor(), form.write_key, url=url, events=events)
        if made.secret:
            flash(f"The secret that signs what is sent, shown this once: {made.secret}", "note")
        else:
            flash("Added already; a secret is shown only once. End it and add it anew.", "care")
        return url_for("people.webhooks")

    return answer(do, webhooks, url_for("people.webhooks"))


@blueprint.post("/people/webhooks/<webhook_id>/end")
def end_webhook(webhook_id: str) -> Any:
    """Tell it nothing any more."""
    form = WriteForm()

    def do() -> str:
        form.check()
        telling.end_webhook(desk(), actor(), form.write_key, webhook_id=webhook_id)
        flash("It is told nothing any more.", "note")
        return url_for("people.webhooks")

    return answer(do, webhooks, url_for("people.webhooks"))


# -- the whole practice


def take_practice(asker: User, _: Mapping[str, Any], tell: jobs.Tell) -> jobs.Done:
    """The job "practice": everything in one file, which `./brumel unpack` moves into an empty database elsewhere."""
    if asker.role != "lead":
        raise NotAllowed("The whole practice is taken along by the lead.")
    out, of = io.BytesIO(), len(archive.tables())
    archive.pack(current_app.config["DATABASE_URL"], out, lambda table: tell(archive.tables().index(table), of))
    tell(of, of)
    return jobs.Done(f"brumel-practice-{desk().clock():%Y%m%d}.zip", "application/zip", out.getvalue())


def check_practice(_: Mapping[str, Any]) -> None:
    """Raises NotAllowed for whoever is not the lead."""
    if actor().role != "lead":
        raise NotAllowed("The whole practice is taken along by the lead.")


# -- the first person


@blueprint.get("/begin/<code>")
@limiter.limit(BY_ADDRESS)
def begin(code: str, faults: Any = ()) -> Any:
    """The first page of an empty practice."""
    _is_first(code)
    page = render_template(
        "people/begin.html", faults=faults, given=request.form, code=code, shortest=people.SHORTEST_PASSWORD
    )
    return page, 422 if faults else 200


@blueprint.post("/begin/<code>")
@limiter.limit(BY_ADDRESS)
def begin_with(code: str) -> Any:
    """Its first person, who is signed in then."""
    _is_first(code)
    given = {name: request.form.get(name, "")[:2000] for name in ("username", "name", "password", "again")}

    def do() -> str:
        user = people.begin(desk(), people.FirstPerson(**given))
        _sign_in(user)
        return url_for("today.show")

    return answer(do, lambda faults: begin(code, faults))


def _is_first(code: str) -> None:
    right = hmac.compare_digest(code.encode(), first_code(str(current_app.config["SECRET_KEY"])).encode())
    with desk().read() as session:
        if not right or not people.is_empty(session):
            abort(404)
