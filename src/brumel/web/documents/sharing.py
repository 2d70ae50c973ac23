"""What leaves the practice: releases, links without a sign-in, and the pages of a client's own people."""

from __future__ import annotations

from typing import Any

from flask import Response, flash, redirect, render_template, request, url_for

from brumel.store.documents import Document
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.documents.kinds import KINDS
from brumel.web.documents.routes import blueprint, document, file_name
from brumel.web.forms import WriteForm
from brumel.web.people.routes import show_invitation
from brumel.web.sign_in_limit import limiter
from brumel.work import people
from brumel.work.records import releasing, reports

#: Links and invitations that one address may try.
TRIES = "40 per minute; 300 per hour"


def _pdf(row: Document) -> Response:
    response = Response(row.body, mimetype="application/pdf")
    response.headers["Content-Disposition"] = f'inline; filename="{file_name(row.label)}"'
    return response


@blueprint.post("/<document_id>/release")
def release(document_id: str) -> Any:
    """Release a document to its client; the link is shown this once."""
    form = WriteForm()

    def do() -> str:
        form.check()
        days = request.form.get("days", "")
        made = releasing.release(
            desk(), actor(), form.write_key, document_id=document_id, days=int(days) if days in _DAYS else 0
        )
        if not made.token:
            flash("It was released already; a link is shown only once. Release it again for a new one.", "care")
            return url_for("documents.document", document_id=document_id)
        flash(f"The link, shown this once: {url_for('documents.shared', token=made.token, _external=True)}", "note")
        return url_for("documents.document", document_id=document_id)

    return answer(do, lambda faults: document(document_id, faults))


_DAYS = {str(days) for days in releasing.DAYS}


@blueprint.post("/releases/<release_id>/take-back")
def take_back(release_id: str) -> Any:
    """End a release."""
    form = WriteForm()

    def do() -> str:
        form.check()
        ended = releasing.take_back(desk(), actor(), form.write_key, release_id=release_id)
        flash("Taken back: its link opens nothing any more.", "note")
        return url_for("documents.document", document_id=ended.id)

    return answer(do, lambda faults: redirect(url_for("documents.index")), url_for("documents.index"))


@blueprint.get("/shared/<token>")
@limiter.limit(TRIES)
def shared(token: str) -> Any:
    """A released document by its link, without a sign-in."""
    with desk().read() as session:
        row = releasing.by_token(session, token, desk().clock())
        return render_template("documents/shared.html", document=row, kinds=KINDS, token=token)


@blueprint.get("/shared/<token>/document.pdf")
@limiter.limit(TRIES)
def shared_file(token: str) -> Any:
    """Its file."""
    with desk().read() as session:
        return _pdf(releasing.by_token(session, token, desk().clock(), whole=True))


@blueprint.get("/mine")
def mine() -> Any:
    """What a client's person sees: their sites with the last signed values, and what was released to them."""
    with desk().read() as session:
        return render_template(
            "documents/mine.html",
            sites=releasing.own_sites(session, actor()),
            documents=releasing.released_to(session, actor()),
            kinds=KINDS,
        )


@blueprint.get("/mine/<document_id>.pdf")
def my_file(document_id: str) -> Any:
    """One of their documents."""
    with desk().read() as session:
        return _pdf(releasing.released_document(session, actor(), document_id))


@blueprint.get("/clients/<client_id>")
def client_people(client_id: str, faults: Any = ()) -> Any:
    """The people of a client who may look at what is theirs."""
    with desk().read() as session:
        client = reports.client_of(session, client_id)
        page = render_template(
            "documents/people.html",
            client=client,
            people=people.of_client(session, client.id),
            faults=faults,
            given=request.form,
        )
        return page, 422 if faults else 200


@blueprint.post("/clients/<client_id>/invite")
def invite(client_id: str) -> Any:
    """Invite one; the link is shown this once."""
    form = WriteForm()
    back = url_for("documents.client_people", client_id=client_id)

    def do() -> str:
        form.check()
        given = request.form
        made = people.invite(
            desk(),
            actor(),
            form.write_key,
            client_id=client_id,
            username=given.get("username", "")[:200],
            name=given.get("name", "")[:200],
        )
        show_invitation(made)
        return back

    return answer(do, lambda faults: client_people(client_id, faults), back)


@blueprint.post("/people/<user_id>/invite-again")
def invite_again(user_id: str) -> Any:
    """A new link for one."""
    return _change(lambda form: show_invitation(people.invite_again(desk(), actor(), form.write_key, user_id=user_id)))


@blueprint.post("/people/<user_id>/deactivate")
def deactivate(user_id: str) -> Any:
    """They may sign in no longer."""

    def do(form: WriteForm) -> None:
        people.deactivate(desk(), actor(), form.write_key, user_id=user_id)
        flash("They are signed out, and may sign in no longer.", "note")

    return _change(do)


def _change(do: Any) -> Any:
    form = WriteForm()
    back = request.form.get("back", "")
    client = url_for("documents.client_people", client_id=back) if back else url_for("documents.index")

    def checked() -> str:
        form.check()
        do(form)
        return client

    return answer(checked, lambda faults: redirect(client), client)
