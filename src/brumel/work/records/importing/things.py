"""Rows of a table as sites, kit or solutions: each goes through the use case that a form goes through."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

from sqlalchemy import select

from brumel.core.errors import InputError
from brumel.core.sentence import joined
from brumel.formats.tables_in import TableIn
from brumel.store.tables import Meter
from brumel.work import kit
from brumel.work.desk import Refused, Write, inside
from brumel.work.kit import lots, meters, probe_record
from brumel.work.records.importing.mapping import Mapping as ColumnMapping
from brumel.work.records.importing.mapping import find_quantity
from brumel.work.records.importing.readings import RowFault
from brumel.work.rounds import site_record

#: A thing that a row became: what it is, and its id.
Made = tuple[str, str]
Cells = Mapping[str, str]


def make_things(
    w: Write, kind: str, table: TableIn, mapping: ColumnMapping, told: Callable[[int], None] = lambda _: None
) -> tuple[list[tuple[int, Made]], list[RowFault]]:
    """Make what every row describes, inside a write, and name the rows that describe nothing that can be."""
    at = {column: place for place, column in enumerate(table.columns)}
    made: list[tuple[int, Made]] = []
    faults: list[RowFault] = []
    for count, (line, row) in enumerate(table.rows, 1):
        cells = {key: row[at[column]] for key, column in mapping.columns.items()}
        try:
            with w.session.begin_nested():
                made += [(line, one) for one in _MAKE[kind](w, cells, mapping)]
        except InputError as error:
            faults.append(RowFault(line, str(joined(str(fault) for fault in error.faults))))
        except Refused as error:
            faults.append(RowFault(line, str(error)))
        if count % 50 == 0:
            told(count)
    return made, faults


def _number(cells: Cells, key: str, label: str, mapping: ColumnMapping) -> float | None:
    text = cells.get(key, "")
    if not text:
        return None
    plain = text.replace("−", "-")
    plain = plain.replace(",", ".") if mapping.decimals == "comma" else plain
    try:
        return float(plain)
    except ValueError:
        raise InputError(key, f"{label} “{text[:40]}” is not a number.", value=text) from None


def _site(w: Write, cells: Cells, mapping: ColumnMapping) -> list[Made]:
    altitude = _number(cells, "altitude_m", "Altitude", mapping)
    if altitude is None:
        raise InputError("altitude_m", "Altitude must be filled in.")
    depths = [
        float(part)
        for part in re.split(r"[;\s]+", cells.get("depths", "").replace(",", "."))
        if _is_number(part, "depths")
    ]
    place = site_record.Place(
        client=cells.get("client", ""),
        name=cells.get("name", ""),
        kind=cells.get("kind", "") or "other",
        zone=cells.get("zone", "") or mapping.zone,
        altitude_m=altitude,
        latitude=_number(cells, "latitude", "Latitude", mapping),
        longitude=_number(cells, "longitude", "Longitude", mapping),
        depths=tuple(depths),
        note=cells.get("note", ""),
    )
    ranges, limits = _lines(cells.get("ranges", "")), _lines(cells.get("limits", ""))
    terms = site_record.terms_of(cells.get("use", ""), ranges, limits, {})
    saved = inside(site_record.save_site)(w, place=place, terms=terms, reason="brought in from a table")
    return [("site", saved.id)]


def _is_number(part: str, key: str) -> bool:
    if not part:
        return False
    try:
        float(part)
    except ValueError:
        raise InputError(key, f"“{part[:40]}” is not a number.", value=part) from None
    return True


def _lines(text: str) -> str:
    """A cell's lines, which a table parts by a semicolon."""
    return "\n".join(part.strip() for part in text.split(";"))


def _probe(w: Write, cells: Cells, mapping: ColumnMapping) -> list[Made]:
    name, serial = " ".join(cells.get("meter", "").split()), cells.get("meter_serial", "").strip()
    meter = w.session.scalar(
        select(Meter).where(Meter.name == name, Meter.serial == serial, Meter.retired_at.is_(None))
    )
    made: list[Made] = []
    meter_id = str(meter.id) if meter else ""
    if not meter_id:
        meter_id = inside(meters.save_meter)(w, meters.MeterForm(name, serial, "typed")).id
        made.append(("meter", meter_id))
    quantity = find_quantity(cells.get("quantity", "")) or cells.get("quantity", "")
    form = probe_record.ProbeForm(
        name=cells.get("name", ""),
        serial=cells.get("serial", ""),
        quantity=quantity,
        meter_id=meter_id,
        kind=cells.get("kind", "") or next(iter(probe_record.KINDS.get(quantity, {})), ""),
        nominal=_number(cells, "nominal", "Cell constant", mapping),
        reference_electrode=cells.get("reference_electrode", ""),
        note=cells.get("note", ""),
    )
    return [*made, ("probe", inside(probe_record.save_probe)(w, form).id)]


def _lot(w: Write, cells: Cells, mapping: ColumnMapping) -> list[Made]:
    quantity = find_quantity(cells.get("quantity", "")) or cells.get("quantity", "")
    measure = lots.NewMeasure(
        quantity=quantity,
        family=cells.get("family", ""),
        label=_lines(cells.get("label", "")),
        expanded_uncertainty=_number(cells, "expanded_uncertainty", "Uncertainty", mapping),
        basis=cells.get("basis", ""),
        against=cells.get("against", ""),
        unit=cells.get("unit", ""),
    )
    new = lots.NewLot(
        code=cells.get("code", ""),
        name=cells.get("name", ""),
        measures=(measure,),
        expires_on=cells.get("expires_on", ""),
        open_days=_number(cells, "open_days", "Days it keeps once open", mapping),
        container=cells.get("container", "") or "bottle",
    )
    return [("lot", inside(kit.add_lot)(w, new).id)]


_MAKE: dict[str, Callable[[Write, Cells, ColumnMapping], list[Made]]] = {"sites": _site, "probes": _probe, "lots": _lot}


def put_away(w: Write, things: list[Made], reason: str) -> None:
    """Put away what was brought in, what hangs on another before it: probes before their meters."""
    order = ("probe", "meter", "lot", "site")
    away: dict[str, Callable[..., Any]] = {
        "probe": lambda id_: inside(kit.retire_probe)(w, probe_id=id_, reason=reason),
        "meter": lambda id_: inside(kit.retire_meter)(w, meter_id=id_, reason=reason),
        "lot": lambda id_: inside(kit.discard_lot)(w, lot_id=id_, reason=reason),
        "site": lambda id_: inside(site_record.retire_site)(w, site_id=id_, reason=reason),
    }
    for thing, id_ in sorted(things, key=lambda one: order.index(one[0])):
        away[thing](id_)
