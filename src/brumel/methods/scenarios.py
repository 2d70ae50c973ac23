"""Scenarios of Practice as data: task, kit on the table, hidden truth with its bounds, and what it is judged by."""

from __future__ import annotations

import functools
import random
import zlib
from typing import Annotated, Any, Literal, Self

import yaml
from pydantic import Field, ValidationError, model_validator

from brumel.core.errors import InputErrors
from brumel.core.quantity_table import MEASURED
from brumel.methods.loader import DATA, MethodFault, load_method
from brumel.methods.model import QuantityKey
from brumel.methods.strict import Strict, load_yaml

FOLDER = DATA / "practice"
BIGGEST_FILE = 60_000

#: What a person learns to do with a quantity.
Task = Literal["calibrate", "check", "read", "maintain", "decide", "trace", "log"]
Words = Annotated[str, Field(min_length=3, max_length=400)]
Key = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,39}$")]
#: What a careless beginner does, as the tests play it.
Careless = Literal[
    "early",
    "early_reading",
    "no_rinse",
    "no_lift",
    "no_stir",
    "no_wait",
    "as_micro",
    "wet",
    "use_anyway",
    "compensated",
    "sea_level",
    "zero_believed",
    "first_depth",
    "bracket",
    "leaves",
]
#: A number, or the two it is drawn between.
Drawn = float | tuple[float, float]


class Cause(Strict):
    """Something that can be the matter, as a finding names it. quantities : where it is offered; empty for everywhere"""

    key: str = Field(pattern=r"^[a-z_]{3,40}$")
    words: Words
    quantities: tuple[str, ...] = ()


class NextStep(Strict):
    """What may be done next, as a finding names it."""

    key: str = Field(pattern=r"^[a-z_]{2,40}$")
    words: Words


class Vocabulary(Strict):
    """What findings are made of, the same for every scenario, so that the list tells nothing."""

    causes: tuple[Cause, ...]
    steps: tuple[NextStep, ...]

    def causes_of(self, quantity: str) -> dict[str, str]:
        """What may be the matter with a quantity, by key."""
        return {c.key: c.words for c in self.causes if not c.quantities or quantity in c.quantities}

    def words_of_cause(self, key: str) -> str:
        """A cause in words."""
        return next((c.words for c in self.causes if c.key == key), key)

    def words_of_step(self, key: str) -> str:
        """A next step in words."""
        return next((s.words for s in self.steps if s.key == key), key)


class MeterKit(Strict):
    """The meter on the table. settings : as recorded; truly : what it is really set to where that differs"""

    name: str = Field(default="Practice set", min_length=3, max_length=40)
    links: tuple[Literal["live", "typed"], ...] = ("live", "typed")
    settings: dict[str, Any] = Field(default_factory=dict)
    truly: dict[str, Any] = Field(default_factory=dict)
    adjusts: bool = False


class ProbeKit(Strict):
    """A probe on the table.

    now : its hidden truth, numbers drawn within their bounds; before : how it was when it was last calibrated
    seen : what an inspection shows; mended : {what is done: faults it takes away}
    weeks : for how many weeks it has a history; 0 for a new one
    truth : its hidden truth in the debrief's words, where its faults do not say it
    calibrated_h : so many hours ago it was calibrated last, as it was then; None where today's is still to be made
    """

    name: str = Field(min_length=3, max_length=40)
    quantity: QuantityKey
    about: dict[str, Any] = Field(default_factory=dict)
    now: dict[str, Drawn | tuple[str, ...]] = Field(default_factory=dict)
    before: dict[str, Drawn | tuple[str, ...]] = Field(default_factory=dict)
    method: str = ""
    weeks: int = Field(default=1, ge=0, le=8)
    calibrated_h: float | None = Field(default=None, ge=0.5, le=100)
    seen: str = Field(default="Clean, whole and moist.", max_length=300)
    mended: dict[str, tuple[str, ...]] = Field(default_factory=dict)
    membrane_min: float | None = Field(default=None, ge=0, le=100_000)
    truth: str = Field(default="", max_length=200)

    @model_validator(mode="after")
    def _known(self) -> Self:
        if self.method and (chosen := load_method(self.method)) is None:
            raise ValueError(f"there is no method “{self.method[:40]}”")
        if self.method and chosen is not None and chosen.quantity != self.quantity:
            raise ValueError(f"method “{self.method}” is not for {self.quantity}")
        return self


class Bottle(Strict):
    """A bottle on the table: what its label says, and what is truly in it.

    measures : as a lot's; expires, opened : days from today; truly : drawn {shift, temperature_c, strength}
    holds : the key of the bottle whose content it truly has; seen : what a look at it shows
    past : whether it was used for the calibrations of before
    """

    name: str = Field(min_length=2, max_length=60)
    code: str = Field(min_length=2, max_length=20)
    measures: dict[str, dict[str, Any]]
    expires: int = Field(default=200, ge=-2000, le=4000)
    opened: int | None = Field(default=10, ge=0, le=2000)
    keeps: int = Field(default=90, ge=1, le=2000)
    container: Literal["bottle", "sachet", "tablet", "made"] = "bottle"
    truly: dict[str, Drawn] = Field(default_factory=dict)
    holds: str = ""
    past: bool = True
    seen: str = Field(default="Clear; the label is as it should be.", max_length=300)


class Water(Strict):
    """The site on the table. truly : what its water is, drawn; usual : what it read on earlier visits, by quantity"""

    name: str = Field(min_length=3, max_length=60)
    kind: str = "stream"
    use: str = ""
    altitude_m: float = Field(default=100, ge=-430, le=9000)
    depths: tuple[float, ...] = ()
    ranges: dict[str, dict[str, tuple[float, float]]] = Field(default_factory=dict)
    limits: dict[str, dict[str, Any]] = Field(default_factory=dict)
    water: dict[str, Any] = Field(default_factory=dict)
    truly: dict[str, Drawn | bool | dict[str, float]] = Field(default_factory=dict)
    visits: int = Field(default=0, ge=0, le=6)
    read_today: bool = False
    test_kit_off: Drawn = 0.0
    ice_c: Drawn = 0.0


class Logged(Strict):
    """A series that lies in Brumel already: of which probe, for how many days, what it swung about, and how it fouled.

    mean, swing : in the unit of the series; fouled : the share that was lost at its end
    """

    probe: Key
    unit: str
    days: float = Field(gt=0, le=40)
    interval_min: float = Field(default=15, ge=1, le=240)
    mean: Drawn
    swing: Drawn = 0.0
    fouled: Drawn = 0.0


class Event(Strict):
    """Something that happens on the way: after so many minutes, or when a thing is done."""

    after: Literal["minutes", "first_cup", "calibrated", "read"] = "minutes"
    minutes: float = Field(default=0, ge=0, le=10_000)
    says: Words
    sets: dict[str, dict[str, Drawn | tuple[str, ...]]] = Field(default_factory=dict)


class GuideStep(Strict):
    """A sentence of the tour, shown on every page until a thing is done."""

    until: Literal["inspected", "poured", "run", "first_cup", "calibrated", "visit", "read", "found"]
    says: Words


class Novice(Strict):
    """What a careless beginner does here, and the criteria that fail for it; the tests play it."""

    does: tuple[Careless, ...] = ()
    pours: dict[str, str] = Field(default_factory=dict)
    finds: str = "healthy"
    next: str = "use"
    fails: tuple[str, ...] = Field(min_length=1)


class Expert(Strict):
    """What an expert does here; the tests play it.

    first, each : acts before the run ("wait:5400" waits), and in each cup
    records : maintenance put down in Kit
    pours : the bottle of each step, where it is not the first that fits
    """

    first: tuple[str, ...] = ()
    each: tuple[str, ...] = ()
    records: tuple[str, ...] = ()
    pours: dict[str, str] = Field(default_factory=dict)
    conditions: dict[str, Any] = Field(default_factory=dict)
    uses: bool = True
    ends: Literal["finish", "abandon"] = "finish"
    reads: bool = False
    says: tuple[Words, ...] = Field(min_length=1)


class Scenario(Strict):
    """One scenario.

    scene, task : how things stand, and what is to be done, in one sentence
    minutes, solution_ml : what an expert needs; half as much again counts as kept
    no_signal : Brumel cannot be reached from the table until one walks back; values are noted on paper
    done : what must have been done before a finding is taken
    cause, also : the truth, and what else is accepted for it; next : the next steps that are right
    """

    key: Key
    grade: Literal[1, 2, 3]
    title: str = Field(min_length=5, max_length=80)
    quantity: QuantityKey
    skill: Task
    scene: str = Field(default="", max_length=400)
    task: Words
    minutes: float = Field(gt=0, le=20_000)
    solution_ml: float = Field(default=100, ge=0, le=5000)
    method: str = ""
    meter: MeterKit = MeterKit()
    probes: dict[Key, ProbeKit] = Field(min_length=1)
    bottles: dict[Key, Bottle] = Field(default_factory=dict)
    site: Water | None = None
    logged: Logged | None = None
    no_signal: bool = False
    room_c: Drawn = (17.0, 22.0)
    events: tuple[Event, ...] = ()
    done: Literal["calibrated", "checked", "read", "decided", "traced", "logged", "looked"] = "calibrated"
    cause: str
    also: tuple[str, ...] = ()
    next: tuple[str, ...] = Field(min_length=1)
    notices: tuple[Words, ...] = Field(min_length=1)
    hints: tuple[Words, ...] = ()
    expert: Expert
    novice: Novice
    guide: tuple[GuideStep, ...] = ()
    tour: int | None = Field(default=None, ge=1, le=9)

    @model_validator(mode="after")
    def _makes_sense(self) -> Self:
        wrong, known = [], vocabulary()
        causes, steps = {c.key for c in known.causes}, {s.key for s in known.steps}
        for cause in (self.cause, *self.also):
            if cause not in known.causes_of(self.quantity):
                wrong.append(f"cause “{cause[:40]}” is none of {MEASURED[self.quantity].words}")
        if self.novice.finds not in causes:
            wrong.append(f"novice.finds “{self.novice.finds[:40]}” is not a cause")
        wrong += [
            f"next “{step[:40]}” is not a next step" for step in (*self.next, self.novice.next) if step not in steps
        ]
        if self.method and ((chosen := load_method(self.method)) is None or chosen.quantity != self.quantity):
            wrong.append(f"there is no method “{self.method[:40]}” for {MEASURED[self.quantity].words}")
        if self.quantity not in {p.quantity for p in self.probes.values()}:
            wrong.append(f"none of the probes measures {self.quantity}")
        wrong += [
            f"bottles.{key}.holds names no bottle"
            for key, bottle in self.bottles.items()
            if bottle.holds and bottle.holds not in self.bottles
        ]
        if self.logged is not None and (self.site is None or self.logged.probe not in self.probes):
            wrong.append("logged needs a site and one of the probes")
        if self.done == "read" and self.site is None:
            wrong.append("a reading needs a site")
        if unknown := set(self.novice.fails) - set(CRITERIA):
            wrong.append(f"novice.fails “{min(unknown)[:40]}” is not a criterion")
        if wrong:
            raise ValueError("; ".join(wrong))
        return self


#: What an attempt is judged by. The first four must hold; the others are told.
CRITERIA = {
    "truth": "The truth was found",
    "next": "The next step is right",
    "safe": "No bad value was passed on",
    "waits": "Waits were kept",
    "handling": "Rinsed, blotted, moved: the handling",
    "solution": "Solution used",
    "minutes": "Minutes used",
}
MUST_HOLD = ("truth", "next", "safe", "waits")


class ScenarioFault(MethodFault):
    """One fault of a scenario, with its place."""


def parse_scenario(text: str, name: str = "scenario") -> Scenario:
    """A scenario from YAML text. Raises InputErrors (or one ScenarioFault) naming every faulty place."""
    if len(text) > BIGGEST_FILE:
        raise ScenarioFault(name, f"{name}: over {BIGGEST_FILE // 1000} kB is not a scenario.")
    try:
        data = load_yaml(text)
    except (yaml.YAMLError, ValueError, RecursionError) as error:
        mark = getattr(error, "problem_mark", None)
        where = f" in line {mark.line + 1}" if mark else ""
        raise ScenarioFault(name, f"{name}: not readable as YAML{where}.") from error
    if not isinstance(data, dict):
        raise ScenarioFault(name, f"{name}: must be a list of named entries, not {type(data).__name__}.")
    return scenario_of(data, name)


def scenario_of(data: Any, name: str = "scenario") -> Scenario:
    """A scenario from plain data. Raises all faults at once."""
    try:
        return Scenario.model_validate(data)
    except ValidationError as error:
        faults = list({f.field: f for f in (_fault(name, e) for e in error.errors())}.values())
        raise faults[0] if len(faults) == 1 else InputErrors(faults) from error


def _fault(name: str, error: Any) -> ScenarioFault:
    place = ".".join(str(p) for p in error["loc"]) or "the whole"
    where = name if place == "the whole" else f"{name}: {place}"
    return ScenarioFault(where, f"{where}: {error['msg'].removeprefix('Value error, ')}.")


@functools.cache
def vocabulary() -> Vocabulary:
    """What findings are made of."""
    return Vocabulary.model_validate(load_yaml((FOLDER / "_vocabulary.yaml").read_text("utf-8")))


@functools.cache
def load_scenarios() -> dict[str, Scenario]:
    """The scenarios shipped, by key: by grade, then as a meter's session goes."""
    order = list(MEASURED)
    made = [
        scenario_of(body, f"{path.name}: {body.get('key', number)}")
        for path in sorted(FOLDER.glob("[a-z]*.yaml"))
        for number, body in enumerate(load_yaml(path.read_text("utf-8")), 1)
    ]
    keys = [s.key for s in made]
    if len(set(keys)) != len(keys):
        raise ScenarioFault("scenarios", "Two scenarios have the same key.")
    return {s.key: s for s in sorted(made, key=lambda s: (s.grade, order.index(s.quantity), s.title))}


def draw(bounds: dict[str, Any], seed: int, of: str) -> dict[str, Any]:
    """Numbers drawn within their bounds, the same for the same seed; whatever is no pair of numbers is as it stands."""
    drawn: dict[str, Any] = {}
    for name, value in bounds.items():
        if isinstance(value, tuple | list) and len(value) == 2 and all(isinstance(v, int | float) for v in value):
            # A stream for each number, so that another one more changes none of these.
            low, high = value
            drawn[name] = round(random.Random(zlib.crc32(f"{seed}:{of}:{name}".encode())).uniform(low, high), 4)  # noqa: S311
        else:
            drawn[name] = list(value) if isinstance(value, tuple) else value
    return drawn
