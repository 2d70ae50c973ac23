"""A file from the moment it came to the moment it is taken back: kept, mapped, tried, written whole or not at all."""

from __future__ import annotations

import hashlib
import json
import uuid
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func, insert, literal, select
from sqlalchemy.orm import Session, undefer

from brumel.core.errors import InputError, InputErrors
from brumel.formats.tables_in import TableIn, read_table
from brumel.store.imports import Import, ImportedRow
from brumel.store.rounds import VisitNote
from brumel.store.standing import is_standing
from brumel.store.tables import Reading, User, Visit
from brumel.work.desk import (
    Desk,
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
from brumel.work.records.importing.mapping import Mapping, check, guess
from brumel.work.records.importing.readings import PastReading, RowFault, by_visit, read_rows
from brumel.work.records.importing.things import Made, make_things, put_away

#: What can be brought in, in the order in which a practice does it.
KINDS = {
    "sites": "Sites",
    "probes": "Meters and their probes",
    "lots": "Solutions by lot",
    "readings": "Readings of before",
}
#: What stands behind a reading that was brought in.
BACKING = "brought in from {file}, line {line}; no calibration on record"
#: Faults a page lists; all are counted.
LISTED = 200
_AT_ONCE = 1000

Told = Callable[[int, int], None]


def _quiet(done: int, of: int) -> None:
    """Nobody listens."""


@writes("import.upload", Written)
def upload(w: Write, *, kind: str, file_name: str, data: bytes) -> Written:
    """Keep a file that is to be brought in, as a table of text; nothing of it is in the record yet."""
    _only_the_lead(w.actor)
    if kind not in KINDS:
        raise InputError("kind", "Choose what the file holds.", value=kind)
    table, name = read_table(data, file_name, kind), " ".join(file_name.replace("\x00", "").split())[:120] or "a file"
    row = Import(
        kind=kind,
        file_name=name,
        sha256=hashlib.sha256(data).hexdigest(),
        body=_as_text(table),
        mapping=guess(kind, table.columns).as_dict(),
        counts={"rows": len(table.rows)},
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.session.flush()
    w.record(f"import:{row.id}", {"kind": kind, "file": name, "sha256": row.sha256})
    return Written(str(row.id))


def _only_the_lead(actor: User) -> None:
    if actor.role != "lead":
        raise NotAllowed("Tables are brought in by the lead.")


def _as_text(table: TableIn) -> bytes:
    """The table as JSON, so that a workbook is read once."""
    return json.dumps({"columns": table.columns, "rows": table.rows}, ensure_ascii=False).encode()


def _table(row: Import) -> TableIn:
    kept = json.loads(row.body)
    return TableIn(tuple(kept["columns"]), tuple((line, tuple(cells)) for line, cells in kept["rows"]))


def imports(session: Session, count: int = 30) -> list[Import]:
    """What was brought in or begun, the newest first."""
    return list(session.scalars(select(Import).order_by(Import.number.desc()).limit(count)))


def find_import(session: Session, import_id: str) -> Import:
    """One of them. Raises NotFound."""
    row = session.get(Import, object_id(import_id, "import"))
    if row is None:
        raise NotFound("There is no such import.")
    return row


def _open(w: Write, import_id: str) -> Import:
    _only_the_lead(w.actor)
    query = select(Import).where(Import.id == object_id(import_id, "import")).options(undefer(Import.body))
    row = w.session.scalar(query.with_for_update(of=Import))
    if row is None:
        raise NotFound("There is no such import.")
    if row.state != "open":
        raise MovedOn(f"This was {row.state} already.")
    return row


@writes("import.map", Written)
def keep_mapping(w: Write, *, import_id: str, mapping: Mapping) -> Written:
    """Keep how the columns of a file are read. All faults of the mapping at once."""
    row = _open(w, import_id)
    faults = check(row.kind, mapping, _table(row).columns)
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    row.mapping = mapping.as_dict()
    w.record(f"import:{row.id}", {"columns": dict(mapping.columns)})
    return Written(str(row.id))


@writes("import.drop", Written)
def drop(w: Write, *, import_id: str) -> Written:
    """Leave a file that was not written; nothing of it is in the record."""
    row = _open(w, import_id)
    row.state, row.body = "dropped", b""
    w.record(f"import:{row.id}", {"file": row.file_name})
    return Written(str(row.id))


# -- trying


@dataclass(frozen=True)
class Preview:
    """What would come of a file: its columns with their first cells, the first rows made sense of, every fault.

    made : how many things would be written; of : how many rows there are; clean : how many rows have no fault
    """

    columns: Sequence[tuple[str, Sequence[str]]]
    mapping_faults: Sequence[InputError]
    faults: Sequence[RowFault]
    first: Sequence[PastReading]
    made: int
    of: int
    clean: int


def preview(desk: Desk, actor: User, import_id: str) -> Preview:
    """Try a whole file without writing anything of it."""
    with desk.sessions() as session:
        row = session.scalar(
            select(Import).where(Import.id == object_id(import_id, "import")).options(undefer(Import.body))
        )
        if row is None:
            raise NotFound("There is no such import.")
        table, mapping = _table(row), Mapping.from_dict(row.mapping)
        cells = [(name, [r[1][i] for r in table.rows[:3]]) for i, name in enumerate(table.columns)]
        wrong = check(row.kind, mapping, table.columns)
        if wrong:
            return Preview(cells, wrong, [], [], 0, len(table.rows), 0)
        if row.kind == "readings":
            found = read_rows(session, table, mapping, desk.clock())
            made, faults, first = len(found.readings), found.faults, found.readings[:8]
        else:
            w = Write(session, actor, desk.clock(), uuid.uuid4(), "import.try", desk.clock())
            things, faults = make_things(w, row.kind, table, mapping)
            made, first = len(things), []
            session.rollback()
        clean = len(table.rows) - len({fault.line for fault in faults})
        return Preview(cells, [], faults, first, made, len(table.rows), clean)


# -- writing


@dataclass(frozen=True)
class BroughtIn:
    """What was written of a file: how many things, of how many rows, and how many rows were left out."""

    id: str
    made: int
    rows: int
    left_out: int


@writes("import.write", BroughtIn)
def write(w: Write, *, import_id: str, leave_out: bool = False, told: Told = _quiet) -> BroughtIn:
    """Write a whole file, or nothing of it.

    leave_out : rows with a fault are left out; otherwise one of them stops it all
    told : hears how far it is, of 100
    """
    row = _open(w, import_id)
    table, mapping = _table(row), Mapping.from_dict(row.mapping)
    wrong = check(row.kind, mapping, table.columns)
    if wrong:
        raise wrong[0] if len(wrong) == 1 else InputErrors(wrong)
    of = len(table.rows)
    if row.kind == "readings":
        found = read_rows(w.session, table, mapping, w.now, lambda n: told(n * 40 // of, 100))
        faults, made = found.faults, len(found.readings)
        _stop_at(faults, leave_out, made)
        _keep_readings(w, row, found.readings, told)
    else:
        things, faults = make_things(w, row.kind, table, mapping, lambda n: told(n * 100 // of, 100))
        made = len(things)
        _stop_at(faults, leave_out, made)
        w.session.add_all(
            [
                ImportedRow(import_id=row.id, thing=thing, thing_id=uuid.UUID(id_), line=line)
                for line, (thing, id_) in things
            ]
        )
    left_out = len({fault.line for fault in faults})
    row.state, row.written_at = "written", w.now
    row.counts = {"made": made, "rows": of, "left_out": left_out}
    w.record(f"import:{row.id}", {"file": row.file_name, **row.counts})
    told(100, 100)
    return BroughtIn(str(row.id), made, of, left_out)


def _stop_at(faults: Sequence[RowFault], leave_out: bool, made: int) -> None:
    if faults and not leave_out:
        raise Refused(f"{len(faults)} rows cannot be read, the first in line {faults[0].line}: {faults[0].words}")
    if not made:
        raise Refused("No row of the file can be read.")


def _keep_readings(w: Write, row: Import, readings: Sequence[PastReading], told: Told) -> None:
    visits: list[dict[str, Any]] = []
    marks: list[dict[str, Any]] = []
    notes: list[dict[str, Any]] = []
    kept: list[dict[str, Any]] = []
    count, total = 0, len(readings)
    for group in by_visit(list(readings)):
        visit_id = uuid.uuid4()
        visits.append(
            {
                "id": visit_id,
                "site_id": group[0].site.id,
                "operator_id": w.actor.id,
                "source": "imported",
                "at": group[0].at,
            }
        )
        marks.append({"import_id": row.id, "thing": "visit", "thing_id": visit_id, "line": group[0].line})
        said = "; ".join(dict.fromkeys(reading.note for reading in group if reading.note))
        if said:
            body = {"text": said[:2000]}
            notes.append(
                {
                    "id": uuid.uuid4(),
                    "visit_id": visit_id,
                    "kind": "note",
                    "body": body,
                    "at": w.now,
                    "by_id": w.actor.id,
                }
            )
        kept += [_row(w, row, visit_id, reading) for reading in group]
        count += len(group)
        if len(kept) >= _AT_ONCE or count == total:
            for table, rows in ((Visit, visits), (ImportedRow, marks), (VisitNote, notes), (Reading, kept)):
                if rows:
                    w.session.execute(insert(table), rows)
            for table, rows in ((Visit, visits), (VisitNote, notes), (Reading, kept)):
                w.name_rows(table.__tablename__, (each["id"] for each in rows))
            visits, marks, notes, kept = [], [], [], []
            told(40 + count * 59 // total, 100)


def _row(w: Write, of: Import, visit_id: uuid.UUID, reading: PastReading) -> dict[str, Any]:
    return {
        "id": uuid.uuid4(),
        "root_id": uuid.uuid4(),
        "version": 1,
        "visit_id": visit_id,
        "site_id": reading.site.id,
        "quantity": reading.quantity,
        "at": reading.at,
        "depth_m": reading.depth_m,
        "role": "first",
        "parents": [],
        "backing": "unbacked",
        "backing_words": BACKING.format(file=of.file_name, line=reading.line),
        "entered_as": "imported",
        "raw": reading.raw,
        "raw_unit": reading.raw_unit,
        "temperature_c": reading.temperature_c,
        "value": reading.value,
        "unit": reading.unit,
        "working": {"title": "Brought in as it was recorded", "steps": []},
        "settling": {},
        "findings": [],
        "flag": reading.flag,
        "outcome": "",
        "outcome_words": "",
        "grade": "",
        "struck": False,
        "reason": "",
        "by_id": w.actor.id,
        "written_at": w.written,
    }


# -- taking back


@writes("import.take_back", Written)
def take_back(w: Write, *, import_id: str, reason: str) -> Written:
    """Take back all that a file brought in: readings are struck out by new versions, things are put away.

    Nothing is deleted. Refused, with the reason, where something of it can no longer be put away.
    """
    _only_the_lead(w.actor)
    row = w.session.scalar(select(Import).where(Import.id == object_id(import_id, "import")).with_for_update(of=Import))
    if row is None:
        raise NotFound("There is no such import.")
    if row.state != "written":
        raise MovedOn(f"This is {row.state}; only what was written can be taken back.")
    why = clean_reason(reason)
    if row.kind == "readings":
        _strike_all(w, row, f"Import {row.number} taken back: {why}")
    else:
        things: list[Made] = [
            (one.thing, str(one.thing_id))
            for one in w.session.scalars(select(ImportedRow).where(ImportedRow.import_id == row.id))
        ]
        put_away(w, things, f"Import {row.number} taken back: {why}")
    row.state, row.taken_back_at, row.reason = "taken back", w.now, why
    w.record(f"import:{row.id}", {"file": row.file_name, "reason": why})
    return Written(str(row.id))


def _strike_all(w: Write, row: Import, why: str) -> None:
    """A struck version of each standing reading of the import, in the database alone: there may be 100 000."""
    made_new: dict[str, Any] = {
        "id": func.gen_random_uuid(),
        "version": Reading.version + 1,
        "struck": literal(True),
        "reason": literal(why),
        "by_id": literal(w.actor.id),
        "written_at": literal(w.written),
    }
    columns = list(Reading.__table__.columns)
    visits = select(ImportedRow.thing_id).where(ImportedRow.import_id == row.id, ImportedRow.thing == "visit")
    query = select(*(made_new.get(column.name, column) for column in columns)).where(
        Reading.visit_id.in_(visits), is_standing(), Reading.struck.is_(False)
    )
    struck = insert(Reading).from_select([column.name for column in columns], query).returning(Reading.id)
    w.name_rows("readings", w.session.scalars(struck))
