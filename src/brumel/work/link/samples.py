"""Samples of a dip: storing them as they come, reading them back, judging them."""

from __future__ import annotations

import json
import uuid
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, DateTime, Select, bindparam, func, select, text
from sqlalchemy.orm import Session

from brumel.core.settling import Settling, judge
from brumel.core.trace import Trace
from brumel.core.typed import judge_typed
from brumel.methods.model import SettlingSpec
from brumel.store.sessions import SAMPLES_CHANNEL
from brumel.store.tables import Dip, Meter, Point, Probe, Reading, RunEnd, Sample, StruckValue

LONGEST_DIP = timedelta(hours=3)


_ADD = text(
    "insert into samples (dip_id, seq, at, t_s, signal, temperature_c, displayed) "
    "select * from unnest(cast(:dip as uuid[]), cast(:seq as int[]), cast(:at as timestamptz[]), cast(:t as float8[]), "
    "cast(:y as float8[]), cast(:c as float8[]), cast(:shown as float8[])) on conflict do nothing returning dip_id, seq"
)


_TELL = text("select pg_notify(:channel, said) from unnest(cast(:said as text[])) as said")
#: PostgreSQL lets an announcement have 8 000 bytes.
_LONGEST_ANNOUNCEMENT = 7500

#: A sample as it comes: number, seconds since the dip began, signal, temperature [°C], what a display showed.
SampleRow = tuple[int, float, float, float, float | None]


@dataclass(frozen=True)
class TypedSample:
    """The place of a typed value among its dip's samples."""

    seq: int


def store_samples(session: Session, dip: Dip, rows: Sequence[SampleRow]) -> int:
    """Add samples (seq, t_s, signal, °C, display); ones that are there already are left. Returns how many are new.

    A sample's time stamp is the dip's start plus its own seconds, so a resend meets the same key.
    """
    return store_all(session, [(dip, rows)])


def store_all(session: Session, traces: Sequence[tuple[Dip, Sequence[SampleRow]]]) -> int:
    """The same for several dips at once; whoever watches one of them is told, with the samples."""
    flat = [(dip.id, dip.started_at + timedelta(seconds=row[1]), *row) for dip, rows in traces for row in rows]
    if not flat:
        return 0
    ids, at, seq, t_s, y, c, shown = (list(column) for column in zip(*flat, strict=True))
    connection = session.connection()
    done = connection.execute(_ADD, {"dip": ids, "seq": seq, "at": at, "t": t_s, "y": y, "c": c, "shown": shown})
    new = {(row.dip_id, row.seq) for row in done}
    said = [announcement(dip, [row for row in rows if (dip.id, row[0]) in new]) for dip, rows in traces if rows]
    connection.execute(_TELL, {"channel": SAMPLES_CHANNEL, "said": said})
    return len(new)


def announcement(dip: Dip, rows: Sequence[SampleRow]) -> str:
    """What is said of new samples: the dip by its id, and the samples where there is room for them."""
    whole = f"{dip.id} {json.dumps(list(rows), separators=(',', ':'))}"
    return whole if len(whole) <= _LONGEST_ANNOUNCEMENT else str(dip.id)


def announced(said: str) -> tuple[str, list[SampleRow] | None]:
    """What an announcement is about, by id, and the samples in it; None where they must be asked for.

    Whoever may write to the database may announce anything: what cannot be read counts as nothing said.
    """
    name, _, rows = said.partition(" ")
    try:
        return name, [_row(*row) for row in json.loads(rows)] if rows else None
    except (ValueError, TypeError):
        return name, None


def _row(seq: int, t_s: float, signal: float, temperature_c: float, shown: float | None) -> SampleRow:
    return int(seq), float(t_s), float(signal), float(temperature_c), None if shown is None else float(shown)


def trace(session: Session, dip: Dip, after_seq: int = -1) -> Trace:
    """The samples of a dip from `after_seq` on; the dip's start narrows the partitions."""
    return trace_of(dip, session.execute(_TRACE, _of(dip) | {"after": after_seq}).all())


def traces(session: Session, dips: Sequence[Dip]) -> dict[uuid.UUID, Trace]:
    """The samples of several dips, by dip."""
    if not dips:
        return {}
    rows: dict[uuid.UUID, list[Any]] = {dip.id: [] for dip in dips}
    query = select(Sample.dip_id, *_COLUMNS).where(
        Sample.dip_id.in_(rows),
        ~_STRUCK,
        Sample.at >= min(dip.started_at for dip in dips),
        Sample.at <= max(dip.started_at for dip in dips) + LONGEST_DIP,
    )
    for dip_id, *row in session.execute(query.order_by(Sample.seq)):
        rows[dip_id].append(row)
    return {dip.id: trace_of(dip, rows[dip.id]) for dip in dips}


#: A typed value that was struck out counts for nothing.
_STRUCK = select(StruckValue.seq).where(StruckValue.dip_id == Sample.dip_id, StruckValue.seq == Sample.seq).exists()
_COLUMNS = (Sample.seq, Sample.t_s, Sample.signal, Sample.temperature_c, Sample.displayed)
#: Asked for with every sample that is due, and so made once: of one dip, within its span.
_ITS_OWN = (
    Sample.dip_id == bindparam("dip"),
    Sample.at >= bindparam("from_at", type_=DateTime(timezone=True)),
    Sample.at <= bindparam("to_at", type_=DateTime(timezone=True)),
)
_TRACE = select(*_COLUMNS).where(*_ITS_OWN, Sample.seq > bindparam("after"), ~_STRUCK).order_by(Sample.seq)
_LAST = select(func.max(Sample.seq)).where(*_ITS_OWN)


def _of(dip: Dip) -> dict[str, Any]:
    return {"dip": dip.id, "from_at": dip.started_at, "to_at": dip.started_at + LONGEST_DIP}


def trace_of(dip: Dip, rows: Sequence[Any]) -> Trace:
    """Rows of samples as a trace of their dip."""
    columns = list(zip(*rows, strict=True)) if rows else [(), (), (), (), ()]
    return Trace(
        np.array(columns[0], dtype=np.int64),
        np.array(columns[1], dtype=float),
        np.array(columns[2], dtype=float),
        np.array(columns[3], dtype=float),
        tuple(columns[4]),
        dip.entered,
    )


#: Tells the samples of a dip that were announced since it was last asked; None where the database must be asked.
Heard = Callable[[], list[SampleRow] | None]


def nothing_heard() -> None:
    """For a page that hears no announcements."""


def news(session: Callable[[], AbstractContextManager[Session]], dip: Dip, was: Trace, heard: Heard) -> Trace:
    """The samples of a dip that came after those of `was`; the database is asked where they were not all heard.

    session : opens one to read with
    """
    last = int(was.seq[-1]) if was.seq.size else -1
    told = heard()
    if told is not None:
        return trace_of(dip, sorted(row for row in told if row[0] > last))
    with session() as opened:
        return trace(opened, dip, last)


def within(start: datetime) -> tuple[ColumnElement[bool], ColumnElement[bool]]:
    """The span a dip's samples can lie in; it lets the database leave all other partitions out."""
    return Sample.at >= start, Sample.at <= start + LONGEST_DIP


def simulated_dips(session: Session, now: datetime) -> list[Dip]:
    """Where probes of simulated meters stand and something may still be read: live, not taken, in no run that has ended."""
    return list(session.scalars(_open_dips(False), {"since": now - LONGEST_DIP}))


def is_anywhere(session: Session, meter: Meter, now: datetime) -> bool:
    """Whether a probe of this meter stands somewhere in that way."""
    return session.scalars(_open_dips(True), {"since": now - LONGEST_DIP, "meter": meter.id}).first() is not None


@cache
def _open_dips(of_one_meter: bool) -> Select[Dip]:
    whose = Meter.id == bindparam("meter") if of_one_meter else Meter.link == "simulated"
    taken = select(Reading.id).where(Reading.dip_id == Dip.id).exists() | (
        select(Point.id).where(Point.dip_id == Dip.id).exists()
    )
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Dip.run_id).exists()
    newest = (
        select(Dip.id)
        .distinct(Dip.probe_id)
        .join(Probe, Probe.id == Dip.probe_id)
        .join(Meter, Meter.id == Probe.meter_id)
        .where(Dip.started_at > bindparam("since"), whose)
        .order_by(Dip.probe_id, Dip.number.desc())
    )
    return select(Dip).where(Dip.id.in_(newest), Dip.source == "live", ~taken, ~ended)


def next_seq(session: Session, dip: Dip) -> int:
    """The number the next sample of this dip takes."""
    newest = session.scalar(_LAST, _of(dip))
    return 0 if newest is None else newest + 1


def judge_trace(trace: Trace, spec: SettlingSpec, source: str, quantity: str, step: float = 0.0) -> Settling:
    """Judge a dip's signal by the method's criteria; typed values by its rule for those.

    step : what one step of the display they were typed from is worth, in the signal's unit
    """
    if source == "typed":
        return judge_typed(trace.t_s, trace.signal, spec.typed_rule(step))
    return judge(trace.t_s, trace.signal, spec.criteria(quantity))
