"""What is odd and wants an answer before it is kept: of a cup on Bench, of a value at a site."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from brumel.core.sentence import joined
from brumel.work.desk import Refused

#: What stands behind the questions of a site's values where they are refused.
REMEDY = "Repeat it, or say why it may be so."


@dataclass(frozen=True)
class Question:
    """Something odd that wants a repeat or a reason; `code` ("quantity:test") stays the same while its figures move.

    within : codes of questions that ask about the same: an odd conductivity makes odd solids
    """

    code: str
    sentence: str
    within: tuple[str, ...] = ()


def each_once(questions: Iterable[Question]) -> list[Question]:
    """The questions in their order, each code once, without those that another one asks already."""
    first: dict[str, Question] = {}
    for question in questions:
        first.setdefault(question.code, question)
    return [q for q in first.values() if not any(code in first for code in q.within)]


class Unanswered(Refused):
    """Questions that were not answered; nothing was recorded."""

    def __init__(self, questions: Sequence[Question], remedy: str = REMEDY) -> None:
        super().__init__(joined((*(q.sentence for q in questions), remedy)))
        self.questions, self.remedy = tuple(questions), remedy
