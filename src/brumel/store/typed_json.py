"""JSON columns that are read and written as typed values, and what those values are."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, TypeAdapter
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.engine import Dialect
from sqlalchemy.types import TypeDecorator


class TypedJson(TypeDecorator[Any]):
    """A JSONB column whose value is of one type: checked when it is written and when it is read.

    What was not given is not written, so that a row holds what was known and nothing else.
    """

    impl = JSONB
    cache_ok = True

    def __init__(self, kind: Any) -> None:
        super().__init__()
        self.kind = kind
        self._adapter: TypeAdapter[Any] = TypeAdapter(kind)

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        """The value as JSON."""
        return None if value is None else self._adapter.dump_python(value, mode="json", exclude_unset=True)

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        """The JSON as its type."""
        return None if value is None else self._adapter.validate_python(value)


class _Kept(BaseModel):
    """A value of a row: it does not change, and what an older version wrote besides does not break it."""

    model_config = ConfigDict(frozen=True, extra="ignore")


class RunConditions(_Kept):
    """What a run stood in. Pressure in hPa at the station, altitude in m, the water's temperature in °C.

    entered_hpa : the pressure as it was typed, where `pressure_from` says it had to be reduced
    missing, reason : what should have been calibrated first, and why it went ahead
    battery_percent : what the meter's battery showed at the start, where that was typed
    bracket : a sentence where the sites usually read above the strongest standard
    """

    settings: str = ""
    adjusted: bool = False
    pressure_hpa: float | None = None
    pressure_from: str = "station"
    altitude_m: float | None = None
    entered_hpa: float | None = None
    water_c: float | None = None
    missing: tuple[str, ...] = ()
    reason: str = ""
    bracket: str = ""
    battery_percent: float | None = None


class LotMeasure(_Kept):
    """What a lot is a standard of, for one quantity.

    label : the label's own values by temperature [°C], in the quantity's unit; None where the family's table holds
    u : expanded uncertainty of the value, in the quantity's unit of uncertainty
    basis : of an ion standard, "activity" or "concentration"; strength : its ionic strength [mol/L]
    against : the reference electrode an ORP label is stated against
    printed : the label as it was typed; unit : what its values were printed in; factor : of a label in ppm or ppt
    """

    family: str = "label"
    label: dict[str, float] | None = None
    u: float | None = None
    basis: str = ""
    against: str = ""
    strength: float | None = None
    printed: str = ""
    unit: str = ""
    factor: float | None = None

    @property
    def label_table(self) -> dict[float, float] | None:
        """The label by temperature as numbers; None where it has none."""
        return {float(t): v for t, v in self.label.items()} if self.label else None


class CheckedCup(_Kept):
    """One cup of a closing check: what was read, what it should be, and whether that holds."""

    cup: str
    read: float
    expected: float
    temperature_c: float
    holds: bool

    @property
    def error(self) -> float:
        """Read − expected."""
        return self.read - self.expected


#: Lot ids by the step they stand in.
Cups = dict[str, str]
#: When each item of the packing list went into the box, by its key.
Packed = dict[str, str]
