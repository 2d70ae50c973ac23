"""Writing at a site: opening the sheet, dipping, typing, keeping, and putting a slip right."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core import believability as belief
from brumel.core.checking import Door
from brumel.core.errors import InputError, InputErrors
from brumel.core.working import Ladder
from brumel.store.rounds import Outing, VisitNote
from brumel.store.tables import Dip, Probe, Reading, User, Visit, VisitProbe
from brumel.work import kit
from brumel.work.bench import add_typed, check_typed
from brumel.work.desk import Desk, MovedOn, NotFound, Refused, Write, object_id
from brumel.work.reasons import clean_reason
from brumel.work.rounds import words
from brumel.work.rounds.believable import findings, limited
from brumel.work.rounds.places import past_values, site
from brumel.work.rounds.rows import follow, locked, row_of
from brumel.work.rounds.shapes import Line, Sheet, Value
from brumel.work.rounds.sheet import of_visit, sheet
from brumel.work.rounds.sheet import visit as find_visit
from brumel.work.trades import Case, trade

#: What a second method by hand may give, with its usual expanded uncertainty (common practice, no source).
BY_HAND = {
    "total_chlorine": (0.1, 0, 50),
    "chlorine": (0.1, 0, 50),
    "ammonium": (0.1, 0, 500),
    "nitrate": (1.0, 0, 2000),
}


def start_visit(
    desk: Desk, actor: User, key: uuid.UUID, *, site_id: str, probes: Sequence[str], source: str, outing_id: str = ""
) -> dict[str, Any]:
    """Open the sheet of a site with the probes that are carried, live or typed. Returns {"visit": id}.

    The first probe of a quantity is the first instrument, a second one stands beside it.
    """
    if source not in ("live", "typed"):
        raise InputError("source", "Readings are live or typed. Choose one of the two.", value=source)
    with desk.write(actor, key, "visit.start") as w:
        if w.done:
            return w.done
        place = site(w.session, site_id)
        if place.retired_at is not None:
            raise Refused(f"{place.name} is not read any more; the lead has put it away.")
        carried = [kit.probe(w.session, p) for p in dict.fromkeys(probes)]
        if not carried:
            raise InputError("probe", "Choose at least one probe to read the site with.")
        if len(carried) > 24:
            raise InputError("probe", "A sheet takes 24 probes at most.")
        gone = [p.name for p in carried if p.retired_at is not None]
        if gone:
            raise InputError("probe", f"{', '.join(gone)} was put away for good; choose another.")
        if source == "live" and all(p.meter.link == "typed" for p in carried):
            raise InputError("source", f"{carried[0].meter.name} has no link; type its readings.", value=source)
        outing = w.session.get(Outing, object_id(outing_id, "outing")) if outing_id else None
        made = Visit(
            id=uuid.uuid4(), site_id=place.id, operator_id=actor.id, source=source, at=w.now,
            outing_id=outing.id if outing else None,
        )  # fmt: skip
        w.session.add(made)
        w.session.flush()
        seen = set[str]()
        for i, p in enumerate(sorted(carried, key=lambda p: words.ORDER[p.quantity])):
            _carry(w, made, p, i, "second" if p.quantity in seen else "first")
            seen.add(p.quantity)
        return w.finish(f"visit:{made.id}", {"site": place.name, "probes": [p.name for p in carried]}, visit=made.id)


def _carry(w: Write, to: Visit, probe: Probe, at: int, role: str) -> None:
    w.session.add(VisitProbe(visit_id=to.id, probe_id=probe.id, place=at, role=role))


def add_probe(desk: Desk, actor: User, key: uuid.UUID, *, visit_id: str, probe_id: str) -> dict[str, Any]:
    """One more probe on the sheet: a quantity that was missing, or a second instrument beside the first."""
    with desk.write(actor, key, "visit.probe") as w:
        if w.done:
            return w.done
        found = locked(w, visit_id)
        probe = kit.probe(w.session, probe_id)
        if any(p.id == probe.id for p in found.probes):
            raise Refused(f"{probe.name} is on this sheet already.")
        if len(found.carried) >= 24:
            raise Refused("A sheet takes 24 probes at most.")
        role = "second" if any(p.quantity == probe.quantity for p in found.probes) else "first"
        _carry(w, found, probe, len(found.carried), role)
        return w.finish(f"visit:{visit_id}", {"probe": probe.name, "role": role})


def _visit(w: Write, visit_id: str, seen: Mapping[str, int | None] | None = None) -> Sheet:
    locked(w, visit_id)
    return sheet(w.session, visit_id, w.now, seen)


def dip(
    desk: Desk, actor: User, key: uuid.UUID, *, visit_id: str, probe_id: str = "", depth_m: float | None = None
) -> dict[str, Any]:
    """The probe is in the water now, for the first time or again; without a name all that come by a link are."""
    with desk.write(actor, key, "visit.dip") as w:
        if w.done:
            return w.done
        found = locked(w, visit_id)
        depth = _depth(depth_m)
        probes = [p for p in found.probes if (str(p.id) == probe_id if probe_id else p.meter.link != "typed")]
        if probe_id and not probes:
            raise NotFound("There is no such probe on this sheet.")
        if not probes:
            raise Refused("None of these probes has a link; type what they show.")
        dips = {str(p.id): str(_dip(w, found, p, "live", "", depth).id) for p in probes}
        return w.finish(f"visit:{visit_id}", {"dips": dips}, dip=next(iter(dips.values())), dips=dips)


def _depth(depth_m: float | None) -> float | None:
    if depth_m is None:
        return None
    door = Door()
    found = door.number("depth_m", depth_m, 0, 400)
    door.close()
    return found


def _dip(w: Write, to: Visit, probe: Probe, source: str, entered: str, depth: float | None) -> Dip:
    run = kit.open_run(w.session, probe.id)
    if run:
        raise Refused(f"{probe.name} is on Bench in an open run. Finish or abandon that first.")
    made = Dip(
        id=uuid.uuid4(), probe_id=probe.id, visit_id=to.id, step="", source=source,
        entered=entered or trade(probe.quantity).native, depth_m=depth, started_at=w.now,
    )  # fmt: skip
    w.session.add(made)
    w.session.flush()
    return made


@dataclass(frozen=True)
class Typed:
    """What one display showed: the probe, the unit it was in, and the value."""

    probe_id: str
    signal: str
    value: float


def type_readings(
    desk: Desk, actor: User, key: uuid.UUID, *, visit_id: str, rows: Sequence[Typed], temperature_c: float,
    depth_m: float | None = None, after_s: float | None = None, still: bool = False,
) -> dict[str, Any]:  # fmt: skip
    """What the displays showed, all at once, with the water's temperature; every fault is told at once.

    still : the technician watched each value stand still, so one reading is enough
    """
    with desk.write(actor, key, "visit.type") as w:
        if w.done:
            return w.done
        found = _visit(w, visit_id)
        if not rows:
            raise InputError("value", "No value was given. Type what at least one display shows.")
        depth, faults, ready = _depth(depth_m), [], []
        settings = {}
        for row in rows:
            line = found.line(row.probe_id)
            if str(line.probe.id) != row.probe_id:
                raise NotFound("There is no such probe on this sheet.")
            own = trade(line.probe.quantity)
            try:
                check_typed(own, row.signal, row.value, temperature_c, after_s)
            except InputError as error:
                faults += [_named(f, line.probe.name, len(rows) > 1) for f in error.faults]
                continue
            if line.probe.meter_id not in settings:
                taken = kit.last_snapshot(w.session, line.probe.meter_id)
                settings[line.probe.meter_id] = taken.settings if taken else {}
            said = {"pressure_hpa": found.water.pressure_hpa}
            ready.append((line, own, Case(line.probe, said, settings[line.probe.meter_id]), row))
        if faults:
            raise faults[0] if len(faults) == 1 else InputErrors(faults)
        for line, own, case, row in ready:
            fresh = line.dip is None or (line.dip.source == "live") or line.dip.depth_m != depth
            stands = _dip(w, found.visit, line.probe, "typed", row.signal, depth) if fresh else line.dip
            assert stands is not None
            seq = add_typed(w, stands, own, case, row.signal, row.value, temperature_c, after_s)
        if still:
            _say(w, found.visit, "still", {str(line.probe.id): True for line, *_ in ready})
        shown = {line.probe.name: [row.value, row.signal] for line, _, _, row in ready}
        return w.finish(f"visit:{visit_id}", {"typed": shown, "temperature_c": temperature_c}, seq=seq)


def _named(fault: InputError, name: str, several: bool) -> InputError:
    return InputError(fault.field, f"{name}: {fault}" if several else str(fault), value=fault.value)


def _say(w: Write, of: Visit, kind: str, body: Mapping[str, Any]) -> None:
    w.session.add(VisitNote(id=uuid.uuid4(), visit_id=of.id, kind=kind, body=dict(body), at=w.now, by_id=w.actor.id))


def say(
    desk: Desk, actor: User, key: uuid.UUID, *, visit_id: str, pressure_hpa: float | None = None,
    light: bool | None = None, note: str = "",
) -> dict[str, Any]:  # fmt: skip
    """What is known of the air and the water, and a note; what was said before stays in the record."""
    with desk.write(actor, key, "visit.say") as w:
        if w.done:
            return w.done
        found = locked(w, visit_id)
        body: dict[str, Any] = {}
        if pressure_hpa is not None:
            door = Door()
            body["pressure_hpa"] = door.number("pressure_hpa", pressure_hpa, 500, 1100)
            door.close()
        if light is not None:
            body["light"] = light
        text = clean_reason(note, required=False)
        if not body and not text:
            raise InputError("note", "Nothing was said: give a pressure, the light, or a note.")
        if body:
            _say(w, found, "conditions", body)
        if text:
            _say(w, found, "note", {"text": text})
        w.session.flush()
        follow(w, find_visit(w.session, visit_id))
        return w.finish(f"visit:{visit_id}", {**body, "note": text})


def notes(session: Session, visit_id: uuid.UUID) -> list[VisitNote]:
    """The notes of a visit, oldest first."""
    query = select(VisitNote).where(VisitNote.visit_id == visit_id, VisitNote.kind == "note").order_by(VisitNote.at)
    return list(session.scalars(query))


def _vouched(session: Session, of: Visit, dip: Dip) -> bool:
    query = select(VisitNote).where(
        VisitNote.visit_id == of.id, VisitNote.kind == "still", VisitNote.at >= dip.started_at
    )
    return any(str(dip.probe_id) in row.body for row in session.scalars(query))


def vouched(session: Session, whole: Sheet) -> bool:
    """Whether every reading that waits was watched standing still."""
    waiting = [line for line in whole.lines if line.dip is not None and line.value is not None]
    return bool(waiting) and all(line.dip and _vouched(session, whole.visit, line.dip) for line in waiting)


def take(
    desk: Desk, actor: User, key: uuid.UUID, *, visit_id: str, dip_id: str, early: bool = False, reason: str = "",
    seen: int | None = None,
) -> dict[str, Any]:  # fmt: skip
    """Keep the reading of one dip, up to the sample the page had `seen`, and what follows from it.

    Odd values need a reason; unsettled ones need `early`.
    """
    with desk.write(actor, key, "visit.take") as w:
        if w.done:
            return w.done
        found = _visit(w, visit_id, {dip_id: seen})
        line = found.of_dip(dip_id)
        if line is None:
            raise MovedOn("These readings were taken, or the probe was dipped again, in another window.")
        why = clean_reason(reason, required=False)
        made = _keep(w, found, line, early, why)
        _answered(line.questions, why)
        _answered(follow(w, found.visit, why), why)
        detail = {"readings": {r.quantity: r.value for r in made}, "reason": why}
        return w.finish(f"visit:{visit_id}", detail, readings=[str(r.id) for r in made])


def take_all(
    desk: Desk, actor: User, key: uuid.UUID, *, visit_id: str, early: bool = False, reason: str = "",
    dips: Mapping[str, int | None] | None = None,
) -> dict[str, Any]:  # fmt: skip
    """Keep every line that has settled (all of them with `early`).

    dips : those the page showed, each with the last sample it had shown; what came later is neither judged nor kept
    """
    with desk.write(actor, key, "visit.take_all") as w:
        if w.done:
            return w.done
        found = _visit(w, visit_id, dips)
        lines = [line for line in found.lines if line.dip and line.value and (not dips or str(line.dip.id) in dips)]
        ready = [line for line in lines if early or _settled(w.session, found, line)]
        if not lines:
            raise MovedOn("These readings were taken, or the probes were dipped again, in another window.")
        if not ready:
            raise Refused("None has settled yet. Wait, or keep them early; it is recorded as early.")
        why = clean_reason(reason, required=False)
        _answered([q for line in ready for q in line.questions], why)
        made = [row for line in ready for row in _keep(w, found, line, early, why)]
        _answered(follow(w, found.visit, why), why)
        detail = {"readings": {r.quantity: r.value for r in made}, "reason": why}
        return w.finish(f"visit:{visit_id}", detail, readings=[str(r.id) for r in made])


def _answered(questions: Sequence[belief.Finding], why: str) -> None:
    if questions and not why:
        raise Refused(f"{questions[0].sentence} Repeat it, or say why it may be so.")


def _settled(session: Session, whole: Sheet, line: Line) -> bool:
    if line.settling is not None and line.settling.settled:
        return True
    return line.dip is not None and line.dip.source == "typed" and _vouched(session, whole.visit, line.dip)


def _keep(w: Write, whole: Sheet, line: Line, early: bool, reason: str) -> list[Reading]:
    """The rows of one line: its value, and the temperature read beside it where no thermometer is carried."""
    if line.problem or line.settling is None or line.value is None or line.dip is None:
        raise Refused(line.problem or "There is no reading to take yet.")
    settled = _settled(w.session, whole, line)
    if not settled and not early:
        raise Refused(f"Not settled: {line.settling.sentence} Wait, or take it early; it is recorded as early.")
    settling = {**asdict(line.settling), "state": line.settling.state.value, "early": not settled}
    if settled and not line.settling.settled:
        settling |= {"vouched": True, "sentence": "Stood still on the display, by the technician's own eye."}
    rows = []
    have = {(r.quantity, r.depth_m) for r in whole.kept if r.role == "first"}
    for value in (line.value, *line.also):
        given = {(r.quantity, r.depth_m) for r in of_visit(w.session, whole.visit.id)}
        if value is not line.value and len(whole.lines) > 1 and (value.quantity, line.dip.depth_m) in given:
            continue  # another probe has given the temperature already
        row = row_of(w, whole.visit, value, settling, reason)
        row.dip_id, row.entered_as = line.dip.id, "live" if line.dip.source == "live" else "typed"
        row.probe_id, row.depth_m = line.probe.id, line.dip.depth_m
        again = (value.quantity, line.dip.depth_m) in have
        row.role = "second" if line.role == "second" else "repeat" if again else "first"
        w.session.add(row)
        w.session.flush()
        rows.append(row)
    return rows


def by_hand(
    desk: Desk, actor: User, key: uuid.UUID, *, visit_id: str, quantity: str, value: float, method: str,
    depth_m: float | None = None, reason: str = "",
) -> dict[str, Any]:  # fmt: skip
    """A second method's result typed in: total chlorine by reagent, or an ion by a test. Named, and never a probe's."""
    with desk.write(actor, key, "visit.by_hand") as w:
        if w.done:
            return w.done
        found = _visit(w, visit_id)
        door = Door()
        door.name("quantity", quantity, BY_HAND)
        usual, low, high = BY_HAND.get(quantity, (0.1, 0, 50))
        number = door.number("value", value, low, high)
        door.close()
        how = clean_reason(method)
        depth = _depth(depth_m)
        own = Ladder("By a second method")
        own.step("c", words.name(quantity), how, number, "mg/L", "reading")
        expanded = max(usual, 0.1 * number)
        own.step(
            "U", "expanded uncertainty, k = 2", "usual of such a test", expanded, "mg/L", "common practice, no source"
        )
        site_ = found.visit.site
        past = past_values(w.session, site_, before=found.visit.at, depth_m=depth)
        tests = findings(site_, past, quantity, number, w.now)
        at_c = next((r.temperature_c for r in found.kept), 20.0)
        row_value = Value(
            quantity, number, "mg/L", expanded, number, "mg/L", at_c, own.done(), "by hand", f"by hand: {how}", None, tests,
            *limited(site_, quantity, number, expanded, "mg/L"),
        )  # fmt: skip
        why = clean_reason(reason, required=False)
        _answered(row_value.questions, why)
        row = row_of(w, found.visit, row_value, {}, why)
        row.entered_as, row.depth_m = "by hand", depth
        taken = any(r.quantity == quantity and r.role == "first" and r.depth_m == depth for r in found.kept)
        row.role = "second" if taken else "first"
        w.session.add(row)
        w.session.flush()
        _answered(follow(w, found.visit, why), why)
        return w.finish(f"visit:{visit_id}", {quantity: number, "method": how}, reading=row.id)
