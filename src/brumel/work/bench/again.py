"""The run of last time, offered again in one line: its method, its lots where they are still good, and how it was read."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cache, lru_cache
from typing import Any

from sqlalchemy import Select, Text, cast, func, select, true
from sqlalchemy.orm import Session

from brumel.methods import Method
from brumel.store.base import a_row_each
from brumel.store.tables import Lot, MeterSettings, Probe, Run, RunEnd
from brumel.store.typed_json import RunConditions
from brumel.work.kit.lots import LotView, lot_view
from brumel.work.kit.probes import replaced_lots
from brumel.work.kit.stock import lots_with_left


@dataclass(frozen=True)
class SameAgain:
    """A run as it was last finished.

    cups : the lot of each step that needs one; codes : their names, in the order of the steps
    settings_at : when the meter's settings were recorded, None where they are not on record
    """

    method: Method
    source: str
    cups: Mapping[str, str]
    codes: tuple[str, ...]
    conditions: RunConditions
    settings_at: datetime | None

    @property
    def words(self) -> str:
        """The line: "7 → 4 → 10, by segments; N7-121, N4-118, N10-090"."""
        return "; ".join(part for part in (self.method.title, ", ".join(self.codes)) if part)

    def fields(self) -> dict[str, str]:
        """What the form of a start would hold."""
        keys = {step.key for step in self.method.steps}
        given = {"method": self.method.key, "source": self.source}
        given |= {f"cup-{step}": lot for step, lot in self.cups.items()}
        given |= {name: "yes" for name, key in (("as_found", "as-found"), ("as_left", "as-left")) if key in keys}
        if self.conditions.adjusted:
            given["adjusted"] = "yes"
        if self.conditions.pressure_hpa is not None:
            given |= {"pressure_from": self.conditions.pressure_from, "altitude_m": f"{self.conditions.altitude_m:g}"}
        return given


def same_again(
    session: Session, probes: Sequence[Probe], now: datetime, on_shelf: Sequence[LotView] | None = None
) -> dict[uuid.UUID, SameAgain]:
    """What each of these probes was last calibrated by, where all of it can be taken again as it was.

    Left out are probes on Bench in an open run or without a finished one, runs whose lots are empty, out of date or
    discarded, and a pressure that has to be read anew. Two queries for all of them, one where the lots `on_shelf` are known.
    """
    rows = [row for row in _last_finished(session, probes) if _holds_today(row.conditions)]
    wanted = {uuid.UUID(lot) for row in rows for lot in {**row.cups, **(row.replaced or {})}.values()}
    lots = {str(view.lot.id): view for view in on_shelf or ()}
    if wanted and on_shelf is None:
        lots = {str(lot.id): lot_view(lot, now, left) for lot, left in lots_with_left(session, Lot.id.in_(wanted))}
    unlinked = {p.id for p in probes if p.meter.link == "typed"}
    found = {}
    for row in rows:
        source = "typed" if row.probe_id in unlinked else row.source  # its meter may have had a link then
        method = _method_as_kept(row.method)
        cups = {k: v for k, v in {**row.cups, **(row.replaced or {})}.items() if k in {s.key for s in method.steps}}
        if all(lot in lots and lots[lot].usable for lot in cups.values()):
            codes = tuple(dict.fromkeys(lots[cups[s.key]].lot.code for s in method.steps if s.key in cups))
            found[row.probe_id] = SameAgain(method, source, cups, codes, row.conditions, row.settings_at)
    return found


@lru_cache(maxsize=256)
def _method_as_kept(text: str) -> Method:
    """A method by the JSON that its runs keep; of the few there are, each is read once a process."""
    return Method.model_validate_json(text)


def _holds_today(conditions: RunConditions) -> bool:
    """Whether the conditions may be said again without looking: a pressure only where it comes from the altitude."""
    return conditions.pressure_hpa is None or (
        conditions.pressure_from == "altitude" and conditions.altitude_m is not None
    )


def _last_finished(session: Session, probes: Sequence[Probe]) -> Sequence[Any]:
    return session.execute(_last_of_each(), {"probes": [p.id for p in probes]}).all()


@cache
def _last_of_each() -> Select[Any]:
    wanted = a_row_each("probes", "probe_id")
    run = (
        select(Run)
        .join(RunEnd, RunEnd.run_id == Run.id)
        .where(Run.probe_id == wanted.c.probe_id, Run.purpose == "calibration", RunEnd.how == "finished")
        .order_by(Run.started_at.desc())
        .limit(1)
        .lateral()
    )
    settings_at = (
        select(func.max(MeterSettings.at))
        .join(Probe, Probe.meter_id == MeterSettings.meter_id)
        .where(Probe.id == wanted.c.probe_id)
        .scalar_subquery()
    )
    query = select(
        wanted.c.probe_id,
        cast(run.c.method, Text).label("method"),
        run.c.source,
        run.c.cups,
        run.c.conditions,
        replaced_lots(run.c.id).label("replaced"),
        settings_at.label("settings_at"),
    )
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    on_bench = select(Run.id).where(Run.probe_id == wanted.c.probe_id, ~ended).exists()
    return query.select_from(wanted).join(run, true()).where(~on_bench)
