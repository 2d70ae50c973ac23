"""Scenarios as data: every fault of a text is told at once, numbers are drawn within bounds, and the trade is covered."""

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from brumel.core.errors import InputError, InputErrors, words_of
from brumel.meters.sensors import FAULTS
from brumel.methods.scenarios import draw, load_scenarios, parse_scenario, vocabulary

FIRST = load_scenarios()["ph-first"].model_dump(mode="json", exclude_defaults=True)
#: Faults of solutions and hands that a scenario plays by its bottles, its water or its table, not by the sensor's own switch.
PLAYED_BY = {
    "contaminated_buffer": "ph-old-ten",
    "wrong_cup": "ph-swapped",
    "old_standard": "ec-dried-in",
    "wet_tip": "do-wet-tip",
    "not_polarised": "do-polarising",
    "still_water": "do-still",
    "spent_zero": "do-spent-zero",
    "swapped_cups": "nh4-swapped",
    "warm_cup": "no3-warm",
    "carry_over": "ph-carry-over",
    "ice_wrong": "temp-ice",
    "second_method": "cl-kit-wrong",
}


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"grade": 4}, "grade"),
        ({"key": "No Key!"}, "key"),
        ({"minutes": 0}, "minutes"),
        ({"cause": "gremlin"}, "cause “gremlin” is none of pH"),
        ({"cause": "wet_tip"}, "cause “wet_tip” is none of pH"),
        ({"next": ["fly"]}, "next “fly” is not a next step"),
        ({"method": "ec-check"}, "there is no method “ec-check” for pH"),
        ({"method": "ec-check", "quantity": "conductivity"}, "none of the probes measures conductivity"),
        ({"done": "read"}, "a reading needs a site"),
        ({"novice": FIRST["novice"] | {"fails": ["luck"]}}, "novice.fails “luck” is not a criterion"),
        ({"novice": FIRST["novice"] | {"does": ["dance"]}}, "novice.does"),
        ({"bottles": {"b": FIRST["bottles"]["b7"] | {"holds": "x"}}}, "bottles.b.holds names no bottle"),
        ({"probes": {}}, "probes"),
        ({"surprise": 1}, "surprise"),
        ({"minutes": float("nan")}, "minutes"),
    ],
)
def test_a_faulty_scenario_names_its_place(change, words):
    with pytest.raises((InputError, InputErrors)) as found:
        parse_scenario(yaml.safe_dump(FIRST | change))
    assert words in str(words_of(found.value))


@pytest.mark.parametrize("text", ["a: [", "- 1", "just words", "x" * 70_000, "&a [*a]", "!!python/object:os.system {}"])
def test_what_is_no_scenario_is_a_sentence(text):
    with pytest.raises((InputError, InputErrors)):
        parse_scenario(text)


@given(st.integers(0, 10**6), st.floats(-50, 50), st.floats(0, 30), st.text("abc", min_size=1, max_size=4))
def test_hidden_numbers_lie_within_their_bounds_and_one_more_changes_none(seed, low, span, of):
    bounds = {"slope": (low, low + span), "faults": ("bubble",), "kind": "gel"}
    drawn = draw(bounds, seed, of)
    assert low - 1e-4 <= drawn["slope"] <= low + span + 1e-4
    assert drawn == draw(bounds, seed, of)
    assert drawn["slope"] == draw(bounds | {"tau_s": (1.0, 9.0)}, seed, of)["slope"]
    assert (drawn["faults"], drawn["kind"]) == (["bubble"], "gel")


def test_the_whole_trade_is_there():
    scenarios = load_scenarios()
    assert len(scenarios) >= 30
    assert {s.grade for s in scenarios.values()} == {1, 2, 3}
    assert {s.quantity for s in scenarios.values()} == set(FAULTS)
    used = {f for s in scenarios.values() for p in s.probes.values() for f in p.now.get("faults", ())}
    assert {fault for faults in FAULTS.values() for fault in faults} - used - set(PLAYED_BY) == set()
    assert set(PLAYED_BY.values()) <= set(scenarios)
    assert [s.tour for s in sorted(scenarios.values(), key=lambda s: s.tour or 9)][:3] == [1, 2, 3]
    # A list made for a scenario would tell: each cause is offered to a quantity, or to all.
    assert all(s.cause in vocabulary().causes_of(s.quantity) for s in scenarios.values())
