"""Documentation that is held to the code: names, sources, commands, settings, methods."""

import configparser
import inspect
import pkgutil
import re
from pathlib import Path

import pytest
import yaml
from tools import house, references

import brumel.core
from brumel.cli import main
from brumel.core.quantities import QUANTITIES
from brumel.core.quantity_table import ON_SHEET
from brumel.methods import ORDER, load_faults, load_methods
from brumel.methods.glossary import load_glossary
from brumel.methods.sources import load_sources
from brumel.web.glossary.routes import PACKAGES
from brumel.work.records import reading_rows, visit_rows

ROOT = Path(__file__).parents[2]
DOCS = ROOT / "docs"
PLAIN = {"common practice, no source", "from memory", "reading", "chosen", "label of the lot", "test"}


def _read(name: str) -> str:
    return (ROOT / name).read_text("utf-8")


def _modules():
    for info in pkgutil.walk_packages(brumel.core.__path__, "brumel.core."):
        yield __import__(info.name, fromlist=["_"])


def test_glossary_owns_every_name():
    rows = re.findall(r"^\| `(\w+)` \| ([^|]+) \| ([^|]*) \| ([^|]*) \|", _read("docs/glossary.md"), re.M)
    table = {name: (label.strip(), symbol.strip(), unit.strip()) for name, label, symbol, unit in rows}
    assert table == {name: (q.label, q.symbol, q.unit) for name, q in QUANTITIES.items()}


def test_core_parameters_with_a_unit_are_in_the_glossary():
    unit = re.compile(r"_(c|mv|ph|us_cm|mg_l|hpa|m|s|percent)$")
    private = re.compile(
        r"^(signal|temperature|standard|limit|margin|near|expanded|off|agree|intended|nominal|care|fit|resolution|calibrated)_|_u_"
    )
    unknown = set()
    for module in _modules():
        for _, function in inspect.getmembers(module, inspect.isfunction):
            if function.__module__ == module.__name__ and not function.__name__.startswith("_"):
                for name in inspect.signature(function).parameters:
                    if unit.search(name) and name not in QUANTITIES and not private.search(name):
                        unknown.add((function.__qualname__, name))
    assert not unknown


KEY = re.compile(
    r"\b(?:SDI12|USGS-[A-Z0-9.]+\d|OIML-R\d+|QARTOD|GUM|CODATA|RFC \d{4}|ISA|Davies|PSS78|BK84|GG92|EN\d{5}|ISO\d{4,5}|"
    r"SM\d{4}|FRICTIONLESS|WATERML2|STA|"
    r"[A-Z][a-z]+(?:19|20)\d{2}[a-z]?)\b"
)


def _cited() -> set[str]:
    keys = set()
    for path in [*(ROOT / "src").rglob("*.py"), *(ROOT / "src").rglob("*.yaml"), *(ROOT / "tests/data").glob("*.csv")]:
        if path.name != "sources.yaml":
            keys |= set(KEY.findall(path.read_text("utf-8")))
    return keys


def test_every_source_resolves_and_none_is_idle():
    assert _read("docs/references.md") == references.page()
    listed = set(load_sources())
    cited = _cited()
    assert cited - listed == set()
    assert listed - cited == set()


def test_the_page_of_licences_names_what_the_server_is_made_with():
    asked = re.search(r"^dependencies = \[\n(.*?)^\]", _read("pyproject.toml"), re.S | re.M).group(1)
    assert sorted(re.findall(r'^  "([A-Za-z0-9_-]+)', asked, re.M)) == list(PACKAGES)


def test_limits_and_faults_carry_a_source():
    for method in load_methods().values():
        for limit in (*method.limits.values(), method.settling, method.valid_h):
            assert limit.source
    assert all(f.source for quantity in ORDER for f in load_faults(quantity))


@pytest.mark.parametrize("name", sorted(main.commands))
def test_the_readme_names_every_command(name):
    assert f"./brumel {name}" in _read("README.md")


def test_what_a_deployment_is_made_with_names_only_what_there_is():
    texts = {path.name: path.read_text("utf-8") for path in (ROOT / "deploy").iterdir()}
    settings = _read("README.md")
    for name, text in texts.items():
        for variable in set(re.findall(r"\b(BRUMEL_[A-Z_]+|DATABASE_URL)\b", text)):
            assert f"`{variable}`" in settings, (name, variable)
        for command in re.findall(r"brumel (\w[\w-]*) ", text) if name.endswith((".service", ".timer")) else ():
            assert command in main.commands, (name, command)
    services = yaml.safe_load(texts["compose.yaml"])["services"]
    assert services["brumel"]["environment"]["DATABASE_URL"].startswith("postgresql://brumel_app:")
    assert "BRUMEL_OWNER_URL" not in services["brumel"]["environment"]
    assert services["migrate"]["command"][0] in main.commands
    for service in services.values():
        if "build" in service:
            assert (ROOT / service["build"]["dockerfile"]).is_file()
    for container in ("Containerfile", "database.Containerfile"):
        for copied in re.findall(r"^COPY (.+) \S+$", texts[container], re.MULTILINE):
            assert all((ROOT / each).exists() for each in copied.split()), (container, copied)
    for unit in ("brumel.service", "brumel-night.service", "brumel-night.timer"):
        parsed = configparser.RawConfigParser(strict=False)
        parsed.read_string(texts[unit])
        assert {"Unit", "Service" if unit.endswith("service") else "Timer"} <= set(parsed)


def test_the_readme_names_every_setting_and_method_and_picture():
    text = _read("README.md")
    config = (ROOT / "src/brumel/config.py").read_text("utf-8")
    for name in set(re.findall(r'"((?:BRUMEL|DATABASE)_[A-Z_]+)"', config)):
        assert f"`{name}`" in text, name
    for picture in (DOCS / "screenshots").glob("*.png"):
        assert f"docs/screenshots/{picture.name}" in text, picture.name
    for linked in re.findall(r"\((docs/screenshots/[^)]+)\)", text):
        assert (ROOT / linked).exists(), linked
    methods = _read("docs/science.md")
    for key in load_methods():
        assert f"`{key}`" in methods, key


def test_public_core_functions_have_docstrings():
    for module in _modules():
        for name, thing in inspect.getmembers(module, lambda o: inspect.isfunction(o) or inspect.isclass(o)):
            if thing.__module__ == module.__name__ and not name.startswith("_"):
                assert inspect.getdoc(thing), f"{module.__name__}.{name}"


def test_front_end_libraries_are_recorded_with_their_versions():
    import json

    recorded = json.loads(_read("src/brumel/web/static/vendor/versions.json"))
    wanted = json.loads(_read("package.json"))["dependencies"]
    assert {name: recorded[name]["version"] for name in wanted} == wanted


def test_the_words_of_the_work_stand_in_the_document_as_in_the_application():
    """tools/glossary.py writes it; a sentence is one sentence."""
    text = (ROOT / "docs/glossary.md").read_text("utf-8")
    for word, sentence in load_glossary().items():
        assert f"- **{word}**: {sentence}\n" in text, word
        assert sentence.endswith("."), word
        assert 20 < len(sentence) < 160, word


def test_the_pictures_of_the_house_are_the_house():
    """tools/house.py draws them from the imports and the tables."""
    text = (ROOT / "docs/architecture.md").read_text("utf-8")
    assert house.page(text) == text


def test_no_line_of_a_page_s_template_is_over_200_columns():
    pages = (ROOT / "src/brumel/web").rglob("*.html")
    long = [(page.name, n) for page in pages for n, line in enumerate(_read(page).split("\n"), 1) if len(line) > 200]
    assert not long


def test_the_tables_page_names_every_column_of_both_tables():
    text = _read("docs/tables.md")
    columns = [*reading_rows.ABOUT, *visit_rows.ABOUT, *(visit_rows.value_column(q) for q in ON_SHEET)]
    assert not [column for column in columns if f"| `{column}` |" not in text]
    assert set(re.findall(r"`<quantity>(\w+)`", text)) == {part for part in visit_rows.PARTS if part}
    assert set(visit_rows.COLUMNS) == {*visit_rows.ABOUT} | {
        f"{q}{part}" if part else visit_rows.value_column(q) for q in ON_SHEET for part in visit_rows.PARTS
    }
