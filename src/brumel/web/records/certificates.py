"""Calibration records on paper: what a record's page and its PDF show, one or many."""

from __future__ import annotations

import base64
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from flask import current_app, render_template
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.meter_settings import SETTINGS
from brumel.core.sentence import say
from brumel.core.verdict import Verdict
from brumel.formats.pdf import Press
from brumel.store.tables import Calibration, MeterSettings, User
from brumel.web.access import desk
from brumel.web.dates import dates_of_document
from brumel.web.drawings import calibration as calibration_drawings
from brumel.web.records import finding
from brumel.web.units import units_of_record
from brumel.work import bench, jobs, kit, records
from brumel.work.quantities import standards
from brumel.work.records import letterhead

STATIC = Path(__file__).parents[1] / "static"
FONTS = {f"fonts/{file.name}": file for file in (STATIC / "vendor/fonts").iterdir()}
press = Press(FONTS, (STATIC / "css/print_base.css", STATIC / "css/certificate.css"), STATIC / "css/print_drawing.css")


#: The sheets of a PDF are held in memory until it is whole; more than this is asked for in parts.
MOST = 1000


def views(session: Session, calibration: Calibration) -> dict[str, Any]:
    """What the page of one record needs."""
    return {
        **record_of(session, calibration),
        "history": calibration_drawings.history(kit.life_of_probe(session, calibration.run.probe)),
        "backed": records.backed_by(session, calibration),
    }


def record_of(session: Session, calibration: Calibration) -> dict[str, Any]:
    """What the record itself says, for its page and for its certificate."""
    state = bench.load_run(session, calibration.run_id)
    withdrawal, old = records.withdrawals_of(session, calibration)
    points, fitted = bench.taken_points(state), state.quantity.restore(calibration.fit)
    before = bench.reference_calibration(session, state)
    known = kit.restored(before) if before and state.quantity.can_read(before, calibration.signal) else None
    return {
        "calibration": calibration,
        "method": state.method,
        "quantity": state.quantity,
        "fit": fitted,
        "points": state.points,
        "verdict": Verdict.from_dict(calibration.verdict),
        "plate": calibration_drawings.draw(fitted, state.method, points, known, state.quantity, calibration.fit),
        "withdrawal": withdrawal,
        "conditions": calibration.run.conditions,
        "new": old,
    }


def _standards(points: Any, calibration: Calibration) -> list[dict[str, Any]]:
    """The lots the points were taken in, each once: what it is stated at and where that comes from."""
    quantity, seen = calibration.run.probe.quantity, {}
    for point, lot in points:
        if lot is not None and not point.withdrawn and quantity in lot.measures:
            view = kit.lot_view(lot, calibration.at)
            table = "its own label" if lot.measures[quantity].label else standards.family(lot, quantity)
            seen[lot.id] = {"lot": lot, "stated": view.stated(quantity), "table": table}
    return list(seen.values())


def _settings(session: Session, calibration: Calibration) -> list[tuple[str, str]]:
    """The meter's settings on record for the run, in words."""
    row = session.get(MeterSettings, calibration.run.settings_id) if calibration.run.settings_id else None
    if row is None:
        return []
    known = [
        (SETTINGS[key], value) for key, value in row.settings.items() if key in SETTINGS and value not in ("", None)
    ]
    return [
        (s.label, f"{value:g} {s.unit}".strip() if isinstance(value, (int, float)) else str(value))
        for s, value in known
    ]


def page(session: Session, calibration: Calibration, printed_by: User) -> tuple[str, str]:
    """The HTML of one certificate, and the paper it is for."""
    practice, shown = letterhead.practice(session), record_of(session, calibration)
    with units_of_record(), dates_of_document(practice.dates):
        return render_template(
            "records/certificate.html",
            printed_by=printed_by.name,
            practice=practice,
            letterhead_picture=inline_picture("png", practice.picture),
            standards=_standards(shown["points"], calibration),
            settings=_settings(session, calibration),
            **shown,
        ), practice.paper


def inline_picture(kind: str, data: bytes | None) -> str:
    """A picture as it stands in a page itself; empty where there is none."""
    return f"data:image/{kind};base64,{base64.b64encode(data).decode('ascii')}" if data else ""


def print_found(asker: User, asked: Mapping[str, Any], tell: jobs.Tell) -> jobs.Done:
    """The job "certificates": every record that a search finds, in one PDF, oldest first."""
    with desk().read() as session:
        ids = records.calibration_ids(session, finding.of_arguments(asked))
    if not ids:
        raise InputError("since", "No calibration lies within these days any more.")
    if len(ids) > MOST:
        raise InputError(
            "since", say("These are {n} records; a PDF holds {most}. Ask for fewer days.", n=len(ids), most=MOST)
        )
    tell(0, len(ids))

    def pages() -> Iterator[str]:
        for each in ids:
            with desk().read() as session:
                yield page(session, records.calibration(session, each), asker)[0]

    body = press.print_all(pages(), lambda n: tell(n, len(ids)))
    return jobs.Done(f"brumel-calibrations-{desk().clock():%Y%m%d-%H%M}.pdf", "application/pdf", body)


def make_ready() -> None:
    """The first PDF of a process shall not wait for fonts and style."""
    current_app.logger.debug("the press is made ready")
    press.make_ready()
