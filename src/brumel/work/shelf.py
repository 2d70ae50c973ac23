"""Solutions and upkeep: adding, opening and discarding a lot; what was done to a probe; what is due."""

from __future__ import annotations

import re
import uuid
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.checking import Door
from brumel.core.errors import InputError, InputErrors, OutOfRange
from brumel.core.lookup import label_rows
from brumel.core.redox import ELECTRODES
from brumel.methods.upkeep import UpkeepSpec, kinds_of
from brumel.store.tables import Lot, Probe, Upkeep, User
from brumel.work import kit, solutions, trusting
from brumel.work.desk import Desk, NotAllowed, NotFound, Refused, Write, object_id
from brumel.work.reasons import clean_reason

_CODE = re.compile(r"^[A-Za-z0-9][A-Za-z0-9._/-]{0,29}$")
_LABEL_LINE = re.compile(r"^\s*(-?\d+(?:[.,]\d+)?)\s*(?:°C)?\s*[:;=\t ]\s*(\d+(?:[.,]\d+)?)\s*$", re.ASCII)
LONGEST_WAIT_H = 24 * 14
CONTAINERS = {
    "bottle": "bottle", "sachet": "sachet, for a single use", "tablet": "made from a tablet, for a single use",
    "made": "made up here",
}  # fmt: skip
SINGLE_USE = ("sachet", "tablet")


@dataclass(frozen=True)
class NewMeasure:
    """What a lot is a standard of, as it was typed: `label` holds lines of "temperature: value", empty for the table's."""

    quantity: str
    family: str = ""
    label: str = ""
    expanded_uncertainty: float | None = None
    basis: str = ""
    against: str = ""
    strength: float | None = None


@dataclass(frozen=True)
class NewLot:
    """A lot as it was typed; a combined solution measures two things."""

    code: str
    name: str
    measures: tuple[NewMeasure, ...]
    expires_on: str
    open_days: float | None
    container: str


def _label(new: NewMeasure, faults: list[InputError]) -> dict[str, float] | None:
    lines = [line for line in new.label.replace("\r", "").split("\n") if line.strip()]
    if not lines:
        return None
    what = {"ph": "a pH"}.get(new.quantity, "a value")
    unit, low, high = solutions.LABELS[new.quantity]
    before = len(faults)
    found: dict[float, float] = {}
    for number, line in enumerate(lines[:40], 1):
        match = _LABEL_LINE.match(line)
        if not match:
            faults.append(InputError("label", f"Label, line {number}: “{line[:30]}” is not a temperature and {what}."))
            continue
        t, value = (float(part.replace(",", ".")) for part in match.groups())
        if t in found:
            faults.append(InputError("label", f"Label, line {number}: {t:g} °C stands twice."))
        found[t] = value
    if found and len(faults) == before:
        field = {"ph": "ph", "conductivity": "conductivity_us_cm"}.get(new.quantity, "value")
        try:
            label_rows(found, field, low, high, solutions.ALONE_C[new.quantity], Door())
        except InputError as error:
            faults += error.faults
    return {f"{t:g}": value for t, value in sorted(found.items())}


def _measure(new: NewMeasure, faults: list[InputError]) -> dict[str, Any]:
    """One measure of a lot, checked; faults are added to the list."""
    if new.quantity not in solutions.LABELS:
        faults.append(InputError("quantity", "Choose what the solution is a standard of.", value=new.quantity))
        return {}
    label = _label(new, faults)
    families = solutions.families(new.quantity)
    if label is None and new.family not in families:
        words = "the buffer's table" if new.quantity == "ph" else "a table of the list"
        faults.append(InputError("family", f"Choose {words}, or type the label of the lot."))
    unit, _ = solutions.UNCERTAINTY[new.quantity]
    low, high = {"pH": (0.001, 0.2), "%": (0.05, 20.0), "mV": (0.5, 50.0), "mg/L": (0.001, 1.0)}[unit]
    u = new.expanded_uncertainty
    if u is None or not low <= u <= high:
        faults.append(OutOfRange("expanded_uncertainty", u or 0.0, low, high, unit))
    if new.quantity in ("nitrate", "ammonium"):
        if new.basis not in ("activity", "concentration"):
            faults.append(InputError("basis", "Say whether the label states activity or concentration, as N."))
        if new.strength is not None and not 0 < new.strength <= 0.5:
            faults.append(OutOfRange("ionic_strength_mol_l", new.strength, 0, 0.5))
    if new.quantity == "redox" and label is not None and new.against not in ELECTRODES:
        faults.append(InputError("electrode", "Say against which reference electrode the label states its value."))
    found: dict[str, Any] = {"family": new.family if new.family in families else "label", "label": label, "u": u}
    extra = {"basis": new.basis, "against": new.against, "strength": new.strength}
    return found | {k: v for k, v in extra.items() if v}


def add_lot(desk: Desk, actor: User, key: uuid.UUID, new: NewLot) -> dict[str, Any]:
    """Put a new lot on the shelf. All faults at once. Returns {"lot": id}."""
    with desk.write(actor, key, "lot.add") as w:
        if w.done:
            return w.done
        faults: list[InputError] = []
        code, name = new.code.strip(), " ".join(new.name.split())
        if not _CODE.match(code):
            faults.append(InputError("code", "Lot code takes letters, digits, . _ / and -, at most 30."))
        elif w.session.scalar(select(Lot.id).where(Lot.code == code)):
            faults.append(InputError("code", f"Lot code “{code}” is on the shelf already."))
        if not 2 <= len(name) <= 60:
            faults.append(InputError("name", "Name must have 2 to 60 characters."))
        if not new.measures:
            faults.append(InputError("quantity", "Choose what the solution is a standard of."))
        measures = {m.quantity: _measure(m, faults) for m in new.measures}
        if new.open_days is None or not 1 <= new.open_days <= 730 or new.open_days != int(new.open_days):
            faults.append(InputError("open_days", "Days it keeps once open must be a whole number from 1 to 730."))
        if new.container not in CONTAINERS:
            faults.append(InputError("container", "Choose the container from the list."))
        expires = _day(new.expires_on, faults)
        if faults:
            raise faults[0] if len(faults) == 1 else InputErrors(faults)
        lot = Lot(
            id=uuid.uuid4(), code=code, name=name, measures=measures, container=new.container, expires_on=expires,
            open_days=int(new.open_days or 0), single_use=new.container in SINGLE_USE,
        )  # fmt: skip
        w.session.add(lot)
        w.session.flush()
        return w.finish(f"lot:{lot.id}", {"code": code, "name": name, "measures": measures}, lot=lot.id)


def _day(text: str, faults: list[InputError]) -> datetime | None:
    try:
        found = datetime.strptime(text.strip(), "%Y-%m-%d").replace(tzinfo=UTC) + timedelta(days=1, seconds=-1)
    except ValueError:
        faults.append(InputError("expires_on", f"Expiry “{text[:20]}” is not a date like 2027-05-31."))
        return None
    if not 2000 <= found.year <= 2100:
        faults.append(InputError("expires_on", f"Expiry {found.year} is not a year between 2000 and 2100."))
    return found


def _lot(session: Session, lot_id: str) -> Lot:
    found = session.get(Lot, object_id(lot_id, "solution"))
    if found is None:
        raise NotFound("There is no such solution.")
    return found


def open_lot(desk: Desk, actor: User, key: uuid.UUID, *, lot_id: str) -> dict[str, Any]:
    """The bottle was opened now; its open life starts."""
    with desk.write(actor, key, "lot.open") as w:
        if w.done:
            return w.done
        lot = _lot(w.session, lot_id)
        if lot.opened_at or lot.discarded_at:
            raise Refused(f"{lot.code} is {'discarded' if lot.discarded_at else 'open'} already.")
        lot.opened_at = w.now
        return w.finish(f"lot:{lot.id}", {"code": lot.code}, lot=lot.id)


def discard_lot(desk: Desk, actor: User, key: uuid.UUID, *, lot_id: str, reason: str) -> dict[str, Any]:
    """The lot is poured away, as local rules say; runs that used it keep it in their record."""
    with desk.write(actor, key, "lot.discard") as w:
        if w.done:
            return w.done
        lot, why = _lot(w.session, lot_id), clean_reason(reason)
        if lot.discarded_at:
            raise Refused(f"{lot.code} is discarded already.")
        lot.discarded_at = w.now
        return w.finish(f"lot:{lot.id}", {"code": lot.code, "reason": why}, lot=lot.id)


# -- upkeep


def kinds(probe: Probe) -> Mapping[str, UpkeepSpec]:
    """What can be done to a probe of this quantity and kind."""
    return kinds_of(probe.quantity, probe.kind)


def wait_h(probe: Probe, what: str) -> float:
    """The wait an upkeep starts: the probe's own, from its manual, else the default of its kind [h]."""
    return float(probe.waits.get(what, kinds(probe)[what].wait_for(probe.kind)))


def interval_days(probe: Probe, what: str) -> int | None:
    """How often it is due: the probe's own interval, else the default; None or 0 where only on need [d]."""
    own = probe.intervals.get(what)
    return (int(own) or None) if own is not None else kinds(probe)[what].every_days


def record(
    desk: Desk, actor: User, key: uuid.UUID, *, probe_id: str, what: str, note: str = "", fresh: bool = True
) -> dict[str, Any]:
    """Something was done to the probe just now; the wait it needs starts. The calibration before it no longer holds.

    `fresh` says that a part which must be new (a membrane, a tip) is new.
    """
    with desk.write(actor, key, "probe.upkeep") as w:
        if w.done:
            return w.done
        probe = kit.probe(w.session, probe_id)
        if what not in kinds(probe):
            raise InputError("what", "Choose what was done from the list.", value=what)
        if kit.open_run(w.session, probe.id):
            raise Refused(f"{probe.name} is on Bench in an open run. Finish or abandon that first.")
        spec = kinds(probe)[what]
        if spec.fresh and not fresh:
            raise Refused(f"Say that it is a new {spec.fresh}: a used one must not go on again.")
        note = clean_reason(note, required=False)
        ready = _done(w, probe, what, note)
        return w.finish(f"probe:{probe.id}", {"what": what, "ready": ready.isoformat(), "note": note}, probe=probe.id)


def _done(w: Write, probe: Probe, what: str, note: str) -> datetime:
    ready = w.now + timedelta(hours=wait_h(probe, what))
    w.session.add(Upkeep(probe_id=probe.id, what=what, at=w.now, ready_at=ready, note=note, by_id=w.actor.id))
    return ready


def battery(desk: Desk, actor: User, key: uuid.UUID, *, meter_id: str, note: str) -> dict[str, Any]:
    """The meter's battery was changed: every probe that lost its polarising voltage starts its wait."""
    with desk.write(actor, key, "meter.battery") as w:
        if w.done:
            return w.done
        meter = kit.meter(w.session, meter_id)
        words = clean_reason(note)
        meter.battery = f"{words} ({w.now:%d %b %Y})"
        waiting = []
        on_it = select(Probe).where(Probe.meter_id == meter.id, Probe.retired_at.is_(None))
        for probe in w.session.scalars(on_it):
            if "power" in kinds(probe) and wait_h(probe, "power") > 0:
                _done(w, probe, "power", "battery of the meter changed")
                waiting.append(probe.name)
        return w.finish(f"meter:{meter.id}", {"note": words, "waiting": waiting}, meter=meter.id, waiting=waiting)


def set_interval(
    desk: Desk, actor: User, key: uuid.UUID, *, probe_id: str, what: str, days: float | None, reason: str
) -> dict[str, Any]:
    """How often an upkeep of this probe is due [d]; None goes back to the default, 0 is never. For the lead."""

    def check() -> None:
        if days is not None and (not 0 <= days <= 3650 or days != int(days)):
            raise OutOfRange("days", days, 0, 3650, "d")

    return _set_own(desk, actor, key, probe_id, "intervals", what, days, check, reason)


def set_wait(
    desk: Desk, actor: User, key: uuid.UUID, *, probe_id: str, what: str, hours: float | None, reason: str
) -> dict[str, Any]:
    """A wait of the probe's own, as its manual says [h]; None goes back to the default. For the lead."""

    def check() -> None:
        if hours is not None and not 0 <= hours <= LONGEST_WAIT_H:
            raise OutOfRange("hours", hours, 0, LONGEST_WAIT_H, "h")

    return _set_own(desk, actor, key, probe_id, "waits", what, hours, check, reason)


def _set_own(
    desk: Desk, actor: User, key: uuid.UUID, probe_id: str, field: str, what: str, value: float | None,
    check: Callable[[], None], reason: str,
) -> dict[str, Any]:  # fmt: skip
    """Set one entry of the probe's own record, or take it out again."""
    if actor.role != "lead":
        raise NotAllowed(f"{field.capitalize()} of a probe are set by the lead.")
    with desk.write(actor, key, f"probe.{field.removesuffix('s')}") as w:
        if w.done:
            return w.done
        probe = kit.probe(w.session, probe_id)
        if what not in kinds(probe):
            raise InputError("what", "Choose which upkeep from the list.", value=what)
        check()
        why = clean_reason(reason)
        others = {k: v for k, v in getattr(probe, field).items() if k != what}
        setattr(probe, field, others if value is None else {**others, what: value})
        return w.finish(f"probe:{probe.id}", {"what": what, field: value, "reason": why}, probe=probe.id)


def history(session: Session, probe_id: uuid.UUID, count: int = 20) -> list[Upkeep]:
    """What was done to a probe, newest first."""
    query = select(Upkeep).where(Upkeep.probe_id == probe_id).order_by(Upkeep.at.desc()).limit(count)
    return list(session.scalars(query))


# -- the calendar


@dataclass(frozen=True)
class Due:
    """Something that falls due: a stable key, what, of which thing, when, and where to go."""

    key: str
    what: str
    subject: str
    at: datetime
    probe_id: uuid.UUID | None = None

    def overdue(self, now: datetime) -> bool:
        return self.at < now


def due(session: Session, now: datetime) -> list[Due]:
    """Everything that falls due: calibrations, waits that end, upkeep, solutions; the earliest first."""
    found: list[Due] = []
    for probe in kit.probes(session):
        newest = kit.latest_calibration(session, probe.id, now)
        waiting = trusting.conditioning(session, probe, now)
        if waiting:
            found.append(Due(f"ready-{waiting.done.id}", "ready to calibrate", probe.name, waiting.ready_at, probe.id))
        elif newest and newest.usable:
            found.append(Due(f"calibrate-{newest.id}", "calibrate again", probe.name, newest.valid_until, probe.id))
        done = history(session, probe.id, 200)
        for what, spec in kinds(probe).items():
            if every := interval_days(probe, what):
                last = next((d.at for d in done if d.what == what), probe.in_service)
                at = last + timedelta(days=every)
                found.append(
                    Due(f"{what}-{probe.id}-{last:%Y%m%d}", f"due to be {spec.words}", probe.name, at, probe.id)
                )
    for view in kit.lots(session, now):
        lot = view.lot
        ends = [lot.expires_on] + ([lot.opened_at + timedelta(days=lot.open_days)] if lot.opened_at else [])
        found.append(Due(f"lot-{lot.id}", "replace the solution", f"{lot.code}, {lot.name}", min(ends)))
    return sorted(found, key=lambda d: (d.at, d.subject))
