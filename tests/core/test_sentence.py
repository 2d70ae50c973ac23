"""Sentences keep what they speak of: canonical words, a reader's words, and the values that are kept beside them."""

import copy
import json
from dataclasses import dataclass
from datetime import UTC, date, datetime

import pytest

from brumel.core.sentence import CANONICAL, Amount, Sentence, Span, Writer, as_data, as_evidence, joined, say

AT = datetime(2026, 5, 4, 22, 5, tzinfo=UTC)
WORDS = [
    (say("Cell {k}, {off}.", k=Amount(0.98, "/cm", ".3f"), off=Amount(-2, "%", "+.1f")), "Cell 0.980 /cm, −2.0 %."),
    (say("Offset {mv}.", mv=Amount(-0.04, "mV", ".1f")), "Offset 0.0 mV."),
    (say("Takes {span}.", span=Span(-5, 50, "°C")), "Takes −5 to 50 °C."),
    (say("{a}, {b}.", a=Span(0, 1e6, "µS/cm"), b=Amount(3.5e20, "%")), "0 to 1000000 µS/cm, 3.5e+20 %."),
    (say("Ran out on {at}, {at:date}, {at:clock}.", at=AT), "Ran out on 2026-05-04 22:05Z, 2026-05-04, 22:05Z."),
    (say("Expired on {on:date}.", on=date(2026, 5, 4)), "Expired on 2026-05-04."),
    (say("A {{brace}} and {text}.", text="{not} a field"), "A {brace} and {not} a field."),
    (joined((say("One {n}.", n=1), "Two.")), "One 1. Two."),
    ("Before. " + say("After {n}.", n=2) + " Last.", "Before. After 2. Last."),
]


class Fahrenheit(Writer):
    def amount(self, amount):
        if amount.unit != "°C":
            return super().amount(amount)
        return super().amount(Amount(amount.value * 1.8 + (0 if amount.difference else 32), "°F", amount.form))

    def moment(self, moment, form):
        return "then"


@pytest.mark.parametrize(("sentence", "words"), WORDS, ids=[w for _, w in WORDS])
def test_a_sentence_is_its_canonical_words_and_stays_one(sentence, words):
    assert sentence == words
    assert isinstance(sentence, Sentence)
    assert CANONICAL.write(sentence) == words
    twin = copy.deepcopy(sentence)
    assert (twin, twin.template, twin.values) == (sentence, sentence.template, sentence.values)
    assert json.loads(json.dumps([sentence])) == [words]


def test_a_reader_has_own_units_and_clock_in_nested_sentences_too():
    inner = say("cups differ by {d} at {t}", d=Amount(2, "°C", difference=True), t=Amount(20, "°C", ".1f"))
    outer = say("Since {at}: {inner}.", at=AT, inner=inner)
    assert Fahrenheit().write(outer + " Redo one.") == "Since then: cups differ by 3.6 °F at 68.0 °F. Redo one."


def test_evidence_has_the_words_and_the_values():
    @dataclass(frozen=True)
    class Judged:
        sentence: str
        remedy: str

    kept = as_evidence(Judged(say("At {t} on {at}.", t=Amount(20.5, "°C"), at=AT), "Wait."))
    assert kept["sentence"] == "At 20.5 °C on 2026-05-04 22:05Z."
    assert type(kept["sentence"]) is str
    assert kept["sentence_data"]["values"] == {"t": {"value": 20.5, "unit": "°C"}, "at": "2026-05-04 22:05Z"}
    assert as_data("plain") == {"words": "plain"}
    with pytest.raises(KeyError):
        say("{missing}")
