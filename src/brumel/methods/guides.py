"""Maintenance led step by step, from `data/guides.yaml`: a drawing, what to do, and what to look at on the way."""

from __future__ import annotations

import functools
from collections.abc import Mapping

from pydantic import Field, TypeAdapter

from brumel.core.quantity_table import family_of
from brumel.methods.inspection import InspectionFinding, items_for
from brumel.methods.loader import DATA
from brumel.methods.maintenance import kinds_of
from brumel.methods.strict import Strict, load_yaml

#: What a guide's answer says of an item where nothing is wrong with it.
GOOD = "good"


class GuideAnswer(Strict):
    """Something that may be seen: words, the finding of an inspection it is ("item.finding"), and what to do about it.

    stops : the work is not done while this is seen, although the finding alone would not keep a probe off Bench
    """

    key: str
    words: str
    finding: str = ""
    says: str = ""
    stops: bool = False


class GuideQuestion(Strict):
    """What to look at in a step."""

    key: str
    question: str
    answers: tuple[GuideAnswer, ...] = Field(min_length=2)


class GuideStep(Strict):
    """One step: which drawing, what to do, how long it takes where it is timed [s], and what to look at."""

    picture: str
    do: str
    timer_s: int = Field(default=0, ge=0, le=7200)
    ask: GuideQuestion | None = None
    kinds: tuple[str, ...] = ()


class Guide(Strict):
    """One kind of maintenance from the first step to the last; `kinds` where only some kinds of probe have it."""

    title: str
    needs: tuple[str, ...]
    steps: tuple[GuideStep, ...] = Field(min_length=1)
    kinds: tuple[str, ...] = ()

    def for_kind(self, kind: str) -> Guide:
        """The guide with the steps of this kind of probe."""
        return self.model_copy(update={"steps": tuple(s for s in self.steps if not s.kinds or kind in s.kinds)})

    def is_for(self, kind: str) -> bool:
        return not self.kinds or kind in self.kinds

    @property
    def questions(self) -> tuple[GuideQuestion, ...]:
        """What has to be answered, in order."""
        return tuple(step.ask for step in self.steps if step.ask)


@functools.cache
def _load() -> dict[str, dict[str, Guide]]:
    data = load_yaml((DATA / "guides.yaml").read_text("utf-8"))
    return TypeAdapter(dict[str, dict[str, Guide]]).validate_python(data)


def guides_for(quantity: str, kind: str) -> dict[str, Guide]:
    """The guides for a probe of this quantity and kind, by kind of maintenance."""
    book, possible = _load().get(family_of(quantity), {}), kinds_of(quantity, kind)
    return {what: book[what].for_kind(kind) for what in possible if what in book and book[what].is_for(kind)}


def battery_guide() -> Guide:
    """How a meter's batteries are changed."""
    return _load()["meter"]["battery"]


def seen_by(guide: Guide, answers: Mapping[str, str]) -> dict[str, str]:
    """What was answered as an inspection records it, {item: "good" or a finding}; what is wrong wins over what is good."""
    seen: dict[str, str] = {}
    for question in guide.questions:
        chosen = next((a for a in question.answers if a.key == answers.get(question.key)), None)
        if chosen is None or not chosen.finding:
            continue
        item, found = chosen.finding.split(".")
        if found != GOOD or item not in seen:
            seen[item] = found
    return seen


def stopping(guide: Guide, answers: Mapping[str, str]) -> list[str]:
    """What was answered that leaves the work undone, in words."""
    return [a.words for q in guide.questions for a in q.answers if a.stops and answers.get(q.key) == a.key]


def finding_of(quantity: str, kind: str, named: str) -> InspectionFinding | None:
    """The finding "item.finding" of an inspection of this kind of probe; None for a good one."""
    item_key, found = named.split(".")
    item = next(i for i in items_for(quantity, kind) if i.key == item_key)
    return None if found == GOOD else next(f for f in item.findings if f.key == found)
