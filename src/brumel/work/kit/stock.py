"""What is left of solutions and spares: counted by hand once, then worked out from what the record says was used."""

from __future__ import annotations

import uuid
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any

from sqlalchemy import Select, Text, bindparam, cast, func, literal, select, true, union_all
from sqlalchemy.orm import Session

from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.core.sentence import Amount, say
from brumel.store.base import among
from brumel.store.tables import Count, Lot, Maintenance, Meter, Point, Probe, Run, SpareUse
from brumel.work.desk import NotFound, Refused, Write, clean_reason, object_id, writes

CUP_ML = 40.0  # a cup and the rinse before it; common practice, no source


@dataclass(frozen=True)
class Counted:
    """What was counted, in the solution's or the spare's own unit."""

    counted: float


@dataclass(frozen=True)
class Left:
    """How much is left, None where it was never counted; `cups` it gives, for a solution."""

    amount: float | None
    unit: str
    counted_at: datetime | None
    used: float = 0.0

    @property
    def words(self) -> str:
        """As "about 310 mL left"; never below nothing."""
        if self.amount is None:
            return "never counted"
        if self.unit == "mL":
            return say("about {amount} left", amount=Amount(self.amount, "mL", ".0f"))
        return f"{self.amount:.0f} left"

    def short_of(self, needed: float) -> str:
        """A sentence where it does not reach, empty where it does or where nobody counted."""
        if self.amount is None or self.amount >= needed:
            return ""
        many = (
            say("{needed} are", needed=Amount(needed, "mL", ".0f"))
            if self.unit == "mL"
            else "one is"
            if needed == 1
            else f"{needed:.0f} are"
        )
        return say("{left}, {many} needed", left=self.words, many=many)


def unit_of(lot: Lot) -> str:
    """In what a lot is counted."""
    return "pieces" if lot.single_use else "mL"


def newest_counts(session: Session, *where: Any) -> Sequence[Count]:
    """The newest count of each thing."""
    key = (Count.lot_id, Count.spare)
    query = select(Count).where(*where).distinct(*key).order_by(*key, Count.at.desc())
    return session.scalars(query).all()


def lots_with_left(session: Session, *where: Any, besides: Run | None = None) -> list[tuple[Lot, Left]]:
    """Lots with what is left of each: a cup is used by every run, or every session of several probes, that took a
    point in it.

    besides : a run whose own cups, and those of its calibration session, are not counted
    """
    return _counted(session, _lots_and_left(besides is not None).where(*where), besides)


def _counted(session: Session, query: Select[Any], besides: Run | None, **asked: Any) -> list[tuple[Lot, Left]]:
    if besides is not None:
        asked["besides"] = besides.calibration_session_id or besides.id
    return [(lot, _left_of(lot, amount, at, cups)) for lot, amount, at, cups in session.execute(query, asked)]


@cache
def _lots_and_left(besides: bool) -> Select[Any]:
    cup = func.coalesce(Run.calibration_session_id, Run.id)
    count = select(Count.amount, Count.at).where(Count.lot_id == Lot.id).order_by(Count.at.desc()).limit(1).lateral()
    used_since = (
        select(func.count(cup.distinct()).label("cups"))
        .select_from(Point)
        .join(Run, Run.id == Point.run_id)
        .where(Point.lot_id == Lot.id, Point.at > count.c.at)
    )
    if besides:
        used_since = used_since.where(cup != bindparam("besides"))
    used = used_since.lateral()
    return (
        select(Lot, count.c.amount, count.c.at, used.c.cups)
        .select_from(Lot)
        .outerjoin(count, true())
        .outerjoin(used, true())
        .order_by(Lot.code)
    )


@cache
def _of_lots(besides: bool) -> Select[Any]:
    return _lots_and_left(besides).where(among(Lot.id, "lots"))


def _left_of(lot: Lot, amount: float | None, counted_at: datetime | None, cups: int) -> Left:
    unit = unit_of(lot)
    if amount is None:
        return Left(None, unit, None)
    used = cups * (CUP_ML if unit == "mL" else 1.0)
    return Left(max(amount - used, 0.0), unit, counted_at, used)


def left_of_lots(session: Session, lots: Sequence[Lot], besides: Run | None = None) -> dict[uuid.UUID, Left]:
    """What is left of each of these lots."""
    query = _of_lots(besides is not None)
    return {lot.id: left for lot, left in _counted(session, query, besides, lots=[lot.id for lot in lots])}


#: Spares by key: the words, the unit, the maintenance (quantity, what) that uses one. A meter's batteries come beside them.
SPARES = {
    "membrane": ("oxygen membranes", "pieces", ("oxygen", "membrane")),
    "cap": ("oxygen sensing caps", "pieces", ("oxygen", "cap")),
    "electrolyte": ("fills of oxygen electrolyte", "fills", ("oxygen", "electrolyte")),
    "tip-nitrate": ("nitrate tips", "pieces", ("nitrate", "tip")),
    "tip-ammonium": ("ammonium tips", "pieces", ("ammonium", "tip")),
    "storage": ("storage solution for pH", "mL", None),
}


MOST = {"mL": 20_000.0, "pieces": 1000.0, "fills": 1000.0, "sets": 1000.0}


def spares(session: Session, of_meters: Iterable[Meter]) -> dict[str, tuple[str, Left]]:
    """Every kind of spare with what is left of it, batteries by meter: {key: (words, left)}."""
    counts = {c.spare: c for c in newest_counts(session, Count.spare != "")}
    since = min((c.at for c in counts.values()), default=None)
    used = _used_since(session, since) if since is not None else []
    known = {key: (words, unit) for key, (words, unit, _) in SPARES.items()}
    known |= {f"battery-{m.id}": (f"sets of batteries for {m.name}", "sets") for m in of_meters}
    counted = {}
    for key, (words, unit) in known.items():
        count = counts.get(key)
        uses = sum(spare == key and at > count.at for spare, at in used) if count else 0
        counted[key] = (words, _left(count, unit, uses))
    return counted


def _used_since(session: Session, since: datetime) -> list[tuple[str, datetime]]:
    """Which spare was used when: one by every maintenance that takes one, and every set of batteries."""
    taken_by = {by: key for key, (_, _, by) in SPARES.items() if by is not None}
    done = (
        select(Probe.quantity, Maintenance.what, Maintenance.at)
        .join(Probe, Probe.id == Maintenance.probe_id)
        .where(Maintenance.at > since)
    )
    batteries = select(literal(""), SpareUse.spare, SpareUse.at).where(SpareUse.at > since)
    rows = session.execute(union_all(done, batteries))
    return [(taken_by.get((q, what), what), at) for q, what, at in rows]


def _left(count: Count | None, unit: str, used: int) -> Left:
    if count is None:
        return Left(None, unit, None)
    return Left(max(count.amount - used, 0.0), unit, count.at, used)


@writes("stock.count", Counted)
def count_stock(w: Write, *, amount: float, lot_id: str = "", spare: str = "", reason: str = "") -> Counted:
    """What was counted; it stands until the next count, less what is used from now on."""
    why = clean_reason(reason, required=False)
    if bool(lot_id) == bool(spare):
        raise InputError("spare", "Choose one thing to count: a lot, or a spare from the list.")
    lot = w.session.get(Lot, object_id(lot_id, "solution")) if lot_id else None
    if lot_id and lot is None:
        raise NotFound("There is no such solution.")
    if lot is not None and lot.discarded_at is not None:
        raise Refused(f"{lot.code} is discarded; there is nothing to count.")
    unit = unit_of(lot) if lot is not None else _unit(w.session, spare)
    door = Door()
    number = door.number("amount", amount, 0, MOST[unit])
    door.close()
    w.session.add(
        Count(lot_id=lot.id if lot else None, spare=spare, amount=number, reason=why, at=w.now, by_id=w.actor.id)
    )
    subject = f"lot:{lot.id}" if lot else f"spare:{spare}"
    w.record(subject, {"amount": number, "unit": unit, "reason": why})
    return Counted(counted=number)


def _unit(session: Session, spare: str) -> str:
    if spare in SPARES:
        return SPARES[spare][1]
    known = select(func.concat("battery-", cast(Meter.id, Text)))
    if spare not in set(session.scalars(known)):
        raise InputError("spare", "Choose the spare from the list.", value=spare)
    return "sets"
