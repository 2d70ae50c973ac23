"""Commands of whoever works on Brumel: tests, checks, vendoring, pictures, benchmarks, lock files."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import click
from rich.console import Console

from brumel.store.cluster import ROOT, Cluster, ClusterError

out = Console(stderr=False, highlight=False)
DEPLOY = ROOT / "deploy"


def _run(*line: str, env: dict[str, str] | None = None) -> int:
    out.print(f"[dim]$ {' '.join(line)}[/dim]")
    return subprocess.run(line, cwd=ROOT, check=False, env=env).returncode


def _env_of(cluster: Cluster) -> dict[str, str]:
    """Where a tool finds a private database: as its owner, who makes it, and as the application, which works on it."""
    urls = {"BRUMEL_TEST_CLUSTER": cluster.url("postgres"), "BRUMEL_TEST_APP": cluster.app_url("postgres")}
    return os.environ | urls


def _tool(name: str) -> str:
    return str(Path(sys.executable).parent / name)


# The slowest are collected first (tests/conftest.py) and handed out one by one: no worker is left alone with them.
# Three workers on two cores: what a browser waits for leaves a core free.
SPREAD = ("-n", "3", "--dist", "load", "--maxschedchunk", "1", "--durations", "20")
#: What finds most mistakes in a minute: the rules, the formats, and of each place what tells soonest that it is broken.
QUICK = (
    "tests/core",
    "tests/methods/test_methods.py",
    "tests/formats",
    "tests/docs",
    "tests/meters/test_sensors.py",
    "tests/work/test_same_again.py",
    "tests/work/test_kit_things.py",
    "tests/work/test_jobs.py",
    "tests/work/test_places.py",
    "tests/web/test_conflicts.py",
    "tests/web/test_pages.py",
    "tests/web/test_weight.py",
    "tests/web/test_worksheet.py",
)


def _chosen(quick: bool, cover: bool, arguments: tuple[str, ...]) -> list[str]:
    """What pytest is called with. Tracing slows the long ones by half, so it is asked for."""
    traced = ("--cov", "--cov-report", "term:skip-covered") if cover else ()
    return [*(arguments or SPREAD), *traced, *(QUICK if quick else ())]


@click.command(context_settings={"ignore_unknown_options": True})
@click.option("--quick", is_flag=True, help="Those that find most mistakes in a minute; no browser.")
@click.option("--cover", is_flag=True, help="With their coverage; takes half as long again.")
@click.argument("arguments", nargs=-1, type=click.UNPROCESSED)
def test(quick: bool, cover: bool, arguments: tuple[str, ...]) -> None:
    """Run every test; further arguments go to pytest."""
    cluster = Cluster("test")
    started = time.monotonic()
    try:
        with out.status("starting the test database"):
            cluster.start()
        env = _env_of(cluster) | {"PYTHONPATH": str(ROOT / "src")}
        code = _run(sys.executable, "-m", "pytest", *_chosen(quick, cover, arguments), env=env)
        out.print(f"· {time.monotonic() - started:.0f} s")
    except ClusterError as error:
        raise click.ClickException(str(error)) from error
    finally:
        cluster.stop()
    sys.exit(code)


@click.command()
@click.option("--fix", is_flag=True, help="Put right what can be put right.")
def check(fix: bool) -> None:
    """Format, lint, types and layers: Python, pages, scripts, styles, and the files of a deployment."""
    lines = [
        [_tool("ruff"), "format", *([] if fix else ["--check"]), "."],
        [_tool("ruff"), "check", *(["--fix"] if fix else []), "."],
        [_tool("mypy")],
        [_tool("lint-imports")],
        [_tool("djlint"), "src/brumel/web", "--lint", "--quiet"],
    ]
    node = ROOT / "node_modules" / ".bin"
    if not (node / "biome").exists() or not (node / "dockerfile-utils").exists():
        lines.append(["npm", "install", "--no-save", "--silent"])
    scripts = ["src/brumel/web/static/js", "src/brumel/web/static/css"]
    lines.append([str(node / "biome"), "check", *(["--write"] if fix else []), *scripts])
    codes = [_run(*line) for line in [*lines, *_of_a_deployment(node)]]
    sys.exit(max(codes))


def _of_a_deployment(node: Path) -> list[list[str]]:
    """Linters of the files in deploy/; what only some machines have is asked where it is there."""
    lines = [
        [_tool("check-jsonschema"), "--builtin-schema", "vendor.compose-spec", "deploy/compose.yaml"],
        *([str(node / "dockerfile-utils"), "lint", str(file)] for file in sorted(DEPLOY.glob("*Containerfile"))),
    ]
    if shutil.which("shellcheck"):
        lines.append(["shellcheck", "--shell=sh", "deploy/database-start"])
    return lines


@click.command()
def vendor() -> None:
    """Fetch the front-end libraries from npm into the source tree and record their versions."""
    sys.exit(_run(sys.executable, str(ROOT / "tools" / "vendor.py")))


@click.command()
def shots() -> None:
    """Take the pictures of docs/screenshots from the running demo data."""
    sys.exit(_with_database("shots", [sys.executable, str(ROOT / "tools" / "shots.py")]))


@click.command()
def bench() -> None:
    """Print the benchmarks as ratios measured in one run."""
    sys.exit(_with_database("bench", [sys.executable, str(ROOT / "benchmarks" / "run.py")]))


@click.command()
@click.option("--sample", default=200, show_default=True, help="How many mutants.")
@click.option("--seed", default=1, show_default=True, help="Which ones; the same seed draws the same.")
def mutants(sample: int, seed: int) -> None:
    """Change core in small ways and print the share that a test notices (a quarter of an hour for 200)."""
    sys.exit(_run(sys.executable, str(ROOT / "tools" / "mutants.py"), "--sample", str(sample), "--seed", str(seed)))


@click.command()
@click.option("--seconds", default=120.0, show_default=True, help="How long.")
@click.option("--seed", default=1, show_default=True, help="The same seed asks in the same order.")
def campaign(seconds: float, seed: int) -> None:
    """Ask every page and form for what nobody should, and tell of each answer that is an error of ours."""
    line = [sys.executable, str(ROOT / "tools" / "campaign.py"), "--seconds", str(seconds), "--seed", str(seed)]
    sys.exit(_with_database("campaign", line))


def _with_database(name: str, line: list[str]) -> int:
    """Run a tool with a private database that is thrown away afterwards."""
    cluster = Cluster(name)
    try:
        cluster.remove()
        cluster.start()
        return _run(*line, env=_env_of(cluster) | {"PYTHONPATH": f"{ROOT / 'src'}:{ROOT}"})
    finally:
        cluster.stop()
        cluster.remove()


@click.command()
def lock() -> None:
    """Write the lock files anew from pyproject.toml (needs uv)."""
    base = [
        "uv",
        "pip",
        "compile",
        "pyproject.toml",
        "--python-version",
        "3.11",
        "--generate-hashes",
        "--no-annotate",
        "--no-header",
        "--no-strip-extras",
        "--quiet",
        "--upgrade",
    ]
    codes = [
        _run(*base, "-o", "requirements.lock"),
        _run(*base, "--extra", "dev", "-c", "requirements.lock", "-o", "requirements-dev.lock"),
    ]
    sys.exit(max(codes))


COMMANDS = (test, check, vendor, shots, bench, lock, mutants, campaign)
