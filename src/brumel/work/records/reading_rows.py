"""The rows of the readings' CSV: every figure with what it rests on, and who read, decided and signed apart."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from sqlalchemy import Select
from sqlalchemy.orm import Load, Session, aliased, defer, lazyload, load_only, selectinload

from brumel.store.records import Decision, Signature
from brumel.store.tables import Calibration, Client, Reading, Run, Site, User

#: The columns, each with what it holds. Names and units never change; new ones are added at the end.
ABOUT = {
    "reading_id": "the reading; the same for all its versions and in every export",
    "version": "of the reading: a correction is a new version, and the newest stands",
    "client": "whose water it is",
    "site": "where it was read",
    "time_utc": "when it was read, universal time with a Z",
    "zone": "the site's time zone, by its IANA name",
    "depth_m": "below the surface, metres; empty where none was given",
    "role": "first, or second for a second instrument or method beside the first",
    "quantity": "what was measured or calculated, by its key",
    "value": "in the unit of the next column",
    "unit": "of value and uncertainty",
    "expanded_uncertainty_k2": "k = 2, in the same unit; empty where it is not known",
    "reference_temperature": "25 °C where the value is brought there, else the sample's own",
    "compensation": "how a conductivity was brought to 25 °C",
    "temperature_c": "of the sample, °C; empty where a reading that was brought in has none on record",
    "pressure_hpa": "at the station, hPa, where it went into the value",
    "tds_factor": "between conductivity at 25 °C and TDS, where the value is TDS",
    "reference_electrode": "against which a potential is stated",
    "raw": "what the probe or its display showed",
    "raw_unit": "of raw",
    "entered_as": "how it came: live, typed, by hand, calculated, imported",
    "backing": "what stands behind it: bracketed, open, corrected, doubtful, not reported, unbacked, by hand",
    "grade": "of a corrected value, by the size of its correction",
    "limit_outcome": "against the site's limit: met, cannot tell, exceeded; empty where there is none",
    "limit": "the same in a sentence",
    "calibration_id": "the calibration in force",
    "calibration_number": "the same as people call it",
    "method": "of that calibration",
    "method_version": "of that method",
    "probe": "it was read with",
    "qartod_flag": "1 good, 2 not evaluated, 3 suspect, 4 fail, 9 missing",
    "settling": "settled, or early where it was taken before",
    "read_by": "who read it",
    "version_by": "who wrote this version",
    "decision": "of the lead about it",
    "decided_by": "who decided",
    "signed_by": "who signed this version; empty where it waits",
    "signed_utc": "when, universal time with a Z",
    "reason": "why this version, or why the value may be so",
}
COLUMNS = tuple(ABOUT)


#: Values that are stated at 25 °C; all others are at the sample's own temperature.
AT_25_C = frozenset({"conductivity", "solids"})


#: How a unit is written where the record leaves it out because the quantity's name says it.
UNITS = {"ph": "pH", "salinity": "PSS-78"}


def rows(session: Session, query: Select[Any], reading: type[Reading]) -> Iterator[dict[str, Any]]:
    """One row a reading of the query, whose entity is `reading`, in its order."""
    first, reader, place = aliased(Reading), aliased(User), aliased(Site)
    query = (
        query.add_columns(Client.name, place.name, place.zone, reader.name, Signature, Decision)
        .join(place, place.id == reading.site_id)
        .join(Client, Client.id == place.client_id)
        .join(first, (first.root_id == reading.root_id) & (first.version == 1))
        .join(reader, reader.id == first.by_id)
        .outerjoin(Signature, Signature.reading_id == reading.id)
        .outerjoin(Decision, Decision.id == reading.decision_id)
    )
    # What many readings share is asked for once a batch, not with each row.
    calibration = selectinload(reading.calibration).options(defer(Calibration.fit), defer(Calibration.verdict))
    query = query.options(
        lazyload(reading.visit),
        defer(reading.findings),
        selectinload(reading.probe).lazyload("*"),
        selectinload(reading.by),
        calibration.lazyload("*"),
        calibration.selectinload(Calibration.run).options(load_only(Run.id, Run.method), lazyload("*")),
        Load(Signature).lazyload("*"),
        Load(Decision).lazyload("*"),
    )
    for row, client, site, zone, read_by, signature, decision in session.execute(
        query.execution_options(yield_per=500)
    ):
        yield {
            **_place(row, client, site, zone),
            **_value(row),
            **_worth(row),
            "read_by": read_by,
            "version_by": row.by.name,
            "decision": decision.decision if decision else "",
            "decided_by": decision.signed_name if decision else "",
            "signed_by": signature.name if signature else "",
            "signed_utc": _utc(signature.at) if signature else "",
            "reason": row.reason,
        }


def _utc(at: Any) -> str:
    return f"{at:%Y-%m-%dT%H:%M:%SZ}"


def _place(row: Reading, client: str, site: str, zone: str) -> dict[str, Any]:
    return {
        "reading_id": str(row.root_id),
        "version": row.version,
        "client": client,
        "site": site,
        "time_utc": _utc(row.at),
        "zone": zone,
        "depth_m": row.depth_m,
        "role": row.role,
        "quantity": row.quantity,
    }


def _value(row: Reading) -> dict[str, Any]:
    expanded_uncertainty = row.expanded_uncertainty
    return {
        "value": round(row.value, 4),
        "unit": row.unit or UNITS.get(row.quantity, ""),
        "expanded_uncertainty_k2": None if expanded_uncertainty is None else round(expanded_uncertainty, 4),
        "reference_temperature": "25 °C" if row.quantity in AT_25_C else "sample temperature",
        "compensation": compensation(row),
        "temperature_c": None if row.temperature_c is None else round(row.temperature_c, 2),
        "pressure_hpa": pressure_hpa(row),
        "tds_factor": tds_factor(row),
        "reference_electrode": reference_electrode(row),
        "raw": round(row.raw, 3),
        "raw_unit": row.raw_unit,
        "entered_as": row.entered_as,
    }


def _worth(row: Reading) -> dict[str, Any]:
    method = row.calibration.run.method if row.calibration else {}
    return {
        "backing": row.backing,
        "grade": row.grade,
        "limit_outcome": row.outcome,
        "limit": row.outcome_words,
        "calibration_id": str(row.calibration_id or ""),
        "calibration_number": row.calibration.number if row.calibration else None,
        "method": method.get("key", ""),
        "method_version": method.get("version"),
        "probe": row.probe.name if row.probe else "",
        "qartod_flag": row.flag,
        "settling": "early" if row.settling.get("early") else row.settling.get("state", ""),
    }


def compensation(row: Reading) -> str:
    """How a conductivity was brought to 25 °C, as its working says; empty for everything else."""
    named = [s["name"] for s in row.working["steps"] if s["symbol"] == "κ25"]
    return named[0].partition(": ")[2] if named else ""


def pressure_hpa(row: Reading) -> float | None:
    """The station pressure the value was worked out with [hPa]; None where none went into it."""
    return _input(row, "P", r"Saturation at (\d+) hPa")


def tds_factor(row: Reading) -> float | None:
    """The factor between conductivity at 25 °C and TDS; None for everything else."""
    return _input(row, "f", r"(?:TDS|Dissolved solids), factor ([\d.]+)")


def _input(row: Reading, symbol: str, title: str) -> float | None:
    """An input of the working by its symbol; workings written before it had one say it in their title."""
    for step in row.working["steps"]:
        for given in step["inputs"]:
            if given["symbol"] == symbol:
                return float(given["value"])
    matched = re.match(title, row.working["title"])
    return float(matched.group(1)) if matched else None


def reference_electrode(row: Reading) -> str:
    """Against which electrode a potential is stated; empty where the value is none."""
    if row.quantity == "eh":
        return "standard hydrogen electrode"
    if row.quantity != "redox" or row.probe is None:
        return ""
    return row.probe.reference_electrode or "not on record"
