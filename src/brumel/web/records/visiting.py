"""Visits and rounds as they stand in the record: what their pages and documents show."""

from __future__ import annotations

from typing import Any

from flask import request
from sqlalchemy.orm import Session

from brumel.web.drawings.site_past import past_drawn
from brumel.work.records import recorded, review, visits
from brumel.work.records.recorded import RecordedVisit

#: Quantities whose past is drawn beside what speaks against them.
MOST_DRAWN = 3


def of_visit(session: Session, visit_id: str) -> dict[str, Any]:
    """What the page of one visit needs."""
    visit = recorded.visit_of(session, visit_id)
    (whole,) = recorded.recorded(session, [visit])
    return {"whole": whole, "history": _evidence(session, whole), **_review_terms([whole])}


def of_round(session: Session, outing_id: str) -> dict[str, Any]:
    """What the page of one round that was gone needs."""
    outing = review.outing_of(session, outing_id)
    found = recorded.recorded(session, review.visits_of(session, outing))
    return {"outing": outing, "visits": found, **_review_terms(found)}


def _review_terms(found: list[RecordedVisit]) -> dict[str, Any]:
    return {
        "marks": visits.MARKS,
        "unsigned": [r for each in found for r in each.unsigned],
        "given": request.form,
        "apart": set(request.form.getlist("apart")),
    }


def _evidence(session: Session, whole: RecordedVisit) -> dict[str, Any]:
    """What the site read before of the quantities that something speaks against."""
    by_past = ("exceeded", "failed", "questioned", "mended")
    odd = list(dict.fromkeys(r.reading.quantity for r in whole.odd if set(r.marks) & set(by_past)))[:MOST_DRAWN]
    return past_drawn(session, whole.visit.site, odd) if odd else {}
