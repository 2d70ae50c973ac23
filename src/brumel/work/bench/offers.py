"""Which solutions may stand in a cup, which one usually does, and what the meter says against it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from brumel.core.conductivity import cell_range_us_cm
from brumel.core.meter_settings import OF_THE_DAY, contradictions
from brumel.core.sentence import Amount, Span, say
from brumel.methods import StepSpec
from brumel.store.tables import Lot, MeterSettings, Probe
from brumel.work import kit
from brumel.work.quantities import standards


def contradictions_for(
    recorded: MeterSettings | None, probe: Probe, offers: dict[str, list[kit.LotView]], source: str
) -> tuple[str, ...]:
    """What the meter's settings say against this probe and the solutions offered first."""
    first = [views[0].lot for views in offers.values() if views]
    if recorded is None:
        return beyond_cell(first, probe)
    families = tuple(standards.family(lot, probe.quantity) for lot in first)
    return beyond_cell(first, probe) + contradictions(
        {key: value for key, value in recorded.settings.items() if key not in OF_THE_DAY},
        probe.quantity,
        nominal_per_cm=probe.nominal,
        families=families,
        typed="us_cm" if source == "typed" and probe.quantity == "conductivity" else "",
    )


def beyond_cell(lots: Sequence[Lot], probe: Probe) -> tuple[str, ...]:
    """Sentences where a standard lies outside what a cell of this constant and kind is made for."""
    if probe.quantity != "conductivity" or not probe.nominal:
        return ()
    low, high = cell_range_us_cm(probe.nominal, probe.kind)
    return tuple(
        say(
            "{code} is {value}; a cell of {constant} reads well from {span}.",
            code=lot.code,
            value=Amount(standards.nominal(lot, "conductivity"), "µS/cm", ".6g"),
            constant=Amount(probe.nominal, "/cm"),
            span=Span(low, high, "µS/cm", ".6g"),
        )
        for lot in lots
        if not low <= standards.nominal(lot, "conductivity") <= high
    )


def offers_for(
    step: StepSpec, lots: Sequence[kit.LotView], probe: Probe, reads: float | None = None
) -> list[kit.LotView]:
    """The lots that may stand in this cup: opened ones first among those as near, nothing empty or out of date.

    reads : about what will be read next, in the quantity's unit; a standard just above it comes first
    Only where no other is there are those offered that something speaks against, or that lie beyond what a cell is made
    for; each cup then asks why.
    """
    fitting = [v for v in lots if standards.fits(v.lot, step, probe.quantity, probe)]
    fitting = [v for v in fitting if v.usable] or fitting
    fitting = [v for v in fitting if not beyond_cell([v.lot], probe)] or fitting
    low, high = step.between or (0.0, 0.0)
    # The nearest general standard of the cell's constant comes first for a cell, not the middle of a wide range.
    middle = 1413.0 * (probe.nominal or 1.0) if probe.quantity == "conductivity" else (low + high) / 2

    def rank(v: kit.LotView) -> tuple[int, bool, float, bool, float]:
        combined, nominal = len(v.quantities) > 1, standards.nominal(v.lot, probe.quantity, probe)
        apart = abs(nominal - middle)
        alike = round(apart / max(abs(middle), 1.0), 1)  # buffers of two families are alike, two strengths are not
        if reads:
            alike = nominal / reads if nominal >= reads else 1e6 + reads / nominal
        is_sealed = v.lot.opened_at is None
        return (len(v.objections), combined != (step.made_as == "combined"), alike, is_sealed, apart)

    return sorted(fitting, key=rank)


def usual_cups(offers: Mapping[str, Sequence[kit.LotView]], before: Mapping[str, str]) -> dict[str, str]:
    """The lot each cup holds unless another is chosen: last time's where nothing speaks against it, else the first."""
    cups = {}
    for step, views in offers.items():
        good = [str(v.lot.id) for v in views if v.usable]
        if views:
            cups[step] = before[step] if before.get(step) in good else str(views[0].lot.id)
    return cups


def is_same_again(last_cups: Mapping[str, str], cups: Mapping[str, str]) -> bool:
    """Whether a run begun as it is offered has last time's lot in every cup."""
    return bool(last_cups) and all(last_cups.get(step) == lot for step, lot in cups.items())
