"""Review: the lead's queue, closing checks and what they do, affected results, and signing."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import flash, render_template, request, url_for

from brumel.web import sign_in_limit
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import ReasonForm, WriteForm, text_of
from brumel.web.records import visiting
from brumel.web.records.routes import blueprint
from brumel.web.sign_in_limit import limiter
from brumel.work import records
from brumel.work.bench import closing_checks
from brumel.work.desk import object_id
from brumel.work.records import affected, decisions, signing
from brumel.work.records import review as reviewing
from brumel.work.rounds import logger

Show = Callable[..., Any]


@blueprint.get("/review")
def review(faults: Any = ()) -> Any:
    """What waits for the lead, by round and visit."""
    with desk().read() as session:
        waiting, total = reviewing.waiting(session)
        page = render_template(
            "records/review.html",
            rounds=waiting,
            total=total,
            most=reviewing.MOST,
            counts=signing.counts(session),
            closings=signing.open_closings(session),
            logs=logger.waiting(session),
            asked=reviewing.questions(session, [v.visit.id for r in waiting for v in r.visits]),
            faults=faults,
            given=request.form,
        )
        return page, 422 if faults else 200


def _write(show: Callable[[Any], Any], do: Callable[[], str | None], back: str) -> Any:
    return answer(do, show, back)


@blueprint.get("/visits/<visit_id>")
def visit(visit_id: str, faults: Any = ()) -> Any:
    """One visit as it stands in the record: what speaks against it first, with its evidence, then all the rest."""
    with desk().read() as session:
        page = render_template("records/visit.html", faults=faults, **visiting.of_visit(session, visit_id))
        return page, 422 if faults else 200


@blueprint.get("/rounds/<outing_id>")
def round_gone(outing_id: str, faults: Any = ()) -> Any:
    """One round that was gone, visit by visit, to be looked through and signed at once."""
    with desk().read() as session:
        page = render_template("records/round.html", faults=faults, **visiting.of_round(session, outing_id))
        return page, 422 if faults else 200


@blueprint.post("/visits/<visit_id>/sign")
@limiter.limit(sign_in_limit.BY_PERSON, key_func=sign_in_limit.session_or_address, methods=["POST"])
def sign_visit(visit_id: str) -> Any:
    """Sign what a visit's page shows, but for what was set apart."""
    return _sign("visit", visit_id, lambda faults: visit(visit_id, faults), url_for("records.visit", visit_id=visit_id))


@blueprint.post("/rounds/<outing_id>/sign")
@limiter.limit(sign_in_limit.BY_PERSON, key_func=sign_in_limit.session_or_address, methods=["POST"])
def sign_round(outing_id: str) -> Any:
    """Sign what a round's page shows, but for what was set apart."""
    back = url_for("records.round_gone", outing_id=outing_id)
    return _sign("round", outing_id, lambda faults: round_gone(outing_id, faults), back)


@blueprint.post("/sign")
@limiter.limit(sign_in_limit.BY_PERSON, key_func=sign_in_limit.session_or_address, methods=["POST"])
def sign() -> Any:
    """Sign versions named one by one."""
    return _sign("readings", "", review, url_for("records.review"))


def _sign(kind: str, subject: str, show: Callable[[Any], Any], back: str) -> Any:
    form = WriteForm()

    def do() -> str:
        form.check()
        signed = signing.sign(
            desk(),
            actor(),
            form.write_key,
            readings=request.form.getlist("reading")[: signing.MOST_AT_ONCE + 1],
            apart=request.form.getlist("apart")[: signing.MOST_AT_ONCE + 1],
            password=request.form.get("password", "")[:1024],
            scope=signing.Scope(kind, subject),
        )
        return url_for("records.signed", signing_id=signed.id)

    return _write(show, do, back)


@blueprint.get("/signings/<signing_id>")
def signed(signing_id: str) -> Any:
    """Exactly which versions were signed at once."""
    with desk().read() as session:
        act, rows = signing.signing(session, signing_id)
        newest = records.newest(session, [r.root_id for r in rows])
        return render_template("records/signed.html", act=act, rows=rows, newest=newest)


@blueprint.post("/visits/<visit_id>/ask")
def ask(visit_id: str) -> Any:
    """Send a visit back with a question."""
    form = WriteForm()

    def do() -> None:
        form.check()
        reviewing.ask(
            desk(), actor(), form.write_key, visit_id=visit_id, question=request.form.get("question", "")[:1000]
        )
        flash("Sent back: the question stands on their Today.", "note")

    return _write(lambda faults: visit(visit_id, faults), do, url_for("records.visit", visit_id=visit_id))


@blueprint.post("/questions/<question_id>/answer")
def answer_question(question_id: str) -> Any:
    """Answer a question about a visit."""
    form = WriteForm()
    with desk().read() as session:
        about = str(reviewing.question_of(session, question_id).visit_id)

    def do() -> None:
        form.check()
        reviewing.answer(
            desk(), actor(), form.write_key, question_id=question_id, text=request.form.get("answer", "")[:1000]
        )
        flash("Answered; the lead sees it beside the visit.", "note")

    return _write(lambda faults: visit(about, faults), do, url_for("records.visit", visit_id=about))


@blueprint.get("/closings/<closing_id>")
def closing(closing_id: str, faults: Any = ()) -> Any:
    """A closing check: what each decision would do to every reading of its span, and the decision."""
    with desk().read() as session:
        closing = closing_checks.closing(session, closing_id)
        wanted = request.values.get("decision") or decisions.suggested(closing)
        wanted = wanted if wanted in decisions.DECISIONS else decisions.suggested(closing)
        ruled = decisions.decision_of(session, closing.id)
        page = render_template(
            "records/closing.html",
            closing=closing,
            decision=wanted,
            decisions=decisions.DECISIONS,
            ruled=ruled,
            effects=[] if ruled else decisions.effects(session, closing, wanted),
            counts_as=decisions.error_counts_as(closing),
            opened=decisions.opens(session, closing),
            touched=decisions.decided_readings(session, ruled) if ruled else [],
            past=decisions.decisions_about(session, closing.id),
            faults=faults,
            given=request.form,
        )
        return page, 422 if faults else 200


@blueprint.post("/closings/<closing_id>/decide")
def decide(closing_id: str) -> Any:
    """The lead's decision about a closing check."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        decisions.decide(
            desk(),
            actor(),
            form.write_key,
            closing_id=closing_id,
            decision=request.form.get("decision", ""),
            reason=text_of(form.reason),
            name=request.form.get("name", "")[:120],
        )

    return _write(lambda f: closing(closing_id, f), do, url_for("records.closing", closing_id=closing_id))


@blueprint.post("/decisions/<decision_id>/reopen")
def reopen(decision_id: str) -> Any:
    """Take a decision back."""
    form = ReasonForm()
    with desk().read() as session:
        kind, subject = decisions.subject_of(session, decision_id)

    def show(faults: Any) -> Any:
        return closing(str(subject), faults) if kind == "closing" else affected_results(kind, str(subject), faults)

    def do() -> None:
        form.check()
        decisions.reopen(
            desk(),
            actor(),
            form.write_key,
            decision_id=decision_id,
            reason=text_of(form.reason),
            name=request.form.get("name", "")[:120],
        )

    back = (
        url_for("records.closing", closing_id=subject)
        if kind == "closing"
        else url_for("records.affected_results", kind=kind, subject=subject)
    )
    return _write(show, do, back)


@blueprint.get("/affected/<kind>/<subject>")
def affected_results(kind: str, subject: str, faults: Any = ()) -> Any:
    """What a bad lot or a wrong calibration touches."""
    with desk().read() as session:
        what = object_id(subject, kind)
        results, rows = affected.touched(session, kind, what)
        ruled = decisions.decision_of(session, what)
        page = render_template(
            "records/affected.html",
            kind=kind,
            subject=subject,
            name=affected.subject_name(session, kind, what),
            calibrations=results,
            readings=rows,
            ruled=ruled,
            past=decisions.decisions_about(session, what),
            faults=faults,
            given=request.form,
        )
        return page, 422 if faults else 200


@blueprint.post("/affected/<kind>/<subject>")
def decide_affected(kind: str, subject: str) -> Any:
    """The lead's decision about affected results."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        affected.decide_affected(
            desk(),
            actor(),
            form.write_key,
            kind=kind,
            subject=subject,
            decision=request.form.get("decision", ""),
            reason=text_of(form.reason),
            name=request.form.get("name", "")[:120],
        )

    return _write(
        lambda f: affected_results(kind, subject, f),
        do,
        url_for("records.affected_results", kind=kind, subject=subject),
    )
