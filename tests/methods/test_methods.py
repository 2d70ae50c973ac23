"""Method files: the shipped ones hold what the trade says, and a bad one is refused with all its faults at once."""

import pytest
import yaml

from brumel.core.errors import InputError
from brumel.methods import ORDER, load_faults, load_method, load_methods, parse_method
from brumel.methods.loader import DATA

OWN = (DATA / "ph" / "ph-7-4-10.yaml").read_text("utf-8")
TEXT = OWN.replace("extends: common\n", "") + (DATA / "ph" / "_common.yaml").read_text("utf-8")


def test_the_schools_are_there_with_their_limits_and_sources():
    methods = load_methods()
    assert {"ph-7-4-10", "ph-7-4-check-10", "ph-7-10-check-4", "ph-10-7", "ph-4-7", "ph-7-one-point"} <= set(methods)
    for method in (m for m in methods.values() if m.quantity == "ph"):
        # Domain section 3 and 1 defaults, common practice.
        assert (method.band("slope").fit, method.band("slope").care) == ((92, 102), (85, 105))
        assert (method.band("offset").fit, method.band("offset").care) == ((-25, 25), (-45, 45))
        assert (method.settling.drift_per_min, method.settling.noise, method.settling.window_s) == (0.6, 0.3, 20)
    for method in methods.values():
        assert all(limit.source for limit in (*method.limits.values(), method.settling, method.valid_h))
        assert method.cautions
        assert method.prepare
    assert {m.quantity for m in methods.values()} == set(ORDER)
    tables = {  # domain sections 2, 4 to 8
        "ec-air-one": {"cell_constant": ((-10, 10), (-20, 20)), "as_found": 5, "as_found_least": 5},
        "do-zero-air": {"gain": ((80, 120), (70, 130)), "zero": 0.2, "air_water": 10, "as_found": 0.3},
        "orp-check": {"tolerance": 15},
        "no3-four": {"pair_apart": 0.5},
        "temp-two-points": {"tolerance": 0.2},
        "cl-check": {"en": 1},
    }
    for key, limits in tables.items():
        for name, wanted in limits.items():
            found = methods[key].limits[name]
            assert (wanted == (found.fit, found.care)) if isinstance(wanted, tuple) else wanted == found.value, (
                key,
                name,
            )
    assert methods["no3-four"].band("gap").fit == (50, 65)
    check = load_method("ph-7-4-check-10")
    assert [s.role for s in check.steps] == ["adjust", "adjust", "check"]
    assert load_method("no-such") is None
    assert all(f.evidence and f.remedy and f.source for f in load_faults("ph"))


BROKEN = {
    "not yaml": ("steps: [", ["not readable as YAML in line"]),
    "a list": ("- 1", ["must be a list of named entries"]),
    "huge": ("x" * 300_000, ["is not a method"]),
    "unknown word": (TEXT + "colour: red\n", ["colour: Extra inputs"]),
    "bands crossed": (TEXT.replace("fit: [92, 102]", "fit: [102, 92]"), ["limits.slope", "low before high"]),
    "nan": (TEXT.replace("drift_per_min: 0.6", "drift_per_min: .nan"), ["settling.drift_per_min"]),
    "twice the same cup": (TEXT.replace("key: acid", "key: neutral"), ["two steps have the same key"]),
    "no source": (TEXT.replace('source: "common practice, no source"}\n  cup', 'source: ""}\n  cup'), ["source"]),
    "extends nothing": (OWN.replace("common", "../../secrets"), ["extends: there is no shared file"]),
    "several": (
        TEXT.replace("version: 1", "version: none")
        .replace("quantity: ph", "quantity: taste")
        .replace("noise: 0.3", ""),
        ["version", "quantity", "settling.noise"],
    ),
}


@pytest.mark.parametrize("name", BROKEN)
def test_a_bad_method_file_is_refused_with_every_fault_and_place(name):
    text, words = BROKEN[name]
    with pytest.raises(InputError) as caught:
        parse_method(text, "mine.yaml")
    for word in words:
        assert word in str(caught.value)
    assert "mine.yaml" in str(caught.value)
    if name == "several":
        assert len(caught.value.faults) == 3


def test_a_slope_needs_two_cups_and_an_offset_one():
    data = yaml.safe_load(TEXT)
    with pytest.raises(InputError, match="adjusts in exactly one cup"):
        parse_method(yaml.safe_dump({**data, "fit": "offset"}))
    with pytest.raises(InputError, match="at least two cups"):
        parse_method(yaml.safe_dump({**data, "steps": data["steps"][:1]}))
