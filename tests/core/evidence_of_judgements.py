"""What `test_evidence` shows besides: believability, suspicions, settling, plans, and the single formulas."""

import numpy as np

from brumel.core import (
    ageing,
    agreement,
    believability,
    budgets,
    chlorine,
    conductivity,
    diagnosis,
    expectation,
    meter_settings,
    oxygen,
    planning,
    redox,
    salinity,
    sense,
    settling,
    suspicion,
    temperature,
)
from brumel.core.trace import Trace
from brumel.methods.settling import load_settling
from tests.core.evidence_of_readings import CELL, NITRATE, T

MV = suspicion.Scale("mV", 0, False, near=40.0, margin=50.0, far=110.0)
EC = suspicion.Scale("µS/cm", 0, True, near=0.25, margin=0.25, far=0.6)
WEEKS_OF_PH = expectation.expected([7.0, 7.1, 7.2, 6.9, 7.0], [7.0, 14.0, 21.0, 28.0, 35.0], least_spread=0.1)
PH7 = believability.Shown("pH", "", 2)
DO = believability.Shown("Dissolved oxygen", "mg/L")
SETTINGS = {"cell_constant": 0.5, "preset_pressure_hpa": 1013.0, "preset_salinity": 5.0, "auto_off_min": 2.0}
FAULT = diagnosis.Fault(
    "old",
    "an old bulb",
    "Replace it.",
    (diagnosis.Evidence("slope", 95.0, 85.0, 1.0, "the slope is low"),),
    "x",
    "Mind.",
)


def trace(y, t=T, at=20.0):
    y = np.broadcast_to(np.asarray(y, float), t.shape)
    return Trace(np.arange(t.size), t, y, np.broadcast_to(at, t.shape), (), "mv")


def settled(y, quantity="ph", t=T):
    return settling.judge(
        t, np.broadcast_to(np.asarray(y, float), np.shape(t)), load_settling()[quantity].criteria(quantity)
    )


CASES = {
    "ageing": lambda: [
        ageing.control_chart([99, 98.8, 99.1, 98.9, 99, 98.7, 99.2, 98.9, 97.1, 96.0], smallest_sigma=0.3),
        ageing.control_chart([*[99.0] * 8, 98.6, 98.5, 98.4, 98.5, 98.6, 98.4, 98.5, 98.6, 98.5], smallest_sigma=0.3),
        ageing.forecast([0, 7, 14, 21, 28, 35], [99, 98.4, 98.1, 97.2, 96.9, 96.0], 85.0, what="The slope"),
        ageing.forecast([0, 7, 14, 21, 28, 35], [99, 99.1, 99.0, 99.2, 98.9, 99.1], 85.0, what="The slope"),
        ageing.forecast([0, 7, 14], [90, 87, 84], 85.0, what="The slope"),
        lambda: ageing.forecast([0, 7, 14, 21, 28], [1, 2, float("nan"), 3, 4], 85.0),
    ],
    "agreement": lambda: [
        agreement.compare(agreement.Measured(7.1, 0.1, ""), agreement.Measured(7.4, 0.08, "")),
        agreement.compare(agreement.Measured(570, 9, "µS/cm"), agreement.Measured(571, 9, "µS/cm")),
        lambda: agreement.compare(agreement.Measured(7, 0.1, "", "at 25 °C"), agreement.Measured(7, 0.1, "")),
        lambda: agreement.compare(agreement.Measured(7, 0.1, "mV"), agreement.Measured(7, 0.0, "%")),
        lambda: agreement.compare(agreement.Measured(float("nan"), 0.1, ""), agreement.Measured(7, -1, "")),
    ],
    "believability": lambda: [
        *(believability.instrument_range(PH7, v, 0, 14) for v in (7.0, 14.01, -0.5)),
        *(believability.site_range(DO, v, (6, 12), (0, 20)) for v in (6, 5.99, 12.01, 20.01, -0.01)),
        believability.site_range(DO, 9, None, None),
        believability.site_range(DO, 30, (6, 12), None),
        *(believability.history(PH7, v, WEEKS_OF_PH, 5) for v in (7.1, 7.6, 9.0)),
        believability.history(PH7, 7.1, None, 4),
        *(believability.rate_since(PH7, v, (7.0, 7.0), per_day=0.1, floor=0.5) for v in (8.2, 8.21, 5.7)),
        believability.rate_since(PH7, 8, None, per_day=0.1, floor=0.5),
        believability.rate_since(PH7, 8, (7.0, -1.0), per_day=0.1, floor=0.5),
    ],
    "budgets": lambda: [
        *(budgets.conductivity_budget(CELL, 640.0, 12.0, kind=kind) for kind in ("linear", "natural", "none")),
        budgets.oxygen_budget(8.2, 14.0, 2.0, 942.0, calibrated_c=18.0),
        budgets.ion_budget(NITRATE, 140.0, 12.0),
        temperature.budget(20.0, temperature.ReferencePoint(20.3, 20.0, 0.05, "glass")),
    ],
    "chlorine": lambda: [
        chlorine.explain(1.8, 1.5, 7.3, 28.0),
        chlorine.saturation_index(7.5, 28.0, 300.0, 100.0, 1000.0),
        *(lambda pair=pair: chlorine.combined_mg_l(*pair) for pair in ((1.5, 1.52), (1.0, 1.9))),
        *(lambda bad=bad: chlorine.saturation_index(*bad) for bad in ((15, 28, 300, 100, 1000), (7, 28, 300, 100, 0))),
        *(lambda pair=pair: chlorine.combined_mg_l(*pair) for pair in ((-1.0, 0.2), (0.2, -1.0))),
    ],
    "conductivity": lambda: [
        CELL,
        *(
            conductivity.explain(900.0, 12.0, kind=kind, tds_factor=factor)
            for kind, factor in (("linear", 0.65), ("natural", None), ("sea", 0.5), ("none", None))
        ),
        *(conductivity.choose_standard(v) for v in (60.0, 1000.0, 30_000.0, 150_000.0)),
        conductivity.choose_standard(200.0, ["12.88 mS"]),
        *(conductivity.slip(v, (400.0, 700.0)) for v in (0.57, 570.0, 570_000.0, 5700.0, 5.0, 900.0)),
        conductivity.accuracy_us_cm(100.0, percent_full_scale=1.0, full_scale_us_cm=2000.0),
        conductivity.accuracy_us_cm(0.0, percent_full_scale=1.0, full_scale_us_cm=2000.0),
        *(conductivity.reference_label(k, 1.9, 20.0) for k in ("linear", "natural", "sea", "none")),
        *map(conductivity.find_standard, ("84", "1413", "12.88 mS")),
        conductivity.explain(900.0, 12.0, coefficient_percent=1.91),
        lambda: conductivity.fit_cell([conductivity.CellPoint(0.2, 20.0, 1290.0)], air_zero_us=0.3),
    ],
    "diagnosis": lambda: [diagnosis.rank({"slope": v}, [FAULT]) for v in (85.0, 90.0, 94.9, 96.0)],
    "settings": lambda: [
        *(
            meter_settings.contradictions(
                SETTINGS, q, nominal_per_cm=1.0, families=("din",), pressure_hpa=950.0, typed=t
            )
            for q in ("ph", "conductivity", "oxygen", "redox")
            for t in ("", "mg_l", "ph", "us_cm_ref")
        ),
        meter_settings.in_words(SETTINGS),
        [c.sentence for c in meter_settings.changes({"cell_constant": 1.0}, SETTINGS)],
        lambda: meter_settings.checked({"cell_constant": 900.0, "auto_off_min": -1.0, "who": 3}),
        meter_settings.contradictions({"cell_constant": 1.0}, "conductivity", nominal_per_cm=1.0),
    ],
    "oxygen": lambda: [
        oxygen.target(14.0, 2.0, 942.0),
        oxygen.target(14.0, share=0.5),
        *(oxygen.looks_like_sea_level(p, 1200.0) for p in (1013.0, 880.0)),
        oxygen.recompute_mg_l(0.5, 12.0, salinity=2.0, pressure_hpa=950.0),
        lambda: oxygen.recompute_mg_l([0.5, 1], [12.0] * 3, salinity=2.0, pressure_hpa=950.0),
        lambda: oxygen.recompute_mg_l([0.5, 1], 12.0, salinity=2.0, pressure_hpa=[950.0] * 3),
    ],
    "planning": lambda: [
        planning.plan(
            [
                planning.Task("warm", 20),
                planning.Task("pH", 12, True, ("warm",)),
                planning.Task("EC", 6, True, ("warm",), 15),
            ],
            leave_min=30,
        ),
        lambda: planning.plan([planning.Task("warm", float("nan"))], leave_min=-1),
    ],
    "redox and salt": lambda: [
        redox.explain(210.0, "agcl-3m", 18.0),
        *(redox.verdict(v, 221.0, 15.0, "s") for v in (221.0, 240.0, 260.0)),
        salinity.explain(900.0, 18.0),
        salinity.explain(40_000.0, 18.0),
        lambda: salinity.practical_salinity(900.0, 90.0),
        lambda: redox.explain(5000.0, "gold", 18.0),
    ],
    "sense": lambda: [
        *(sense.salinity_against_kind(v, kind) for kind in ("stream", "lagoon", "pool") for v in (0.2, 18.0, 45.0)),
        *(sense.oxygen_without_light(v, light=light) for v in (90.0, 141.0, 165.0) for light in (True, False, None)),
        *(sense.redox_against_chlorine(v, c) for v, c in ((700, 1.8), (520, 1.8), (700, 0.1), (900, 1.0), (650, 0.3))),
    ],
    "settling": lambda: [
        settled(4.0),
        settled(4.0 + 0.02 * T),
        settled(4.0 + 3 * np.sin(T)),
        settled(np.where(T > 100, 40.0, 4.0)),
        settled(4.0, t=T[:20]),
        settled(4.0 + 30 * np.exp(-T / 40)),
        settled(np.where(T > 60, 4.0, 6.0) + 0.01 * np.cos(T * 7)),
        settled(900 + 0.5 * T, "conductivity"),
        settled(4.0 + 0.02 * T, t=np.arange(240) * 8.0),
        *(
            settling.judge_by_readings(t, y, settling.FieldCriteria("pH", "pH", 0.1, 3, 5.0, 10.0, 600.0, 0, 14))
            for t, y in (
                ([0, 6, 12], [7.0, 7.05, 7.02]),
                ([0, 6, 12], [7.0, 7.3, 7.02]),
                ([0, 2], [7.0, 7.0]),
                ([0, 700, 706], [6, 7, 8]),
            )
        ),
        settling.jumps(T, np.where(T > 60, 40.0, 4.0), load_settling()["ph"].criteria("ph")),
        settling.settling_time_s(T, 4.0 + 30 * np.exp(-T / 20), load_settling()["ph"].criteria("ph"), 4.0),
        lambda: settling.judge([0, 1], [1.0], load_settling()["ph"].criteria("ph")),
        lambda: settling.judge([1, 0], [1.0, 2.0], load_settling()["ph"].criteria("ph")),
        trace(4.0, at=20.0 + T / 60).temperature_drift(),
        trace(4.0, at=20.0 + T / 60).settled_temperature(30.0),
        trace(4.0).joined(trace(5.0, T + 120)).t_s[[0, -1]],
        [trace(4.0, T[:n], 20.0 + T[:n]).temperature_drift() for n in (4, 5, 6, 60, 61)],
        [trace(4.0).seen_until(n).t_s.size for n in (None, 0, 10)],
        settled(900 + 40.0 * (T > 60), "conductivity"),
        lambda: settling.judge("warm", [1.0], load_settling()["ph"].criteria("ph")),
    ],
    "suspicions": lambda: [
        *(
            suspicion.wrong_vessel(
                seen, suspicion.Vessel("own", own), [suspicion.Vessel("other", other)], scale, "a perfect probe"
            )
            for seen, own, other, scale in (
                (12_500.0, 1413.0, 12_880.0, EC),
                (5.0, 1413.0, 12_880.0, EC),
                (90.0, 221.0, 86.0, MV),
                (400.0, 221.0, 86.0, MV),
                (200.0, 221.0, 86.0, MV),
            )
        ),
        suspicion.same_signal(1372.0, 12_880.0, [("first", 1370.0, 1413.0)], EC),
        suspicion.same_signal(222.0, 86.0, [("first", 221.0, 221.0)], MV),
        suspicion.carried_over(1500.0, suspicion.Vessel("KCl 1413", 1413.0), [("12.88", 12_900.0, 12_880.0)]),
        *(suspicion.restless(state, "metal") for state in settling.State),
        suspicion.temperature_spread([18.0, 21.5], 2.0),
        suspicion.wet_tip(8.0, 9.2, "a perfect probe"),
        suspicion.wet_tip(8.65, 9.2, "a perfect probe"),
        suspicion.still_water(T, 100 - T / 12),
        *(suspicion.still_warming(v) for v in (1.4, -1.4, 0.9, None)),
        suspicion.air_water_apart(25.0, 9.0, 10.0),
        suspicion.unstable_link(T, 135.0),
        suspicion.unstable_link(np.r_[T[:80], T[140:]], 121.0),
        suspicion.out_of_bracket(1413.0, 9000.0, "µS/cm"),
        temperature.verdict(
            [temperature.ReferencePoint(0.3, 0.0, 0.05, "ice"), temperature.ReferencePoint(20.1, 20.0, 0.05)], 0.2
        ),
        lambda: temperature.verdict([temperature.ReferencePoint(200.0, 0.0)], 0.2),
        suspicion.carried_over(0.6, suspicion.Vessel("weak", 0.5), [("12.88", 12_900.0, 12_880.0)]),
    ],
}
