"""The forms of Bench: a typed value, taking a point, the conditions of a run."""

from __future__ import annotations

import re

from wtforms import HiddenField, StringField

from brumel.core.errors import InputError
from brumel.web.forms import MeasuredField, NumberField, ReasonForm, WriteForm


class TypedForm(WriteForm):
    """A typed value of the display."""

    signal = StringField("Unit")
    value = MeasuredField("Display shows", name_of="value")
    temperature_unit = HiddenField()
    temperature_c = MeasuredField(
        "Temperature", name_of="temperature_c", dimension="temperature", unit_from="temperature_unit"
    )
    after_s = NumberField("Seconds in the cup", name_of="elapsed_s", required=False)


class AcceptForm(ReasonForm):
    """Taking a point, beside a reference instrument where the step asks for one."""

    reference = NumberField("Reference", name_of="reference", required=False)
    reference_u = NumberField("Uncertainty of the reference", name_of="expanded_uncertainty", required=False)


class ConditionsForm(WriteForm):
    """The conditions a run is made under."""

    pressure_unit = HiddenField()
    pressure_hpa = MeasuredField(
        "Pressure", name_of="pressure_hpa", dimension="pressure", unit_from="pressure_unit", required=False
    )
    altitude_m = MeasuredField("Altitude", name_of="altitude_m", dimension="length", required=False)
    water_c = MeasuredField(
        "Temperature of the water", name_of="temperature_c", dimension="temperature", required=False
    )
    battery_percent = NumberField("Battery", name_of="battery_percent", required=False)


class StrikeForm(WriteForm):
    """Striking out a typed value."""

    seq = HiddenField()

    @property
    def seq_number(self) -> int:
        text = str(self.seq.data or "")
        if not re.fullmatch(r"\d{1,9}", text):
            raise InputError("form", "This form does not say which value it is for. Reload the page and send it again.")
        return int(text)
