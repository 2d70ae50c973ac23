"""What to take on a round and to set before leaving, with what is left of it."""

from __future__ import annotations

import math
import uuid
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from brumel.core import meter_settings
from brumel.core.quantity_table import IONS
from brumel.core.sentence import Amount, Span, joined, say
from brumel.store.rounds import Outing, OutingPacking, OutingSettings, Round
from brumel.store.tables import Meter, MeterSettings, Site
from brumel.work import kit
from brumel.work.desk import MovedOn, NotFound, Write, Written, object_id, writes
from brumel.work.kit.stock import CUP_ML
from brumel.work.quantities import standards as quantities_standards
from brumel.work.rounds.calendar import day_out
from brumel.work.rounds.outings import Chosen, ProbeChoice, choice, outing


@dataclass(frozen=True)
class Packed:
    """How many of the items are in the box."""

    packed: int


@dataclass(frozen=True)
class PackingItem:
    """One thing to pack or set: a stable key, what, and why; `care` where something is wrong with it."""

    key: str
    what: str
    why: str
    care: str = ""


def packing(
    session: Session,
    planned_round: Round,
    now: datetime,
    carried: ProbeChoice | None = None,
    recorded: Mapping[uuid.UUID, MeterSettings] | None = None,
    on_shelf: Sequence[kit.LotView] | None = None,
) -> dict[str, list[PackingItem]]:
    """Everything to take and to set before leaving, by kind; solutions and spares with what is left of them."""
    back = now + timedelta(minutes=day_out(planned_round).minutes)
    chosen = (carried or choice(session, planned_round, now)).best(back)
    on_shelf = kit.lots_on_shelf(session, now) if on_shelf is None else on_shelf
    lots = [v for v in on_shelf if v.lot.opened_at or not v.objections]
    probes = [PackingItem(f"probe-{c.probe.id}", c.probe.name, c.trust.words, _care(c)) for c in chosen]
    wanted: dict[uuid.UUID, _Wanted] = {}
    standards: list[PackingItem] = []
    for c in chosen:
        # One cup for the closing check, and one more of each where the probe is calibrated before or on the way.
        lasts = c.trust.valid and c.trust.calibration is not None and c.trust.calibration.valid_until >= back
        picked, words, beyond = _bracket(planned_round, c, lots)
        for v in picked:
            before = wanted.get(v.lot.id, _Wanted(v, words, 0))
            wanted[v.lot.id] = _Wanted(v, before.words, before.cups + (1 if lasts else 2))
        standards += beyond
    standards += [_solution(one) for one in wanted.values()]
    meters = {c.probe.meter.id: c.probe.meter for c in chosen}
    recorded = kit.settings_of(session, list(meters)) if recorded is None else recorded
    safety = [
        PackingItem("jacket", "life jacket, and a second person where the note says so", "water"),
        PackingItem("water", "pure water to rinse, tissue, a waste bottle", "nothing is poured out at the site"),
        PackingItem("gloves", "gloves and glasses", "solutions"),
    ]
    return {
        "probes": probes,
        "standards": standards,
        "spares": _spares(session, chosen, meters.values()),
        "safety": safety,
        "settings": [item for m in meters.values() for item in _settings(m, recorded.get(m.id), planned_round.sites)],
    }


def _care(c: Chosen) -> str:
    if not c.trust.valid:
        return "its readings would have no valid calibration"
    gap = kit.typed_gap(c.probe, c.trust)
    return say("where it is typed: {gap}", gap=gap) if gap and c.probe.meter.link != "typed" else gap


@dataclass(frozen=True)
class _Wanted:
    view: kit.LotView
    words: str
    cups: int


def _solution(one: _Wanted) -> PackingItem:
    lot, left = one.view.lot, one.view.left
    assert left is not None  # what stands on the shelf was counted or not, and says so
    needed = one.cups * (CUP_ML if left.unit == "mL" else 1.0)
    cups = say(
        "{cups} {cup}, {needed}",
        cups=one.cups,
        cup="cups" if one.cups > 1 else "cup",
        needed=Amount(needed, left.unit, ".0f"),
    )
    care = " ".join([*one.view.objections, *([f"{short}." if (short := left.short_of(needed)) else ""])]).strip()
    return PackingItem(f"lot-{lot.id}", f"{lot.code}, {lot.name}", joined((one.words, cups, left.words), "; "), care)


def _spares(session: Session, chosen: Sequence[Chosen], meters: Iterable[Meter]) -> list[PackingItem]:
    meters = list(meters)
    known = kit.spares(session, meters)
    items: dict[str, PackingItem] = {}

    def take(key: str, what: str, why: str, needed: float = 1.0) -> None:
        left = known[key][1]
        items[key] = PackingItem(key, what, joined((why, left.words), "; "), left.short_of(needed))

    for c in chosen:
        if c.quantity == "oxygen" and c.probe.kind != "optical":
            take("membrane", "a spare membrane", "a torn membrane ends the oxygen of the day")
            take("electrolyte", "electrolyte for it", "a new membrane wants a fresh fill")
        if c.quantity in IONS:
            take(
                f"tip-{c.quantity}",
                f"the {c.quantity} tip's cap, moist, and a spare tip",
                "a tip that dries starts again",
            )
        if c.quantity == "ph":
            take("storage", "storage solution and the bulb's cap", "the bulb travels moist", needed=CUP_ML)
    for m in meters:
        kind = m.battery or "kind not on record"
        take(f"battery-{m.id}", f"spare batteries for {m.name}", kind)
    return list(items.values())


def _bracket(
    planned_round: Round, c: Chosen, lots: Sequence[kit.LotView]
) -> tuple[list[kit.LotView], str, list[PackingItem]]:
    """The solutions that bracket what these sites usually read, why, and what is missing for it."""
    ends = [
        site.ranges[c.quantity]["usual"] for site in planned_round.sites if "usual" in site.ranges.get(c.quantity, {})
    ]
    mine = [v for v in lots if quantities_standards.measure(v.lot, c.quantity) is not None]
    if not ends or not mine:
        return [], "", []
    low, high = min(e[0] for e in ends), max(e[1] for e in ends)
    known = sorted(
        ((quantities_standards.nominal(v.lot, c.quantity, c.probe), v) for v in mine), key=lambda pair: pair[0]
    )
    below = [v for value, v in known if value <= low]
    above = [v for value, v in known if value >= high]
    if c.quantity == "conductivity":  # the standard nearest to each water serves a cell best
        middles = {math.sqrt(max(e[0], 1.0) * max(e[1], 1.0)) for e in ends}
        near = [min(known, key=lambda pair: abs(math.log(max(pair[0], 1e-3) / m)))[1] for m in middles]
        picked = list({v.lot.id: v for v in near}.values())
    else:
        picked = [*below[-1:], *above[:1]] or [known[0][1]]
    words = say("these sites usually read {span}", span=Span(low, high))
    if c.quantity == "ph" and not (below and above):
        return (
            picked,
            words,
            [PackingItem("no-bracket", "a buffer beyond the sites", words, "no open buffer lies beyond it")],
        )
    return picked, words, []


def _settings(meter: Meter, taken: MeterSettings | None, sites: Sequence[Site]) -> list[PackingItem]:
    """What to look at in the meter's menus before leaving, against what these waters need."""
    if taken is None:
        return [
            PackingItem(
                f"set-{meter.id}", f"record the settings of {meter.name}", "none are on record", "not on record"
            )
        ]
    s, items = taken.settings, []
    salts = {float(site.water.get("usual_salinity") or 0.0) for site in sites}
    if float(s.get("preset_salinity") or 0.0) not in salts:
        items.append(
            PackingItem(
                f"salt-{meter.id}",
                f"{meter.name}: preset salinity {s.get('preset_salinity')}",
                "none of these waters has it; Brumel takes it off, the display stays wrong",
                "set it at each water",
            )
        )
    factors = {site.water["tds_factor"] for site in sites if site.water.get("tds_factor")}
    if factors and s.get("tds_factor") not in factors:
        items.append(
            PackingItem(
                f"tds-{meter.id}",
                f"{meter.name}: TDS factor {s.get('tds_factor')}",
                f"these sites state TDS by {', '.join(f'{f:g}' for f in sorted(factors))}",
                "the display will differ",
            )
        )
    if s.get("auto_off_min"):
        items.append(
            PackingItem(
                f"off-{meter.id}",
                f"{meter.name} switches itself off after {s['auto_off_min']} min",
                "a logger must not",
                "set it to never before logging",
            )
        )
    return items


@dataclass(frozen=True)
class Settings:
    """A meter's settings before leaving: as they were recorded, and who checked them for this outing."""

    meter: Meter
    recorded: MeterSettings | None
    rows: tuple[tuple[str, str], ...]
    seen: str


def settings(
    session: Session,
    outing: Outing,
    now: datetime,
    carried: ProbeChoice | None = None,
    recorded: Mapping[uuid.UUID, MeterSettings] | None = None,
) -> list[Settings]:
    """The meters of an outing with their settings. A snapshot taken later makes the checking stale."""
    chosen = (carried or choice(session, outing.round, now)).best(now)
    meters = {m.id: m for m in [c.probe.meter for c in chosen]}
    recorded = kit.settings_of(session, list(meters)) if recorded is None else recorded
    items = []
    for meter in meters.values():
        taken = recorded.get(meter.id)
        confirmation = _confirmed(outing, taken)
        rows = tuple(meter_settings.in_words(taken.settings)) if taken else ()
        items.append(
            Settings(meter, taken, rows, f"{confirmation['at']} by {confirmation['by']}" if confirmation else "")
        )
    return items


def unseen(session: Session, outing: Outing, meters: Iterable[Meter]) -> list[Meter]:
    """Those of these meters whose settings nobody checked before this outing, or whose settings changed since."""
    once = {m.id: m for m in meters}.values()
    if outing.ended_at is not None:  # what was recorded after it changes nothing of it any more
        return [m for m in once if str(m.id) not in outing.settings]
    recorded = kit.settings_of(session, [m.id for m in once])
    return [m for m in once if _confirmed(outing, recorded.get(m.id)) is None]


def _confirmed(outing: Outing, taken: MeterSettings | None) -> dict[str, str] | None:
    """Who checked these settings for the outing, None where nobody did since they were recorded."""
    check = outing.settings.get(str(taken.meter_id)) if taken is not None else None
    return check if check is not None and taken is not None and check["snapshot"] == str(taken.id) else None


@writes("outing.settings", Written)
def confirm(w: Write, *, outing_id: str, settings_id: str) -> Written:
    """The settings in the meter's menus are those of this snapshot: checked before leaving."""
    packed_outing = outing(w.session, outing_id)
    taken = w.session.get(MeterSettings, object_id(settings_id, "settings"))
    if taken is None:
        raise NotFound("There are no such settings.")
    newest = kit.last_settings(w.session, taken.meter_id)
    if newest is None or newest.id != taken.id:
        raise MovedOn("These settings were recorded anew in another window. You now see them.")
    meter = kit.meter_of(w.session, taken.meter_id)
    check = OutingSettings(
        outing_id=packed_outing.id, meter_id=meter.id, snapshot_id=taken.id, at=w.now, by_id=w.actor.id
    )
    w.session.add(check)
    w.record(f"outing:{outing_id}", {"settings of": meter.name, "snapshot": str(taken.id)})
    return Written(str(meter.id))


@writes("outing.pack", Packed)
def pack(w: Write, *, outing_id: str, ticked: Sequence[str]) -> Packed:
    """What is on the packing list; ticking again replaces what was ticked."""
    packed_outing = outing(w.session, outing_id)
    items = {i.key for group in packing(w.session, packed_outing.round, w.now).values() for i in group}
    kept = sorted(set(ticked) & items)
    ticks = dict.fromkeys(kept, w.now.isoformat())
    w.session.add(OutingPacking(outing_id=packed_outing.id, packed=ticks, at=w.now, by_id=w.actor.id))
    w.record(f"outing:{outing_id}", {"packed": len(kept), "of": len(items)})
    return Packed(packed=len(kept))
