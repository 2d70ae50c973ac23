"""The record of a channel: the values of its files and its feed as one, in true time, with flags and marks."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core import believability as belief
from brumel.core.deployed.clock import Clock
from brumel.core.working import Working
from brumel.store.deployments import Block, Channel, Deployment, FeedRecord, FileIntake
from brumel.work.rounds.deployments import blocks, channels
from brumel.work.rounds.deployments.whole import FileState, Whole, moment, us

#: No clock is off by more than this [µs], so that what is asked for is found by the logger's own time.
_MARGIN_US = 7 * 3_600_000_000
OUT_OF_WATER = 4

Times = NDArray[np.int64]
Values = NDArray[np.float64]


@dataclass(frozen=True)
class Record:
    """Times [µs since 1970, UTC, put right], values as recorded, and flags with the lead's marks in them."""

    times_us: Times
    values: Values
    flags: NDArray[np.int8]

    @property
    def times_s(self) -> Values:
        return np.asarray(self.times_us / 1e6)


def clock_of(intake: FileIntake) -> Clock | None:
    """The clock a file was put right by; None where it was left as it was."""
    body = intake.clock
    if not body:
        return None
    return Clock(tuple(body["at_s"]), tuple(body["ahead_s"]), Working.from_dict(body["working"]))


def right_us(intake: FileIntake, logger_us: Times) -> Times:
    """True times of a file's own."""
    known = clock_of(intake)
    return logger_us if known is None else np.round(known.right(logger_us / 1e6) * 1e6).astype(np.int64)


def stored(
    session: Session, channel: Channel, files: Sequence[FileState], since_us: int, until_us: int
) -> tuple[Times, Values, list[uuid.UUID]]:
    """What stands of a channel in a span of the logger's own time: times, values, and the file each is of."""
    query = (
        select(Block.file_id, Block.samples)
        .where(Block.channel_id == channel.id, Block.file_id.in_([f.file.id for f in files]))
        .where(Block.starts <= moment(until_us), Block.ends >= moment(since_us))
        .order_by(Block.starts)
    )
    times, values, of = list[Times](), list[Values](), list[uuid.UUID]()
    for file_id, packed in session.execute(query):
        t, v, _ = blocks.samples(packed)
        times.append(t)
        values.append(v)
        of += [file_id] * t.size
    if not times:
        return np.array([], dtype=np.int64), np.array([]), []
    all_t, all_v = np.concatenate(times), np.concatenate(values)
    order = np.argsort(all_t, kind="stable")
    return all_t[order], all_v[order], [of[int(i)] for i in order]


def read(
    session: Session, whole: Whole, channel: Channel, since_us: int | None = None, until_us: int | None = None
) -> Record:
    """The record of a channel in a span of true time, both ends included; all of it without one."""
    pieces = [
        *_of_files(session, whole, channel, since_us, until_us),
        *of_feed(session, whole, channel, since_us, until_us),
    ]
    if not pieces:
        return Record(np.array([], dtype=np.int64), np.array([]), np.array([], dtype=np.int8))
    own, times, values, flags = (np.concatenate(each) for each in zip(*pieces, strict=True))
    if len(pieces) > 1:
        order = np.argsort(times, kind="stable")
        own, times, values, flags = own[order], times[order], values[order], flags[order]
        # What several files have is there once; they have the same time by the logger's own clock, and the same value.
        keep = ~np.append(False, (np.diff(own) == 0) & ((np.diff(values) == 0) | np.isnan(values[1:])))
        times, values, flags = times[keep], values[keep], flags[keep]
    here = slice(
        0 if since_us is None else int(np.searchsorted(times, since_us)),
        times.size if until_us is None else int(np.searchsorted(times, until_us, side="right")),
    )
    record = Record(times[here], values[here], np.array(flags[here]))
    return Record(record.times_us, record.values, marked(whole, channel, record.times_us, record.flags))


def marked(whole: Whole, channel: Channel, times_us: Times, flags: NDArray[np.int8]) -> NDArray[np.int8]:
    """Flags with what was out of the water, and the lead's own marks over all others, the newest last."""
    out = flags.copy()
    for begins, ends in whole.out_of_water():
        out[np.searchsorted(times_us, us(begins), side="right") : np.searchsorted(times_us, us(ends))] = OUT_OF_WATER
    for mark in whole.marks[channel.id]:
        here = slice(np.searchsorted(times_us, us(mark.starts)), np.searchsorted(times_us, us(mark.ends), side="right"))
        out[here] = np.where(out[here] == 9, 9, mark.flag)
    return out


def _of_files(
    session: Session, whole: Whole, channel: Channel, since_us: int | None, until_us: int | None
) -> list[tuple[Times, Times, Values, NDArray[np.int8]]]:
    held = _blocks(session, whole, since_us, until_us)
    pieces = []
    for file in whole.standing_files:
        assert file.intake is not None
        packed = [blocks.samples(each) for each in held.get((channel.id, file.file.id), ())]
        if packed:
            t, v, f = (np.concatenate(each) for each in zip(*packed, strict=True))
            pieces.append((t, right_us(file.intake, t), v, f))
    return pieces


def _blocks(
    session: Session, whole: Whole, since_us: int | None, until_us: int | None
) -> dict[tuple[uuid.UUID, uuid.UUID], list[bytes]]:
    """The blocks of a span by channel and file, of all channels at once; asked for once."""
    key = ("blocks", since_us, until_us)
    if key not in whole.held:
        query = select(Block.channel_id, Block.file_id, Block.samples).where(
            Block.file_id.in_([f.file.id for f in whole.standing_files])
        )
        if since_us is not None:
            query = query.where(Block.ends >= moment(since_us - _MARGIN_US))
        if until_us is not None:
            query = query.where(Block.starts <= moment(until_us + _MARGIN_US))
        found: dict[tuple[uuid.UUID, uuid.UUID], list[bytes]] = {}
        if whole.standing_files:
            for channel_id, file_id, samples in session.execute(query.order_by(Block.file_id, Block.number)):
                found.setdefault((channel_id, file_id), []).append(samples)
        whole.held[key] = found
    held: dict[tuple[uuid.UUID, uuid.UUID], list[bytes]] = whole.held[key]
    return held


def of_feed(
    session: Session, whole: Whole, channel: Channel, since_us: int | None = None, until_us: int | None = None
) -> list[tuple[Times, Times, Values, NDArray[np.int8]]]:
    """What a live logger sent, but for the time its files cover: they are the record, the feed only runs ahead of it."""
    if whole.fed is None:
        return []
    if "feed" not in whole.held:
        query = select(FeedRecord.at, FeedRecord.values).where(FeedRecord.deployment_id == whole.deployment.id)
        whole.held["feed"] = session.execute(query.order_by(FeedRecord.at)).all()
    rows = whole.held["feed"]
    t = np.array([us(at) for at, _ in rows], dtype=np.int64)
    v = np.array(
        [values[channel.place] if values[channel.place] is not None else np.nan for _, values in rows], dtype=np.float64
    )
    keep = np.isfinite(v)
    for file in whole.standing_files:
        assert file.intake is not None
        keep &= ~((t >= us(file.intake.starts)) & (t <= us(file.intake.ends)))
    t, v = t[keep], v[keep]
    if not t.size:
        return []
    flags = tested(whole.deployment, channel, t, v)
    here = (t >= (since_us if since_us is not None else t[0])) & (t <= (until_us if until_us is not None else t[-1]))
    return [(t[here], t[here], v[here], flags[here])] if here.any() else []


def tested(d: Deployment, channel: Channel, times_us: Times, values: Values) -> NDArray[np.int8]:
    """QARTOD's flags: the site's gross and usual ranges, else the instrument's; spikes and flat lines."""
    ranges = d.site.ranges.get(channel.quantity, {})
    low, high = ranges.get("gross") or channels.span(channel.quantity)
    usual = ranges.get("usual")
    seen = values[np.isfinite(values)]
    spread = channels.least_spread(channel.quantity, float(np.median(seen)) if seen.size else 0.0)
    limits = belief.series_limits(values, d.interval_s, spread)
    with np.errstate(invalid="ignore"):
        return belief.flag_series(
            values,
            gross=(float(low), float(high)),
            usual=(float(usual[0]), float(usual[1])) if usual else None,
            spike=limits.spike,
            flat=limits.flat,
            after_gap=np.append(False, np.diff(times_us) > 1.5e6 * d.interval_s),
        )
