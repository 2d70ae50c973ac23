"""A meter's own settings: what they may be, what has changed, and what contradicts the probe, the method or the place."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.core.sentence import Amount, Span, say


@dataclass(frozen=True)
class Setting:
    """One setting: words, unit, and either a range or the choices there are.

    optional : where a meter may not have it; of : the group it stands in on a page
    """

    label: str
    unit: str = ""
    low: float | None = None
    high: float | None = None
    choices: tuple[str, ...] = ()
    optional: bool = False
    of: str = "The meter itself"


UNITS_SHOWN, TEMPERATURE, STANDARDS = "What it shows", "Temperature and salt", "Standards it is set for"
ACCURACY = "Accuracy, as its manual states it"
_OF = ("reading", "full scale")

SETTINGS: dict[str, Setting] = {
    "temperature_unit": Setting("Temperature shown in", choices=("°C", "°F"), of=UNITS_SHOWN),
    "ph_unit": Setting("pH electrode shown in", choices=("pH", "mV"), optional=True, of=UNITS_SHOWN),
    "ph_resolution": Setting("pH shown to", "pH", choices=("0.1", "0.01", "0.001"), of=UNITS_SHOWN),
    "conductivity_unit": Setting("Conductivity shown in", choices=("µS/cm", "mS/cm", "ppm"), of=UNITS_SHOWN),
    "tds_factor": Setting("TDS factor", "", 0.40, 1.0, of=UNITS_SHOWN),
    "oxygen_unit": Setting("Oxygen shown in", choices=("mg/L", "%"), optional=True, of=UNITS_SHOWN),
    "ion_unit": Setting("Ions shown in", choices=("mV", "mg/L as N", "mg/L as the ion"), optional=True, of=UNITS_SHOWN),
    "pressure_unit": Setting(
        "Pressure shown in", choices=("hPa", "kPa", "mmHg", "inHg"), optional=True, of=UNITS_SHOWN
    ),
    "compensation": Setting("Temperature compensation", choices=("none", "linear", "natural"), of=TEMPERATURE),
    "temperature_coefficient": Setting("Temperature coefficient", "%/°C", 0.0, 4.0, of=TEMPERATURE),
    "reference_c": Setting("Reference temperature", "°C", choices=("20", "25"), of=TEMPERATURE),
    "manual_temperature_c": Setting(
        "Temperature set by hand, where it is", "°C", -5.0, 100.0, optional=True, of=TEMPERATURE
    ),
    "preset_salinity": Setting("Preset salinity", "", 0.0, 42.0, of=TEMPERATURE),
    "preset_pressure_hpa": Setting("Preset pressure", "hPa", 500.0, 1100.0, optional=True, of=TEMPERATURE),
    "adjusts_itself": Setting(
        "Is adjusted itself to the standards", choices=("yes", "no"), optional=True, of=STANDARDS
    ),
    "buffer_family": Setting("Buffers the meter knows", choices=("7.00", "7.01", "6.86", "own", "none"), of=STANDARDS),
    "conductivity_standard": Setting(
        "Conductivity standard it expects", "µS/cm", 1.0, 500_000.0, optional=True, of=STANDARDS
    ),
    "cell_constant": Setting("Cell constant set", "/cm", 0.005, 20.0, of=STANDARDS),
    "ph_accuracy": Setting("pH", "±pH", 0.001, 1.0, optional=True, of=ACCURACY),
    "orp_accuracy_mv": Setting("ORP", "±mV", 0.1, 50.0, optional=True, of=ACCURACY),
    "temperature_accuracy_c": Setting("Temperature", "±°C", 0.01, 5.0, optional=True, of=ACCURACY),
    "conductivity_accuracy": Setting("Conductivity", "±%", 0.05, 20.0, optional=True, of=ACCURACY),
    "conductivity_accuracy_of": Setting("Conductivity, % of", choices=_OF, optional=True, of=ACCURACY),
    "conductivity_full_scale": Setting(
        "Full scale of conductivity", "µS/cm", 10.0, 1_000_000.0, optional=True, of=ACCURACY
    ),
    "oxygen_accuracy": Setting("Oxygen", "±%", 0.05, 20.0, optional=True, of=ACCURACY),
    "oxygen_accuracy_of": Setting("Oxygen, % of", choices=_OF, optional=True, of=ACCURACY),
    "oxygen_full_scale": Setting("Full scale of oxygen", "mg/L", 1.0, 100.0, optional=True, of=ACCURACY),
    "auto_off_min": Setting("Switches itself off after", "min", 0.0, 240.0),
    "logging_every_s": Setting("Logs a reading every, where it logs", "s", 1.0, 86_400.0, optional=True),
    "clock_off_s": Setting("Its clock is fast by (slow: −)", "s", -86_400.0, 86_400.0, optional=True),
    "battery_percent": Setting("Battery", "%", 0.0, 100.0, optional=True),
}

#: What is asked of a meter although it may be left empty: until it is known, the settings are not complete.
WANTED = ("adjusts_itself", "clock_off_s", "battery_percent")
#: What differs from day to day of itself, and is no change to be explained.
OF_THE_DAY = ("clock_off_s", "battery_percent")
LOW_BATTERY_PERCENT = 20.0  # common practice, no source
CLOCK_OFF_S = 60.0  # a series minutes apart is not misplaced by less: chosen


def not_said(settings: Mapping[str, Any]) -> tuple[str, ...]:
    """The labels of what is not known yet of a meter, in the order of the list: what it must say, and what is wanted."""
    return tuple(
        spec.label
        for key, spec in SETTINGS.items()
        if settings.get(key) in (None, "") and (not spec.optional or key in WANTED)
    )


def stated_accuracy(settings: Mapping[str, Any], quantity: str, value: float) -> float | None:
    """Half the width a meter's manual states around a value, in the quantity's unit; None where it is not on record.

    A percentage is of the reading or of full scale, as recorded; ± a share of full scale is large at a small reading.
    """
    plain = {"ph": "ph_accuracy", "redox": "orp_accuracy_mv", "temperature": "temperature_accuracy_c"}.get(quantity)
    if plain:
        stated = settings.get(plain)
        return None if stated in (None, "") else float(stated)
    share = settings.get(f"{quantity}_accuracy")
    if share in (None, ""):
        return None
    if settings.get(f"{quantity}_accuracy_of") != "full scale":
        return float(share) / 100 * abs(value)
    full = settings.get(f"{quantity}_full_scale")
    return None if full in (None, "") else float(share) / 100 * float(full)


@dataclass(frozen=True)
class Change:
    """A setting that is not what it was."""

    key: str
    label: str
    before: Any
    after: Any
    unit: str

    @property
    def sentence(self) -> str:
        """The change in words."""
        return f"{self.label}: was {_shown(self.before, self.unit)}, is {_shown(self.after, self.unit)}."


def _shown(value: Any, unit: str) -> str:
    if value in (None, ""):
        return "not set"
    return f"{value:g} {unit}".strip() if isinstance(value, float) else f"{value} {unit}".strip()


def in_words(settings: Mapping[str, Any]) -> list[tuple[str, str]]:
    """Every setting with its value and unit, in the order of the list."""
    rows = [(spec.label, _shown(settings.get(key), spec.unit)) for key, spec in SETTINGS.items()]
    return [
        (label, "never" if (label, value) == ("Switches itself off after", "0 min") else value) for label, value in rows
    ]


def checked(given: Mapping[str, Any]) -> dict[str, Any]:
    """Settings as they are kept: numbers as floats, choices as words. Raises all faults at once."""
    door = Door()
    clean: dict[str, Any] = {}
    for key, spec in SETTINGS.items():
        value = given.get(key)
        if value in (None, ""):
            if not spec.optional:
                door.add(InputError(key, f"{spec.label} must be given."))
            clean[key] = None
        elif spec.choices:
            text = f"{value:g}" if isinstance(value, (int, float)) else str(value)
            if text not in spec.choices:
                door.add(InputError(key, f"{spec.label} must be one of {', '.join(spec.choices)}.", value=value))
            clean[key] = float(text) if key in ("ph_resolution", "reference_c") and text in spec.choices else text
        else:
            low, high = spec.low if spec.low is not None else -1e9, spec.high if spec.high is not None else 1e9
            try:
                number = float(value)
            except (TypeError, ValueError):
                door.add(InputError(key, f"{spec.label} must be a number; it is “{str(value)[:20]}”.", value=value))
                continue
            if not low <= number <= high:
                door.add(
                    InputError(
                        key,
                        say(
                            "{label} is {number}; {span} is possible.",
                            label=spec.label,
                            number=Amount(number, spec.unit),
                            span=Span(low, high, spec.unit),
                        ),
                        value=number,
                    )
                )
            clean[key] = number
    door.close()
    return clean


def changes(before: Mapping[str, Any], after: Mapping[str, Any]) -> tuple[Change, ...]:
    """Every setting that differs, in the order of the list, but for what differs from day to day."""
    return tuple(
        Change(key, spec.label, before.get(key), after.get(key), spec.unit)
        for key, spec in SETTINGS.items()
        if before.get(key) != after.get(key) and key not in OF_THE_DAY
    )


def contradictions(
    settings: Mapping[str, Any],
    quantity: str,
    *,
    nominal_per_cm: float | None = None,
    families: tuple[str, ...] = (),
    pressure_hpa: float | None = None,
    typed: str = "",
) -> tuple[str, ...]:
    """Sentences where a setting does not go with the probe, the buffers poured, or the station's pressure [1/cm, hPa].

    typed : how values will be typed, empty where they come live
    """
    sentences = []
    if quantity == "ph" and families:
        family = str(settings.get("buffer_family"))
        neutral = [f for f in families if f in ("7.00", "7.01", "phosphate")]
        wanted = {"phosphate": "6.86"}.get(neutral[0], neutral[0]) if neutral else ""
        if wanted and family not in (wanted, "own", "none"):
            sentences.append(
                f"The meter is set to {family} buffers, but {wanted} stands on the tray: its own calibration would be off."
            )
    if quantity == "conductivity":
        constant = settings.get("cell_constant")
        if nominal_per_cm and constant and not 0.8 <= float(constant) / nominal_per_cm <= 1.25:
            sentences.append(
                say(
                    "The meter's cell constant is {constant}, this cell's is {nominal}: readings would be off by a "
                    "factor of {times}.",
                    constant=Amount(float(constant), "1/cm"),
                    nominal=Amount(nominal_per_cm),
                    times=Amount(float(constant) / nominal_per_cm, "", ".3g"),
                )
            )
        if settings.get("compensation") != "none" and typed in ("us_cm", "ms_cm"):
            sentences.append(
                "The meter compensates for temperature; type its reading as compensated, or switch the compensation off."
            )
    if quantity == "oxygen":
        preset = settings.get("preset_pressure_hpa")
        if preset is not None and pressure_hpa is not None and abs(float(preset) - pressure_hpa) > 10:
            sentences.append(
                say(
                    "The meter's preset pressure is {preset}, the station's {pressure}: its mg/L are off by "
                    "{off}. Brumel takes that off again.",
                    preset=Amount(float(preset), "hPa", ".0f"),
                    pressure=Amount(pressure_hpa, "hPa", ".0f"),
                    off=Amount(100 * (float(preset) / pressure_hpa - 1), "%", "+.1f"),
                )
            )
        if float(settings.get("preset_salinity") or 0.0) > 0.5:
            sentences.append(
                say(
                    "The meter's preset salinity is {preset_salinity}; saturated air is read as for fresh water. "
                    "Brumel takes that off again.",
                    preset_salinity=Amount(float(settings["preset_salinity"])),
                )
            )
    sentences += _of_the_meter(settings)
    if 0 < float(settings.get("auto_off_min") or 0.0) < 10:
        sentences.append(
            say(
                "The meter switches itself off after {auto_off_min}, sooner than a slow cup needs.",
                auto_off_min=Amount(float(settings["auto_off_min"]), "min"),
            )
        )
    return tuple(sentences)


def _of_the_meter(settings: Mapping[str, Any]) -> list[str]:
    """What a meter's own settings say against any reading with it."""
    said: list[str] = []
    by_hand, every, off = (settings.get(k) for k in ("manual_temperature_c", "logging_every_s", "auto_off_min"))
    if by_hand not in (None, ""):
        said.append(
            say(
                "The meter works with a temperature set by hand, {by_hand}: its compensation follows that, not the water.",
                by_hand=Amount(float(by_hand), "°C"),
            )
        )
    if every not in (None, "") and float(off or 0.0) > 0:
        said.append(
            say(
                "The meter logs every {every} and switches itself off after {off}: it will stop logging. Set it to stay on.",
                every=Amount(float(every), "s"),
                off=Amount(float(off or 0.0), "min"),
            )
        )
    clock = settings.get("clock_off_s")
    if clock not in (None, "") and abs(float(clock)) > CLOCK_OFF_S:
        said.append(say("The meter's clock is off by {off}: set it.", off=Amount(float(clock), "s", "+g")))
    if low := low_battery(settings.get("battery_percent")):
        said.append(low)
    return said


def low_battery(percent: float | None) -> str:
    """A sentence where a battery will not last the day, empty otherwise [%]."""
    if percent is None or percent >= LOW_BATTERY_PERCENT:
        return ""
    return say("The meter's battery is at {left}: change it before the round.", left=Amount(percent, "%"))
