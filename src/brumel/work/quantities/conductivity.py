"""Conductivity cells on Bench."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from brumel.core.conductivity import to_reference
from brumel.core.errors import InputError
from brumel.core.fitness import Fitted, JudgingTerms
from brumel.core.fitness import conductivity as fitness
from brumel.core.suspicion import Scale
from brumel.core.units import SOLIDS, to_canonical
from brumel.methods import Method, StepSpec
from brumel.methods.model import SettlingSpec
from brumel.store.tables import Probe
from brumel.work.quantities.base import OwnFigureSpec, Quantity, RunContext, SignalEntry, StrandSpec, as_is


def set_constant(case: RunContext) -> float:
    """The cell constant the meter works with: its setting, else the probe's nominal one [1/cm]."""
    return case.setting("cell_constant", case.probe.nominal or 1.0)


def _display(value: float, at_c: float, case: RunContext) -> float:
    return value / set_constant(case)


def _display_ms(value: float, at_c: float, case: RunContext) -> float:
    return _display(to_canonical("value", value, "mS/cm", "conductivity"), at_c, case)


def _compensated(value: float, at_c: float, case: RunContext) -> float:
    """The meter's own compensation taken off again, so that no compensation error enters the cell constant."""
    if case.settings.get("compensation") == "natural" and 0 <= at_c <= 35:  # the table of natural waters ends there
        return value / float(to_reference(1.0, at_c, kind="natural")) / set_constant(case)
    a = case.setting("temperature_coefficient", 2.0) / 100
    reference = case.setting("reference_c", 25.0)
    return value * (1 + a * (at_c - reference)) / set_constant(case)


def _compensated_ms(value: float, at_c: float, case: RunContext) -> float:
    return _compensated(to_canonical("value", value, "mS/cm", "conductivity"), at_c, case)


def _parts_per_million(value: float, at_c: float, case: RunContext) -> float:
    """The meter's ppm by its own factor taken off again; without that factor ppm says nothing."""
    factor = case.setting("tds_factor", 0.0)
    if factor <= 0:
        raise InputError("value", "What ppm means depends on the meter's TDS factor; record its settings in Kit first.")
    return _compensated(value * SOLIDS["ppm"] / factor, at_c, case)


#: What a cell conducts less than, it conducts in air [µS]: no standard is so weak.
_IN_AIR_US = 20.0


class Conductivity(Quantity):
    """Signal in µS as the cell conducts; read as uncompensated µS/cm."""

    suffix, tip, native = "percent", "cell", "us"
    error_limit = "as_found"
    scale = Scale("µS/cm", 0, True, near=0.25, margin=0.25, far=0.6)
    module = fitness
    entries = {
        "us_cm": SignalEntry("µS/cm, not compensated", 1, 0, 1_000_000, _display, 4),
        "ms_cm": SignalEntry("mS/cm, not compensated", 3, 0, 1_000, _display_ms, 4),
        "us_cm_ref": SignalEntry("µS/cm, compensated by the meter", 1, 0, 1_000_000, _compensated, 4),
        "ms_cm_ref": SignalEntry("mS/cm, compensated by the meter", 3, 0, 1_000, _compensated_ms, 4),
        "ppm": SignalEntry("ppm, by the meter's TDS factor", 0, 0, 1_000_000, _parts_per_million, 4),
        "us": SignalEntry("µS, as the cell conducts", 2, -50, 1_000_000, as_is),
    }
    left_limit = "as_found"
    told = (OwnFigureSpec("cell_constant", "cell constant", "/cm", 4, "cell_constant", 0.005, 20.0, "%"),)
    strands = (
        StrandSpec("cell_constant", "cell constant", "/cm", 4, 0.003),
        StrandSpec("zero_us", "zero in air", "µS", 2, 0.1),
    )

    def text(self, value: float) -> str:
        """Four figures are as many as a standard has."""
        return f"{value:.1f}" if abs(value) < 200 else f"{value:.0f}"

    def entry_of_settings(self, settings: Mapping[str, Any]) -> str:
        """The unit shown, compensated or not."""
        shown = str(settings.get("conductivity_unit"))
        if shown == "ppm":
            return "ppm"
        unit = {"µS/cm": "us_cm", "mS/cm": "ms_cm"}.get(shown, "")
        return f"{unit}_ref" if unit and settings.get("compensation") in ("linear", "natural") else unit

    def budget_share(self, rest: float, signal: float) -> float:
        """Percent of what a standard conducts; in air there is nothing to have a share of."""
        return 100 * rest / signal if signal > _IN_AIR_US else 0.0

    def ideal(self, probe: Probe) -> Fitted:
        """A cell of its nominal constant."""
        nominal = probe.nominal or 1.0
        return fitness.CellFit(nominal, 0.0, nominal, "nominal")

    def display(self, case: RunContext) -> Fitted:
        """A cell of the constant the meter works with, which gives back what it shows."""
        constant = set_constant(case)
        return fitness.CellFit(constant, 0.0, case.probe.nominal or 1.0, "nominal")

    def judged_figure(self, key: str, value: float, terms: JudgingTerms) -> float | None:
        """The constant against the nominal one [%]."""
        return 100 * (value / terms.nominal_per_cm - 1)

    def criteria(self, method: Method, step: StepSpec) -> SettlingSpec:
        """In air the reading is near zero, where a share of it means nothing: absolute limits in µS."""
        if step.vessel != "air":
            return method.settling
        return method.settling.model_copy(update={"relative": False, "drift_per_min": 0.5, "noise": 0.3, "step": 5.0})
