"""Review: the lead's queue, closing checks and what they do, discoveries, and signing."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import flash, redirect, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.web.access import actor, desk
from brumel.web.forms import ReasonForm, text_of
from brumel.web.records.routes import blueprint
from brumel.work import closings, logchecks, rulings
from brumel.work.desk import MovedOn, Refused, object_id

Show = Callable[..., Any]


@blueprint.get("/review")
def review(faults: Any = ()) -> Any:
    """What waits for the lead."""
    with desk().read() as session:
        found = rulings.queue(session)
        page = render_template(
            "records/review.html", queue=found, most=rulings.MOST, logs=logchecks.waiting(session), faults=faults,
            given=request.form,
        )  # fmt: skip
        return page, 422 if faults else 200


def _write(show: Callable[[Any], Any], do: Callable[[], Any], back: str) -> Any:
    try:
        do()
    except MovedOn as error:
        flash(str(error), "care")
    except InputError as error:
        return show(error.faults)
    except Refused as error:
        return show((error,))
    return redirect(back)


@blueprint.post("/sign")
def sign() -> Any:
    """Sign the ticked versions."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        made = rulings.sign(
            desk(), actor(), form.write_key, readings=request.form.getlist("reading")[:600],
            name=request.form.get("name", "")[:120],
        )  # fmt: skip
        flash(f"{made['signed']} signed.", "note")

    return _write(review, do, url_for("records.review"))


@blueprint.get("/closings/<closing_id>")
def closing(closing_id: str, faults: Any = ()) -> Any:
    """A closing check: what each decision would do to every reading of its span, and the decision."""
    with desk().read() as session:
        found = closings.closing(session, closing_id)
        wanted = request.values.get("decision") or rulings.suggested(found)
        wanted = wanted if wanted in rulings.DECISIONS else rulings.suggested(found)
        ruled = rulings.ruling_of(session, found.id)
        page = render_template(
            "records/closing.html", closing=found, decision=wanted, decisions=rulings.DECISIONS, ruled=ruled,
            effects=[] if ruled else rulings.effects(session, found, wanted), opened=rulings.opens(session, found),
            touched=rulings.ruled_readings(session, ruled) if ruled else [], past=rulings.of_subject(session, found.id),
            faults=faults, given=request.form,
        )  # fmt: skip
        return page, 422 if faults else 200


@blueprint.post("/closings/<closing_id>/rule")
def rule(closing_id: str) -> Any:
    """The lead's decision about a closing check."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        rulings.rule(
            desk(), actor(), form.write_key, closing_id=closing_id, decision=request.form.get("decision", ""),
            reason=text_of(form.reason), name=request.form.get("name", "")[:120],
        )  # fmt: skip

    return _write(lambda f: closing(closing_id, f), do, url_for("records.closing", closing_id=closing_id))


@blueprint.post("/rulings/<ruling_id>/reopen")
def reopen(ruling_id: str) -> Any:
    """Take a decision back."""
    form = ReasonForm()
    with desk().read() as session:
        kind, subject = rulings.subject_of(session, ruling_id)

    def show(faults: Any) -> Any:
        return closing(str(subject), faults) if kind == "closing" else discovery(kind, str(subject), faults)

    def do() -> None:
        form.check()
        rulings.reopen(
            desk(), actor(), form.write_key, ruling_id=ruling_id, reason=text_of(form.reason),
            name=request.form.get("name", "")[:120],
        )  # fmt: skip

    back = (
        url_for("records.closing", closing_id=subject)
        if kind == "closing"
        else url_for("records.discovery", kind=kind, subject=subject)
    )
    return _write(show, do, back)


@blueprint.get("/discoveries/<kind>/<subject>")
def discovery(kind: str, subject: str, faults: Any = ()) -> Any:
    """What a bad lot or a wrong calibration touches."""
    with desk().read() as session:
        what = object_id(subject, kind)
        made, rows = rulings.touched(session, kind, what)
        ruled = rulings.ruling_of(session, what)
        page = render_template(
            "records/discovery.html", kind=kind, subject=subject, name=rulings.subject_name(session, kind, what),
            calibrations=made, readings=rows, ruled=ruled, past=rulings.of_subject(session, what), faults=faults,
            given=request.form,
        )  # fmt: skip
        return page, 422 if faults else 200


@blueprint.post("/discoveries/<kind>/<subject>")
def discover(kind: str, subject: str) -> Any:
    """The lead's decision about a discovery."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        rulings.discover(
            desk(), actor(), form.write_key, kind=kind, subject=subject, decision=request.form.get("decision", ""),
            reason=text_of(form.reason), name=request.form.get("name", "")[:120],
        )  # fmt: skip

    return _write(lambda f: discovery(kind, subject, f), do, url_for("records.discovery", kind=kind, subject=subject))
