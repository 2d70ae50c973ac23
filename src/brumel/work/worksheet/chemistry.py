"""Sums of water chemistry: free carbon dioxide, two portions mixed, and what another ion adds to a tip's reading."""

from __future__ import annotations

import numpy as np

from brumel.core import carbonate, gases, ions, mixing
from brumel.core.sentence import Amount, say
from brumel.work.worksheet.model import Answer, AnswerChart, AnswerValue, Curve, Given, QuestionField, Sum
from brumel.work.worksheet.reading import choice, maybe, number

GRID = np.linspace(6.0, 9.0, 60)


def _carbon_dioxide(given: Given) -> Answer:
    ph, alk, t, ec = number(given, "ph"), number(given, "alk"), number(given, "t"), maybe(given, "ec") or 0.0
    worked = carbonate.free_carbon_dioxide(ph, alk, t, ec)
    curve = [carbonate.free_carbon_dioxide(float(p), alk, t, ec).value for p in GRID]
    marks = ((ph, worked.value, f"{worked.value:.1f} mg/L"),) if GRID[0] <= ph <= GRID[-1] else ()
    drawn = Curve("", [float(p) for p in GRID], curve, True)
    return Answer(
        (AnswerValue("free carbon dioxide", worked.value, "mg/L", 1),),
        (worked.working,),
        (
            say("0.1 pH makes about {share} of it: read pH with care.", share=Amount(100 * (10**0.1 - 1), "%", ".0f")),
            "Humic and other acids are counted as carbonate by a titration; in brown water this is too much.",
        ),
        AnswerChart("free carbon dioxide over pH", "pH", "mg/L", (drawn,), marks),
    )


def _sulfide(given: Given) -> Answer:
    total, ph, t, s = number(given, "total"), number(given, "ph"), number(given, "t"), maybe(given, "s") or 0.0
    worked = gases.hydrogen_sulfide(total, ph, t, s)
    curve = [gases.hydrogen_sulfide(total, float(p), t, s).value for p in GRID]
    marks = ((ph, worked.value, f"{worked.value:.4f} mg/L"),) if GRID[0] <= ph <= GRID[-1] else ()
    share = 100 * worked.value / total if total else 0.0
    speak = ["Hydrogen sulfide is lost to air and to oxygen: sample without bubbles and test at once."]
    if not 5 <= t <= 25:
        speak.append("The constant was measured from 5 to 25 °C; here it is followed on.")
    drawn = Curve("", [float(p) for p in GRID], curve, True)
    return Answer(
        (
            AnswerValue("hydrogen sulfide, as S", worked.value, "mg/L", 4),
            AnswerValue("share of the sulfide", share, "%", 1),
        ),
        (worked.working,),
        tuple(speak),
        AnswerChart("hydrogen sulfide over pH", "pH", "mg/L as S", (drawn,), marks),
    )


def _dissolved_gas(given: Given) -> Answer:
    over, pressure, t = number(given, "over"), number(given, "p"), number(given, "t")
    found = gases.dissolved_gas(over, pressure, t, maybe(given, "s") or 0.0, maybe(given, "o2"))
    values = [
        AnswerValue("total dissolved gas", found.total_percent, "%", 1),
        AnswerValue("bubbles can form above", found.free_depth_m, "m of depth", 2),
    ]
    speak = []
    if found.oxygen_percent is not None and found.nitrogen_percent is not None:
        values += [
            AnswerValue("oxygen against the air", found.oxygen_percent, "%", 1),
            AnswerValue("nitrogen with argon against the air", found.nitrogen_percent, "%", 1),
        ]
        if found.nitrogen_percent < 0:
            speak.append(
                "So much oxygen leaves no room for nitrogen: one of the two readings, or the pressure, is wrong."
            )
        elif found.total_percent > 100 and found.nitrogen_percent > found.oxygen_percent:
            speak.append("Nitrogen is what is over: look for air drawn in under pressure, warmed water or a deep well.")
        elif found.total_percent > 100:
            speak.append("Oxygen is what is over, as by day in green water or behind an oxygen cone.")
    return Answer(tuple(values), (found.worked.working,), tuple(speak))


def _mixing(given: Given) -> Answer:
    value, volume, added, spike = (number(given, k) for k in ("c", "v", "added", "w"))
    worked = mixing.mixed(value, volume, added, spike)
    values = [
        AnswerValue("the mixture", worked.value, "", 4),
        AnswerValue("change of the cup", worked.value - value, "", 4),
    ]
    speak = ["Volumes are taken to add up. It holds for concentrations, and nearly for conductivity; never for pH."]
    read = maybe(given, "read")
    if read is not None:
        found = mixing.recovery_percent(value, volume, added, spike, read)
        values.append(
            AnswerValue("recovery of the spike", found, "%", 0, "80 to 120 % is usual: common practice, no source")
        )
        if not 80 <= found <= 120:
            speak.append(
                "The spike is not found again as it was added: this water disturbs the probe, or a volume is off."
            )
    return Answer(tuple(values), (worked.working,), tuple(speak))


def _interference(given: Given) -> Answer:
    ion = choice(given, "ion")
    name, _, usual = ions.DISTURBS[ion]
    own = maybe(given, "k")
    worked = ions.less_interference(number(given, "c"), number(given, "other"), ion, own)
    speak = (
        [] if own is not None else [f"The selectivity {usual:g} is usual for such tips; the tip's own data sheet wins."]
    )
    if worked.taken_mg_l > 0.5 * worked.value:
        speak.append(f"A large part of this reading is {name}: use another method here.")
    return Answer(
        (
            AnswerValue(f"{ion} without {name}", worked.value, "mg/L as N", 3),
            AnswerValue(f"what {name} adds", worked.taken_mg_l, "mg/L as N", 3),
            AnswerValue("uncertainty of what was taken off, k = 2", worked.expanded_uncertainty, "mg/L as N", 3),
        ),
        (worked.working,),
        tuple(speak),
    )


SUMS = (
    Sum(
        "carbon",
        "Free carbon dioxide",
        "How much carbon dioxide is free in this water?",
        (
            QuestionField("ph", "pH", "7.2"),
            QuestionField("alk", "Total alkalinity", "60", "hardness", "mg/L as CaCO3"),
            QuestionField("t", "Water temperature", "11", "temperature", "°C"),
            QuestionField("ec", "Conductivity at 25 °C", "", "conductivity", "µS/cm", optional=True),
        ),
        "Fresh water, 0 to 50 °C, pH 4 to 10, conductivity to 5000 µS/cm; alkalinity taken as carbonate.",
        ("Plummer1982", "Griffin1973", "Davies"),
        _carbon_dioxide,
        ("Limits for fish are set by licensed people; carbon dioxide is heavier than air: mind closed rooms.",),
    ),
    Sum(
        "sulfide",
        "Hydrogen sulfide",
        "How much of this sulfide is hydrogen sulfide?",
        (
            QuestionField("total", "Total sulfide, as S", "0.05", "mass per volume", "mg/L"),
            QuestionField("ph", "pH", "7.2"),
            QuestionField("t", "Water temperature", "14", "temperature", "°C"),
            QuestionField("s", "Salinity", "", optional=True),
        ),
        "0 to 35 °C (measured at 5 to 25), pH 4 to 11, salinity to 42; in salt water pH on the total scale.",
        ("Millero1988",),
        _sulfide,
        (
            "Hydrogen sulfide is deadly to people in closed rooms, pits and shafts, and the nose soon fails: "
            "measure the air and follow local codes before anybody goes in.",
            "Limits for fish are set by licensed people.",
        ),
    ),
    Sum(
        "gas",
        "Total dissolved gas",
        "How much gas does this water hold against the air, and what is it?",
        (
            QuestionField("over", "Gas pressure over the air's", "45", "pressure", "hPa"),
            QuestionField("p", "Station pressure", "1005", "pressure", "hPa"),
            QuestionField("t", "Water temperature", "11", "temperature", "°C"),
            QuestionField("o2", "Oxygen", "", "mass per volume", "mg/L", optional=True),
            QuestionField("s", "Salinity", "", optional=True),
        ),
        "0 to 40 °C, salinity to 42; the meter stands below the depth at which bubbles form on its membrane.",
        ("Colt1984", "BK84"),
        _dissolved_gas,
        ("Limits for fish are set by licensed people.",),
    ),
    Sum(
        "mixing",
        "Mixing and spikes",
        "What does this addition do to a cup?",
        (
            QuestionField("c", "Value in the cup", "1.2"),
            QuestionField("v", "Volume of the cup, mL", "100"),
            QuestionField("added", "Value of what is added, same unit", "100"),
            QuestionField("w", "Volume added, mL", "2"),
            QuestionField("read", "What the probe then reads", "", optional=True),
        ),
        "Concentrations in one unit, volumes in mL.",
        ("SM4020",),
        _mixing,
    ),
    Sum(
        "interference",
        "What another ion adds",
        "How much of this reading is another ion?",
        (
            QuestionField(
                "ion",
                "The tip",
                "nitrate",
                choices=(("nitrate", "nitrate, beside chloride"), ("ammonium", "ammonium, beside potassium")),
            ),
            QuestionField("c", "It reads, as N", "1.8", "mass per volume", "mg/L"),
            QuestionField("other", "Chloride or potassium in the water", "60", "mass per volume", "mg/L"),
            QuestionField("k", "Selectivity of the tip, mol per mol", "", optional=True),
        ),
        "Two ions of one charge, in fresh water; the selectivity is known to a factor of two unless the tip's own is given.",
        ("Umezawa2000",),
        _interference,
    ),
)
