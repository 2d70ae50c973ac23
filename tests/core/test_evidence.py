"""Every judgement and working of core as it is shown and kept: figures, words, units, digits and sources, in one file.

The values themselves are held to the outside by the other tests; this one keeps what people read from changing unseen.
After a change that is meant, `BRUMEL_WRITE_EVIDENCE=1 pytest tests/core/test_evidence.py` writes the file anew.
"""

import difflib
import json
import os
from dataclasses import fields, is_dataclass
from enum import Enum
from pathlib import Path

import numpy as np
import pytest

from brumel.core import (
    ageing,
    agreement,
    believability,
    budgets,
    chlorine,
    conductivity,
    diagnosis,
    drift,
    ions,
    logged,
    meter_settings,
    oxygen,
    ph,
    planning,
    redox,
    salinity,
    sense,
    settling,
    suspicion,
    temperature,
)
from brumel.core.errors import BrumelError
from brumel.core.fitness import CalibrationPoint, JudgingTerms
from brumel.core.fitness import chlorine as chlorine_fit
from brumel.core.fitness import conductivity as cell_fit
from brumel.core.fitness import ions as ion_fit
from brumel.core.fitness import oxygen as oxygen_fit
from brumel.core.fitness import ph as ph_fit
from brumel.core.fitness import redox as redox_fit
from brumel.core.fitness import temperature as temperature_fit
from brumel.core.sentence import Sentence, as_data
from brumel.core.sheet import ReadWith, Reported, SheetFacts, Water, against, derive, not_stated, report
from brumel.core.trace import Trace
from brumel.core.working import Working
from brumel.methods import load_methods
from brumel.methods.checks import load_checks
from brumel.methods.settling import load_settling

KEPT = Path(__file__).with_name("evidence.txt")
METHODS = load_methods()
CLOSING = {quantity: check.criteria() for quantity, check in load_checks().closing.items()}
OXYGEN = CLOSING["oxygen"]
MV = suspicion.Scale("mV", 0, False, near=40.0, margin=50.0, far=110.0)
EC = suspicion.Scale("µS/cm", 0, True, near=0.25, margin=0.25, far=0.6)
T = np.arange(0.0, 120.0, 0.5)
THREE = [(4.0, 7.02, 20.0), (172.5, 4.0, 20.4), (-168.0, 10.06, 19.6)]
ELECTRODE = ph.fit([(mv, t, p) for mv, p, t in THREE])
CELL = conductivity.fit_cell(
    [conductivity.CellPoint(1278.0, 20.0, 1290.0), conductivity.CellPoint(11_500.0, 20.0, 11_670.0)], air_zero_us=0.3
)
NITRATE = ions.fit([(112.0, 21.0, 100.0), (169.0, 21.0, 10.0), (176.0, 8.0, 10.0), (122.0, 8.0, 100.0)])
PH7 = believability.Shown("pH", "", 2)
DO = believability.Shown("Dissolved oxygen", "mg/L")
FRESH = Water()
LIMITS = ph.VerdictLimits(
    METHODS["ph-7-4-10"].judged_by()["slope"], METHODS["ph-7-4-10"].judged_by()["offset"], 0.05, "school", 2.0, "school"
)


def taken(role, signal, at, expected, name="", **more):
    return CalibrationPoint(name or role, role, signal, at, expected, **more)


def judged(module, method, points, **terms):
    return module.assess(points, METHODS[method].judged_by(), JudgingTerms(**terms))


def trace(y, t=T, at=20.0):
    y = np.broadcast_to(np.asarray(y, float), t.shape)
    return Trace(np.arange(t.size), t, y, np.broadcast_to(at, t.shape), (), "mv")


def settled(y, quantity="ph", t=T):
    return settling.judge(
        t, np.broadcast_to(np.asarray(y, float), np.shape(t)), load_settling()[quantity].criteria(quantity)
    )


def on_sheet(**values):
    units = {"conductivity": "µS/cm", "temperature": "°C", "oxygen": "mg/L", "redox": "mV"}
    return {q: Reported(q, v, units.get(q, ""), 0.1, Working(q, ())) for q, v in values.items()}


def worth(quantity, fit, signal, at, u, water=FRESH, backed=True):
    return report(quantity, ReadWith(fit, backed, "calibration 12", u), signal, at, water)


FULL = float(oxygen.saturation_mg_l(18.0, 0.0, 950.0))
SALTY = Water(8.0, "read here", 14_000.0, 950.0, "as measured here", "sea", 2.0)
PAIR = [taken("adjust", 168.0, 21.0, 10.0, "low"), taken("adjust", 112.0, 21.3, 100.0, "high")]
PH_POINTS = [taken("adjust", mv, t, p, f"buffer {p:g}") for mv, p, t in THREE]
ORP = [taken("check", 240.0, 21.0, 221.0, "ferro"), taken("check", 60.0, 21.0, 86.0, "quinhydrone")]
SERVICE = logged.Service(
    8.7, 9.3, 10.1, 10.0, beside_before=9.0, beside_after=9.1, opening_read=10.05, opening_value=10.0
)
SETTINGS = {"cell_constant": 0.5, "preset_pressure_hpa": 1013.0, "preset_salinity": 5.0, "auto_off_min": 2.0}
FAULT = diagnosis.Fault(
    "old",
    "an old bulb",
    "Replace it.",
    (diagnosis.Evidence("slope", 95.0, 85.0, 1.0, "the slope is low"),),
    "x",
    "Mind.",
)

CASES = {
    "ageing": lambda: [
        ageing.control_chart([99, 98.8, 99.1, 98.9, 99, 98.7, 99.2, 98.9, 97.1, 96.0], smallest_sigma=0.3),
        ageing.control_chart([*[99.0] * 8, 98.6, 98.5, 98.4, 98.5, 98.6, 98.4, 98.5, 98.6, 98.5], smallest_sigma=0.3),
        ageing.forecast([0, 7, 14, 21, 28, 35], [99, 98.4, 98.1, 97.2, 96.9, 96.0], 85.0, what="The slope"),
        ageing.forecast([0, 7, 14, 21, 28, 35], [99, 99.1, 99.0, 99.2, 98.9, 99.1], 85.0, what="The slope"),
        ageing.forecast([0, 7, 14], [90, 87, 84], 85.0, what="The slope"),
    ],
    "agreement": lambda: [
        agreement.compare(agreement.Measured(7.1, 0.1, ""), agreement.Measured(7.4, 0.08, "")),
        agreement.compare(agreement.Measured(570, 9, "µS/cm"), agreement.Measured(571, 9, "µS/cm")),
    ],
    "believability": lambda: [
        *(believability.instrument_range(PH7, v, 0, 14) for v in (7.0, 14.01, -0.5)),
        *(believability.site_range(DO, v, (6, 12), (0, 20)) for v in (6, 5.99, 12.01, 20.01, -0.01)),
        believability.site_range(DO, 9, None, None),
        believability.site_range(DO, 30, (6, 12), None),
        *(believability.history(PH7, v, [7.0, 7.1, 7.2, 6.9, 7.0], smallest_spread=0.1) for v in (7.1, 7.6, 9.0)),
        believability.history(PH7, 7.1, [7.0] * 4, smallest_spread=0.1),
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
    ],
    "diagnosis": lambda: [diagnosis.rank({"slope": v}, [FAULT]) for v in (85.0, 90.0, 94.9, 96.0)],
    "drift": lambda: [
        drift.effect(CLOSING[q], v, at, drift.StandardCheck(1000, read, expected), 0)
        for q, v, at, read, expected in (
            ("ph", 7.3, 500, 7.4, 7.0),
            ("ph", 7.3, 500, 7.1, 7.0),
            ("ph", 7.3, 999, 9.5, 7.0),
            ("conductivity", 500.0, 800, 1500.0, 1413.0),
        )
    ],
    "fitness of electrodes": lambda: [
        judged(
            ph_fit, "ph-7-4-10", PH_POINTS, kind="segments", early=1, objections=("N4 expired.",), missing=("settings",)
        ),
        judged(ph_fit, "ph-7-4-10", PH_POINTS[:2], kind="line", doubts=("It jumped.",)),
        judged(
            ph_fit, "ph-7-4-10", [*PH_POINTS, taken("found", 8.0, 20.0, 7.02)], kind="segments", before=ELECTRODE_FIT
        ),
        judged(ph_fit, "ph-7-4-10", PH_POINTS[:1], kind="offset", before=ELECTRODE_FIT, before_words="calibration 9"),
        ph_fit.span_percent(PH_POINTS),
        *(lambda p=p: judged(ph_fit, "ph-7-4-10", p, kind="line") for p in ([], [PH_POINTS[0]] * 2, PH_POINTS[:1])),
    ],
    "fitness of cells": lambda: [
        judged(
            cell_fit,
            "ec-two-standards",
            [
                taken("zero", 0.6, 20.0, 0.0, "air"),
                taken("adjust", 1300.0, 20.0, 1278.0, "1413"),
                taken("adjust", 12_100.0, 20.0, 11_670.0, "12.88"),
                taken("check", 86.0, 20.0, 76.0, "84"),
                taken("left", 1300.0, 20.0, 1278.0, "left"),
            ],
            nominal_per_cm=1.0,
        ),
        judged(
            cell_fit,
            "ec-one-standard",
            [taken("found", 1300, 20, 1278), taken("adjust", 1020, 20, 1278)],
            nominal_per_cm=0.5,
        ),
    ],
    "fitness of oxygen": lambda: [
        judged(
            oxygen_fit,
            "do-zero-air",
            [taken("zero", 2.2, 18.0, 0.0, "zero"), taken("adjust", 104.0, 18.0, FULL, "air")],
            first_gain_percent=100.0,
            water_c=6.0,
        ),
        judged(
            oxygen_fit,
            "do-saturated-air",
            [taken("found", 99.0, 18.0, FULL), taken("adjust", 80.0, 18.0, FULL, "air")],
            before=oxygen_fit.OxygenFit(100, 0, "ideal"),
            first_gain_percent=110.0,
        ),
        lambda: judged(oxygen_fit, "do-zero-air", [taken("adjust", 1.0, 20.0, FULL)]),
    ],
    "fitness of redox": lambda: [
        judged(redox_fit, "orp-check", ORP),
        judged(
            redox_fit, "orp-offset", [taken("adjust", 270.0, 21.0, 221.0, "ferro"), taken("left", 224.0, 21.0, 221.0)]
        ),
    ],
    "fitness of ions": lambda: [
        judged(ion_fit, "no3-two", [*PAIR, taken("check", 130.0, 21.0, 50.0, "middle")], ion="nitrate"),
        judged(
            ion_fit,
            "nh4-two",
            [taken("adjust", 112.0, 21.0, 10.0, "low"), taken("adjust", 152.0, 22.4, 100.0, "high")],
            ion="ammonium",
        ),
        ion_fit.prerequisites({"ph": False, "redox": False, "conductivity": False}),
        *(
            lambda p=p: judged(ion_fit, "no3-two", p, ion="nitrate")
            for p in (
                PAIR[:1],
                [PAIR[0], PAIR[0]],
                [taken("adjust", 100.0, 21.0, 10.0), taken("adjust", 160.0, 21.0, 100.0)],
            )
        ),
    ],
    "fitness of thermometers and chlorine": lambda: [
        judged(
            temperature_fit,
            "temp-two-points",
            [taken("check", 0.12, 0.0, 0.0, "ice"), taken("check", 22.6, 22.1, 22.1, "bath")],
        ),
        judged(
            temperature_fit,
            "temp-corrected",
            [taken("adjust", 0.12, 0.0, 0.0, "ice"), taken("adjust", 22.4, 22.1, 22.1, "bath")],
        ),
        judged(
            chlorine_fit,
            "cl-check",
            [taken("check", 1.3, 28.0, 1.5, "pool", expanded_uncertainty=0.08)],
            expanded_uncertainty=0.1,
        ),
        judged(chlorine_fit, "cl-adjust", [taken("adjust", 1.1, 28.0, 1.5, "pool", expanded_uncertainty=0.08)]),
    ],
    "ions": lambda: [
        NITRATE,
        *(
            ions.verdict(ions.IonPoint(*h), ions.IonPoint(*w), "nitrate", ions.PairLimits(50, 65, 0.5, "s"))
            for h, w in (
                ((100, 21, 100), (157, 21.4, 10)),
                ((100, 21, 100), (141, 21.8, 10)),
                ((157, 21, 100), (100, 21, 10)),
            )
        ),
        *(ions.interference(v, ion) for ion in ("nitrate", "ammonium") for v in (1000.0, 9000.0)),
        ions.explain_ammonia(1.0, 8.0, 15.0, 8.0),
        lambda: ions.fit([(112, 21, 100), (169, 21, 10), (176, 20, 10), (119, 20, 100)]),
    ],
    "logged": lambda: [
        (e := logged.ends(SERVICE, OXYGEN, 9.0)),
        logged.worst_grade(e, OXYGEN),
        logged.reported_until(e, OXYGEN),
        logged.ends(logged.Service(1880, 2000, 1427, 1413), CLOSING["conductivity"], 2000),
        logged.days_until_full(10_000, 5.0),
        lambda: logged.ends(logged.Service(1, 2, 3, 4, beside_before=1.0), OXYGEN, 9.0),
    ],
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
    ],
    "oxygen": lambda: [
        oxygen.target(14.0, 2.0, 942.0),
        oxygen.target(14.0, share=0.5),
        *(oxygen.looks_like_sea_level(p, 1200.0) for p in (1013.0, 880.0)),
    ],
    "pH": lambda: [
        ELECTRODE,
        ph.read(ELECTRODE, 60.0, 15.0, origin="calibration 3"),
        ph.read(
            ph.fit([(4.0, 20.0, 7.02)], carried=ph.Carried(0.98, "calibration 2")), 60.0, 15.0, origin="calibration 3"
        ),
        ph.verdict(ELECTRODE, LIMITS, checks=(ph.CheckPoint("9.18", -125.0, 20.0, 9.23),), early=1, expired=("N4",)),
        ph.wrong_cup(170.0, 20.0, ph.Cup("7.02", 7.02), [ph.Cup("4.00", 4.0)], ELECTRODE),
        ph.wrong_cup(-110.0, 20.0, ph.Cup("7.02", 7.02), [ph.Cup("4.00", 4.0)]),
        ph.same_cup(5.0, 4.0, [("7.02", 4.0, 7.02)], 20.0),
        ph.cup_off(-150.0, 20.0, ph.Cup("10.06", 10.06), [(4.0, 20.0, 7.02)], ELECTRODE),
        ph.label_value_used(4.01, 4.01, 4.00),
        ph.label_value_used(10.01, 10.01, 10.06),
        *(
            lambda p=p: ph.fit(p)
            for p in (
                [],
                [(0, 20, 7.0), (1, 20, 6.87)],
                [(0, 20, 7.0), (-170, 20, 4.0)],
                [(0, 20, 7.0), (2, 20, 4.0)],
                [(float("nan"), 400, 7.0)],
            )
        ),
        lambda: ph.fit([(4.0, 20.0, 7.02)], carried=ph.Carried(0.1, "calibration 2")),
        *ph.BUFFERS.values(),
    ],
    "planning": lambda: [
        planning.plan(
            [
                planning.Task("warm", 20),
                planning.Task("pH", 12, True, ("warm",)),
                planning.Task("EC", 6, True, ("warm",), 15),
            ],
            leave_min=30,
        )
    ],
    "redox and salt": lambda: [
        redox.explain(210.0, "agcl-3m", 18.0),
        *(redox.verdict(v, 221.0, 15.0, "s") for v in (221.0, 240.0, 260.0)),
        salinity.explain(900.0, 18.0),
        salinity.explain(40_000.0, 18.0),
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
    ],
    "limits": lambda: [
        against(v, u, low, high, "mg/L")
        for v, u, low, high in (
            (7, 0.1, None, None),
            (7, 0.1, 6, 9),
            (8.8, 0.05, 6, 9),
            (8.97, 0.05, 6, 9),
            (9.2, 0.05, 6, 9),
            (5, None, 6, None),
            (6.05, 0.02, 6, None),
            (-0.4, 0.1, -1.0, 0.0),
        )
    ],
    "worth": lambda: [
        *(worth("ph", ph_fit.ElectrodeFit(fit), 60.0, 15.0, 0.01) for fit in (ELECTRODE, ph.fit([(0.0, 25.0, 7.0)]))),
        *(
            worth("conductivity", fit, 640.0, 12.0, 0.5, water)
            for fit in (
                cell_fit.CellFit(1.0, 0.0, 1.0, "check"),
                judged(cell_fit, "ec-one-standard", [taken("adjust", 1300, 20, 1278)]).fit,
            )
            for water in (Water(), SALTY, Water(compensation="linear"))
        ),
        worth("redox", redox_fit.OffsetFit(4.0, -4.0, "offset"), 220.0, 12.0, 2.5),
        *(
            worth("oxygen", oxygen_fit.OxygenFit(104.0, 1.0, "gain"), 98.0, 12.0, 0.5, water)
            for water in (Water(), SALTY)
        ),
        *(
            worth("nitrate", judged(ion_fit, "no3-two", PAIR, ion="nitrate").fit, 150.0, 14.0, 0.5, water)
            for water in (Water(), Water(conductivity_25_us_cm=900.0))
        ),
        *(
            worth("temperature", temperature_fit.ThermometerFit(points, kind), 11.3, 11.3, 0.05)
            for points, kind in (
                ((), "ideal"),
                (
                    (temperature.ReferencePoint(0.3, 0.0, 0.05), temperature.ReferencePoint(20.3, 20.0, 0.05)),
                    "corrected",
                ),
            )
        ),
        worth("chlorine", chlorine_fit.ChlorineFit(1.1, 0.0, "gain"), 1.3, 28.0, 0.05),
        worth("chlorine", chlorine_fit.ChlorineFit(1.0, 0.0, "ideal"), 1.3, 28.0, 0.05, backed=False),
        lambda: worth("gold", None, 1.0, 900.0, 0.1),
    ],
    "derived": lambda: [
        *derive(
            on_sheet(
                conductivity=14_000.0,
                temperature=12.0,
                oxygen=9.0,
                redox=200.0,
                ammonium=1.0,
                ph=8.0,
                chlorine=1.5,
                total_chlorine=1.8,
            ),
            SALTY,
            raw_us_cm=10_500.0,
            tds_factor=0.65,
            electrode="agcl-3m",
        ),
        *derive(on_sheet(ammonium=1.0, ph=8.0, temperature=12.0), Water(), total_ammonia=True),
        *(
            not_stated(SheetFacts(on_sheet(**read), Water(), **more))
            for read, more in (
                (dict(redox=200.0, temperature=6.0), {"electrode": "agcl-3m"}),
                (dict(redox=200.0, temperature=20.0), {}),
                (dict(conductivity=900.0, temperature=36.0), {"raw_us_cm": 900.0}),
                (dict(conductivity=90e3, temperature=20.0), {"raw_us_cm": 85e3}),
                (dict(ammonium=1.0, ph=8.0, temperature=42.0), {}),
                (dict(chlorine=1.0, ph=7.0, temperature=60.0), {}),
            )
        ),
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
    ],
}
ELECTRODE_FIT = ph_fit.ElectrodeFit(ELECTRODE)


def plain(value):
    """What is shown of a result: figures to six digits, words with their values, errors with their field."""
    if callable(value) and not isinstance(value, type):
        try:
            return plain(value())
        except BrumelError as error:
            parts = [[plain(f.args[0]), f.field, repr(f.value)] for f in error.faults]
            return {"refused": type(error).__name__, "faults": parts}
    if isinstance(value, Sentence):
        return {k: plain(v) for k, v in as_data(value).items() if k != "template"}
    if is_dataclass(value):
        return {f.name: plain(getattr(value, f.name)) for f in fields(value)}
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, dict):
        return {k: plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple, np.ndarray)):
        return [plain(v) for v in value]
    if isinstance(value, (float, np.floating)):
        return float(f"{value:.6g}") if np.isfinite(value) else str(value)
    return value if value is None or isinstance(value, (bool, int)) else str(value)


def kept():
    """{case: its lines} of the file."""
    text = KEPT.read_text("utf-8") if KEPT.exists() else ""
    return {part.split("\n")[0]: part.strip().split("\n")[1:] for part in text.split("## ")[1:]}


@pytest.mark.parametrize("name", CASES)
def test_what_is_shown_is_what_was_shown(name):
    was, now = kept(), [json.dumps(item, ensure_ascii=False) for item in plain(CASES[name])]
    if os.environ.get("BRUMEL_WRITE_EVIDENCE"):
        whole = was | {name: now}
        KEPT.write_text("".join(f"## {key}\n" + "".join(f"{x}\n" for x in whole[key]) for key in CASES if key in whole))
        return
    assert now == was[name], "\n".join(difflib.unified_diff(was[name], now, "kept", "now", n=0, lineterm=""))
