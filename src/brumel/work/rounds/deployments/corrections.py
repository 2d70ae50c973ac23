"""A channel's record corrected from one service to the next: drafted from the visits, decided and signed by the lead."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from brumel.core.deployed.correction import COURSES, Interval
from brumel.core.deployed.service import ErrorLine, ServiceErrors
from brumel.core.drift import GRADES, DriftCriteria
from brumel.core.errors import InputError, InputErrors
from brumel.store.deployments import Channel, Correction, Service
from brumel.work.desk import MovedOn, NotFound, Refused, Write, Written, clean_reason, lead_signs, writes
from brumel.work.rounds.deployments import channels, series
from brumel.work.rounds.deployments.plan import locked
from brumel.work.rounds.deployments.reporting import Recipe, apply, backing, can_compensate, summary
from brumel.work.rounds.deployments.series import Record
from brumel.work.rounds.deployments.visits import back_at, errors_of, reading_of
from brumel.work.rounds.deployments.whole import Whole, moment, us, whole_of

Values = NDArray[np.float64]


@dataclass(frozen=True)
class DraftInterval:
    """From one service to the next of one channel, what the visit at its end says, and what may be made of it.

    suggested : a key of COURSES; barred : the courses that cannot be chosen, with why
    """

    starts: datetime
    ends: datetime
    service: Service | None
    errors: ServiceErrors | None
    opening: ErrorLine
    level: float
    count: int
    suggested: str
    barred: dict[str, str]


def draft(session: Session, whole: Whole, channel: Channel, known: Record | None = None) -> list[DraftInterval]:
    """The intervals of a channel's record as its visits cut it, with what each says; none without a record."""
    of = known if known is not None else series.read(session, whole, channel)
    started, span = whole.steps.get("started"), whole.span()
    if started is None or span is None or not of.times_us.size:
        return []
    begins, opening, found = min(started.at, moment(int(of.times_us[0]))), ErrorLine(), list[DraftInterval]()
    for service in whole.services:
        if service.at <= begins:
            continue
        found.append(_interval(channel, of, begins, service.at, service, opening))
        errors = found[-1].errors
        told = reading_of(service, channel.quantity)
        opening = errors.left if errors is not None and told is not None else opening
        begins = back_at(service)
    if span[1] > begins:
        found.append(_interval(channel, of, begins, span[1], None, opening))
    return found


def _interval(
    channel: Channel, of: Record, begins: datetime, ends: datetime, service: Service | None, opening: ErrorLine
) -> DraftInterval:
    here = slice(np.searchsorted(of.times_us, us(begins)), np.searchsorted(of.times_us, us(ends), side="right"))
    seen = of.values[here][of.flags[here] < series.OUT_OF_WATER]
    seen = seen[np.isfinite(seen)]
    level = float(np.median(seen)) if seen.size else 0.0
    errors = errors_of(service, channel, level) if service else None
    is_checked = errors is not None and errors.is_checked
    barred = dict[str, str]()
    if not is_checked:
        why = "Nothing was read at its end; it cannot be said to have held." if service else "It was not visited since."
        barred = {"none": why, "linear": why, "step": why}
        suggested = "doubt"
    elif errors is not None and not errors.holds:
        barred = {"none": "The check at its end did not hold."}
        suggested = "linear"
    else:
        suggested = "none"
    return DraftInterval(begins, ends, service, errors, opening, level, int(seen.size), suggested, barred)


def interval_of(draft: DraftInterval, course: str, from_at: datetime | None = None) -> Interval:
    """A draft with a course as it is corrected by."""
    e = draft.errors
    return Interval(
        draft.starts.timestamp(),
        draft.ends.timestamp(),
        course,  # type: ignore[arg-type]  # one of COURSES, as it was checked
        (e.fouling or 0.0) if e else 0.0,
        draft.opening,
        e.drift if e and e.drift.known else draft.opening,
        from_at.timestamp() if from_at else None,
    )


# -- deciding


@dataclass(frozen=True)
class Chosen:
    """What the lead makes of an interval: a course, and the moment from when on it was wrong, where it is stated."""

    course: str
    from_at: datetime | None = None


@dataclass(frozen=True)
class Decision:
    """A channel's correction as the lead signs it; `version` is the one the page had shown, `visits` its visits' versions."""

    chosen: Sequence[Chosen]
    reason: str
    name: str
    version: int
    visits: str
    salinity: bool = False
    pressure: bool = False


def seen_as(whole: Whole) -> str:
    """What a decision rests on, in short: a page that shows other visits or files than there are now is out of date."""
    visits = [f"{s.root_id}:{s.version}" for s in whole.services]
    files = [f"{f.file.id}:{'-' if f.end else '+'}" for f in whole.files if f.intake]
    return uuid.uuid5(uuid.NAMESPACE_OID, "|".join([*visits, *files])).hex[:16]


def recipe_of(
    whole: Whole, drafts: Sequence[DraftInterval], chosen: Sequence[Chosen], *, salinity: bool, pressure: bool
) -> Recipe:
    """The recipe of what was chosen. Raises every fault at once."""
    faults = list[InputError]()
    if len(chosen) != len(drafts):
        raise MovedOn("This record has other service intervals now. You now see them.")
    for number, (d, c) in enumerate(zip(drafts, chosen, strict=True)):
        if c.course not in COURSES:
            faults.append(InputError(f"course_{number}", "Choose what is made of each interval."))
        elif against := d.barred.get(c.course):
            faults.append(InputError(f"course_{number}", against))
        elif c.from_at is not None and c.course not in ("linear", "step"):
            faults.append(InputError(f"from_{number}", "A moment goes with a correction alone."))
        elif c.from_at is not None and not d.starts <= c.from_at < d.ends:
            faults.append(InputError(f"from_{number}", "The moment must lie in its interval."))
        elif c.course == "step" and c.from_at is None:
            faults.append(InputError(f"from_{number}", "State the moment from when on it was wrong."))
    offered = can_compensate(whole)
    for name, wanted in (("salinity", salinity), ("pressure", pressure)):
        if wanted and name not in offered:
            faults.append(InputError(name, "What that needs was not logged."))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return Recipe(
        tuple(interval_of(d, c.course, c.from_at) for d, c in zip(drafts, chosen, strict=True)), salinity, pressure
    )


@writes("deployment.correct", Written)
def sign(w: Write, *, deployment_id: str, quantity: str, decision: Decision) -> Written:
    """The lead decides what a channel's record is worth, interval by interval, with name; values stay as recorded."""
    lead_signs(w.actor, decision.name)
    d = locked(w, deployment_id)
    channel = _checkable(d.channels, quantity)
    whole = whole_of(w.session, d)
    have = whole.corrections[channel.id]
    if decision.version != (have[0].version if have else 0):
        raise MovedOn("This channel was decided about in another window. You now see it.")
    if decision.visits != seen_as(whole):
        raise MovedOn("A visit or a file of this deployment has changed meanwhile. You now see what that does.")
    of = series.read(w.session, whole, channel)
    drafts = draft(w.session, whole, channel, of)
    if not drafts:
        raise Refused("There is no record of this channel yet.")
    recipe = recipe_of(whole, drafts, decision.chosen, salinity=decision.salinity, pressure=decision.pressure)
    other = any(c.course != d.suggested or c.from_at for d, c in zip(drafts, decision.chosen, strict=True))
    row = Correction(
        id=uuid.uuid4(),
        channel_id=channel.id,
        version=decision.version + 1,
        body={
            "intervals": [i.as_dict() for i in recipe.intervals],
            "salinity": recipe.salinity,
            "pressure": recipe.pressure,
            "workings": [i.errors.working.as_dict() if i.errors else None for i in drafts],
            "services": [str(i.service.id) if i.service else None for i in drafts],
            "summary": summary(apply(w.session, whole, channel, of, recipe)),
            "calibration": _calibration(w.session, whole, channel),
        },
        reason=clean_reason(decision.reason, required=other or bool(have)),
        signed_name=" ".join(decision.name.split()),
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.session.flush()
    w.record(f"deployment:{d.id}", {"corrected": quantity, "version": row.version, "reason": row.reason})
    return Written(str(row.id))


def _checkable(several: Sequence[Channel], quantity: str) -> Channel:
    channel = next((c for c in several if c.quantity == quantity), None)
    if channel is None:
        raise NotFound("The logger does not record that.")
    if channels.criteria(quantity) is None:
        raise Refused(f"{channels.title(quantity)} has no checks of its own; it is reported as recorded.")
    return channel


def _calibration(session: Session, whole: Whole, channel: Channel) -> str:
    """The number of the calibration that stood behind the channel when it was set out, empty for none."""
    backed = backing(session, whole, channel)
    return str(backed.number) if backed else ""


def suggested(drafts: Sequence[DraftInterval]) -> list[Chosen]:
    """The courses that follow from the checks."""
    return [Chosen(d.suggested) for d in drafts]


def limits_of(criteria: DriftCriteria) -> str:
    """The grades' limits and the most that is corrected, in words."""
    unit = "%" if criteria.relative else criteria.unit
    parts = [f"{name} to {edge:g}" for name, edge in zip(GRADES, (*criteria.grades, criteria.most), strict=True)]
    return f"{', '.join(parts)} {unit}; more is not reported"
