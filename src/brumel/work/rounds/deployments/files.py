"""Files of a deployed logger: kept as they came, read by their shape, joined to one record, withdrawn where wrong."""

from __future__ import annotations

import gzip
import hashlib
import uuid
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.deployed.clock import Clock, clock
from brumel.core.errors import InputError, InputErrors
from brumel.core.sentence import say
from brumel.formats import logger_files
from brumel.formats.logger_files import Guess, LoggedTable, Shape
from brumel.formats.logger_files.sniffing import refit
from brumel.store.deployments import Channel, Deployment, FileEnd, FileIntake, LoggerFile
from brumel.work.desk import (
    Conflict,
    MovedOn,
    NotAllowed,
    NotFound,
    Refused,
    Write,
    Written,
    clean_reason,
    object_id,
    writes,
)
from brumel.work.rounds.deployments import blocks, channels, series
from brumel.work.rounds.deployments.plan import deployment_of, locked
from brumel.work.rounds.deployments.whole import FileState, Whole, comparisons, moment, whole_of

#: Files up to this size are read while one waits; larger ones by a job.
AT_ONCE = 3_000_000
_COLUMNS = ("file_id", "channel_id", "number", "starts", "ends", "count", "odd", "low", "high", "parts", "samples")
_TYPES = ("uuid", "uuid", "int4", "timestamptz", "timestamptz", "int4", "int4", "float8", "float8", "bytea", "bytea")

Tell = Callable[[int, int], None]


def file_of(session: Session, file_id: str | uuid.UUID) -> LoggerFile:
    """One file by id; the front door for everything that names one."""
    found = session.get(LoggerFile, object_id(file_id, "file"))
    if found is None:
        raise NotFound("There is no such file.")
    return found


def state_of(session: Session, file: LoggerFile) -> FileState:
    """A file with how it was read and whether it was withdrawn."""
    return FileState(file, session.get(FileIntake, file.id), session.get(FileEnd, file.id))


def body_of(file: LoggerFile) -> bytes:
    """The file as it came."""
    return gzip.decompress(file.body)


@writes("deployment.file", Written)
def arrive(w: Write, *, deployment_id: str, name: str, data: bytes) -> Written:
    """Keep a file as it came; its records are read once its columns are mapped. The same file comes once."""
    d = locked(w, deployment_id)
    if len(data) > logger_files.MOST_BYTES:
        raise InputError(
            "file", f"The file has {len(data) / 1e6:.0f} MB; {logger_files.MOST_BYTES / 1e6:.0f} MB are taken."
        )
    if not data.strip():
        raise InputError("file", "The file is empty.")
    logger_files.sniff(data)  # what is no table at all is not kept
    digest = hashlib.sha256(data).hexdigest()
    gone = select(FileEnd.file_id)
    twin = w.session.scalar(
        select(LoggerFile).where(
            LoggerFile.deployment_id == d.id, LoggerFile.sha256 == digest, LoggerFile.id.not_in(gone)
        )
    )
    if twin is not None:
        raise Conflict(say("This file came before, as “{name}” on {at}.", name=twin.name, at=twin.at))
    packed = gzip.compress(data, 1, mtime=0)
    row = LoggerFile(
        deployment_id=d.id, name=name[:120], sha256=digest, size=len(data), body=packed, at=w.now, by_id=w.actor.id
    )
    w.session.add(row)
    w.session.flush()
    w.record(f"deployment:{d.id}", {"file": row.name, "bytes": row.size, "sha256": digest})
    return Written(str(row.id))


def last_shape(session: Session, d: Deployment) -> Shape | None:
    """How the last file of the same instrument was read."""
    newest = session.scalar(
        select(FileIntake.shape)
        .join(LoggerFile, LoggerFile.id == FileIntake.file_id)
        .join(Deployment, Deployment.id == LoggerFile.deployment_id)
        .where(Deployment.meter_id == d.meter_id)
        .order_by(FileIntake.at.desc())
        .limit(1)
    )
    return Shape.restored(newest) if newest else None


def guess(session: Session, file: LoggerFile) -> tuple[Guess, bool]:
    """What the file shows of its shape, and whether the instrument's last file was read alike and filled in the rest."""
    seen = logger_files.sniff(body_of(file))
    known = last_shape(session, deployment_of(session, file.deployment_id))
    refitted = refit(seen, known) if known else seen
    recorded = {c.quantity for c in deployment_of(session, file.deployment_id).channels}
    kept = tuple(c for c in refitted.shape.columns if c.quantity in recorded)
    return replace(refitted, shape=replace(refitted.shape, columns=kept)), bool(known) and refitted is not seen


# -- reading it


@dataclass(frozen=True)
class Read:
    """A file read but not written: its records by the logger's own clock, and what is known of that clock."""

    table: LoggedTable
    clock: Clock | None


def _checked_shape(d: Deployment, shape: Shape) -> None:
    faults = list[InputError]()
    recorded = {c.quantity for c in d.channels}
    quantities = [c.quantity for c in shape.columns]
    for c in shape.columns:
        if c.quantity not in recorded:
            faults.append(InputError("columns", f"The logger was not planned to record “{c.quantity[:40]}”."))
            continue
        try:
            channels.scale(c.quantity, c.unit)
        except InputError as error:
            faults += [InputError(f"unit_{c.place}", str(f), value=f.value) for f in error.faults]
    if len(set(quantities)) < len(quantities):
        faults.append(InputError("columns", "Two columns are said to be the same quantity."))
    if not shape.columns:
        faults.append(InputError("columns", "Say at least of one column which channel it is."))
    if shape.order not in logger_files.ORDERS:
        faults.append(InputError("order", "Say what comes first in its dates, the day or the month."))
    try:
        shape.zone_info()
    except InputError as error:
        faults += error.faults
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)


def read_file(
    d: Deployment, whole: Whole, data: bytes, shape: Shape, *, put_clock_right: bool, tell: Tell = lambda _n, _of: None
) -> Read:
    """The records of a file in the units of the channels, in the logger's own time. Raises every fault at once."""
    _checked_shape(d, shape)
    table = logger_files.read(data, shape, tell)
    scaled = []
    for values, column in zip(table.values, shape.columns, strict=True):
        factor, zero = channels.scale(column.quantity, column.unit)
        scaled.append(values if (factor, zero) == (1.0, 0.0) else values * factor + zero)
    table = LoggedTable(table.times_us, tuple(scaled), table.rows, table.same, table.missing)
    known = comparisons(whole, moment(int(table.times_us[table.times_us.size // 2]))) if put_clock_right else []
    return Read(table, clock(known) if known else None)


@dataclass(frozen=True)
class TakenIn:
    """What came of a file: records that were new, that stood there already, and gaps."""

    id: str
    new: int
    there: int
    gaps: int


@writes("deployment.take_in", TakenIn)
def take_in(w: Write, *, file_id: str, shape: dict[str, Any], put_clock_right: bool, tell: Any = None) -> TakenIn:
    """Read a file by its shape and join its records to the deployment's, each with its flag.

    A record that stands there already with the same values is passed over and counted; one with others is a conflict, and
    nothing is written. Raises every fault at once.
    """
    file = file_of(w.session, file_id)
    d = locked(w, str(file.deployment_id))
    state = state_of(w.session, file)
    if state.end is not None:
        raise Refused("This file was withdrawn.")
    if state.intake is not None:
        raise MovedOn("This file was taken in meanwhile. You now see it.")
    by_shape = Shape.restored(shape)
    whole = whole_of(w.session, d)
    told = tell or (lambda _n, _of: None)
    read = read_file(d, whole, body_of(file), by_shape, put_clock_right=put_clock_right, tell=told)
    table = read.table
    right_us = read.clock.right(table.times_us / 1e6) * 1e6 if read.clock else table.times_us
    last = moment(float(right_us[-1]))
    if last > w.now:
        raise InputError(
            "file",
            say("Its last record is of {at}, which is in the future. Is its clock, or its zone, right?", at=last),
        )
    places = {c.quantity: c for c in d.channels}
    of = [places[c.quantity] for c in by_shape.columns]
    fresh = _fresh(w.session, whole, table, of)
    steps = np.diff(table.times_us)
    gaps = int((steps > 1.5e6 * d.interval_s).sum())
    # All of it is kept, also what stands there already: were the other file withdrawn, nothing would be missing.
    for channel, values in zip(of, table.values, strict=True):
        flags = series.tested(d, channel, table.times_us, values)
        _write_blocks(w.session, file, channel, table.times_us, values, flags)
    every = float(np.median(steps)) / 1e6
    w.session.add(
        FileIntake(
            file_id=file.id,
            shape=by_shape.as_dict(),
            clock=_clock_body(read.clock),
            told={
                "rows": table.rows,
                "new": int(fresh.sum()),
                "there": int(fresh.size - fresh.sum()),
                "same": table.same,
                "gaps": gaps,
                "interval_s": every,
                "missing": {c.quantity: n for c, n in zip(by_shape.columns, table.missing, strict=True) if n},
            },
            starts=moment(float(right_us[0])),
            ends=last,
            at=w.now,
            by_id=w.actor.id,
        )
    )
    w.session.flush()
    w.record(f"deployment:{d.id}", {"taken_in": file.name, "new": int(fresh.sum())})
    return TakenIn(str(file.id), int(fresh.sum()), int(fresh.size - fresh.sum()), gaps)


def _clock_body(known: Clock | None) -> dict[str, Any]:
    if known is None:
        return {}
    return {"at_s": list(known.at_s), "ahead_s": list(known.ahead_s), "working": known.working.as_dict()}


def _fresh(session: Session, whole: Whole, table: LoggedTable, of: Sequence[Channel]) -> NDArray[np.bool_]:
    """Which records are new. Raises Conflict where one stands there with other values."""
    t = table.times_us
    others = [f for f in whole.standing_files if f.intake is not None]
    fresh = np.ones(t.size, dtype=bool)
    if not others:
        return fresh
    for channel, values in zip(of, table.values, strict=True):
        there_t, there_v, there_file = series.stored(session, channel, others, int(t[0]), int(t[-1]))
        if not there_t.size:
            continue
        place = np.searchsorted(there_t, t)
        place[place == there_t.size] = 0
        is_there = there_t[place] == t
        other = there_v[place]
        differs = is_there & ~((values == other) | (np.isnan(values) & np.isnan(other)))
        if differs.any():
            first = int(np.flatnonzero(differs)[0])
            name = next(f.file.name for f in others if f.file.id == there_file[int(place[first])])
            raise Conflict(
                say(
                    "{title} at {at} is {new:.6g} here and {old:.6g} in “{name}”; {n} records differ. One of the files is "
                    "of another logger or in another unit. Withdraw the wrong one first.",
                    title=channels.title(channel.quantity),
                    at=moment(int(t[first])),
                    new=float(values[first]),
                    old=float(other[first]),
                    name=name,
                    n=int(differs.sum()),
                )
            )
        fresh &= ~is_there
    return fresh


def _write_blocks(
    session: Session,
    file: LoggerFile,
    channel: Channel,
    times_us: NDArray[np.int64],
    values: NDArray[np.float64],
    flags: NDArray[np.int8],
) -> None:
    raw = session.connection().connection.driver_connection
    assert raw is not None
    with (
        raw.cursor() as cursor,
        cursor.copy(f"copy deployment_blocks ({', '.join(_COLUMNS)}) from stdin (format binary)") as copy,
    ):
        copy.set_types(_TYPES)
        for b in blocks.pack(times_us, values, flags):
            copy.write_row(
                (
                    file.id,
                    channel.id,
                    b.number,
                    moment(b.starts_us),
                    moment(b.ends_us),
                    b.count,
                    b.odd,
                    b.low,
                    b.high,
                    b.parts,
                    b.samples,
                )
            )


@writes("deployment.withdraw_file", Written)
def withdraw(w: Write, *, file_id: str, reason: str) -> Written:
    """A wrong file: kept as it came, counted nowhere. By the lead, or by who brought it while nothing is signed."""
    file = file_of(w.session, file_id)
    d = locked(w, str(file.deployment_id))
    whole = whole_of(w.session, d)
    if any(f.end is not None for f in whole.files if f.file.id == file.id):
        raise MovedOn("This file was withdrawn before.")
    if not may_withdraw(w.actor.role, w.actor.id, whole, file):
        raise NotAllowed(
            "A file is withdrawn by who brought it while nothing of the deployment is signed; then by the lead."
        )
    w.session.add(FileEnd(file_id=file.id, reason=clean_reason(reason), at=w.now, by_id=w.actor.id))
    w.session.flush()
    w.record(f"deployment:{d.id}", {"withdrawn": file.name})
    return Written(str(d.id))


def may_withdraw(role: str, person: uuid.UUID, whole: Whole, file: LoggerFile) -> bool:
    """The lead, or whoever brought the file in as long as nothing is signed."""
    return role == "lead" or (person == file.by_id and not any(whole.corrections.values()))
