"""Sites and what was read there."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from datetime import datetime
from functools import cache
from typing import Any, NamedTuple

from sqlalchemy import ARRAY, ColumnElement, Select, String, bindparam, func, literal, select, true
from sqlalchemy.orm import Session, defer, lazyload

from brumel.core import believability as belief
from brumel.core.errors import InputError
from brumel.methods.field import load_field
from brumel.store.base import a_row_each, among
from brumel.store.standing import is_standing
from brumel.store.tables import Client, Reading, Site
from brumel.work.desk import NotFound, object_id

HISTORY = 60


class Earlier(NamedTuple):
    """An earlier reading: its value, when it was read, and what the display or the signal was."""

    value: float
    at: datetime
    raw: float


#: By quantity, newest first.
Past = dict[str, list[Earlier]]


def sites_by_client(session: Session, *, retired: bool = False) -> list[Site]:
    """The sites in use, by client and name."""
    query = select(Site).join(Site.owner).order_by(Client.name, Site.name)
    return list(session.scalars(query if retired else query.where(Site.retired_at.is_(None))))


def site_of(session: Session, site_id: str | uuid.UUID) -> Site:
    """One site by id; the front door for everything that names a site."""
    site = session.get(Site, object_id(site_id, "site"))
    if site is None:
        raise NotFound("There is no such site.")
    return site


def standing(
    session: Session, site_id: uuid.UUID, quantity: str, count: int = HISTORY, depths: tuple[float, float] | None = None
) -> list[Reading]:
    """The standing (newest) versions of a site's readings of a quantity, newest first; of some depths [m] where named."""
    query = select(Reading).options(lazyload("*")).where(Reading.site_id == site_id, Reading.quantity == quantity)
    query = query.where(is_standing(), *_at_depths(depths)).order_by(Reading.at.desc()).limit(count)
    return list(session.scalars(query))


def _at_depths(depths: tuple[Any, Any] | None) -> list[ColumnElement[bool]]:
    return [] if depths is None else [Reading.depth_m.is_(None) | Reading.depth_m.between(*depths)]


class PastReading(NamedTuple):
    """What a drawing of a site's past has use for in a reading."""

    id: uuid.UUID
    visit_id: uuid.UUID
    quantity: str
    at: datetime
    value: float
    unit: str
    expanded_uncertainty: float | None
    backing: str
    flag: int
    role: str
    calibration_id: uuid.UUID | None


def past_readings(
    session: Session,
    site_id: uuid.UUID,
    quantities: Sequence[str],
    count: int = HISTORY,
    depths: tuple[float, float] | None = None,
) -> dict[str, list[PastReading]]:
    """The newest standing readings of several quantities, newest first, by one query that finds those of each in an index."""
    given = {"quantities": list(quantities), "site": site_id, "most": count}
    if depths is not None:
        given |= {"from_m": depths[0], "to_m": depths[1]}
    rows: dict[str, list[PastReading]] = {q: [] for q in quantities}
    for row in session.execute(_newest_of_each(depths is not None), given):
        rows[row.quantity].append(PastReading._make(row))
    return {q: sorted(found, key=lambda r: r.at, reverse=True) for q, found in rows.items()}


@cache
def _newest_of_each(at_depths: bool) -> Select[Any]:
    """Put together once a process: it is asked for with every sheet."""
    wanted = a_row_each("quantities", "wanted", String())
    between = _at_depths((bindparam("from_m"), bindparam("to_m"))) if at_depths else []
    newest = (
        select(*(getattr(Reading, name) for name in PastReading._fields))
        .where(Reading.site_id == bindparam("site"), Reading.quantity == wanted.c.wanted, is_standing(), *between)
        .order_by(Reading.at.desc())
        .limit(bindparam("most"))
        .lateral()
    )
    return select(newest).select_from(wanted).join(newest, true())


def past_values(session: Session, place: Site, before: datetime | None = None, depth_m: float | None = None) -> Past:
    """What this site read before at this depth, per quantity, newest first; failed and unreported ones left out."""
    given: dict[str, Any] = {"quantities": list(load_field()), "site": place.id}
    given |= {} if before is None else {"before": before}
    given |= {} if depth_m is None else {"depth_m": depth_m}
    values: Past = {q: [] for q in load_field()}
    for quantity, value, at, raw in session.execute(_past_values(before is not None, depth_m is not None), given):
        values[quantity].append(Earlier(value, at, raw))
    return {q: sorted(rows, key=lambda r: r.at, reverse=True) for q, rows in values.items()}


@cache
def _past_values(is_before: bool, is_deep: bool) -> Select[Any]:
    """Put together once a process: it is asked for with every sheet."""
    wanted = a_row_each("quantities", "quantity", String())
    part = (
        select(Reading.value, Reading.at, Reading.raw)
        .where(Reading.site_id == bindparam("site"), Reading.quantity == wanted.c.quantity, Reading.role == "first")
        .where(Reading.depth_m == bindparam("depth_m") if is_deep else Reading.depth_m.is_(None))
        .where(Reading.flag != int(belief.Flag.FAIL), Reading.backing != "not reported")
        .where(is_standing())
        .order_by(Reading.at.desc())
        .limit(HISTORY)
    )
    rows = (part.where(Reading.at < bindparam("before")) if is_before else part).lateral()
    return select(wanted.c.quantity, rows.c.value, rows.c.at, rows.c.raw).select_from(wanted).join(rows, true())


#: How many of a site's newest readings of a quantity are looked through for all of its depths.
_ALL_DEPTHS = 4 * HISTORY


def pasts(session: Session, sites: Sequence[Site]) -> dict[uuid.UUID, dict[float | None, Past]]:
    """`past_values` of several sites at every depth they were read at, by one query."""
    if not sites:
        return {}
    wanted = (
        select(Site.id.label("site_id"), func.unnest(literal(list(load_field()), ARRAY(String))).label("quantity"))
        .where(Site.id.in_([s.id for s in sites]))
        .subquery()
    )
    part = (
        select(Reading.value, Reading.at, Reading.raw, Reading.depth_m)
        .where(Reading.site_id == wanted.c.site_id, Reading.quantity == wanted.c.quantity, Reading.role == "first")
        .where(Reading.flag != int(belief.Flag.FAIL), Reading.backing != "not reported")
        .where(is_standing())
        .order_by(Reading.at.desc())
        .limit(_ALL_DEPTHS)
        .lateral()
    )
    query = select(wanted.c.site_id, wanted.c.quantity, part.c.value, part.c.at, part.c.raw, part.c.depth_m)
    found: dict[uuid.UUID, dict[float | None, Past]] = {s.id: {} for s in sites}
    for site_id, quantity, value, at, raw, depth in session.execute(query.select_from(wanted).join(part, true())):
        rows = found[site_id].setdefault(depth, {}).setdefault(quantity, [])
        rows.append(Earlier(value, at, raw))
    for depths in found.values():
        for past in depths.values():
            for quantity, rows in past.items():
                past[quantity] = sorted(rows, key=lambda r: r.at, reverse=True)[:HISTORY]
    return found


def latest(
    session: Session, site_ids: Sequence[uuid.UUID], quantities: Sequence[str]
) -> dict[uuid.UUID, list[Reading]]:
    """The newest standing reading of each quantity at each site, one query for all of them."""
    if not site_ids:
        return {}
    readings: dict[uuid.UUID, list[Reading]] = {i: [] for i in site_ids}
    for row in session.scalars(_newest_at_sites(), {"sites": list(site_ids), "quantities": list(quantities)}):
        readings[row.site_id].append(row)
    return readings


@cache
def _newest_at_sites() -> Select[Reading]:
    """Without the workings, which make most of a row."""
    asked = a_row_each("quantities", "quantity", String())
    every = select(Site.id.label("site_id"), asked.c.quantity).join(asked, true())
    wanted = every.where(among(Site.id, "sites")).subquery()
    # One look into the index for each site and quantity, however many readings there are.
    newest = (
        select(Reading.id)
        .where(Reading.site_id == wanted.c.site_id, Reading.quantity == wanted.c.quantity, Reading.role == "first")
        .where(is_standing())
        .order_by(Reading.at.desc())
        .limit(1)
        .lateral()
    )
    left_out = (defer(column) for column in (Reading.working, Reading.settling, Reading.findings))
    found = Reading.id.in_(select(newest.c.id).select_from(wanted).join(newest, true()))
    return select(Reading).options(lazyload("*"), *left_out).where(found)


def unknown_zone(zone: str) -> InputError:
    """What is said of a time zone that the tz database does not have."""
    return InputError(
        "zone", f"“{zone[:40]}” is not a time zone; write its name in the tz database, as “UTC”.", value=zone[:80]
    )
