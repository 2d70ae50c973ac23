"""Records: find, look into, export, print."""

from __future__ import annotations

import itertools
from typing import Any

from flask import Blueprint, Response, abort, redirect, render_template, request, stream_with_context, url_for

from brumel.core.errors import InputError
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.api.routes import whole_calibration
from brumel.web.filters import column_in, column_of
from brumel.web.forms import ReasonForm, text_of
from brumel.web.records import certificates, changes, exporting, finding
from brumel.web.units import units_of_record
from brumel.work import bench, records
from brumel.work.quantities import names as quantity_names
from brumel.work.records import decisions, listings, visits

blueprint = Blueprint("records", __name__, template_folder="templates", url_prefix="/records")


def _search() -> records.Search:
    return finding.of_arguments(request.args)


@blueprint.get("")
def index() -> Any:
    """Visits, each with what it read of every quantity."""
    search = _search()
    with desk().read() as session:
        found = visits.find(session, search)
        return render_template(
            "records/visits.html",
            found=found,
            at_depth=column_in("m"),
            columns=[(q, quantity_names.column(q), column_of(q)) for q in found.quantities],
            pages=-(-found.total // search.size),
            **finding.shown(session, search),
        )


@blueprint.get("/readings")
def readings() -> Any:
    """Site readings, newest first."""
    search = _search()
    with desk().read() as session:
        rows, total = records.readings(session, search)
        return render_template(
            "records/readings.html",
            rows=rows,
            total=total,
            most=records.MOST_COUNTED,
            at_once=exporting.AT_ONCE,
            pages=-(-total // search.size),
            **finding.shown(session, search),
        )


#: Where a line of a listing leads, by what it opens.
OPENS = {
    "closing": lambda line: url_for("records.closing", closing_id=line.id),
    "probe": lambda line: url_for("kit.probe", probe_id=line.id),
    "lot": lambda line: url_for("records.affected_results", kind="lot", subject=line.id),
    "decision": lambda line: url_for("records.decision", decision_id=line.id),
}


@blueprint.get("/views/<view>")
def listing(view: str) -> Any:
    """Closing checks, maintenance, lots or decisions."""
    search = _search()
    with desk().read() as session:
        found = listings.listing(session, view, search)
        return render_template(
            "records/listing.html",
            view=view,
            found=found,
            takes=listings.VIEWS[view].takes,
            opens=OPENS,
            pages=-(-found.total // search.size),
            **finding.shown(session, search),
        )


@blueprint.get("/decisions/<decision_id>")
def decision(decision_id: str) -> Any:
    """What a decision was about, with the decisions about it."""
    with desk().read() as session:
        kind, subject = decisions.subject_of(session, decision_id)
    if kind == "closing":
        return redirect(url_for("records.closing", closing_id=subject))
    return redirect(url_for("records.affected_results", kind=kind, subject=subject))


@blueprint.get("/take-away")
def tables() -> Any:
    """What was found, as tables to take away."""
    search = _search()
    with desk().read() as session:
        return render_template(
            "records/tables.html",
            total=records.count_up_to(session, search, exporting.AT_ONCE),
            at_once=exporting.AT_ONCE,
            forms=exporting.TABLES,
            kinds=tuple(exporting.KINDS),
            open_formats=exporting.OPEN_FORMATS,
            licences=exporting.LICENCES,
            keys=dict(zip(itertools.product(exporting.TABLES, exporting.KINDS), "xlvw", strict=True)),
            names=(*finding.NAMES, "sort"),
            **finding.shown(session, search),
        )


@blueprint.get("/<any(readings, visits):table>.<any(csv, xlsx):kind>")
def export(table: str, kind: str) -> Any:
    """What was found as a table: one reading a row, or one visit a row."""
    search = _search()
    form = exporting.TABLES[table]

    def pieces() -> Any:
        with desk().read() as session:
            yield from exporting.pieces(form, kind, form.rows(session, search))

    response = Response(stream_with_context(pieces()), content_type=exporting.KINDS[kind])
    response.headers["Content-Disposition"] = f'attachment; filename="{exporting.file_name(form, kind)}"'
    return response


@blueprint.get("/open/<name>")
def export_open(name: str) -> Any:
    """What was found in a format of the outside."""
    form = exporting.OPEN_FORMATS.get(name) or abort(404)
    search = _search()
    with desk().read() as session:
        if records.count_up_to(session, search, exporting.AT_ONCE) > exporting.AT_ONCE:
            raise InputError("since", "That is more than a page waits for. Ask for it as long work, or for fewer days.")
    body = exporting.open_file(form, search, request.args.get("licence") or next(iter(exporting.LICENCES)))
    response = Response(body, content_type=form.kind)
    response.headers["Content-Disposition"] = f'attachment; filename="{exporting.open_name(form, name)}"'
    return response


@blueprint.get("/calibrations")
def calibrations() -> Any:
    """Calibration records, newest first."""
    search = _search()
    with desk().read() as session:
        rows, total = records.calibrations(session, search)
        return render_template(
            "records/calibrations.html",
            rows=rows,
            total=total,
            most=records.MOST_COUNTED,
            pages=-(-total // search.size),
            aside=records.withdrawn_among(session, [c.id for c in rows]),
            **finding.shown(session, search),
        )


@blueprint.get("/calibrations/<calibration_id>")
def calibration(calibration_id: str, faults: Any = ()) -> Any:
    """One calibration record."""
    with desk().read() as session:
        calibration = records.calibration(session, calibration_id)
        page = render_template("records/calibration.html", faults=faults, **certificates.views(session, calibration))
        return page, 422 if faults else 200


@blueprint.get("/calibrations/<calibration_id>.json")
def calibration_json(calibration_id: str) -> Any:
    """The record by its published schema."""
    with desk().read() as session, units_of_record():
        record = whole_calibration(session, calibration_id)
    response = Response(record.model_dump_json(indent=1), mimetype="application/json")
    response.headers["Content-Disposition"] = f'attachment; filename="brumel-calibration-{record.number}.json"'
    return response


@blueprint.get("/calibrations/<calibration_id>.pdf")
def certificate(calibration_id: str) -> Any:
    """The record as a printable PDF."""
    with desk().read() as session:
        calibration = records.calibration(session, calibration_id)
        body, _ = certificates.press.document(*certificates.page(session, calibration, actor()))
    response = Response(body, mimetype="application/pdf")
    response.headers["Content-Disposition"] = f'inline; filename="brumel-calibration-{calibration.number}.pdf"'
    return response


@blueprint.post("/calibrations/<calibration_id>/withdraw")
def withdraw(calibration_id: str) -> Any:
    """The calibration counts no longer, with a reason."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        bench.withdraw(desk(), actor(), form.write_key, calibration_id=calibration_id, reason=text_of(form.reason))
        return url_for("records.calibration", calibration_id=calibration_id)

    return answer(
        do,
        lambda faults: calibration(calibration_id, faults),
        url_for("records.calibration", calibration_id=calibration_id),
    )


@blueprint.get("/audit")
def audit() -> Any:
    """The audit trail, for the lead."""
    search = _search()
    with desk().read() as session:
        rows, total = records.audit(session, actor(), search)
        return render_template(
            "records/audit.html",
            rows=rows,
            words=records.standard_words,
            changed=changes.lines,
            newest=records.newest_entry(session),
            total=total,
            most=records.MOST_COUNTED,
            pages=-(-total // search.size),
            **finding.shown(session, search),
        )
