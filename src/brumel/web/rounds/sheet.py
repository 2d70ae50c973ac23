"""A visit: the sheet that takes readings, and what is said beside them."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from flask import Response, current_app, flash, redirect, render_template, request, url_for
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.units import to_canonical
from brumel.core.working import Working
from brumel.methods.field import load_field
from brumel.store.tables import Visit
from brumel.web import events
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.drawings import site as site_drawings
from brumel.web.drawings.site_past import past_drawn
from brumel.web.forms import FormDoor, ReasonForm, WriteForm, answers_sent, optional_measured, optional_number, text_of
from brumel.web.live import Hub
from brumel.web.records.readings import opened_words
from brumel.web.rounds.routes import Faults, blueprint, units
from brumel.work import kit, rounds
from brumel.work.air import READ_AS
from brumel.work.quantities.book import quantity_of
from brumel.work.questions import Unanswered, each_once
from brumel.work.records import mending
from brumel.work.rounds import packing
from brumel.work.rounds.sheet import photos
from brumel.work.rounds.sheet import watch as sheet_watch


@blueprint.get("/visits/<visit_id>")
def visit(visit_id: str, faults: Faults = ()) -> Any:
    """The sheet: every probe at once, one of them looked at closely, with its ladder and what is odd about it."""
    with desk().read() as session:
        sheet = rounds.sheet_of_visit(session, visit_id, desk().clock())
        visit = sheet.visit
        if visit.source == "imported":  # it has no sheet: it stands as it came
            return redirect(url_for("records.visit", visit_id=visit.id))
        focus = sheet.line(request.values.get("probe"))
        quantity = focus.probe.quantity
        aboard = {p.id for p in visit.probes}
        done = {r.depth_m for r in sheet.kept}
        next_depth = next((d for d in visit.site.depths if d not in done), None)
        asked = [q for fault in faults if isinstance(fault, Unanswered) for q in fault.questions]
        page = render_template(
            "rounds/visit.html",
            sheet=sheet,
            site=visit.site,
            faults=[fault for fault in faults if not isinstance(fault, Unanswered)],
            given=request.form,
            asked={request.endpoint: asked},
            questions=each_once(sheet.questions + (asked if request.endpoint == "rounds.take" else [])),
            focus=focus,
            history=past_drawn(session, visit.site, [quantity], depth_m=sheet.depth_m)[quantity],
            readings=sheet.kept,
            kept_working=Working.from_dict(focus.kept[-1].working) if focus.kept else None,
            trust=focus.behind.trust,
            spec=load_field()[quantity],
            entries=_entries(session, sheet),
            typed=_typed(sheet),
            pairs=rounds.pairs(sheet.kept),
            by_hand=rounds.BY_HAND,
            notes=sheet.notes,
            photos=visit.photos,
            more=[p for p in kit.probes_at_hand(session) if p.id not in aboard],
            profile=site_drawings.profile(sheet.kept),
            units=units(),
            unseen=_unseen(session, visit),
            next_depth=next_depth,
            to_read=(visit.site.depths and next_depth is not None) or _unread(sheet),
            second_display=_second_display(sheet),
            pressures=READ_AS,
            vouched=rounds.vouched(sheet),
            gap_of=kit.typed_gap,
            moved=visit.moved_to_id,
            next_water=url_for("rounds.outing", outing_id=visit.outing_id)
            if visit.outing_id
            else url_for("rounds.index"),
        )
        return page, 422 if faults else 200


def _unseen(session: Session, visit: Visit) -> list[Any]:
    out = visit.outing
    return packing.unseen(session, out, [p.meter for p in visit.probes]) if out is not None else []


def _entries(session: Session, sheet: rounds.Sheet) -> dict[str, list[tuple[str, str]]]:
    """How each probe's display may be typed: units with their words.

    The one it was last typed in comes first, else the one the meter is set to show.
    """
    entries = {}
    probes = sheet.visit.probes
    last = kit.last_typed_units(session, probes) if _typed(sheet) else {}
    new = [p.meter_id for p in probes if p.id not in last] if _typed(sheet) else []
    settings = kit.settings_of(session, new) if new else {}
    for line in sheet.lines:
        quantity = quantity_of(line.probe.quantity)
        ways = [(key, entry.label) for key, entry in quantity.entries.items()]
        begun = line.dip.entered if line.dip and line.dip.source == "typed" else ""
        recorded = settings.get(line.probe.meter_id)
        own = quantity.entry_of_settings(recorded.settings) if recorded else ""
        wanted = begun or last.get(line.probe.id) or own or quantity.row.displayed or ways[0][0]
        entries[str(line.probe.id)] = sorted(ways, key=lambda way: way[0] != wanted)
    return entries


def _unread(sheet: rounds.Sheet) -> bool:
    """Whether a probe of the sheet has given nothing yet."""
    return any(not line.kept for line in sheet.lines)


def _second_display(sheet: rounds.Sheet) -> dict[str, str]:
    """What a display may show besides, by the probe's id: each pair says whether one of the two is a slip."""
    second = {"oxygen": "mg/L or %", "conductivity": "TDS in mg/L, or salinity"}
    return {str(line.probe.id): second[q] for line in sheet.lines if (q := line.probe.quantity) in second}


def _typed(sheet: rounds.Sheet) -> bool:
    return sheet.visit.source == "typed" or all(line.probe.meter.link == "typed" for line in sheet.lines)


def _write(visit_id: str, do: Callable[[], None]) -> Any:
    """Do one write of a visit, and show its sheet as it then stands."""
    looked_at = None if request.endpoint == "rounds.take" else request.form.get("probe") or None
    stands = url_for("rounds.visit", visit_id=visit_id, probe=looked_at)
    return answer(do, lambda faults: visit(visit_id, faults), stands)


@blueprint.post("/visits/<visit_id>/dip")
def dip(visit_id: str) -> Any:
    """The probes are in the water; one of them where it is named."""
    form = WriteForm()

    def do() -> None:
        form.check()
        depth = optional_measured("depth_m", "Depth", "length")[0]
        one = request.form.get("only", "")
        rounds.dip(desk(), actor(), form.write_key, visit_id=visit_id, probe_id=one, depth_m=depth)

    return _write(visit_id, do)


@blueprint.post("/visits/<visit_id>/type")
def type_reading(visit_id: str) -> Any:
    """What the displays show, one or all of them: recorded where they stood still, else a first of several values."""
    form = WriteForm()

    def do() -> None:
        form.check()
        with desk().read() as session:
            names = {str(p.id): p.name for p in rounds.visit_of(session, visit_id).probes}
        typed = _typed_sheet(names)
        if request.form.get("record"):
            kept = rounds.record_typed(
                desk(), actor(), form.write_key, visit_id=visit_id, typed=typed, answers=answers_sent()
            )
            _say_recorded(len(kept.readings))
        else:
            rounds.type_readings(desk(), actor(), form.write_key, visit_id=visit_id, typed=typed)

    return _write(visit_id, do)


def _typed_sheet(names: Mapping[str, str]) -> rounds.TypedSheet:
    """What the form holds, by the ids and names of the sheet's probes. Raises InputErrors."""
    door, rows, beside = FormDoor(), list[rounds.Typed](), dict[str, rounds.Beside]()
    for probe_id, name in names.items():
        value, unit = door.measured(f"value_{probe_id}", f"{name} shows")
        other, other_unit = door.measured(f"beside_{probe_id}", f"{name} shows besides")
        if value is not None:
            rows.append(rounds.Typed(probe_id, request.form.get(f"unit_{probe_id}", ""), value, unit))
        if other is not None:
            beside[probe_id] = rounds.Beside(other, other_unit)
            if value is None and not any(f.field.endswith(probe_id) for f in door.faults):
                only = f"{name} shows a second value but no first. Type it as the first, in its own unit."
                door.faults.append(InputError(f"value_{probe_id}", only))
    at_c, _ = door.measured("temperature_c", "Water temperature", "temperature")
    after = door.number("after_s", "Seconds in the water")
    depth, _ = door.measured("depth_m", "Depth", "length")
    if at_c is None and not any(f.field == "temperature_c" for f in door.faults):
        at_c = next((_celsius(r) for r in rows if r.signal in ("shown", "c", "f")), None)
        if at_c is None:
            missing = "Water temperature is missing. Every signal is read at it."
            door.faults.append(InputError("temperature_c", missing))
    door.close()
    return rounds.TypedSheet(rows=rows, temperature_c=at_c or 0.0, depth_m=depth, after_s=after, beside=beside)


def _say_recorded(count: int) -> None:
    flash("Recorded." if count < 3 else f"{count} readings recorded.", "note")


@blueprint.post("/visits/<visit_id>/strike")
def strike(visit_id: str) -> Any:
    """Strike out what was typed last."""
    form = WriteForm()

    def do() -> None:
        form.check()
        struck = rounds.strike_last(
            desk(), actor(), form.write_key, visit_id=visit_id, probe_id=request.form.get("only", "")
        )
        flash(f"Struck out: {struck.words}.", "note")

    return _write(visit_id, do)


def _celsius(thermometer: rounds.Typed) -> float:
    unit = thermometer.unit or ("°F" if thermometer.signal == "f" else "°C")
    return to_canonical("temperature_c", thermometer.value, unit, "temperature")


@blueprint.post("/visits/<visit_id>/take")
def take(visit_id: str) -> Any:
    """Keep one reading, or all that have settled."""
    form = ReasonForm()

    def do() -> None:
        form.check()
        early = text_of(form.early) == "yes"
        if request.form.get("all"):
            taken = rounds.take_all(
                desk(),
                actor(),
                form.write_key,
                visit_id=visit_id,
                early=early,
                answers=answers_sent(),
                dips=_shown(request.form.getlist("dip")[:40]),
            )
        else:
            taken = rounds.take(
                desk(),
                actor(),
                form.write_key,
                visit_id=visit_id,
                dip_id=request.form.get("dip", ""),
                early=early,
                seen=form.seen_number,
                answers=answers_sent(),
            )
        _say_recorded(len(taken.readings))

    return _write(visit_id, do)


def _shown(given: Sequence[str]) -> dict[str, int | None]:
    """The dips a page names, each with the last sample it had shown ("id@number")."""
    dips_shown: dict[str, int | None] = {}
    for text in given:
        dip_id, _, number = text.partition("@")
        if number and not re.fullmatch(r"\d{1,8}", number):
            raise InputError(
                "form", "This form does not say which samples it is for. Reload the page and send it again."
            )
        dips_shown[dip_id] = int(number) if number else None
    return dips_shown


@blueprint.post("/visits/<visit_id>/hand")
def by_hand(visit_id: str) -> Any:
    """A second method's result."""
    form = WriteForm()

    def do() -> None:
        form.check()
        value = optional_number("hand_value", "The test's result")
        if value is None:
            raise InputError("hand_value", "The test's result is missing.")
        rounds.by_hand(
            desk(),
            actor(),
            form.write_key,
            visit_id=visit_id,
            result=rounds.HandResult(
                quantity=request.form.get("hand_quantity", ""),
                value=value,
                method=request.form.get("hand_method", "")[:200],
                depth_m=optional_measured("depth_m", "Depth", "length")[0],
                answers=answers_sent(),
            ),
        )

    return _write(visit_id, do)


@blueprint.post("/visits/<visit_id>/say")
def say(visit_id: str) -> Any:
    """The air, the light, a note."""
    form = WriteForm()

    def do() -> None:
        form.check()
        light = {"yes": True, "no": False}.get(request.form.get("light", ""))
        rounds.say(
            desk(),
            actor(),
            form.write_key,
            visit_id=visit_id,
            light=light,
            pressure_hpa=_pressure_hpa(),
            pressure_from=request.form.get("pressure_from", "station"),
            note=request.form.get("note", ""),
        )

    return _write(visit_id, do)


def _pressure_hpa() -> float | None:
    """The pressure as it was read: in the unit that was chosen, or that is written behind it [hPa]."""
    pressure, unit = optional_measured("pressure_hpa", "Pressure")
    unit = unit or request.form.get("pressure_unit", "hPa")
    return None if pressure is None else to_canonical("pressure_hpa", pressure, unit, "pressure")


@blueprint.post("/visits/<visit_id>/probe")
def add_probe(visit_id: str) -> Any:
    """One more probe on the sheet."""
    form = WriteForm()

    def do() -> None:
        form.check()
        rounds.add_probe(desk(), actor(), form.write_key, visit_id=visit_id, probe_id=request.form.get("added", ""))

    return _write(visit_id, do)


@blueprint.get("/visits/<visit_id>/move")
def wrong_site(visit_id: str, faults: Faults = ()) -> Any:
    """Where a visit was really read."""
    with desk().read() as session:
        visit = rounds.visit_of(session, visit_id)
        page = render_template(
            "rounds/wrong_site.html",
            visit=visit,
            kept=rounds.of_visit(session, visit.id),
            sites=[s for s in rounds.sites_by_client(session) if s.id != visit.site_id],
            given=request.form,
            faults=faults,
        )
        return page, 422 if faults else 200


@blueprint.post("/visits/<visit_id>/move")
def move_visit(visit_id: str) -> Any:
    """It was written to the wrong site."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        why, site_id = text_of(form.reason), request.form.get("site", "")
        if not site_id:
            raise InputError("site", "Choose the site it was read at.")
        moved = mending.move_visit(desk(), actor(), form.write_key, visit_id=visit_id, site_id=site_id, reason=why)
        flash("Moved: its readings are worked out for this site." + opened_words(moved.opened), "note")
        return url_for("rounds.visit", visit_id=moved.id)

    stands = url_for("rounds.visit", visit_id=visit_id)
    return answer(do, lambda faults: wrong_site(visit_id, faults), stands)


@blueprint.post("/visits/<visit_id>/photos")
def add_photo(visit_id: str) -> Any:
    """A photo for the visit."""
    form = WriteForm()

    def do() -> None:
        form.check()
        file = request.files.get("photo")
        if file is None or not file.filename:
            raise InputError("photo", "Choose a photo.")
        photos.add(
            desk(),
            actor(),
            form.write_key,
            visit_id=visit_id,
            name=file.filename,
            data=file.stream.read(photos.MOST_BYTES + 1),
            keep_position=request.form.get("position") == "yes",
        )

    return _write(visit_id, do)


@blueprint.get("/photos/<photo_id>")
def photo(photo_id: str) -> Any:
    """One photo, as it was drawn afresh."""
    with desk().read() as session:
        data = photos.picture(session, photo_id)
    response = Response(data, mimetype="image/jpeg")
    response.headers["Content-Disposition"] = 'inline; filename="photo.jpg"'
    return response


@blueprint.get("/visits/<visit_id>/stream")
def stream(visit_id: str) -> Any:
    """Live readings at the site as server-sent events."""
    watch = sheet_watch.VisitWatch(desk(), visit_id, request.args.get("probe", ""))
    hub: Hub = current_app.extensions["hub"]
    dip_id = str(watch.dip.id) if watch.dip else ""
    watch.heard = {dip: hub.ear(str(dip)) for dip in watch.dips}
    unit = units().get(watch.bare.line(watch.focus).probe.quantity, "")
    return events.stream(hub, dip_id, watch.tick, watch.moved, unit)
