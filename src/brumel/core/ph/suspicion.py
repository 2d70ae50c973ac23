"""Suspicions during a run: each says what was seen, against what, and what to do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from brumel.core.errors import InputError
from brumel.core.ph.buffers import buffer_ph
from brumel.core.ph.electrode import BufferPoint, PhFit, fit, nernst_slope_mv
from brumel.core.sentence import Amount, say
from brumel.core.suspicion import Suspicion


@dataclass(frozen=True)
class Cup:
    """A solution of the tray: name as on its label, its pH at the cup's temperature."""

    name: str
    ph: float


#: A typed pH this near to the label's is the label's, where the cup should read this much apart from it [pH].
LABEL_PH, LABEL_APART_PH = 0.005, 0.02

#: How much nearer another cup must be, and how near it must be itself; beyond what a signal belongs to no cup; how far one
#: cup may be off while the others agree [pH]. Common practice, no source.
MARGIN_PH, NEAR_PH, FAR_PH = 0.5, 0.8, 1.5
OFF_PH, SPANNING_PH = 0.2, 1.0
#: Slopes that a line of the cups before may have to be believed; how far two families' pH 7 lie apart [pH]. Chosen.
SOUND_SLOPE, NEIGHBOUR_APART_PH = (0.7, 1.1), 0.1
NEIGHBOURS = ("phosphate", "7.00", "7.01")


def _seen(reference: PhFit | None, millivolts: float, temperature_c: float) -> float:
    if reference:
        return float(reference.ph(millivolts, temperature_c))
    return 7.0 - millivolts / float(nernst_slope_mv(temperature_c))


def wrong_cup(
    millivolts: float, temperature_c: float, intended: Cup, tray: Sequence[Cup], reference: PhFit | None = None
) -> Suspicion | None:
    """Speaks when another solution of the tray explains the signal better than the intended one.

    The signal is turned into pH with the last good calibration (the ideal line where there is none) [mV, °C].
    Another cup must be nearer by `MARGIN_PH` and itself within `NEAR_PH`; a signal near no cup is also
    spoken up about once it is off by more than 1.5 pH.
    """
    seen = _seen(reference, millivolts, temperature_c)
    off = abs(seen - intended.ph)
    against = "the last good calibration" if reference else "an ideal electrode"
    others = [cup for cup in tray if abs(cup.ph - intended.ph) > MARGIN_PH]
    best = min(others, key=lambda cup: abs(seen - cup.ph), default=None)
    if best and abs(seen - best.ph) < NEAR_PH and off - abs(seen - best.ph) > MARGIN_PH:
        return Suspicion(
            "wrong_cup",
            say(
                "{millivolts} looks like pH {seen} by {against}: nearer to {nearest} than to {meant}.",
                millivolts=Amount(millivolts, "mV", ".1f"),
                seen=Amount(seen, "", ".2f"),
                against=against,
                nearest=best.name,
                meant=intended.name,
            ),
            f"Check the cup. If it holds {best.name}, rinse, blot and dip in {intended.name}.",
            best.name,
        )
    if off > FAR_PH:
        return Suspicion(
            "no_cup",
            say(
                "{millivolts} looks like pH {seen} by {against}, {off} away from {name} and near no other cup.",
                millivolts=Amount(millivolts, "mV", ".1f"),
                seen=Amount(seen, "", ".2f"),
                against=against,
                off=Amount(off, "", ".1f"),
                name=intended.name,
            ),
            "Look for a dry or broken bulb, a loose lead, or a solution that is not on the tray.",
        )
    return None


def same_cup(
    millivolts: float, expected_ph: float, earlier: Sequence[tuple[str, float, float]], temperature_c: float
) -> Suspicion | None:
    """Speaks when the signal repeats an earlier point although the buffers differ.

    `earlier` holds (name, millivolts, expected pH). Same means within 5 % of the gap an ideal electrode would
    show, and at least 3 mV: common practice, no source.
    """
    k = float(nernst_slope_mv(temperature_c))
    for name, mv, ph in earlier:
        gap = k * abs(expected_ph - ph)
        if gap > 30 and abs(millivolts - mv) <= max(3.0, 0.05 * gap):
            return Suspicion(
                "same_cup",
                say(
                    "{millivolts} is almost what {name} gave ({mv}), but these buffers should be about {gap} apart.",
                    millivolts=Amount(millivolts, "mV", ".1f"),
                    name=name,
                    mv=Amount(mv, "mV", ".1f"),
                    gap=Amount(gap, "mV", ".0f"),
                ),
                "The same cup was probably dipped twice; if not, the bulb may be broken.",
            )
    return None


def cup_off(
    millivolts: float, temperature_c: float, intended: Cup, earlier: Sequence[tuple[float, float, float]]
) -> Suspicion | None:
    """Speaks when one cup is off the line of the cups before: the cup, not the probe.

    `earlier` holds (mV, °C, expected pH) of the points taken. Blamed is a cup only where those show the slope themselves:
    by an earlier calibration a fallen slope looks like a cup that is off.
    """
    if not earlier or max(p for *_, p in earlier) - min(p for *_, p in earlier) < SPANNING_PH:
        return None
    try:
        line = fit([BufferPoint(*point) for point in earlier], kind="line")
        off = float(line.ph(millivolts, temperature_c)) - intended.ph
    except InputError:
        return None
    if abs(off) <= OFF_PH or not SOUND_SLOPE[0] <= line.slope <= SOUND_SLOPE[1]:
        return None
    return Suspicion(
        "cup_off",
        say(
            "By the cups before, slope {slope}, this one reads pH {ph}, {off} from {name}.",
            slope=Amount(line.slope_percent, "%", ".0f"),
            ph=Amount(intended.ph + off, "", ".2f"),
            off=Amount(off, "", "+.2f"),
            name=intended.name,
        ),
        "Pour a fresh cup from a fresh lot: carry-over, or pH 10 that has taken up CO2.",
    )


def neighbour_buffer(
    millivolts: float, temperature_c: float, intended: Cup, reference: PhFit | None
) -> Suspicion | None:
    """Speaks when a cup reads, by the last good calibration, as the neighbouring family's pH 7: 6.86 poured for 7.01."""
    if reference is None:
        return None
    seen = float(reference.ph(millivolts, temperature_c))
    for key in NEIGHBOURS:
        try:
            there = float(buffer_ph(key, temperature_c))
        except InputError:
            continue
        if abs(there - intended.ph) < NEIGHBOUR_APART_PH or abs(there - intended.ph) > 2 * NEIGHBOUR_APART_PH:
            continue
        if abs(seen - there) < NEIGHBOUR_APART_PH / 2 and abs(seen - intended.ph) > 0.7 * abs(there - intended.ph):
            return Suspicion(
                "neighbour_buffer",
                say(
                    "By the last good calibration this cup reads pH {seen}: like a buffer of {there}, not like {name}.",
                    seen=Amount(seen, "", ".2f"),
                    there=Amount(there, "", ".2f"),
                    name=intended.name,
                ),
                "Read the bottle's label: 6.86 and 7.00 or 7.01 are taken for one another. If it is right, the offset moved.",
            )
    return None


def label_value_used(displayed_ph: float, nominal_ph: float, expected_ph: float) -> Suspicion | None:
    """Speaks when a typed display shows the label's 25 °C value although the cup is at another temperature."""
    if abs(displayed_ph - nominal_ph) < LABEL_PH and abs(expected_ph - nominal_ph) >= LABEL_APART_PH:
        return Suspicion(
            "label_value",
            say(
                "The display shows {displayed}, the label's value at 25 °C; at this cup's temperature the buffer "
                "is {expected}.",
                displayed=Amount(displayed_ph, "", ".2f"),
                expected=Amount(expected_ph, "", ".2f"),
            ),
            "Type what the display shows, not what the bottle says; if the meter was adjusted to the label, "
            "adjust it again to the value above.",
        )
    return None
