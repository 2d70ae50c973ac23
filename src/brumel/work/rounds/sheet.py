"""The sheet of a visit: every probe in the water, what it is worth, what follows from it, and what is odd about it."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core import believability as belief
from brumel.core import conductivity, ions, oxygen, sense, suspicion
from brumel.core.errors import InputError
from brumel.core.fitness import Fitted
from brumel.core.fitness.temperature import ThermometerFit
from brumel.core.salinity import practical_salinity
from brumel.core.settling import Settling, judge_by_readings
from brumel.core.sheet import Outcome, Reported, Water, against, derive, report, series
from brumel.core.sheet.ladders import shown_step, with_display
from brumel.core.working import Working
from brumel.methods.field import load_field
from brumel.store.rounds import VisitNote
from brumel.store.tables import Calibration, Dip, Lot, Probe, Reading, Site, Visit
from brumel.work import kit, samples, solutions, trusting
from brumel.work.desk import NotFound, object_id
from brumel.work.rounds import words
from brumel.work.rounds.places import Past, past_values
from brumel.work.trades import trade

#: standard uncertainty of the standards where the run's lots say nothing: half of what their labels usually say
STANDARD_U = {
    "ph": 0.01, "conductivity": 0.5, "oxygen": 0.5, "redox": 2.5, "nitrate": 0.5, "ammonium": 0.5, "chlorine": 0.05,
    "temperature": 0.05,
}  # fmt: skip


@dataclass(frozen=True)
class Value:
    """One quantity of the sheet as it would be kept: number, working, backing, findings, what its limit makes of it."""

    quantity: str
    value: float
    unit: str
    expanded: float | None
    raw: float
    raw_unit: str
    temperature_c: float
    working: Working
    backing: str
    backing_words: str
    calibration: Calibration | None
    findings: tuple[belief.Finding, ...]
    outcome: Outcome = Outcome.NONE
    outcome_words: str = ""
    parents: tuple[str, ...] = ()

    @property
    def questions(self) -> tuple[belief.Finding, ...]:
        """The findings that want an answer."""
        return tuple(f for f in self.findings if f.flag in (belief.Flag.SUSPECT, belief.Flag.FAIL))


@dataclass(frozen=True)
class Backing:
    """What a signal is read with, and what it is worth; without a fit it cannot be read."""

    fit: Fitted | None
    calibration: Calibration | None
    state: str
    words: str
    u: float


@dataclass(frozen=True)
class Line:
    """One probe on the sheet: where it stands, the trace as reported, the judgement, the value, and what was kept."""

    probe: Probe
    role: str
    behind: Backing
    dip: Dip | None = None
    trace: samples.Trace | None = None
    shown: tuple[float, ...] = ()
    settling: Settling | None = None
    value: Value | None = None
    also: tuple[Value, ...] = ()
    problem: str = ""
    kept: tuple[Reading, ...] = ()

    @property
    def questions(self) -> tuple[belief.Finding, ...]:
        """Everything odd that wants an answer before this line is kept."""
        return tuple(f for v in (self.value, *self.also) if v is not None for f in v.questions)

    @property
    def waiting(self) -> bool:
        """Whether something stands here that can be kept."""
        return self.value is not None


@dataclass(frozen=True)
class Sheet:
    """A visit as it stands."""

    visit: Visit
    lines: tuple[Line, ...]
    water: Water
    conditions: Mapping[str, Any] = field(default_factory=dict)
    kept: tuple[Reading, ...] = ()
    depth_m: float | None = None
    follows: tuple[Value, ...] = ()

    def line(self, probe_id: str | uuid.UUID | None) -> Line:
        """The line of a probe; without one the first that waits, else the first."""
        for line in self.lines:
            if probe_id and str(line.probe.id) == str(probe_id):
                return line
        open_ones = [line for line in self.lines if line.dip is not None]
        return (open_ones or list(self.lines))[0]

    def of_dip(self, dip_id: str) -> Line | None:
        """The line whose probe stands in this dip."""
        return next((line for line in self.lines if line.dip is not None and str(line.dip.id) == dip_id), None)


def visit(session: Session, visit_id: str | uuid.UUID) -> Visit:
    """One visit by id; the front door for everything that names a visit."""
    found = session.get(Visit, object_id(visit_id, "visit"))
    if found is None:
        raise NotFound("There is no such visit.")
    return found


def conditions(session: Session, found: Visit) -> dict[str, Any]:
    """What is known of the air and the water of a visit: all that was said, the newest of each kept."""
    rows = session.scalars(
        select(VisitNote).where(VisitNote.visit_id == found.id, VisitNote.kind == "conditions").order_by(VisitNote.at)
    )
    merged: dict[str, Any] = {}
    for row in rows:
        merged |= row.body
    return merged


def of_visit(session: Session, visit_id: uuid.UUID) -> list[Reading]:
    """The readings kept in a visit, standing versions, in the order of a sheet."""
    rows = session.scalars(select(Reading).where(Reading.visit_id == visit_id).order_by(Reading.version))
    newest = {r.root_id: r for r in rows}
    return sorted(newest.values(), key=lambda r: (words.ORDER.get(r.quantity, 99), r.at))


def sheet(
    session: Session, visit_id: str | uuid.UUID, now: datetime, seen: Mapping[str, int | None] | None = None
) -> Sheet:
    """The visit of that id as it stands now; `seen` cuts the trace of a dip at the sample a page had shown."""
    found = visit(session, visit_id)
    said = conditions(session, found)
    kept = of_visit(session, found.id)
    bare = [_stands(session, found, c.probe, c.role, now, kept, seen or {}) for c in found.carried]
    depth = next((line.dip.depth_m for line in bare if line.dip is not None), None)
    past = past_values(session, found.site, before=found.at, depth_m=depth)
    return judge(Sheet(found, tuple(bare), Water(), said, tuple(kept), depth), past, now)


def _stands(
    session: Session, found: Visit, probe: Probe, role: str, now: datetime, kept: list[Reading],
    seen: Mapping[str, int | None],
) -> Line:  # fmt: skip
    mine = tuple(r for r in kept if r.probe_id == probe.id)
    dip = kit.present_dip(session, probe.id)
    if dip is None or dip.visit_id != found.id or any(r.dip_id == dip.id for r in _versions(session, found, dip)):
        return Line(probe, role, backing(session, probe, trade(probe.quantity).native, now), kept=mine)
    trace = samples.trace(session, dip).seen_until(seen.get(str(dip.id)))
    entered = trace.entered_as if trace.t_s.size else dip.entered or trade(probe.quantity).native
    return Line(probe, role, backing(session, probe, entered, now), dip, trace, kept=mine)


def _versions(session: Session, found: Visit, dip: Dip) -> list[Reading]:
    return list(session.scalars(select(Reading).where(Reading.dip_id == dip.id).limit(1)))


def backing(session: Session, probe: Probe, signal: str, now: datetime) -> Backing:
    """What a signal of this probe is read with. Without a valid calibration the reading is unbacked, but read."""
    own = trade(probe.quantity)
    trust = trusting.trust(session, probe, now)
    newest = trust.calibration
    if trust.valid and newest and fits(own, newest, signal):
        said = f"open: backed by calibration {newest.number}, no closing check yet"
        return Backing(kit.restored(newest), newest, "open", said, standard_u(session, probe.quantity, newest))
    last = kit.last_usable(session, probe.id, before=now)
    if trust.valid and newest:
        entered = {"mv": "mV", "ph": "displayed pH"}
        why = (
            f"calibration {newest.number} was made from {entered.get(newest.signal, newest.signal)}, this reading is "
            f"{entered.get(signal, signal)}"
        )
    else:
        why = trust.words.rstrip(".")
    if last and fits(own, last, signal):
        said = f"unbacked: {why}; read with calibration {last.number}"
        return Backing(kit.restored(last), last, "unbacked", said, standard_u(session, probe.quantity, last))
    ideal = own.ideal(probe)
    with_words = {"ph": "an ideal electrode", "conductivity": "the cell's nominal constant"}.get(
        probe.quantity, "a perfect probe"
    )
    return Backing(
        ideal, None, "unbacked", f"unbacked: {why}; read with {with_words}", STANDARD_U.get(probe.quantity, 0.5)
    )


def fits(own: Any, found: Calibration, signal: str) -> bool:
    """Whether a signal may be read with a calibration: a display is another scale than the raw signal.

    Conductivity and oxygen displays are taken back to the raw signal as they are typed, unless the meter was adjusted.
    """
    if found.signal == signal:
        return True
    return own.quantity != "ph" and not found.run.conditions.get("adjusted")


def standard_u(session: Session, quantity: str, found: Calibration | None) -> float:
    """Standard uncertainty of the least certain standard of the run, in the unit of the quantity's budget."""
    usual = STANDARD_U.get(quantity, 0.5)
    if found is None or not found.run.cups:
        return usual
    ids = [uuid.UUID(v) for v in found.run.cups.values()]
    stated = [
        float((solutions.measure(lot, quantity) or {}).get("u") or 0.0)
        for lot in session.scalars(select(Lot).where(Lot.id.in_(ids)))
    ]
    return max(stated, default=0.0) / 2 or usual


# -- judging


def judge(bare: Sheet, past: Past, now: datetime) -> Sheet:
    """Judge every line with all that it is compared with at hand; no database is asked."""
    site = bare.visit.site
    first = _water(bare, site)
    known = replace(bare, water=first)
    # Conductivity first: the salt of the others follows from it.
    order = sorted(known.lines, key=lambda line: line.probe.quantity != "conductivity")
    judged: dict[uuid.UUID, Line] = {}
    water = first
    for line in order:
        done = _judged(known, line, water, past, now)
        judged[line.probe.id] = done
        if line.probe.quantity == "conductivity" and line.role == "first" and done.value is not None:
            water = _salted(water, done.value, "read here")
    whole = replace(known, lines=tuple(judged[line.probe.id] for line in known.lines), water=water)
    return replace(whole, follows=tuple(prospects(whole, past, now)))


def _water(bare: Sheet, site: Site) -> Water:
    """Pressure, compensation and salt as the visit knows them: from what was kept, else the site's usual."""
    terms = site.water
    said = bare.conditions
    pressure = said.get("pressure_hpa")
    if pressure is not None:
        stated, pressure_from = float(pressure), "as measured here"
    else:
        stated = float(oxygen.station_pressure_hpa(site.altitude_m))
        pressure_from = f"from the altitude, {site.altitude_m:g} m"
    salt = terms.get("usual_salinity")
    water = Water(
        salinity=float(salt) if salt is not None else 0.0,
        salinity_from="the site's usual" if salt is not None else "fresh water is assumed",
        pressure_hpa=stated, pressure_from=pressure_from, compensation=terms.get("compensation", "natural"),
        coefficient_percent=float(terms.get("coefficient_percent", 2.0)), light=said.get("light"),
    )  # fmt: skip
    for row in bare.kept:
        if row.depth_m != bare.depth_m:
            continue
        if row.quantity == "conductivity" and row.role == "first":
            water = replace(water, conductivity_25_us_cm=row.value)
            salt_here = _salinity(_uncompensated(Working.from_dict(row.working), row.value), row.temperature_c)
            if salt_here is not None:
                water = replace(water, salinity=salt_here, salinity_from="read here")
    return water


def _salted(water: Water, value: Value, origin: str) -> Water:
    found = replace(water, conductivity_25_us_cm=value.value)
    salt = _salinity(_uncompensated(value.working, value.value), value.temperature_c)
    return found if salt is None else replace(found, salinity=salt, salinity_from=origin)


def _uncompensated(working: Working, value: float) -> float | None:
    """Conductivity at the sample's own temperature; where a ruling moved the reported value, moved with it."""
    found = {s.symbol: s.result for s in working.steps}
    if "κ" not in found or not found.get("κ25"):
        return None
    return found["κ"] * value / found["κ25"]


def _salinity(raw: float | None, at: float) -> float | None:
    if raw is None or raw <= 0 or not -2 <= at <= 35:
        return None
    try:
        return float(practical_salinity(raw, at))
    except InputError:
        return None


def _judged(whole: Sheet, line: Line, water: Water, past: Past, now: datetime) -> Line:
    if line.dip is None or line.trace is None or not line.trace.t_s.size:
        return line
    if line.behind.fit is None:
        said = line.behind.words.removeprefix("unbacked: ")
        return replace(line, problem=f"{said[0].upper()}{said[1:]}: this signal cannot be read. Calibrate it first.")
    trace, quantity = line.trace, line.probe.quantity
    spec = load_field()[quantity]
    typed = line.dip.source == "typed"
    count = 1 if typed else 5
    signal = float(np.median(trace.signal[-count:]))
    at = float(np.median(trace.temperature_c[-count:]))
    try:
        shown = series(quantity, line.behind.fit, trace.signal[-1200:], trace.temperature_c[-1200:], water)
        value = valued(whole, line, water, past, signal, at, trace, now)
    except InputError as error:
        return replace(line, problem=" ".join(str(f) for f in error.faults))
    if quantity == "oxygen" and not typed and line.probe.kind != "optical":
        still = suspicion.still_water(trace.t_s, trace.signal)
        if still is not None:
            told = belief.Finding("still_water", "still water", belief.Flag.SUSPECT, f"{still.sentence} {still.remedy}")
            value = replace(value, findings=(*value.findings, told))
    unit = spec.unit or words.name(quantity)
    settling = judge_by_readings(trace.t_s[-1200:], shown, spec.criteria(unit, typed=typed))
    also: tuple[Value, ...] = ()
    carries = any(other.probe.quantity == "temperature" and other.role == "first" for other in whole.lines)
    if quantity != "temperature" and line.role == "first" and not carries:
        also = (own_temperature(whole.visit.site, past, at, now),)
    return replace(line, shown=tuple(float(x) for x in shown), settling=settling, value=value, also=also)


def valued(
    whole: Sheet, line: Line, water: Water, past: Past, signal: float, at: float, trace: samples.Trace, now: datetime
) -> Value:
    """The value of a line from its signal, with everything that is said of it."""
    displayed = trace.displayed[-1] if trace.displayed and trace.displayed[-1] is not None else None
    return value_of(
        whole.visit.site, line.probe, line.behind, water, past, signal, at, now,
        displayed=displayed, entered=trace.entered_as, second=line.role == "second",
    )  # fmt: skip


def value_of(
    site: Site, probe: Probe, behind: Backing, water: Water, past: Past, signal: float, at: float, now: datetime, *,
    displayed: float | None, entered: str, second: bool = False,
) -> Value:  # fmt: skip
    """One reading worked out: ladder, backing, findings, outcome. Raises InputError where a scale ends."""
    quantity = probe.quantity
    own = trade(quantity)
    origin = f"calibration {behind.calibration.number}" if behind.calibration else behind.words.split("read with ")[-1]
    found = report(
        quantity, behind.fit, signal, at, water, backed=behind.calibration is not None or quantity == "temperature",
        origin=origin, u=behind.u,
    )  # fmt: skip
    raw, raw_unit, working = signal, own.signal_unit, found.working
    if displayed is not None:
        label = own.entries[entered].label
        raw, raw_unit = displayed, f"{label} displayed" if quantity == "ph" else label
        symbol, what, formula = _STANDS.get(quantity, ("s", "signal that stands for the display", "settings taken off"))
        step = shown_step(symbol, what, formula, displayed, "" if quantity == "ph" else label, at, signal)
        working = with_display(working, replace(step, unit=own.signal_unit))
    state, said = behind.state, behind.words
    if quantity == "temperature" and behind.calibration is None:
        said = "unbacked: no check of this thermometer on record"
    ruled = limited(site, quantity, found.value, found.expanded, found.unit)
    tests = (*findings(site, past, quantity, found.value, now), *_water_findings(quantity, water))
    return Value(
        quantity, found.value, found.unit, found.expanded, raw, raw_unit, at, working, state, said, behind.calibration,
        () if second else tests, *ruled,
    )  # fmt: skip


_STANDS = {"ph": ("E", "signal that stands for the displayed pH", "E = −k(T) · (pH − 7)")}


def limited(site: Site, quantity: str, value: float, expanded: float | None, unit: str) -> tuple[Outcome, str]:
    """What the site's limit makes of a value, with the limit's source."""
    limit = site.limits.get(quantity)
    if not limit:
        return Outcome.NONE, ""
    ruled = against(value, expanded, limit.get("low"), limit.get("high"), unit)
    source = limit.get("source", "")
    return ruled.outcome, f"{ruled.sentence}{f' ({source})' if source else ''}"


def own_temperature(site: Site, past: Past, at: float, now: datetime) -> Value:
    """The temperature a probe read beside its own quantity, where no thermometer is carried."""
    found = report("temperature", ThermometerFit((), "ideal"), at, at, Water(), backed=True, origin="", u=0.1)
    return Value(
        "temperature", at, "°C", found.expanded, at, "°C", at, found.working, "unbacked",
        "unbacked: no check of this thermometer on record", None, findings(site, past, "temperature", at, now),
        *limited(site, "temperature", at, found.expanded, "°C"),
    )  # fmt: skip


def findings(place: Site, past: Past, quantity: str, value: float, now: datetime) -> tuple[belief.Finding, ...]:
    """Every test of believability that applies to one value alone."""
    spec = load_field()[quantity]
    name = words.title(quantity)
    ranges = place.ranges.get(quantity, {})
    before = past.get(quantity, [])
    last = (before[0][0], (now - before[0][1]).total_seconds() / 86400) if before else None
    usual, gross = (tuple(ranges[key]) if key in ranges else None for key in ("usual", "gross"))
    unit = "" if quantity == "ph" else spec.unit
    floor = max(spec.floor.value, spec.share * abs(before[0][0])) if before else spec.floor.value
    spread = (
        max(spec.smallest_spread.value, spec.share / 4 * abs(before[0][0])) if before else spec.smallest_spread.value
    )
    found = [
        belief.instrument_range(name, value, *spec.instrument, unit),
        belief.site_range(name, value, usual, gross, unit),
        belief.history(name, value, [v for v, _ in before], unit, smallest_spread=spread),
        belief.rate_since(name, value, last, unit, per_day=spec.per_day.value, floor=floor),
    ]
    if quantity == "conductivity" and usual is not None:
        slip = conductivity.slip(value, usual)
        if slip:
            found.append(belief.Finding("slip", "unit", belief.Flag.FAIL, slip))
    return tuple(found)


def _water_findings(quantity: str, water: Water) -> tuple[belief.Finding, ...]:
    ec = water.conductivity_25_us_cm
    if quantity not in ("nitrate", "ammonium") or ec is None:
        return ()
    said = ions.interference(ec, "nitrate" if quantity == "nitrate" else "ammonium")
    flag = belief.Flag.SUSPECT if said else belief.Flag.PASS
    return (belief.Finding("interference", "other ions", flag, said or "Other ions are few enough."),)


# -- what follows


@dataclass(frozen=True)
class Part:
    """A reading others follow from, kept or not yet."""

    quantity: str
    value: float
    unit: str
    expanded: float | None
    working: Working
    temperature_c: float
    backing: str
    backing_words: str
    root: str = ""


def part(row: Reading) -> Part:
    """A kept reading as a part."""
    return Part(
        row.quantity, row.value, row.unit, row.expanded_uncertainty, Working.from_dict(row.working), row.temperature_c,
        row.backing, row.backing_words, str(row.root_id),
    )  # fmt: skip


def parts(rows: Sequence[Reading]) -> list[Part]:
    """The kept readings others may follow from: the first ones, not those that follow themselves."""
    return [part(r) for r in rows if r.role == "first" and not r.parents]


def prospects(whole: Sheet, past: Past, now: datetime) -> list[Value]:
    """What follows from all that stands on the sheet now, kept or not; nothing where it contradicts itself."""
    have = {p.quantity: p for p in parts([r for r in whole.kept if r.depth_m == whole.depth_m])}
    for line in whole.lines:
        for v in (*line.also, line.value) if line.role == "first" and line.value else ():
            have[v.quantity] = Part(
                v.quantity, v.value, v.unit, v.expanded, v.working, v.temperature_c, v.backing, v.backing_words
            )
    try:
        return derived(whole, list(have.values()), past, now)
    except InputError:
        return []


def derived(whole: Sheet, have: Sequence[Part], past: Past, now: datetime) -> list[Value]:
    """What follows from readings, with their findings; raises InputError where they contradict each other."""
    site, water = whole.visit.site, whole.water
    first = {p.quantity: p for p in have}
    read = {q: Reported(q, p.value, p.unit, p.expanded, p.working) for q, p in first.items()}
    raw = (
        _uncompensated(first["conductivity"].working, first["conductivity"].value) if "conductivity" in first else None
    )
    salt = _salinity(raw, first["conductivity"].temperature_c) if raw is not None else None
    if salt is not None:
        water = replace(water, salinity=salt, salinity_from="read here")
    electrode = next((line.probe.reference_electrode for line in whole.lines if line.probe.quantity == "redox"), "")
    factor = site.water.get("tds_factor")
    at_c = first["temperature"].temperature_c if "temperature" in first else None
    found = derive(read, water, raw_us_cm=raw, tds_factor=float(factor) if factor else None, electrode=electrode)
    values = []
    for r in found:
        parents = [first[q] for q in r.parents]
        tests = [*findings(site, past, r.quantity, r.value, now), *_together(site, r, read, water, at_c)]
        worst = max(parents, key=lambda p: BACKING_RANK.get(p.backing, 0))
        behind = f"follows from {', '.join(words.name(p.quantity) for p in parents)}: {worst.backing_words}"
        values.append(
            Value(
                r.quantity, r.value, r.unit, r.expanded, r.value, r.unit, at_c or parents[0].temperature_c, r.working,
                worst.backing, behind, None, tuple(tests), *limited(site, r.quantity, r.value, r.expanded, r.unit),
                tuple(p.root for p in parents),
            )
        )  # fmt: skip
    return values


BACKING_RANK = {
    "bracketed": 0,
    "by hand": 1,
    "open": 1,
    "corrected": 2,
    "unbacked": 3,
    "doubtful": 4,
    "not reported": 5,
}


def _together(
    site: Site, r: Reported, read: Mapping[str, Reported], water: Water, at_c: float | None
) -> list[belief.Finding]:
    """What only readings together can say."""
    if r.quantity == "salinity":
        return [sense.salinity_against_kind(r.value, site.kind)]
    if r.quantity == "saturation":
        return [sense.oxygen_without_light(r.value, light=water.light)]
    if r.quantity in ("hypochlorous", "combined_chlorine") and "redox" in read and site.kind in ("pool", "spa"):
        return [sense.redox_against_chlorine(read["redox"].value, read["chlorine"].value)]
    return []
