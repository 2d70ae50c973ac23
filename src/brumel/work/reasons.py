"""Words people give as a reason."""

from __future__ import annotations

from brumel.core.errors import InputError

LONGEST_REASON = 500


def clean_reason(text: str, *, required: bool = True) -> str:
    """A reason as it is kept: trimmed, not empty where one is required, of a sensible length."""
    reason = " ".join(text.replace("\x00", "").split())
    if required and len(reason) < 3:
        raise InputError("reason", "Reason must say why, in a few words.", value=text[:40])
    if len(reason) > LONGEST_REASON:
        raise InputError("reason", f"Reason has {len(reason)} characters; {LONGEST_REASON} are allowed.")
    return reason
