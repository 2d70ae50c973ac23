"""Default settling criteria of every quantity, from `data/settling.yaml`."""

from __future__ import annotations

import functools

import yaml

from brumel.methods.loader import DATA
from brumel.methods.model import SettlingSpec


@functools.cache
def load_settling() -> dict[str, SettlingSpec]:
    """The criteria by quantity: ph, conductivity, oxygen, redox, ions, temperature."""
    data = yaml.safe_load((DATA / "settling.yaml").read_text("utf-8"))
    return {quantity: SettlingSpec.model_validate(body) for quantity, body in data.items()}
