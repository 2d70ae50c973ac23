"""What each person tried and reached, by skill; what the lead assigned; and who may do which task alone."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.quantity_table import MEASURED
from brumel.methods.scenarios import Scenario
from brumel.store.practice import (
    PracticeAssignment,
    PracticeAttempt,
    PracticeResult,
    SkillRule,
    SkillSigning,
    SkillSigningEnd,
)
from brumel.store.tables import User
from brumel.work.desk import NotAllowed, NotFound, Refused, Write, Written, clean_reason, lead_signs, object_id, writes
from brumel.work.practice.attempts import scenarios

TASKS = {
    "calibrate": "calibrate",
    "check": "check",
    "read": "take readings of",
    "maintain": "maintain probes for",
    "decide": "decide about readings of",
    "trace": "trace results of",
    "log": "look after loggers of",
}
GRADES = {1: "first steps", 2: "with faults", 3: "judgement"}
#: A skill is fresh for so long after it was last reached, then it fades, then it is to be shown anew. Chosen.
FRESH, FADES = timedelta(days=120), timedelta(days=365)
#: For how long a signing may stand.
LONGEST_SIGNING = timedelta(days=2 * 366)
ASKS = {"": "does not ask", "warn": "warns", "block": "asks, and starts nothing without it"}


@dataclass(frozen=True)
class Skill:
    """A task of a quantity as a person stands in it. reached : the highest grade passed, 0 for none"""

    quantity: str
    task: str
    tried: int
    reached: int
    of: int
    last: datetime | None
    age: str
    signing: SkillSigning | None

    @property
    def words(self) -> str:
        """The skill in words."""
        return f"{TASKS[self.task]} {MEASURED[self.quantity].words}"

    @property
    def title(self) -> str:
        """The same as it begins a line."""
        return self.words[:1].upper() + self.words[1:]


@dataclass(frozen=True)
class Assigned:
    """A scenario somebody was given. done : the attempt that passed since then"""

    assignment: PracticeAssignment
    scenario: Scenario | None
    done: uuid.UUID | None


def skills_of(session: Session, person: User, now: datetime) -> list[Skill]:
    """Every skill that scenarios teach, that was tried or that is signed, as a person stands in it."""
    offered = scenarios(session)
    results = results_of(session, person.id)
    signed = standing_signings(session, now, person.id)
    tried = {(r.attempt.told["quantity"], r.attempt.told["skill"]) for r in results}
    wanted = {*((s.quantity, s.skill) for s in offered.values()), *tried, *signed}
    order = list(MEASURED)
    found = []
    for quantity, task in sorted(wanted, key=lambda pair: (order.index(pair[0]), list(TASKS).index(pair[1]))):
        of_skill = [r for r in results if (r.attempt.told["quantity"], r.attempt.told["skill"]) == (quantity, task)]
        passed = [r for r in of_skill if r.passed]
        last = max((r.at for r in passed), default=None)
        grades = [s.grade for s in offered.values() if (s.quantity, s.skill) == (quantity, task)]
        found.append(
            Skill(
                quantity,
                task,
                len(of_skill),
                max((int(r.attempt.told["grade"]) for r in passed), default=0),
                max(grades, default=0),
                last,
                _age(last, now),
                signed.get((quantity, task)),
            )
        )
    return found


def _age(last: datetime | None, now: datetime) -> str:
    if last is None:
        return "not reached"
    return "fresh" if now - last <= FRESH else "fading" if now - last <= FADES else "to be shown anew"


def results_of(session: Session, person_id: uuid.UUID) -> list[PracticeResult]:
    """What a person's attempts came to, the newest first."""
    query = select(PracticeResult).join(PracticeAttempt).where(PracticeAttempt.person_id == person_id)
    return list(session.scalars(query.order_by(PracticeResult.at.desc())))


def open_attempt(session: Session, person_id: uuid.UUID) -> PracticeAttempt | None:
    """The attempt a person is in: their newest, where no finding was given yet."""
    newest = session.scalar(
        select(PracticeAttempt)
        .where(PracticeAttempt.person_id == person_id)
        .order_by(PracticeAttempt.at.desc())
        .limit(1)
    )
    return newest if newest is not None and session.get(PracticeResult, newest.id) is None else None


def assigned_to(session: Session, person_id: uuid.UUID) -> list[Assigned]:
    """What a person was given to do, the open ones first."""
    rows = session.scalars(
        select(PracticeAssignment).where(PracticeAssignment.person_id == person_id).order_by(PracticeAssignment.at)
    ).all()
    offered, results = scenarios(session) if rows else {}, results_of(session, person_id) if rows else []
    found = []
    for row in rows:
        done = [r for r in results if r.passed and r.attempt.scenario == row.scenario and r.at >= row.at]
        found.append(Assigned(row, offered.get(row.scenario), done[-1].attempt_id if done else None))
    return sorted(found, key=lambda a: a.done is not None)


def people_who_practise(session: Session) -> list[User]:
    """Everybody who does the work."""
    query = select(User).where(User.active, User.role.in_(("technician", "lead"))).order_by(User.name)
    return list(session.scalars(query))


def learner_of(session: Session, viewer: User, person_id: str) -> User:
    """A person whose skills are looked at: one's own, or anybody's for the lead. Raises NotFound."""
    person = session.get(User, object_id(person_id, "person"))
    if person is None or person.role not in ("technician", "lead"):
        raise NotFound("There is no such person.")
    if viewer.role != "lead" and person.id != viewer.id:
        raise NotFound("There is no such person.")
    return person


# -- what the lead does


@writes("practice.assign", Written)
def assign(w: Write, *, person_id: str, scenario: str, words: str = "") -> Written:
    """Give somebody a scenario to do. Raises NotFound, InputError, Refused where it is given and not done yet."""
    _only_lead(w.actor)
    person = learner_of(w.session, w.actor, person_id)
    if scenario not in scenarios(w.session):
        raise InputError("scenario", "Choose a scenario from the list.", value=scenario[:40])
    if any(a.assignment.scenario == scenario and a.done is None for a in assigned_to(w.session, person.id)):
        raise Refused(f"{person.name} has this scenario to do already.")
    row = PracticeAssignment(
        id=uuid.uuid4(),
        person_id=person.id,
        scenario=scenario,
        words=clean_reason(words, required=False),
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.record(f"user:{person.id}", {"scenario": scenario})
    return Written(str(row.id))


@writes("skill.sign", Written)
def sign(w: Write, *, person_id: str, quantity: str, task: str, until: datetime, words: str, name: str) -> Written:
    """Sign that somebody may do a task alone until a day. Raises InputError, Refused, NotAllowed."""
    lead_signs(w.actor, name)
    person = learner_of(w.session, w.actor, person_id)
    if quantity not in MEASURED or task not in TASKS:
        raise InputError("skill", "Choose a skill from the list.", value=f"{quantity[:20]} {task[:20]}")
    if not w.now < until <= w.now + LONGEST_SIGNING:
        raise InputError("until", "The day must lie ahead, by two years at most.", value=until.date().isoformat())
    if (quantity, task) in standing_signings(w.session, w.now, person.id):
        raise Refused(
            f"{person.name} may {TASKS[task]} {MEASURED[quantity].words} alone already; take that back first."
        )
    row = SkillSigning(
        id=uuid.uuid4(),
        person_id=person.id,
        quantity=quantity,
        task=task,
        until=until,
        words=clean_reason(words, required=False),
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.record(f"user:{person.id}", {"may": f"{task} {quantity} alone", "until": until.isoformat()})
    return Written(str(row.id))


@writes("skill.take_back", Written)
def take_back(w: Write, *, signing_id: str, reason: str) -> Written:
    """Take a signing back, with a reason. Raises NotFound, Refused."""
    _only_lead(w.actor)
    row = signing_of(w.session, w.actor, signing_id)
    if w.session.get(SkillSigningEnd, row.id) is not None:
        raise Refused("It was taken back already.")
    w.session.add(SkillSigningEnd(signing_id=row.id, reason=clean_reason(reason), at=w.now, by_id=w.actor.id))
    w.record(f"user:{row.person_id}", {"taken back": f"{row.task} {row.quantity} alone", "reason": reason[:200]})
    return Written(str(row.person_id))


@writes("skill.rule", Written)
def set_rule(w: Write, *, asks: str) -> Written:
    """Whether Bench asks for a signed skill. Raises InputError."""
    _only_lead(w.actor)
    if asks not in ASKS:
        raise InputError("asks", "Choose whether Bench asks, warns, or does neither.", value=asks[:20])
    w.session.add(SkillRule(asks=asks, at=w.now, by_id=w.actor.id))
    w.record("practice:rule", {"bench": ASKS[asks]})
    return Written(asks)


def _only_lead(actor: User) -> None:
    if actor.role != "lead":
        raise NotAllowed("Assigning and signing skills is for the lead.")


# -- who may what alone


def standing_signings(session: Session, now: datetime, person_id: uuid.UUID) -> Mapping[tuple[str, str], SkillSigning]:
    """What a person may do alone now, by quantity and task."""
    query = (
        select(SkillSigning)
        .outerjoin(SkillSigningEnd, SkillSigningEnd.signing_id == SkillSigning.id)
        .where(SkillSigning.person_id == person_id, SkillSigning.until > now, SkillSigningEnd.signing_id.is_(None))
        .order_by(SkillSigning.at)
    )
    return {(row.quantity, row.task): row for row in session.scalars(query)}


def signing_of(session: Session, viewer: User, signing_id: str) -> SkillSigning:
    """A signing, for its person and for leads. Raises NotFound."""
    row = session.get(SkillSigning, object_id(signing_id, "signing"))
    if row is None or (row.person_id != viewer.id and viewer.role != "lead"):
        raise NotFound("There is no such signing.")
    return row


def end_of(session: Session, signing: SkillSigning) -> SkillSigningEnd | None:
    """How a signing was taken back; None where it was not."""
    return session.get(SkillSigningEnd, signing.id)


def rule(session: Session) -> str:
    """Whether Bench asks for a signed skill, a key of ASKS."""
    return session.scalar(select(SkillRule.asks).order_by(SkillRule.id.desc()).limit(1)) or ""


def ask_for_skill(session: Session, actor: User, quantity: str, task: str, now: datetime) -> str:
    """What Bench says to somebody without the signed skill; empty where nothing is to be said. Raises Refused.

    The lead signs others and is not asked.
    """
    asks = rule(session) if actor.role != "lead" else ""
    if not asks or (quantity, task) in standing_signings(session, now, actor.id):
        return ""
    words = f"{actor.name} is not signed to {TASKS[task]} {MEASURED[quantity].words} alone yet"
    if asks == "block":
        raise Refused(f"{words}. Ask the lead, or practise it first.")
    return f"{words}; work beside somebody who is."


# -- the tour


@writes("practice.tour", Written)
def tour(w: Write, *, how: str) -> Written:
    """Put down that somebody began the tour, or does without it."""
    if how not in ("begun", "declined"):
        raise InputError("how", "Begin the tour, or do without it.", value=how[:20])
    w.session.get_one(User, w.actor.id).tour = how
    w.session.flush()
    w.record(f"user:{w.actor.id}", {"tour": how})
    return Written(how)


def tour_of(session: Session, person: User) -> list[tuple[Scenario, bool]]:
    """The scenarios of the tour in their order, and whether each has been passed."""
    of_tour = sorted((s for s in scenarios(session).values() if s.tour), key=lambda s: s.tour or 0)
    passed = {r.attempt.scenario for r in results_of(session, person.id) if r.passed}
    return [(s, s.key in passed) for s in of_tour]
