"""What comes to the record later than it was read: visits from a phone without a signal, and from paper.

They go back to their own time. Where a decision was taken meanwhile about the span they lie in, it is opened again.
"""

from __future__ import annotations

from datetime import timedelta

from brumel.work.desk import Write, writes
from brumel.work.records.mending import open_again
from brumel.work.rounds import offline
from brumel.work.rounds.offline import QueuedVisit, VisitSent

#: How old a paper sheet may be that is entered by a form.
OLDEST_PAPER = timedelta(days=400)


@writes("visit.queued", VisitSent)
def send(w: Write, visit: QueuedVisit) -> VisitSent:
    """One visit of the queue, taken in whole or not at all; its own key makes a second sending harmless.

    Raises offline.Conflict where the site was read by another and `both` was not said.
    """
    return _keep(w, visit, offline.OLDEST)


@writes("visit.paper", VisitSent)
def enter_paper(w: Write, visit: QueuedVisit) -> VisitSent:
    """A sheet that was written by hand, entered later with its true time."""
    return _keep(w, visit, OLDEST_PAPER)


def _keep(w: Write, visit: QueuedVisit, oldest: timedelta) -> VisitSent:
    sets = offline.check_times(visit.sets, w.now, oldest)
    whole = QueuedVisit(visit.outing_id, visit.site_id, sets, visit.note, visit.photos, visit.both)
    sheet, kept = offline.keep_visit(w, whole)
    opened = open_again(w, kept, "readings of its span came in late")
    detail = {
        "read_at": [one.at.isoformat() for one in sets],
        "readings": [str(r.id) for r in kept],
        "photos": len(visit.photos),
        "both": visit.both,
        "decisions opened": opened,
    }
    w.record(f"visit:{sheet.id}", detail)
    return VisitSent(str(sheet.id), len(kept), tuple(opened))
