"""Knowledge of faults: for each quantity, what a run showed must lead to the planted cause first or second."""

import pytest

from brumel.core.diagnosis import rank
from brumel.methods import load_faults
from brumel.methods.care import load_care
from brumel.methods.checks import load_checks
from brumel.methods.settling import load_settling

SHOWN = [
    ("ph", "dry_bulb", {"slope_percent": 85, "settle_s": 180, "noise_mv": 0.4, "offset_abs_mv": 6}),
    ("ph", "clogged_junction", {"slope_percent": 97, "settle_s": 160, "offset_abs_mv": 38, "drift_abs_mv_min": 0.9}),
    ("ph", "reference_contaminated", {"slope_percent": 98, "settle_s": 40, "offset_abs_mv": 40}),
    ("ph", "contaminated_buffer", {"slope_percent": 96, "side_gap_percent": 12, "offset_abs_mv": 4, "settle_s": 40}),
    ("ph", "neighbour_buffer", {"slope_percent": 99, "side_gap_percent": 10, "acid_over_base_percent": -10}),
    ("ph", "bulb_aged", {"slope_percent": 86, "settle_s": 50, "noise_mv": 0.1, "side_gap_percent": 1}),
    ("ph", "bubble", {"slope_percent": 98, "noise_mv": 1.2, "steps": 2}),
    ("ph", "broken_bulb", {"span_percent": 3, "slope_percent": 4, "noise_mv": 0.2}),
    ("conductivity", "bubble", {"cell_change_percent": 14, "steps": 2, "noise_percent": 1.6}),
    ("conductivity", "coated", {"cell_change_percent": 16, "two_standards_gap_percent": 9, "steps": 0}),
    (
        "conductivity",
        "contaminated_standard",
        {"two_standards_gap_percent": 14, "cell_change_abs_percent": 6, "cell_change_percent": 0},
    ),
    ("conductivity", "wrong_temperature", {"drift_abs_percent_min": 2, "temperature_drift_abs_c_min": 0.6}),
    ("conductivity", "wet_contacts", {"air_zero_us": 14}),
    ("oxygen", "membrane", {"zero_mg_l": 0.9, "gain_change_percent": 32, "noise_percent": 1}),
    ("oxygen", "not_polarised", {"fall_percent": 8, "gain_change_percent": 16, "in_air": 1}),
    ("oxygen", "wet_tip", {"gain_change_percent": -13, "settle_s": 75, "in_air": 1}),
    ("oxygen", "aged", {"gain_change_percent": -34, "settle_s": 45, "in_air": 1}),
    ("oxygen", "still_water", {"fall_percent": 14, "in_water": 1}),
    ("oxygen", "spent_zero", {"zero_mg_l": 0.7, "gain_change_abs_percent": 2}),
    ("oxygen", "temperature_apart", {"air_water_c": 16}),
    ("redox", "dirty_metal", {"settle_s": 600, "error_abs_mv": 25, "standards_gap_mv": 4}),
    ("redox", "reference", {"settle_s": 60, "error_abs_mv": 60, "standards_gap_mv": 3}),
    ("redox", "old_standard", {"standards_gap_mv": 50, "error_abs_mv": 20}),
    ("ions", "aged_tip", {"gap_mv": 44, "settle_s": 400, "pair_c": 0.1}),
    ("ions", "not_hydrated", {"drift_abs_mv_min": 2.5, "hydrated_h": 3, "gap_mv": 57}),
    ("ions", "pair_temperature", {"pair_c": 1.8, "gap_mv": 57}),
    ("ions", "carry_over", {"gap_mv": 47, "settle_s": 15, "high_first": 1}),
    ("temperature", "slow", {"settle_s": 200}),
    ("temperature", "sensor_off", {"error_abs_c": 0.6, "settle_s": 5}),
    ("temperature", "ice_wrong", {"points_disagree_c": 0.8, "error_abs_c": 0.2}),
    ("chlorine", "swapped", {"free_over_total_mg_l": 0.5}),
    ("chlorine", "read_late", {"waited_s": 300}),
]


@pytest.mark.parametrize(("quantity", "planted", "shown"), SHOWN, ids=[f"{q}-{p}" for q, p, _ in SHOWN])
def test_the_planted_cause_is_first_or_second(quantity, planted, shown):
    found = rank(shown, load_faults(quantity))
    assert planted in [c.key for c in found[:2]], [(c.key, round(c.score, 2)) for c in found]
    cause = next(c for c in found if c.key == planted)
    assert cause.because
    assert cause.remedy
    assert 0.25 <= cause.score <= 1


@pytest.mark.parametrize("quantity", ["ph", "conductivity", "oxygen", "redox", "ions", "temperature", "chlorine"])
def test_every_fault_is_reachable_and_a_sound_probe_has_none(quantity):
    faults = load_faults(quantity)
    assert {f.key for f in faults} >= {p for q, p, _ in SHOWN if q == quantity}
    assert rank({}, faults) == []
    sound = {
        "slope_percent": 99,
        "settle_s": 25,
        "noise_mv": 0.05,
        "offset_abs_mv": 2,
        "steps": 0,
        "gap_mv": 58,
        "error_abs_mv": 2,
    }
    assert rank(sound | {"high_first": 1}, faults) == []


def test_what_cannot_be_seen_is_not_judged():
    """Weak before strong carries nothing over; a typed run has no settling time."""
    small_gap = {"gap_mv": 47.0, "settle_s": 15.0}
    assert "carry_over" not in [c.key for c in rank(small_gap | {"high_first": 0.0}, load_faults("ions"))]
    assert "carry_over" in [c.key for c in rank(small_gap | {"high_first": 1.0}, load_faults("ions"))]
    assert rank({"gap_mv": 58.0, "high_first": 1.0}, load_faults("ions")) == []


def test_advice_covers_every_probe_and_cautions_stand_at_their_step():
    book = load_care()
    for quantity in ("ph", "conductivity", "oxygen", "redox", "ions", "temperature", "chlorine"):
        assert any(c.what == "stow" for c in book.advice(quantity, "")), quantity
    assert (
        len({c.school for c in book.advice("conductivity", "two-electrode") if c.what == "stow"}) == 2
    )  # schools differ; the manual decides
    assert book.cautions_at("zero", quantity="oxygen") == ("Sulfite solution consumes oxygen and irritates.",)
    assert book.cautions_at("zero", quantity="ph") == ()
    everywhere = " ".join(c.words for c in book.cautions)
    words = (
        "safety data sheet",
        "Acid and chlorine",
        "Sulfite",
        "its bottle",
        "glass",
        "cathode",
        "life jacket",
        "electrical",
    )
    for word in (*words, "local codes", "stop aeration"):
        assert word in everywhere


def test_default_limits_are_the_domain_s():
    checks = load_checks()
    assert checks.temperature["tolerance"].value == 0.2  # USGS-A6.1
    assert (checks.ions["gap_low"].value, checks.ions["gap_high"].value, checks.ions["apart"].value) == (50, 65, 0.5)
    assert checks.redox["tolerance"].value == 15
    assert checks.oxygen["zero"].value == 0.2  # USGS-A6.2
    settling = load_settling()
    table = {
        "ph": (20, 0.6, 0.3, 30, 300),
        "conductivity": (15, 0.5, 0.3, 15, 180),
        "oxygen": (30, 0.5, 0.3, 30, 600),
        "redox": (60, 2, 1, 60, 900),
        "ions": (60, 0.5, 0.3, 60, 600),
        "temperature": (15, 0.1, 0.05, 10, 300),
    }
    for quantity, row in table.items():
        s = settling[quantity]
        assert (s.window_s, s.drift_per_min, s.noise, s.shortest_s, s.longest_s) == row, quantity
