"""A learner's own world: a schema with the same tables, of which the real ones see nothing, nor it of them."""

from __future__ import annotations

import uuid
from typing import Any

from sqlalchemy import Connection, Engine, event, func, select, text
from sqlalchemy.orm import Session, SessionTransaction, sessionmaker


def name_of(person_id: uuid.UUID) -> str:
    """The schema of a person's world."""
    return f"practice_{person_id.hex}"


def make(session: Session, person_id: uuid.UUID) -> None:
    """Make a person's world, or empty the one that is there. By a function of the tables' owner."""
    session.execute(select(func.make_practice_world(person_id)))


def drop(session: Session, person_id: uuid.UUID) -> None:
    """Throw a person's world away."""
    session.execute(select(func.drop_practice_world(person_id)))


def is_there(session: Session, person_id: uuid.UUID) -> bool:
    """Whether a person has a world."""
    found = session.scalar(select(func.to_regnamespace(name_of(person_id))))
    return found is not None


def sessions_in(engine: Engine, person_id: uuid.UUID) -> sessionmaker[Session]:
    """Sessions that see a person's world and nothing else: no name of a table ever falls through to the real one."""
    made = sessionmaker(engine, expire_on_commit=False)
    looks_in = text(f"set local search_path to {name_of(person_id)}")  # of a UUID's own digits

    @event.listens_for(made, "after_begin")
    def look(session: Session, transaction: SessionTransaction, connection: Connection) -> Any:
        connection.execute(looks_in)

    return made
