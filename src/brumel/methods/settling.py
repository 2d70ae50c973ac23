"""Default settling criteria of every quantity, from `data/settling.yaml`."""

from __future__ import annotations

import functools

from brumel.methods.loader import DATA
from brumel.methods.model import SettlingSpec
from brumel.methods.strict import load_yaml


@functools.cache
def load_settling() -> dict[str, SettlingSpec]:
    """The criteria by quantity: ph, conductivity, oxygen, redox, ions, temperature."""
    data = load_yaml((DATA / "settling.yaml").read_text("utf-8"))
    return {quantity: SettlingSpec.model_validate(body) for quantity, body in data.items()}
