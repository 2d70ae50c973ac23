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
    """One setting: words, unit, and either a range or the choices there are; `optional` where a meter may not have it."""

    label: str
    unit: str = ""
    low: float | None = None
    high: float | None = None
    choices: tuple[str, ...] = ()
    optional: bool = False


SETTINGS: dict[str, Setting] = {
    "temperature_unit": Setting("Temperature shown in", choices=("°C", "°F")),
    "adjusts_itself": Setting("Is adjusted itself to the standards", choices=("yes", "no"), optional=True),
    "ph_unit": Setting("pH electrode shown in", choices=("pH", "mV"), optional=True),
    "oxygen_unit": Setting("Oxygen shown in", choices=("mg/L", "%"), optional=True),
    "pressure_unit": Setting("Pressure shown in", choices=("hPa", "kPa", "mmHg", "inHg"), optional=True),
    "buffer_family": Setting("Buffers the meter knows", choices=("7.00", "7.01", "6.86", "own", "none")),
    "ph_resolution": Setting("pH shown to", "pH", choices=("0.1", "0.01", "0.001")),
    "conductivity_unit": Setting("Conductivity shown in", choices=("µS/cm", "mS/cm")),
    "cell_constant": Setting("Cell constant set", "/cm", 0.005, 20.0),
    "compensation": Setting("Temperature compensation", choices=("none", "linear", "natural")),
    "temperature_coefficient": Setting("Temperature coefficient", "%/°C", 0.0, 4.0),
    "reference_c": Setting("Reference temperature", "°C", choices=("20", "25")),
    "tds_factor": Setting("TDS factor", "", 0.40, 1.0),
    "preset_salinity": Setting("Preset salinity", "", 0.0, 42.0),
    "preset_pressure_hpa": Setting("Preset pressure", "hPa", 500.0, 1100.0, optional=True),
    "auto_off_min": Setting("Switches itself off after", "min", 0.0, 240.0),
}


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
    """Every setting that differs, in the order of the list."""
    return tuple(
        Change(key, spec.label, before.get(key), after.get(key), spec.unit)
        for key, spec in SETTINGS.items()
        if before.get(key) != after.get(key)
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
    if 0 < float(settings.get("auto_off_min") or 0.0) < 10:
        sentences.append(
            say(
                "The meter switches itself off after {auto_off_min}, sooner than a slow cup needs.",
                auto_off_min=Amount(float(settings["auto_off_min"]), "min"),
            )
        )
    return tuple(sentences)
