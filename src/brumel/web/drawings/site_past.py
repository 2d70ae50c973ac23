"""What was read at a site before, drawn by quantity."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy.orm import Session

from brumel.store.tables import Site
from brumel.web.access import desk
from brumel.web.drawings import site as site_drawings
from brumel.web.units import scale_of
from brumel.work import rounds
from brumel.work.rounds import site_history


def past_drawn(
    session: Session, site: Site, quantities: Sequence[str], count: int = 40, depth_m: float | None = None
) -> dict[str, Any]:
    """The drawn past of some quantities, at a depth; without one at the shallowest that is read there."""
    return drawn(session, site, readings_before(session, site, quantities, count, depth_m), depth_m)


def at_depth(site: Site, depth_m: float | None) -> tuple[float, float] | None:
    top = min(site.depths, default=None)
    return (depth_m, depth_m) if depth_m is not None else (0.0, float(top)) if top is not None else None


def readings_before(
    session: Session, site: Site, quantities: Sequence[str], count: int, depth_m: float | None = None
) -> dict[str, list[rounds.PastReading]]:
    return rounds.past_readings(session, site.id, quantities, count, depths=at_depth(site, depth_m))


def drawn(
    session: Session, site: Site, readings: Mapping[str, list[rounds.PastReading]], depth_m: float | None = None
) -> dict[str, Any]:
    now = desk().clock()
    read = [r for rows in readings.values() for r in rows]
    since = min((r.at for r in read), default=now)
    known = [quantity for quantity, rows in readings.items() if rows]
    seasons = site_history.seasons(session, site.id, known, now, at_depth(site, depth_m), since)
    spans = site_history.spans(session, readings)
    drawings = {}
    for quantity, rows in readings.items():
        drawings[quantity] = site_drawings.last_readings(
            rows,
            now,
            site.zone,
            site_drawings.BehindReadings(
                site.ranges.get(quantity, {}),
                site.limits.get(quantity, {}),
                spans[quantity],
                seasons.get(quantity, {}),
                scale_of(quantity),
                quantity != "temperature",
            ),
        )
    return drawings
