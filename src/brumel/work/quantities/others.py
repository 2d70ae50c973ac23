"""ORP, ion tips, thermometers and chlorine tips on Bench."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from brumel.core import ions
from brumel.core.fitness import CalibrationPoint, Fitted
from brumel.core.fitness import chlorine as chlorine_fitness
from brumel.core.fitness import ions as ion_fitness
from brumel.core.fitness import redox as redox_fitness
from brumel.core.fitness import temperature as temperature_fitness
from brumel.core.ph.electrode import nernst_slope_mv
from brumel.core.quantity_table import QuantityRow
from brumel.core.sentence import Amount, say
from brumel.core.suspicion import Scale, Suspicion, restless, same_signal, wrong_vessel
from brumel.core.units import convert, to_canonical
from brumel.store.tables import Probe
from brumel.work.quantities.base import CupReading, Earlier, Quantity, RunContext, SignalEntry, StrandSpec, as_is


class Redox(Quantity):
    """Signal in mV against the probe's own reference electrode."""

    tip = "metal"
    scale = Scale("mV", 0, False, near=40.0, margin=50.0, far=110.0)
    module = redox_fitness
    entries = {"mv": SignalEntry("mV", 0, -1500, 1500, as_is)}
    strands = (StrandSpec("error_mv", "error in the standard", "mV", 0, 1.0, step=10.0),)

    def ideal(self, probe: Probe) -> Fitted:
        """Reads as it shows."""
        return redox_fitness.OffsetFit(0.0, 0.0, "ideal")

    def is_display(self, entered: str) -> bool:
        """mV are what the meter displays."""
        return True


def _displayed(unit: str) -> Callable[[float, float, RunContext], float]:
    """mV that stand for a concentration displayed in this unit."""

    def to_signal(value: float, at_c: float, case: RunContext) -> float:
        ion = case.probe.quantity
        return ions.pseudo_millivolts(convert("value", value, unit, "mg/L as N", ion), at_c, ion)

    return to_signal


class Ion(Quantity):
    """Nitrate or ammonium: signal in mV, read as activity in mg/L as N."""

    module = ion_fitness
    scale = Scale("mg/L as N", 2, True, near=0.7, margin=0.7, far=1.6)
    entries = {
        "mv": SignalEntry("mV", 1, -1000, 1000, as_is),
        "mg_l_n": SignalEntry("mg/L as N, by the meter", 2, 1e-3, 20_000, _displayed("mg/L as N"), 3),
    }
    unit_words = " (mV or displayed mg/L)"
    strands = (StrandSpec("gap_mv", "gap of the pair", "mV", 1, 0.5, "gap", 5.0),)

    #: the name of the ion where the meter shows mg/L of it, and not of its nitrogen
    as_ion = {"nitrate": "mg/L as NO3", "ammonium": "mg/L as NH4"}

    def __init__(self, row: QuantityRow) -> None:
        super().__init__(row)
        unit = self.as_ion[row.key]
        of_ion = SignalEntry(f"{unit}, by the meter", 2, 1e-3, 100_000, _displayed(unit), 3)
        self.entries = {**self.entries, "mg_l_ion": of_ion}

    def budget_share(self, rest: float, signal: float) -> float:
        """From mV to percent of the concentration, at 20 °C."""
        return 100 * math.log(10) * rest / float(nernst_slope_mv(20.0))

    def scale_of(self, entered: str) -> str:
        """A displayed concentration holds the meter's own calibration, whatever it counts; its mV do not."""
        return "mV" if entered == "mv" else "mg/L"

    def entry_of_settings(self, settings: Mapping[str, Any]) -> str:
        """As the meter is set to show it."""
        shown = {"mV": "mv", "mg/L as N": "mg_l_n", "mg/L as the ion": "mg_l_ion"}
        return shown.get(str(settings.get("ion_unit")), "")

    def shown(self, entered: str, signal: float, at_c: float, case: RunContext) -> float:
        """The way back from the mV that stand for a displayed concentration."""
        if entered == "mv":
            return signal
        concentration = float(ions.ideal(self.quantity).concentration_mg_l(signal, at_c))
        return convert("value", concentration, "mg/L as N", self.entries[entered].unit, self.quantity)

    def _cup(self, seen: CupReading) -> list[Suspicion | None]:
        """A tip's zero wanders from day to day, so a cup is recognised by its distance to the cups of this run."""
        signal = seen.signal
        points = [e for e in seen.earlier if e.role == "adjust"]
        if signal is None or seen.expected is None or self.scale is None:
            return []
        raised: list[Suspicion | None] = []
        if not points and seen.known is not None:
            read = seen.known.read(signal, seen.at_c)
            raised.append(wrong_vessel(read, seen.here, seen.tray, self.scale, seen.by))
        near = [(e.name, e.signal, e.expected) for e in points if abs(e.temperature_c - seen.at_c) < 3]
        raised.append(same_signal(signal, seen.expected, near, self.scale, share=0.02))
        if not any(raised) and len(points) == 1 and abs(points[0].temperature_c - seen.at_c) < 3:
            raised.append(self._swapped(seen, signal, points[0]))
        return [*raised, self._pair_apart(seen, points)]

    def _swapped(self, seen: CupReading, signal: float, first: Earlier) -> Suspicion | None:
        """The two cups of a pair the other way round: seen by the way the signal went, without any calibration before."""
        if seen.expected is None or min(first.expected, seen.expected) <= 0:
            return None
        should = float(ions.ideal_step_mv(self.quantity, first.expected, seen.expected, seen.at_c))
        went = signal - first.signal
        if abs(should) < 20 or went * should > 0 or abs(went) < abs(should) / 2:
            return None
        return Suspicion(
            "swapped_cups",
            say(
                "From {first} to {here} the signal should change by {should}, and it went by {went}: the cups are swapped.",
                first=first.name,
                here=seen.here.name,
                should=Amount(should, "mV", "+.0f"),
                went=Amount(went, "mV", "+.0f"),
            ),
            "Look at both labels, and take both cups again.",
        )

    def run_features(self, points: Sequence[CalibrationPoint]) -> dict[str, float]:
        """Whether the strong standard was read before the weak one, so that some of it could come along."""
        pair = [p.expected for p in points if p.role == "adjust"][:2]
        return {"high_first": float(len(pair) == 2 and pair[0] > pair[1])}

    def _pair_apart(self, seen: CupReading, points: list[Earlier]) -> Suspicion | None:
        limit = seen.method.judged_by()["pair_apart"]
        most = getattr(limit, "value", 0.5)
        partner = points[-1] if len(points) in (1, 3) else None
        if partner is None or seen.settling.elapsed_s < 20:
            return None
        apart = abs(partner.temperature_c - seen.at_c)
        if apart <= most:
            return None
        return Suspicion(
            "pair_temperature",
            say(
                "This cup is at {at} and its partner was at {temperature}; the pair may be {most} apart.",
                at=Amount(seen.at_c, "°C", ".1f"),
                temperature=Amount(partner.temperature_c, "°C", ".1f"),
                most=Amount(most, "°C", difference=True),
            ),
            "Let both cups come to one temperature, then take the pair again.",
        )


def _fahrenheit(value: float, at_c: float, case: RunContext) -> float:
    return to_canonical("value", value, "°F", "temperature")


class Temperature(Quantity):
    """A thermometer beside a reference: the signal is what it shows."""

    suffix, native = "c", "c"
    module = temperature_fitness
    entries = {"c": SignalEntry("°C", 2, -30, 110, as_is), "f": SignalEntry("°F", 1, -22, 230, _fahrenheit)}
    strands = (StrandSpec("error_c", "error at the reference", "°C", 2, 0.02, step=0.2),)

    def entry_of_settings(self, settings: Mapping[str, Any]) -> str:
        """As the meter is set to show it."""
        return {"°C": "c", "°F": "f"}.get(str(settings.get("temperature_unit")), "")

    def ideal(self, probe: Probe) -> Fitted:
        """Reads as it shows."""
        return temperature_fitness.ThermometerFit((), "ideal")

    def is_display(self, entered: str) -> bool:
        """Degrees are what it displays."""
        return True

    def suspicions(self, seen: CupReading) -> list[Suspicion | None]:
        """Jumps and noise only; the reference says the rest."""
        return [restless(seen.settling.state, "sensor")]


class Chlorine(Quantity):
    """A chlorine tip beside a second method: the signal is what it shows."""

    suffix, native = "mg_l", "mg_l"
    module = chlorine_fitness
    entries = {"mg_l": SignalEntry("mg/L", 2, 0, 50, as_is)}
    strands = (StrandSpec("error_mg_l", "difference to the second method", "mg/L", 2, 0.03),)

    def ideal(self, probe: Probe) -> Fitted:
        """Reads as it shows."""
        return chlorine_fitness.ChlorineFit(1.0, 0.0, "ideal")

    def is_display(self, entered: str) -> bool:
        """mg/L are what it displays."""
        return True

    def suspicions(self, seen: CupReading) -> list[Suspicion | None]:
        """Jumps and noise only; the second method says the rest."""
        return [restless(seen.settling.state, "tip")]
