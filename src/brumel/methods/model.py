"""What a method file says. Pydantic holds the shape; every limit carries its source."""

from __future__ import annotations

from typing import Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from brumel.core.ph import VerdictLimits
from brumel.core.settling import Criteria
from brumel.core.verdict import Band


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Limit(_Strict):
    """One number with its unit and source."""

    value: float
    unit: str = ""
    source: str = Field(min_length=3)


class BandSpec(_Strict):
    """A two-width limit: fit inside, with care inside, beyond that not."""

    fit: tuple[float, float]
    care: tuple[float, float]
    unit: str
    source: str = Field(min_length=3)

    @model_validator(mode="after")
    def _nested(self) -> Self:
        if not self.care[0] <= self.fit[0] < self.fit[1] <= self.care[1]:
            raise ValueError("the fit band must lie inside the care band, low before high")
        return self

    def band(self) -> Band:
        return Band(*self.fit, *self.care, source=self.source)


class SettlingSpec(_Strict):
    """Settling criteria of one signal; times in s, limits in the signal's unit."""

    unit: str
    window_s: float = Field(gt=0, le=3600)
    drift_per_min: float = Field(gt=0)
    noise: float = Field(gt=0)
    shortest_s: float = Field(ge=0)
    longest_s: float = Field(gt=0)
    low: float
    high: float
    step: float = Field(gt=0)
    relative: bool = False
    source: str = Field(min_length=3)

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.shortest_s >= self.longest_s:
            raise ValueError("the shortest wait must be below the longest")
        if self.low >= self.high:
            raise ValueError("low must be below high")
        return self

    def criteria(self, quantity: str, *, min_samples: int = 5) -> Criteria:
        return Criteria(quantity=quantity, min_samples=min_samples, **self.model_dump())


class StepSpec(_Strict):
    """One cup of the sequence: which buffers may stand in it (by value at 25 °C) and what the point is for."""

    key: str = Field(pattern=r"^[a-z0-9-]{1,30}$")
    title: str
    ph_between: tuple[float, float]
    role: Literal["adjust", "check"] = "adjust"
    hint: str = ""

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if not 0 <= self.ph_between[0] < self.ph_between[1] <= 14:
            raise ValueError("ph_between must be two pH values, low before high")
        return self


class PhLimits(_Strict):
    """Limits of a pH verdict."""

    slope: BandSpec
    offset: BandSpec
    linearity: Limit
    cup_spread: Limit

    def for_verdict(self) -> VerdictLimits:
        return VerdictLimits(
            self.slope.band(), self.offset.band(), self.linearity.value, self.linearity.source,
            self.cup_spread.value, self.cup_spread.source,
        )  # fmt: skip


class Method(_Strict):
    """A calibration method: sequence, fit, limits, settling, care of the probe, and who says so."""

    key: str = Field(pattern=r"^[a-z0-9.-]{3,40}$")
    version: int = Field(ge=1)
    title: str = Field(min_length=3, max_length=80)
    quantity: Literal["ph"]
    school: str
    when: str
    fit: Literal["segments", "line", "offset"]
    steps: tuple[StepSpec, ...] = Field(min_length=1, max_length=6)
    rinse: str
    prepare: tuple[str, ...]
    cautions: tuple[str, ...] = Field(min_length=1)
    stow: str
    valid_h: Limit
    limits: PhLimits
    settling: SettlingSpec

    @model_validator(mode="after")
    def _makes_sense(self) -> Self:
        keys = [s.key for s in self.steps]
        if len(set(keys)) != len(keys):
            raise ValueError("two steps have the same key")
        adjusting = sum(s.role == "adjust" for s in self.steps)
        if self.fit == "offset" and adjusting != 1:
            raise ValueError("an offset fit adjusts in exactly one cup")
        if self.fit != "offset" and adjusting < 2:
            raise ValueError("a slope needs at least two cups to adjust in")
        return self

    def step(self, key: str) -> StepSpec:
        return next(s for s in self.steps if s.key == key)
