"""Writing at a site: opening the sheet, dipping, typing, keeping, and putting a slip right."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from brumel.core.checking import Door
from brumel.core.errors import InputError, InputErrors, words_of
from brumel.core.sentence import joined
from brumel.core.units import SOLIDS
from brumel.store.rounds import Outing, VisitNote
from brumel.store.tables import Dip, Probe, Visit, VisitProbe
from brumel.store.typed_json import RunConditions
from brumel.work import air, kit
from brumel.work.bench.points import TypedValue, add_typed, check_typed, strike_out
from brumel.work.desk import NotFound, Refused, Write, Written, clean_reason, object_id, writes
from brumel.work.link.samples import TypedSample
from brumel.work.quantities import names as quantity_names
from brumel.work.quantities.base import Quantity, RunContext
from brumel.work.quantities.book import quantity_of
from brumel.work.quantities.oxygen import set_to
from brumel.work.rounds.sheet.model import Sheet
from brumel.work.rounds.sheet.rows import follow, locked
from brumel.work.rounds.sheet.sheet import sheet_of_visit
from brumel.work.rounds.sheet.sheet import visit_of as find_visit
from brumel.work.rounds.sites import site_of

MOST_PROBES = 24


@dataclass(frozen=True)
class Dipped:
    """The dips that began: the first one's id, and each probe's."""

    dip: str
    dips: dict[str, str]


@writes("visit.start", Written)
def start_visit(w: Write, *, site_id: str, probes: Sequence[str], source: str, outing_id: str = "") -> Written:
    """Open the sheet of a site with the probes that are carried, live or typed.

    The first probe of a quantity is the first instrument, a second one stands beside it.
    """
    visit = open_visit(w, site_id, probes, source, outing_id)
    detail = {"site": visit.site.name, "probes": [p.name for p in visit.probes]}
    w.record(f"visit:{visit.id}", detail)
    return Written(str(visit.id))


def open_visit(w: Write, site_id: str, probes: Sequence[str], source: str, outing_id: str = "") -> Visit:
    """The sheet itself, inside a write."""
    if source not in ("live", "typed"):
        raise InputError("source", "Readings are live or typed. Choose one of the two.", value=source)
    place = site_of(w.session, site_id)
    if place.retired_at is not None:
        raise Refused(f"{place.name} is not read any more; the lead has put it away.")
    carried = kit.probes_of(w.session, list(dict.fromkeys(probes)))
    if not carried:
        raise InputError("probe", "Choose at least one probe to read the site with.")
    if len(carried) > MOST_PROBES:
        raise InputError("probe", f"A sheet takes {MOST_PROBES} probes at most.")
    gone = [p.name for p in carried if p.retired_at is not None]
    if gone:
        raise InputError("probe", f"{', '.join(gone)} was put away for good; choose another.")
    if source == "live" and all(p.meter.link == "typed" for p in carried):
        raise InputError("source", f"{carried[0].meter.name} has no link; type its readings.", value=source)
    outing = w.session.get(Outing, object_id(outing_id, "outing")) if outing_id else None
    visit = Visit(
        id=uuid.uuid4(),
        site_id=place.id,
        operator_id=w.actor.id,
        source=source,
        at=w.now,
        outing_id=outing.id if outing else None,
    )
    w.session.add(visit)
    w.session.flush()
    seen = set[str]()
    for i, p in enumerate(sorted(carried, key=lambda p: quantity_names.ORDER[p.quantity])):
        _carry(w, visit, p, i, "second" if p.quantity in seen else "first")
        seen.add(p.quantity)
    w.session.flush()
    w.session.refresh(visit)
    return visit


def _carry(w: Write, to: Visit, probe: Probe, at: int, role: str) -> None:
    w.session.add(VisitProbe(visit_id=to.id, probe_id=probe.id, place=at, role=role))


def _to_write_on(w: Write, visit_id: str) -> Visit:
    """A visit whose sheet is written on. Raises MovedOn, and Refused for what was brought in from a table."""
    visit = locked(w, visit_id)
    if visit.source == "imported":
        raise Refused("This visit was brought in from a table and stands as it came. Begin a new one to read the site.")
    return visit


@writes("visit.probe", Written)
def add_probe(w: Write, *, visit_id: str, probe_id: str) -> Written:
    """One more probe on the sheet: a quantity that was missing, or a second instrument beside the first."""
    visit = _to_write_on(w, visit_id)
    probe = kit.probe_of(w.session, probe_id)
    if any(p.id == probe.id for p in visit.probes):
        raise Refused(f"{probe.name} is on this sheet already.")
    role = put_on_sheet(w, visit, probe)
    w.record(f"visit:{visit_id}", {"probe": probe.name, "role": role})
    return Written(visit_id)


def put_on_sheet(w: Write, visit: Visit, probe: Probe) -> str:
    """One more probe on a sheet, inside a write; returns its role there."""
    if len(visit.carried) >= MOST_PROBES:
        raise Refused(f"A sheet takes {MOST_PROBES} probes at most.")
    role = "second" if any(p.reads == probe.reads for p in visit.probes) else "first"
    _carry(w, visit, probe, len(visit.carried), role)
    w.session.flush()
    w.session.refresh(visit)
    return role


def locked_sheet(w: Write, visit_id: str, seen: Mapping[str, int | None] | None = None) -> Sheet:
    _to_write_on(w, visit_id)
    return sheet_of_visit(w.session, visit_id, w.now, seen)


@writes("visit.dip", Dipped)
def dip(w: Write, *, visit_id: str, probe_id: str = "", depth_m: float | None = None) -> Dipped:
    """The probe is in the water now, for the first time or again; without a name all that come by a link are."""
    visit = _to_write_on(w, visit_id)
    depth = checked_depth(depth_m)
    probes = [p for p in visit.probes if (str(p.id) == probe_id if probe_id else p.meter.link != "typed")]
    if probe_id and not probes:
        raise NotFound("There is no such probe on this sheet.")
    if not probes:
        raise Refused("None of these probes has a link; type what they show.")
    _not_on_bench(w, probes)
    dips = {str(p.id): str(_dip(w, visit, p, "live", "", depth).id) for p in probes}
    w.record(f"visit:{visit_id}", {"dips": dips})
    return Dipped(dip=next(iter(dips.values())), dips=dips)


#: How deep a reading may be [m].
DEPTH_M = (0.0, 400.0)


def checked_depth(depth_m: float | None) -> float | None:
    if depth_m is None:
        return None
    door = Door()
    depth = door.number("depth_m", depth_m, *DEPTH_M)
    door.close()
    return depth


def _not_on_bench(w: Write, probes: Sequence[Probe]) -> None:
    busy = kit.open_runs(w.session, probes)
    for probe in probes:
        if probe.id in busy:
            raise Refused(f"{probe.name} is on Bench in an open run. Finish or abandon that first.")


def _dip(w: Write, to: Visit, probe: Probe, source: str, entered: str, depth: float | None) -> Dip:
    new_dip = Dip(
        id=uuid.uuid4(),
        probe_id=probe.id,
        visit_id=to.id,
        step="",
        source=source,
        entered=entered or quantity_of(probe.quantity).native,
        depth_m=depth,
        started_at=w.now,
    )
    w.session.add(new_dip)
    w.session.flush()
    return new_dip


@dataclass(frozen=True)
class Typed:
    """What one display showed: the probe, the unit it was in, and the value.

    unit : what was written behind the value; it goes before the unit that was chosen
    """

    probe_id: str
    signal: str
    value: float
    unit: str = ""


@dataclass(frozen=True)
class Beside:
    """What a display showed besides, of the same water at the same moment, with the unit written behind it."""

    value: float
    unit: str = ""


@dataclass(frozen=True)
class TypedSheet:
    """What the displays showed at one depth [m], with the water's temperature [°C].

    after_s : the time since the probes went in, where it was noted; else the clock is taken [s]
    still : the technician watched each value stand still, so one reading is enough
    beside : what the same display showed in another unit, by the probe's id, such as % beside mg/L
    """

    rows: Sequence[Typed]
    temperature_c: float
    depth_m: float | None = None
    after_s: float | None = None
    still: bool = False
    beside: Mapping[str, Beside] = field(default_factory=dict)


@writes("visit.type", TypedSample)
def type_readings(w: Write, *, visit_id: str, typed: TypedSheet) -> TypedSample:
    """What the displays showed, all at once; every fault is told at once."""
    seq = type_on(w, visit_id, typed)
    shown = {r.probe_id: [r.value, r.signal] for r in typed.rows}
    w.record(f"visit:{visit_id}", {"typed": shown, "temperature_c": typed.temperature_c})
    return TypedSample(seq=seq)


def type_on(w: Write, visit_id: str, typed: TypedSheet) -> int:
    """What the displays showed, inside a write; returns the number of the last sample."""
    sheet = locked_sheet(w, visit_id)
    if not typed.rows:
        raise InputError("value", "No value was given. Type what at least one display shows.")
    depth, faults, ready = checked_depth(typed.depth_m), [], []
    settings, besides = {}, dict[str, dict[str, Any] | None]()
    for row in typed.rows:
        line = sheet.line(row.probe_id)
        if str(line.probe.id) != row.probe_id:
            raise NotFound("There is no such probe on this sheet.")
        quantity = quantity_of(line.probe.quantity)
        value = TypedValue(row.signal, row.value, typed.temperature_c, typed.after_s, row.unit)
        second = typed.beside.get(row.probe_id)
        try:
            value = value.read_as(quantity)
            check_typed(quantity, value)
            other = _other_display(quantity, value, second) if second else None
        except InputError as error:
            faults += [_named(f, line.probe.name, len(typed.rows) > 1) for f in error.faults]
            continue
        if line.probe.meter_id not in settings:
            taken = kit.last_settings(w.session, line.probe.meter_id)
            settings[line.probe.meter_id] = taken.settings if taken else {}
        stated = RunConditions(pressure_hpa=sheet.water.pressure_hpa)
        case = RunContext(line.probe, stated, settings[line.probe.meter_id])
        ready.append((line, quantity, case, value))
        if other is not None:
            besides[row.probe_id] = {"entered": other.signal, "value": other.value, "set_to": _meter_terms(case)}
        elif line.probe.id in sheet.beside:
            besides[row.probe_id] = None  # what the display showed besides was of the value before
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    seq = 0
    fresh_ones = {
        line.probe.id: line.dip is None or line.dip.source == "live" or line.dip.depth_m != depth for line, *_ in ready
    }
    _not_on_bench(w, [line.probe for line, *_ in ready if fresh_ones[line.probe.id]])
    for line, quantity, case, value in ready:
        stands = (
            _dip(w, sheet.visit, line.probe, "typed", value.signal, depth) if fresh_ones[line.probe.id] else line.dip
        )
        assert stands is not None
        seq = add_typed(w, stands, quantity, case, value).seq
    if besides:
        _say(w, sheet.visit, "beside", besides)
    if typed.still:
        _say(w, sheet.visit, "still", {str(line.probe.id): True for line, *_ in ready})
    w.session.flush()
    return seq


def _meter_terms(case: RunContext) -> tuple[float, ...]:
    """What a meter works the second value of its display out with; see OtherDisplay."""
    if case.probe.quantity == "oxygen":
        return set_to(case)
    factor = case.setting("tds_factor", 0.0)
    return (factor,) if factor > 0 else ()


#: What a conductivity display may show besides, as it is written behind the value; nothing stands for salinity.
_SOLIDS_BESIDE = {unit: factor for unit, factor in SOLIDS.items() if unit != "ppt"} | {"mg/L": 1.0, "g/L": 1000.0}


def _salt_beside(first: TypedValue, other: Beside) -> TypedValue:
    """TDS or salinity beside a conductivity; ppt would be either."""
    if first.signal == "ppm":
        raise InputError("beside", "Beside TDS nothing is compared. Type the conductivity as the first value.")
    if not other.unit:
        door = Door()
        value = door.number("beside", other.value, 0, 42)
        door.close()
        return replace(first, signal="salinity", value=value, unit="")
    if other.unit not in _SOLIDS_BESIDE:
        words = (
            f"“{other.unit[:20]}” is neither TDS nor salinity here. Write mg/L or ppm for TDS; salinity has no unit."
        )
        raise InputError("beside", words, value=other.unit)
    door = Door()
    value = door.number("beside", other.value * _SOLIDS_BESIDE[other.unit], 0, 1_000_000)
    door.close()
    return replace(first, signal="solids", value=value, unit="")


def _other_display(quantity: Quantity, first: TypedValue, other: Beside) -> TypedValue:
    """What a display showed beside its first value: % of saturation beside mg/L or the reverse; TDS or salinity."""
    if quantity.quantity == "conductivity":
        return _salt_beside(first, other)
    wanted = {"mg_l": "percent", "percent": "mg_l"}.get(first.signal)
    if wanted is None or quantity.quantity != "oxygen":
        raise InputError(
            "beside",
            "Two values of a display go together for oxygen, mg/L and %, and for conductivity, with TDS or salinity.",
        )
    signal = quantity.entry_of(other.unit, wanted) if other.unit else wanted
    if signal != wanted:
        raise InputError("beside", "The second value is in the unit of the first. Type the other one, or leave it out.")
    typed = replace(first, signal=signal, value=other.value, unit="")
    check_typed(quantity, typed)
    return typed


@dataclass(frozen=True)
class StruckOut:
    """What was struck out of a sheet, in words."""

    words: str


@writes("visit.strike", StruckOut)
def strike_last(w: Write, *, visit_id: str, probe_id: str = "") -> StruckOut:
    """Strike out the value that was typed last and not recorded yet, of one probe or of every probe of the sheet.

    The samples stay in the record and count for nothing.
    """
    sheet = locked_sheet(w, visit_id)
    struck = []
    for line in sheet.lines:
        if probe_id not in ("", str(line.probe.id)) or line.dip is None or line.trace is None:
            continue
        if line.dip.source == "typed" and line.trace.seq.size:
            strike_out(w, line.dip, int(line.trace.seq[-1]))
            struck.append(line.probe.name)
    if not struck:
        raise NotFound("Nothing that was typed waits on this sheet.")
    w.record(f"visit:{visit_id}", {"struck out": struck})
    return StruckOut(f"the last value of {', '.join(struck)}")


def _named(fault: InputError, name: str, several: bool) -> InputError:
    return InputError(
        fault.field, joined((f"{name}:", words_of(fault))) if several else words_of(fault), value=fault.value
    )


def _say(w: Write, of: Visit, kind: str, body: Mapping[str, Any]) -> None:
    w.session.add(VisitNote(id=uuid.uuid4(), visit_id=of.id, kind=kind, body=dict(body), at=w.now, by_id=w.actor.id))


@writes("visit.say", Written)
def say(
    w: Write,
    *,
    visit_id: str,
    pressure_hpa: float | None = None,
    pressure_from: str = "station",
    light: bool | None = None,
    note: str = "",
) -> Written:
    """What is known of the air and the water, and a note; what was said before stays in the record.

    pressure_from : "station", or "report" for one reduced to sea level; see work.air
    """
    body = say_on(w, visit_id, pressure_hpa, light, note, pressure_from)
    w.record(f"visit:{visit_id}", body)
    return Written(visit_id)


def say_on(
    w: Write,
    visit_id: str,
    pressure_hpa: float | None = None,
    light: bool | None = None,
    note: str = "",
    pressure_from: str = "station",
) -> dict[str, Any]:
    """What is known of the air and the water, and a note, inside a write; returns what was said."""
    visit = _to_write_on(w, visit_id)
    body: dict[str, Any] = {}
    if pressure_hpa is not None:
        door = Door()
        door.name("pressure_from", pressure_from, air.READ_AS)
        read = door.number("pressure_hpa", pressure_hpa, 870 if pressure_from == "report" else 500, 1100)
        door.close()
        stands = air.station_pressure(pressure_from, read, visit.site.altitude_m)
        body |= {"pressure_hpa": round(stands, 2), "pressure_from": pressure_from, "entered_hpa": round(read, 2)}
    if light is not None:
        body["light"] = light
    text = clean_reason(note, required=False)
    if not body and not text:
        raise InputError("note", "Nothing was said: give a pressure, the light, or a note.")
    if body:
        _say(w, visit, "conditions", body)
    if text:
        _say(w, visit, "note", {"text": text})
    w.session.flush()
    follow(w, find_visit(w.session, visit_id))
    return {**body, "note": text}
