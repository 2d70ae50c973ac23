"""Scenarios of the lead's own: a new version of a key each time, put away rather than deleted."""

from __future__ import annotations

import uuid

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.methods.scenarios import load_scenarios, parse_scenario
from brumel.store.practice import PracticeScenario
from brumel.work.desk import MovedOn, NotAllowed, Write, Written, writes
from brumel.work.practice import proving


@writes("practice.scenario", Written)
def save_scenario(w: Write, *, text: str, version: int, in_use: bool = True) -> Written:
    """A scenario from its YAML, as the next version of its key. Raises all faults of the text at once, MovedOn.

    version : the newest the text was made from; 0 for a new key, or one that is shipped
    """
    if w.actor.role != "lead":
        raise NotAllowed("Scenarios are written by the lead.")
    scenario = parse_scenario(text)
    proving.check(scenario)
    newest = w.session.scalar(select(func.max(PracticeScenario.version)).where(PracticeScenario.key == scenario.key))
    if (newest or 0) != version:
        raise MovedOn("This scenario was changed meanwhile. You now see how it stands; nothing was changed.")
    row = PracticeScenario(
        id=uuid.uuid4(),
        key=scenario.key,
        version=version + 1,
        body=scenario.model_dump(mode="json"),
        in_use=in_use,
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.record(f"scenario:{scenario.key}", {"version": row.version, "in_use": in_use})
    return Written(scenario.key)


def versions(session: Session, key: str) -> list[PracticeScenario]:
    """The lead's versions of a scenario, the newest first."""
    query = select(PracticeScenario).where(PracticeScenario.key == key).order_by(PracticeScenario.version.desc())
    return list(session.scalars(query))


def own_keys(session: Session) -> set[str]:
    """The keys the lead has written."""
    return set(session.scalars(select(PracticeScenario.key).distinct()))


def is_shipped(key: str) -> bool:
    """Whether a scenario came with Brumel."""
    return key in load_scenarios()
