"""The demo world: Tarnholt Water Survey, made up from end to end, with history made through the real code path."""

from brumel.work.demo.calibrating import Hands
from brumel.work.demo.load import (
    ACCOUNTS,
    BAD_LOT_WEEK,
    IN_BOTTLES,
    ON_THE_SHELF,
    PASSWORD,
    WEEKS,
    give_token,
    history_under_way,
    load_demo,
)

__all__ = [
    "ACCOUNTS",
    "BAD_LOT_WEEK",
    "IN_BOTTLES",
    "ON_THE_SHELF",
    "PASSWORD",
    "WEEKS",
    "Hands",
    "give_token",
    "history_under_way",
    "load_demo",
]
