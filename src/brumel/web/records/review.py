"""Review: the lead's queue, closing checks and what they do, affected results, and signing."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import flash, render_template, request, url_for

from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import ReasonForm, text_of
from brumel.web.records.routes import blueprint
from brumel.work.bench import closing_checks
from brumel.work.desk import object_id
from brumel.work.records import affected, decisions, signing
from brumel.work.rounds import logger

Show = Callable[..., Any]


@blueprint.get("/review")
def review(faults: Any = ()) -> Any:
    """What waits for the lead."""
    with desk().read() as session:
        queue = signing.queue(session)
        page = render_template(
            "records/review.html",
            queue=queue,
            most=signing.MOST,
            logs=logger.waiting(session),
            faults=faults,
            given=request.form,
        )
        return page, 422 if faults else 200


def _write(show: Callable[[Any], Any], do: Callable[[], None], back: str) -> Any:
    return answer(do, show, back)


@blueprint.post("/sign")
def sign() -> Any:
    """Sign the ticked versions."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        signed = signing.sign(
            desk(),
            actor(),
            form.write_key,
            readings=request.form.getlist("reading")[:600],
            name=request.form.get("name", "")[:120],
        )
        flash(f"{signed.signed} signed.", "note")

    return _write(review, do, url_for("records.review"))


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
