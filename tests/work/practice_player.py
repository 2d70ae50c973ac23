"""Scripted people at a practice table: an expert, and a beginner who does what the scenario says a careless one does."""

import math
import uuid

from sqlalchemy import select

from brumel.core import logged
from brumel.core.oxygen import saturation_mg_l
from brumel.core.verdict import Outcome
from brumel.store import practice_world
from brumel.store.logger import LoggerSeries
from brumel.store.practice import PracticeAttempt
from brumel.store.tables import Calibration, Probe, Site, User
from brumel.work import bench, kit, practice, rounds
from brumel.work.bench import closing_checks
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import Refused
from brumel.work.practice import table as bench_table
from brumel.work.practice.table import ON_DISPLAY, on_display
from brumel.work.practice.world import cups_for
from brumel.work.records import affected, decisions
from brumel.work.rounds.logger import checks
from tests.work.helpers import is_settled

PLACE_OF = {"air": "holder", "saturated_air": "moist_air", "saturated_water": "aired_water"}


class Player:
    """One attempt, begun; `does` is what a careless beginner does, empty for an expert."""

    def __init__(self, desk, person, key, *, seed=5, source=None, does=(), pours=None):
        self.real, self.person, self.does = desk, person, set(does)
        self._desk = None
        with desk.read() as session:
            self.told = practice.scenario(session, key)
        source = source or self.told.meter.links[0]
        begun = practice.begin(desk, person, uuid.uuid4(), scenario_key=key, source=source, hints=False, seed=seed)
        self.attempt = begun.id
        practice.lay_world(desk, person, self.attempt)
        self.sessions = practice_world.sessions_in(desk.sessions.kw["bind"], person.id)
        self.source = source
        self.pours = pours if pours is not None else self.told.expert.pours
        with self.desk.read() as session:
            self.actor = session.get_one(User, person.id)
            known = bench_table.load(session)
            self.probes = {p.key: str(i) for i, p in known.probes.items()}
            self.lots = {k: str(b.lot) for k, b in known.bottles.items()}
            main = next(k for k, p in self.told.probes.items() if p.quantity == self.told.quantity)
        self.probe = self.probes[main]

    @property
    def desk(self):
        if self._desk is None:
            self._desk = practice.desk_of_world(self.sessions, self.real.clock)
        return self._desk

    def act(self, what, on="", amount=None):
        done = practice.act(self.desk, self.actor, uuid.uuid4(), what=what, probe=self.probe, on=on, amount=amount)
        self._desk = None  # acts alone move the world's clock
        return done.words

    def wait(self, seconds):
        self.act("wait", amount=seconds)
        practice.look(self.desk)

    def table(self):
        with self.desk.read() as session:
            return bench_table.load(session)

    def write(self, use_case, **words):
        return use_case(self.desk, self.actor, uuid.uuid4(), **words)

    # -- on Bench

    def calibrate(self):
        """One run from the first cup to the verdict; whether it is used is the script's."""
        for told in self.told.expert.first if self.does <= {"no_wait"} else ():
            what, _, amount = told.partition(":")
            if what == "wait" and "no_wait" in self.does:
                continue
            if what in ("rinse", "blot"):
                self.act("lower", "holder")
            self.act(what, amount=float(amount) if amount else None)
            if what in self.told.expert.records and not self.does:
                self.write(kit.record_maintenance, probe_id=self.probe, what=what, note="In Practice.")
        if "wet" in self.does:
            self.act("rinse")
        self.start_run()
        self.take_cups()
        self.end()

    def start_run(self):
        with self.desk.read() as session:
            probe = session.get_one(Probe, uuid.UUID(self.probe))
            method = kit.method_for_probe(kit.method(session, self.told.method), probe)
            by_key = {k: self.lots[k] for k in self.told.bottles}
            pours = {step: by_key[bottle] for step, bottle in self.pours.items()}
            fits = cups_for(
                method, [session.get_one(bench_table.Lot, uuid.UUID(i)) for i in by_key.values()], probe.quantity, probe
            )
        given = dict(self.told.expert.conditions)
        if "sea_level" in self.does:
            given = {"pressure_from": "station", "pressure_hpa": 1016}
        if probe.quantity in ("nitrate", "ammonium"):
            given["reason"] = "A tip of Practice alone."
        if probe.quantity == "oxygen" and not given:
            given = {"pressure_hpa": self.table().pressure_hpa}
        self.run = self.write(
            bench.start,
            probe_id=self.probe,
            method_key=method.key,
            source=self.source,
            cups=fits | pours,
            conditions=Conditions(**given),
        ).id

    def take_cups(self):
        while (state := self.state()).current is not None:
            self.take(state)

    def state(self):
        with self.desk.read() as session:
            return bench.load_run(session, self.run)

    def take(self, state):
        step = state.current.spec
        if not step.key.endswith("-set"):
            self.into(self.place(state))
        elif self.does.isdisjoint({"no_set"}):
            self.act(
                "set", amount=round(state.quantity.vessel_value(step, state.current.lot.lot, self.at(), state.case), 2)
            )
        self.write(bench.dip, run_id=self.run, step=step.key, turn=state.turn)
        settled = self.settle(state)
        seen = self.live()
        reference = None
        if step.vessel == "reference":
            reference = self.beside(state)
        self.write(
            bench.accept,
            run_id=self.run,
            step=step.key,
            turn=state.turn,
            how=bench.Acceptance(
                early=not settled,
                answer="Looked at it; taken for the record." if seen.suspicions else "",
                reference=reference,
                reference_u=None if reference is None else 0.1,
            ),
        )

    def place(self, state):
        step = state.current.spec
        if step.vessel == "reference":
            return "water" if self.told.quantity == "chlorine" else "ice" if step.key == "ice" else "bath"
        if step.vessel != "solution":
            return PLACE_OF[step.vessel]
        lot = str(state.current.lot.lot.id)
        bottle = self.pours.get(step.key) or next(k for k, i in self.lots.items() if i == lot)
        stands = [c.letter for c in self.table().cups if c.bottle == bottle]
        return stands[-1] if stands else self.act("pour", bottle).split(":")[0].removeprefix("Cup ")

    def into(self, place):
        careless = self.does & {"no_rinse", "wet"}
        if not careless:
            self.act("lower", "holder")
            self.act("rinse")
            self.act("blot")
        elif "wet" in self.does and place == "moist_air":
            self.act("lower", "holder")
            self.act("rinse")
        self.act("lower", place)
        if self.told.quantity == "conductivity" and "no_lift" not in self.does and place != "holder":
            self.act("lift")
        for what in self.told.expert.each if not self.does else ():
            self.act(what)
        if place in ("water", "aired_water") and "no_stir" not in self.does:
            self.act("stir")

    def at(self):
        table = self.table()
        return float(table.named(self.probe).stand.liquid.get("temperature_c", table.room_c))

    def beside(self, state):
        """What the reference beside the probe shows: the thermometer, or the test kit."""
        if self.told.quantity == "chlorine":
            return float(self.act("test_kit").split("shows ")[1].split()[0])
        if "zero_believed" in self.does and state.current.spec.key == "ice":
            return 0.0
        return float(self.act("thermometer").split("shows ")[1].split()[0])

    def live(self):
        with self.desk.read() as session:
            return bench.live_cup(session, bench.load_run(session, self.run))

    def settle(self, state):
        """Wait until Brumel says settled, or as long as the method allows; a hasty one does not wait."""
        spec = state.quantity.criteria(state.method, state.current.spec)
        if self.source == "typed":
            return self.type_until_settled(state, spec)
        if "early" in self.does:
            self.wait(9)
            return False
        self.wait(spec.shortest_s)
        waited, state = spec.shortest_s, self.state()  # as it stands since the probe was put in
        while waited < spec.longest_s:
            if is_settled(self.desk, state):
                return True
            step = max(10, math.ceil(waited / 12))
            self.wait(step)
            waited += step
            if waited > 60 and not self.does:
                for what in self.told.expert.each:  # what jumps is seen to
                    self.act(what)
        return self.live().settling.settled

    def type_until_settled(self, state, spec):
        if self.table().named(self.probe).quantity == "conductivity":
            truly = self.told.meter.truly
            entry = (
                "ms_cm_ref"
                if "conductivity_unit" in truly
                else "ppm"
                if "tds_factor" in truly
                else "us_cm_ref"
                if truly
                else "us_cm"
            )
        else:
            entry = ON_DISPLAY[self.told.quantity][0]
        for number in range(7):
            self.wait(
                9
                if "early" in self.does
                else max(spec.shortest_s, spec.window_s) + 5
                if not number
                else spec.window_s + 5
            )
            lines = {d.probe: d for d in practice.displays(self.desk, practice.look(self.desk))}[self.probe].lines
            shown = lines[on_display(self.told.quantity, self.table().truly).index(entry)][0].replace("−", "-")
            way = entry.replace("ms_", "us_") if "as_micro" in self.does else entry
            typed = bench.TypedValue(way, float(shown), float(lines[-1][0].replace("−", "-")))
            self.write(bench.type_reading, run_id=self.run, step=state.current.spec.key, turn=state.turn, typed=typed)
            if "early" in self.does:
                return False
            if self.live().settling.settled:
                return True
        return False

    def end(self):
        state = self.state()
        with self.desk.read() as session:
            result = bench.run_result(session, state)
        uses = self.told.expert.uses if not self.does else True
        if not self.does and self.told.expert.ends == "abandon":
            self.write(bench.abandon, run_id=self.run, reason="Not like this.")
            return
        outcome = Outcome.NOT if result.fit is None else result.verdict.outcome
        use = uses and outcome is not Outcome.NOT
        self.write(bench.finish, run_id=self.run, turn=state.turn, use=use, words="As the script says it.")

    # -- at a site, and afterwards

    def read(self):
        with self.desk.read() as session:
            site = session.scalars(select(Site)).one()
        visit = self.write(rounds.start_visit, site_id=str(site.id), probes=[self.probe], source=self.source).id
        for depth in list(site.depths) or [None]:
            self.act("lower", "holder")
            self.act("lower", "water", depth)
            if "no_stir" not in self.does:
                self.act("stir")
            self.write(rounds.dip, visit_id=visit, depth_m=depth)
            self.wait(150)
            early = bool(self.does)
            try:
                self.write(rounds.take_all, visit_id=visit, early=early)
            except Refused:
                self.write(rounds.take_all, visit_id=visit, early=True, reason="Read twice, moved all the while.")
            if "first_depth" in self.does:
                break

    def decide(self):
        cups = self.closing_cups()
        self.run = self.write(closing_checks.start, probe_id=self.probe, source=self.source, cups=cups).id
        self.take_cups()
        closing = self.write(closing_checks.finish, run_id=self.run, turn=self.state().turn).id
        with self.desk.read() as session:
            row = closing_checks.closing(session, closing)
            decision = "bracket" if row.holds else "correct"
        reason = "A film grew on it through the day."
        self.write(decisions.decide, closing_id=closing, decision=decision, reason=reason, name=self.actor.name)

    def closing_cups(self):
        with self.desk.read() as session:
            offered = closing_checks.offers(session, kit.probe_of(session, self.probe), self.desk.clock())
        return [offered[0].value]

    def log(self):
        """The end of a series: beside the checking probe before and after cleaning, then in moist air; and the decision."""
        logger_id, checking = self.probes["p"], self.probes["c"]
        read = {}
        for name, probe, place in (
            ("before", logger_id, "water"),
            ("beside_before", checking, "water"),
            ("after", logger_id, "water"),
            ("beside_after", checking, "water"),
            ("standard_read", logger_id, "moist_air"),
        ):
            self.probe = probe
            if name == "after" and "bracket" not in self.does:
                self.act("clean")
            if name == "standard_read":
                for what, on in (("lower", "holder"), ("rinse", ""), ("blot", "")):
                    self.act(what, on)
            self.act("lower", place)
            self.wait(180)
            read[name] = float(self.lines()[0][0])
        table = self.table()
        share = bench_table.share_of_standard(table.pressure_hpa, table.room_c)
        read["standard_value"] = float(saturation_mg_l(table.room_c)) * share
        with self.desk.read() as session:
            series = session.scalars(select(LoggerSeries)).one()
        check = self.write(checks.record_service, series_id=str(series.id), service=logged.Service(**read)).id
        decision = "correct" if not self.does else "doubt"
        decided = checks.SeriesDecision(decision, "A green film grew over three weeks.", self.actor.name, 0, check)
        self.write(checks.decide, series_id=str(series.id), decided=decided)

    def lines(self):
        shown = {d.probe: d for d in practice.displays(self.desk, practice.look(self.desk))}[self.probe].lines
        return [(value.replace("−", "-"), unit) for value, unit in shown]

    def paper(self):
        """Cups are read and noted away from Brumel, and typed with their seconds afterwards."""
        noted = {}
        for bottle in self.told.bottles:
            letter = self.act("pour", bottle).split(":")[0].removeprefix("Cup ")
            self.into(letter)
            for after in (10,) if "early" in self.does else (60, 100):
                self.wait(after - (noted[bottle][-1][0] if bottle in noted else 0))
                lines = self.lines()
                noted.setdefault(bottle, []).append((after, float(lines[0][0]), float(lines[-1][0])))
        self.act("walk")
        self.start_run()
        while (state := self.state()).current is not None:
            step = state.current.spec
            bottle = next(k for k, lot in self.lots.items() if lot == str(state.current.lot.lot.id))
            for after, value, at in noted[bottle]:
                typed = bench.TypedValue("ph", value, at, float(after))
                self.write(bench.type_reading, run_id=self.run, step=step.key, turn=state.turn, typed=typed)
            how = bench.Acceptance(early=not self.live().settling.settled, answer="As noted on paper.")
            self.write(bench.accept, run_id=self.run, step=step.key, turn=state.turn, how=how)
        self.end()

    def trace(self):
        with self.desk.read() as session:
            calibration = session.scalars(select(Calibration).order_by(Calibration.at.desc())).first()
        self.write(bench.withdraw, calibration_id=str(calibration.id), reason="Made in a lot that was called back.")
        if not self.does:
            self.write(
                affected.decide_affected,
                kind="calibration",
                subject=str(calibration.id),
                decision="doubt",
                reason="The lot was 0.3 off.",
                name=self.actor.name,
            )

    def play(self):
        """What the script does, to the finding and its judgement."""
        task = self.told.skill
        if task == "read":
            self.read()
        elif task == "log":
            self.log()
        elif self.told.no_signal:
            self.paper()
        elif task == "decide":
            self.decide()
        elif task == "trace":
            self.trace()
        elif self.told.done == "looked" and not self.does:
            self.act("inspect")
        else:
            self.calibrate()
        if self.does:
            finding = practice.Finding(self.told.novice.finds, "certain", self.told.novice.next)
        else:
            finding = practice.Finding(self.told.cause, "certain", self.told.next[0])
        with self.real.read() as session:
            attempt = session.get_one(PracticeAttempt, uuid.UUID(self.attempt))
        told = practice.judged(self.desk, attempt, finding)
        passed = practice.give_finding(
            self.real, self.person, uuid.uuid4(), attempt_id=self.attempt, finding=finding, told=told
        ).passed
        return passed, {c["key"]: c for c in told["criteria"]}, told["debrief"]
