"""Records: find, look into, export, print."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, render_template, request, stream_with_context, url_for

from brumel.core.quantity_table import ON_SHEET
from brumel.formats.csv_rows import write_rows
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import ReasonForm, text_of
from brumel.web.records import certificates, exporting, finding
from brumel.work import bench, records, rounds
from brumel.work.quantities import names as quantity_names
from brumel.work.records import reading_rows

blueprint = Blueprint("records", __name__, template_folder="templates", url_prefix="/records")


def _search() -> records.Search:
    return finding.of_arguments(request.args)


@blueprint.get("")
def index() -> Any:
    """Site readings, newest first."""
    search = _search()
    with desk().read() as session:
        rows, total = records.readings(session, search)
        return render_template(
            "records/index.html",
            rows=rows,
            total=total,
            search=search,
            args=request.args,
            sites=rounds.sites_by_client(session, retired=True),
            most=records.MOST_COUNTED,
            at_once=exporting.AT_ONCE,
            names=ON_SHEET,
            backings=quantity_names.BACKINGS,
            pages=-(-total // records.PAGE),
        )


@blueprint.get("/readings.csv")
def export() -> Any:
    """The found readings as CSV."""
    search = _search()

    def lines() -> Any:
        with desk().read() as session:
            yield from write_rows(reading_rows.COLUMNS, records.export(session, search))

    response = Response(stream_with_context(lines()), mimetype="text/csv")
    stamp = desk().clock().strftime("%Y%m%d-%H%M")
    response.headers["Content-Disposition"] = f'attachment; filename="brumel-readings-{stamp}.csv"'
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
            page=search.page,
            args=request.args,
            pages=-(-total // records.PAGE),
            aside=records.withdrawn_among(session, [c.id for c in rows]),
        )


@blueprint.get("/calibrations/<calibration_id>")
def calibration(calibration_id: str, faults: Any = ()) -> Any:
    """One calibration record."""
    with desk().read() as session:
        calibration = records.calibration(session, calibration_id)
        page = render_template("records/calibration.html", faults=faults, **certificates.views(session, calibration))
        return page, 422 if faults else 200


@blueprint.get("/calibrations/<calibration_id>.pdf")
def certificate(calibration_id: str) -> Any:
    """The record as a printable PDF."""
    with desk().read() as session:
        calibration = records.calibration(session, calibration_id)
        body = certificates.press.print(certificates.page(session, calibration, actor()))
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
        rows, total = records.audit(session, actor(), search.page)
        return render_template(
            "records/audit.html",
            rows=rows,
            words=records.standard_words,
            total=total,
            page=search.page,
            pages=-(-total // records.PAGE),
        )
