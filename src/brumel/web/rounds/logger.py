"""Logged series: taken in as a file, closed by the checks at their ends, decided about, and sent out as CSV."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import Response, flash, render_template, request, url_for

from brumel.core import logged
from brumel.core.errors import InputError
from brumel.formats import series_csv
from brumel.formats.waterml import write_waterml
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.drawings import site as site_drawings
from brumel.web.forms import FormDoor, ReasonForm, WriteForm, text_of
from brumel.web.rounds.routes import blueprint, site
from brumel.work import rounds
from brumel.work.records import openly
from brumel.work.rounds import logger
from brumel.work.rounds.sheet.photos import clean_name


@blueprint.post("/sites/<site_id>/series")
def take_in_series(site_id: str) -> Any:
    """A logger's file for this site."""
    form = WriteForm()

    def do() -> str:
        form.check()
        file = request.files.get("file")
        if file is None or not file.filename:
            raise InputError("file", "Choose the logger's file.")
        with desk().read() as session:
            zone = rounds.site_of(session, site_id).zone
        file_series = series_csv.read(file.stream.read(series_csv.MOST_BYTES + 1), zone)
        taken_in = logger.take_in(
            desk(),
            actor(),
            form.write_key,
            site_id=site_id,
            series=logger.NewSeries(
                quantity=request.form.get("quantity", ""),
                unit=request.form.get("unit", ""),
                times=file_series.times,
                values=file_series.values,
                name=clean_name(file.filename),
                probe_id=request.form.get("probe", ""),
            ),
        )
        flash(f"{len(file_series.times)} values taken in.", "note")
        return url_for("rounds.series", series_id=taken_in.id)

    return answer(do, lambda faults: site(site_id, faults))


#: The readings of a service as a form asks for them; the last four are optional.
READ = {
    "before": "The logger in the water, as it was",
    "after": "The logger in the water, cleaned",
    "standard_read": "Cleaned, in a standard: read",
    "standard_value": "The standard's value",
    "beside_before": "A second meter beside it, before",
    "beside_after": "The second meter, after",
    "opening_read": "When set out, in a standard: read",
    "opening_value": "Its value then",
}


NEEDED = ("before", "after", "standard_read", "standard_value")


@blueprint.get("/series/<series_id>")
def series(series_id: str, faults: Any = ()) -> Any:
    """A series: as recorded and as reported, what was read at its ends, and the decision."""
    with desk().read() as session:
        series = logger.log(session, series_id)
        kept = logger.services(session, series)
        decisions = logger.decisions_of(session, series)
        stands = logger.standing(session, series)
        effect = logger.of_service(session, kept[0]) if kept else None
        barred = logger.barred(series, effect)
        may = {key: words for key, words in logger.DECISIONS.items() if not barred[key]}
        shown = stands.by or (effect if stands.state == "open" and "correct" in may else None)
        hint = logger.in_standard(session, series)
        given: dict[str, Any] = dict(request.form) or (
            {"standard_read": hint[0], "standard_value": hint[1]} if hint else {}
        )
        site = rounds.site_of(session, series.site_id)
        drawn = logger.bands(session, [(series, shown), *([(series, None)] if shown else [])])
        page = render_template(
            "rounds/log.html",
            log=series,
            site=site,
            standing=stands,
            services=kept,
            effect=effect,
            decisions=decisions,
            decision_words=logger.DECIDED,
            withdrawn=logger.is_withdrawn(decisions),
            may_withdraw=logger.may_withdraw(actor(), series, decisions),
            may=may,
            read=READ,
            needed=NEEDED,
            given=given,
            hint=hint,
            faults=faults,
            corrected=shown is not None,
            view=site_drawings.log_band(drawn[0], site.zone, drawn[1] if shown else None),
        )
        return page, 422 if faults else 200


def _write(series_id: str, do: Callable[[], None]) -> Any:
    return answer(do, lambda faults: series(series_id, faults), url_for("rounds.series", series_id=series_id))


@blueprint.post("/series/<series_id>/check")
def check_series(series_id: str) -> Any:
    """What was read when the logger was lifted."""
    form = WriteForm()

    def do() -> None:
        form.check()
        ends_read: dict[str, float | None] = {}
        door = FormDoor()
        for name, words in READ.items():
            ends_read[name] = door.number(name, words)
            if ends_read[name] is None and name in NEEDED and not any(f.field == name for f in door.faults):
                door.faults.append(InputError(name, f"{words}: this is missing."))
        door.close()
        service = logged.Service(**ends_read)  # type: ignore[arg-type]  # the needed ones are there
        logger.record_service(desk(), actor(), form.write_key, series_id=series_id, service=service)

    return _write(series_id, do)


@blueprint.post("/series/<series_id>/decide")
def decide_series(series_id: str) -> Any:
    """What the series is worth, by the lead."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        logger.decide(
            desk(),
            actor(),
            form.write_key,
            series_id=series_id,
            decided=logger.SeriesDecision(
                decision=request.form.get("decision", ""),
                reason=text_of(form.reason),
                name=request.form.get("name", "")[:120],
                version=form.turn_number,
                check_id=request.form.get("service", ""),
            ),
        )

    return _write(series_id, do)


@blueprint.post("/series/<series_id>/withdraw")
def withdraw_series(series_id: str) -> Any:
    """It is the wrong file."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        why = text_of(form.reason)
        logger.withdraw(desk(), actor(), form.write_key, series_id=series_id, version=form.turn_number, reason=why)
        flash("Withdrawn. The right file can be taken in now.", "note")

    return _write(series_id, do)


@blueprint.get("/series/<series_id>.xml")
def series_waterml(series_id: str) -> Any:
    """The series as it is reported, in WaterML 2.0."""
    with desk().read() as session:
        series = logger.log(session, series_id)
        body = write_waterml(openly.open_series(session, series, desk().clock()))
    response = Response(body, mimetype="application/xml")
    response.headers["Content-Disposition"] = (
        f'attachment; filename="brumel-{series.quantity}-{series.starts:%Y%m%d}.xml"'
    )
    return response


@blueprint.get("/series/<series_id>.csv")
def series_file(series_id: str) -> Any:
    """The series with what is reported of it, and QARTOD flags."""
    with desk().read() as session:
        series = logger.log(session, series_id)
        state = logger.standing(session, series).state
        text = series_csv.write(series.quantity, series.unit, state, logger.values(session, series))
    response = Response(text, mimetype="text/csv")
    response.headers["Content-Disposition"] = (
        f'attachment; filename="brumel-{series.quantity}-{series.starts:%Y%m%d}.csv"'
    )
    return response
