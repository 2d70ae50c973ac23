"""Documents: looked at, issued, found again; and the practice's letterhead."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from datetime import date, timedelta
from typing import Any

from flask import Blueprint, Response, abort, flash, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.store.tables import User
from brumel.web import practice_clock
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.documents import printing
from brumel.web.documents.kinds import KINDS, Kind
from brumel.web.forms import WriteForm
from brumel.web.reader import reader
from brumel.web.records import finding
from brumel.work import jobs
from brumel.work.desk import Desk
from brumel.work.people import UNIT_CHOICES
from brumel.work.records import issuing, letterhead, releasing, visits
from brumel.work.rounds import recurrence

blueprint = Blueprint("documents", __name__, template_folder="templates", url_prefix="/records/documents")


def _kind(name: str) -> Kind:
    return KINDS.get(name) or abort(404)


def _asked(kind: Kind, given: Mapping[str, str]) -> dict[str, str]:
    """What a document is made of, as an address or a form has it. Raises InputError where something is missing."""
    asked = {name: given.get(name, "").strip()[:60] for name in kind.takes}
    for name, text in asked.items():
        if not text:
            raise InputError(name, f"{name.capitalize()} is missing: say what the document is to be of.")
    return asked


@blueprint.get("")
def index(faults: Any = ()) -> Any:
    """What was issued, newest first, and asking for a client's report."""
    with desk().read() as session:
        number = finding.page_of(request.args)
        rows, total = issuing.issued(session, number)
        page = render_template(
            "documents/index.html",
            rows=rows,
            total=total,
            page=number,
            pages=-(-total // issuing.PAGE),
            clients=[(client_id, client) for client, client_id, _ in visits.choices(session).sites],
            kinds=KINDS,
            faults=faults,
            given=request.values,
            last_month=_last_month(),
        )
        return page, 422 if faults else 200


def _last_month() -> tuple[date, date]:
    """The month before this one, by the practice's clock: what is most often reported."""
    end = desk().clock().astimezone(reader().zone).date().replace(day=1) - timedelta(days=1)
    return end.replace(day=1), end


@blueprint.get("/preview/<kind>")
def preview(kind: str) -> Any:
    """A document as a page, before it is issued: to look at, and to print as it is."""
    of = _kind(kind)
    try:
        asked = _asked(of, request.args)
        with desk().read() as session:
            practice = letterhead.practice(session)
            with printing.in_the_way_of(practice):
                made = of.make(session, asked)
                return printing.on_screen(of, made, practice, actor(), kind_key=kind, asked=asked)
    except InputError as error:
        return index((error,))


@blueprint.post("/issue/<kind>")
def issue(kind: str) -> Any:
    """Issue a document: it gets its number and is kept as it is. A long one is made as a job."""
    of = _kind(kind)
    form = WriteForm()

    def do() -> str:
        form.check()
        asked = _asked(of, request.form)
        with desk().read() as session:
            long = of.is_long(session, asked)
        if long:
            job = jobs.ask(
                desk(),
                actor(),
                form.write_key,
                kind="document",
                title=of.title,
                asked={**asked, "kind": kind, "key": str(uuid.uuid4())},
            )
            return url_for("jobs.job", job_id=job.id)
        made = issue_now(desk(), actor(), form.write_key, kind, asked)
        flash("Issued: it is kept as it is now.", "note")
        return url_for("documents.document", document_id=made.id)

    return answer(do, index)


def _nobody_asks(_done: int, _of: int) -> None:
    return


def issue_now(
    desk_: Desk, asker: User, key: Any, kind: str, asked: Mapping[str, str], tell: jobs.Tell = _nobody_asks
) -> Any:
    """Make a document of a kind and keep it under its number; `tell` hears of gathering, drawing, setting and keeping."""
    of = KINDS[kind]
    with desk_.read() as session:
        practice = letterhead.practice(session)
        with printing.in_the_way_of(practice):
            tell(0, STEPS)
            made = of.make(session, asked)
            tell(1, STEPS)
            what = issuing.Issue(kind, made.title, asked, made.client_id, practice.prefix)
            body = printing.as_pdf(session, of, made, practice, asker, lambda: tell(2, STEPS))
            return issuing.issue(desk_, asker, key, what=what, body=body)


#: What a document takes: its content gathered, its pages drawn, set, and kept.
STEPS = 4


def issue_as_job(asker: User, asked: Mapping[str, Any], tell: jobs.Tell) -> jobs.Done:
    """The job "document": the same, for what takes longer than a page may be waited for."""
    given = {name: str(asked.get(name, "")) for name in KINDS[str(asked["kind"])].takes}
    # Its key was made when it was asked for: a process that ends between issuing and telling issues nothing twice.
    key = uuid.UUID(str(asked["key"])) if "key" in asked else uuid.uuid4()
    made = issue_now(desk(), asker, key, str(asked["kind"]), given, tell)
    tell(3, STEPS)
    with desk().read() as session:
        row = issuing.document(session, made.id, whole=True)
        tell(STEPS, STEPS)
        return jobs.Done(file_name(row.label), "application/pdf", row.body)


def check(asked: Mapping[str, Any]) -> None:
    """Raises InputError for a document that cannot be asked for as a job."""
    kind = KINDS.get(str(asked.get("kind", "")))
    if kind is None:
        raise InputError("kind", "There is no document of that kind.")
    _asked(kind, asked)


def file_name(label: str) -> str:
    """What a browser keeps a document as."""
    safe = "".join(c if c.isalnum() or c in "-_" else "-" for c in label)
    return f"{safe or 'document'}.pdf"


@blueprint.get("/<document_id>")
def document(document_id: str, faults: Any = ()) -> Any:
    """An issued document: what it is, its file, and to whom it was released."""
    with desk().read() as session:
        row = issuing.document(session, document_id)
        page = render_template(
            "documents/document.html",
            document=row,
            kinds=KINDS,
            releases=releasing.releases_of(session, row.id),
            days=releasing.DAYS,
            faults=faults,
        )
        return page, 422 if faults else 200


@blueprint.get("/<document_id>.pdf")
def file(document_id: str) -> Any:
    """Its file, as it was issued."""
    with desk().read() as session:
        row = issuing.document(session, document_id, whole=True)
        response = Response(row.body, mimetype="application/pdf")
        response.headers["Content-Disposition"] = f'inline; filename="{file_name(row.label)}"'
        return response


@blueprint.get("/letterhead")
def practice(faults: Any = ()) -> Any:
    """How the practice's documents are headed and written."""
    with desk().read() as session:
        kept = letterhead.practice(session)
        page = render_template(
            "documents/letterhead.html",
            practice=kept,
            picture=printing.letterhead_picture(kept),
            papers=letterhead.PAPERS,
            dates=letterhead.DATES,
            first_days={day: recurrence.WEEKDAYS[day] for day in letterhead.FIRST_DAYS},
            zone_now=practice_clock.practice_clock().zone,
            unit_choices=UNIT_CHOICES,
            faults=faults,
            given=request.form,
        )
        return page, 422 if faults else 200


@blueprint.post("/letterhead")
def save_practice() -> Any:
    """A new letterhead."""
    form = WriteForm()

    def do() -> str:
        form.check()
        sent, file = request.form, request.files.get("picture")
        letterhead.save(
            desk(),
            actor(),
            form.write_key,
            practice=letterhead.Practice(
                name=sent.get("name", ""),
                address=sent.get("address", ""),
                prefix=sent.get("prefix", ""),
                paper=sent.get("paper", ""),
                dates=sent.get("dates", ""),
                units={what: sent.get(what, "") for what in UNIT_CHOICES},
                zone=sent.get("zone", ""),
                first_day=sent.get("first_day", ""),
                picture=file.stream.read(letterhead.MOST_BYTES + 1) if file and file.filename else None,
                without_picture=sent.get("without_picture") == "yes",
            ),
        )
        practice_clock.forget()
        flash("Documents are headed so from now on; what was issued stays as it is.", "note")
        return url_for("documents.practice")

    return answer(do, practice)
