"""The methods in use: those shipped, and those the lead made the site's own; each run keeps the version it was made with."""

from __future__ import annotations

import re
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

from pydantic import ValidationError
from sqlalchemy import Select, bindparam, select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError, InputErrors
from brumel.core.quantity_table import MEASURED
from brumel.methods import ORDER, Method, load_method, load_methods
from brumel.methods.loader import method_faults
from brumel.methods.model import BandSpec, Limit
from brumel.store.tables import MethodVersion, Probe
from brumel.work.desk import MovedOn, NotAllowed, NotFound, Refused, Write, Written, alone_with, clean_reason, writes

MOST_STEPS = 8


_KEY = re.compile(r"^[a-z0-9.-]{3,40}$")


@dataclass(frozen=True)
class MethodSaved:
    """The method and version that were written."""

    key: str
    version: int


def _newest(session: Session) -> dict[str, MethodVersion]:
    return {row.key: row for row in session.scalars(_newest_of_each())}


@cache
def _newest_of_each() -> Select[MethodVersion]:
    newest = select(MethodVersion).distinct(MethodVersion.key)
    return newest.order_by(MethodVersion.key, MethodVersion.version.desc())


def methods_in_use(session: Session, quantity: str = "") -> dict[str, Method]:
    """All methods in use by key, in the order they are offered; the site's own stand before the shipped ones."""
    in_use = _in_use(_newest(session))
    return {k: m for k, m in in_use.items() if not quantity or m.quantity == quantity}


def _in_use(versions: Mapping[str, MethodVersion]) -> dict[str, Method]:
    made_here = {k: Method.model_validate(v.body) for k, v in versions.items() if not v.retired}
    shipped = {k: m for k, m in load_methods().items() if k not in versions}
    in_use = {**{k: m for k, m in made_here.items() if k not in load_methods()}, **shipped}
    return in_use | {k: m for k, m in made_here.items() if k in load_methods()}


def methods_by_quantity(session: Session) -> list[tuple[str, list[Method]]]:
    """All methods in use, quantity by quantity in the order of a calibration session."""
    in_use = methods_in_use(session).values()
    return [(q, [m for m in in_use if m.quantity == q]) for q in ORDER]


def own_methods(session: Session) -> set[str]:
    """The keys of the methods the lead made or changed."""
    return set(session.scalars(select(MethodVersion.key).distinct()))


def method(session: Session, key: str) -> Method | None:
    """The method of that key in its newest version; None where there is none or it was taken out of use."""
    if not _KEY.match(key):
        return None
    row = session.scalar(_newest_version(), {"key": key})
    if row is not None:
        return None if row.retired else Method.model_validate(row.body)
    return load_method(key)


@cache
def _newest_version() -> Select[MethodVersion]:
    its_own = select(MethodVersion).where(MethodVersion.key == bindparam("key"))
    return its_own.order_by(MethodVersion.version.desc()).limit(1)


def is_own_method(session: Session, key: str) -> bool:
    """Whether the lead made or changed it."""
    if not _KEY.match(key):
        return False
    return session.scalar(select(MethodVersion.id).where(MethodVersion.key == key).limit(1)) is not None


def method_versions(session: Session, key: str) -> list[MethodVersion]:
    """Every version the lead made, newest first."""
    if not _KEY.match(key):
        return []
    query = select(MethodVersion).where(MethodVersion.key == key).order_by(MethodVersion.version.desc())
    return list(session.scalars(query))


def method_for_probe(method: Method, probe: Probe) -> Method:
    """The method with the probe's own limits and stowing in place of its own; the record of the probe wins."""
    limits = dict(method.limits)
    for name, body in probe.limits.items():
        if name in limits:
            kind = BandSpec if isinstance(limits[name], BandSpec) else Limit
            limits[name] = kind.model_validate(body)
    stow = f"{probe.storage} (the probe's own record)" if probe.storage else method.stow
    return method.model_copy(update={"limits": limits, "stow": stow})


def default_method(session: Session, probe: Probe) -> Method:
    """The method offered first: the usual one of the quantity, else another in use.

    Where none is in use any more, the usual one as it last was, so that the probe's pages still have its limits; no run
    can be started with it.
    """
    return default_methods(session, [probe])[probe.id]


def first_offered(in_use: Mapping[str, Method], quantity: str, kind: str = "") -> Method | None:
    """Of the methods in use the one offered first: the usual one for this kind of probe, else another; None where none is."""
    others = (m for m in in_use.values() if m.quantity == quantity)
    return in_use.get(MEASURED[quantity].usual_for(kind)) or next(others, None)


def default_methods(session: Session, probes: Sequence[Probe]) -> dict[uuid.UUID, Method]:
    """The method offered first for each of these probes."""
    versions = _newest(session)
    in_use = _in_use(versions)
    usual: dict[tuple[str, str], Method] = {}
    for quantity, kind in {(p.quantity, p.kind) for p in probes}:
        key, offered = MEASURED[quantity].usual_for(kind), first_offered(in_use, quantity, kind)
        last = Method.model_validate(versions[key].body) if key in versions else load_methods()[key]
        usual[quantity, kind] = offered or last
    return {p.id: usual[p.quantity, p.kind] for p in probes}


@writes("method.save", MethodSaved)
def save_method(w: Write, *, body: dict[str, Any], reason: str, turn: int) -> MethodSaved:
    """Put a method in use as a new version: a copy under a new key, or the next version of one. For the lead.

    `turn` is the version the form was made from; another's change in between is not overwritten.
    """
    if w.actor.role != "lead":
        raise NotAllowed("Methods are made and changed by the lead.")
    why = clean_reason(reason)
    if len(body.get("steps") or ()) > MOST_STEPS:
        raise InputError("steps", f"A method has at most {MOST_STEPS} steps of its own.")
    newest = method(w.session, str(body.get("key", "")))
    past = method_versions(w.session, str(body.get("key", "")))
    number = max([v.version for v in past] + ([newest.version] if newest else [0]))
    if turn != number:
        raise Refused(
            f"“{body.get('key')}” stands at version {number} now, not {turn}. Open it again; what you typed is still "
            "here."
        )
    try:
        checked_method = Method.model_validate({**body, "version": number + 1})
    except ValidationError as error:
        faults = method_faults("Method", error)
        raise faults[0] if len(faults) == 1 else InputErrors(faults) from error
    w.session.add(
        MethodVersion(
            key=checked_method.key,
            version=checked_method.version,
            body=checked_method.stored(),
            reason=why,
            at=w.now,
            by_id=w.actor.id,
        )
    )
    detail = {
        "key": checked_method.key,
        "version": checked_method.version,
        "reason": why,
        "body": checked_method.stored(),
    }
    w.record(f"method:{checked_method.key}", detail)
    return MethodSaved(key=checked_method.key, version=checked_method.version)


@writes("method.retire", Written)
def retire_method(w: Write, *, method_key: str, reason: str) -> Written:
    """Take a method out of use; runs made with it keep it. For the lead."""
    if w.actor.role != "lead":
        raise NotAllowed("Methods are made and changed by the lead.")
    current = method(w.session, method_key)
    if current is None:
        raise NotFound("There is no such method in use.")
    alone_with(w.session, f"methods:{current.quantity}")
    if len(methods_in_use(w.session, current.quantity)) == 1:
        raise Refused(
            f"“{current.title}” is the last method in use for its quantity; without one no such probe could be "
            "calibrated. Put another in use first."
        )
    why = clean_reason(reason)
    w.session.add(
        MethodVersion(
            key=current.key,
            version=current.version + 1,
            body=current.stored(),
            retired=True,
            reason=why,
            at=w.now,
            by_id=w.actor.id,
        )
    )
    w.record(f"method:{current.key}", {"key": current.key, "reason": why})
    return Written(str(current.key))


@writes("method.restore", Written)
def restore_method(w: Write, *, method_key: str, reason: str) -> Written:
    """Put a method that was taken out of use back in use, as its next version. For the lead."""
    if w.actor.role != "lead":
        raise NotAllowed("Methods are made and changed by the lead.")
    past = method_versions(w.session, method_key)
    if not past:
        raise NotFound("There is no such method.")
    if not past[0].retired:
        raise MovedOn("This method is in use already.")
    why = clean_reason(reason)
    number = past[0].version + 1
    body = {**past[0].body, "version": number}
    w.session.add(
        MethodVersion(key=method_key, version=number, body=body, retired=False, reason=why, at=w.now, by_id=w.actor.id)
    )
    w.record(f"method:{method_key}", {"key": method_key, "reason": why})
    return Written(str(method_key))


def retired_methods(session: Session) -> list[Method]:
    """The methods that were taken out of use, by title, as they last were."""
    retired = [Method.model_validate(v.body) for v in _newest(session).values() if v.retired]
    return sorted(retired, key=lambda m: m.title)


def new_method_key(session: Session, title: str, quantity: str) -> str:
    """A key for a new method, from its title; never one that is taken."""
    stem = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")[:30] or quantity
    key, number = f"own-{stem}", 2
    while method(session, key) is not None or is_own_method(session, key):
        key, number = f"own-{stem}-{number}", number + 1
    return key
