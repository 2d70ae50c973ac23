"""The working: how a number came about, step by step, built once where it is computed and only rendered later."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any


@dataclass(frozen=True)
class Input:
    """One number that went into a step."""

    symbol: str
    name: str
    value: float
    unit: str = ""


@dataclass(frozen=True)
class Step:
    """One line of the working: symbol, what it is, formula, inputs, result and source key."""

    symbol: str
    name: str
    formula: str
    inputs: tuple[Input, ...]
    result: float
    unit: str = ""
    source: str = ""
    digits: int = 3


@dataclass(frozen=True)
class Working:
    """The steps from the raw signal to the reported value, in order."""

    title: str
    steps: tuple[Step, ...]

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing, pages and exports."""
        return asdict(self)

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Working:
        """The inverse of `as_dict`."""
        steps = (
            Step(**{**step, "inputs": tuple(Input(**given) for given in step["inputs"])}) for step in data["steps"]
        )
        return cls(data["title"], tuple(steps))


@dataclass(frozen=True)
class StepResult:
    """What a step comes to, with the digits it is shown to."""

    value: float
    unit: str = ""
    digits: int = 3


class Ladder:
    """Builds a working line by line; the last line that was added is the result."""

    def __init__(self, title: str) -> None:
        self.title, self.steps = title, list[Step]()

    def step(
        self,
        symbol: str,
        name: str,
        formula: str,
        result: StepResult,
        source: str = "",
        *inputs: tuple[str, str, float, str],
    ) -> Ladder:
        """Add a line; inputs are (symbol, name, value, unit). Returns self, so that lines can be chained."""
        given = tuple(Input(*each) for each in inputs)
        self.steps.append(Step(symbol, name, formula, given, float(result.value), result.unit, source, result.digits))
        return self

    def done(self) -> Working:
        return Working(self.title, tuple(self.steps))


@dataclass(frozen=True)
class Worked:
    """A result with its unit and its working."""

    value: float
    unit: str
    working: Working
