"""Maintenance of probes: what is done, the wait it starts, when it is due again. From `data/maintenance.yaml`."""

from __future__ import annotations

import functools

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from brumel.core.quantity_table import MEASURED
from brumel.methods.loader import DATA
from brumel.methods.strict import load_yaml


class MaintenanceSpec(BaseModel):
    """One kind of maintenance: its words, the wait it starts [h], and how often it is due [d], None where only on need."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    words: str
    wait_h: float = Field(ge=0, le=24 * 14)
    meanwhile: str
    every_days: int | None = Field(default=None, ge=1, le=3650)
    kinds: tuple[str, ...] = ()
    not_kinds: tuple[str, ...] = ()
    fresh: str = ""
    source: str = Field(min_length=3)

    def wait_for(self, kind: str) -> float:
        """The wait of a probe of this kind [h]."""
        return self.wait_h if not self.kinds or kind in self.kinds else 0.0


@functools.cache
def load_maintenance() -> dict[str, dict[str, MaintenanceSpec]]:
    """The kinds by quantity and key; nitrate and ammonium tips are cared for alike."""
    data = load_yaml((DATA / "maintenance.yaml").read_text("utf-8"))
    maintenance = TypeAdapter(dict[str, dict[str, MaintenanceSpec]]).validate_python(data)
    return {key: maintenance[row.family] for key, row in MEASURED.items() if row.family in maintenance}


def kinds_of(quantity: str, kind: str) -> dict[str, MaintenanceSpec]:
    """What can be done to a probe of this quantity and kind."""
    return {k: v for k, v in load_maintenance().get(quantity, {}).items() if kind not in v.not_kinds}
