"""What a quick sum is made of. Values are in canonical units by the time a sum is asked."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from brumel.core.verdict import Verdict
from brumel.core.working import Working

Given = Mapping[str, float | str | None]


@dataclass(frozen=True)
class QuestionField:
    """One field of the form. `dimension` offers units; `choices` makes it a list of (value, words)."""

    key: str
    label: str
    default: str
    dimension: str = ""
    unit: str = ""
    choices: tuple[tuple[str, str], ...] = ()
    optional: bool = False
    only_for: tuple[str, tuple[str, ...]] | None = None  # shown when that choice has one of these values


@dataclass(frozen=True)
class AnswerValue:
    """One number of the answer with what belongs to it; the first of an answer is the main one."""

    name: str
    value: float | None
    unit: str = ""
    digits: int = 2
    note: str = ""


@dataclass(frozen=True)
class Curve:
    """A line of a chart, with the words that stand on it."""

    label: str
    x: Sequence[float]
    y: Sequence[float]
    bold: bool = False


@dataclass(frozen=True)
class AnswerChart:
    """Curves with marks: where this question stands. `band` is hatched outside (low, high) of y."""

    title: str
    x_label: str
    y_label: str
    curves: tuple[Curve, ...]
    marks: tuple[tuple[float, float, str], ...] = ()
    band: tuple[float, float] | None = None
    error_bars: tuple[tuple[float, float, float], ...] = ()


@dataclass(frozen=True)
class ChartScale:
    """A logarithmic rule with landmarks and a mark."""

    title: str
    unit: str
    low: float
    high: float
    landmarks: tuple[tuple[float, str], ...]
    mark: float


@dataclass(frozen=True)
class Answer:
    """Values, sentences that speak up, working, picture, and the rows of a verdict where the sum judges."""

    values: tuple[AnswerValue, ...]
    workings: tuple[Working, ...]
    speak: tuple[str, ...] = ()
    picture: AnswerChart | ChartScale | None = None
    verdict: Verdict | None = None


@dataclass(frozen=True)
class Sum:
    """A quick sum: key of the URL, title, the question it answers, fields, validity, sources, and the computation."""

    key: str
    title: str
    question: str
    entries: tuple[QuestionField, ...]
    validity: str
    sources: tuple[str, ...]
    compute: Callable[[Given], Answer]
    cautions: tuple[str, ...] = field(default=())
