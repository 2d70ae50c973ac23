"""Sums of the electrodes: buffer, mV to pH, ORP, ion pair."""

from __future__ import annotations

import numpy as np

from brumel.core import ions, ph, redox
from brumel.core.constants.measured import HALF_CELL_NAMES
from brumel.core.ph.buffers import BUFFERS
from brumel.core.quantity_table import IONS
from brumel.core.sentence import Amount, say
from brumel.core.verdict import Verdict
from brumel.core.working import Ladder, StepResult
from brumel.methods import load_method
from brumel.methods.checks import load_checks
from brumel.work.worksheet.model import Answer, AnswerChart, AnswerValue, Curve, Given, QuestionField, Sum
from brumel.work.worksheet.reading import choice, number

TEMPERATURE = QuestionField("t", "Temperature", "14", "temperature", "°C")


ELECTRODE = QuestionField("electrode", "Reference electrode", "agcl-3.5m", choices=tuple(HALF_CELL_NAMES.items()))


def _line(a: np.ndarray, b: np.ndarray) -> tuple[list[float], list[float]]:
    return [float(v) for v in a], [float(v) for v in b]


def _buffer(given: Given) -> Answer:
    table, t = BUFFERS[choice(given, "buffer")], number(given, "t")
    value = float(ph.buffer_ph(table, t))
    ladder = Ladder("What this buffer should read")
    ladder.step(
        "pH",
        f"{table.name} at the cup's temperature",
        "table, linear between its temperatures",
        StepResult(value, "", digits=3 if table.source == "Buck2002" else 2),
        table.source,
        ("T", "cup temperature", t, "°C"),
        ("pH25", "value at 25 °C", table.nominal_ph, ""),
    )
    speak: list[str] = []
    if abs(value - table.nominal_ph) >= 0.02:
        speak.append(
            say(
                "The label's {nominal} is for 25 °C; at {t} set {value}.",
                nominal=Amount(table.nominal_ph, "", ".2f"),
                t=Amount(t, "°C", ".1f"),
                value=Amount(value, "", ".2f"),
            )
        )
    if table.note:
        speak.append(table.note.capitalize() + ".")
    grid = np.linspace(table.temperatures_c[0], table.temperatures_c[-1], 60)
    x, y = _line(grid, np.asarray(ph.buffer_ph(table, grid)))
    chart = AnswerChart(
        "pH over temperature", "°C", "pH", (Curve(table.name, x, y, True),), ((t, value, f"{value:.2f}"),)
    )
    return Answer(
        (
            AnswerValue("pH at this temperature", value, "", 3 if table.source == "Buck2002" else 2),
            AnswerValue("on the label, at 25 °C", table.nominal_ph, "", 2),
            AnswerValue("uncertainty, k = 2", table.expanded_uncertainty_ph, "pH", 2),
        ),
        (ladder.done(),),
        tuple(speak),
        chart,
    )


def _to_ph(given: Given) -> Answer:
    mv, t = number(given, "mv"), number(given, "t")
    slope, offset = number(given, "slope"), number(given, "offset")
    k25 = float(ph.nernst_slope_mv(25.0))
    points = [(offset - slope / 100 * k25 * (p - 7.0), 25.0, p) for p in (4.0, 10.0)]
    read = ph.read(ph.fit(points), mv, t, origin="slope and offset as typed")
    method = load_method("ph-7-4-10")
    speak: list[str] = []
    if method:
        for name, key, value in (("Slope", "slope", slope), ("Offset", "offset", offset)):
            judged = method.band(key).band().judge(value)
            if judged.value != "fit":
                speak.append(
                    say(
                        "{name} {value} is “{words}” by the default limits.",
                        name=name,
                        value=Amount(value),
                        words=judged.words,
                    )
                )
    fan = []
    grid = np.array([2.0, 12.0])
    for percent in (85.0, 92.0, 100.0):
        y = -percent / 100 * float(ph.nernst_slope_mv(t)) * (grid - 7)
        fan.append(Curve(f"{percent:g} %", *_line(grid, y)))
    mine = offset - slope / 100 * float(ph.nernst_slope_mv(t)) * (grid - 7)
    fan.append(Curve("this electrode", *_line(grid, mine), bold=True))
    chart = AnswerChart(
        say("the Nernst fan at {t}", t=Amount(t, "°C", ".1f")),
        "pH",
        "mV",
        tuple(fan),
        ((read.value, mv, f"pH {read.value:.2f}"),),
    )
    return Answer(
        (
            AnswerValue("pH of the sample, at its own temperature", read.value, "", 2),
            AnswerValue("uncertainty, k = 2", read.budget.expanded_uncertainty, "pH", 2, "with 0.3 mV and 0.1 °C"),
            AnswerValue("ideal slope there", float(ph.nernst_slope_mv(t)), "mV/pH", 2),
        ),
        (read.working,),
        tuple(speak),
        chart,
    )


def _orp(given: Given) -> Answer:
    orp, t, electrode = number(given, "orp"), number(given, "t"), choice(given, "electrode")
    worked = redox.explain(orp, electrode, t)
    values = [
        AnswerValue("Eh, against the standard hydrogen electrode", worked.value, "mV", 0),
        AnswerValue("half-cell there", worked.value - orp, "mV", 0, HALF_CELL_NAMES[electrode]),
    ]
    speak = ["Report an ORP always with its reference electrode named; 40 mV lie between two of them."]
    standard = choice(given, "standard")
    if standard == "zobell":
        should = float(redox.expected_mv(redox.zobell_mv(t), electrode, t))
    elif standard == "quinhydrone-7":
        should = float(redox.expected_mv(redox.quinhydrone_mv(7.0, t), electrode, t))
    elif standard == "quinhydrone-4":
        should = float(redox.expected_mv(redox.quinhydrone_mv(4.0, t), electrode, t))
    else:
        return Answer(tuple(values), (worked.working,), tuple(speak))
    limit = load_checks().redox["tolerance"]
    judged = redox.verdict(orp, should, limit.value, limit.source)
    values += [
        AnswerValue("should read in that standard", should, "mV", 0),
        AnswerValue("error", orp - should, "mV", 0),
    ]
    return Answer(tuple(values), (worked.working,), tuple(speak), verdict=judged)


def _pair(given: Given) -> Answer:
    ion = choice(given, "ion")
    high = ions.IonPoint(number(given, "high_mv"), number(given, "high_t"), number(given, "high_c"))
    low = ions.IonPoint(number(given, "low_mv"), number(given, "low_t"), number(given, "low_c"))
    judged = ions.pair(high, low)
    limits = load_checks().ions
    verdict: Verdict = ions.verdict(
        high,
        low,
        ion,
        ions.PairLimits(
            limits["gap_low"].value, limits["gap_high"].value, limits["apart"].value, limits["gap_low"].source
        ),
    )
    ladder = Ladder("Is the pair sound?")
    ladder.step("ΔE", "gap as read", "|E high − E low|", StepResult(judged.gap_mv, "mV", digits=1), "reading")
    ladder.step(
        "ΔE25",
        "gap at 25 °C and 10:1",
        "ΔE / log10(ratio) · 298.15 / T",
        StepResult(judged.normalised_mv, "mV", digits=1),
        "common practice, no source",
        ("decades", "log10 of the ratio", judged.decades, ""),
        ("T", "temperature of the pair", (high.temperature_c + low.temperature_c) / 2, "°C"),
    )
    values = [
        AnswerValue("gap at 25 °C and 10:1", judged.normalised_mv, "mV", 1),
        AnswerValue("gap as read", judged.gap_mv, "mV", 1),
        AnswerValue("temperatures apart", abs(high.temperature_c - low.temperature_c), "°C", 2),
    ]
    chart = None
    if all(r.outcome.value != "not" or r.key != "sign" for r in verdict.rows):
        fitted = ions.fit([high, low], ion=ion)
        values.insert(1, AnswerValue("slope at 25 °C", fitted.slope_mv_per_decade, "mV/decade", 1))
        logs = [float(np.log10(p.concentration_mg_l)) for p in (low, high)]
        ideal = low.millivolts + np.sign(fitted.slope_mv_per_decade) * float(ph.nernst_slope_mv(low.temperature_c)) * (
            np.array(logs) - logs[0]
        )
        chart = AnswerChart(
            "the pair against Nernst's law",
            "log10 of mg/L",
            "mV",
            (
                Curve("ideal", logs, [float(v) for v in ideal]),
                Curve("this tip", logs, [low.millivolts, high.millivolts], True),
            ),
            tuple((x, p.millivolts, f"{p.millivolts:.1f}") for x, p in zip(logs, (low, high), strict=True)),
        )
    return Answer(tuple(values), (ladder.done(),), (), chart, verdict)


SUMS = (
    Sum(
        "buffer",
        "Buffer at its temperature",
        "What should this buffer read in the cup?",
        (
            QuestionField("buffer", "Buffer", "7.01", choices=tuple((b.key, b.name) for b in BUFFERS.values())),
            TEMPERATURE,
        ),
        "Inside the table's temperatures; a lot's own label wins over every table.",
        ("Buck2002", "from memory"),
        _buffer,
    ),
    Sum(
        "ph",
        "mV to pH",
        "What pH does this signal mean?",
        (
            QuestionField("mv", "Signal", "62.4", "potential", "mV"),
            TEMPERATURE,
            QuestionField("slope", "Slope, %", "98"),
            QuestionField("offset", "Offset at pH 7", "3", "potential", "mV"),
        ),
        "−5 to 105 °C; in water under 100 µS/cm pH is slow and uncertain.",
        ("CODATA", "Buck2002", "GUM"),
        _to_ph,
    ),
    Sum(
        "orp",
        "ORP to Eh, and ORP standards",
        "What is this against the standard hydrogen electrode?",
        (
            QuestionField("orp", "ORP as read", "228", "potential", "mV"),
            TEMPERATURE,
            ELECTRODE,
            QuestionField(
                "standard",
                "Read in",
                "water",
                choices=(
                    ("water", "a water"),
                    ("zobell", "Zobell's solution"),
                    ("quinhydrone-7", "quinhydrone in pH 7"),
                    ("quinhydrone-4", "quinhydrone in pH 4"),
                ),
            ),
        ),
        "10 to 40 °C; quinhydrone 20 to 30 °C.",
        ("USGS-A6.5", "Nordstrom1977"),
        _orp,
    ),
    Sum(
        "pair",
        "Ion-selective pair",
        "Is this nitrate or ammonium tip still sound?",
        (
            QuestionField("ion", "Ion", "nitrate", choices=tuple((ion, ion) for ion in IONS)),
            QuestionField("high_mv", "High standard", "112.4", "potential", "mV"),
            QuestionField("high_t", "Its temperature", "21.3", "temperature", "°C"),
            QuestionField("high_c", "Its concentration", "100", "mass per volume", "mg/L"),
            QuestionField("low_mv", "Low standard", "168.9", "potential", "mV"),
            QuestionField("low_t", "Its temperature", "21.5", "temperature", "°C"),
            QuestionField("low_c", "Its concentration", "10", "mass per volume", "mg/L"),
        ),
        "Both in the same terms (as N, or activity); not for brackish or salt water.",
        ("common practice, no source",),
        _pair,
    ),
)
