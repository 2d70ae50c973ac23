"""Documents as they are handed over: what is in the file, how it is kept, and who may see it."""

import io
import os
import re
import uuid
from datetime import timedelta
from pathlib import Path

import numpy as np
import openpyxl
import pypdfium2
import pytest
from PIL import Image
from pypdf import PdfReader
from sqlalchemy import String, cast, select, update

from brumel.formats.pdf import keep_together
from brumel.formats.xlsx_rows import write_workbook
from brumel.store.documents import Document, Release
from brumel.store.tables import Calibration, Client, Site, User
from brumel.web import access
from brumel.work import demo, people
from brumel.work.demo.load import PASSWORD
from brumel.work.records import signing, visits
from tests.web.conftest import csrf, sign_in
from tests.web.test_flows import post, words
from tests.work import helpers as h

LETTERHEAD = "/records/documents/letterhead"
PAGES = Path(__file__).parent / "pages"


@pytest.fixture
def things(desk):
    return h.Things(desk)


@pytest.fixture
def lead(app):
    return sign_in(app, "ilka")


@pytest.fixture
def visit(begun):
    """Asked for first: whoever signed in before is not known in the database that it brings."""
    return begun(_visited)


def _visited(desk):
    things, clock = h.Things(desk), desk.clock
    h.calibrate(desk, clock, things)
    return h.visit(desk, clock, things, "lagoon", early=True, reason="In a hurry")


def client_of(desk, name):
    with desk.read() as session:
        return str(session.scalar(select(Client.id).where(Client.name == name)))


def issued(by, kind, **asked):
    address = f"/records/documents/preview/{kind}"
    shown = by.get(address, query_string=asked)
    assert shown.status_code == 200, words(shown)
    page = post(by, shown.request.url, f"/records/documents/issue/{kind}", **asked)
    assert page.status_code == 200, words(page)
    return page.request.path


def text_of(body):
    return "\n".join(page.extract_text() for page in PdfReader(io.BytesIO(body)).pages)


def test_every_kind_is_issued_numbered_tagged_and_kept_as_it_was(visit, client, lead, desk, things):
    day = desk.clock().date()
    lagoon = client_of(desk, "Veldmere Lagoon Trust")
    sent = dict(name="North Gauge", address="Weir Lane", prefix="NG-", paper="Letter", dates="de", first_day="MO")
    units = dict(temperature="°F", conductivity="µS/cm", pressure="hPa", depth="ft")
    assert post(client, LETTERHEAD, LETTERHEAD, **sent, **units).status_code == 403
    assert "Weir Lane" in post(lead, LETTERHEAD, LETTERHEAD, **sent, **units).text
    kinds = {
        "visit": dict(visit=visit),
        "client": dict(client=lagoon, since=str(day - timedelta(days=30)), until=str(day)),
        "probe": dict(probe=things.probes["A1"]),
    }
    files = {}
    for number, (kind, asked) in enumerate(kinds.items(), 1):
        path = issued(client, kind, **asked)
        files[path] = body = client.get(path + ".pdf").data
        read, said = PdfReader(io.BytesIO(body)), text_of(body)
        assert f"NG-{number:04d}" in said
        assert "North Gauge" in said
        assert f"{day:%d.%m.%Y}" in said  # as the locale writes it
        assert read.trailer["/Root"]["/MarkInfo"]["/Marked"]
        assert read.trailer["/Root"]["/Lang"] == "en"
        assert [float(v) for v in read.pages[0].mediabox[2:]] == [612, 792]
        assert f"page 1 of {len(read.pages)}" in said
        fonts = [f.get_object() for f in read.pages[0]["/Resources"]["/Font"].values()]
        assert fonts
        assert all("+" in font["/BaseFont"] for font in fonts)  # a subset of the font is in the file
        # No number is parted from its unit, no value from its uncertainty.
        assert not re.search(r"\d\n(µS/cm|mg/L|mV|°F|hPa)|±\n|\n±", said), said
    assert "°F" in text_of(files[path.replace(path, next(iter(files)))])
    rest = post(lead, LETTERHEAD, LETTERHEAD, **sent | {"name": "Renamed"}, **units)
    assert "Renamed" in rest.text
    assert {path: client.get(path + ".pdf").data for path in files} == files
    assert words(client.get("/records/documents")).count("NG-000") == 3


def test_what_cannot_be_made_is_a_sentence_beside_the_form(client, desk, things):
    farm = client_of(desk, "Skarn Char Farm")
    whole = "/records/documents/preview/client"
    for given, said in (
        (dict(client=farm, since="2026-13-01", until="2026-11-01"), "is not a date"),
        (dict(client=farm, since="2026-11-02", until="2026-11-01"), "lies before"),
        (dict(client=farm, since="2016-11-02", until="2026-11-01"), "in parts"),
        (dict(since="2026-11-01", until="2026-11-02"), "Client is missing"),
        (dict(client=farm, since="0001-01-01", until="9999-12-31"), "between 1990 and 2100"),
    ):
        answer = client.get(whole, query_string=given)
        assert (answer.status_code, said in words(answer)) == (422, True), (given, words(answer))
    assert client.get(whole, query_string=dict(client="x", since="2026-11-01", until="2026-11-02")).status_code == 404
    assert client.get("/records/documents/preview/beer").status_code == 404
    nobody = dict(client=str(uuid.uuid4()), since="2026-11-01", until="2026-11-02")
    assert client.get(whole, query_string=nobody).status_code == 404


def test_a_letterhead_takes_a_picture_drawn_afresh_and_nothing_else(lead):
    good = io.BytesIO()
    Image.new("RGB", (3000, 30), "navy").save(good, "PNG")
    sent = dict(name="Gauge", address="", prefix="", paper="A4", dates="iso", first_day="MO")
    units = {what: choices[0] for what, choices in people.UNIT_CHOICES.items()}
    for data, name, said in (
        (b"<svg onload=alert(1)>", "a.png", "PNG, JPEG or WebP"),
        (good.getvalue()[:40], "b.png", "PNG, JPEG or WebP"),
        (b"", "empty.png", "PNG, JPEG or WebP"),
    ):
        file = {"picture": (io.BytesIO(data), name)}
        answer = post(lead, LETTERHEAD, LETTERHEAD, **sent, **units, **file)
        assert (answer.status_code, said in words(answer)) == (422, True)
    page = post(lead, LETTERHEAD, LETTERHEAD, **sent, **units, picture=(io.BytesIO(good.getvalue()), "c.png"))
    assert "data:image/png" in page.text
    for wrong, said in ((dict(paper="A0"), "Paper"), (dict(dates="xx"), "Dates"), (dict(name=" "), "Name")):
        answer = post(lead, LETTERHEAD, LETTERHEAD, **sent | wrong, **units)
        assert (answer.status_code, said in words(answer)) == (422, True), wrong


@pytest.mark.parametrize(
    ("written", "kept"),
    [
        ("1252 µS/cm", "1252\u00a0µS/cm"),
        ("8.1 ± 0.2 mg/L", "8.1\u00a0±\u00a00.2\u00a0mg/L"),
        ("pH 7.01 at 25 °C.", "pH 7.01 at 25\u00a0°C."),
        ("3 matters, 4 mg/Lx", "3 matters, 4 mg/Lx"),
        ("98 % of 12 m", "98\u00a0% of 12\u00a0m"),
    ],
)
def test_no_number_parts_from_its_unit(written, kept):
    assert keep_together(written) == kept


def drawn(body, scale=0.5):
    """The pages as grey pixels, small enough that a hair's breadth does not matter."""
    return [np.asarray(page.render(scale=scale).to_pil().convert("L"), float) for page in pypdfium2.PdfDocument(body)]


def document_of(kind, client, desk, things, visit):
    """The PDF of a kind, of a calibration and a visit to the lagoon."""
    day = desk.clock().date()
    if kind == "calibration":
        with desk.read() as session:
            calibration_id = session.scalar(select(Calibration.id))
        return client.get(f"/records/calibrations/{calibration_id}.pdf").data
    asked = {
        "probe": dict(probe=things.probes["A1"]),
        "visit": dict(visit=visit),
        "client": dict(
            client=client_of(desk, "Veldmere Lagoon Trust"), since=str(day - timedelta(days=30)), until=str(day)
        ),
    }
    return client.get(issued(client, kind, **asked[kind]) + ".pdf").data


@pytest.mark.parametrize("kind", ["probe", "visit", "client", "calibration"])
def test_pages_look_like_the_kept_ones(visit, client, lead, desk, things, kind):
    """A change of style that nobody meant shows here; `BRUMEL_WRITE_EVIDENCE=1` keeps the pages as they are now."""
    sent = dict(name="Gauge House", address="Weir Lane 4", prefix="G-", paper="A4", dates="iso", first_day="MO")
    units = {what: choices[0] for what, choices in people.UNIT_CHOICES.items()}
    post(lead, LETTERHEAD, LETTERHEAD, **sent, **units)
    pages = drawn(document_of(kind, client, desk, things, visit))
    if os.environ.get("BRUMEL_WRITE_EVIDENCE"):
        PAGES.mkdir(exist_ok=True)
        for old in PAGES.glob(f"{kind}-*.png"):
            old.unlink()
        for n, page in enumerate(pages, 1):
            Image.fromarray(page.astype(np.uint8)).quantize(16).save(PAGES / f"{kind}-{n}.png", optimize=True)
    assert len(pages) == len(list(PAGES.glob(f"{kind}-*.png")))
    for n, page in enumerate(pages, 1):
        with Image.open(PAGES / f"{kind}-{n}.png") as image:
            before = np.asarray(image.convert("L"), float)
        assert before.shape == page.shape
        assert np.abs(before - page).mean() < 2.0, f"page {n} differs from the kept one of {kind}"


# -- sharing


def invited(desk, app, lead, client_name, username):
    """A client's person with a password of their own, signed in."""
    of = client_of(desk, client_name)
    page = post(
        lead,
        f"/records/documents/clients/{of}",
        f"/records/documents/clients/{of}/invite",
        name="Per",
        username=username,
    )
    link = re.search(r"/invited/[\w-]+", page.text).group()
    guest = app.test_client()
    for password, again, said in (("short", "short", "at least"), ("long enough pw", "another one pw", "differ")):
        wrong = post(guest, link, link, password=password, again=again)
        assert (wrong.status_code, said in words(wrong)) == (422, True)
    assert "Sign in with it" in words(post(guest, link, link, password="long enough pw", again="long enough pw"))
    assert "was used already" in words(app.test_client().get(link))
    form = {"csrf_token": csrf(guest), "username": username, "password": "long enough pw"}
    assert guest.post("/sign-in", data=form).status_code == 302
    return guest


def test_a_client_sees_what_is_theirs_and_nothing_of_another(visit, app, client, lead, desk, clock, things):
    day = desk.clock().date()
    days = dict(since=str(day - timedelta(days=30)), until=str(day))
    lagoon, farm = (client_of(desk, name) for name in ("Veldmere Lagoon Trust", "Skarn Char Farm"))
    own = issued(client, "client", client=lagoon, **days)
    other = issued(client, "client", client=farm, **days)
    none = issued(client, "probe", probe=things.probes["A1"])
    guest = invited(desk, app, lead, "Veldmere Lagoon Trust", "per")
    assert "Nothing has been released" in words(guest.get("/", follow_redirects=True))
    assert post(client, own, f"{own}/release", days="30").status_code == 403
    assert "days" in words(post(lead, own, f"{own}/release", days="0")).lower()
    assert "one client alone" in words(post(lead, none, f"{none}/release", days="30"))
    links = {}
    for path in (own, other):
        page = post(lead, path, f"{path}/release", days="7")
        links[path] = re.search(r"/records/documents/shared/[\w-]+", page.text).group()
    mine = words(guest.get("/records/documents/mine"))
    assert "Veldmere Lagoon Trust" in mine
    assert "Creek mouth" in mine
    assert not [name for name in ("Skarn", "Raceway", "pool") if name in mine]
    mine_pdf, other_pdf = (f"/records/documents/mine/{path.rsplit('/', 1)[1]}.pdf" for path in (own, other))
    assert guest.get(mine_pdf).data == client.get(own + ".pdf").data
    assert guest.get(other_pdf).status_code == 404
    # Signed values of their own sites, and of those only.
    with desk.read() as session:
        (row,) = [r for r in visits.find(session, visits.Search()).rows if str(r.visit.id) == visit]
    assert "Nothing signed yet" in mine
    signing.sign(desk, things.ilka, h.key(), readings=[str(v.id) for v in row.values], password=PASSWORD)
    assert "pH" in words(guest.get("/records/documents/mine"))
    # Whatever else there is, by the table of roles.
    for rule in app.url_map.iter_rules():
        if "GET" in rule.methods and rule.endpoint != "static":
            path = re.sub(r"<[^>]+>", str(uuid.uuid4()), re.sub(r"<any\((\w+)[^>]*>", r"\1", rule.rule))
            code = guest.get(path).status_code
            if "client" not in access.ROLES[rule.endpoint]:
                leads_on = rule.endpoint == "today.show"
                assert code == (302 if leads_on else 403), (path, code)
        if (
            "POST" in rule.methods
            and "client" not in access.ROLES[rule.endpoint]
            and "anyone" not in access.ROLES[rule.endpoint]
        ):
            path = re.sub(r"<[^>]+>", str(uuid.uuid4()), rule.rule)
            sent = guest.post(path, data={"csrf_token": csrf(guest, "/records/documents/mine")})
            assert sent.status_code == 403, (path, sent.status_code)
    # A link opens for whoever has it, until it runs out or is taken back.
    stranger = app.test_client()
    assert stranger.get(links[own] + "/document.pdf").data == client.get(own + ".pdf").data
    assert stranger.get(links[own][:-3] + "abc").status_code == 404
    with desk.read() as session:
        release = session.scalar(select(Release.id).join(Document).where(Document.client_id == uuid.UUID(farm)))
    assert "Taken back" in words(post(lead, other, f"/records/documents/releases/{release}/take-back"))
    assert stranger.get(links[other]).status_code == 404
    clock.on(days=8)
    assert stranger.get(links[own]).status_code == 404
    # The day somebody leaves they are out at once.
    guest = app.test_client()
    form = {"csrf_token": csrf(guest), "username": "per", "password": "long enough pw"}
    assert guest.post("/sign-in", data=form).status_code == 302
    assert guest.get("/records/documents/mine").status_code == 200
    lead = sign_in(app, "ilka")
    with desk.read() as session:
        per = session.scalar(select(User.id).where(User.username == "per"))
    page = post(
        lead, f"/records/documents/clients/{lagoon}", f"/records/documents/people/{per}/deactivate", back=lagoon
    )
    assert "deactivated" in words(page)
    assert guest.get("/records/documents/mine").status_code == 302


# -- tables


def test_a_workbook_holds_texts_as_texts_and_numbers_as_numbers():
    columns = ("site", "value", "zone")
    hostile = ("=1+1", "+4", "-4", "@x", "007", "1,5", "https://x.example/", "a\x00b\nc", "é" * 300, "")
    rows = [{"site": text, "value": n + 0.125, "zone": None} for n, text in enumerate(hostile)]
    body = b"".join(write_workbook(columns, iter(rows), "readings", {"site": "where"}))
    book = openpyxl.load_workbook(io.BytesIO(body))
    sheet, about = book.worksheets
    read = list(sheet.iter_rows())
    assert [c.value for c in read[0]] == list(columns)
    for text, (site, value, zone) in zip(hostile, read[1:], strict=True):
        assert (site.value or "").replace("_x000A_", "\n") == text.replace("\x00", "")
        assert site.data_type in ("s", "n" if not text else "s")
        assert site.hyperlink is None
        assert (value.data_type, zone.value) == ("n", None)
    assert [c.value for c in next(about.iter_rows())] == ["site", "where"]


def test_both_tables_are_what_the_search_shows_in_both_forms(visit, client, desk):
    for form, kept in (("readings", 2), ("visits", 1)):
        csv = client.get(f"/records/{form}.csv?words=lagoon").text.splitlines()
        book = openpyxl.load_workbook(io.BytesIO(client.get(f"/records/{form}.xlsx?words=lagoon").data))
        assert len(csv) - 1 == kept == book.worksheets[0].max_row - 1
        assert csv[0].split(",") == [c.value for c in next(book.worksheets[0].iter_rows())]
        assert len(client.get(f"/records/{form}.csv?words=nowhere").text.splitlines()) == 1
    with desk.sessions.begin() as session:
        session.execute(update(Site).values(name="=cmd()" + cast(Site.id, String)))
    assert ",'=cmd()" in client.get("/records/visits.csv").text
    assert demo.PASSWORD == PASSWORD


def test_a_stranger_with_a_form_token_is_sent_to_sign_in_and_guesses_are_counted(visit, app, lead, desk):
    stranger = app.test_client()
    sent = stranger.post(f"/records/visits/{visit}/sign", data={"csrf_token": csrf(stranger), "password": "x"})
    assert sent.status_code in (401, 429)
    page = f"/records/visits/{visit}"
    codes = [post(lead, page, f"{page}/sign", password=f"guess {n}").status_code for n in range(14)]
    assert codes[:12] == [422] * 12
    assert codes[12:] == [429] * 2


def test_a_practice_has_its_own_clock_and_first_day(app):
    lead, technician = sign_in(app, "ilka"), sign_in(app, "ansa")
    assert "Times: UTC" in technician.get("/").text
    kept = {"name": "Tarnholt Water Survey", "paper": "A4", "dates": "iso", "first_day": "SU", "zone": "America/Lima"}
    kept |= {what: choices[0] for what, choices in people.UNIT_CHOICES.items()}

    def save(**more):
        sent = {"csrf_token": csrf(lead, "/records/documents/letterhead"), "key": str(uuid.uuid4()), **kept, **more}
        return lead.post("/records/documents/letterhead", data=sent)

    for wrong in ({"zone": "Mars/Olympus"}, {"first_day": "WE"}):
        assert save(**wrong).status_code == 422
    assert save().status_code == 302
    assert "Times: America/Lima" in technician.get("/").text
    page = lead.get("/rounds/plans/edit").text
    days = re.findall(r'name="weekday" value="(\w\w)"', page)
    assert days == ["SU", "MO", "TU", "WE", "TH", "FR", "SA"]
    assert 'value="America/Lima"' in page  # where a new round is gone
