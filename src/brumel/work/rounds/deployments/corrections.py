"""A channel's record corrected from one service to the next: drafted from the visits, decided and signed by the lead."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from brumel.core.constants.chosen import REFERENCE_C, TEMPERATURE_COEFFICIENT_PERCENT
from brumel.core.deployed.correction import COURSES, Corrected, Interval, correct
from brumel.core.deployed.oxygen import compensated_mg_l
from brumel.core.deployed.service import ErrorLine, ServiceErrors
from brumel.core.drift import GRADES, DriftCriteria
from brumel.core.errors import InputError, InputErrors
from brumel.core.salinity import practical_salinity
from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Channel, Correction, Mark, MarkEnd, Service
from brumel.work import kit
from brumel.work.desk import (
    MovedOn,
    NotAllowed,
    NotFound,
    Refused,
    Write,
    Written,
    clean_reason,
    lead_signs,
    object_id,
    writes,
)
from brumel.work.rounds.deployments import channels, series
from brumel.work.rounds.deployments.plan import locked
from brumel.work.rounds.deployments.series import Record
from brumel.work.rounds.deployments.visits import back_at, errors_of, reading_of
from brumel.work.rounds.deployments.whole import Whole, moment, us, whole_of

Values = NDArray[np.float64]
#: What a stretch of the record may be flagged as by the lead, by QARTOD's numbers.
MARKS = {1: "good after all", 3: "suspect", 4: "bad"}
MOST_MARKS = 200


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


# -- what comes of it


@dataclass(frozen=True)
class Reported:
    """A channel's record as it is reported now: recorded, reported (NaN where not), flags, grades, U, and each step's size.

    state : "open" while nothing is signed, "corrected" after it, "none" for what has no checks of its own
    """

    record: Record
    values: Values
    fouling: Values
    drift: Values
    compensation: Values
    grade: NDArray[np.int8]
    u: Values
    state: str


@dataclass(frozen=True)
class Recipe:
    """What a correction does: its intervals, and whether oxygen is brought to what was logged beside it."""

    intervals: tuple[Interval, ...]
    salinity: bool = False
    pressure: bool = False

    @classmethod
    def of(cls, correction: Correction) -> Recipe:
        """As it was signed."""
        body = correction.body
        return cls(tuple(Interval.restored(i) for i in body["intervals"]), body["salinity"], body["pressure"])


def newest_recipe(whole: Whole, channel: Channel) -> Recipe | None:
    """The recipe that stands, None while nothing is signed."""
    signed = whole.corrections[channel.id]
    return Recipe.of(signed[0]) if signed else None


def reported(
    session: Session, whole: Whole, channel: Channel, since_us: int | None = None, until_us: int | None = None
) -> Reported:
    """The record of a channel in a span with what is reported of it."""
    of = series.read(session, whole, channel, since_us, until_us)
    return apply(session, whole, channel, of, newest_recipe(whole, channel))


def apply(session: Session, whole: Whole, channel: Channel, of: Record, recipe: Recipe | None) -> Reported:
    """A record by a recipe: fouling and drift off, oxygen compensated; what failed or is missing is not reported."""
    criteria = channels.criteria(channel.quantity)
    shown = np.where(of.flags >= series.OUT_OF_WATER, np.nan, of.values)
    nothing = np.zeros(shown.shape)
    if criteria is None or recipe is None:
        state = "open" if criteria else "none"
        grade = np.full(shown.shape, -1, dtype=np.int8)
        return Reported(of, shown, nothing, nothing, nothing, grade, np.full(shown.shape, np.nan), state)
    done = correct(
        shown, of.times_s, recipe.intervals, criteria, load_deployments().quantities[channel.quantity].uncertainty()
    )
    values, compensation = done.values, nothing
    if recipe.salinity or recipe.pressure:
        values = compensate(session, whole, of, done.values, recipe)
        compensation = np.where(np.isfinite(values), values - done.values, 0.0)
    return Reported(of, values, done.fouling, done.drift, compensation, _grade(done, values), done.u, "corrected")


def _grade(done: Corrected, values: Values) -> NDArray[np.int8]:
    return np.where(np.isfinite(values), done.grade, -1).astype(np.int8)


def compensate(session: Session, whole: Whole, of: Record, oxygen: Values, recipe: Recipe) -> Values:
    """Oxygen with the temperature, salinity and pressure that were logged at the same time; NaN where one is missing."""
    d = whole.deployment
    span = (int(of.times_us[0]), int(of.times_us[-1])) if of.times_us.size else (0, 0)

    def beside(quantity: str) -> Values | None:
        channel = next((c for c in d.channels if c.quantity == quantity), None)
        if channel is None:
            return None
        other = reported(session, whole, channel, *span)
        return _at(of, other.record.times_us, other.values, 1.5e6 * d.interval_s)

    temperature = beside("temperature")
    if temperature is None:
        return np.full(oxygen.shape, np.nan)
    salinity = _salinity(beside, temperature) if recipe.salinity else None
    return compensated_mg_l(
        oxygen,
        temperature,
        salinity=salinity,
        set_salinity=float(d.oxygen_set.get("salinity", 0.0)),
        pressure_hpa=beside("air_pressure") if recipe.pressure else None,
        set_pressure_hpa=float(d.oxygen_set.get("pressure_hpa", 1013.25)),
    )


def _salinity(beside: Any, temperature: Values) -> Values | None:
    """As logged, else from the conductivity logged, which is kept at 25 °C and is brought back to the water's own."""
    logged: Values | None = beside("salinity")
    if logged is not None:
        return logged
    at_25: Values | None = beside("conductivity")
    if at_25 is None:
        return None
    here = at_25 * (1 + TEMPERATURE_COEFFICIENT_PERCENT / 100 * (temperature - REFERENCE_C))
    out = np.full(here.shape, np.nan)
    # Salinity 42, where the scale ends, conducts some 50 mS/cm at 15 °C.
    can = (temperature >= 0) & (temperature <= 35) & (here > 0) & (here < 49_000 * (1 + 0.019 * (temperature - 15)))
    if can.any():
        out[can] = np.clip(np.asarray(practical_salinity(here[can], temperature[can])), 0, 42)
    return out


def _at(of: Record, times_us: Any, values: Values, apart_us: float) -> Values:
    """Values of another channel at the times of this one, linear between neighbours that lie no gap apart."""
    good = np.isfinite(values)
    t, v = times_us[good], values[good]
    if not t.size:
        return np.full(of.times_us.shape, np.nan)
    found = np.interp(of.times_us, t, v, left=np.nan, right=np.nan)
    after = np.clip(np.searchsorted(t, of.times_us), 0, t.size - 1)
    before = np.clip(after - 1, 0, t.size - 1)
    near = np.minimum(np.abs(t[after] - of.times_us), np.abs(t[before] - of.times_us))
    return np.where(near <= apart_us, found, np.nan)


def can_compensate(whole: Whole) -> dict[str, str]:
    """What oxygen may be brought to, by what is logged beside it, in words."""
    logged = {c.quantity for c in whole.deployment.channels}
    found = dict[str, str]()
    if "temperature" in logged and logged & {"salinity", "conductivity"}:
        by = "salinity" if "salinity" in logged else "conductivity"
        set_to = whole.deployment.oxygen_set.get("salinity", 0.0)
        found["salinity"] = f"The logger worked with a salinity of {set_to:g}; bring it to the {by} it logged"
    if "temperature" in logged and "air_pressure" in logged:
        set_to = whole.deployment.oxygen_set.get("pressure_hpa", 1013.25)
        found["pressure"] = f"The logger worked with {set_to:g} hPa; bring it to the air pressure it logged"
    return found


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


def backing(session: Session, whole: Whole, channel: Channel) -> Any:
    """The calibration in force when the logger was set out; None where there was none."""
    started = whole.steps.get("started")
    if channel.probe is None or started is None:
        return None
    found = kit.last_usable(session, channel.probe, before=started.at)
    return found if found is not None and found.valid_until >= started.at else None


def summary(of: Reported) -> dict[str, Any]:
    """How much of a record is reported, in which grade, and how much was taken off at most."""
    there = np.isfinite(of.values)
    names = (*GRADES, "doubtful")
    shares = {name: int((of.grade[there] == i).sum()) for i, name in enumerate(names)}
    size = np.abs(of.fouling) + np.abs(of.drift)
    return {
        "recorded": int(of.values.size),
        "reported": int(there.sum()),
        "grades": {name: n for name, n in shares.items() if n},
        "most_off": float(size[there].max()) if there.any() else 0.0,
    }


def suggested(drafts: Sequence[DraftInterval]) -> list[Chosen]:
    """The courses that follow from the checks."""
    return [Chosen(d.suggested) for d in drafts]


def limits_of(criteria: DriftCriteria) -> str:
    """The grades' limits and the most that is corrected, in words."""
    unit = "%" if criteria.relative else criteria.unit
    parts = [f"{name} to {edge:g}" for name, edge in zip(GRADES, (*criteria.grades, criteria.most), strict=True)]
    return f"{', '.join(parts)} {unit}; more is not reported"


# -- the lead's own word on a stretch


@writes("deployment.mark", Written)
def mark(
    w: Write, *, deployment_id: str, quantity: str, starts: datetime, ends: datetime, flag: int, words: str
) -> Written:
    """Flag a stretch of a channel's record, with why. The values stay, and so do the tests' own flags beneath."""
    if w.actor.role != "lead":
        raise NotAllowed("Flagging a record is for the lead.")
    d = locked(w, deployment_id)
    channel = next((c for c in d.channels if c.quantity == quantity), None)
    if channel is None:
        raise NotFound("The logger does not record that.")
    faults = list[InputError]()
    if flag not in MARKS:
        faults.append(InputError("flag", "A stretch is good after all, suspect, or bad."))
    if not starts <= ends:
        faults.append(InputError("ends", "The stretch ends before it begins."))
    span = whole_of(w.session, d).span()
    if span is None or ends < span[0] or starts > span[1]:
        faults.append(InputError("starts", "Nothing was recorded in this stretch."))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    why = clean_reason(words)
    whole = whole_of(w.session, d)
    if len(whole.marks[channel.id]) >= MOST_MARKS:
        raise Refused(f"A channel takes {MOST_MARKS} marks; take some off first.")
    row = Mark(
        id=uuid.uuid4(),
        channel_id=channel.id,
        starts=starts,
        ends=ends,
        flag=flag,
        words=why,
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.session.flush()
    w.record(
        f"deployment:{d.id}",
        {"marked": quantity, "flag": flag, "from": starts.isoformat(), "to": ends.isoformat(), "why": why},
    )
    return Written(str(row.id))


@writes("deployment.unmark", Written)
def unmark(w: Write, *, mark_id: str, reason: str) -> Written:
    """Take a mark off again, with why."""
    if w.actor.role != "lead":
        raise NotAllowed("Flagging a record is for the lead.")
    row = w.session.get(Mark, object_id(mark_id, "mark"))
    if row is None:
        raise NotFound("There is no such mark.")
    channel = w.session.get_one(Channel, row.channel_id)
    d = locked(w, str(channel.deployment_id))
    if w.session.get(MarkEnd, row.id) is not None:
        raise MovedOn("This mark was taken off before.")
    w.session.add(MarkEnd(mark_id=row.id, reason=clean_reason(reason), at=w.now, by_id=w.actor.id))
    w.session.flush()
    w.record(f"deployment:{d.id}", {"unmarked": channel.quantity})
    return Written(str(d.id))
