"""One reading: how it came about, its versions, and mending it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from flask import flash, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.core.working import Working
from brumel.store.tables import Reading
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import FormDoor, ReasonForm, local_time, text_of
from brumel.web.records.routes import blueprint
from brumel.work import records, rounds
from brumel.work.desk import Refused
from brumel.work.quantities.book import quantity_of
from brumel.work.records import mending, signing
from brumel.work.rounds.sheet.rows import entered_of

Faults = Sequence[InputError | Refused]


@blueprint.get("/readings/<reading_id>")
def reading(reading_id: str, faults: Faults = ()) -> Any:
    """One reading with its ladder, tests, backing and versions."""
    with desk().read() as session:
        reading, versions = records.with_versions(session, reading_id)
        page = render_template(
            "records/reading.html",
            reading=reading,
            working=Working.from_dict(reading.working),
            faults=faults,
            versions=versions,
            given=request.form,
            signature=signing.signature(session, reading.id),
            note=records.settling_note(reading),
            ways=_ways(reading),
            local_time=f"{_local(reading):%Y-%m-%dT%H:%M}",
        )
        return page, 422 if faults else 200


def _ways(reading: Reading) -> list[tuple[str, str]]:
    """The units a typed reading may be corrected in, its own first; none for what was not typed from a probe's display."""
    if reading.entered_as != "typed" or reading.probe is None or reading.probe.reads != reading.quantity:
        return []
    own = entered_of(reading)
    entries = quantity_of(reading.probe.quantity).entries
    return sorted(((key, entry.label) for key, entry in entries.items()), key=lambda way: way[0] != own)


def _local(reading: Reading) -> datetime:
    return reading.at.astimezone(ZoneInfo(reading.visit.site.zone))


def _write(reading_id: str, do: Callable[[ReasonForm], mending.Mended], done: str) -> Any:
    """Do one mending, and show the version that came of it; decisions that were opened again are named."""
    form = ReasonForm()

    def checked() -> str:
        form.check()
        mended = do(form)
        flash(done + opened_words(mended.opened), "note")
        return url_for("records.reading", reading_id=mended.id)

    return answer(
        checked, lambda faults: reading(reading_id, faults), url_for("records.reading", reading_id=reading_id)
    )


def opened_words(opened: Sequence[int]) -> str:
    """What is said of the decisions, by number, that a mending opened again."""
    if not opened:
        return ""
    numbers = ", ".join(str(number) for number in opened)
    several = len(opened) > 1
    return f" Decision{'s' if several else ''} {numbers} rested on it: opened again, the lead decides anew."


@blueprint.post("/readings/<reading_id>/correct")
def correct(reading_id: str) -> Any:
    """A slip put right as a new version."""

    def do(form: ReasonForm) -> mending.Mended:
        with desk().read() as session:
            old = rounds.reading(session, reading_id)
            shown, zone = _local(old), ZoneInfo(old.visit.site.zone)
        door = FormDoor()
        raw, unit = door.measured("raw", "Display showed")
        temperature_c, _ = door.measured("temperature_c", "Water temperature", "temperature")
        depth_m, _ = door.measured("depth_m", "Depth", "length")
        at = None
        try:
            at = _time_sent(shown, zone)
        except InputError as error:
            door.faults.append(error)
        if "raw" in request.form and raw is None and not any(f.field == "raw" for f in door.faults):
            missing = "What the display showed is missing. To take it out, strike the reading out."
            door.faults.append(InputError("raw", missing))
        door.close()
        entered, why = request.form.get("entered", ""), text_of(form.reason)
        change = mending.Correction(why, depth_m, raw, unit, entered, temperature_c, at)
        return mending.correct(
            desk(), actor(), form.write_key, reading_id=reading_id, version=form.turn_number, correction=change
        )

    return _write(reading_id, do, "Corrected.")


def _time_sent(shown: datetime, zone: ZoneInfo) -> datetime | None:
    """The time that was sent; None where it is the minute that was shown."""
    sent = local_time("at", "Read at", zone)
    return None if sent == shown.replace(second=0, microsecond=0) else sent


@blueprint.post("/readings/<reading_id>/strike")
def strike(reading_id: str) -> Any:
    """It should not be there."""

    def do(form: ReasonForm) -> mending.Mended:
        why = text_of(form.reason)
        return mending.strike(
            desk(), actor(), form.write_key, reading_id=reading_id, version=form.turn_number, reason=why
        )

    return _write(reading_id, do, "Struck out; it stays in the record and counts nowhere.")


@blueprint.post("/readings/<reading_id>/bring-back")
def bring_back(reading_id: str) -> Any:
    """It counts after all."""

    def do(form: ReasonForm) -> mending.Mended:
        why = text_of(form.reason)
        return mending.bring_back(
            desk(), actor(), form.write_key, reading_id=reading_id, version=form.turn_number, reason=why
        )

    return _write(reading_id, do, "It counts again.")
