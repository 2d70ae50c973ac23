"""How far Brumel's judgements deserve belief, by simulation: `BRUMEL_BENCH=judgement ./brumel bench`."""

from __future__ import annotations

import sys
from multiprocessing import Pool
from typing import Any

import numpy as np

from benchmarks.judging import histories, logged, readings, runs, settling
from brumel.core.ageing import control_chart
from brumel.work.desk import Desk


def _head(title: str, *columns: str) -> None:
    print(f"\n{title}")
    print(" " * 40 + "".join(f"{c:>16}" for c in columns), flush=True)


def _line(name: str, *cells: str) -> None:
    print(f"{name:<40}" + "".join(f"{c:>16}" for c in cells), flush=True)


def settle(pool: Any, count: int) -> None:
    """When a reading is final."""
    _head(
        "Settling",
        "false %",
        "missed %",
        "delay/allowed",
        "jumps %",
        "to go +-half %",
        "of looks told %",
        "up to, kept %",
    )
    _line("goal", "5 (slow: 15)", "", "1.00", "1", "90")
    for where, quantity, slow in settling.rows():
        found = pool.map(settling.one, [(where, quantity, slow, 1000 + i) for i in range(count)], chunksize=2)
        name = f"{where}, {quantity}{', a slow second term' if slow else ''}"
        row = settling.row_of(name, found)
        cells = (f"{row.false:.1f}", f"{row.late:.1f}", f"{row.delay:.2f}", f"{row.jumped:.1f}")
        _line(name, *cells, f"{row.forecast:.0f}", f"{row.told:.0f}", f"{row.kept:.0f}")
    _head("Traces to which something happens", "false %", "noticed %")
    _line("goal (after a silence)", "5", "")
    for where, quantity, event in [(w, q, e) for e in settling.EVENTS for w, q, slow in settling.rows() if not slow]:
        few = count if event != "drift" else max(count // 5, 1)  # one that never ends is watched for ten minutes
        odd = pool.map(settling.odd_one, [(where, quantity, event, 3000 + i) for i in range(few)], chunksize=2)
        shares = (f"{100 * sum(each) / few:.1f}" for each in zip(*odd, strict=True))
        _line(f"{where}, {quantity}, {event}", *shares)
    _head("Values typed one spacing apart", "false %", "missed %")
    for quantity in settling.BENCH:
        got = pool.map(settling.typed_one, [(quantity, 5000 + i) for i in range(count * 5)], chunksize=20)
        done = sum(settled for settled, _ in got)
        false = 100 * sum(wrong for _, wrong in got) / max(done, 1)
        _line(f"typed, {quantity}", f"{false:.1f}", f"{100 - 100 * done / len(got):.1f}")


def _covered(task: tuple[str, int]) -> readings.Covered:
    return readings.row(*task)


def cover(pool: Any, count: int) -> None:
    """Whether U covers the errors that occur, and how wide it is against them."""
    _head("Readings and decided spans", "covered %", "U / 95 % point")
    _line("goal (corrected: of any of the four)", "93 at least", "1.50 at most")
    found = pool.map(_covered, [(name, count) for name in readings.ROWS], chunksize=1)
    for name, row in zip(readings.ROWS, found, strict=True):
        _line(name, f"{row.coverage:.1f}", f"{row.width:.2f}")


def flag(count: int) -> None:
    """Flags of logged series: both kinds of error."""
    _head("Logged series", "false, samples %", "failed series %", "stuck missed %", "spikes missed %")
    for quantity, every_s in ((q, s) for q in logged.KINDS for s in logged.INTERVALS):
        row = logged.row(quantity, count, every_s)
        name = f"{quantity}, every {every_s // 60} min"
        _line(name, f"{row.samples:.2f}", f"{row.series:.1f}", f"{row.stuck_missed:.1f}", f"{row.spikes_missed:.1f}")


def believe(pool: Any, count: int) -> None:
    """Whether a site's past tells slips from weather: both kinds of error."""
    tasks = [(water, seed) for seed in range(count) for water in histories.WATERS]
    found = pool.map(histories.one, tasks, chunksize=2)
    _head("Readings at a site, from the eleventh visit on", "questioned %")
    _line("goal", "3 at most")
    for water in histories.WATERS:
        sheets = [
            sheet.healthy for task, sheets in zip(tasks, found, strict=True) if task[0] == water for sheet in sheets
        ]
        for quantity in sheets[0]:
            _line(f"{water}, {quantity}", f"{100 * sum(s[quantity] for s in sheets) / len(sheets):.1f}")
    _head("Planted slips", "caught %", "over 4.5 spr. %", "smaller ones %")
    _line("goal (a healthy one taken for it: 3 at most)", "", "90 at least")
    slips: dict[str, list[tuple[bool, bool]]] = {}
    for name, caught, large in (slip for sheets in found for sheet in sheets for slip in sheet.slips):
        slips.setdefault(name, []).append((caught, large))
    for name, each in slips.items():
        parts = ([c for c, _ in each], [c for c, large in each if large], [c for c, large in each if not large])
        _line(name, *(f"{100 * sum(part) / len(part):.1f}" if part else "-" for part in parts))


def suspect(desk: Desk, clock: Any, count: int) -> None:
    """Whether a planted fault is named first or second, and whether a healthy run is suspected of one."""
    _head("Runs", "suspected %", "named %", "runs")
    _line("goal", "2 at most", "95 at least")
    for row in runs.rows(desk, clock, count):
        share = f"{100 * row.hit / row.count:.0f}"
        _line(row.name, share if row.healthy else "", "" if row.healthy else share, str(row.count))


def charts(count: int) -> None:
    """How often a steady probe's chart alarms within 52 calibrations, and a changed one's does not."""
    random = np.random.default_rng(8)
    steady = sum(bool(control_chart(list(random.normal(0, 1, 52))).signals) for _ in range(20 * count))
    steps = [np.r_[random.normal(0, 1, 26), random.normal(3, 1, 26)] for _ in range(4 * count)]
    missed = sum(not control_chart(list(values)).signals for values in steps)
    _head("Control charts of 52 calibrations", "steady alarm %", "missed %")
    _line("goal", "5 at most")
    _line("normal scatter; a step of three spreads", f"{5 * steady / count:.1f}", f"{25 * missed / count:.1f}")


def main(count: int = 100, desk: Desk | None = None, clock: Any = None) -> None:
    """Print every table; those of whole runs where there is a database to run them in."""
    charts(count)
    if desk is not None:
        suspect(desk, clock, max(count // 15, 2))
    with Pool(2) as pool:
        cover(pool, 20 * count)
        flag(count)
        believe(pool, max(count // 2, 4))
        settle(pool, count)


if __name__ == "__main__":
    main(*(int(argument) for argument in sys.argv[1:2]))
