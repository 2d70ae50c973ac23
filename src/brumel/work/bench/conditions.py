"""The conditions of a run: pressure, salinity, the water's temperature, the meter's settings, and what had to come first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.core.fitness.ions import prerequisites
from brumel.core.ions import RESTS_ON
from brumel.core.oxygen import station_pressure_hpa
from brumel.core.quantity_table import IONS
from brumel.core.sentence import say
from brumel.core.suspicion import out_of_bracket
from brumel.methods import Method
from brumel.store.tables import Lot, Probe, Site
from brumel.store.typed_json import RunConditions
from brumel.work import air, kit
from brumel.work.desk import Refused, Write
from brumel.work.quantities import standards as quantities_standards

PRESSURES = {"station": air.READ_AS["station"], "altitude": "from the altitude", "report": air.READ_AS["report"]}


@dataclass(frozen=True)
class Conditions:
    """What is chosen besides method and cups. Pressure in hPa, altitude in m, temperatures in °C; None where not given.

    settings_same : the meter's settings were looked at and are as on record
    adjusted : the meter itself is adjusted to the standards, so its display is taken as it is afterwards
    """

    pressure_from: str = "station"
    pressure_hpa: float | None = None
    altitude_m: float | None = None
    water_c: float | None = None
    as_found: bool = False
    as_left: bool = False
    adjusted: bool = False
    settings_same: bool = True
    repeats: str = ""
    reason: str = ""
    battery_percent: float | None = None


def checked(w: Write, probe: Probe, method: Method, given: Conditions, source: str) -> RunConditions:
    """The conditions as the run keeps them. Raises all faults at once, Refused where settings were not looked at."""
    recorded = kit.last_settings(w.session, probe.meter_id)
    if recorded is not None and not given.settings_same:
        raise Refused(
            say(
                "Look at the settings of {name} first: tick that they are as on {at:date}, or take them down "
                "anew in Kit.",
                name=probe.meter.name,
                at=recorded.at,
            )
        )
    stored: dict[str, Any] = {
        "settings": "as on record" if recorded else "not on record",
        "adjusted": bool(given.adjusted and source == "typed"),
    }
    if given.battery_percent is not None:
        door = Door()
        stored["battery_percent"] = door.number("battery_percent", given.battery_percent, 0, 100)
        door.close()
    if probe.quantity == "oxygen":
        stored |= _oxygen(given)
    if probe.quantity in IONS:
        missing = missing_first(w.session, probe, w.now)
        if missing and len(given.reason.strip()) < 3:
            raise Refused(
                f"{_listed(missing)}: a tip is calibrated after pH, ORP and conductivity of the same meter. Do those first, "
                "or say why it may go ahead; the verdict will say so."
            )
        stored |= {"missing": list(missing), "reason": given.reason.strip()[:500]} if missing else {}
    return RunConditions(**stored)


def _listed(words: tuple[str, ...]) -> str:
    text = ", ".join(words)
    return text[:1].upper() + text[1:] if not text.startswith("pH") else text


def _oxygen(given: Conditions) -> dict[str, Any]:
    """The air's pressure at the station, and where it comes from. Raises all faults at once."""
    _check_oxygen(given)
    return {
        "pressure_hpa": round(_station_pressure_hpa(given), 2),
        "pressure_from": given.pressure_from,
        "altitude_m": given.altitude_m,
        "entered_hpa": given.pressure_hpa,
        "water_c": given.water_c,
    }


def _check_oxygen(given: Conditions) -> None:
    door = Door()
    if given.pressure_from not in PRESSURES:
        door.add(InputError("pressure_from", "Say where the pressure comes from: station, altitude or weather report."))
    needs_pressure = given.pressure_from in ("station", "report")
    if needs_pressure and given.pressure_hpa is None:
        door.add(InputError("pressure_hpa", "Station pressure must be given, or taken from the altitude."))
    if given.pressure_from in ("altitude", "report") and given.altitude_m is None:
        door.add(InputError("altitude_m", "Altitude must be given to work out the station's pressure."))
    if needs_pressure and given.pressure_hpa is not None:
        door.number("pressure_hpa", given.pressure_hpa, 500 if given.pressure_from == "station" else 870, 1100)
    if given.altitude_m is not None:
        door.number("altitude_m", given.altitude_m, -430, 9000)
    if given.water_c is not None:
        door.number("temperature_c", given.water_c, -2, 45)
    door.close()


def _station_pressure_hpa(given: Conditions) -> float:
    if given.pressure_from == "altitude":
        return float(station_pressure_hpa(given.altitude_m or 0.0))
    return air.station_pressure(given.pressure_from, given.pressure_hpa or 0.0, given.altitude_m)


def missing_first(session: Session, probe: Probe, now: datetime) -> tuple[str, ...]:
    """What of the same meter is not calibrated although an ion tip rests on it."""
    state: dict[str, bool] = {}
    beside = select(Probe).where(Probe.meter_id == probe.meter_id, Probe.retired_at.is_(None))
    others = list(session.scalars(beside.where(Probe.quantity.in_(RESTS_ON))))
    trusts = kit.trusts(session, others, now)
    for other in others:
        state[other.quantity] = state.get(other.quantity, False) or trusts[other.id].valid
    return prerequisites(state)


def out_of_reach(session: Session, probe: Probe, lots: Sequence[Lot]) -> str:
    """A sentence where the sites usually read above the strongest standard of a run, empty otherwise."""
    standards = [
        quantities_standards.nominal(lot, "conductivity")
        for lot in lots
        if quantities_standards.measure(lot, "conductivity")
    ]
    if probe.quantity != "conductivity" or not standards:
        return ""
    usual = [float(r["conductivity"]["usual"][1]) for r in session.scalars(select(Site.ranges)) if "conductivity" in r]
    return out_of_bracket(max(standards), max(usual, default=0.0), "µS/cm")
