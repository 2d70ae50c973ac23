"""Oxygen probes on Bench."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from brumel.core import suspicion
from brumel.core.constants.defined import STANDARD_PRESSURE_HPA
from brumel.core.fitness import Fitted, JudgingTerms
from brumel.core.fitness import oxygen as fitness
from brumel.core.oxygen import may_be_sea_level, saturation_mg_l
from brumel.core.suspicion import Scale, Suspicion
from brumel.core.trace import Trace
from brumel.core.verdict import Tolerance
from brumel.methods import StepSpec
from brumel.store.tables import Lot, Probe
from brumel.work.quantities.base import CupReading, OwnFigureSpec, Quantity, RunContext, SignalEntry, StrandSpec, as_is


def pressure_hpa(case: RunContext) -> float:
    """The station's pressure of this run [hPa]."""
    return case.conditions.pressure_hpa or STANDARD_PRESSURE_HPA


def _local_share(at_c: float, case: RunContext) -> float:
    """Saturation here against saturation at 1013.25 hPa."""
    return float(saturation_mg_l(at_c, 0.0, pressure_hpa(case))) / float(saturation_mg_l(at_c))


def _percent(value: float, at_c: float, case: RunContext) -> float:
    return value * _local_share(at_c, case)


def set_to(case: RunContext) -> tuple[float, float]:
    """The salinity and pressure [hPa] that are in the meter's mg/L: as its settings on record say."""
    return case.setting("preset_salinity", 0.0), case.setting("preset_pressure_hpa", pressure_hpa(case))


def _mg_l(value: float, at_c: float, case: RunContext) -> float:
    """The meter's preset salinity and pressure taken off again: they were in its mg/L."""
    salt, pressure = set_to(case)
    return 100 * value / float(saturation_mg_l(at_c, salt, pressure)) * _local_share(at_c, case)


#: What comes from richer water is still on its way down for so long [s]: chosen, two time constants of a membrane.
_COME_DOWN_S = 20.0


class Oxygen(Quantity):
    """Signal in percent of saturated air at 1013.25 hPa before adjusting; read as mg/L in fresh water."""

    suffix, tip, native = "percent", "membrane", "raw"
    error_limit = "as_found"
    scale = Scale("mg/L", 2, False, near=0.8, margin=1.5, far=3.5)
    module = fitness
    entries = {
        "percent": SignalEntry("% of local saturation", 1, -5, 400, _percent),
        "mg_l": SignalEntry("mg/L", 2, -0.5, 60, _mg_l),
        "raw": SignalEntry("% sat, raw signal", 1, -5, 500, as_is),
    }
    left_limit = "as_found"
    told = (OwnFigureSpec("gain_percent", "response factor", "%", 1, "gain", 10.0, 300.0),)
    strands = (
        StrandSpec("gain_percent", "gain", "%", 1, 1.0, step=8.0),
        StrandSpec("zero_mg_l", "zero", "mg/L", 2, 0.01),
    )

    def entry_of_settings(self, settings: Mapping[str, Any]) -> str:
        """As the meter is set to show it."""
        return {"mg/L": "mg_l", "%": "percent"}.get(str(settings.get("oxygen_unit")), "")

    def vessel_value(self, step: StepSpec, lot: Lot | None, at_c: float, case: RunContext) -> float | None:
        """Saturation at the temperature and the station's pressure, computed to 0.01 mg/L and never rounded further."""
        if step.vessel in ("saturated_air", "saturated_water"):
            return float(saturation_mg_l(at_c, 0.0, pressure_hpa(case)))
        return super().vessel_value(step, lot, at_c, case)

    def expanded_uncertainty(
        self, step: StepSpec, lot: Lot | None, expected: float, at_c: float | None = None
    ) -> float:
        """1 hPa and 0.1 °C make about 0.2 % each; the jar itself 0.5 % (chosen)."""
        return super().expanded_uncertainty(step, lot, expected, at_c) if lot is not None else 0.006 * expected

    def budget_share(self, rest: float, signal: float) -> float:
        """Percent of a saturated cup; in a zero solution what is still to come is nothing beside it."""
        return 100 * rest / signal if signal > 20 else 0.0

    def ideal(self, probe: Probe) -> Fitted:
        """Gain 100 %, zero 0."""
        return fitness.OxygenFit(100.0, 0.0, "ideal")

    def judged_figure(self, key: str, value: float, terms: JudgingTerms) -> float | None:
        """The response against that of the new membrane [%]; where that is not known, as it stands."""
        return 100 * value / terms.first_gain_percent if terms.first_gain_percent else value

    def suspicions(self, seen: CupReading) -> list[Suspicion | None]:
        """Wet tip, still water, air far from the water, and what every probe may raise."""
        raised = super().suspicions(seen)
        saturated = seen.step.vessel in ("saturated_air", "saturated_water")
        if saturated and seen.signal is not None and seen.known is not None and seen.expected:
            read = seen.known.read(seen.signal, seen.at_c)
            if seen.step.vessel == "saturated_air":
                raised.append(suspicion.wet_tip(read, seen.expected, seen.by))
        if seen.case.probe.kind != "optical" and seen.step.vessel == "saturated_water":
            raised.append(suspicion.still_water(seen.trace.t_s, seen.trace.signal))
        raised.append(self._sea_level(seen.case))
        limit = seen.method.judged_by().get("air_water")
        water = seen.case.conditions.water_c
        if saturated and water is not None and isinstance(limit, Tolerance) and seen.settling.elapsed_s >= 10:
            raised.append(suspicion.air_water_apart(seen.at_c, float(water), limit.value))
        return raised

    def _sea_level(self, case: RunContext) -> Suspicion | None:
        """A measured pressure that may be a weather report's; what is plainly one was refused when it was typed."""
        told = case.conditions
        if told.pressure_from != "station" or told.pressure_hpa is None or told.altitude_m is None:
            return None
        odd = may_be_sea_level(told.pressure_hpa, told.altitude_m)
        remedy = "Read a barometer here, or start the run anew with the pressure as a weather report's."
        return Suspicion("sea_level", odd, remedy) if odd else None

    def trace_features(self, trace: Trace, step: StepSpec) -> dict[str, float]:
        """How far it sank after its peak where it should stand: in zero solution sinking means nothing of the kind."""
        where = {"saturated_water": "in_water", "saturated_air": "in_air"}.get(step.vessel)
        if where is None:
            return {}
        late = trace.t_s >= _COME_DOWN_S
        return {where: 1.0, "fall_percent": suspicion.sag_percent(trace.t_s[late], trace.signal[late])}
