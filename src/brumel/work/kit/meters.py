"""Meters: their record, link and settings."""

from __future__ import annotations

import re
import secrets
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any

from sqlalchemy import Select, bindparam, select
from sqlalchemy.orm import Session

from brumel.core import meter_settings
from brumel.core.errors import InputError, InputErrors
from brumel.core.sentence import joined
from brumel.store.base import among
from brumel.store.tables import Meter, MeterSettings, Probe
from brumel.work.desk import (
    MovedOn,
    NotAllowed,
    NotFound,
    Refused,
    Write,
    Written,
    clean_reason,
    object_id,
    token_hash,
    writes,
)


def meter_of(session: Session, meter_id: str | uuid.UUID) -> Meter:
    """One meter by id; the front door for everything that names a meter."""
    meter = session.get(Meter, object_id(meter_id, "meter"))
    if meter is None:
        raise NotFound("There is no such meter.")
    return meter


def meters_in_service(session: Session) -> list[Meter]:
    """All meters in service."""
    return list(session.scalars(select(Meter).where(Meter.retired_at.is_(None)).order_by(Meter.name)))


def last_settings(session: Session, meter_id: uuid.UUID, before: datetime | None = None) -> MeterSettings | None:
    """The settings of a meter as they were last recorded, by a moment where one is named."""
    return settings_of(session, [meter_id], before).get(meter_id)


def settings_of(
    session: Session, meter_ids: Sequence[uuid.UUID], before: datetime | None = None
) -> dict[uuid.UUID, MeterSettings]:
    """The settings of each of these meters as they were last recorded."""
    asked = {"meters": list(meter_ids)} | ({} if before is None else {"before": before})
    return {row.meter_id: row for row in session.scalars(_newest_settings(before is not None), asked)}


@cache
def _newest_settings(before: bool) -> Select[MeterSettings]:
    query = select(MeterSettings).distinct(MeterSettings.meter_id).where(among(MeterSettings.meter_id, "meters"))
    if before:
        query = query.where(MeterSettings.at <= bindparam("before"))
    return query.order_by(MeterSettings.meter_id, MeterSettings.at.desc())


def settings_history(session: Session, meter_id: uuid.UUID, count: int = 12) -> list[MeterSettings]:
    """The settings of a meter over time, newest first."""
    query = (
        select(MeterSettings).where(MeterSettings.meter_id == meter_id).order_by(MeterSettings.at.desc()).limit(count)
    )
    return list(session.scalars(query))


def retired_meters(session: Session) -> list[Meter]:
    """Meters that were put away for good, the last first."""
    return list(session.scalars(select(Meter).where(Meter.retired_at.is_not(None)).order_by(Meter.retired_at.desc())))


LINKS = {"typed": "no link, readings are typed", "sdi12": "a link (SDI-12)", "simulated": "simulated, inside Brumel"}


SERIAL = re.compile(r"^[A-Za-z0-9][A-Za-z0-9._/ -]{0,39}$")


@dataclass(frozen=True)
class MeterForm:
    """A meter as it was typed."""

    name: str
    serial: str
    link: str
    description: str = ""
    firmware: str = ""


def clean_words(field: str, label: str, text: str, low: int, high: int, faults: list[InputError]) -> str:
    clean = " ".join(text.replace("\x00", "").split())
    if not low <= len(clean) <= high:
        faults.append(InputError(field, f"{label} must have {low} to {high} characters."))
    return clean


def raise_faults(faults: list[InputError]) -> None:
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)


def _meter(w: Write, given: MeterForm, meter_id: uuid.UUID | None) -> dict[str, str]:
    faults: list[InputError] = []
    fields = {
        "name": clean_words("name", "Name", given.name, 2, 40, faults),
        "serial": given.serial.strip(),
        "link": given.link,
        "description": clean_words("description", "Description", given.description, 0, 200, faults),
        "firmware": clean_words("firmware", "Firmware", given.firmware, 0, 30, faults),
    }
    if not SERIAL.match(fields["serial"]):
        faults.append(InputError("serial", "Serial takes letters, digits, blanks, . _ / and -, at most 40."))
    if given.link not in LINKS:
        faults.append(InputError("link", "Say how its readings come: typed, or by a link."))
    twin = select(Meter.id).where(Meter.name == fields["name"], Meter.retired_at.is_(None))
    if w.session.scalar(twin if meter_id is None else twin.where(Meter.id != meter_id)):
        faults.append(InputError("name", f"There is a meter “{fields['name']}” already."))
    raise_faults(faults)
    return fields


@writes("meter.save", Written)
def save_meter(w: Write, given: MeterForm, meter_id: str = "") -> Written:
    """Add a meter, or change the record of one. All faults at once."""
    meter = meter_of(w.session, meter_id) if meter_id else None
    values = _meter(w, given, meter.id if meter else None)
    if meter is None:
        meter = Meter(id=uuid.uuid4(), **values)
        w.session.add(meter)
        w.session.flush()
    else:
        for name, value in values.items():
            setattr(meter, name, value)
    w.record(f"meter:{meter.id}", dict(values))
    return Written(str(meter.id))


@writes("meter.retire", Written)
def retire_meter(w: Write, *, meter_id: str, reason: str) -> Written:
    """Put a meter away for good; its record stays. Probes must be moved or retired first."""
    meter, why = meter_of(w.session, meter_id), clean_reason(reason)
    if w.session.scalar(select(Probe.id).where(Probe.meter_id == meter.id, Probe.retired_at.is_(None)).limit(1)):
        raise Refused(f"{meter.name} still has probes. Move or retire them first.")
    meter.retired_at = w.now
    w.record(f"meter:{meter.id}", {"reason": why})
    return Written(str(meter.id))


@writes("meter.restore", Written)
def restore_meter(w: Write, *, meter_id: str, reason: str) -> Written:
    """A meter that was put away comes back into service. For the lead."""
    if w.actor.role != "lead":
        raise NotAllowed("A meter is brought back by the lead.")
    meter, why = meter_of(w.session, meter_id), clean_reason(reason)
    if meter.retired_at is None:
        raise MovedOn(f"{meter.name} is in service already.")
    meter.retired_at = None
    w.record(f"meter:{meter.id}", {"reason": why})
    return Written(str(meter.id))


@dataclass(frozen=True)
class NewToken:
    """A link's token: shown once, not kept; a second send of the same form finds it empty."""

    meter: str
    token: str = ""


@writes("meter.token", NewToken, secret=frozenset({"token"}))
def new_token(w: Write, *, meter_id: str) -> NewToken:
    """A fresh token for the link program of a meter; shown once, only its hash is kept. For the lead."""
    if w.actor.role != "lead":
        raise NotAllowed("Link tokens are made by the lead.")
    meter = meter_of(w.session, meter_id)
    if meter.link != "sdi12":
        raise Refused(f"{meter.name} has no link. Set it to “a link” first.")
    token = secrets.token_urlsafe(24)
    meter.token_hash = token_hash(token)
    w.record(f"meter:{meter.id}", {})
    return NewToken(str(meter.id), token)


# -- settings and inspection


@writes("meter.settings", Written)
def record_settings(w: Write, *, meter_id: str, settings: Mapping[str, Any], reason: str) -> Written:
    """Record a meter's settings. A change since last time must be acknowledged with a reason."""
    meter = meter_of(w.session, meter_id)
    checked_settings = meter_settings.checked(settings)
    last = last_settings(w.session, meter.id)
    changed = meter_settings.changes(last.settings, checked_settings) if last else ()
    why = clean_reason(reason, required=False)
    if changed and len(why) < 3:
        raise Refused(
            "Settings changed since last time: "
            + joined(c.sentence for c in changed)
            + " Say why, so that it is known."
        )
    recorded = MeterSettings(
        id=uuid.uuid4(),
        meter_id=meter.id,
        at=w.now,
        settings=checked_settings,
        changes=[c.sentence for c in changed],
        reason=why,
        by_id=w.actor.id,
    )
    w.session.add(recorded)
    w.record(f"meter:{meter.id}", {"changes": recorded.changes, "reason": why})
    return Written(str(recorded.id))
