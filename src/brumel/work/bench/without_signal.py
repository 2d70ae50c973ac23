"""Bench without a signal: what a phone takes along to run a typed calibration or closing check and to ask about its cups.

The phone asks by a perfect probe: is it another cup, the label's value, a lost sign or point? What rests on the last
calibration, on settling and on the verdict is worked out on sending.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.oxygen import station_pressure_hpa
from brumel.core.ph.suspicion import FAR_PH, LABEL_APART_PH, LABEL_PH, MARGIN_PH, NEAR_PH
from brumel.core.quantity_table import MEASURED
from brumel.core.suspicion import Scale
from brumel.core.verdict import Tolerance
from brumel.methods import Method, StepSpec
from brumel.store.tables import Calibration, Lot, Probe
from brumel.store.typed_json import RunConditions
from brumel.work import kit
from brumel.work.bench.again import same_again
from brumel.work.bench.offers import offers_for, usual_cups
from brumel.work.quantities import standards
from brumel.work.quantities.base import Quantity, RunContext, SignalEntry
from brumel.work.quantities.book import quantity_of

#: The temperatures the tables are given at [°C]; between them the phone goes in a straight line.
GRID_C = tuple(float(t) for t in range(0, 42, 2))

PH_SCALE = Scale("pH", 2, False, near=NEAR_PH, margin=MARGIN_PH, far=FAR_PH)

Table = list[float | None]


@dataclass(frozen=True)
class WayTable:
    """A way of typing. Of what is shown, a perfect probe reads offset + factor · shown at each temperature of the grid.

    offsets, factors : empty where the way back is no straight line; then it is judged on sending alone
    """

    key: str
    label: str
    low: float
    high: float
    digits: int
    offsets: list[float]
    factors: list[float]


@dataclass(frozen=True)
class CupChoice:
    """What may stand in a cup: a lot, or a vessel without one, with what should be read in it at each temperature."""

    value: str
    name: str
    expected: Table
    nominal: float | None
    vessel: str = "solution"
    objections: tuple[str, ...] = ()


@dataclass(frozen=True)
class CupPlan:
    """One cup of a run: its step, and what may stand in it, the usual one first."""

    step: str
    title: str
    hint: str
    choices: list[CupChoice]


@dataclass(frozen=True)
class ProbePlan:
    """All that a phone needs of a probe.

    cups : of its usual method; closing : where it may be closed; neither where `without` says why
    way, closing_way : the way of typing offered first: that of the readings it is for; that of the calibration it closes
    limits : what the rules are judged by: scale, spread of the cups [°C], the label's value
    """

    probe: str
    name: str
    quantity: str
    settings: str
    method: str
    title: str
    cups: list[CupPlan]
    closing: list[CupChoice]
    ways: list[WayTable]
    way: str
    closing_way: str
    limits: Mapping[str, Any]
    readings: int
    spacing_s: float
    shortest_s: float
    needs_pressure: bool
    without: str = ""


def plans(session: Session, probes: Sequence[Probe], now: datetime, altitude_m: float) -> list[ProbePlan]:
    """What a phone takes along of these probes; `altitude_m` is of the place where they will be used."""
    shelf = kit.lots_on_shelf(session, now)
    last = same_again(session, probes, now, shelf)
    facts = kit.reading_facts(session, probes, now)
    settings = kit.settings_of(session, list({p.meter_id for p in probes}))
    methods = kit.methods_in_use(session)
    pressure = float(station_pressure_hpa(altitude_m))
    made = []
    for probe in probes:
        recorded = settings.get(probe.meter_id)
        case = RunContext(probe, RunConditions(pressure_hpa=pressure), recorded.settings if recorded else {})
        again = last.get(probe.id)
        usual = methods.get(MEASURED[probe.quantity].usual_for(probe.kind))
        method = methods.get(again.method.key) if again else usual
        looked_at = f"{recorded.at:%d %b %Y}" if recorded else ""
        before = again.cups if again else {}
        made.append(_plan(case, method, facts[probe.id].usable, shelf, _Usual(before, looked_at)))
    return made


@dataclass(frozen=True)
class _Usual:
    """The lots of last time, by step, and when the meter's settings were recorded."""

    cups: Mapping[str, str]
    settings: str


def _plan(
    case: RunContext, method: Method | None, in_force: Calibration | None, shelf: Sequence[kit.LotView], usual: _Usual
) -> ProbePlan:
    probe, quantity = case.probe, quantity_of(case.probe.quantity)
    without, cups = "", list[CupPlan]()
    if method is None:
        without = "No method of this probe is in use; ask the lead."
    else:
        method = kit.method_for_probe(method, probe)
        cups = _cups(case, quantity, method, shelf, usual.cups)
        if missing := next((c.title for c in cups if not c.choices), ""):
            without, cups = f"No solution is on the shelf for “{missing}”.", []
    closes = Method.model_validate(in_force.run.method) if in_force else method
    spread = method.judged_by().get("cup_spread") if method else None
    settling = quantity.criteria(method, method.steps[0]) if method else None
    own = quantity.entry_of_settings(case.settings)
    way = own or MEASURED[probe.quantity].displayed or next(iter(quantity.entries))
    scale = PH_SCALE if probe.quantity == "ph" else quantity.scale
    return ProbePlan(
        probe=str(probe.id),
        name=probe.name,
        quantity=probe.quantity,
        settings=usual.settings,
        method=method.key if method else "",
        title=method.title if method else "",
        cups=cups,
        closing=_closing(case, quantity, closes, shelf) if closes else [],
        ways=[_way(case, quantity, key, entry) for key, entry in quantity.entries.items()],
        way=way,
        closing_way=in_force.signal if in_force and in_force.signal in quantity.entries else way,
        limits={
            "scale": {"ratio": scale.ratio, "near": scale.near, "margin": scale.margin, "far": scale.far}
            if scale
            else None,
            "spread_c": spread.value if isinstance(spread, Tolerance) else None,
            "label": {"same": LABEL_PH, "apart": LABEL_APART_PH} if probe.quantity == "ph" else None,
        },
        readings=settling.typed_readings if settling else 2,
        spacing_s=(settling.typed_spacing_s or settling.window_s) if settling else 30.0,
        shortest_s=settling.shortest_s if settling else 0.0,
        needs_pressure=probe.quantity == "oxygen",
        without=without,
    )


def _cups(
    case: RunContext, quantity: Quantity, method: Method, shelf: Sequence[kit.LotView], before: Mapping[str, str]
) -> list[CupPlan]:
    probe = case.probe
    offers = {s.key: offers_for(s, shelf, probe) for s in method.steps if s.vessel == "solution" and s.between}
    usual = usual_cups(offers, before)
    planned = []
    for step in method.steps:
        if step.key in offers:
            views = sorted(offers[step.key], key=lambda v: str(v.lot.id) != usual.get(step.key))
            choices = [_lot_choice(case, quantity, step, v) for v in views]
        else:
            choices = [CupChoice("", step.title, _expected(case, quantity, step, None), None, step.vessel)]
        planned.append(CupPlan(step.key, step.title, step.hint, choices))
    return planned


def _closing(case: RunContext, quantity: Quantity, method: Method, shelf: Sequence[kit.LotView]) -> list[CupChoice]:
    """Where a probe may be closed: its method's vessels, then every solution of the shelf it is measured by."""
    seen, choices = set[str](), list[CupChoice]()
    for step in method.steps:
        if step.vessel != "solution" and step.vessel not in seen and step.role != "zero":
            seen.add(step.vessel)
            choices.append(
                CupChoice(f"step:{step.key}", step.title, _expected(case, quantity, step, None), None, step.vessel)
            )
    wet = StepSpec(key="closing-1", title="closing", vessel="solution", between=(-1e9, 1e9), role="check", hint="")
    for view in shelf:
        if view.usable and standards.measure(view.lot, case.probe.quantity) is not None:
            choice = _lot_choice(case, quantity, wet, view)
            choices.append(CupChoice(f"lot:{choice.value}", choice.name, choice.expected, choice.nominal))
    return choices


def _lot_choice(case: RunContext, quantity: Quantity, step: StepSpec, view: kit.LotView) -> CupChoice:
    lot = view.lot
    return CupChoice(
        str(lot.id),
        f"{lot.name} ({lot.code})",
        _expected(case, quantity, step, lot),
        standards.nominal(lot, quantity.quantity, case.probe),
        objections=view.objections,
    )


def _expected(case: RunContext, quantity: Quantity, step: StepSpec, lot: Lot | None) -> Table:
    table: Table = []
    for at_c in GRID_C:
        try:
            value = quantity.vessel_value(step, lot, at_c, case)
        except InputError:
            value = None
        table.append(None if value is None else float(value))
    return table


def _way(case: RunContext, quantity: Quantity, key: str, entry: SignalEntry) -> WayTable:
    offsets, factors = list[float](), list[float]()
    reader = quantity.ideal(case.probe)
    for at_c in GRID_C if reader is not None else ():
        assert reader is not None
        try:
            one, two, five = (reader.read(entry.to_signal(v, at_c, case), at_c) for v in (1.0, 2.0, 5.0))
        except InputError:
            offsets, factors = [], []
            break
        factor = two - one
        if abs(five - one - 4 * factor) > 1e-6 * max(1.0, abs(five)):
            offsets, factors = [], []
            break
        offsets.append(float(one - factor))
        factors.append(float(factor))
    return WayTable(key, entry.label, entry.low, entry.high, entry.digits, offsets, factors)
