"""What `test_evidence` shows: inputs shared by its cases, and the cases of calibrations and of what a reading is worth."""

import numpy as np

from brumel.core import conductivity, drift, ions, logged, oxygen, ph, temperature, units
from brumel.core.fitness import CalibrationPoint, JudgingTerms
from brumel.core.fitness import chlorine as chlorine_fit
from brumel.core.fitness import conductivity as cell_fit
from brumel.core.fitness import ions as ion_fit
from brumel.core.fitness import oxygen as oxygen_fit
from brumel.core.fitness import ph as ph_fit
from brumel.core.fitness import redox as redox_fit
from brumel.core.fitness import temperature as temperature_fit
from brumel.core.sheet import ReadWith, Reported, SheetFacts, Water, against, derive, not_stated, report
from brumel.core.sheet.ladders import shown_step, with_display
from brumel.core.working import Input, StepResult, Working
from brumel.methods import load_methods
from brumel.methods.checks import load_checks

METHODS = load_methods()
CLOSING = {quantity: check.criteria() for quantity, check in load_checks().closing.items()}
OXYGEN = CLOSING["oxygen"]
T = np.arange(0.0, 120.0, 0.5)
THREE = [(4.0, 7.02, 20.0), (172.5, 4.0, 20.4), (-168.0, 10.06, 19.6)]
THREE_POINTS = [(mv, t, p) for mv, p, t in THREE]
ELECTRODE = ph.fit(THREE_POINTS)
CELL = conductivity.fit_cell(
    [conductivity.CellPoint(1278.0, 20.0, 1290.0), conductivity.CellPoint(11_500.0, 20.0, 11_670.0)], air_zero_us=0.3
)
NITRATE = ions.fit([(112.0, 21.0, 100.0), (169.0, 21.0, 10.0), (176.0, 8.0, 10.0), (122.0, 8.0, 100.0)])
FRESH = Water()
LIMITS = ph.VerdictLimits(
    METHODS["ph-7-4-10"].judged_by()["slope"], METHODS["ph-7-4-10"].judged_by()["offset"], 0.05, "school", 2.0, "school"
)


def taken(role, signal, at, expected, name="", **more):
    return CalibrationPoint(name or role, role, signal, at, expected, **more)


def judged(module, method, points, **terms):
    return module.assess(points, METHODS[method].judged_by(), JudgingTerms(**terms))


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
ELECTRODE_FIT = ph_fit.ElectrodeFit(ELECTRODE)

CASES = {
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
        judged(
            ph_fit, "ph-7-4-10", [*PH_POINTS[:2], taken("check", -120.0, 12.0, 9.28, "borax")], kind="segments", early=2
        ),
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
        judged(
            cell_fit,
            "ec-one-standard",
            [taken("check", 1300.0, 20.0, 1278.0, "1413")],
            kind="check",
            before=cell_fit.CellFit(1.02, 0.4, 1.0, "one standard"),
        ),
        judged(
            cell_fit,
            "ec-one-standard",
            [taken("adjust", 1300.0, 20.0, 1278.0, "1413")],
            before=cell_fit.CellFit(1.02, 0.4, 1.0, "one standard"),
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
        lambda: NITRATE.concentration_mg_l(5000.0, 12.0),
    ],
    "logged": lambda: [
        (e := logged.ends(SERVICE, OXYGEN, 9.0)),
        logged.worst_grade(e, OXYGEN),
        logged.reported_until(e, OXYGEN),
        logged.ends(logged.Service(1880, 2000, 1427, 1413), CLOSING["conductivity"], 2000),
        logged.days_until_full(10_000, 5.0),
        lambda: logged.ends(logged.Service(1, 2, 3, 4, beside_before=1.0), OXYGEN, 9.0),
        lambda: logged.corrected("x", 0.5, e),
        lambda: logged.days_until_full(0, 5.0),
        logged.worst_grade(
            logged.ends(logged.Service(1880, 2000, 1427, 1413), CLOSING["conductivity"], 2000), CLOSING["conductivity"]
        ),
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
        ph.cup_off(-150.0, 20.0, ph.Cup("10.06", 10.06), [(4.0, 20.0, 7.02), (178.0, 20.0, 4.0)]),
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
        ph.ideal_millivolts(9.0, 18.0),
        lambda: ELECTRODE.ph(0.0, 300.0),
        lambda: ph.fit(THREE_POINTS, kind="curve"),
        ph.fit(THREE_POINTS, kind="line"),
        ph.pseudo_millivolts(9.0, 18.0),
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
        with_display(
            worth("oxygen", oxygen_fit.OxygenFit(104.0, 1.0, "gain"), 98.0, 12.0, 0.5).working,
            shown_step(
                "s", "signal", "settings off", Input("d", "display", 9.1, "mg/L"), 12.0, StepResult(98.0, "% sat", 1)
            ),
        ),
        worth("conductivity", cell_fit.CellFit(1.0, 0.0, 1.0, "check"), 640.0, 40.0, 0.5),
        *(
            lambda value=value, unit=unit: units.convert("temperature_c", value, unit, "°C", "temperature")
            for value, unit in ((68, "°F"), ("x", "°F"), (1, "hPa"))
        ),
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
        lambda: derive(on_sheet(conductivity=1.0, temperature=12.0), Water(), raw_us_cm=0.8),
        lambda: not_stated(SheetFacts(on_sheet(conductivity=1.0, temperature=12.0), Water(), raw_us_cm=0.8)),
    ],
}
