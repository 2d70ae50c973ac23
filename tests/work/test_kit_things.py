"""Meters and probes with a life, settings recorded, a probe inspected, methods of the site's own."""

import uuid
from dataclasses import replace
from datetime import timedelta

import pytest
from sqlalchemy import select

from brumel.core import meter_settings
from brumel.core.errors import InputError
from brumel.methods import load_method
from brumel.methods.inspection import items_for
from brumel.store.tables import Lot, MeterSettings, MethodVersion, ProbeInstallation
from brumel.work import bench, kit
from brumel.work.bench.conditions import Conditions
from brumel.work.demo.weeks import SETTINGS
from brumel.work.desk import NotAllowed, Refused
from tests.work import helpers as h

METER = kit.MeterForm("Set D", "TWS-D-1", "typed", "For the boat", "1.0")
PROBE = kit.ProbeForm("Cell D1", "CD1-1", "conductivity", "", "two-electrode", 5.0, 0.1)


@pytest.fixture
def things(desk):
    return h.Things(desk)


def test_a_meter_and_a_probe_from_the_box_to_the_bin(desk, clock, things):
    same = h.key()
    meter = kit.save_meter(desk, things.ansa, same, METER).id
    assert kit.save_meter(desk, things.ansa, same, METER).id == meter
    made = kit.save_probe(desk, things.ansa, h.key(), replace(PROBE, meter_id=meter)).id
    kit.save_probe(desk, things.ansa, h.key(), replace(PROBE, meter_id=meter, note="New cable", cable_m=7.0), made)
    with pytest.raises(Refused, match="still has probes"):
        kit.retire_meter(desk, things.ilka, h.key(), meter_id=meter, reason="Leaks")
    clock.on(days=3)
    move = dict(probe_id=made, meter_id=things.meters["Field set A"], reason="The boat set leaks")
    with pytest.raises(InputError, match="Address “3” on Field set A belongs to Conductivity cell A3"):
        kit.move_probe(desk, things.ansa, h.key(), address="3", **move)
    kit.move_probe(desk, things.ansa, h.key(), address="9", **move)
    with pytest.raises(Refused, match="on Field set A already"):
        kit.move_probe(desk, things.ansa, h.key(), address="9", **move)
    kit.retire_meter(desk, things.ilka, h.key(), meter_id=meter, reason="Leaks")
    with desk.read() as session:
        probe = kit.probe_of(session, made)
        assert (probe.cable_m, probe.meter.name, probe.nominal) == (7.0, "Field set A", 0.1)
        fitted = [(f.meter.name, f.reason) for f in kit.installations(session, probe)]
        assert fitted == [("Set D", "put in service"), ("Field set A", "The boat set leaks")]
        assert "fitted to Field set A" in [words for _, words in kit.life_of_probe(session, probe).maintenance]
    with pytest.raises(NotAllowed):
        kit.retire_probe(desk, things.ansa, h.key(), probe_id=made, reason="Cracked")
    kit.retire_probe(desk, things.ilka, h.key(), probe_id=made, reason="Cracked")
    with pytest.raises(Refused, match="is retired"):
        bench.start(
            desk,
            things.ansa,
            h.key(),
            probe_id=made,
            method_key="ec-check",
            source="typed",
            cups={"standard": things.lots["E14-055"]},
        )
    with desk.read() as session:
        assert made not in [str(p.id) for p in kit.probes_in_service(session)]
        assert session.scalar(select(ProbeInstallation.id).limit(1))  # its life stays on record


BAD_PROBES = {
    "name": ({"name": ""}, "Name must have"),
    "twin": ({"name": "pH probe A1"}, "There is a probe"),
    "quantity": ({"quantity": "gold"}, "Choose what the probe measures"),
    "kind": ({"kind": "magic"}, "Choose its kind"),
    "serial": ({"serial": "<b>"}, "Serial takes"),
    "constant": ({"nominal": None}, "Nominal cell constant must be given"),
    "huge": ({"nominal": 1e9}, "outside 0.005 to 20"),
    "nan": ({"cable_m": float("nan")}, "must be a number"),
    "address": ({"address": "11"}, "one letter or digit"),
    "electrode": ({"quantity": "redox", "kind": "gel"}, "Name the reference electrode"),
}


@pytest.mark.parametrize("name", BAD_PROBES)
def test_a_bad_probe_is_refused_by_name(desk, things, name):
    change, words = BAD_PROBES[name]
    with pytest.raises(InputError) as caught:
        kit.save_probe(desk, things.ansa, h.key(), replace(PROBE, meter_id=things.meters["Field set A"], **change))
    assert words in str(caught.value)


def test_a_battery_change_starts_polarising_and_a_membrane_asks_for_a_new_one(desk, clock, things):
    done = kit.record_battery_change(
        desk,
        things.ansa,
        h.key(),
        meter_id=things.meters["Field set A"],
        note="4 new cells",
        answers={"contacts": "clean"},
    )
    assert done.waiting == ("Oxygen probe A5",)  # the polarographic one; the others lose nothing
    with pytest.raises(Refused, match="polarising until"):
        bench.start(
            desk,
            things.ansa,
            h.key(),
            probe_id=things.probes["A5"],
            method_key="do-saturated-air",
            source="live",
            cups={},
            conditions=Conditions(pressure_hpa=1000.0),
        )
    with pytest.raises(Refused, match="a new membrane"):
        kit.record_maintenance(desk, things.ansa, h.key(), probe_id=things.probes["A5"], what="membrane", fresh=False)
    optical = things.probes["B2"]
    with pytest.raises(InputError, match="Choose what was done"):
        kit.record_maintenance(
            desk, things.ansa, h.key(), probe_id=optical, what="membrane"
        )  # an optical probe has none
    with desk.read() as session:
        assert kit.wait_h(kit.probe_of(session, things.probes["A5"]), "membrane") == 1.5  # domain section 13: 90 min
    kit.set_interval(
        desk, things.ilka, h.key(), probe_id=things.probes["A1"], what="electrolyte", days=0, reason="Gel, its manual"
    )
    with desk.read() as session:
        assert not [
            d for d in kit.due_items(session, clock()) if d.subject == "pH probe A1" and "electrolyte" in d.what
        ]
    for days, words in ((-1, "outside 0 to 3650"), (1.5, "outside")):
        with pytest.raises(InputError, match=words):
            kit.set_interval(
                desk,
                things.ilka,
                h.key(),
                probe_id=things.probes["A1"],
                what="electrolyte",
                days=days,
                reason="Why not",
            )


def test_limits_and_stowing_of_the_probe_s_own_record_win_over_the_method(desk, clock, things):
    own = dict(probe_id=things.probes["A1"], name="slope", source="its manual, page 9", reason="Manual")
    four = {"fit_low": 99.0, "fit_high": 101.0, "care_low": 90.0, "care_high": 105.0}
    with pytest.raises(NotAllowed):
        kit.set_limit(desk, things.ansa, h.key(), numbers=four, **own)
    for numbers, words in (({"fit_low": 1.0}, "needs all four"), ({**four, "fit_low": 120.0}, "inside those of")):
        with pytest.raises(InputError, match=words):
            kit.set_limit(desk, things.ilka, h.key(), numbers=numbers, **own)
    kit.set_limit(desk, things.ilka, h.key(), numbers=four, **own)
    run = h.start(desk, things)
    h.take_all(desk, clock, things, run)
    rows = {r.key: r for r in h.result_of(desk, run).verdict.rows}
    assert rows["slope_0"].outcome.value == "care"  # 98.2 % is fit by the method, not by this probe's manual
    assert rows["slope_0"].source == "its manual, page 9"
    kit.set_limit(desk, things.ilka, h.key(), numbers={}, **own)
    with desk.read() as session:
        assert kit.probe_of(session, things.probes["A1"]).limits == {}


# -- settings


def test_a_changed_setting_is_shown_and_must_be_acknowledged(desk, clock, things):
    meter = things.meters["Bench set B"]

    def take(settings, reason=""):
        clock.on(minutes=1)
        return kit.record_settings(desk, things.ansa, h.key(), meter_id=meter, settings=settings, reason=reason)

    take(SETTINGS)
    take(SETTINGS)  # nothing changed, nothing to say
    with pytest.raises(Refused, match=r"TDS factor: was 0.5, is 0.7.*Say why"):
        take({**SETTINGS, "tds_factor": 0.7})
    take({**SETTINGS, "tds_factor": 0.7}, "The client asks for the 0.7 scale")
    with desk.read() as session:
        was = kit.last_settings(session, uuid.UUID(meter), before=clock() - timedelta(seconds=1))
        assert was.settings["tds_factor"] == SETTINGS["tds_factor"]  # as it was set when something was read then
        newest = kit.last_settings(session, uuid.UUID(meter))
        assert newest.changes == ["TDS factor: was 0.5, is 0.7."]
        assert session.scalar(select(MeterSettings.reason).where(MeterSettings.id == newest.id)).startswith(
            "The client"
        )
    start = dict(probe_id=things.probes["B1"], method_key="ph-7-4-10", source="typed", cups=things.cups())
    with pytest.raises(Refused, match="Look at the settings of Bench set B first"):
        bench.start(desk, things.ansa, h.key(), **start, conditions=Conditions(settings_same=False))
    run = bench.start(desk, things.ansa, h.key(), **start, conditions=Conditions(settings_same=True)).id
    assert h.state_of(desk, run).run.settings_id == newest.id


def test_a_setting_against_the_probe_speaks_up_in_the_cup_and_needs_an_answer(desk, clock, things):
    kit.record_settings(
        desk, things.ansa, h.key(), meter_id=things.meters["Bench set B"], settings=SETTINGS, reason=""
    )  # its cell constant is 1; cell B3 has 10, and the meter compensates
    run = bench.start(
        desk,
        things.ansa,
        h.key(),
        probe_id=things.probes["B3"],
        method_key="ec-one-standard",
        source="typed",
        cups={"standard": things.lots["E12-031"]},
    ).id
    for after in (20, 40):
        bench.type_reading(
            desk,
            things.ansa,
            h.key(),
            run_id=run,
            step="standard",
            turn=0,
            typed=bench.TypedValue(signal="us_cm", value=1167.0, temperature_c=20.0, after_s=after),
        )
    with desk.read() as session:
        said = [
            s.sentence for s in bench.live_cup(session, bench.load_run(session, run)).suspicions if s.code == "setting"
        ]
    assert len(said) == 2
    assert "off by a factor of 0.1" in said[0]
    assert "switch the compensation off" in said[1]
    with pytest.raises(Refused, match="Say why you take it all the same"):
        bench.accept(desk, things.ansa, h.key(), run_id=run, step="standard", turn=0)


BAD_SETTINGS = {
    "tds_factor": (7.0, "0.4 to 1 is possible"),
    "cell_constant": (None, "must be given"),
    "reference_c": ("22", "one of"),
    "compensation": ("magic", "one of none, linear"),
    "preset_salinity": ("salty", "must be a number"),
    "auto_off_min": (float("nan"), "is possible"),
}


@pytest.mark.parametrize("key", BAD_SETTINGS)
def test_a_setting_no_meter_has_is_refused_by_name(key):
    value, words = BAD_SETTINGS[key]
    with pytest.raises(InputError, match=words):
        meter_settings.checked({**SETTINGS, key: value})


AGAINST = [
    ("ph", {}, dict(families=("7.00", "4.01")), "7.00 stands on the tray"),
    ("ph", {"buffer_family": "7.00"}, dict(families=("7.00", "4.01")), ""),
    ("ph", {}, dict(families=("phosphate",)), "6.86 stands on the tray"),
    ("conductivity", {}, dict(nominal_per_cm=10.0), "off by a factor of 0.1"),
    ("conductivity", {}, dict(nominal_per_cm=1.0, typed="us_cm"), "switch the compensation off"),
    ("conductivity", {"compensation": "none"}, dict(nominal_per_cm=1.0, typed="us_cm"), ""),
    ("oxygen", {"preset_pressure_hpa": 1013.0}, dict(pressure_hpa=942.0), "+7.5 %"),
    ("oxygen", {"preset_salinity": 35.0}, dict(pressure_hpa=942.0), "preset salinity is 35"),
    ("oxygen", {"preset_pressure_hpa": 1013.0}, dict(pressure_hpa=1011.0), ""),
    ("temperature", {"auto_off_min": 5.0}, {}, "switches itself off after 5 min"),
    ("ph", {"manual_temperature_c": 25.0}, {}, "temperature set by hand, 25 °C"),
    ("ph", {"logging_every_s": 300.0}, {}, ""),
    ("ph", {"logging_every_s": 300.0, "auto_off_min": 20.0}, {}, "it will stop logging"),
    ("ph", {"clock_off_s": -90.0}, {}, "clock is off by −90 s"),
    ("ph", {"battery_percent": 12.0}, {}, "battery is at 12 %"),
    ("ph", {"battery_percent": 80.0, "clock_off_s": 5.0}, {}, ""),
]


@pytest.mark.parametrize(("quantity", "change", "around", "words"), AGAINST)
def test_settings_that_contradict_probe_buffer_or_place_are_spoken_up_about(quantity, change, around, words):
    said = " ".join(meter_settings.contradictions({**SETTINGS, **change}, quantity, **around))
    assert words in said if words else said == ""


ACCURACY = [  # settings, quantity, value, half the width that is stated; ±1 % of a full scale of 20 mS is 200 µS everywhere
    ({"ph_accuracy": 0.02}, "ph", 7.0, 0.02),
    ({"conductivity_accuracy": 1.0, "conductivity_accuracy_of": "reading"}, "conductivity", 1413.0, 14.13),
    (
        {"conductivity_accuracy": 1.0, "conductivity_accuracy_of": "full scale", "conductivity_full_scale": 20_000.0},
        "conductivity",
        1413.0,
        200.0,
    ),
    ({"oxygen_accuracy": 2.0, "oxygen_accuracy_of": "full scale"}, "oxygen", 8.0, None),
    ({}, "redox", 222.0, None),
]


@pytest.mark.parametrize(("settings", "quantity", "value", "width"), ACCURACY)
def test_an_accuracy_is_of_the_reading_or_of_full_scale(settings, quantity, value, width):
    stated = meter_settings.stated_accuracy(settings, quantity, value)
    assert stated == (None if width is None else pytest.approx(width))


def test_settings_are_complete_when_all_is_said_and_the_day_s_own_are_no_change(desk, things):
    assert meter_settings.not_said(SETTINGS) == (
        "Is adjusted itself to the standards",
        "Its clock is fast by (slow: −)",
        "Battery",
    )
    whole = {**SETTINGS, "adjusts_itself": "no", "clock_off_s": 2.0, "battery_percent": 90.0}
    assert meter_settings.not_said(whole) == ()
    assert meter_settings.changes(whole, {**whole, "battery_percent": 40.0, "clock_off_s": 9.0}) == ()
    bad = {"battery_percent": 400.0}
    with pytest.raises(InputError, match="Battery is 400 %; 0 to 100 % is possible"):
        meter_settings.checked({**whole, **bad})


def test_a_battery_at_the_start_is_kept_with_the_run_and_a_low_one_speaks_up(desk, clock, things):
    assert [bool(meter_settings.low_battery(p)) for p in (None, 85.0, 20.0, 19.0, 0.0)] == [
        False,
        False,
        False,
        True,
        True,
    ]
    begin = dict(probe_id=things.probes["A1"], method_key="ph-7-4-10", source="live", cups=things.cups())
    with pytest.raises(InputError, match="outside 0 to 100 %"):
        bench.start(desk, things.ansa, h.key(), **begin, conditions=Conditions(battery_percent=130.0))
    run = bench.start(desk, things.ansa, h.key(), **begin, conditions=Conditions(battery_percent=9.0)).id
    assert h.state_of(desk, run).run.conditions.battery_percent == 9.0


# -- inspection


def test_a_finding_opens_its_remedy_and_may_keep_the_probe_off_bench(desk, clock, things):
    probe = things.probes["A1"]
    good = {i.key: "good" for i in items_for("ph", "refillable")}
    with pytest.raises(InputError) as caught:
        kit.inspect(desk, things.ansa, h.key(), probe_id=probe, seen={"bulb": "good", "plug": "purple"})
    assert len(caught.value.faults) == len(good) - 1
    kit.inspect(desk, things.ansa, h.key(), probe_id=probe, seen={**good, "bulb": "dry"})
    with desk.read() as session:
        found = kit.probe_of(session, probe)
        last = kit.last_inspection(session, found.id)
        (seen,) = kit.findings(found, last.findings)
        assert (seen.maintenance, last.blocks) == ("dried", True)
        assert "Soak overnight" in seen.remedy
        assert "kept off Bench: dry" in kit.trust_of(session, found, clock()).words
    with pytest.raises(Refused, match="keeps it off Bench"):
        h.start(desk, things)
    kit.record_maintenance(desk, things.ansa, h.key(), probe_id=probe, what=seen.maintenance)
    clock.on(hours=12)
    kit.inspect(desk, things.ansa, h.key(), probe_id=probe, seen=good)
    run = h.start(desk, things)
    with desk.read() as session:
        assert bench.load_run(session, run).run.inspection_id == kit.last_inspection(session, uuid.UUID(probe)).id


@pytest.mark.parametrize("quantity", kit.KINDS)
def test_every_kind_of_probe_has_something_to_look_at(quantity):
    from brumel.methods.maintenance import kinds_of

    for kind in kit.KINDS[quantity]:
        items = items_for(quantity, kind)
        assert len(items) >= 3
        for item in items:
            for finding in item.findings:
                assert finding.remedy
                assert not finding.maintenance or finding.maintenance in kinds_of(quantity, kind), (kind, finding.key)
    assert "membrane" not in {i.key for i in items_for("oxygen", "optical")}
    assert "cap" not in {i.key for i in items_for("oxygen", "polarographic")}


# -- methods of the site's own


def test_a_method_is_copied_changed_and_versioned_and_runs_keep_theirs(desk, clock, things):
    before = h.start(desk, things)
    body = load_method("ph-7-4-10").stored()
    with pytest.raises(NotAllowed):
        kit.save_method(desk, things.ansa, h.key(), body=body, reason="Mine", turn=1)
    stricter = {
        **body,
        "limits": {
            **body["limits"],
            "slope": {"fit": [95, 102], "care": [90, 105], "unit": "%", "source": "site procedure 4"},
        },
    }
    made = kit.save_method(desk, things.ilka, h.key(), body=stricter, reason="Site procedure 4 asks for it", turn=1)
    assert (made.key, made.version) == ("ph-7-4-10", 2)
    with pytest.raises(Refused, match="stands at version 2 now, not 1"):
        kit.save_method(desk, things.ilka, h.key(), body=stricter, reason="Twice", turn=1)
    own = {
        **stricter,
        "key": "own-seven-four",
        "title": "Seven then four",
        "steps": stricter["steps"][:2],
        "from_method": "ph-7-4-10",
    }
    kit.save_method(desk, things.ilka, h.key(), body=own, reason="Moor streams only", turn=0)
    with desk.read() as session:
        found = kit.methods_in_use(session, "ph")
        assert {"own-seven-four", "ph-7-4-10"} <= set(found)
        assert found["ph-7-4-10"].band("slope").source == "site procedure 4"
        assert kit.new_method_key(session, "Seven then four", "ph") == "own-seven-then-four"
        assert bench.load_run(session, before).method.version == 1  # the run keeps what it was made with
        assert bench.load_run(session, before).method.band("slope").fit == (92, 102)
        assert (
            session.scalar(select(MethodVersion.reason).where(MethodVersion.key == "own-seven-four"))
            == "Moor streams only"
        )
    bench.abandon(desk, things.ansa, h.key(), run_id=before, reason="Now by the new one")
    run = h.start(desk, things, method="own-seven-four")
    assert len(h.state_of(desk, run).steps) == 2
    kit.retire_method(desk, things.ilka, h.key(), method_key="own-seven-four", reason="Not needed")
    with desk.read() as session:
        assert kit.method(session, "own-seven-four") is None
        assert bench.load_run(session, run).method.title == "Seven then four"


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"steps": []}, "steps"),
        ({"fit": "offset"}, "exactly one cup"),
        ({"title": "x"}, "title"),
        ({"limits": {}}, "limits.offset is missing"),
        ({"quantity": "gold"}, "quantity"),
        ({"valid_h": {"value": 24, "unit": "h", "source": ""}}, "valid_h.source"),
        ({"key": "../x"}, "key"),
    ],
)
def test_a_method_that_makes_no_sense_is_refused_with_its_place(desk, things, change, words):
    with pytest.raises(InputError) as caught:
        kit.save_method(
            desk,
            things.ilka,
            h.key(),
            body={**load_method("ph-7-4-10").stored(), **change},
            reason="Try",
            turn=0 if "key" in change else 1,
        )
    assert words in str(caught.value)


@pytest.mark.parametrize(
    ("typed", "found"),
    [
        ("n7-121", ["N7-121"]),
        ("N7 121", ["N7-121"]),
        ("N10", ["N10-071", "N10-083", "N10-090"]),
        ("XX", []),
        ("%", None),
    ],
)
def test_a_lot_is_found_by_its_code_as_it_is_scanned_or_typed(desk, clock, typed, found):
    with desk.read() as session:
        codes = sorted(lot.code for lot in session.scalars(select(Lot)) if kit.is_coded(lot, typed))
    assert codes == found if found is not None else len(codes) > 9  # nothing of a code was typed: all of them
