"""What the checks at the ends of a logged series make of it: decided by the lead, in versions; values stay as recorded."""

from __future__ import annotations

import uuid
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core import logged
from brumel.core.working import Worked, Working
from brumel.methods.checks import load_checks
from brumel.store.rounds import Closing, Log, LogRuling, LogService, LogValue
from brumel.store.tables import Calibration, User
from brumel.work import closings
from brumel.work.desk import Desk, MovedOn, NotFound, Refused, object_id
from brumel.work.reasons import clean_reason
from brumel.work.rounds import words
from brumel.work.rulings import lead_signs


def log(session: Session, log_id: str | uuid.UUID) -> Log:
    """One series by id; the front door for everything that names one."""
    found = session.get(Log, object_id(log_id, "series"))
    if found is None:
        raise NotFound("There is no such series.")
    return found


@dataclass(frozen=True)
class Effect:
    """What the checks make of a series: errors at its ends, grade, up to which share of its time it may be reported."""

    ends: logged.Ends
    grade: str
    until: float
    until_at: datetime

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        e = self.ends
        return {
            "opening": e.opening, "fouling": e.fouling, "drift": e.drift, "relative": e.relative, "holds": e.holds,
            "grade": self.grade, "until": self.until, "working": e.worked.working.as_dict(),
        }  # fmt: skip

    @staticmethod
    def restored(found: Log, body: dict[str, Any]) -> Effect:
        """As it was worked out when it was decided about, whatever the criteria are now."""
        own = Worked(0.0, "", Working.from_dict(body["working"]))
        ends = logged.Ends(body["opening"], body["fouling"], body["drift"], body["relative"], body["holds"], own)
        return Effect(ends, body["grade"], body["until"], found.starts + body["until"] * (found.ends - found.starts))


DECISIONS = {
    "bracket": "bracketed: the checks at its ends held",
    "correct": "corrected, linear in time between its ends",
    "doubt": "doubtful",
    "reject": "not reported",
}
STATES = {"bracket": "bracketed", "correct": "corrected", "doubt": "doubtful", "reject": "not reported"}


def effect(session: Session, found: Log, service: logged.Service) -> Effect:
    """What a service would make of a series; nothing is written. Refused for a quantity without criteria."""
    if found.quantity not in load_checks().closing:
        raise Refused(
            f"There are no criteria for {words.name(found.quantity)}; what it follows from is what can be checked."
        )
    judged = closings.criteria(found.quantity)
    level = session.scalar(select(func.avg(LogValue.value)).where(LogValue.log_id == found.id)) or 0.0
    ends = logged.ends(service, judged, float(level))
    until = logged.reported_until(ends, judged)
    return Effect(ends, logged.worst_grade(ends, judged), until, found.starts + until * (found.ends - found.starts))


def serve(desk: Desk, actor: User, key: uuid.UUID, *, log_id: str, service: logged.Service) -> dict[str, Any]:
    """What was read when the logger was lifted; the newest stands for the decision. Returns {"service": id}."""
    with desk.write(actor, key, "log.service") as w:
        if w.done:
            return w.done
        found = log(w.session, log_id)
        w.session.execute(select(Log.id).where(Log.id == found.id).with_for_update())
        made = effect(w.session, found, service)
        unit = "%" if made.ends.relative else found.unit
        told = (
            f"Fouling {made.ends.fouling:+.3g} {unit}, drift {made.ends.drift:+.3g} {unit}: "
            f"{'it holds' if made.ends.holds else 'it does not hold'}."
        ).replace("-", "\N{MINUS SIGN}")
        row = LogService(
            id=uuid.uuid4(), log_id=found.id, at=w.now, body=asdict(service), sentence=told, by_id=actor.id
        )
        w.session.add(row)
        w.session.flush()
        return w.finish(f"log:{found.id}", {"sentence": told}, service=row.id)


def services(session: Session, found: Log) -> list[LogService]:
    """What was read at the ends of a series, newest first."""
    return list(session.scalars(select(LogService).where(LogService.log_id == found.id).order_by(LogService.at.desc())))


def waiting(session: Session, count: int = 60) -> list[Log]:
    """The series whose end was read but that nobody decided about, newest first."""
    read = select(LogService.id).where(LogService.log_id == Log.id).exists()
    decided = select(LogRuling.id).where(LogRuling.log_id == Log.id).exists()
    return list(session.scalars(select(Log).where(read, ~decided).order_by(Log.ends.desc()).limit(count)))


def in_standard(session: Session, found: Log) -> tuple[float, float] | None:
    """What a closing check on Bench said of the logger's probe since: read and expected, to start the form with."""
    if found.calibration_id is None:
        return None
    query = select(Closing).where(Closing.calibration_id == found.calibration_id, Closing.at >= found.ends)
    newest = session.scalar(query.order_by(Closing.at).limit(1))
    if newest is None or not newest.checks or newest.probe.quantity != found.quantity:
        return None
    return float(newest.checks[0]["read"]), float(newest.checks[0]["expected"])


def of_service(session: Session, row: LogService) -> Effect:
    """What a kept service makes of its series."""
    return effect(session, log(session, row.log_id), logged.Service(**row.body))


def rulings_of(session: Session, found: Log) -> list[LogRuling]:
    """The decisions about a series, newest first; the first stands."""
    query = select(LogRuling).where(LogRuling.log_id == found.id).order_by(LogRuling.version.desc())
    return list(session.scalars(query))


def barred(found: Log, made: Effect | None) -> dict[str, str]:
    """For each decision the sentence that speaks against it, empty where it may be taken."""
    why = dict.fromkeys(DECISIONS, "")
    if made is None:
        nothing = "Nothing was read at its end; it can be called doubtful or not reported, not more."
        return why | {"bracket": nothing, "correct": nothing}
    if found.calibration_id is None:
        nothing = "No calibration stands behind this series; it can be called doubtful or not reported."
        return why | {"bracket": nothing, "correct": nothing}
    if made.ends.holds:
        return why | {"correct": "The checks held; there is nothing to correct."}
    why["bracket"] = "The checks did not hold; this series cannot be called bracketed."
    if made.until <= 0:
        why["correct"] = "It was off by more than may be corrected from its start; nothing of it can be reported."
    return why


def rule(
    desk: Desk, actor: User, key: uuid.UUID, *, log_id: str, decision: str, reason: str, name: str, version: int,
    service_id: str = "",
) -> dict[str, Any]:  # fmt: skip
    """The lead decides what a series is worth, with name.

    version, service_id : the decision and the reading of its end that the page had shown (0 and empty for none)
    """
    with desk.write(actor, key, "log.rule") as w:
        if w.done:
            return w.done
        lead_signs(actor, name)
        found = log(w.session, log_id)
        w.session.execute(select(Log.id).where(Log.id == found.id).with_for_update())
        have = rulings_of(w.session, found)
        if version != (have[0].version if have else 0):
            raise MovedOn("This series was decided about in another window. You now see it.")
        if decision not in DECISIONS:
            raise Refused("Decide: bracketed, corrected, doubtful, or not reported.")
        newest = next(iter(services(w.session, found)), None)
        made = of_service(w.session, newest) if newest else None
        if service_id != (str(newest.id) if newest else ""):
            raise MovedOn("Its end was read again in another window. You now see what that does.")
        if against := barred(found, made)[decision]:
            raise Refused(against)
        why = clean_reason(reason, required=decision != "bracket" or bool(have))
        row = LogRuling(
            id=uuid.uuid4(), log_id=found.id, version=version + 1, service_id=newest.id if newest else None,
            decision=decision, effect=made.as_dict() if made else {}, reason=why, signed_name=" ".join(name.split()),
            at=w.now, by_id=actor.id,
        )  # fmt: skip
        w.session.add(row)
        w.session.flush()
        return w.finish(f"log:{found.id}", {"decision": decision, "reason": why}, ruling=row.id)


@dataclass(frozen=True)
class Standing:
    """What a series is worth now, in words, and how its values are reported."""

    state: str
    words: str
    by: Effect | None


def standing(session: Session, found: Log) -> Standing:
    """Open, unbacked, or as the newest decision says."""
    have = rulings_of(session, found)
    if not have:
        if found.probe is None or found.calibration_id is None:
            why = (
                "no probe is named"
                if found.probe is None
                else f"{found.probe.name} had no valid calibration when it was set out"
            )
            return Standing("unbacked", f"unbacked: {why}", None)
        number = session.scalar(select(Calibration.number).where(Calibration.id == found.calibration_id))
        return Standing("open", f"open: backed by calibration {number}, its end is not decided about", None)
    newest = have[0]
    told = f"{DECISIONS[newest.decision]}, decided by {newest.signed_name}"
    if newest.decision != "correct":
        return Standing(STATES[newest.decision], told, None)
    made = Effect.restored(found, newest.effect)
    return Standing("corrected", f"{told}; grade {made.grade}", made)
