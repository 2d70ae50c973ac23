"""Readings at a site: few healthy ones are questioned, and slips are; by the campaign's own waters, a few of each."""

from benchmarks.judging import histories


def test_healthy_readings_are_let_be_and_large_slips_are_caught():
    """Issue's goals: at most 3 % of healthy readings after ten visits; 90 % of slips over 4.5 spreads. Both columns."""
    sheets = [sheet for seed in (1, 2) for water in histories.WATERS for sheet in histories.one((water, seed))]
    healthy = [asked for sheet in sheets for asked in sheet.healthy.values()]
    assert sum(healthy) <= 0.03 * len(healthy)
    slips = {}
    for name, caught, large in (slip for sheet in sheets for slip in sheet.slips):
        if large:
            slips.setdefault(name, []).append(caught)
    shares = {name: sum(each) / len(each) for name, each in slips.items()}
    mistaken = {name: shares.pop(name) for name in list(shares) if "taken for it" in name}
    assert {name: share for name, share in shares.items() if share < 0.9} == {}
    assert max(mistaken.values()) <= 0.03
