"""Limits for reading at a site, per quantity, from `data/field.yaml`."""

from __future__ import annotations

import functools

from pydantic import BaseModel, ConfigDict

from brumel.core.settling import FieldCriteria
from brumel.methods.loader import DATA
from brumel.methods.model import Limit
from brumel.methods.strict import load_yaml

#: How far apart the readings of a site stand by the field manual, "minutes rather than seconds" [s]. Source: USGS-A6.0.
MANUAL_SPACING_S = 60.0


class FieldSpec(BaseModel):
    """The field rule and the oddness limits of one quantity."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    unit: str
    field_tolerance: Limit
    relative: bool = False
    dilute_up_to: float = 0.0  # up to here the dilute tolerance holds, as the source has it for conductance
    dilute_tolerance: float = 0.0
    share: float = 0.0  # the floor as a share of the last value, where that is more
    smallest_share: float = 0.0  # the smallest spread as a share of the usual value, where that is more
    in_proportion: bool = False  # whether it may move by shares, as concentrations do
    count: int
    spacing_s: float
    shortest_s: float
    longest_s: float
    instrument: tuple[float, float]
    per_day: Limit
    floor: Limit
    smallest_spread: Limit

    def least_spread(self, usual: float) -> float:
        """What the quantity may move by anywhere, where it is usually so [unit]."""
        return max(self.smallest_spread.value, self.smallest_share * abs(usual))

    def criteria(
        self, quantity: str, *, typed: bool = False, by_manual: bool = False, resolution: float = 0.0
    ) -> FieldCriteria:
        """The field rule; typed readings come one by one, so two of them are compared, as far apart as all of a live one.

        by_manual : live readings stand minutes apart, as the field manual has it, and not Brumel's own spacing
        resolution : one step of a typed display [unit]
        """
        if by_manual and not typed:
            shortest = MANUAL_SPACING_S * (self.count - 1)
            slow = {
                "spacing_s": MANUAL_SPACING_S,
                "shortest_s": shortest,
                "longest_s": max(self.longest_s, 2 * shortest),
            }
            return self.model_copy(update=slow).criteria(quantity)
        return FieldCriteria(
            quantity=quantity,
            unit=self.unit,
            tolerance=self.field_tolerance.value,
            count=2 if typed else self.count,
            spacing_s=self.spacing_s * (self.count - 1) if typed else self.spacing_s,
            typed=typed,
            resolution=resolution,
            low_up_to=self.dilute_up_to,
            low_tolerance=self.dilute_tolerance,
            shortest_s=0.0 if typed else self.shortest_s,
            longest_s=self.longest_s,
            low=min(-50.0, self.instrument[0]),
            high=max(500.0, self.instrument[1]),
            relative=self.relative,
            source=self.field_tolerance.source,
        )


@functools.cache
def load_field() -> dict[str, FieldSpec]:
    """The field limits by quantity."""
    data = load_yaml((DATA / "field.yaml").read_text("utf-8"))
    return {quantity: FieldSpec.model_validate(body) for quantity, body in data.items()}
