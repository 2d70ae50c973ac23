"""Calibration records on paper: what a record's page and its PDF show, one or many."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from flask import current_app, render_template
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.sentence import say
from brumel.core.verdict import Verdict
from brumel.formats.pdf import Press
from brumel.store.tables import Calibration, User
from brumel.web.access import desk
from brumel.web.drawings import calibration as calibration_drawings
from brumel.web.records import finding
from brumel.web.units import units_of_record
from brumel.work import bench, jobs, kit, records

STATIC = Path(__file__).parents[1] / "static"
FONTS = {f"fonts/{file.name}": file for file in (STATIC / "vendor/fonts").iterdir()}
press = Press(FONTS, (STATIC / "css/print_base.css", STATIC / "css/certificate.css"), STATIC / "css/print_drawing.css")


#: The sheets of a PDF are held in memory until it is whole; more than this is asked for in parts.
MOST = 1000


def views(session: Session, calibration: Calibration) -> dict[str, Any]:
    """What the templates of one record need."""
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
        "history": calibration_drawings.history(kit.life_of_probe(session, calibration.run.probe)),
        "backed": records.backed_by(session, calibration),
        "withdrawal": withdrawal,
        "conditions": calibration.run.conditions,
        "new": old,
    }


def page(session: Session, calibration: Calibration, printed_by: User) -> str:
    """The HTML of one printed record."""
    with units_of_record():
        return render_template("records/certificate.html", printed_by=printed_by.name, **views(session, calibration))


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
                yield page(session, records.calibration(session, each), asker)

    body = press.print_all(pages(), lambda n: tell(n, len(ids)))
    return jobs.Done(f"brumel-calibrations-{desk().clock():%Y%m%d-%H%M}.pdf", "application/pdf", body)


def make_ready() -> None:
    """The first PDF of a process shall not wait for fonts and style."""
    current_app.logger.debug("the press is made ready")
    press.make_ready()
