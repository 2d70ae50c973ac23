"""What is odd about a sheet, and why it may be so: every question has an answer of its own."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from brumel.core.believability import Flag, QualityFinding
from brumel.core.errors import InputError, InputErrors
from brumel.core.sentence import as_evidence
from brumel.work.desk import clean_reason
from brumel.work.questions import Question, Unanswered, each_once

#: How the key of a finding begins that takes a value for another quantity's; that quantity follows.
SWAPPED_WITH = "swapped_with_"

#: Tests that ask the same of a value, whether it can be so here. They make one question, which is the most telling
#: sentence: a slip that explains it, then what cannot be, then what the site's past says.
USUAL_HERE = ("slip", "instrument", "site_range", "history", "rate")


def is_odd(finding: QualityFinding) -> bool:
    """Whether a finding wants an answer."""
    return finding.flag in (Flag.SUSPECT, Flag.FAIL)


def _code(quantity: str, test: str) -> str:
    return f"{quantity}:{'unusual' if _rank(test) < len(USUAL_HERE) else test}"


def _rank(test: str) -> int:
    kind = "slip" if test.startswith(SWAPPED_WITH) else test
    return USUAL_HERE.index(kind) if kind in USUAL_HERE else len(USUAL_HERE)


def questions_of(
    quantity: str, findings: Iterable[QualityFinding], parents: Sequence[str] = (), settled: Collection[str] = ()
) -> list[Question]:
    """What the findings of a quantity ask: one sentence a slip, the most telling one.

    parents : the quantities it follows from; settled : keys of tests that were answered before
    """
    odd = [f for f in findings if is_odd(f) and f.key not in settled]
    told: dict[str, list[QualityFinding]] = {}
    for finding in sorted(odd, key=lambda f: (_rank(f.key), -f.flag)):
        told.setdefault(_code(quantity, finding.key), []).append(finding)
    unusual = f"{quantity}:unusual"
    # What follows from an odd reading is odd with it; a display that contradicts itself makes an odd value.
    within = tuple(f"{parent}:unusual" for parent in parents)
    pairs = tuple(code for code in told if code.endswith(":pair"))
    questions = []
    for code, same in told.items():
        inside = within + (pairs if code == unusual else ())
        partner = same[0].key.removeprefix(SWAPPED_WITH) if same[0].key.startswith(SWAPPED_WITH) else ""
        if partner and partner < quantity:
            inside += (f"{partner}:unusual",)
        questions.append(Question(code, same[0].sentence, inside))
    return questions


@dataclass(frozen=True)
class Answers:
    """Why it may be so, by the question's code.

    to_all : said of everything odd that has no answer of its own, by a paper sheet, a correction or a page that asks once
    """

    by_code: Mapping[str, str] = field(default_factory=dict)
    to_all: str = ""

    @classmethod
    def given(cls, by_code: Mapping[str, str] | None, to_all: str = "") -> Answers:
        """What was sent, each text checked. Raises InputErrors naming the questions."""
        texts, faults = {}, list[InputError]()
        for code, text in (by_code or {}).items():
            try:
                texts[code] = clean_reason(text, required=bool(text.strip()))
            except InputError as error:
                faults += [InputError(f"why:{code}", str(f), value=f.value) for f in error.faults]
        if faults:
            raise faults[0] if len(faults) == 1 else InputErrors(faults)
        return cls(texts, clean_reason(to_all, required=False))

    def and_kept(self, quantity: str, findings: Iterable[Mapping[str, Any]]) -> Answers:
        """The same with what the findings of an earlier version were answered with, where nothing new is said of them."""
        kept = {_code(quantity, f["key"]): f["answer"] for f in findings if f.get("answer")}
        return Answers({**kept, **self.by_code}, self.to_all)

    @property
    def words(self) -> str:
        """All that was said, each once, as the record of the write keeps it."""
        return "; ".join(dict.fromkeys(filter(None, (*self.by_code.values(), self.to_all))))

    def to(self, question: Question) -> str:
        """The answer to a question, empty where there is none."""
        own = (self.by_code.get(code) for code in (question.code, *question.within))
        return next(filter(None, own), self.to_all)

    def check(self, questions: Iterable[Question]) -> None:
        """Raises Unanswered with every question that has no answer."""
        left = [q for q in each_once(questions) if not self.to(q)]
        if left:
            raise Unanswered(left)

    def why(self, questions: Iterable[Question]) -> str:
        """The answers to these questions, each once."""
        return "; ".join(dict.fromkeys(filter(None, map(self.to, questions))))

    def beside(
        self, quantity: str, findings: Sequence[QualityFinding], parents: Sequence[str] = ()
    ) -> list[dict[str, Any]]:
        """The findings as evidence, each with its own answer; `parents` are the quantities it follows from."""
        rows = []
        for finding in findings:
            asked = questions_of(quantity, [finding], parents)
            answer = self.to(asked[0]) if asked else ""
            rows.append({**as_evidence(finding), "flag": int(finding.flag), **({"answer": answer} if answer else {})})
        return rows
