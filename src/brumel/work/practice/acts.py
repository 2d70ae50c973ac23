"""What a learner does at the table with their hands: pour, rinse, blot, lower, stir, wait, inspect, clean."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import timedelta

from brumel.core.errors import InputError
from brumel.store.tables import Probe
from brumel.work import simulator
from brumel.work.desk import Refused, Write, alone_with, writes
from brumel.work.practice import clock as world_clock
from brumel.work.practice import table as bench_table
from brumel.work.practice.table import CARE, ON_DISPLAY, PLACES, TAKES_S, Act, OnTable, Table
from brumel.work.quantities.base import RunContext
from brumel.work.quantities.book import quantity_of


@dataclass(frozen=True)
class Done:
    """What an act led to, in a sentence."""

    words: str


#: What is rinsed with: its share of what mixes on.
_PURE = {"conductivity_us_cm": 2.0, "ion_mg_l": 0.0, "oxygen_percent": 95.0, "chlorine_mg_l": 0.0}
_TOOK = {
    "clean": "Cleaned as its manual says, and rinsed",
    "electrolyte": "Electrolyte changed",
    "membrane": "New membrane and electrolyte fitted; it has to polarise now",
    "dry_plug": "Plug and socket dried",
    "soak": "Soaked overnight in storage solution",
    "hydrate": "Stood a day in its standard",
}


@writes("practice.act", Done)
def act(w: Write, *, what: str, probe: str = "", on: str = "", amount: float | None = None) -> Done:
    """Do one thing at the table; it takes the time that it takes.

    what : a key of TAKES_S; on : the bottle, cup or place it is done with; amount : seconds to wait, or a depth [m]
    Raises InputError for what is not there, Refused for what cannot be done now.
    """
    if what not in TAKES_S:
        raise InputError("act", "That is not done at this table.", value=what[:40])
    alone_with(w.session, "practice table")
    simulator.truths(w.session)  # all at once: what the table and its clock are asked for below is there then
    if not bench_table.is_laid(w.session):
        raise Refused("The table is not laid. Begin a scenario first.")
    table = bench_table.load(w.session)
    slip = _slip(table, what, probe, on)
    words = _do(w, table, what, probe, on, amount)
    subject = (
        table.named(probe).name if what not in ("pour", "label", "wait", "test_kit", "walk") and table.probes else ""
    )
    table.acts.append(Act(at=w.now, act=what, probe=subject, what=on[:40], words=words, slip=slip))
    bench_table.keep(w.session, table)
    world_clock.go_on(w.session, float(TAKES_S[what]) if what != "wait" else float(amount or 0))
    w.record("practice:table", {"act": what, "on": on[:40], "said": words})
    return Done(words)


def _slip(table: Table, what: str, probe: str, on: str) -> str:
    """What a good technician would not have done so; empty where nothing is to be said."""
    if what == "lower" and on not in ("holder",) and table.probes:
        on_table = table.named(probe)
        before = next((s.place for s in reversed(on_table.stands) if s.place != "holder"), on)
        if on_table.film_share >= bench_table.CARRIED and on != before:
            return f"{on_table.name} was not rinsed after where it stood before."
        if on == "moist_air" and on_table.film_share > bench_table.WET:
            return f"A drop hung on {on_table.name} when it went into the moist air."
    if what == "wipe" and table.named(probe).quantity == "ph":
        return "The bulb was wiped, not blotted: wiping charges it."
    return ""


def _do(w: Write, table: Table, what: str, probe: str, on: str, amount: float | None) -> str:
    if what == "wait":
        return _wait(amount)
    if what == "pour":
        cup = bench_table.pour(w.session, table, on, w.now + timedelta(seconds=TAKES_S["pour"]))
        return f"Cup {cup.letter}: {table.bottles[on].name}, {table.bottles[on].code}."
    if what == "label":
        return _label(table, on)
    if what == "walk":
        table.signal = True
        return "Back where there is a signal. What you noted can be typed now, with the seconds it had stood."
    if what == "test_kit":
        return _test_kit(table)
    on_table = table.named(probe)
    if what == "lower":
        return _lower(w, table, on_table, on, amount)
    if what == "inspect":
        return f"{on_table.name}: {on_table.seen}"
    if what == "thermometer":
        here = on_table.stand.liquid.get("temperature_c", table.room_c)
        return f"The reference thermometer shows {here:.1f} °C beside {on_table.name}."
    if what == "set":
        return _set(w, table, on_table, probe, amount)
    if what in CARE:
        return _care(w, table, on_table, what)
    return _handle(w, on_table, what)


def _wait(amount: float | None) -> str:
    if amount is None or not math.isfinite(amount) or not 1 <= amount <= bench_table.LONGEST_WAIT_S:
        raise InputError("amount", "Waiting takes 1 second to 48 hours.", value=amount)
    shown = (
        f"{amount:.0f} s" if amount < 120 else f"{amount / 60:.0f} min" if amount < 7200 else f"{amount / 3600:.0f} h"
    )
    return f"Waited {shown}."


def _label(table: Table, on: str) -> str:
    shelf = table.bottles.get(on)
    if shelf is None:
        raise InputError("bottle", "Choose a bottle that stands on the table.", value=on[:40])
    return f"{shelf.name}, {shelf.code}: {shelf.seen}"


def _test_kit(table: Table) -> str:
    if "chlorine_mg_l" not in table.water:
        raise Refused("There is nothing here to test with the kit.")
    shown = float(table.water["chlorine_mg_l"]) + table.test_kit_off
    return f"The test kit shows {max(0.0, shown):.1f} mg/L free chlorine."


def _lower(w: Write, table: Table, probe: OnTable, on: str, amount: float | None) -> str:
    if on not in PLACES and on not in [c.letter for c in table.cups]:
        raise InputError("place", "Choose a cup or a place that is there.", value=on[:40])
    if amount is not None and not 0 <= amount <= 200:
        raise InputError("amount", "Depth must be between 0 and 200 m.", value=amount)
    bench_table.put(w.session, table, probe, on, w.now + timedelta(seconds=TAKES_S["lower"]), amount)
    if on in PLACES:
        return f"{probe.name} is {PLACES[on]}{f', {amount:g} m down' if amount else ''}."
    return f"{probe.name} stands in cup {on}."


def _handle(w: Write, probe: OnTable, what: str) -> str:
    """What is done with a probe in the hand, or where it stands."""
    after = w.now + timedelta(seconds=TAKES_S[what])
    if what in ("rinse", "blot", "wipe"):
        if probe.stand.place != "holder":
            raise Refused(f"Take {probe.name} out first: put it in its holder.")
        if what == "rinse":
            probe.film, probe.film_share, probe.rinsed = dict(_PURE), bench_table.RINSED, True
            return f"{probe.name} is rinsed with pure water, and wet."
        probe.film_share = 0.0 if probe.rinsed else bench_table.BLOTTED
        if what == "wipe" and probe.quantity == "ph":
            bench_table.again(probe, after, kick=14.0)
            return f"{probe.name} is wiped dry."
        return f"{probe.name} is {'blotted' if what == 'blot' else 'wiped dry'}."
    if what == "stir":
        if probe.stand.place in ("holder", "moist_air"):
            raise Refused("There is nothing to stir in air.")
        bench_table.again(probe, after, liquid={"stirred": True})
        return f"The water moves past {probe.name}."
    gone = ("bubble",)
    body = [f for f in probe.body.get("faults", ()) if f not in gone]
    if what == "lift" and probe.quantity == "conductivity":
        probe.body["faults"] = body
    if what == "shake" and probe.quantity == "ph":
        probe.body["faults"] = body
    bench_table.again(probe, after, faults=tuple(f for f in probe.stand.faults if f not in gone))
    return f"{probe.name} was {'dipped and lifted five times' if what == 'lift' else 'shaken down'}."


def _set(w: Write, table: Table, probe: OnTable, probe_id: str, amount: float | None) -> str:
    """Set the meter itself to a value where its probe stands now."""
    entry = ON_DISPLAY[probe.quantity][0]
    if not quantity_of(probe.quantity).is_display(entry):
        raise Refused(f"The display of {probe.name} cannot be set.")
    spec = quantity_of(probe.quantity).entries[entry]
    if amount is None or not spec.low <= amount <= spec.high:
        raise InputError(
            "amount", f"Type what the display is to show, {spec.low:g} to {spec.high:g} {spec.unit}.", value=amount
        )
    known = next(k for k, p in table.probes.items() if p is probe)
    y, c = bench_table.shows(probe, [w.now])
    case = RunContext(w.session.get_one(Probe, known), settings=table.truly)
    raw = quantity_of(probe.quantity).shown(entry, float(y[0]), float(c[0]), case)
    probe.settings = [*probe.settings, (raw, amount)][-2:]
    return f"The meter is set to {amount:g} {spec.unit} here."


def _care(w: Write, table: Table, probe: OnTable, what: str) -> str:
    """Maintenance: it takes away what it can take away, and a new membrane has to polarise."""
    gone = probe.mended.get(what, ())
    probe.body["faults"] = [f for f in probe.body.get("faults", ()) if f not in gone]
    probe.film, probe.film_share, probe.rinsed = dict(_PURE), 0.0, True
    after = w.now + timedelta(seconds=TAKES_S[what])
    if what == "membrane" and probe.quantity == "oxygen":
        probe.membrane_at = after
    if gone:
        probe.seen = "Clean, whole and moist."
    bench_table.put(w.session, table, probe, "holder", after)
    return f"{probe.name}: {_TOOK[what]}."
