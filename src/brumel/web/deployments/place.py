"""The place of deployments: its blueprint, and what several of its pages share."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from zoneinfo import ZoneInfo

from flask import Blueprint, request

from brumel.core.errors import InputError
from brumel.methods.deployments import load_deployments
from brumel.work.desk import Refused
from brumel.work.rounds.deployments import Whole, channels

blueprint = Blueprint("deployments", __name__, template_folder="templates", url_prefix="/rounds/deployments")

Faults = Sequence[InputError | Refused]


def zone_of(whole: Whole) -> ZoneInfo:
    """The clock of its site."""
    return ZoneInfo(whole.deployment.site.zone)


def checkable(whole: Whole) -> list[Any]:
    """Its channels that have checks of their own."""
    return [c for c in whole.deployment.channels if channels.criteria(c.quantity)]


def given() -> dict[str, str]:
    """What was typed, where the form comes back."""
    return dict(request.form) if request.method == "POST" else {}


@blueprint.context_processor
def shared() -> dict[str, Any]:
    """What its templates call by name."""
    return {
        "channel_title": channels.title,
        "channel_digits": channels.digits,
        "has_checks": channels.criteria,
        "spec": load_deployments(),
    }
