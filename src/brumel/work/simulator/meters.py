"""The simulated meter at work: it looks where probes stand and stores what they would show by now."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any

import numpy as np
from sqlalchemy import bindparam, literal, select, true, union_all
from sqlalchemy.orm import Session, aliased
from sqlalchemy.orm.util import identity_key

from brumel.core.conductivity import to_reference
from brumel.core.constants.defined import STANDARD_PRESSURE_HPA
from brumel.core.errors import InputError
from brumel.core.oxygen import saturation_mg_l
from brumel.core.quantity_table import IONS
from brumel.meters.sensors import FAULTS, SAMPLES_PER_S, Liquid, Sensor, Start, sensor
from brumel.meters.sensors.glass import contaminated
from brumel.store.tables import Dip, Lot, Meter, Probe, Run, Sample, Truth, Visit
from brumel.work.desk import Desk
from brumel.work.link import samples
from brumel.work.quantities import standards

MOST_AT_ONCE = 600
#: It looks no oftener than this, however many probes stand somewhere; and where its clock is made to run faster [s].
SOONEST_S, SOONEST_FAST_S = 0.05, 0.2


def truth(session: Session, subject: str) -> dict[str, Any]:
    """What the simulator knows about a subject; empty where nothing was set."""
    held: Truth | None = session.identity_map.get(identity_key(Truth, subject))
    if held is not None:
        return held.body
    # Asked for by the dozen: a column alone is read in half the time of a row.
    return session.scalar(_BODY, {"subject": subject}) or {}


_BODY = select(Truth.body).where(Truth.subject == bindparam("subject"))


def truths(session: Session, prefix: str = "") -> dict[str, dict[str, Any]]:
    """All the simulator knows, by subject."""
    rows = list(session.scalars(select(Truth).where(Truth.subject.startswith(prefix, autoescape=True))))
    session.info["truths"] = rows  # held on to, so that `truth` finds them without asking again
    return {row.subject: row.body for row in rows}


def set_truth(session: Session, subject: str, body: dict[str, Any]) -> None:
    """Set what the simulator knows about a subject."""
    session.merge(Truth(subject=subject, body=body))


def pump(desk: Desk) -> int:
    """Store every sample that is due by now on every live dip of a simulated meter. Returns how many are new.

    Safe to run anywhere, any number of times: a sample is a pure function of its dip and number.
    """
    return Simulator(desk).pump()


@dataclass(frozen=True)
class _Standing:
    """A probe standing somewhere: its sensor, what is around it, and where it started from."""

    sensor: Sensor
    liquid: Liquid
    start: Start


class Simulator:
    """The simulated meters inside Brumel; what stands where is looked up once a dip, then only samples are made."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._standing: dict[uuid.UUID, _Standing | None] = {}
        self._next: dict[uuid.UUID, int] = {}
        # Where probes stand is asked for as often as a sample is due, however many probes there are.
        self._dips: list[Dip] = []
        self._pace, self._looked_at = 1.0, datetime.min.replace(tzinfo=UTC)
        #: How long nothing is due after a look [s]; 0 where no probe stands anywhere.
        self.pause_s = 0.0

    def pump(self) -> int:
        """Store what is due by now, all dips in one transaction."""
        due: list[tuple[Dip, list[samples.SampleRow]]] = []
        to_next_s = [1 / SAMPLES_PER_S]
        with self.desk.sessions.begin() as session:
            now = self.desk.clock()
            if not self._dips or not 0 <= (now - self._looked_at).total_seconds() < 1 / SAMPLES_PER_S:
                self._dips = samples.simulated_dips(session, now)
                self._pace = float(truth(session, "clock").get("pace", 1.0)) if self._dips else 1.0
                self._looked_at = now
            dips, pace = self._dips, self._pace
            for dip in dips:
                if dip.id not in self._standing:
                    self._standing[dip.id] = _standing_or_none(session, dip)
                    self._next[dip.id] = samples.next_seq(session, dip)
                stands = self._standing[dip.id]
                if stands is None:
                    continue
                elapsed_s = (now - dip.started_at).total_seconds()
                rows = shows(stands, dip, elapsed_s * pace, self._next[dip.id])
                due.append((dip, rows))
                to_next_s.append((self._next[dip.id] + len(rows)) / (SAMPLES_PER_S * pace) - elapsed_s)
            new = samples.store_all(session, due)
        for dip, rows in due:
            self._next[dip.id] += len(rows)
        for gone in set(self._standing) - {d.id for d in dips}:
            del self._standing[gone], self._next[gone]
        took_s = (self.desk.clock() - now).total_seconds()
        self.pause_s = max(min(to_next_s) - took_s, SOONEST_S if pace <= 1 else SOONEST_FAST_S) if dips else 0.0
        return new


def shows(stands: _Standing, dip: Dip, upto_s: float, first: int = 0) -> list[samples.SampleRow]:
    """What a probe shows from sample `first` up to `upto_s` of the meter's own time; the same whenever it is asked."""
    last = min(int(upto_s * SAMPLES_PER_S), first + MOST_AT_ONCE - 1)
    last = min(last, int(samples.LONGEST_DIP.total_seconds() * SAMPLES_PER_S))
    if last < first:
        return []
    seq = np.arange(first, last + 1)
    t_s = seq / SAMPLES_PER_S
    y, c = stands.sensor.sense(stands.liquid, t_s, stands.start, dip.number)
    return [(int(s), float(t), float(e), float(k), None) for s, t, e, k in zip(seq, t_s, y, c, strict=True)]


def standing(session: Session, dip: Dip, start: Start | None = None) -> _Standing:
    """What the simulator knows of a dip; `start` where it is known already."""
    probe = session.get_one(Probe, dip.probe_id)
    probe_sensor = sensor(probe.quantity, truth(session, f"probe:{probe.id}"))
    start = start or _starts(session, [dip])[dip.id]
    return _Standing(probe_sensor, _liquid(session, dip, probe, probe_sensor), start)


def standings(session: Session, dips: Sequence[Dip]) -> dict[uuid.UUID, _Standing]:
    """The same of several dips."""
    starts = _starts(session, dips)
    return {dip.id: standing(session, dip, starts[dip.id]) for dip in dips}


def _standing_or_none(session: Session, dip: Dip) -> _Standing | None:
    """None for a cup outside its solution's table: that probe stays silent, and the others go on."""
    try:
        return standing(session, dip)
    except InputError:
        return None


class Cable:
    """One simulated meter as its cable sees it: each address shows what its probe stands in now."""

    def __init__(self, desk: Desk, meter: str) -> None:
        self.desk, self.meter = desk, meter
        self._probes: dict[str, uuid.UUID] = {}
        self._standing: dict[uuid.UUID, _Standing] = {}

    def addresses(self) -> list[str]:
        """The addresses that answer."""
        if not self._probes:
            with self.desk.read() as session:
                query = select(Probe).join(Meter, Meter.id == Probe.meter_id).where(Meter.name == self.meter)
                self._probes = {p.address: p.id for p in session.scalars(query) if p.address}
        return sorted(self._probes)

    def sense(self, address: str) -> tuple[float, float] | None:
        """Signal and temperature of a probe now; in plain air where it stands nowhere."""
        with self.desk.read() as session:
            dip = session.scalar(
                select(Dip).where(Dip.probe_id == self._probes[address]).order_by(Dip.number.desc()).limit(1)
            )
            elapsed = (self.desk.clock() - dip.started_at).total_seconds() if dip else 0.0
            if dip is None or elapsed > samples.LONGEST_DIP.total_seconds():
                probe = session.get_one(Probe, self._probes[address])
                probe_sensor = sensor(probe.quantity, truth(session, f"probe:{probe.id}"))
                stands = _Standing(probe_sensor, Liquid(vessel="air"), Start(0.0, 20.0))
                number = 0
            else:
                stands, number = self._standing.get(dip.id) or standing(session, dip), dip.number
                self._standing = {**self._standing, dip.id: stands} if len(self._standing) < 200 else {dip.id: stands}
        y, c = stands.sensor.sense(stands.liquid, np.array([max(elapsed, 0.0)]), stands.start, number)
        return float(y[0]), float(c[0])


def _liquid(session: Session, dip: Dip, probe: Probe, probe_sensor: Sensor) -> Liquid:
    """What the probe really stands in, faults of cups included."""
    if dip.visit_id:
        visit = session.get_one(Visit, dip.visit_id)
        return site_water(truth(session, f"site:{visit.site_id}"), probe.quantity, dip.depth_m)
    body = truth(session, f"probe:{dip.probe_id}")
    at = float(body.get("cups_c", 20.0))
    run = session.get_one(Run, dip.run_id)
    steps = {s["key"]: s for s in run.method["steps"]}
    step, order = steps[dip.step], list(steps).index(dip.step)
    at = _temperature(at, step, order, probe_sensor, probe, body)
    if step["vessel"] in ("saturated_air", "saturated_water"):
        pressure = run.conditions.pressure_hpa or STANDARD_PRESSURE_HPA
        share = 100 * float(saturation_mg_l(at, 0.0, pressure)) / float(saturation_mg_l(at))
        return Liquid(at, oxygen_percent=share, vessel=step["vessel"])
    if step["vessel"] == "reference":
        return Liquid(at, chlorine_mg_l=float(body.get("second_mg_l", 1.5)), vessel="reference")
    if step["vessel"] == "air":
        return Liquid(at, vessel="air")
    lot = session.get_one(Lot, _poured(dip, probe, probe_sensor, run, list(steps)))
    solution = _solution(session, lot, probe, probe_sensor, at)
    if "old_standard" in probe_sensor.faults and probe.quantity == "redox" and dip.step == list(steps)[-1]:
        return replace(solution, redox_mv=solution.redox_mv - 46.0)
    if "carry_over" in probe_sensor.faults and probe.quantity in IONS and dip.step == "low":
        return replace(solution, ion_mg_l=solution.ion_mg_l * 1.6)
    return solution


def _temperature(
    temperature_c: float, step: dict[str, Any], order: int, probe_sensor: Sensor, probe: Probe, body: dict[str, Any]
) -> float:
    """The temperature of this cup: near each other, cold where the method wants it, ice where it is ice."""
    if step["key"] == "ice":
        return 1.3 if "ice_wrong" in probe_sensor.faults else float(body.get("ice_c", 0.0))
    if step["key"].endswith("-cold"):
        return float(body.get("cold_c", 7.0)) + 0.1 * (order % 2)
    if "warm_cup" in probe_sensor.faults and order == 1:
        return temperature_c + 2.4
    return temperature_c + (0.05 if probe.quantity in (*IONS, "temperature") else 0.3) * order


def reference_shows(session: Session, dip: Dip) -> float:
    """What a reference instrument beside the simulated probe shows: the true value, or a second method's with its fault."""
    probe = session.get_one(Probe, dip.probe_id)
    probe_sensor = sensor(probe.quantity, truth(session, f"probe:{probe.id}"))
    there = _liquid(session, dip, probe, probe_sensor)
    if probe.quantity == "temperature":
        return round(0.0 if "ice_wrong" in probe_sensor.faults and dip.step == "ice" else there.temperature_c, 2)
    return round(there.chlorine_mg_l + (0.5 if "second_method" in probe_sensor.faults else 0.0), 2)


def _poured(dip: Dip, probe: Probe, probe_sensor: Sensor, run: Run, steps: list[str]) -> uuid.UUID | None:
    """The lot that is really in the cup: not the one that was meant, where cups were mixed up."""
    lot_id, last = dip.lot_id, [k for k in steps if k in run.cups]
    if (
        "wrong_cup" in probe_sensor.faults
        and len(last) > 1
        and dip.step == (last[1] if probe.quantity == "ph" else last[-1])
    ):
        lot_id = uuid.UUID(run.cups[last[0]])
    if "swapped_cups" in probe_sensor.faults and len(last) > 1 and dip.step in last[:2]:
        lot_id = uuid.UUID(run.cups[last[1 - last.index(dip.step)]])
    return lot_id


def _solution(session: Session, lot: Lot, probe: Probe, probe_sensor: Sensor, temperature_c: float) -> Liquid:
    """What the lot truly is at this temperature."""
    shift = float(truth(session, f"lot:{lot.id}").get("shift", 0.0))  # how far a bad lot is from its label
    value = standards.value(lot, probe.quantity, temperature_c, probe)
    if probe.quantity == "ph":
        return Liquid(
            temperature_c,
            ph=contaminated(value + shift) if "contaminated_buffer" in probe_sensor.faults else value + shift,
        )
    if probe.quantity == "conductivity":
        strong = 1.07 if "old_standard" in probe_sensor.faults else 1.0
        return Liquid(temperature_c, conductivity_us_cm=value * strong * (1 + shift))
    if probe.quantity == "oxygen":
        return Liquid(temperature_c, oxygen_percent=0.3 + shift, vessel="zero")
    if probe.quantity == "redox":
        return Liquid(temperature_c, redox_mv=value + shift)
    return Liquid(temperature_c, ion_mg_l=value * (1 + shift))


def _at_depth(body: dict[str, Any], depth_m: float | None) -> dict[str, Any]:
    """The water further down: its `layers` say what changes with each metre below the top one."""
    below = max((depth_m or 0.0) - 0.3, 0.0)
    return body | {key: body[key] + below * each for key, each in body.get("layers", {}).items()}


def site_water(body: dict[str, Any], quantity: str, depth_m: float | None = None) -> Liquid:
    """A site's water as it truly is, at a depth [m]."""
    body = _at_depth(body, depth_m)
    at = float(body.get("temperature_c", 12.0))
    at_25 = float(body.get("conductivity_25_us_cm", 400.0))
    return Liquid(
        at,
        ph=float(body.get("ph", 7.4)),
        conductivity_us_cm=at_25 * _share_at(at),
        redox_mv=float(body.get("redox_mv", 220.0)),
        oxygen_percent=float(body.get("oxygen_percent", 92.0)),
        ion_mg_l=float(body.get(f"{quantity}_mg_l", body.get("ion_mg_l", 2.0))),
        chlorine_mg_l=float(body.get("chlorine_mg_l", 0.0)),
        vessel="site",
        stirred=bool(body.get("stirred", True)),
    )


@lru_cache(maxsize=256)
def _share_at(temperature_c: float) -> float:
    """Natural water's conductivity at a temperature against 25 °C."""
    return 1.0 / float(to_reference(1.0, min(max(temperature_c, 0.0), 35.0), kind="natural"))


def _starts(session: Session, dips: Sequence[Dip]) -> dict[uuid.UUID, Start]:
    """Where the earlier dip of each probe left signal and thermistor, by dip; rinsing brings them half way back."""
    here, earlier = aliased(Dip), aliased(Dip)
    before = (
        select(earlier.id, earlier.started_at)
        .where(earlier.probe_id == here.probe_id, earlier.number < here.number)
        .order_by(earlier.number.desc())
        .limit(1)
        .lateral()
    )
    query = select(here.id, before.c.id, before.c.started_at).join(before, true())
    rows = session.execute(query.where(here.id.in_([dip.id for dip in dips]))).all()
    # A select a dip, each within its own span of time, so that the database opens only the months they lie in.
    last_of_each = [
        select(literal(dip_id), Sample.signal, Sample.temperature_c)
        .where(Sample.dip_id == earlier_id, *samples.within(started_at))
        .order_by(Sample.seq.desc())
        .limit(1)
        for dip_id, earlier_id, started_at in rows
    ]
    found = session.execute(union_all(*last_of_each)).all() if last_of_each else []
    left = {dip_id: Start(signal / 2, temperature_c) for dip_id, signal, temperature_c in found}
    return {dip.id: left.get(dip.id, Start()) for dip in dips}


def set_faults(session: Session, probe: Probe, faults: list[str]) -> None:
    """Switch the simulator's faults of a probe on and off."""
    body = truth(session, f"probe:{probe.id}")
    set_truth(session, f"probe:{probe.id}", {**body, "faults": [f for f in faults if f in FAULTS[probe.quantity]]})
