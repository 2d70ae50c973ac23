"""What a method file says. Pydantic holds the shape; every limit carries its source."""

from __future__ import annotations

from typing import Annotated, Any, Literal, Self

from pydantic import AfterValidator, AliasChoices, ConfigDict, Field, model_validator

from brumel.core.quantity_table import MEASURED
from brumel.core.settling import SettlingCriteria
from brumel.core.typed import TypedRule
from brumel.core.verdict import Band, Limits, Tolerance
from brumel.methods.strict import Strict


def _known(quantity: str) -> str:
    if quantity not in MEASURED:
        raise ValueError(f"must be one of {', '.join(MEASURED)}")
    return quantity


QuantityKey = Annotated[str, AfterValidator(_known)]
Vessel = Literal["solution", "air", "saturated_air", "saturated_water", "reference"]
Role = Literal["zero", "adjust", "check", "found", "left"]

#: What a run that only closes a span is fitted by: nothing.
CLOSING = "closing"
#: As found before as left: pH methods stored before it was asked of them are judged by this.
AS_FOUND_PH = Tolerance(0.2, "pH", "USGS-TM1D3")


class Limit(Strict):
    """One number with its unit and source."""

    value: float
    unit: str = ""
    source: str = Field(min_length=3)


class BandSpec(Strict):
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


class SettlingSpec(Strict):
    """Settling criteria of one signal; times in s, limits in the signal's unit.

    typed_readings, typed_spacing_s : how many values typed from a display settle, and how far apart; the window where
        the method does not say
    """

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
    typed_readings: int = Field(default=2, ge=1, le=5)
    typed_spacing_s: float | None = Field(default=None, gt=0, le=3600)

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.shortest_s >= self.longest_s:
            raise ValueError("the shortest wait must be below the longest")
        if self.low >= self.high:
            raise ValueError("low must be below high")
        return self

    def criteria(self, quantity: str, *, min_samples: int = 5) -> SettlingCriteria:
        limits = self.model_dump(exclude={"typed_readings", "typed_spacing_s"})
        return SettlingCriteria(quantity=quantity, min_samples=min_samples, **limits)

    def typed_rule(self, step: float) -> TypedRule:
        """The rule for values typed from a display whose step is worth so much [unit]."""
        return TypedRule(
            self.unit,
            self.typed_readings,
            self.typed_spacing_s or self.window_s,
            self.shortest_s,
            self.longest_s,
            self.drift_per_min,
            step,
            self.relative,
            self.source,
        )


#: The end of the key of a step in which the meter itself is set and then read again.
SET = "-set"


class StepSpec(Strict):
    """One step of the sequence: where the probe stands, which solutions may be there, and what the point is for.

    between : by value at 25 °C, in the quantity's unit; None where no solution is needed
    made_as : "combined" or "tablet" where only such a solution will do; empty for any
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, populate_by_name=True)
    key: str = Field(pattern=r"^[a-z0-9-]{1,30}$")
    title: str = Field(min_length=2, max_length=80)
    vessel: Vessel = "solution"
    between: tuple[float, float] | None = Field(
        default=None, validation_alias=AliasChoices("between", "ph_between"), serialization_alias="between"
    )
    role: Role = "adjust"
    hint: str = ""
    made_as: Literal["", "combined", "tablet"] = ""

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.vessel == "solution":
            if self.between is None or not self.between[0] < self.between[1]:
                raise ValueError("between must be two values, low before high")
        elif self.between is not None:
            raise ValueError("only a solution has a range (between)")
        return self


class Method(Strict):
    """A calibration method: sequence, fit, limits, settling, care of the probe, and who says so."""

    key: str = Field(pattern=r"^[a-z0-9.-]{3,40}$")
    version: int = Field(ge=1)
    title: str = Field(min_length=3, max_length=80)
    quantity: QuantityKey
    school: str = Field(max_length=600)
    when: str = Field(max_length=600)
    fit: str
    steps: tuple[StepSpec, ...] = Field(
        min_length=1, max_length=16
    )  # 8 of its own, as found, as left, and each set on the meter
    rinse: str = Field(max_length=600)
    prepare: tuple[str, ...]
    cautions: tuple[str, ...] = Field(min_length=1)
    stow: str = Field(max_length=600)
    valid_h: Limit
    limits: dict[str, BandSpec | Limit]
    settling: SettlingSpec
    from_method: str = ""

    @model_validator(mode="after")
    def _makes_sense(self) -> Self:
        keys = [s.key for s in self.steps]
        if len(set(keys)) != len(keys):
            raise ValueError("two steps have the same key")
        fits, bands, singles = MEASURED[self.quantity].judged
        if self.fit not in (*fits, CLOSING):
            raise ValueError(f"fit is not one of {', '.join(fits)}")
        self._counts()
        wrong = []
        for name in sorted(bands | singles):
            limit = self.limits.get(name)
            if limit is None:
                wrong.append(f"limits.{name} is missing")
            elif isinstance(limit, BandSpec) != (name in bands):
                wrong.append(f"limits.{name} must be {'fit and care' if name in bands else 'one value'}")
            elif isinstance(limit, Limit) and limit.value <= 0:
                wrong.append(f"limits.{name} must be above 0")
        if wrong:
            raise ValueError("; ".join(wrong))
        if unknown := set(self.limits) - bands - singles - {"as_found"}:
            raise ValueError(f"limits.{min(unknown)} is not a limit of this quantity")
        return self

    def _counts(self) -> None:
        if self.fit == CLOSING:
            if any(s.role != "check" for s in self.steps):
                raise ValueError("a closing check adjusts in no cup")
            return
        adjusting = sum(s.role == "adjust" for s in self.steps)
        if self.fit == "check" and adjusting:
            raise ValueError("a check adjusts in no cup")
        if self.fit == "check" and not any(s.role == "check" for s in self.steps):
            raise ValueError("a check reads in at least one cup")
        if self.fit == "offset" and adjusting != 1:
            raise ValueError("an offset fit adjusts in exactly one cup")
        if self.fit in ("segments", "line", "pairs") and adjusting < 2:
            raise ValueError("a slope needs at least two cups to adjust in")
        if (self.fit == "pairs" and adjusting > 4) or adjusting > 5:
            raise ValueError("there are more cups to adjust in than the fit takes")
        if self.fit in ("cell", "gain", "correct") and not adjusting:
            raise ValueError("this fit adjusts in at least one cup")

    def step(self, key: str) -> StepSpec:
        """The step of that key."""
        return next(s for s in self.steps if s.key == key)

    @property
    def least_points(self) -> int:
        """How many cups the fit must be adjusted in."""
        return {"segments": 2, "line": 2, "pairs": 2, "check": 0, CLOSING: 0}.get(self.fit, 1)

    def band(self, name: str) -> BandSpec:
        """A two-width limit."""
        limit = self.limits[name]
        if not isinstance(limit, BandSpec):
            raise TypeError(f"{name} is one number")
        return limit

    def judged_by(self) -> Limits:
        """The limits as core takes them."""
        limits: dict[str, Band | Tolerance] = {
            name: v.band() if isinstance(v, BandSpec) else Tolerance(v.value, v.unit, v.source)
            for name, v in self.limits.items()
        }
        if self.quantity == "ph":
            limits.setdefault("as_found", AS_FOUND_PH)
        return limits

    def with_found_and_left(self, as_found: bool, left: bool) -> Method:
        """This method with its first adjusting cup read as found before everything, and as left after it."""
        first = next((s for s in self.steps if s.role == "adjust"), None)
        if first is None or not (as_found or left):
            return self
        steps = list(self.steps)
        if as_found:
            steps.insert(
                0, first.model_copy(update={"key": "as-found", "role": "found", "title": f"{first.title}, as found"})
            )
        if left:
            steps.append(
                first.model_copy(update={"key": "as-left", "role": "left", "title": f"{first.title}, as left"})
            )
        return self.model_copy(update={"steps": tuple(steps)})

    def with_setting(self) -> Method:
        """This method for a meter that is adjusted itself: after each adjusting cup the meter is set in it and read again."""
        steps: list[StepSpec] = []
        for step in self.steps:
            steps.append(step)
            if step.role == "adjust":
                key, title = f"{step.key[:26]}{SET}", f"{step.title[:68]}, as left"
                steps.append(step.model_copy(update={"key": key, "role": "left", "title": title}))
        return self.model_copy(update={"steps": tuple(steps)})

    def stored(self) -> dict[str, Any]:
        """Plain data, as a run keeps it."""
        return self.model_dump(mode="json")
