"""The record of a probe: added, changed, moved, retired, its own limits."""

from __future__ import annotations

import re
import uuid
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func, select

from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.core.quantity_table import MEASURED
from brumel.core.redox import ELECTRODES
from brumel.methods import ORDER
from brumel.methods.model import BandSpec, Limit
from brumel.store.tables import Meter, Probe, ProbeInstallation
from brumel.work.desk import MovedOn, NotAllowed, Refused, Write, Written, clean_reason, writes
from brumel.work.kit import meters, methods, probes
from brumel.work.kit.meters import SERIAL, clean_words, raise_faults

#: What a chlorine tip may measure; it belongs to the tip, to the method and to every value.
MEASURES = ("free", "total")
KINDS = {key: row.probe_kinds for key, row in MEASURED.items()}


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
    measures: str = ""


# -- probes


def _probe(w: Write, given: ProbeForm, probe: Probe | None) -> dict[str, Any]:
    faults: list[InputError] = []
    quantity = probe.quantity if probe else given.quantity
    name = clean_words("name", "Name", given.name, 2, 40, faults)
    if quantity not in ORDER:
        faults.append(InputError("quantity", "Choose what the probe measures."))
    elif given.kind not in KINDS[quantity]:
        faults.append(InputError("kind", f"Choose its kind: {', '.join(KINDS[quantity])}."))
    if not SERIAL.match(given.serial.strip()):
        faults.append(InputError("serial", "Serial takes letters, digits, blanks, . _ / and -, at most 40."))
    twin = select(Probe.id).where(Probe.name == name, Probe.retired_at.is_(None))
    if w.session.scalar(twin if probe is None else twin.where(Probe.id != probe.id)):
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
    if quantity == "chlorine" and given.measures not in MEASURES:
        faults.append(InputError("measures", "Say whether the tip measures free or total chlorine."))
    if given.address and not re.fullmatch(r"[0-9A-Za-z]", given.address):
        faults.append(InputError("address", "Address on the link is one letter or digit."))
    raise_faults([*faults, *door.faults])
    return {
        "name": name,
        "serial": given.serial.strip(),
        "kind": given.kind,
        "cable_m": given.cable_m,
        "nominal": given.nominal if quantity == "conductivity" else None,
        "reference_electrode": given.reference_electrode if quantity == "redox" else "",
        "storage": clean_words("storage", "Stowing", given.storage, 0, 300, faults),
        "address": given.address,
        "measures": given.measures if quantity == "chlorine" else "",
        "note": clean_words("note", "Note", given.note, 0, 300, faults),
    }


def _free_address(w: Write, meter: Meter, address: str, probe_id: uuid.UUID | None, signal: int = 1) -> None:
    # Several probes may share an address: each has another of its values for a signal.
    query = select(Probe.name).where(Probe.meter_id == meter.id, Probe.address == address, Probe.retired_at.is_(None))
    query = query.where(func.coalesce(Probe.link_values["signal"].as_integer(), 1) == signal)
    if probe_id is not None:
        query = query.where(Probe.id != probe_id)
    taken = w.session.scalar(query) if address else None
    if taken:
        raise InputError("address", f"Address “{address}” on {meter.name} belongs to {taken} already.")


@writes("probe.save", Written)
def save_probe(w: Write, given: ProbeForm, probe_id: str = "") -> Written:
    """Add a probe, or change the record of one; what it measures stays. All faults at once."""
    probe = probes.probe_of(w.session, probe_id) if probe_id else None
    values = _probe(w, given, probe)
    meter = probe.meter if probe else meters.meter_of(w.session, given.meter_id)
    signal = probe.link_values.get("signal", 1) if probe else 1
    _free_address(w, meter, values["address"], probe.id if probe else None, signal)
    if probe is None:
        probe = Probe(
            id=uuid.uuid4(),
            meter_id=meter.id,
            quantity=given.quantity,
            in_service=w.now,
            waits={},
            intervals={},
            limits={},
            **values,
        )
        w.session.add(probe)
        w.session.flush()
        w.session.add(
            ProbeInstallation(probe_id=probe.id, meter_id=meter.id, at=w.now, reason="put in service", by_id=w.actor.id)
        )
    else:
        if probes.open_run(w.session, probe.id):
            raise Refused(f"{probe.name} is on Bench in an open run. Finish or abandon that first.")
        for name, value in values.items():
            setattr(probe, name, value)
    w.record(f"probe:{probe.id}", values)
    return Written(str(probe.id))


#: By which command a sensor on the link may be asked: present values, a measurement, a concurrent one [SDI12].
LINK_COMMANDS = tuple(f"{letter}{number}" for letter in "RMC" for number in range(10))
MOST_LINK_VALUES = 20


@dataclass(frozen=True)
class LinkValues:
    """Where a probe's samples are on the link: at which address, by which command, and which values they are, from 1 on."""

    address: str
    how: str = "R0"
    signal: float | None = 1
    temperature: float | None = 2


@writes("probe.link_values", Written)
def set_link_values(w: Write, *, probe_id: str, given: LinkValues) -> Written:
    """Say which of a sensor's values are a probe's signal and temperature. The link hears of it when it begins anew."""
    probe = probes.probe_of(w.session, probe_id)
    faults: list[InputError] = []
    address = given.address.strip()
    if not re.fullmatch(r"[0-9A-Za-z]", address):
        faults.append(InputError("address", "Address on the link is one letter or digit."))
    if given.how not in LINK_COMMANDS:
        faults.append(InputError("how", "Choose the command from the list."))
    for name in ("signal", "temperature"):
        number = getattr(given, name)
        if number is None or number != int(number) or not 1 <= number <= MOST_LINK_VALUES:
            words = f"Number of the {name} must be a whole number from 1 to {MOST_LINK_VALUES}."
            faults.append(InputError(name, words, value=number))
    raise_faults(faults)
    signal, temperature = int(given.signal or 1), int(given.temperature or 2)
    if signal == temperature:
        raise InputError("temperature", "Signal and temperature cannot be the same value.", value=temperature)
    _free_address(w, probe.meter, address, probe.id, signal)
    probe.address = address
    probe.link_values = {"how": given.how, "signal": signal, "temperature": temperature}
    w.record(f"probe:{probe.id}", {"address": address, **probe.link_values})
    return Written(str(probe.meter_id))


@writes("probe.move", Written)
def move_probe(w: Write, *, probe_id: str, meter_id: str, address: str, reason: str) -> Written:
    """Fit the probe to another meter: its calibration was made with the old one and no longer counts."""
    probe, to, why = (probes.probe_of(w.session, probe_id), meters.meter_of(w.session, meter_id), clean_reason(reason))
    if probe.retired_at or to.retired_at:
        raise Refused("What is retired cannot be fitted.")
    if probes.open_run(w.session, probe.id):
        raise Refused(f"{probe.name} is on Bench in an open run. Finish or abandon that first.")
    if to.id == probe.meter_id:
        raise Refused(f"{probe.name} is on {to.name} already.")
    address = address.strip()
    if address and not re.fullmatch(r"[0-9A-Za-z]", address):
        raise InputError("address", "Address on the link is one letter or digit.")
    _free_address(w, to, address, probe.id)
    w.session.add(ProbeInstallation(probe_id=probe.id, meter_id=to.id, at=w.now, reason=why, by_id=w.actor.id))
    detail = {"from": probe.meter.name, "to": to.name, "reason": why}
    probe.meter_id, probe.address, probe.link_values = to.id, address, {}
    w.record(f"probe:{probe.id}", detail)
    return Written(str(probe.id))


@writes("probe.retire", Written)
def retire_probe(w: Write, *, probe_id: str, reason: str) -> Written:
    """Throw a probe away, or put it away for good; its record stays. For the lead."""
    if w.actor.role != "lead":
        raise NotAllowed("A probe is retired by the lead.")
    probe, why = probes.probe_of(w.session, probe_id), clean_reason(reason)
    if probe.retired_at:
        raise Refused(f"{probe.name} is retired already.")
    if probes.open_run(w.session, probe.id):
        raise Refused(f"{probe.name} is on Bench in an open run. Finish or abandon that first.")
    probe.retired_at = w.now
    w.record(f"probe:{probe.id}", {"reason": why})
    return Written(str(probe.id))


@writes("probe.restore", Written)
def restore_probe(w: Write, *, probe_id: str, reason: str) -> Written:
    """A probe that was put away comes back into service, on the meter it was on. For the lead.

    Its calibration is as old as it is: what it may be trusted for follows from its record.
    """
    if w.actor.role != "lead":
        raise NotAllowed("A probe is brought back by the lead.")
    probe, why = probes.probe_of(w.session, probe_id), clean_reason(reason)
    if probe.retired_at is None:
        raise MovedOn(f"{probe.name} is in service already.")
    if probe.meter.retired_at is not None:
        raise Refused(f"{probe.meter.name} is put away. Bring the meter back first.")
    probe.retired_at = None
    w.record(f"probe:{probe.id}", {"reason": why})
    return Written(str(probe.id))


@writes("probe.limit", Written)
def set_limit(
    w: Write, *, probe_id: str, name: str, numbers: Mapping[str, float | None], source: str, reason: str
) -> Written:
    """A limit of the probe's own, as its manual says; without numbers it goes back to the method's. For the lead.

    `numbers` holds "value", or "fit_low", "fit_high", "care_low", "care_high".
    """
    if w.actor.role != "lead":
        raise NotAllowed("Limits of a probe are set by the lead.")
    probe = probes.probe_of(w.session, probe_id)
    _, bands, singles = MEASURED[probe.quantity].judged
    if name not in bands | singles:
        raise InputError("limit", "Choose which limit from the list.", value=name)
    why = clean_reason(reason)
    others = {k: v for k, v in probe.limits.items() if k != name}
    given = {k: v for k, v in numbers.items() if v is not None}
    if given:
        unit = methods.default_method(w.session, probe).limits[name].unit
        others[name] = _limit(name in bands, given, unit, source)
    probe.limits = others
    w.record(f"probe:{probe.id}", {"limit": name, "own": others.get(name), "reason": why})
    return Written(str(probe.id))


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
