"""Tables to take away: readings one a row, or visits one a row, as CSV or as a workbook; as a job where there are many."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.sentence import say
from brumel.formats import geojson
from brumel.formats.csv_rows import write_rows
from brumel.formats.datapackage import LICENCES, write_datapackage
from brumel.formats.open_record import OpenRecord
from brumel.formats.sensorthings import write_sensorthings
from brumel.formats.waterml import write_waterml
from brumel.formats.xlsx_rows import write_workbook
from brumel.methods.sources import load_sources
from brumel.store.tables import User
from brumel.web.access import desk
from brumel.web.records import finding
from brumel.work import jobs, records
from brumel.work.records import openly, reading_rows, visit_rows

#: A search that finds more readings is offered as a job instead of a page one waits for.
AT_ONCE = 2000
#: The file of a job is made in memory; more than this is asked for in parts.
MOST = 200_000
#: How often whoever waits is told [rows].
TELL_EVERY = 500

Rows = Callable[[Session, records.Search], Iterator[dict[str, Any]]]


@dataclass(frozen=True)
class Table:
    """A form of the table: its columns with what each holds, and its rows."""

    name: str
    about: Mapping[str, str]
    rows: Rows

    @property
    def columns(self) -> tuple[str, ...]:
        return tuple(self.about)


def _about_visits() -> dict[str, str]:
    said = {}
    for column in visit_rows.COLUMNS:
        end = next((part for part in visit_rows.PARTS if part and column.endswith(part)), "")
        said[column] = visit_rows.ABOUT.get(column) or visit_rows.PARTS[end]
    return said


@dataclass(frozen=True)
class OpenFormat:
    """A format of the outside: what it is, how its file ends, its media type, and what writes it."""

    title: str
    ending: str
    kind: str
    write: Callable[[OpenRecord, str], bytes]


def _package(record: OpenRecord, licence: str) -> bytes:
    return write_datapackage(record, licence, list(load_sources().items()))


#: The formats of the outside, each of the whole that a search finds.
OPEN_FORMATS = {
    "datapackage": OpenFormat("Data package: tables with schemas, units and sources", "zip", "application/zip", _package),
    "waterml": OpenFormat(
        "WaterML 2.0: series with the quality of each value", "xml", "application/xml", lambda r, _: write_waterml(r)
    ),
    "sensorthings": OpenFormat(
        "SensorThings: things, sensors, streams, observations", "json", "application/json",
        lambda r, _: write_sensorthings(r),
    ),
    "geojson": OpenFormat(
        "GeoJSON: a point a reading", "geojson", "application/geo+json", lambda r, _: geojson.write_readings(r).encode()
    ),
}  # fmt: skip


TABLES = {
    "readings": Table("readings", reading_rows.ABOUT, records.export),
    "visits": Table("visits", _about_visits(), visit_rows.rows),
}
KINDS = {"csv": "text/csv; charset=utf-8", "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"}


def pieces(table: Table, kind: str, rows: Iterator[dict[str, Any]]) -> Iterator[bytes]:
    """The file in pieces, as its rows come."""
    if kind == "xlsx":
        return write_workbook(table.columns, rows, table.name, table.about)
    return (piece.encode() for piece in write_rows(table.columns, rows))


def file_name(table: Table, kind: str) -> str:
    """What a browser keeps it as."""
    return f"brumel-{table.name}-{desk().clock():%Y%m%d-%H%M}.{kind}"


def write_found(_asker: User, asked: Mapping[str, Any], tell: jobs.Tell) -> jobs.Done:
    """The jobs: every reading, or every visit, that a search finds."""
    search = finding.of_arguments(asked)
    table, kind = TABLES[asked.get("table") or "readings"], asked.get("kind") or "csv"
    with desk().read() as session:
        of = records.count(session, search)
        if of > MOST:
            raise InputError(
                "since", say("That finds {n} readings; a file holds {most}. Ask for fewer days.", n=of, most=MOST)
            )

        def counted() -> Iterator[dict[str, Any]]:
            for n, row in enumerate(table.rows(session, search)):
                if n % TELL_EVERY == 0:
                    tell(min(n, of), of)
                yield row

        body = b"".join(pieces(table, kind, counted()))
    tell(of, of)
    return jobs.Done(file_name(table, kind), KINDS[kind], body)


def open_file(of: OpenFormat, search: records.Search, licence: str, told: openly.Told = lambda _: None) -> bytes:
    """All that a search finds in a format of the outside. Raises InputError for a licence that is not in the list."""
    if licence not in LICENCES:
        raise InputError("licence", "Choose the licence from the list.", value=licence[:20])
    with desk().read() as session:
        return of.write(openly.open_record(session, search, desk().clock(), told), licence)


def open_name(of: OpenFormat, name: str) -> str:
    """What a browser keeps it as."""
    return f"brumel-{name}-{desk().clock():%Y%m%d-%H%M}.{of.ending}"


def write_openly(_asker: User, asked: Mapping[str, Any], tell: jobs.Tell) -> jobs.Done:
    """The job "open": the same, for what takes longer than a page may be waited for."""
    name, search = str(asked["format"]), finding.of_arguments(asked)
    with desk().read() as session:
        of = records.count(session, search)
    if of > MOST:
        raise InputError(
            "since", say("That finds {n} readings; a file holds {most}. Ask for fewer days.", n=of, most=MOST)
        )
    form = OPEN_FORMATS[name]
    body = open_file(form, search, asked.get("licence") or next(iter(LICENCES)), lambda n: tell(min(n, of), of))
    tell(of, of)
    return jobs.Done(open_name(form, name), form.kind, body)


def check_open(asked: Mapping[str, Any]) -> None:
    """Raises InputError for what cannot be asked for in a format of the outside."""
    finding.of_arguments(asked)
    if asked.get("format") not in OPEN_FORMATS:
        raise InputError("format", f"Choose one of {', '.join(OPEN_FORMATS)}.")
    if (asked.get("licence") or next(iter(LICENCES))) not in LICENCES:
        raise InputError("licence", "Choose the licence from the list.")


def check(asked: Mapping[str, Any]) -> None:
    """Raises InputError for what cannot be asked for."""
    finding.of_arguments(asked)
    if (asked.get("table") or "readings") not in TABLES:
        raise InputError("table", f"Table “{str(asked['table'])[:20]}” is not one of {', '.join(TABLES)}.")
    if (asked.get("kind") or "csv") not in KINDS:
        raise InputError("kind", f"Kind “{str(asked['kind'])[:20]}” is not one of {', '.join(KINDS)}.")
