"""The demo world: Tarnholt Water Survey, made up from end to end, with history made through the real code path."""

from brumel.work.demo.load import (
    ACCOUNTS,
    BAD_LOT_WEEK,
    IN_BOTTLES,
    ON_THE_SHELF,
    PASSWORD,
    WEEKS,
    give_token,
    load_demo,
)

__all__ = ["ACCOUNTS", "BAD_LOT_WEEK", "IN_BOTTLES", "ON_THE_SHELF", "PASSWORD", "WEEKS", "give_token", "load_demo"]
