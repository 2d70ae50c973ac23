"""Sums of the water: conductivity on every scale, oxygen, which standard."""

from __future__ import annotations

from typing import cast

import numpy as np

from brumel.core import budgets, conductivity, oxygen, salinity
from brumel.core.constants.chosen import TDS_SCALES
from brumel.core.constants.defined import STANDARD_PRESSURE_HPA
from brumel.core.errors import InputError, OutOfRange, words_of
from brumel.core.sentence import Amount, say
from brumel.core.working import Ladder, StepResult, Working
from brumel.work.worksheet.model import Answer, AnswerChart, AnswerValue, ChartScale, Curve, Given, QuestionField, Sum
from brumel.work.worksheet.reading import choice, maybe, number

LANDMARKS = (
    (0.055, "pure water"),
    (20.0, "rain"),
    (150.0, "mountain stream"),
    (600.0, "ground water"),
    (1413.0, "KCl 1413"),
    (5000.0, "brackish"),
    (12880.0, "KCl 12.88 mS"),
    (53000.0, "sea"),
)


_SCALES = tuple(f"tds-{f:g}" for f in TDS_SCALES)
KINDS = (
    ("linear", "linear, a fixed share per °C"),
    ("natural", "natural water"),
    ("sea", "sea water"),
    ("none", "none: already compensated"),
)


#: What waters conduct, from rain to brine; outside it a slip of a thousand is the likelier reading [µS/cm].
ANY_WATER = (3.0, 150_000.0)


def _typed(given: Given) -> tuple[float, float, conductivity.Kind]:
    """What was typed as conductivity, temperature and compensation; a TDS goes back through its factor to 25 °C."""
    shown = choice(given, "shown")
    if shown == "conductivity":
        return number(given, "c"), number(given, "t"), cast(conductivity.Kind, choice(given, "kind"))
    factor = number(given, "factor") if shown == "tds" else float(shown.removeprefix("tds-"))
    return float(conductivity.from_tds_us_cm(number(given, "tds"), factor)), 25.0, "none"


def _conductivity(given: Given) -> Answer:
    kappa, t, kind = _typed(given)
    a = number(given, "a")
    speak: list[str] = []

    def at(reference: float) -> float:
        return float(conductivity.to_reference(kappa, t, kind=kind, coefficient_percent=a, reference_c=reference))

    k25 = at(25.0)
    label = conductivity.reference_label(kind, a, 25.0)
    values = [
        AnswerValue("specific conductance", k25, "µS/cm", 1, label),
        AnswerValue("the same", k25 / 1000, "mS/cm", 4, label),
        AnswerValue("conductivity", kappa, "µS/cm", 1, "at the sample's temperature"),
    ]
    if kind != "none":
        values.append(
            AnswerValue("specific conductance", at(20.0), "µS/cm", 1, conductivity.reference_label(kind, a, 20.0))
        )
    values += [
        AnswerValue("TDS", float(conductivity.tds_mg_l(k25, f)), "mg/L", 1, say("on the {f} scale", f=Amount(f)))
        for f in TDS_SCALES
    ]
    workings: list[Working] = [
        conductivity.explain(kappa, t, kind=kind, coefficient_percent=a, tds_factor=TDS_SCALES[0]).working
    ]
    try:
        worked = salinity.explain(kappa, t if kind != "none" else 25.0)
        values.append(AnswerValue("practical salinity", worked.value, "", 2, "PSS-78"))
        values.append(AnswerValue("of sea water", float(salinity.percent_of_sea_water(worked.value)), "%", 1))
        values.append(
            AnswerValue(
                "salt", float(salinity.reference_salinity_g_kg(worked.value)), "g/kg", 2, "of sea-salt composition"
            )
        )
        workings.append(worked.working)
    except InputError as error:
        speak.append(f"No salinity: {error}")
    try:
        values.append(
            AnswerValue("as sodium chloride", float(salinity.nacl_mg_l(k25)), "mg/L", 0, "would conduct as much")
        )
    except OutOfRange:
        speak.append("No figure as sodium chloride: outside 62 to 85 760 µS/cm at 25 °C.")
    if k25 > 0:
        values.append(AnswerValue("resistivity", float(conductivity.resistivity_kohm_cm(k25)), "kΩ·cm", 3))
    usual = maybe(given, "usual")
    if usual is not None:
        slip = conductivity.slip(k25, (usual / 5, usual * 5))
        if slip:
            speak.insert(0, slip)
        elif not usual / 5 <= k25 <= usual * 5:
            speak.insert(
                0,
                say(
                    "{k25} is far from the {usual} expected, but not by a thousand.",
                    k25=Amount(k25, "µS/cm", ".4g"),
                    usual=Amount(usual),
                ),
            )
    elif slip := conductivity.slip(k25, ANY_WATER):
        speak.insert(0, slip)
    speak.append("Three different “ppm” of one water: a TDS is only a value with its factor beside it.")
    scale = ChartScale("where this water stands", "µS/cm at 25 °C", 0.05, 100_000, LANDMARKS, max(k25, 0.05))
    return Answer(tuple(values), tuple(workings), tuple(speak), scale)


def _pressure(given: Given) -> tuple[float, str, list[str]]:
    """Station pressure by the way it was given, with its words and what is odd about it."""
    way = choice(given, "way")
    if way == "altitude":
        h = number(given, "altitude")
        return float(oxygen.station_pressure_hpa(h)), say("standard atmosphere at {h}", h=Amount(h, "m", ".0f")), []
    if way == "weather":
        h = number(given, "altitude")
        station_hpa = float(oxygen.station_from_sea_level_hpa(number(given, "pressure"), h))
        return station_hpa, say("weather report brought up to {h}", h=Amount(h, "m", ".0f")), []
    p = number(given, "pressure")
    h = maybe(given, "altitude") or 0.0
    odd = oxygen.looks_like_sea_level(p, h) if h else ""
    return p, "station pressure as read", [odd] if odd else []


def _oxygen(given: Given) -> Answer:
    t, s = number(given, "t"), number(given, "s")
    p, words, speak = _pressure(given)
    target = oxygen.target(t, s, p)
    values = [
        AnswerValue("oxygen at saturation here", target.worked.value, "mg/L", 2),
        AnswerValue("station pressure", p, "hPa", 1, words),
        AnswerValue("that is", target.percent_standard, "%", 1, "of saturation at 1013.25 hPa"),
        AnswerValue(
            "by Garcia and Gordon, at 1013.25 hPa",
            float(oxygen.saturation_mg_l_gg92(t, s)),
            "mg/L",
            2,
            "the alternative",
        ),
    ]
    read = maybe(given, "read")
    if read is not None:
        budget = budgets.oxygen_budget(read, t, s, p)
        values += [
            AnswerValue(
                "reading's uncertainty, k = 2",
                budget.expanded_uncertainty,
                "mg/L",
                2,
                "set in air here; 0.1 °C, 1 hPa, settled",
            ),
            AnswerValue(
                "reading", float(oxygen.percent_saturation(read, t, s, p)), "%", 1, "of saturation at this pressure"
            ),
            AnswerValue(
                "reading",
                float(oxygen.percent_saturation(read, t, s, p, relative_to="standard")),
                "%",
                1,
                "of saturation at 1013.25 hPa",
            ),
        ]
        if read > 1.4 * target.worked.value:
            speak.append("Over 140 % of saturation: plants in light, falling water, or a wet tip.")
        preset_s, preset_p = maybe(given, "s0"), maybe(given, "p0")
        if preset_s is not None or preset_p is not None:
            put_right = float(
                oxygen.recompute_mg_l(
                    read,
                    t,
                    salinity=s,
                    pressure_hpa=p,
                    preset_salinity=preset_s or 0.0,
                    preset_pressure_hpa=preset_p or STANDARD_PRESSURE_HPA,
                )
            )
            values.append(
                AnswerValue(
                    "reading with the real salinity and pressure", put_right, "mg/L", 2, "the meter's presets taken out"
                )
            )
    grid = np.linspace(0, 40, 60)
    levels = sorted({0.0, 10.0, 20.0, 35.0, round(s, 1)})
    curves = tuple(
        Curve(
            f"S {level:g}",
            [float(x) for x in grid],
            [float(y) for y in np.asarray(oxygen.saturation_mg_l(grid, level, p))],
            abs(level - s) < 0.06,
        )
        for level in levels
    )
    chart = AnswerChart(
        say("oxygen at saturation, {p}", p=Amount(p, "hPa", ".0f")),
        "°C",
        "mg/L",
        curves,
        ((t, target.worked.value, f"{target.worked.value:.2f}"),),
    )
    return Answer(tuple(values), (target.worked.working,), tuple(speak), chart)


def _standard(given: Given) -> Answer:
    expected = number(given, "expected")
    choice = conductivity.choose_standard(expected)
    t = number(given, "t")
    values = [
        AnswerValue("take", choice.standard.nominal_us_cm, "µS/cm", 0, choice.standard.name),
        AnswerValue("cell constant made for it", conductivity.nominal_cell_constant(expected), "1/cm", 1),
    ]
    speak = [choice.sentence]
    ladder = Ladder("Which standard, and what it reads in the cup")
    ladder.step("κ", "the site usually reads", "as given", StepResult(expected, "µS/cm at 25 °C", digits=0))
    try:
        there = float(conductivity.standard_us_cm(choice.standard, t))
        values.insert(
            1,
            AnswerValue(
                "it reads in the cup", there, "µS/cm", 1, say("uncompensated, at {t}", t=Amount(t, "°C", ".1f"))
            ),
        )
        ladder.step(
            "κstd",
            f"{choice.standard.name} at the cup's temperature",
            "table, linear in T",
            StepResult(there, "µS/cm", digits=1),
            choice.standard.source.split(",")[0],
            ("T", "cup temperature", t, "°C"),
        )
    except OutOfRange as error:
        speak.append(words_of(error))
    full, percent = maybe(given, "full"), maybe(given, "percent")
    if full is not None and percent is not None:
        plus, relative = conductivity.accuracy_us_cm(expected, percent_full_scale=percent, full_scale_us_cm=full)
        values.append(
            AnswerValue(
                "the instrument's ± there",
                plus,
                "µS/cm",
                1,
                say("{relative} of the reading", relative=Amount(relative, "%", ".1f")),
            )
        )
        ladder.step(
            "±",
            "share of full scale made absolute",
            "% of full scale · full scale",
            StepResult(plus, "µS/cm", digits=1),
            "",
            ("full", "full scale", full, "µS/cm"),
            ("%", "share", percent, "%"),
        )
    speak.append("Calibrate on the uncompensated value, so that no compensation error enters the cell constant.")
    scale = ChartScale(
        "site and standard",
        "µS/cm at 25 °C",
        0.05,
        200_000,
        ((choice.standard.nominal_us_cm, choice.standard.name), (0.055, "pure water"), (53000.0, "sea")),
        max(expected, 0.05),
    )
    return Answer(tuple(values), (ladder.done(),), tuple(speak), scale)


SUMS = (
    Sum(
        "conductivity",
        "Conductivity on every scale",
        "What is this water in each of the trade's scales?",
        (
            QuestionField(
                "shown",
                "The display shows",
                "conductivity",
                choices=(
                    ("conductivity", "conductivity"),
                    *((f"tds-{f:g}", say("ppm or mg/L of TDS, factor {f}", f=Amount(f))) for f in TDS_SCALES),
                    ("tds", "ppm or mg/L of TDS, another factor"),
                ),
            ),
            QuestionField(
                "c",
                "Conductivity, uncompensated",
                "498",
                "conductivity",
                "µS/cm",
                only_for=("shown", ("conductivity",)),
            ),
            QuestionField(
                "t", "Sample temperature", "12.4", "temperature", "°C", only_for=("shown", ("conductivity",))
            ),
            QuestionField("tds", "TDS", "412", "dissolved solids", "mg/L", only_for=("shown", (*_SCALES, "tds"))),
            QuestionField("factor", "Its factor", "0.55", only_for=("shown", ("tds",))),
            QuestionField("kind", "Compensation", "linear", choices=KINDS),
            QuestionField("a", "Coefficient, %/°C", "2.0", only_for=("kind", ("linear",))),
            QuestionField("usual", "It usually reads about", "", "conductivity", "µS/cm", optional=True),
        ),
        "Linear while the denominator stays above 0.1; natural water 0 to 35 °C; PSS-78 to salinity 42.",
        ("EN27888", "PSS78", "Hill1986", "common practice, no source"),
        _conductivity,
    ),
    Sum(
        "oxygen",
        "What oxygen should read here",
        "How much oxygen does saturated water hold here?",
        (
            QuestionField("t", "Water temperature", "14", "temperature", "°C"),
            QuestionField("s", "Salinity", "0"),
            QuestionField(
                "way",
                "Pressure is",
                "altitude",
                choices=(
                    ("altitude", "taken from the altitude"),
                    ("station", "station pressure, measured"),
                    ("weather", "from a weather report (sea level)"),
                ),
            ),
            QuestionField("altitude", "Altitude", "612", "length", "m", optional=True),
            QuestionField(
                "pressure", "Pressure", "1013.25", "pressure", "hPa", only_for=("way", ("station", "weather"))
            ),
            QuestionField("read", "A reading, mg/L", "9.1", optional=True),
            QuestionField("s0", "The meter's preset salinity", "", optional=True),
            QuestionField("p0", "The meter's preset pressure", "", "pressure", "hPa", optional=True),
        ),
        "0 to 40 °C, salinity 0 to 42, 500 to 1100 hPa.",
        ("BK84", "GG92", "ISA"),
        _oxygen,
        ("Never stop aeration on a reading that is doubtful or without a valid calibration.",),
    ),
    Sum(
        "standard",
        "Which conductivity standard",
        "Which standard brackets what this site reads?",
        (
            QuestionField("expected", "The site usually reads", "640", "conductivity", "µS/cm"),
            QuestionField("t", "Cup temperature", "18", "temperature", "°C"),
            QuestionField("full", "Instrument's full scale", "", "conductivity", "µS/cm", optional=True),
            QuestionField("percent", "Its accuracy, % of full scale", "", optional=True),
        ),
        "Tables 5 to 30 °C (111.8 mS: 0 to 25 °C).",
        ("from memory", "OIML-R56"),
        _standard,
    ),
)
