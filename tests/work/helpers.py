"""Shortcuts into the demo's made-up things, and whole runs through the use cases."""

import time
import uuid

from sqlalchemy import select

from brumel.core.ph import nernst_slope_mv as nernst
from brumel.core.verdict import Outcome
from brumel.methods import load_methods
from brumel.store.tables import Lot, Meter, Probe, Site, User
from brumel.work import bench, kit, rounds
from brumel.work import simulator as work_simulator
from brumel.work.bench.cup import judge_cup
from brumel.work.link import samples
from brumel.work.quantities import standards
from brumel.work.rounds import calendar

__all__ = ["nernst"]
SITES = {
    "raceway": "Raceway 3, inflow",
    "outflow": "Raceway 3, outflow",
    "lagoon": "Creek mouth, north bank",
    "basin": "Basin, middle",
    "reed": "Reed channel",
    "pool": "Warm pool, deep end",
}
CUPS = {"neutral": "N7-121", "acid": "N4-118", "alkaline": "N10-090"}


class Things:
    def __init__(self, desk):
        with desk.read() as session:
            self.ansa, self.ilka = (session.scalar(select(User).where(User.username == u)) for u in ("ansa", "ilka"))
            self.probes = {p.name[-2:]: str(p.id) for p in session.scalars(select(Probe))}
            self.meters = {m.name: str(m.id) for m in session.scalars(select(Meter))}
            self.lots = {lot.code: str(lot.id) for lot in session.scalars(select(Lot))}
            known = {s.name: str(s.id) for s in session.scalars(select(Site))}
            self.sites = {short: known[name] for short, name in SITES.items()}

    def cups(self, **other):
        return {step: self.lots[code] for step, code in (CUPS | other).items()}


def key():
    return uuid.uuid4()


def state_of(desk, run):
    with desk.read() as session:
        return bench.load_run(session, run)


def fault(desk, probe, *faults):
    with desk.sessions.begin() as session:
        work_simulator.set_faults(session, kit.probe_of(session, probe), list(faults))


def start(desk, things, probe="A1", method="ph-7-4-10", source="live", **cups):
    return bench.start(
        desk,
        things.ansa,
        key(),
        probe_id=things.probes[probe],
        method_key=method,
        source=source,
        cups=things.cups(**cups),
    ).id


def start_with(desk, things, probe, method, conditions, **cups):
    return bench.start(
        desk,
        things.ansa,
        key(),
        probe_id=things.probes[probe],
        method_key=method,
        source="live",
        cups=things.cups(**cups),
        conditions=conditions,
    ).id


def let_settle(desk, clock, run, longest=300, step=10):
    """The meter runs past the shortest wait, then in steps until the cup has settled, as a technician would wait."""
    state = state_of(desk, run)
    simulator = work_simulator.Simulator(desk)
    clock.on(seconds=state.quantity.criteria(state.method, state.current.spec).shortest_s - step)
    for _ in range(longest // step):
        clock.on(seconds=step)
        simulator.pump()
        if is_settled(desk, state):
            break
    with desk.read() as session:
        return bench.live_cup(session, bench.load_run(session, run))


def until(holds, longest_s=20):
    """Wait until something is so that another thread does."""
    end = time.monotonic() + longest_s
    while not holds():
        assert time.monotonic() < end
        time.sleep(0.02)


def is_settled(desk, state):
    """Whether the cup stands still by now; the run itself does not change while one waits, and is not read again."""
    with desk.read() as session:
        return judge_cup(state, samples.trace(session, state.dip), None).settling.settled


def take_cup(desk, clock, things, run, answer="Looked at it; taken all the same."):
    state = state_of(desk, run)
    step = state.current.spec.key
    clock.on(seconds=20)
    bench.dip(desk, things.ansa, key(), run_id=run, step=step, turn=state.turn)
    seen = let_settle(desk, clock, run)
    bench.accept(
        desk,
        things.ansa,
        key(),
        run_id=run,
        step=step,
        turn=state.turn,
        how=bench.Acceptance(early=not seen.settling.settled, answer=answer if seen.suspicions else ""),
    )
    return seen


def take_all(desk, clock, things, run):
    seen = []
    while state_of(desk, run).current:
        seen.append(take_cup(desk, clock, things, run))
    return seen


def result_of(desk, run):
    with desk.read() as session:
        return bench.run_result(session, bench.load_run(session, run))


def finish(desk, things, run, use=True, words="Taken with care, watched."):
    found = result_of(desk, run)
    return bench.finish(
        desk,
        things.ansa,
        key(),
        run_id=run,
        turn=state_of(desk, run).turn,
        use=use and found.verdict.outcome is not Outcome.NOT,
        words=words,
    ).calibration


def calibrate(desk, clock, things, probe="A1", method="ph-7-4-10"):
    run = start(desk, things, probe, method)
    take_all(desk, clock, things, run)
    return finish(desk, things, run)


def type_all(desk, clock, things, run, electrode, temperature=18.0, signal="mv", answer=""):
    """Two typed values a cup from a function of the buffer's pH, then accept."""
    while (state := state_of(desk, run)).current:
        step = state.current
        with desk.read():
            expected = standards.value(step.lot.lot, "ph", temperature)
        for after in (20, 45):
            clock.on(seconds=25)
            bench.type_reading(
                desk,
                things.ansa,
                key(),
                run_id=run,
                step=step.spec.key,
                turn=state.turn,
                typed=bench.TypedValue(
                    signal=signal, value=electrode(expected), temperature_c=temperature, after_s=after
                ),
            )
        bench.accept(
            desk,
            things.ansa,
            key(),
            run_id=run,
            step=step.spec.key,
            turn=state.turn,
            how=bench.Acceptance(answer=answer),
        )


def type_one(desk, things, visit, probe="B1", *, signal="ph", value, temperature_c, **more):
    """One display typed on a sheet."""
    typed = rounds.TypedSheet([rounds.Typed(things.probes[probe], signal, value)], temperature_c, **more)
    return rounds.type_readings(desk, things.ansa, key(), visit_id=visit, typed=typed)


def visit(desk, clock, things, site="raceway", probe="A1", source="live", **take):
    made = rounds.start_visit(
        desk, things.ansa, key(), site_id=things.sites[site], probes=[things.probes[probe]], source=source
    ).id
    if source == "typed":
        return made
    dip = rounds.dip(desk, things.ansa, key(), visit_id=made).dip
    clock.on(seconds=70)
    work_simulator.pump(desk)
    rounds.take(desk, things.ansa, key(), visit_id=made, dip_id=dip, **take)
    return made


def open_typed(desk, things, site, probes):
    """The typed sheet of a site with these probes; its id."""
    wanted = [things.probes[p] for p in probes]
    return rounds.start_visit(desk, things.ansa, key(), site_id=things.sites[site], probes=wanted, source="typed").id


def a_round(desk, name="Lagoon"):
    with desk.read() as session:
        return next(r for r in calendar.rounds(session) if r.name == name)


def quick_method(desk, things, key_of, new_key, readings=2):
    """The lead's own copy of a method that waits half a second, so that a test in the browser need not."""
    body = load_methods()[key_of].stored() | {"key": new_key, "title": f"Quick {key_of}", "version": 1}
    body["settling"] |= {"shortest_s": 0.5, "window_s": 0.5, "typed_readings": readings, "source": "a test"}
    kit.save_method(desk, things.ilka, key(), body=body, reason="For a test", turn=0)
