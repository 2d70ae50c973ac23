"""What a page weighs on its way: the first load, later pages, and static files that are kept for ever."""

import re
import subprocess
import sys

import brotli

from brumel.web import static_files
from tests.web.conftest import sign_in

BROTLI = {"Accept-Encoding": "br"}
#: Fonts of the Latin letters; those of other letters are asked for only where a page has one.
FONT = re.compile(r"url\(['\"]?([^)'\"]+latin-\d+-normal\.woff2)")
FIRST_LOAD, LATER = 200_000, 25_000


def fetched(client, url, weights):
    """The bytes of a static file as it travels, and of what its text asks for."""
    if url in weights:
        return
    answer = client.get(url, headers=BROTLI)
    assert answer.status_code == 200, url
    assert "immutable" in answer.headers["Cache-Control"], url
    assert answer.headers["X-Content-Type-Options"] == "nosniff"
    weights[url] = len(answer.data)
    folder, name = url.rsplit("/", 1)[0], url.split("/", 3)[3]
    text = (static_files.FOLDER / name).read_text("utf-8") if name.endswith((".css", ".js")) else ""
    for font in FONT.findall(text):
        path = folder + "/" + font
        while "/../" in path:
            path = re.sub(r"/[^/]+/\.\./", "/", path, count=1)
        fetched(client, path, weights)


def weigh(client, path, weights):
    """The bytes a page costs whoever has the files of `weights` already."""
    before = sum(weights.values())
    answer = client.get(path, headers=BROTLI)
    assert answer.headers.get("Content-Encoding") == "br", path
    text = brotli.decompress(answer.data).decode()
    for url in re.findall(r'(?:href|src)="(/static/[^"]+)"', text):
        fetched(client, url, weights)
    return len(answer.data) + sum(weights.values()) - before


def test_the_first_load_and_the_later_pages_are_light(app):
    weights = {}
    first = weigh(app.test_client(), "/sign-in", weights)
    mine = sign_in(app, "ansa")
    first += weigh(mine, "/", weights)
    assert first < FIRST_LOAD, first
    assert len(weights) > 10
    paths = ["/bench", "/rounds", "/kit", "/records", "/worksheet/oxygen", "/glossary"]
    for place in ("/bench", "/kit", "/rounds"):  # the first thing of each sort that the place leads to
        links = re.findall(
            r'href="(/(?:bench/probes|kit/probes|kit/meters|rounds/sites)/[0-9a-f-]{36})"', mine.get(place).text
        )
        paths += list({link.rsplit("/", 1)[0]: link for link in links}.values())
    assert len(paths) > 8
    for path in paths:
        cost = weigh(mine, path, weights)
        assert cost < LATER, (path, cost)


def test_a_page_of_another_version_still_gets_its_files(client):
    for url in ("/static/css/ink.css", "/static/0123456789ab/js/keys.js"):
        answer = client.get(url)
        assert answer.status_code == 200
        assert "immutable" not in answer.headers["Cache-Control"]
    for url in ("/static/../wsgi.py", "/static/0123456789ab/../../web/access.py", "/static/nothing.js"):
        assert client.get(url).status_code in (302, 404)


def test_a_start_reads_nothing_that_only_some_pages_want():
    """What is large and not wanted by a first page is read when it is: numbers' solvers, tables, printing."""
    look = (
        "import sys; from brumel import cli; cli._read_ahead();"
        "print({'scipy', 'pandas', 'openpyxl', 'xlsxwriter', 'weasyprint', 'fontTools', 'pint'} & sys.modules.keys())"
    )
    done = subprocess.run([sys.executable, "-c", look], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "set()"
