"""Whether a table can be laid by a scenario's text: what the kit's own records, the sensors and the standards say to it."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

import numpy as np
from pydantic import ValidationError

from brumel.core.errors import BrumelError, InputError, InputErrors, words_of
from brumel.core.meter_settings import checked
from brumel.meters.sensors import FAULTS, MODELS, Liquid, Start, sensor
from brumel.methods import load_method
from brumel.methods.scenarios import Bottle, ProbeKit, Scenario, Water, draw
from brumel.store.tables import Lot, Probe
from brumel.store.typed_json import LotMeasure
from brumel.work import kit
from brumel.work.practice.table import CARE
from brumel.work.practice.world import SETTINGS, cups_for
from brumel.work.quantities import standards
from brumel.work.rounds.site_record import terms_of, write_lines

#: What a scenario may say of a probe besides its quantity and name.
ABOUT = {"kind": str, "nominal": float, "reference_electrode": str, "measures": str, "cable_m": float}
#: Of a probe's truth, what belongs to its cups and not to its sensor.
OF_CUPS = {"cups_c", "cold_c", "second_mg_l"}
#: What a site's water is made of; what changes with depth is one of the numbers.
OF_WATER = {
    "ph",
    "temperature_c",
    "conductivity_25_us_cm",
    "oxygen_percent",
    "redox_mv",
    "nitrate_mg_l",
    "ammonium_mg_l",
    "chlorine_mg_l",
}


def check(scenario: Scenario) -> None:
    """Raise InputErrors naming every place a table could not be laid by."""
    faults = list(_faults(scenario))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)


def _faults(scenario: Scenario) -> Iterator[InputError]:
    yield from _said("meter.settings", lambda: checked({**SETTINGS, **scenario.meter.settings}))
    yield from _said("meter.truly", lambda: checked({**SETTINGS, **scenario.meter.settings, **scenario.meter.truly}))
    for key, probe in scenario.probes.items():
        yield from _of_probe(f"probes.{key}", probe)
    lots: dict[str, Lot] = {}
    for key, bottle in scenario.bottles.items():
        yield from _of_bottle(f"bottles.{key}", bottle, lots, key)
    if scenario.site is not None:
        yield from _of_site(scenario.site)
    for number, event in enumerate(scenario.events):
        for key in set(event.sets) - set(scenario.probes) - {"site"}:
            yield _fault(f"events.{number}.sets.{key}", "names neither a probe nor the site")
    if len(lots) == len(scenario.bottles):
        yield from _of_cups(scenario, list(lots.values()))


def _fault(place: str, words: str) -> InputError:
    return InputError(place, f"{place}: {words}.")


def _said(place: str, do: Callable[[], Any]) -> Iterator[InputError]:
    """What a check of ours has against a part, with its place."""
    try:
        do()
    except BrumelError as error:
        yield InputError(place, f"{place}: {words_of(error)}")


def _of_probe(place: str, about: ProbeKit) -> Iterator[InputError]:
    for name, value in about.about.items():
        kind = ABOUT.get(name)
        if kind is None:
            yield _fault(f"{place}.about.{name}", f"is not one of {', '.join(ABOUT)}")
        elif not isinstance(value, (int, float) if kind is float else str) or len(str(value)) > 40:
            yield _fault(f"{place}.about.{name}", "must be a number" if kind is float else "must be a word")
    known = set(MODELS[about.quantity].__dataclass_fields__) | OF_CUPS
    for part, body in (("now", about.now), ("before", about.before)):
        wrong = [
            _fault(f"{place}.{part}.{name}", f"is nothing this sensor has: {', '.join(sorted(known))}")
            for name in set(body) - known
        ]
        wrong += [
            _fault(f"{place}.{part}.faults", f"“{fault[:30]}” is not one of {', '.join(FAULTS[about.quantity])}")
            for fault in _names(body.get("faults", ()))
            if fault not in FAULTS[about.quantity]
        ]
        yield from wrong or _of_sensor(f"{place}.{part}", about.quantity, body)
    for what, gone in about.mended.items():
        if what not in CARE:
            yield _fault(f"{place}.mended.{what[:20]}", f"is not one of {', '.join(CARE)}")
        elif unknown := [f for f in gone if f not in FAULTS[about.quantity]]:
            yield _fault(f"{place}.mended.{what}", f"“{unknown[0][:30]}” is no fault of this sensor")


def _names(value: Any) -> tuple[str, ...]:
    return tuple(map(str, value)) if isinstance(value, tuple | list) else (str(value),)


def _of_sensor(place: str, quantity: str, body: dict[str, Any]) -> Iterator[InputError]:
    """The sensor is asked for a reading: one that is no number is a fault of its truth."""
    with np.errstate(all="ignore"):
        y, _ = sensor(quantity, draw(body, 1, "proof")).sense(Liquid(), np.array([0.0, 60.0]), Start(), 1)
    if not np.isfinite(y).all():
        yield _fault(place, "makes a sensor that shows no number; look at its time constants")


def _of_bottle(place: str, bottle: Bottle, lots: dict[str, Lot], key: str) -> Iterator[InputError]:
    try:
        measures = {quantity: LotMeasure(**body) for quantity, body in bottle.measures.items()}
    except (ValidationError, TypeError):
        yield _fault(f"{place}.measures", "must say family, label by temperature, u and basis as a lot does")
        return
    lot = Lot(id=uuid.uuid4(), code=bottle.code, name=bottle.name, measures=measures, container=bottle.container)
    unknown = [q for q in measures if q not in standards.LABELS]
    if unknown:
        yield _fault(f"{place}.measures.{unknown[0][:20]}", "is nothing a solution is a standard of")
        return
    probe = Probe(reference_electrode="agcl-3m")
    faults = [
        fault
        for quantity in measures
        for fault in _said(f"{place}.measures.{quantity}", partial(standards.value, lot, quantity, 20.0, probe))
    ]
    yield from faults
    for name in set(bottle.truly) - {"shift", "strength", "temperature_c"}:
        yield _fault(f"{place}.truly.{name[:20]}", "is not one of shift, strength, temperature_c")
    if not faults:
        lots[key] = lot


def _of_site(site: Water) -> Iterator[InputError]:
    for name, value in site.truly.items():
        if name == "layers":
            if not isinstance(value, dict) or set(value) - set(site.truly) or set(value) - OF_WATER:
                yield _fault("site.truly.layers", "must name what the water has, each with its change a metre")
        elif name != "stirred" and name not in OF_WATER:
            yield _fault(f"site.truly.{name[:30]}", f"is not one of {', '.join(sorted(OF_WATER))}")
        elif (name == "stirred") != isinstance(value, bool):
            yield _fault(f"site.truly.{name}", "must be true or false" if name == "stirred" else "must be a number")
    for quantity, ranges in site.ranges.items():
        if "usual" not in ranges or set(ranges) - {"usual", "gross"}:
            yield _fault(f"site.ranges.{quantity[:30]}", "must say its usual range, and may say its gross one")
    yield from _said(
        "site",
        lambda: terms_of(
            site.use, write_lines(site.ranges, limits=False), write_lines(site.limits, limits=True), site.water
        ),
    )


def _of_cups(scenario: Scenario, lots: list[Lot]) -> Iterator[InputError]:
    """Every cup of the method finds a bottle that may stand in it."""
    method = load_method(scenario.method)
    if method is None:
        return
    about = next(p for p in scenario.probes.values() if p.quantity == scenario.quantity)
    own: dict[str, Any] = {"waits": {}, "intervals": {}, "limits": {}}
    probe = Probe(quantity=about.quantity, **own, **{k: v for k, v in about.about.items() if k in ABOUT})
    cups = cups_for(kit.method_for_probe(method, probe), lots, about.quantity, probe)
    for step in method.steps:
        if step.vessel == "solution" and step.key not in cups:
            yield _fault("bottles", f"none of them fits “{step.title}” of the method")
