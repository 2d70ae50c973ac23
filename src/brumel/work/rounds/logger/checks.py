"""What the checks at the ends of a logged series make of it: decided by the lead, in versions; values stay as recorded."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from functools import cache
from typing import Any

from sqlalchemy import Select, func, select, true
from sqlalchemy.orm import Session, aliased, lazyload

from brumel.core import logged
from brumel.core.sentence import Amount, say
from brumel.core.working import Worked, Working
from brumel.methods.checks import load_checks
from brumel.store.base import among
from brumel.store.logger import LoggerCheck, LoggerDecision, LoggerSeries, LoggerValue
from brumel.store.records import Closing
from brumel.store.tables import Calibration, Probe, User
from brumel.work.bench import closing_checks
from brumel.work.desk import (
    MovedOn,
    NotAllowed,
    NotFound,
    Refused,
    Write,
    Written,
    alone_with,
    clean_reason,
    lead_signs,
    object_id,
    writes,
)
from brumel.work.quantities import names as quantity_names


def log(session: Session, series_id: str | uuid.UUID) -> LoggerSeries:
    """One series by id; the front door for everything that names one."""
    series = session.get(LoggerSeries, object_id(series_id, "series"))
    if series is None:
        raise NotFound("There is no such series.")
    return series


@dataclass(frozen=True)
class EffectOnSeries:
    """What the checks make of a series: errors at its ends, grade, up to which share of its time it may be reported."""

    ends: logged.Ends
    grade: str
    until: float
    until_at: datetime

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        e = self.ends
        return {
            "opening": e.opening,
            "fouling": e.fouling,
            "drift": e.drift,
            "relative": e.relative,
            "holds": e.holds,
            "grade": self.grade,
            "until": self.until,
            "working": e.worked.working.as_dict(),
        }

    @staticmethod
    def restored(series: LoggerSeries, body: dict[str, Any]) -> EffectOnSeries:
        """As it was worked out when it was decided about, whatever the criteria are now."""
        worked = Worked(0.0, "", Working.from_dict(body["working"]))
        ends = logged.Ends(body["opening"], body["fouling"], body["drift"], body["relative"], body["holds"], worked)
        return EffectOnSeries(
            ends, body["grade"], body["until"], series.starts + body["until"] * (series.ends - series.starts)
        )


DECISIONS = {
    "bracket": "bracketed: the checks at its ends held",
    "correct": "corrected, linear in time between its ends",
    "doubt": "doubtful",
    "reject": "not reported",
}


#: A wrong file is withdrawn: kept and readable, reported nowhere, and no bar to the right one.
WITHDRAWN = "withdraw"
DECIDED = DECISIONS | {WITHDRAWN: "withdrawn"}
STATES = {
    "bracket": "bracketed",
    "correct": "corrected",
    "doubt": "doubtful",
    "reject": "not reported",
    WITHDRAWN: "withdrawn",
}


def effect(session: Session, series: LoggerSeries, service: logged.Service) -> EffectOnSeries:
    """What a service would make of a series; nothing is written. Refused for a quantity without criteria."""
    if series.quantity not in load_checks().closing:
        raise Refused(
            f"There are no criteria for {quantity_names.name(series.quantity)}; what it follows from is what can be checked."
        )
    judged = closing_checks.criteria(series.quantity)
    level = session.scalar(select(func.avg(LoggerValue.value)).where(LoggerValue.series_id == series.id)) or 0.0
    ends = logged.ends(service, judged, float(level))
    until = logged.reported_until(ends, judged)
    return EffectOnSeries(
        ends, logged.worst_grade(ends, judged), until, series.starts + until * (series.ends - series.starts)
    )


_GONE = "This series was withdrawn; nothing is read or decided about it any more. Take the right file in."


def _locked(w: Write, series_id: str) -> LoggerSeries:
    series = log(w.session, series_id)
    alone_with(w.session, series.id)
    return series


def withdrawn_ids() -> Select[Any]:
    """The series that were withdrawn, for a query's condition; nothing is decided about one afterwards."""
    return select(LoggerDecision.series_id).where(LoggerDecision.decision == WITHDRAWN)


def is_withdrawn(decisions: Sequence[LoggerDecision]) -> bool:
    """Whether the newest of a series' decisions, which come newest first, withdrew it."""
    return bool(decisions) and decisions[0].decision == WITHDRAWN


def may_withdraw(actor: User, series: LoggerSeries, decisions: Sequence[LoggerDecision]) -> bool:
    """The lead, or who took the file in as long as nobody decided about it."""
    if is_withdrawn(decisions):
        return False
    return actor.role == "lead" or (actor.id == series.by_id and not decisions)


@writes("series.withdraw", Written)
def withdraw(w: Write, *, series_id: str, version: int, reason: str) -> Written:
    """A wrong file: its values stay as they came, but it is reported nowhere and does not stand in the right one's way.

    version : the decision the page had shown (0 for none). Raises MovedOn, Refused, NotAllowed, InputError.
    """
    series = _locked(w, series_id)
    have = decisions_of(w.session, series)
    if version != (have[0].version if have else 0):
        raise MovedOn("This series was decided about in another window. You now see it.")
    if is_withdrawn(have):
        raise Refused("This series was withdrawn before.")
    if not may_withdraw(w.actor, series, have):
        raise NotAllowed("A series is withdrawn by who took it in, before it is decided about; afterwards by the lead.")
    row = LoggerDecision(
        id=uuid.uuid4(),
        series_id=series.id,
        version=version + 1,
        check_id=None,
        decision=WITHDRAWN,
        effect={},
        reason=clean_reason(reason),
        signed_name=w.actor.name,
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.session.flush()
    w.record(f"series:{series.id}", {"withdrawn": series.name, "reason": row.reason})
    return Written(str(row.id))


@writes("series.check", Written)
def record_service(w: Write, *, series_id: str, service: logged.Service) -> Written:
    """What was read when the logger was lifted; the newest stands for the decision."""
    series = _locked(w, series_id)
    if is_withdrawn(decisions_of(w.session, series)):
        raise Refused(_GONE)
    worked_effect = effect(w.session, series, service)
    unit = "%" if worked_effect.ends.relative else series.unit
    sentence = (
        say(
            "Fouling {fouling}, drift {drift}: {words}.",
            fouling=Amount(worked_effect.ends.fouling, unit, "+.3g", difference=True),
            drift=Amount(worked_effect.ends.drift, unit, "+.3g", difference=True),
            words="it holds" if worked_effect.ends.holds else "it does not hold",
        )
    ).replace("-", "\N{MINUS SIGN}")
    row = LoggerCheck(
        id=uuid.uuid4(), series_id=series.id, at=w.now, body=asdict(service), sentence=sentence, by_id=w.actor.id
    )
    w.session.add(row)
    w.session.flush()
    w.record(f"series:{series.id}", {"sentence": sentence})
    return Written(str(row.id))


def services(session: Session, series: LoggerSeries) -> list[LoggerCheck]:
    """What was read at the ends of a series, newest first."""
    return list(
        session.scalars(select(LoggerCheck).where(LoggerCheck.series_id == series.id).order_by(LoggerCheck.at.desc()))
    )


def waiting(session: Session, count: int = 60) -> list[LoggerSeries]:
    """The series whose end was read but that nobody decided about, newest first."""
    read = select(LoggerCheck.id).where(LoggerCheck.series_id == LoggerSeries.id).exists()
    decided = select(LoggerDecision.id).where(LoggerDecision.series_id == LoggerSeries.id).exists()
    return list(
        session.scalars(select(LoggerSeries).where(read, ~decided).order_by(LoggerSeries.ends.desc()).limit(count))
    )


def in_standard(session: Session, series: LoggerSeries) -> tuple[float, float] | None:
    """What a closing check on Bench said of the logger's probe since: read and expected, to start the form with."""
    if series.calibration_id is None:
        return None
    checks = select(Closing.checks, Probe.quantity).join(Probe, Probe.id == Closing.probe_id)
    since = checks.where(Closing.calibration_id == series.calibration_id, Closing.at >= series.ends)
    first = session.execute(since.order_by(Closing.at).limit(1)).first()
    if first is None or not first.checks or first.quantity != series.quantity:
        return None
    return first.checks[0].read, first.checks[0].expected


def of_service(session: Session, row: LoggerCheck) -> EffectOnSeries:
    """What a kept service makes of its series."""
    return effect(session, log(session, row.series_id), logged.Service(**row.body))


def decisions_of(session: Session, series: LoggerSeries) -> list[LoggerDecision]:
    """The decisions about a series, newest first; the first stands."""
    query = select(LoggerDecision).where(LoggerDecision.series_id == series.id).order_by(LoggerDecision.version.desc())
    return list(session.scalars(query))


def barred(series: LoggerSeries, worked_effect: EffectOnSeries | None) -> dict[str, str]:
    """For each decision the sentence that speaks against it, empty where it may be taken."""
    why = dict.fromkeys(DECISIONS, "")
    if worked_effect is None:
        nothing = "Nothing was read at its end; it can be called doubtful or not reported, not more."
        return why | {"bracket": nothing, "correct": nothing}
    if series.calibration_id is None:
        nothing = "No calibration stands behind this series; it can be called doubtful or not reported."
        return why | {"bracket": nothing, "correct": nothing}
    if worked_effect.ends.holds:
        return why | {"correct": "The checks held; there is nothing to correct."}
    why["bracket"] = "The checks did not hold; this series cannot be called bracketed."
    if worked_effect.until <= 0:
        why["correct"] = "It was off by more than may be corrected from its start; nothing of it can be reported."
    return why


@dataclass(frozen=True)
class SeriesDecision:
    """What the lead decided about a series, why, and the name it was signed with.

    version, check_id : the decision and the reading of its end that the page had shown (0 and empty for none)
    """

    decision: str
    reason: str
    name: str
    version: int
    check_id: str = ""


@writes("series.decide", Written)
def decide(w: Write, *, series_id: str, decided: SeriesDecision) -> Written:
    """The lead decides what a series is worth, with name."""
    lead_signs(w.actor, decided.name)
    series = _locked(w, series_id)
    have = decisions_of(w.session, series)
    if is_withdrawn(have):
        raise Refused(_GONE)
    if decided.version != (have[0].version if have else 0):
        raise MovedOn("This series was decided about in another window. You now see it.")
    if decided.decision not in DECISIONS:
        raise Refused("Decide: bracketed, corrected, doubtful, or not reported.")
    newest = next(iter(services(w.session, series)), None)
    worked_effect = of_service(w.session, newest) if newest else None
    if decided.check_id != (str(newest.id) if newest else ""):
        raise MovedOn("Its end was read again in another window. You now see what that does.")
    if against := barred(series, worked_effect)[decided.decision]:
        raise Refused(against)
    why = clean_reason(decided.reason, required=decided.decision != "bracket" or bool(have))
    row = LoggerDecision(
        id=uuid.uuid4(),
        series_id=series.id,
        version=decided.version + 1,
        check_id=newest.id if newest else None,
        decision=decided.decision,
        effect=worked_effect.as_dict() if worked_effect else {},
        reason=why,
        signed_name=" ".join(decided.name.split()),
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.session.flush()
    w.record(f"series:{series.id}", {"decision": decided.decision, "reason": why})
    return Written(str(row.id))


@dataclass(frozen=True)
class Standing:
    """What a series is worth now, in words, and how its values are reported."""

    state: str
    words: str
    by: EffectOnSeries | None


def standing(session: Session, series: LoggerSeries) -> Standing:
    """Open, unbacked, or as the newest decision says."""
    return standings(session, [series])[0]


def standings(session: Session, several: Sequence[LoggerSeries]) -> list[Standing]:
    """The same of several series, by one query."""
    rows = session.execute(_newest_decisions(), {"several": [series.id for series in several]})
    known = {series_id: (number, decision) for series_id, number, decision in rows}
    return [_standing(series, *known[series.id]) for series in several]


@cache
def _newest_decisions() -> Select[uuid.UUID, int, LoggerDecision]:
    newest = (
        select(LoggerDecision)
        .where(LoggerDecision.series_id == LoggerSeries.id)
        .order_by(LoggerDecision.version.desc())
        .limit(1)
        .lateral()
    )
    return (
        select(LoggerSeries.id, Calibration.number, aliased(LoggerDecision, newest))
        .outerjoin(Calibration, Calibration.id == LoggerSeries.calibration_id)
        .outerjoin(newest, true())
        .options(lazyload("*"))
        .where(among(LoggerSeries.id, "several"))
    )


def _standing(series: LoggerSeries, number: int | None, newest: LoggerDecision | None) -> Standing:
    if newest is None:
        if series.probe is None or series.calibration_id is None:
            why = (
                "no probe is named"
                if series.probe is None
                else f"{series.probe.name} had no valid calibration when it was set out"
            )
            return Standing("unbacked", f"no valid calibration: {why}", None)
        return Standing("open", f"calibration {number} in force; closing check pending", None)
    if newest.decision == WITHDRAWN:
        return Standing("withdrawn", f"withdrawn by {newest.signed_name}: {newest.reason}", None)
    words = f"{DECISIONS[newest.decision]}, decided by {newest.signed_name}"
    if newest.decision != "correct":
        return Standing(STATES[newest.decision], words, None)
    restored = EffectOnSeries.restored(series, newest.effect)
    return Standing("corrected", say("{words}; grade {grade}", words=words, grade=restored.grade), restored)
