"""What readings suffer beside their calibration's budget, per quantity, from `data/doubts.yaml`."""

from __future__ import annotations

import functools

from brumel.methods.loader import DATA
from brumel.methods.model import Limit
from brumel.methods.strict import load_yaml


@functools.cache
def load_doubts() -> dict[str, dict[str, Limit]]:
    """The figures with their sources, by quantity and name."""
    data = load_yaml((DATA / "doubts.yaml").read_text("utf-8"))
    return {
        q: {name: Limit.model_validate(body) for name, body in (figures or {}).items()} for q, figures in data.items()
    }


@functools.cache
def doubt_figures(quantity: str) -> dict[str, float]:
    """The bare figures of a quantity, by name."""
    return {name: limit.value for name, limit in load_doubts()[quantity].items()}
