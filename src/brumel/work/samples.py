"""Samples of a dip: storing them as they come, reading them back, judging them."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import ColumnElement, func, select, text
from sqlalchemy.orm import Session

from brumel.core.settling import Settling, judge
from brumel.methods.model import SettlingSpec
from brumel.store.sessions import SAMPLES_CHANNEL
from brumel.store.tables import Dip, Sample

TYPED_MIN_SAMPLES = 2
LONGEST_DIP = timedelta(hours=3)


_ADD = text(
    "insert into samples (dip_id, seq, at, t_s, millivolts, temperature_c, displayed_ph) "
    "select :dip, * from unnest(cast(:seq as int[]), cast(:at as timestamptz[]), cast(:t as float8[]), "
    "cast(:mv as float8[]), cast(:c as float8[]), cast(:ph as float8[])) on conflict do nothing"
)


@dataclass(frozen=True)
class Trace:
    """The samples of a dip in order: seq, seconds, mV, °C, and the displayed pH where that was typed."""

    seq: NDArray[np.int64]
    t_s: NDArray[np.float64]
    millivolts: NDArray[np.float64]
    temperature_c: NDArray[np.float64]
    displayed_ph: tuple[float | None, ...]

    @property
    def entered_as(self) -> str:
        """What was entered: "ph" when every sample is a displayed pH, else "mv"."""
        return "ph" if self.displayed_ph and all(p is not None for p in self.displayed_ph) else "mv"

    def seen_until(self, seq: int | None) -> Trace:
        """The trace as far as a page had shown it; whole where the page did not say."""
        if seq is None or not self.seq.size or seq >= self.seq[-1]:
            return self
        n = int(np.searchsorted(self.seq, seq, side="right"))
        return Trace(self.seq[:n], self.t_s[:n], self.millivolts[:n], self.temperature_c[:n], self.displayed_ph[:n])

    def settled_temperature(self, window_s: float) -> float:
        """Median temperature over the last window [°C]."""
        recent = self.t_s >= self.t_s[-1] - window_s
        return float(np.median(self.temperature_c[recent]))


def store(session: Session, dip: Dip, rows: Sequence[tuple[int, float, float, float, float | None]]) -> int:
    """Add samples (seq, t_s, mV, °C, displayed pH); ones that are there already are left. Returns how many are new.

    A sample's time stamp is the dip's start plus its own seconds, so a resend meets the same key.
    """
    if not rows:
        return 0
    seq, t_s, mv, c, ph = (list(column) for column in zip(*rows, strict=True))
    at = [dip.started_at + timedelta(seconds=t) for t in t_s]
    done = session.connection().execute(
        _ADD, {"dip": dip.id, "seq": seq, "at": at, "t": t_s, "mv": mv, "c": c, "ph": ph}
    )
    session.execute(text("select pg_notify(:channel, :dip)"), {"channel": SAMPLES_CHANNEL, "dip": str(dip.id)})
    return done.rowcount


def trace(session: Session, dip_id: uuid.UUID, since: datetime, after_seq: int = -1) -> Trace:
    """The samples of a dip from `after_seq` on; `since` is the dip's start and narrows the partitions."""
    query = (
        select(Sample.seq, Sample.t_s, Sample.millivolts, Sample.temperature_c, Sample.displayed_ph)
        .where(Sample.dip_id == dip_id, Sample.seq > after_seq, *within(since))
        .order_by(Sample.seq)
    )
    rows = session.execute(query).all()
    columns = list(zip(*rows, strict=True)) if rows else [(), (), (), (), ()]
    return Trace(
        np.array(columns[0], dtype=np.int64), np.array(columns[1], dtype=float), np.array(columns[2], dtype=float),
        np.array(columns[3], dtype=float), tuple(columns[4]),
    )  # fmt: skip


def within(start: datetime) -> tuple[ColumnElement[bool], ColumnElement[bool]]:
    """The span a dip's samples can lie in; it lets the database leave all other partitions out."""
    return Sample.at >= start, Sample.at <= start + LONGEST_DIP


def next_seq(session: Session, dip: Dip) -> int:
    """The number the next sample of this dip takes."""
    newest = session.scalar(select(func.max(Sample.seq)).where(Sample.dip_id == dip.id, *within(dip.started_at)))
    return 0 if newest is None else newest + 1


def judge_trace(found: Trace, spec: SettlingSpec, source: str) -> Settling:
    """Judge a dip's signal by the method's criteria; typed values need two, live ones five."""
    few = TYPED_MIN_SAMPLES if source == "typed" else 5
    criteria = spec.criteria("pH signal", min_samples=few)
    if source == "typed":
        # Typed values come seldom: the window grows to hold the last three of them.
        reach = float(found.t_s[-1] - found.t_s[-min(3, len(found.t_s))]) if len(found.t_s) else 0.0
        criteria = spec.model_copy(update={"window_s": max(spec.window_s, reach)}).criteria(
            "pH signal", min_samples=few
        )
    return judge(found.t_s, found.millivolts, criteria)
