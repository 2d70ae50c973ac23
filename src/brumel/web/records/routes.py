"""Records: find, look into, export, print."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, render_template, request, stream_with_context, url_for

from brumel.core.errors import InputError, InputErrors
from brumel.core.quantity_table import ON_SHEET
from brumel.core.verdict import Verdict
from brumel.core.working import Working
from brumel.formats.csv_rows import write_rows
from brumel.formats.pdf import render_pdf
from brumel.store.tables import Calibration
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.drawings import calibration as calibration_drawings
from brumel.web.forms import NumberField, ReasonForm, text_of
from brumel.web.reader import reader
from brumel.work import bench, kit, records, rounds
from brumel.work.desk import object_id
from brumel.work.quantities import names as quantity_names
from brumel.work.records import reading_rows, signing

blueprint = Blueprint("records", __name__, template_folder="templates", url_prefix="/records")
STATIC = Path(__file__).parents[1] / "static"


class CorrectForm(ReasonForm):
    raw = NumberField("Display showed", name_of="value")
    temperature_c = NumberField("Temperature", name_of="temperature_c")


def _search() -> records.Search:
    """The search of the URL; a bad one is a sentence, not a guess."""
    faults: list[InputError] = []

    def day(name: str) -> datetime | None:
        text = request.args.get(name, "")
        if not text:
            return None
        try:
            midnight = datetime.strptime(text, "%Y-%m-%d").replace(tzinfo=reader().zone)
            if not 1990 <= midnight.year <= 2100:
                faults.append(InputError(name, f"{name.capitalize()} must lie between 1990 and 2100."))
                return None
            return midnight
        except ValueError:
            faults.append(InputError(name, f"{name.capitalize()} “{text[:20]}” is not a date like 2026-05-31."))
            return None

    def choice(name: str, allowed: tuple[str, ...]) -> str:
        text = request.args.get(name, "")
        if text and text not in allowed:
            faults.append(InputError(name, f"{name.capitalize()} “{text[:20]}” is not one of {', '.join(allowed)}."))
        return text

    page = request.args.get("page", "1")
    if not re.fullmatch(r"[1-9]\d{0,4}", page, re.ASCII):
        faults.append(InputError("page", f"Page “{page[:20]}” is not a page number."))
        page = "1"
    site = request.args.get("site", "")
    until = day("until")
    search = records.Search(
        site_id=object_id(site, "site") if site else None,
        quantity=choice("quantity", tuple(ON_SHEET)),
        backing=choice("backing", quantity_names.BACKINGS),
        since=day("since"),
        until=until + timedelta(days=1) if until else None,
        page=int(page),
    )
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return search


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


@blueprint.get("/readings/<reading_id>")
def reading(reading_id: str, faults: Any = ()) -> Any:
    """One reading with its ladder, tests, backing and versions."""
    with desk().read() as session:
        reading = rounds.reading(session, reading_id)
        page = render_template(
            "records/reading.html",
            reading=reading,
            working=Working.from_dict(reading.working),
            faults=faults,
            versions=records.versions(session, reading),
            given=request.form,
            signature=signing.signature(session, reading.id),
            note=records.settling_note(reading),
        )
        return page, 422 if faults else 200


@blueprint.post("/readings/<reading_id>/correct")
def correct(reading_id: str) -> Any:
    """A typing slip put right as a new version."""
    form = CorrectForm()

    def do() -> str:
        form.check()
        corrected = rounds.correct(
            desk(),
            actor(),
            form.write_key,
            reading_id=reading_id,
            version=form.turn_number,
            raw=form.raw.number or 0.0,
            temperature_c=form.temperature_c.number or 0.0,
            reason=text_of(form.reason),
        )
        return url_for("records.reading", reading_id=corrected.id)

    return answer(do, lambda faults: reading(reading_id, faults), url_for("records.reading", reading_id=reading_id))


@blueprint.get("/calibrations")
def calibrations() -> Any:
    """Calibration records, newest first."""
    search = _search()
    with desk().read() as session:
        rows, total = records.calibrations(session, search.page)
        return render_template(
            "records/calibrations.html",
            rows=rows,
            total=total,
            page=search.page,
            pages=-(-total // records.PAGE),
            aside=records.withdrawn_among(session, [c.id for c in rows]),
        )


def _calibration_views(session: Any, calibration: Calibration) -> dict[str, Any]:
    state = bench.load_run(session, calibration.run_id)
    withdrawal, old = records.withdrawals_of(session, calibration)
    fitted = state.quantity.restore(calibration.fit)
    before = bench.reference_calibration(session, state)
    known = kit.restored(before) if before and before.signal == calibration.signal else None
    return {
        "calibration": calibration,
        "method": state.method,
        "quantity": state.quantity,
        "fit": fitted,
        "points": state.points,
        "verdict": Verdict.from_dict(calibration.verdict),
        "plate": calibration_drawings.draw(fitted, state.method, bench.taken_points(state), known, state.quantity),
        "history": calibration_drawings.history(kit.life_of_probe(session, calibration.run.probe)),
        "backed": records.backed_by(session, calibration),
        "withdrawal": withdrawal,
        "conditions": calibration.run.conditions,
        "new": old,
    }


@blueprint.get("/calibrations/<calibration_id>")
def calibration(calibration_id: str, faults: Any = ()) -> Any:
    """One calibration record."""
    with desk().read() as session:
        calibration = records.calibration(session, calibration_id)
        page = render_template("records/calibration.html", faults=faults, **_calibration_views(session, calibration))
        return page, 422 if faults else 200


@blueprint.get("/calibrations/<calibration_id>.pdf")
def certificate(calibration_id: str) -> Any:
    """The record as a printable PDF."""
    with desk().read() as session:
        calibration = records.calibration(session, calibration_id)
        html = render_template(
            "records/certificate.html", printed_by=actor().name, **_calibration_views(session, calibration)
        )
    files = {f"fonts/{p.name}": p for p in (STATIC / "vendor/fonts").iterdir()}
    files["certificate.css"] = STATIC / "css/certificate.css"
    drawing_style = (STATIC / "css/print_drawing.css").read_text("utf-8")
    response = Response(render_pdf(html, files, drawing_style), mimetype="application/pdf")
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
