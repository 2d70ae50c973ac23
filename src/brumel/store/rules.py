"""What the tables themselves allow only once, in words: the last word where two people are at it in the same moment."""

from __future__ import annotations

from psycopg.errors import UniqueViolation
from sqlalchemy.exc import IntegrityError

#: Rules of the tables by their names, each with what is said to whoever came second.
SENTENCES = {
    "users_username_key": "Somebody has this user name already. Choose another.",
    "meters_one_name": "There is a meter of this name already.",
    "probes_one_name": "There is a probe of this name already.",
    "probes_one_place": "Another probe has this address on the meter's link already.",
    "rounds_one_name": "There is a round of this name already.",
    "clients_name_key": "There is a client of this name already.",
    "sites_one_name": "The client has a site of this name already.",
    "lots_code_key": "A lot of this code is on the shelf already.",
    "method_versions_key_version_key": "The method was changed meanwhile. Reload the page and look at it.",
    "outings_round_id_day_key": "This round has begun for that day already.",
    "points_run_id_step_version_key": "This cup's point was taken meanwhile. Reload the page and look at it.",
    "calibrations_run_id_key": "This run has ended already.",
}
USUAL = "Somebody was quicker: this is there already. Reload the page and look at it."


def rule_of(error: IntegrityError) -> str:
    """The name of the rule that was broken, empty where the driver does not say it."""
    return getattr(getattr(error.orig, "diag", None), "constraint_name", None) or ""


def is_taken(error: IntegrityError) -> bool:
    """Whether it is there already; another broken rule is a fault of ours, and stays one."""
    return isinstance(error.orig, UniqueViolation)


def already_there(error: IntegrityError) -> str:
    """A sentence for whoever came second."""
    return SENTENCES.get(rule_of(error), USUAL)
