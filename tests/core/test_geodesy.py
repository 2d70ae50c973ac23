"""Distances against a worked example and what a degree is."""

import pytest

from brumel.core.geodesy import distance_m


@pytest.mark.parametrize(
    ("a", "b", "metres"),
    [
        ((10.0, 20.0), (11.0, 20.0), 111_195),  # a degree of a meridian: pi / 180 x 6371.0088 km
        ((60.0, 10.0), (60.0, 11.0), 55_596),  # nearly half of it along the parallel of 60 degrees
        ((36.12, -86.67), (33.94, -118.40), 2_886_448),  # Nashville to Los Angeles: the usual example, from memory
        ((0.0, 179.9), (0.0, -179.9), 22_239),
        ((0.0, 0.0), (0.0, 180.0), 20_015_114),  # half round the Earth
        ((57.5, 9.5), (57.5, 9.5), 0),
    ],
)
def test_a_distance_is_the_great_circle_s(a, b, metres):
    assert distance_m(a, b) == pytest.approx(metres, abs=max(8.0, 1e-5 * metres))
    assert distance_m(b, a) == pytest.approx(distance_m(a, b))
