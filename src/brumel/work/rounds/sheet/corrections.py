"""A typing slip put right: a new version with its reason, the old one stays."""

from __future__ import annotations

from sqlalchemy import func, select

from brumel.store.tables import Reading
from brumel.work.bench.points import TypedValue, check_typed
from brumel.work.desk import MovedOn, Refused, Write, Written, clean_reason, writes
from brumel.work.quantities.book import quantity_of
from brumel.work.rounds.sheet.rows import follow, locked, next_version, reading, rework, row_of
from brumel.work.rounds.sheet.sheet import sheet_of_visit
from brumel.work.rounds.sites import past_values


@writes("reading.correct", Written)
def correct(w: Write, *, reading_id: str, version: int, raw: float, temperature_c: float, reason: str) -> Written:
    """A typing slip put right: a new version, worked out afresh, with its reason. The old one stays."""
    old = reading(w.session, reading_id)
    locked(w, str(old.visit_id))
    newest = w.session.scalar(select(func.max(Reading.version)).where(Reading.root_id == old.root_id)) or 0
    if old.version != version or newest != version:
        raise MovedOn("This reading has a newer version. You now see it; nothing was changed.")
    if old.entered_as != "typed" or old.probe is None or old.quantity != old.probe.reads:
        raise Refused("Only a reading that was typed from a display can have its typing corrected.")
    if old.decision_id is not None:
        raise Refused("The lead has decided about this reading; have that opened again first.")
    why = clean_reason(reason)
    quantity = quantity_of(old.probe.quantity)
    entered = next(
        (k for k, e in quantity.entries.items() if old.raw_unit in (e.label, f"{e.label} displayed")), quantity.native
    )
    check_typed(quantity, TypedValue(entered, raw, temperature_c))
    whole = sheet_of_visit(w.session, old.visit_id, w.now)
    past = past_values(w.session, whole.visit.site, before=old.at, depth_m=old.depth_m)
    value = rework(w.session, old, whole, raw, temperature_c, past)
    if value is None:
        raise Refused("This signal cannot be read without a calibration.")
    row = next_version(w, old, row_of(w, old.visit, value, old.settling, why))
    follow(w, old.visit, why)
    w.record(f"reading:{old.root_id}", {"from": old.value, "to": row.value, "reason": why})
    return Written(str(row.id))
