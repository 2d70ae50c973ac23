"""Reading a site: visit, dip, ladder, questions, and keeping the reading with what backs it."""

from __future__ import annotations

import uuid
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

import numpy as np
from sqlalchemy import Double, func, select
from sqlalchemy.orm import Session, aliased, lazyload

from brumel.core import believability as belief
from brumel.core import ph
from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.core.fitness.ph import ElectrodeFit
from brumel.core.settling import Settling, judge_by_readings
from brumel.core.working import Input, Step, Working
from brumel.methods.field import load_field
from brumel.store.tables import Calibration, Dip, Lot, Reading, Site, User, Visit
from brumel.work import kit, samples
from brumel.work.bench import add_typed, check_typed
from brumel.work.desk import Desk, MovedOn, NotFound, Refused, Write, object_id
from brumel.work.reasons import clean_reason
from brumel.work.trades import Case, trade

THERMOMETER_EXPANDED_C = 0.2  # tolerance of an unchecked thermometer [USGS-A6.1]
HISTORY = 60


@dataclass(frozen=True)
class Value:
    """One quantity of the sheet as it would be kept: number, working, backing, findings."""

    quantity: str
    value: float
    unit: str
    expanded: float | None
    raw: float
    raw_unit: str
    working: Working
    backing: str
    backing_words: str
    calibration: Calibration | None
    findings: tuple[belief.Finding, ...]

    @property
    def questioned(self) -> bool:
        return belief.worst_flag(self.findings) in (belief.Flag.SUSPECT, belief.Flag.FAIL)


@dataclass(frozen=True)
class Sheet:
    """A visit as it stands: where the probe is, the trace as pH, the judgement, and the values."""

    visit: Visit
    dip: Dip | None
    trace: samples.Trace | None
    ph_trace: tuple[float, ...]
    settling: Settling | None
    values: tuple[Value, ...]
    problem: str = ""

    @property
    def questions(self) -> tuple[belief.Finding, ...]:
        odd = (belief.Flag.SUSPECT, belief.Flag.FAIL)
        return tuple(f for v in self.values for f in v.findings if f.flag in odd)


@dataclass(frozen=True)
class Backing:
    """The electrode a signal is read with, and what it is worth."""

    fit: ph.Calibration
    calibration: Calibration | None
    state: str
    words: str


def sites(session: Session) -> list[Site]:
    """All sites, by client and name."""
    return list(session.scalars(select(Site).order_by(Site.client, Site.name)))


def site(session: Session, site_id: str | uuid.UUID) -> Site:
    """One site by id; the front door for everything that names a site."""
    found = session.get(Site, object_id(site_id, "site"))
    if found is None:
        raise NotFound("There is no such site.")
    return found


def standing(session: Session, site_id: uuid.UUID, quantity: str, count: int = HISTORY) -> list[Reading]:
    """The standing (newest) versions of a site's readings of a quantity, newest first."""
    newer = aliased(Reading)
    query = (
        select(Reading)
        .options(lazyload(Reading.visit), lazyload(Reading.calibration), lazyload(Reading.by))
        .where(Reading.site_id == site_id, Reading.quantity == quantity)
        .where(~select(newer.id).where(newer.root_id == Reading.root_id, newer.version > Reading.version).exists())
        .order_by(Reading.at.desc())
        .limit(count)
    )
    return list(session.scalars(query))


def backing(session: Session, visit: Visit, signal: str, now: datetime) -> Backing:
    """What a signal of this probe is read with. Without a valid calibration the reading is unbacked, but read."""
    trust = kit.trust(session, visit.probe, now)
    newest = trust.calibration
    if trust.valid and newest and newest.signal == signal:
        words = f"open: backed by calibration {newest.number}, no closing check yet"
        return Backing(_electrode(newest), newest, "open", words)
    last = kit.last_usable(session, visit.probe_id, before=now)
    if trust.valid and newest:
        entered = {"mv": "mV", "ph": "displayed pH"}
        why = f"calibration {newest.number} was made from {entered[newest.signal]}, this reading is {entered[signal]}"
    else:
        why = trust.words.rstrip(".")
    if last and last.signal == signal:
        words = f"unbacked: {why}; read with calibration {last.number}"
        return Backing(_electrode(last), last, "unbacked", words)
    ideal = ph.fit([ph.BufferPoint(0.0, 25.0, 7.0)])
    return Backing(ideal, None, "unbacked", f"unbacked: {why}; read with an ideal electrode")


def _electrode(found: Calibration) -> ph.Calibration:
    """The fitted electrode of a calibration; ideal where the meter itself was adjusted and its display counts."""
    fitted = kit.restored(found)
    if not isinstance(fitted, ElectrodeFit):
        raise TypeError("a site's pH is read with a pH calibration")
    return fitted.calibration


def sheet(session: Session, visit_id: str | uuid.UUID, now: datetime, seen: int | None = None) -> Sheet:
    """The visit of that id as it stands now; the front door for everything that names a visit."""
    visit = session.get(Visit, object_id(visit_id, "visit"))
    if visit is None:
        raise NotFound("There is no such visit.")
    dip = kit.present_dip(session, visit.probe_id)
    if dip is None or dip.visit_id != visit.id or _taken(session, dip):
        return Sheet(visit, None, None, (), None, ())
    trace = samples.trace(session, dip).seen_until(seen)
    if not trace.t_s.size:
        return Sheet(visit, dip, trace, (), None, ())
    behind = backing(session, visit, trace.entered_as, now)
    u = standard_u(session, behind.calibration)
    return judge(visit, dip, trace, behind, u, past_values(session, visit.site), now)


def _taken(session: Session, dip: Dip) -> bool:
    return session.scalar(select(Reading.id).where(Reading.dip_id == dip.id).limit(1)) is not None


def judge(
    visit: Visit, dip: Dip, trace: samples.Trace, behind: Backing, buffer_u: float, past: Past, now: datetime
) -> Sheet:
    """Judge a trace at a site with everything it is compared with at hand; no database is asked."""
    signal = trace.entered_as
    spec = load_field()["ph"]
    try:
        series = np.atleast_1d(np.asarray(behind.fit.ph(trace.signal, trace.temperature_c)))
    except InputError as error:
        return Sheet(visit, dip, trace, (), None, (), str(error))
    settling = judge_by_readings(trace.t_s, series, spec.criteria("pH", typed=dip.source == "typed"))
    count = 1 if dip.source == "typed" else 5
    millivolts = float(np.median(trace.signal[-count:]))
    at = float(np.median(trace.temperature_c[-count:]))
    displayed = trace.displayed[-1] if signal == "ph" else None
    values = (
        _ph_value(visit, behind, buffer_u, past, millivolts, at, displayed, now),
        _temperature_value(visit, past, at, now),
    )
    return Sheet(visit, dip, trace, tuple(float(p) for p in series), settling, values)


def _ph_value(
    visit: Visit,
    behind: Backing,
    buffer_u: float,
    past: Past,
    millivolts: float,
    at: float,
    displayed: float | None,
    now: datetime,
) -> Value:
    origin = f"calibration {behind.calibration.number}" if behind.calibration else "an ideal electrode"
    read = ph.read(behind.fit, millivolts, at, standard_u_ph=buffer_u, origin=origin)
    steps = read.working.steps
    if displayed is not None:
        first = Step(
            "E", "signal that stands for the displayed pH", "E = −k(T) · (pH − 7)",
            (Input("pH", "displayed pH", displayed), Input("T", "sample temperature", at, "°C")),
            millivolts, "mV", "chosen", 1,
        )  # fmt: skip
        steps = (first, *steps[1:])
    return Value(
        "ph", read.value, "", read.budget.expanded if behind.calibration else None,
        millivolts if displayed is None else displayed, "mV" if displayed is None else "pH displayed",
        Working(read.working.title, steps), behind.state, behind.words, behind.calibration,
        findings(visit.site, past, "ph", read.value, now),
    )  # fmt: skip


def standard_u(session: Session, calibration: Calibration | None) -> float:
    """Standard uncertainty of the least certain buffer of the run [pH]."""
    if calibration is None:
        return 0.01
    ids = [uuid.UUID(v) for v in calibration.run.cups.values()]
    expanded = session.scalar(select(func.max(Lot.measures["ph"]["u"].astext.cast(Double))).where(Lot.id.in_(ids)))
    return float(expanded or 0.02) / 2


def _temperature_value(visit: Visit, past: Past, at: float, now: datetime) -> Value:
    working = Working(
        "Temperature as read",
        (
            Step("T", "sample temperature", "as read", (), at, "°C", "reading", 2),
            Step("U", "expanded uncertainty, k = 2", "tolerance of a thermometer", (), THERMOMETER_EXPANDED_C, "°C",
                 "USGS-A6.1", 1),
        ),
    )  # fmt: skip
    return Value(
        "temperature", at, "°C", THERMOMETER_EXPANDED_C, at, "°C", working, "unbacked",
        "unbacked: no check of this thermometer on record", None, findings(visit.site, past, "temperature", at, now),
    )  # fmt: skip


Past = dict[str, list[tuple[float, datetime]]]


def past_values(session: Session, place: Site) -> Past:
    """What this site read before: per quantity (value, time), newest first, failed readings left out."""
    return {
        quantity: [(r.value, r.at) for r in standing(session, place.id, quantity) if r.flag != belief.Flag.FAIL]
        for quantity in ("ph", "temperature")
    }


def findings(place: Site, past: Past, quantity: str, value: float, now: datetime) -> tuple[belief.Finding, ...]:
    """Every test of believability that applies to one value."""
    spec = load_field()[quantity]
    name = "pH" if quantity == "ph" else "Temperature"
    unit = "" if quantity == "ph" else spec.unit
    ranges = place.ranges.get(quantity, {})
    before = past[quantity]
    last = (before[0][0], (now - before[0][1]).total_seconds() / 86400) if before else None
    pair = lambda key: tuple(ranges[key]) if key in ranges else None  # noqa: E731
    return (
        belief.instrument_range(name, value, *spec.instrument, unit),
        belief.site_range(name, value, pair("usual"), pair("gross"), unit),
        belief.history(name, value, [v for v, _ in before], unit, smallest_spread=spec.smallest_spread.value),
        belief.rate_since(name, value, last, unit, per_day=spec.per_day.value, floor=spec.floor.value),
    )


# -- writing


def start_visit(desk: Desk, actor: User, key: uuid.UUID, *, site_id: str, probe_id: str, source: str) -> dict[str, Any]:
    """Open the sheet of a site with a probe, live or typed. Returns {"visit": id}."""
    if source not in ("live", "typed"):
        raise InputError("source", "Readings are live or typed. Choose one of the two.", value=source)
    with desk.write(actor, key, "visit.start") as w:
        if w.done:
            return w.done
        place, probe = site(w.session, site_id), kit.probe(w.session, probe_id)
        if probe.quantity != "ph":
            raise InputError("probe", f"{probe.name} does not measure pH; the sheet of a site takes pH so far.")
        if source == "live" and probe.meter.link == "typed":
            raise InputError("source", f"{probe.meter.name} has no link; type its readings.", value=source)
        made = Visit(
            id=uuid.uuid4(),
            site_id=place.id,
            operator_id=actor.id,
            probe_id=probe.id,
            source=source,
            at=w.now,
        )
        w.session.add(made)
        return w.finish(f"visit:{made.id}", {"site": place.name, "probe": probe.name}, visit=made.id)


def _visit(w: Write, visit_id: str, seen: int | None = None) -> Sheet:
    found = sheet(w.session, visit_id, w.now)
    w.session.execute(select(func.pg_advisory_xact_lock(func.hashtext(str(found.visit.id)))))
    return sheet(w.session, visit_id, w.now, seen)


def dip(desk: Desk, actor: User, key: uuid.UUID, *, visit_id: str) -> dict[str, Any]:
    """The probe is in the water now, for the first time or again."""
    with desk.write(actor, key, "visit.dip") as w:
        if w.done:
            return w.done
        made = _dip(w, _visit(w, visit_id).visit, "mv")
        return w.finish(f"visit:{visit_id}", {"dip": str(made.id)}, dip=made.id)


def _dip(w: Write, visit: Visit, entered: str) -> Dip:
    run = kit.open_run(w.session, visit.probe_id)
    if run:
        raise Refused(f"{visit.probe.name} is on Bench in an open run. Finish or abandon that first.")
    made = Dip(
        id=uuid.uuid4(),
        probe_id=visit.probe_id,
        visit_id=visit.id,
        step="",
        source=visit.source,
        entered=entered,
        started_at=w.now,
    )
    w.session.add(made)
    w.session.flush()
    return made


def type_reading(
    desk: Desk, actor: User, key: uuid.UUID, *, visit_id: str, signal: str, value: float, temperature_c: float,
    after_s: float | None = None,
) -> dict[str, Any]:  # fmt: skip
    """One typed value at the site: mV or displayed pH, with the water's temperature."""
    with desk.write(actor, key, "visit.type") as w:
        if w.done:
            return w.done
        found = _visit(w, visit_id)
        if found.visit.source != "typed":
            raise Refused("This visit takes live readings; start a typed one to type them.")
        own, case = trade("ph"), Case(found.visit.probe)
        if found.dip is None:
            check_typed(own, signal, value, temperature_c, after_s)
        seq = add_typed(w, found.dip or _dip(w, found.visit, signal), own, case, signal, value, temperature_c, after_s)
        return w.finish(f"visit:{visit_id}", {signal: value, "temperature_c": temperature_c}, seq=seq)


def take(
    desk: Desk,
    actor: User,
    key: uuid.UUID,
    *,
    visit_id: str,
    dip_id: str,
    early: bool = False,
    reason: str = "",
    seen: int | None = None,
) -> dict[str, Any]:
    """Keep the readings of the present dip, up to the sample the page had `seen`.

    Odd values need a reason; unsettled ones need `early`.
    """
    with desk.write(actor, key, "visit.take") as w:
        if w.done:
            return w.done
        found = _visit(w, visit_id, seen)
        if found.dip is None or str(found.dip.id) != dip_id:
            raise MovedOn("These readings were taken, or the probe was dipped again, in another window.")
        if found.problem or found.settling is None or not found.values:
            raise Refused(found.problem or "There is no reading to take yet.")
        if not found.settling.settled and not early:
            raise Refused(f"Not settled: {found.settling.sentence} Wait, or take it early; it is recorded as early.")
        reason = clean_reason(reason, required=False)
        if found.questions and not reason:
            raise Refused(f"{found.questions[0].sentence} Repeat it, or say why it may be so.")
        settling = {
            **asdict(found.settling),
            "state": found.settling.state.value,
            "early": not found.settling.settled,
        }
        ids = []
        for value in found.values:
            row = _row(w, found.visit, value, settling, reason)
            row.dip_id, row.entered_as = found.dip.id, "live" if found.dip.source == "live" else "typed"
            w.session.add(row)
            ids.append(str(row.id))
        detail = {"readings": {v.quantity: v.value for v in found.values}, "reason": reason}
        return w.finish(f"visit:{visit_id}", detail, readings=ids)


def _row(w: Write, visit: Visit, value: Value, settling: dict[str, Any], reason: str) -> Reading:
    made = uuid.uuid4()
    return Reading(
        id=made, root_id=made, version=1, visit_id=visit.id, site_id=visit.site_id, quantity=value.quantity,
        at=w.now, calibration_id=value.calibration.id if value.calibration else None, backing=value.backing,
        backing_words=value.backing_words, raw=value.raw, raw_unit=value.raw_unit,
        temperature_c=_temperature_of(value), value=value.value, unit=value.unit,
        expanded_uncertainty=value.expanded, working=value.working.as_dict(), settling=settling,
        findings=[{**asdict(f), "flag": int(f.flag)} for f in value.findings],
        flag=int(belief.worst_flag(value.findings)), reason=reason, by_id=w.actor.id, written_at=w.now,
    )  # fmt: skip


def _temperature_of(value: Value) -> float:
    if value.quantity == "temperature":
        return value.value
    return next(i.value for s in value.working.steps for i in s.inputs if i.symbol == "T")


def correct(
    desk: Desk,
    actor: User,
    key: uuid.UUID,
    *,
    reading_id: str,
    version: int,
    raw: float,
    temperature_c: float,
    reason: str,
) -> dict[str, Any]:
    """A typing slip put right: a new version, worked out afresh, with its reason. The old one stays."""
    with desk.write(actor, key, "reading.correct") as w:
        if w.done:
            return w.done
        old = reading(w.session, reading_id)
        w.session.execute(select(func.pg_advisory_xact_lock(func.hashtext(str(old.root_id)))))
        newest = w.session.scalar(select(func.max(Reading.version)).where(Reading.root_id == old.root_id)) or 0
        if old.version != version or newest != version:
            raise MovedOn("This reading has a newer version. You now see it; nothing was changed.")
        if old.quantity != "ph" or old.entered_as != "typed":
            raise Refused("Only a typed pH reading can have its typing corrected.")
        why = clean_reason(reason)
        door = Door()
        door.number("millivolts" if old.raw_unit == "mV" else "displayed_ph", raw, *_raw_range(old.raw_unit))
        door.number("temperature_c", temperature_c, -5, 100)
        door.close()
        behind = _backing_then(old)
        displayed = None if old.raw_unit == "mV" else raw
        millivolts = raw if displayed is None else ph.pseudo_millivolts(raw, temperature_c)
        past = {
            q: [(v, t) for v, t in rows if t < old.at] for q, rows in past_values(w.session, old.visit.site).items()
        }
        u = standard_u(w.session, behind.calibration)
        value = _ph_value(old.visit, behind, u, past, millivolts, temperature_c, displayed, old.at)
        row = _row(w, old.visit, value, old.settling, why)
        row.root_id, row.version, row.at, row.dip_id = old.root_id, old.version + 1, old.at, old.dip_id
        row.entered_as = "typed"
        w.session.add(row)
        return w.finish(f"reading:{old.root_id}", {"from": old.value, "to": row.value, "reason": why}, reading=row.id)


def _raw_range(unit: str) -> tuple[float, float]:
    return (-2000.0, 2000.0) if unit == "mV" else (-2.0, 16.0)


def _backing_then(old: Reading) -> Backing:
    """The backing the first version had; a later calibration does not change what was read."""
    kept = old.calibration
    fit = ph.Calibration.from_dict(kept.fit) if kept else ph.fit([ph.BufferPoint(0.0, 25.0, 7.0)])
    return Backing(fit, kept, old.backing, old.backing_words)


def reading(session: Session, reading_id: str | uuid.UUID) -> Reading:
    """One version of a reading by id; the front door for everything that names a reading."""
    found = session.get(Reading, object_id(reading_id, "reading"))
    if found is None:
        raise NotFound("There is no such reading.")
    return found


def of_visit(session: Session, visit_id: uuid.UUID) -> list[Reading]:
    """The readings kept in a visit, standing versions, oldest first."""
    rows = session.scalars(select(Reading).where(Reading.visit_id == visit_id).order_by(Reading.version))
    newest = {r.root_id: r for r in rows}
    return sorted(newest.values(), key=lambda r: r.at)
