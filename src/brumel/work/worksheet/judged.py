"""Sums that judge: ammonia, chlorine, saturation index, two instruments, the closing check, a thermometer."""

from __future__ import annotations

import numpy as np

from brumel.core import agreement, chlorine, drift, ions, stabiliser, temperature
from brumel.core.errors import InputError
from brumel.core.sentence import Amount, say
from brumel.core.verdict import CriterionRow, Outcome, Verdict
from brumel.core.working import Ladder, StepResult
from brumel.methods.checks import load_checks
from brumel.work.worksheet.model import Answer, AnswerChart, AnswerValue, Curve, Given, QuestionField, Sum
from brumel.work.worksheet.reading import choice, maybe, number

GRID = np.linspace(5.5, 10.5, 80)


def _share_chart(title: str, y: np.ndarray, mark: tuple[float, float]) -> AnswerChart:
    curve = Curve("", [float(v) for v in GRID], [float(v) for v in y], True)
    marks = ((mark[0], mark[1], f"{mark[1]:.1f} %"),) if GRID[0] <= mark[0] <= GRID[-1] else ()
    return AnswerChart(title, "pH", "%", (curve,), marks)


def _ammonia(given: Given) -> Answer:
    tan, ph, t, s = (number(given, k) for k in ("tan", "ph", "t", "s"))
    total = float(ions.as_nitrogen_mg_l(tan)) if choice(given, "as") == "NH4" else tan
    worked = ions.explain_ammonia(total, ph, t, s)
    share = float(ions.unionised_ammonia_fraction(ph, t, s)) * 100
    curve = np.asarray(ions.unionised_ammonia_fraction(GRID, t, s)) * 100
    speak = ["It rises about tenfold with each unit of pH: an afternoon's pH makes a harmless ammonia harmful."]
    if s > 0:
        speak.append("With salt the constant is on the total scale; a field pH differs from it by up to about 0.1.")
    return Answer(
        (
            AnswerValue("un-ionised ammonia", worked.value, "mg/L as N", 4),
            AnswerValue("share", share, "%", 2),
            AnswerValue("total ammonia nitrogen", total, "mg/L as N", 3),
            AnswerValue("pKa here", float(ions.ammonia_pka(t, s)), "", 3),
        ),
        (worked.working,),
        tuple(speak),
        _share_chart("un-ionised share over pH", curve, (ph, share)),
    )


def _chlorine(given: Given) -> Answer:
    total, free, ph, t = (number(given, k) for k in ("total", "free", "ph", "t"))
    if acid := maybe(given, "cya"):
        return _stabilised(given, acid)
    worked = chlorine.explain(total, free, ph, t)
    share = float(chlorine.hypochlorous_fraction(ph, t)) * 100
    curve = np.asarray(chlorine.hypochlorous_fraction(GRID, t)) * 100
    return Answer(
        (
            AnswerValue("combined chlorine", worked.value, "mg/L", 2),
            AnswerValue("hypochlorous share of the free", share, "%", 1),
            AnswerValue(
                "as hypochlorous acid", share / 100 * free, "mg/L", 2, "the part that disinfects, without stabiliser"
            ),
            AnswerValue("pKa here", float(chlorine.hypochlorous_pka(t)), "", 2),
        ),
        (worked.working,),
        ("A stabiliser holds most of the free chlorine back: give its cyanuric acid where there is any.",),
        _share_chart("hypochlorous share over pH", curve, (ph, share)),
    )


#: Where pH of a stabilised pool is drawn.
_POOL_GRID = np.linspace(6.2, 8.8, 60)


def _stabilised(given: Given, acid: float) -> Answer:
    """The same beside cyanuric acid: what is held back, and how little of the free chlorine disinfects."""
    total, free, ph, t = (number(given, k) for k in ("total", "free", "ph", "t"))
    combined = chlorine.combined_mg_l(total, free)
    parts, worked = stabiliser.free_parts(free, acid, ph, t), stabiliser.explain(free, acid, ph, t)
    curve = [stabiliser.free_parts(free, acid, float(p), t).hypochlorous_mg_l for p in _POOL_GRID]
    marks = ((ph, parts.hypochlorous_mg_l, f"{parts.hypochlorous_mg_l:.3f} mg/L"),)
    drawn = Curve("", [float(p) for p in _POOL_GRID], curve, True)
    share = 100 * parts.hypochlorous_mg_l / free if free else 0.0
    return Answer(
        (
            AnswerValue("hypochlorous acid", parts.hypochlorous_mg_l, "mg/L", 3, "the part that disinfects"),
            AnswerValue("combined chlorine", combined, "mg/L", 2),
            AnswerValue("held by the stabiliser", parts.bound_mg_l, "mg/L", 2),
            AnswerValue("hypochlorous share of the free", share, "%", 1),
        ),
        (worked.working,),
        (
            "Beside a stabiliser the ratio of free chlorine to it moves the hypochlorous acid more than pH does.",
            "The stabiliser's constants are those of 25 °C, from memory: take the third figure for a guide.",
        ),
        AnswerChart("hypochlorous acid over pH", "pH", "mg/L", (drawn,), marks),
    )


def _index(given: Given) -> Answer:
    ph, t, ca, total_alk, tds = (number(given, k) for k in ("ph", "t", "ca", "alk", "tds"))
    acid = maybe(given, "cya") or 0.0
    cyanurate = stabiliser.cyanurate_alkalinity(acid, ph)
    if cyanurate >= total_alk:
        told = say(
            "{acid} of cyanuric acid alone makes {part} of alkalinity, more than the total of {total}.",
            acid=Amount(acid, "mg/L", ".0f"),
            part=Amount(cyanurate, "mg/L", ".0f"),
            total=Amount(total_alk, "mg/L", ".0f"),
        )
        raise InputError("alk", told, value=total_alk)
    alk = total_alk - cyanurate
    worked = chlorine.saturation_index(ph, t, ca, alk, tds)
    words = (
        "may deposit lime" if worked.value > 0.3 else "may dissolve lime" if worked.value < -0.3 else "is near balance"
    )
    grid = np.linspace(max(4.0, ph - 1.2), min(11.0, ph + 1.2), 40)
    y = [chlorine.saturation_index(float(p), t, ca, alk, tds).value for p in grid]
    chart = AnswerChart(
        "index over pH",
        "pH",
        "index",
        (Curve("", [float(v) for v in grid], y, True),),
        ((ph, worked.value, f"{worked.value:+.2f}"),),
        (-0.3, 0.3),
    )
    saturated = worked.working.steps[-2].result
    return Answer(
        (
            AnswerValue("saturation index", worked.value, "", 2),
            AnswerValue("pH at saturation", saturated, "", 2),
            AnswerValue(
                "carbonate alkalinity", alk, "mg/L as CaCO3", 0, "total less cyanurate" if acid else "as given"
            ),
        ),
        (worked.working,),
        (f"This water {words} (±0.3 taken as balance: common practice, no source).",),
        chart,
    )


def _compare(given: Given) -> Answer:
    unit, first_of, second_of = (choice(given, k) for k in ("unit", "of_a", "of_b"))
    a = agreement.Measured(number(given, "a"), number(given, "ua"), unit, first_of)
    b = agreement.Measured(number(given, "b"), number(given, "ub"), unit, second_of)
    comparison = agreement.compare(a, b)
    row = CriterionRow(
        "en",
        "normalised error, without its sign",
        abs(comparison.en),
        "",
        "up to 1",
        Outcome.FIT if comparison.agree else Outcome.NOT,
        "ISO13528",
        "they agree" if comparison.agree else "they do not agree",
        2,
    )
    chart = AnswerChart(
        "both with their uncertainty",
        "",
        unit or "value",
        (),
        ((1.0, a.value, "first"), (2.0, b.value, "second")),
        None,
        ((1.0, a.value, a.expanded_uncertainty), (2.0, b.value, b.expanded_uncertainty)),
    )
    return Answer(
        (
            AnswerValue("normalised error En", comparison.en, "", 2, "agree when within ±1"),
            AnswerValue("difference", comparison.difference, unit, 3),
            AnswerValue("relative percent difference", comparison.relative_percent, "%", 2),
        ),
        (comparison.working,),
        (comparison.sentence,),
        chart,
        Verdict((row,)),
    )


def _closing(given: Given) -> Answer:
    quantity = choice(given, "quantity")
    limits = load_checks().closing[quantity]
    criteria = limits.criteria()
    hours, end = number(given, "at"), number(given, "end")
    check = drift.StandardCheck(end * 3600, number(given, "closed"), number(given, "expected"))
    judged = drift.effect(criteria, number(given, "value"), hours * 3600, check, 0.0)
    unit = criteria.unit if quantity != "ph" else ""
    outcome = {"bracketed": Outcome.FIT, "corrected": Outcome.CARE, "not reported": Outcome.NOT}[judged.state]
    share = max(min(hours / end, 1.0), 0.0) if end > 0 else 0.0
    chart = AnswerChart(
        "the error spread over the time",
        "hours since the calibration",
        f"error, {criteria.unit}",
        (Curve("linear in time", [0.0, end], [0.0, check.error], True),),
        ((hours, check.error * share, "this reading"),),
        (-criteria.holds, criteria.holds),
    )
    rule = say("holds within ±{holds}", holds=Amount(criteria.holds, criteria.unit, difference=True))
    if criteria.holds_percent:
        rule += say(" or ±{holds}, whichever is greater", holds=Amount(criteria.holds_percent, "%"))
    words = {
        "bracketed": f"The probe held ({rule}); the reading is bracketed.",
        "corrected": f"The probe did not hold ({rule}); corrected in time, graded {judged.grade}.",
        "not reported": "The correction is beyond the largest allowed; the value is not reported.",
    }[judged.state]
    return Answer(
        (
            AnswerValue(
                "value to report", None if judged.state == "not reported" else judged.after, unit, 3, judged.state
            ),
            AnswerValue("as read", judged.before, unit, 3),
            AnswerValue("correction", judged.after - judged.before, unit, 3, judged.grade),
            AnswerValue("error at the closing check", check.error, unit, 3),
        ),
        (judged.worked.working,),
        (words, "A correction is a new version with its reason; the lead decides."),
        chart,
        Verdict(
            (
                CriterionRow(
                    "closing",
                    "error at the closing check",
                    check.error,
                    unit,
                    rule,
                    outcome,
                    limits.source,
                    judged.grade,
                    3,
                ),
            )
        ),
    )


def _thermometer(given: Given) -> Answer:
    limit = load_checks().temperature["tolerance"]
    points = [temperature.ReferencePoint(number(given, "shown1"), number(given, "ref1"))]
    shown2, ref2 = maybe(given, "shown2"), maybe(given, "ref2")
    if shown2 is not None and ref2 is not None:
        points.append(temperature.ReferencePoint(shown2, ref2))
    judged = temperature.verdict(points, limit.value, limit.source)
    ladder = Ladder("Does the thermometer hold?")
    for p, row in zip(points, judged.rows, strict=True):
        ladder.step(
            "e",
            row.criterion,
            "shown − reference",
            StepResult(row.value or 0.0, "°C", digits=2),
            limit.source,
            ("shown", "shown", p.shown_c, "°C"),
            ("ref", "reference", p.reference_c, "°C"),
        )
    values = [
        AnswerValue(row.criterion, row.value, "°C", 2, f"{row.limit}: {row.outcome.words}") for row in judged.rows
    ]
    speak = (
        []
        if judged.outcome.value == "fit"
        else ["A thermometer that fails casts doubt on every run made with that sensor."]
    )
    return Answer(tuple(values), (ladder.done(),), tuple(speak), verdict=judged)


SUMS = (
    Sum(
        "ammonia",
        "Un-ionised ammonia",
        "How much of this ammonia is the toxic part?",
        (
            QuestionField("tan", "Total ammonia", "0.6", "mass per volume", "mg/L"),
            QuestionField("as", "Stated as", "N", choices=(("N", "nitrogen (N)"), ("NH4", "ammonium (NH4)"))),
            QuestionField("ph", "pH", "7.8"),
            QuestionField("t", "Water temperature", "11", "temperature", "°C"),
            QuestionField("s", "Salinity", "0"),
        ),
        "0 to 50 °C in fresh water; with salt to 40 °C and salinity 40.",
        ("Emerson1975", "Clegg1995"),
        _ammonia,
        ("Limits for fish are set by licensed people; never stop aeration on a doubtful reading.",),
    ),
    Sum(
        "chlorine",
        "Free, total, combined",
        "What is this chlorine, and how much of it works?",
        (
            QuestionField("total", "Total chlorine", "1.6", "mass per volume", "mg/L"),
            QuestionField("free", "Free chlorine", "1.2", "mass per volume", "mg/L"),
            QuestionField("ph", "pH", "7.4"),
            QuestionField("t", "Water temperature", "29", "temperature", "°C"),
            QuestionField(
                "cya", "Cyanuric acid, where there is a stabiliser", "", "mass per volume", "mg/L", optional=True
            ),
        ),
        "0 to 50 °C; beside cyanuric acid 10 to 40 °C and pH 6 to 9, by constants of 25 °C.",
        ("Morris1966", "SM4500", "Obrien1974"),
        _chlorine,
        ("Acid and chlorine products never together. Pool limits are set by local codes.",),
    ),
    Sum(
        "index",
        "Saturation index",
        "Will this water deposit or dissolve lime?",
        (
            QuestionField("ph", "pH", "7.4"),
            QuestionField("t", "Water temperature", "29", "temperature", "°C"),
            QuestionField("ca", "Calcium hardness", "220", "hardness", "mg/L as CaCO3"),
            QuestionField("alk", "Total alkalinity", "90", "hardness", "mg/L as CaCO3"),
            QuestionField("tds", "TDS", "900", "mass per volume", "mg/L"),
            QuestionField(
                "cya", "Cyanuric acid, where there is a stabiliser", "", "mass per volume", "mg/L", optional=True
            ),
        ),
        "0 to 50 °C, ionic strength to 0.5 mol/L; alkalinity less cyanurate taken as bicarbonate.",
        ("SM2330", "Obrien1974"),
        _index,
    ),
    Sum(
        "compare",
        "Two instruments, one water",
        "Do these two agree?",
        (
            QuestionField("a", "First", "8.06"),
            QuestionField("ua", "Its uncertainty, k = 2", "0.05"),
            QuestionField("b", "Second", "7.98"),
            QuestionField("ub", "Its uncertainty, k = 2", "0.04"),
            QuestionField(
                "unit", "Unit of both", "pH", choices=tuple((u, u) for u in ("pH", "µS/cm", "mg/L", "°C", "mV", "%"))
            ),
            QuestionField(
                "of_a",
                "The first is",
                "at its own temperature",
                choices=(
                    _OF := tuple(
                        (w, w)
                        for w in (
                            "at its own temperature",
                            "at 25 °C",
                            "at 20 °C",
                            "free",
                            "total",
                            "of local saturation",
                            "of standard saturation",
                        )
                    )
                ),
            ),
            QuestionField("of_b", "The second is", "at its own temperature", choices=_OF),
        ),
        "Like with like: the same unit, reference temperature and meaning.",
        ("ISO13528", "GUM"),
        _compare,
    ),
    Sum(
        "closing",
        "Closing check",
        "What was this day's reading worth?",
        (
            QuestionField(
                "quantity",
                "Quantity",
                "ph",
                choices=(
                    ("ph", "pH"),
                    ("conductivity", "conductivity, µS/cm"),
                    ("oxygen", "oxygen, mg/L"),
                    ("temperature", "temperature, °C"),
                ),
            ),
            QuestionField("value", "The reading", "7.42"),
            QuestionField("at", "Hours after the calibration", "4"),
            QuestionField("end", "Closing check after, hours", "9"),
            QuestionField("closed", "It read in the standard", "7.35"),
            QuestionField("expected", "The standard is", "7.01"),
        ),
        "One closing standard, error linear in time.",
        ("USGS-TM1D3",),
        _closing,
    ),
    Sum(
        "thermometer",
        "Thermometer check",
        "Does the thermometer hold?",
        (
            QuestionField("shown1", "It shows", "0.1", "temperature", "°C"),
            QuestionField("ref1", "The reference shows", "0.0", "temperature", "°C"),
            QuestionField("shown2", "It shows, second point", "20.2", "temperature", "°C", optional=True),
            QuestionField("ref2", "The reference shows", "20.1", "temperature", "°C", optional=True),
        ),
        "Within ±0.2 °C of a reference thermometer.",
        ("USGS-A6.1",),
        _thermometer,
    ),
)
