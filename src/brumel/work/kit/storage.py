"""Where probes are put away, and what a place asks for when its probe is next looked at."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.sentence import say
from brumel.methods.care import StoragePlace, load_care
from brumel.store.tables import Probe, StorageRecord
from brumel.work.desk import Write, Written, writes
from brumel.work.kit import meters, probes
from brumel.work.kit.meters import raise_faults
from brumel.work.kit.trust import TrustFacts, facts


def places_of(probe: Probe) -> dict[str, StoragePlace]:
    """Where this probe may be put away, by key."""
    return load_care().places(probe.quantity, probe.kind)


@dataclass(frozen=True)
class Stored:
    """Where a probe stands: its record, the place, and what that asks for by now, empty where it is well."""

    record: StorageRecord
    place: StoragePlace
    asks: str


def stored_by(probe: Probe, known: TrustFacts, now: datetime) -> Stored | None:
    """Where a probe was last put away, by the facts; None where that is not on record."""
    record = known.storage
    place = places_of(probe).get(record.place) if record else None
    if record is None or place is None:
        return None
    asks = ""
    put_right = place.maintenance in known.done_since_stored if place.maintenance else bool(known.done_since_stored)
    if place.speaks_up((now - record.at).total_seconds() / 3600) and not put_right:
        asks = say("Stored {words} since {at}. {says}", words=place.words, at=record.at, says=place.says)
    return Stored(record, place, asks)


def stored_of(session: Session, probes: Sequence[Probe], now: datetime) -> dict[uuid.UUID, Stored]:
    """Where each of these probes was last put away, where that is on record."""
    known = facts(session, probes, now)
    return {p.id: stored for p in probes if (stored := stored_by(p, known[p.id], now))}


@writes("probe.store", Written)
def store_probe(w: Write, *, probe_id: str, place: str) -> Written:
    """The probe was put away just now."""
    probe = probes.probe_of(w.session, probe_id)
    _store(w, probe, place)
    w.record(f"probe:{probe.id}", {"place": place})
    return Written(str(probe.id))


@writes("meter.store", Written)
def store_probes(w: Write, *, meter_id: str, places: Mapping[str, str]) -> Written:
    """The probes of a meter were put away just now, {probe: place}; an empty place leaves a probe as it is."""
    meter = meters.meter_of(w.session, meter_id)
    on_it = {str(p.id): p for p in w.session.scalars(select(Probe).where(Probe.meter_id == meter.id))}
    chosen = {key: place for key, place in places.items() if place and key in on_it}
    if not chosen:
        raise InputError("place", "Say of one probe at least where it was put.")
    raise_faults([e for key, place in chosen.items() if (e := _fault(on_it[key], place))])
    for key, place in chosen.items():
        _store(w, on_it[key], place)
    w.record(f"meter:{meter.id}", {"places": chosen})
    return Written(str(meter.id))


def _fault(probe: Probe, place: str) -> InputError | None:
    if place in places_of(probe):
        return None
    return InputError("place", f"{probe.name}: choose from the list where it was put.", value=place)


def _store(w: Write, probe: Probe, place: str) -> None:
    raise_faults([e for e in [_fault(probe, place)] if e])
    w.session.add(StorageRecord(id=uuid.uuid4(), probe_id=probe.id, place=place, at=w.now, by_id=w.actor.id))
