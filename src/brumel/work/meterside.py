"""Meters and probes as things with a life: added, moved, put away; a meter's settings taken down; a probe looked over."""

from __future__ import annotations

import hashlib
import re
import secrets
import uuid
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select

from brumel.core import meter_settings
from brumel.core.checking import Door
from brumel.core.errors import InputError, InputErrors
from brumel.core.redox import ELECTRODES
from brumel.methods import ORDER
from brumel.methods.inspection import Finding, items_for
from brumel.methods.model import LIMITS, BandSpec, Limit
from brumel.store.tables import Fitting, Inspection, Meter, Probe, Snapshot, User
from brumel.work import kit, practices
from brumel.work.desk import Desk, NotAllowed, Refused, Write
from brumel.work.reasons import clean_reason

LINKS = {"typed": "no link, readings are typed", "sdi12": "a link (SDI-12)", "simulated": "simulated, inside Brumel"}
KINDS: dict[str, tuple[str, ...]] = {
    "temperature": ("thermistor", "platinum resistance"), "ph": ("refillable", "gel"),
    "conductivity": ("two-electrode", "four-electrode", "inductive"), "redox": ("refillable", "gel"),
    "oxygen": ("polarographic", "galvanic", "optical"), "nitrate": ("membrane tip",), "ammonium": ("membrane tip",),
    "chlorine": ("membrane tip", "bare electrode"),
}  # fmt: skip
_SERIAL = re.compile(r"^[A-Za-z0-9][A-Za-z0-9._/ -]{0,39}$")


@dataclass(frozen=True)
class MeterForm:
    """A meter as it was typed."""

    name: str
    serial: str
    link: str
    description: str = ""
    firmware: str = ""


@dataclass(frozen=True)
class ProbeForm:
    """A probe as it was typed; `nominal` is a cell's constant [1/cm], `cable_m` its cable [m]."""

    name: str
    serial: str
    quantity: str
    meter_id: str
    kind: str = ""
    cable_m: float | None = None
    nominal: float | None = None
    reference_electrode: str = ""
    storage: str = ""
    address: str = ""
    note: str = ""


def _words(field: str, label: str, text: str, low: int, high: int, faults: list[InputError]) -> str:
    clean = " ".join(text.replace("\x00", "").split())
    if not low <= len(clean) <= high:
        faults.append(InputError(field, f"{label} must have {low} to {high} characters."))
    return clean


def _raise(faults: list[InputError]) -> None:
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)


def _meter(w: Write, given: MeterForm, own: uuid.UUID | None) -> dict[str, str]:
    faults: list[InputError] = []
    found = {
        "name": _words("name", "Name", given.name, 2, 40, faults), "serial": given.serial.strip(), "link": given.link,
        "description": _words("description", "Description", given.description, 0, 200, faults),
        "firmware": _words("firmware", "Firmware", given.firmware, 0, 30, faults),
    }  # fmt: skip
    if not _SERIAL.match(found["serial"]):
        faults.append(InputError("serial", "Serial takes letters, digits, blanks, . _ / and -, at most 40."))
    if given.link not in LINKS:
        faults.append(InputError("link", "Say how its readings come: typed, or by a link."))
    twin = select(Meter.id).where(Meter.name == found["name"], Meter.retired_at.is_(None))
    if w.session.scalar(twin if own is None else twin.where(Meter.id != own)):
        faults.append(InputError("name", f"There is a meter “{found['name']}” already."))
    _raise(faults)
    return found


def save_meter(desk: Desk, actor: User, key: uuid.UUID, given: MeterForm, meter_id: str = "") -> dict[str, Any]:
    """Add a meter, or change the record of one. All faults at once. Returns {"meter": id}."""
    with desk.write(actor, key, "meter.save") as w:
        if w.done:
            return w.done
        found = kit.meter(w.session, meter_id) if meter_id else None
        values = _meter(w, given, found.id if found else None)
        if found is None:
            found = Meter(id=uuid.uuid4(), **values)
            w.session.add(found)
            w.session.flush()
        else:
            for name, value in values.items():
                setattr(found, name, value)
        return w.finish(f"meter:{found.id}", dict(values), meter=found.id)


def retire_meter(desk: Desk, actor: User, key: uuid.UUID, *, meter_id: str, reason: str) -> dict[str, Any]:
    """Put a meter away for good; its record stays. Probes must be moved or retired first."""
    with desk.write(actor, key, "meter.retire") as w:
        if w.done:
            return w.done
        found, why = kit.meter(w.session, meter_id), clean_reason(reason)
        if w.session.scalar(select(Probe.id).where(Probe.meter_id == found.id, Probe.retired_at.is_(None)).limit(1)):
            raise Refused(f"{found.name} still has probes. Move or retire them first.")
        found.retired_at = w.now
        return w.finish(f"meter:{found.id}", {"reason": why}, meter=found.id)


def new_token(desk: Desk, actor: User, key: uuid.UUID, *, meter_id: str) -> dict[str, Any]:
    """A fresh token for the link program of a meter; shown once, only its hash is kept. For the lead."""
    if actor.role != "lead":
        raise NotAllowed("Link tokens are made by the lead.")
    with desk.write(actor, key, "meter.token") as w:
        if w.done:
            return {**w.done, "token": ""}
        found = kit.meter(w.session, meter_id)
        if found.link != "sdi12":
            raise Refused(f"{found.name} has no link. Set it to “a link” first.")
        token = secrets.token_urlsafe(24)
        found.token_hash = token_hash(token)
        return {**w.finish(f"meter:{found.id}", {}, meter=found.id), "token": token}


def token_hash(token: str) -> str:
    """What is kept of a token: it is long and random, so a plain hash will do."""
    return hashlib.sha256(token.encode()).hexdigest()


# -- probes


def _probe(w: Write, given: ProbeForm, own: Probe | None) -> dict[str, Any]:
    faults: list[InputError] = []
    quantity = own.quantity if own else given.quantity
    name = _words("name", "Name", given.name, 2, 40, faults)
    if quantity not in ORDER:
        faults.append(InputError("quantity", "Choose what the probe measures."))
    elif given.kind not in KINDS[quantity]:
        faults.append(InputError("kind", f"Choose its kind: {', '.join(KINDS[quantity])}."))
    if not _SERIAL.match(given.serial.strip()):
        faults.append(InputError("serial", "Serial takes letters, digits, blanks, . _ / and -, at most 40."))
    twin = select(Probe.id).where(Probe.name == name, Probe.retired_at.is_(None))
    if w.session.scalar(twin if own is None else twin.where(Probe.id != own.id)):
        faults.append(InputError("name", f"There is a probe “{name}” already."))
    door = Door()
    if given.cable_m is not None:
        door.number("cable", given.cable_m, 0, 300)
    if quantity == "conductivity":
        if given.nominal is None:
            faults.append(InputError("nominal", "Nominal cell constant must be given for a conductivity cell."))
        else:
            door.number("nominal cell constant", given.nominal, 0.005, 20)
    if quantity == "redox" and given.reference_electrode not in ELECTRODES:
        faults.append(InputError("electrode", "Name the reference electrode of the ORP probe."))
    if given.address and not re.fullmatch(r"[0-9A-Za-z]", given.address):
        faults.append(InputError("address", "Address on the link is one letter or digit."))
    _raise([*faults, *door.faults])
    return {
        "name": name, "serial": given.serial.strip(), "kind": given.kind, "cable_m": given.cable_m,
        "nominal": given.nominal if quantity == "conductivity" else None,
        "reference_electrode": given.reference_electrode if quantity == "redox" else "",
        "storage": _words("storage", "Stowing", given.storage, 0, 300, faults), "address": given.address,
        "note": _words("note", "Note", given.note, 0, 300, faults),
    }  # fmt: skip


def _free_address(w: Write, meter: Meter, address: str, own: uuid.UUID | None) -> None:
    query = select(Probe.name).where(Probe.meter_id == meter.id, Probe.address == address, Probe.retired_at.is_(None))
    if own is not None:
        query = query.where(Probe.id != own)
    taken = w.session.scalar(query) if address else None
    if taken:
        raise InputError("address", f"Address “{address}” on {meter.name} belongs to {taken} already.")


def save_probe(desk: Desk, actor: User, key: uuid.UUID, given: ProbeForm, probe_id: str = "") -> dict[str, Any]:
    """Add a probe, or change the record of one; what it measures stays. All faults at once. Returns {"probe": id}."""
    with desk.write(actor, key, "probe.save") as w:
        if w.done:
            return w.done
        found = kit.probe(w.session, probe_id) if probe_id else None
        values = _probe(w, given, found)
        meter = found.meter if found else kit.meter(w.session, given.meter_id)
        _free_address(w, meter, values["address"], found.id if found else None)
        if found is None:
            found = Probe(
                id=uuid.uuid4(), meter_id=meter.id, quantity=given.quantity, in_service=w.now, waits={}, intervals={},
                limits={}, **values,
            )  # fmt: skip
            w.session.add(found)
            w.session.flush()
            w.session.add(
                Fitting(probe_id=found.id, meter_id=meter.id, at=w.now, reason="put in service", by_id=actor.id)
            )
        else:
            if kit.open_run(w.session, found.id):
                raise Refused(f"{found.name} is on Bench in an open run. Finish or abandon that first.")
            for name, value in values.items():
                setattr(found, name, value)
        return w.finish(f"probe:{found.id}", values, probe=found.id)


def move_probe(
    desk: Desk, actor: User, key: uuid.UUID, *, probe_id: str, meter_id: str, address: str, reason: str
) -> dict[str, Any]:
    """Fit the probe to another meter: its calibration was made with the old one and no longer counts."""
    with desk.write(actor, key, "probe.move") as w:
        if w.done:
            return w.done
        found, to, why = kit.probe(w.session, probe_id), kit.meter(w.session, meter_id), clean_reason(reason)
        if found.retired_at or to.retired_at:
            raise Refused("What is retired cannot be fitted.")
        if kit.open_run(w.session, found.id):
            raise Refused(f"{found.name} is on Bench in an open run. Finish or abandon that first.")
        if to.id == found.meter_id:
            raise Refused(f"{found.name} is on {to.name} already.")
        address = address.strip()
        if address and not re.fullmatch(r"[0-9A-Za-z]", address):
            raise InputError("address", "Address on the link is one letter or digit.")
        _free_address(w, to, address, found.id)
        w.session.add(Fitting(probe_id=found.id, meter_id=to.id, at=w.now, reason=why, by_id=actor.id))
        detail = {"from": found.meter.name, "to": to.name, "reason": why}
        found.meter_id, found.address = to.id, address
        return w.finish(f"probe:{found.id}", detail, probe=found.id)


def retire_probe(desk: Desk, actor: User, key: uuid.UUID, *, probe_id: str, reason: str) -> dict[str, Any]:
    """Throw a probe away, or put it away for good; its record stays. For the lead."""
    if actor.role != "lead":
        raise NotAllowed("A probe is retired by the lead.")
    with desk.write(actor, key, "probe.retire") as w:
        if w.done:
            return w.done
        found, why = kit.probe(w.session, probe_id), clean_reason(reason)
        if found.retired_at:
            raise Refused(f"{found.name} is retired already.")
        if kit.open_run(w.session, found.id):
            raise Refused(f"{found.name} is on Bench in an open run. Finish or abandon that first.")
        found.retired_at = w.now
        return w.finish(f"probe:{found.id}", {"reason": why}, probe=found.id)


def set_limit(
    desk: Desk, actor: User, key: uuid.UUID, *, probe_id: str, name: str, numbers: Mapping[str, float | None], source: str,
    reason: str,
) -> dict[str, Any]:  # fmt: skip
    """A limit of the probe's own, as its manual says; without numbers it goes back to the method's. For the lead.

    `numbers` holds "value", or "fit_low", "fit_high", "care_low", "care_high".
    """
    if actor.role != "lead":
        raise NotAllowed("Limits of a probe are set by the lead.")
    with desk.write(actor, key, "probe.limit") as w:
        if w.done:
            return w.done
        probe = kit.probe(w.session, probe_id)
        bands, singles = LIMITS[probe.quantity]
        if name not in bands | singles:
            raise InputError("limit", "Choose which limit from the list.", value=name)
        why = clean_reason(reason)
        others = {k: v for k, v in probe.limits.items() if k != name}
        given = {k: v for k, v in numbers.items() if v is not None}
        if given:
            unit = practices.default_for(w.session, probe).limits[name].unit
            others[name] = _limit(name in bands, given, unit, source)
        probe.limits = others
        return w.finish(f"probe:{probe.id}", {"limit": name, "own": others.get(name), "reason": why}, probe=probe.id)


def _limit(is_band: bool, given: Mapping[str, float], unit: str, source: str) -> dict[str, Any]:
    source = " ".join(source.split())[:120]
    if len(source) < 3:
        raise InputError("source", "Source must say who states this limit, as “its manual, page 12”.")
    if not is_band:
        if "value" not in given or given["value"] <= 0:
            raise InputError("value", "Limit must be one number above 0.")
        return Limit(value=given["value"], unit=unit, source=source).model_dump(mode="json")
    needed = ("fit_low", "fit_high", "care_low", "care_high")
    if any(n not in given for n in needed):
        raise InputError("limit", "A limit of two widths needs all four numbers: fit and with care, low and high.")
    fit, care = (given["fit_low"], given["fit_high"]), (given["care_low"], given["care_high"])
    if not care[0] <= fit[0] < fit[1] <= care[1]:
        raise InputError("limit", "The limits of “fit” must lie inside those of “with care”, low before high.")
    return BandSpec(fit=fit, care=care, unit=unit, source=source).model_dump(mode="json")


# -- settings and looking over


def take_settings(
    desk: Desk, actor: User, key: uuid.UUID, *, meter_id: str, settings: Mapping[str, Any], reason: str
) -> dict[str, Any]:
    """Take down a meter's settings. A change since last time must be acknowledged with a reason."""
    with desk.write(actor, key, "meter.settings") as w:
        if w.done:
            return w.done
        meter = kit.meter(w.session, meter_id)
        found = meter_settings.checked(settings)
        last = kit.last_snapshot(w.session, meter.id)
        changed = meter_settings.changes(last.settings, found) if last else ()
        why = clean_reason(reason, required=False)
        if changed and len(why) < 3:
            raise Refused(
                "Settings changed since last time: "
                + " ".join(c.sentence for c in changed)
                + " Say why, so that it is known."
            )
        made = Snapshot(
            id=uuid.uuid4(), meter_id=meter.id, at=w.now, settings=found, changes=[c.sentence for c in changed], reason=why,
            by_id=actor.id,
        )  # fmt: skip
        w.session.add(made)
        return w.finish(f"meter:{meter.id}", {"changes": made.changes, "reason": why}, snapshot=made.id)


def inspect(
    desk: Desk, actor: User, key: uuid.UUID, *, probe_id: str, seen: Mapping[str, str], note: str = ""
) -> dict[str, Any]:
    """Looked the probe over: every item needs an answer, "good" or one of its findings."""
    with desk.write(actor, key, "probe.inspect") as w:
        if w.done:
            return w.done
        probe = kit.probe(w.session, probe_id)
        faults: list[InputError] = []
        found: dict[str, str] = {}
        for item in items_for(probe.quantity, probe.kind):
            answer = seen.get(item.key, "")
            if answer != "good" and answer not in {f.key for f in item.findings}:
                faults.append(InputError(item.key, f"{item.question} Choose what you see."))
            found[item.key] = answer
        _raise(faults)
        blocking = [f.words for f in findings(probe, found) if f.blocks]
        note = clean_reason(note, required=False) or ", ".join(blocking)
        made = Inspection(
            id=uuid.uuid4(),
            probe_id=probe.id,
            at=w.now,
            findings=found,
            blocks=bool(blocking),
            note=note,
            by_id=actor.id,
        )
        w.session.add(made)
        return w.finish(f"probe:{probe.id}", {"findings": found, "blocks": bool(blocking)}, inspection=made.id)


def findings(probe: Probe, seen: Mapping[str, str]) -> tuple[Finding, ...]:
    """What was found that is not good, with its remedy."""
    return tuple(
        f for item in items_for(probe.quantity, probe.kind) for f in item.findings if seen.get(item.key) == f.key
    )
