"""Photos: hostile files refused with a sentence, names made harmless, position removed unless it is wanted."""

import io
import subprocess
import sys

import pytest
from PIL import Image

from brumel.core.errors import InputError
from brumel.work import rounds
from brumel.work.rounds.sheet import photos
from tests.work import helpers as h


def a_photo(kind="JPEG", size=(400, 300), gps=True):
    exif = Image.Exif()
    if gps:
        exif[0x8825] = {1: "N", 2: (61.0, 24.0, 43.2), 3: "E", 4: (8.0, 43.0, 51.6)}
    out = io.BytesIO()
    Image.new("RGB", size, "teal").save(out, kind, **({"exif": exif} if kind == "JPEG" else {}))
    return out.getvalue()


@pytest.mark.parametrize(("wanted", "where"), [(False, None), (True, (61.412, 8.731))])
def test_the_position_goes_unless_it_is_wanted(wanted, where):
    data, width, height, found = photos.redraw(a_photo(size=(4000, 3000)), keep_position=wanted)
    assert found == (pytest.approx(where, abs=1e-6) if where else None)
    assert (width, height) == (1600, 1200)
    with Image.open(io.BytesIO(data)) as again:
        assert not again.getexif().get_ifd(0x8825)  # the drawn-afresh file holds none in any case
        assert "exif" not in again.info


@pytest.mark.parametrize(
    "data", [b"", b"GIF89a" + b"x" * 50, b"<svg onload=alert(1)>", a_photo()[:200], b"x" * (photos.MOST_BYTES + 1)]
)
def test_what_is_no_photo_is_refused_with_a_sentence(data):
    with pytest.raises(InputError, match="photo"):
        photos.redraw(data)


@pytest.mark.parametrize(
    ("name", "shown"),
    [
        ("../../etc/passwd", "passwd"),
        ("C:\\x\\a b.jpg", "a b.jpg"),
        ("<script>.png", "_script_.png"),
        ("", "photo"),
        ("...", "photo"),
        ("ü" * 200, "ü" * 80),
    ],
)
def test_a_name_is_never_a_path_nor_markup(name, shown):
    assert photos.clean_name(name) == shown


def test_a_visit_keeps_its_photos(desk, clock):
    things = h.Things(desk)
    visit = h.visit(desk, clock, things, source="typed", probe="B1")
    key = h.key()
    for _ in range(2):  # sent twice, kept once
        photos.add(desk, things.ansa, key, visit_id=visit, name="in/take.png", data=a_photo("PNG"))
    with desk.read() as session:
        (one,) = rounds.visit_of(session, visit).photos
        assert (one.name, one.width, one.latitude) == ("take.png", 400, None)
        assert photos.picture(session, str(one.id)).startswith(b"\xff\xd8")


#: Draws a photo afresh in a process of its own and says by how much its memory grew at most [MB].
ALONE = """
import io, resource, sys
from brumel.work.rounds.sheet import photos
data = open(sys.argv[1], "rb").read()
photos.redraw(open(sys.argv[2], "rb").read())
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
print(photos.redraw(data)[1:3], (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024)
"""


@pytest.mark.parametrize(
    ("kind", "size", "options"),
    [
        ("JPEG", (8900, 6600), {}),
        ("JPEG", (6000, 4000), {"progressive": True, "subsampling": 0}),
        ("PNG", (5900, 4000), {}),
    ],
)
def test_a_photo_takes_less_than_two_hundred_megabytes(tmp_path, kind, size, options):
    for name, points in (("large", size), ("small", (64, 64))):
        Image.linear_gradient("L").resize(points).convert("RGB").save(tmp_path / name, kind, **options)
    done = subprocess.run(
        [sys.executable, "-c", ALONE, str(tmp_path / "large"), str(tmp_path / "small")],
        capture_output=True,
        text=True,
        check=True,
    )
    shape, grown = done.stdout.strip().rsplit(" ", 1)
    assert shape.startswith("(1600,")
    assert float(grown) < 200, done.stdout
