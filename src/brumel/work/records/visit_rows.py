"""The wide table: one row a visit and depth, every quantity in columns of its own, whose names never change."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from sqlalchemy.orm import Session

from brumel.core.quantity_table import ON_SHEET
from brumel.store.tables import Visit
from brumel.work.records import visits
from brumel.work.records.narrowing import Search

#: What stands before the quantities, each with what it holds.
ABOUT = {
    "visit_id": "the visit; the same in every export",
    "client": "whose water it is",
    "site": "where it was read",
    "latitude": "of the site, WGS 84, degrees north; empty where it is not on record",
    "longitude": "of the site, WGS 84, degrees east; empty where it is not on record",
    "time_utc": "when the visit began, universal time with a Z",
    "zone": "the site's time zone, by its IANA name",
    "depth_m": "below the surface, metres; empty for what was read without a depth",
    "round": "the round it belonged to; empty for a single visit",
    "read_by": "who read it",
    "unsigned": "how many readings of the row wait for a signature",
}
#: A column's name ends with the unit that all of its values are in.
_UNIT_NAMES = {
    "temperature": "c",
    "ph": "",
    "conductivity": "us_cm_25c",
    "salinity": "pss78",
    "solids": "mg_l",
    "oxygen": "mg_l",
    "saturation": "pct",
    "redox": "mv",
    "eh": "mv",
    "nitrate": "mg_l_n",
    "ammonium": "mg_l_n",
    "ammonia": "mg_l_n",
    "chlorine": "mg_l",
    "total_chlorine": "mg_l",
    "combined_chlorine": "mg_l",
    "hypochlorous": "mg_l",
    "carbon_dioxide": "mg_l",
}
#: What is said of each value, by the end of its column's name.
PARTS = {
    "": "the value",
    "_u_k2": "its expanded uncertainty, k = 2, in the same unit; empty where it is not known",
    "_flag": "QARTOD: 1 good, 2 not evaluated, 3 suspect, 4 fail, 9 missing",
    "_backing": "what stands behind it: bracketed, open, corrected, doubtful, not reported, unbacked, by hand",
    "_limit": "against the site's limit: met, cannot tell, exceeded; empty where there is none",
}


def value_column(quantity: str) -> str:
    """The name of a quantity's column of values: "oxygen_mg_l"."""
    return "_".join(part for part in (quantity, _UNIT_NAMES[quantity]) if part)


COLUMNS = (*ABOUT, *(value_column(q) if not part else f"{q}{part}" for q in ON_SHEET for part in PARTS))
#: Visits that are read at once.
BATCH = 200


def rows(session: Session, search: Search) -> Iterator[dict[str, Any]]:
    """The rows of every visit a search finds, in its order, the surface first. A second instrument's values stand apart."""
    query = visits.ordered(visits.query_of(search), search.sort).options(*visits.in_a_row(whole_site=True))
    for batch in session.scalars(query.execution_options(yield_per=BATCH)).partitions():
        for row in visits.rows_of(session, batch):
            yield from _of_visit(row)


def _of_visit(row: visits.VisitRow) -> Iterator[dict[str, Any]]:
    by_depth: dict[float | None, dict[str, visits.Value]] = {}
    for cell in row.cells.values():
        for value in cell.shown:
            # Read twice at one depth, the newest is what the sheet would show; both stand in the long form.
            by_depth.setdefault(value.depth_m, {})[value.quantity] = value
    for depth in sorted(by_depth, key=lambda d: (d is not None, d or 0.0)):
        values = list(by_depth[depth].values())
        yield {**_about(row.visit, depth, values), **{k: v for value in values for k, v in _said_of(value).items()}}


def _about(visit: Visit, depth: float | None, values: Sequence[visits.Value]) -> dict[str, Any]:
    return {
        "visit_id": str(visit.id),
        "client": visit.site.client,
        "site": visit.site.name,
        "latitude": visit.site.latitude,
        "longitude": visit.site.longitude,
        "time_utc": f"{visit.at:%Y-%m-%dT%H:%M:%SZ}",
        "zone": visit.site.zone,
        "depth_m": depth,
        "round": visit.outing.round.name if visit.outing else "",
        "read_by": visit.operator.name,
        "unsigned": sum(value.is_unsigned for value in values),
    }


def _said_of(value: visits.Value) -> dict[str, Any]:
    u = value.expanded_uncertainty
    return {
        value_column(value.quantity): round(value.value, 4),
        f"{value.quantity}_u_k2": None if u is None else round(u, 4),
        f"{value.quantity}_flag": value.flag,
        f"{value.quantity}_backing": value.backing,
        f"{value.quantity}_limit": value.outcome,
    }
