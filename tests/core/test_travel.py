"""How long a day out takes: worked out by hand for sites along a meridian, where a degree is 111.195 km (IUGG radius)."""

import pytest

from brumel.core import travel
from brumel.core.errors import InputErrors

ALONG = [(59.0, 8.0), (59.1, 8.0), (59.2, 8.0)]

CASES = [
    # 2 ways of 11.12 km, a third longer by road: 28.9 km at 40 km/h are 43.4 min; 3 sites at 20 min; 20 min there and home.
    (ALONG, travel.Pace(), 43.4 + 60 + 20, "29 km between them at 40 km/h"),
    (ALONG, travel.Pace(speed_kmh=80.0, site_min=10.0, way_min=0.0), 21.7 + 30, "at 80 km/h"),
    (ALONG, travel.Pace(between_min=90.0), 90 + 60 + 20, "90 min between them"),
    ([ALONG[0], None, ALONG[2]], travel.Pace(), 20 + 60 + 20, "10 min for each way that is not known"),
    ([ALONG[0], (59.001, 8.0)], travel.Pace(), 40 + 20, "0 km between them"),  # 111 m: one walks
    ([ALONG[0]], travel.Pace(), 20 + 20, "1 site at 20 min"),
    ([], travel.Pace(), 20, "0 sites"),
]


@pytest.mark.parametrize(("places", "pace", "minutes", "words"), CASES)
def test_a_day_out(places, pace, minutes, words):
    out = travel.day_out(places, pace)
    assert out.minutes == pytest.approx(minutes, abs=0.1)
    assert words in out.words


def test_every_part_of_a_pace_has_its_bounds():
    wrong = travel.Pace(site_min=0.0, speed_kmh=900.0, way_min=-1.0, between_min=float("nan"))
    with pytest.raises(InputErrors) as caught:
        travel.checked(wrong)
    assert [f.field for f in caught.value.faults] == ["site_min", "speed_kmh", "way_min", "between_min"]
    assert travel.checked(travel.Pace()) == travel.Pace()
