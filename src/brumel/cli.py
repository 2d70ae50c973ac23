"""The command line: everything the README names. Each command loads what it needs, so that each starts quickly."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

import click
from rich.console import Console

from brumel import chores
from brumel.config import Config, ConfigError, sqlalchemy_url
from brumel.core.errors import InputError
from brumel.store.cluster import Cluster, ClusterError, free_port

DEFAULT_PORT = 8420
#: How often a child process looks whether whoever started it is still there [s].
LOOK_S = 2.0
out = Console(stderr=False, highlight=False)


@click.group(context_settings={"help_option_names": ["-h", "--help"]})
def main() -> None:
    """Brumel: bench partner and field book of a water-quality technician."""


@main.command()
@click.option("--fresh", is_flag=True, help="Throw the demo's data away and start over.")
@click.option("--port", default=DEFAULT_PORT, show_default=True, help="First port to try.")
@click.option("--workers", default=2, show_default=True, help="Web workers.")
@click.option("--no-history", is_flag=True, help="Leave out the twelve weeks of history.")
def demo(fresh: bool, port: int, workers: int, no_history: bool) -> None:
    """Start everything with demo data: database, simulated meter, web server on 127.0.0.1."""
    from brumel.store.migrate import migrate
    from brumel.store.sessions import make_engine, make_sessions
    from brumel.work import demo as work_demo
    from brumel.work.desk import Desk

    cluster = Cluster("demo")
    try:
        if fresh:
            out.print("· throwing the old demo away")
            cluster.remove()
        with _step("starting the private database") as say:
            cluster.start()
            cluster.ensure_database("brumel")
            url = cluster.url()
            say("bringing its tables up to date")
            migrate(url)
        engine = make_engine(url)
        desk = Desk(make_sessions(engine))
        weeks = 0 if no_history else work_demo.WEEKS
        with _step("looking for the demo world; making it takes some minutes the first time") as say:
            loaded = work_demo.load_demo(
                desk, weeks=weeks, linked=True, progress=lambda step: say(f"demo world: {step}")
            )
        out.print("· demo world loaded" if loaded else "· demo data kept from last time (--fresh starts over)")
        token = cluster.secret("link-token")
        work_demo.give_token(desk, token)
        engine.dispose()
        chosen = free_port(port)
        if chosen != port:
            out.print(f"· port {port} is taken; using {chosen}")
        env = os.environ | {
            "DATABASE_URL": url,
            "BRUMEL_SECRET_KEY": cluster.secret("cookie-secret"),
            "BRUMEL_DEMO": "1",
            "BRUMEL_ZONE": "Europe/Oslo",
            "BRUMEL_PLAIN_HTTP": "1",
            "BRUMEL_LINK_TOKEN": token,
        }
        out.print(f"\n  Brumel is on [bold]http://127.0.0.1:{chosen}/[/bold]")
        for username, name, role in work_demo.ACCOUNTS:
            out.print(f"  sign in as {username} ({name}, {role}), password {work_demo.PASSWORD}")
        out.print("  Ctrl-C stops it; the data stays.\n")
        sys.exit(_together(env, chosen, workers, cluster.home / "link-spool.sqlite"))
    except ClusterError as error:
        raise click.ClickException(str(error)) from error
    finally:
        cluster.stop()


@contextmanager
def _step(words: str) -> Iterator[Callable[[str], None]]:
    """Say what is being done: as a line that changes on a terminal that can, else as a line each."""
    if out.is_terminal:
        with out.status(words) as status:
            yield status.update
        return
    started = time.monotonic()
    click.echo(f"· {words}")
    yield lambda step: click.echo(f"· {step} ({time.monotonic() - started:.0f} s)")


def _together(env: dict[str, str], port: int, workers: int, spool: Path) -> int:
    """Run the web server, the simulated meters and the link of one until one ends or we are told to stop."""
    cable = free_port(port + 100)
    parent = ["--parent", str(os.getpid())]
    commands = [
        [sys.executable, "-m", "brumel.cli", "serve", "--port", str(port), "--workers", str(workers)],
        [sys.executable, "-m", "brumel.cli", "meter", *parent],
        [sys.executable, "-m", "brumel.cli", "meter-port", "--port", str(cable), *parent],
        [
            sys.executable,
            "-m",
            "brumel.cli",
            "link",
            "--server",
            f"http://127.0.0.1:{port}",
            "--port",
            f"socket://127.0.0.1:{cable}",
            "--spool",
            str(spool),
            "--quiet",
            *parent,
        ],
    ]
    children = [subprocess.Popen(c, env=env) for c in commands]

    def leave(*_: object) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, leave)
    try:
        while all(c.poll() is None for c in children):
            time.sleep(0.3)
        return max((c.returncode or 0) for c in children)
    except KeyboardInterrupt:
        return 0
    finally:
        for child in children:
            child.terminate()
        for child in children:
            try:
                child.wait(timeout=8)
            except subprocess.TimeoutExpired:
                child.kill()


@main.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=DEFAULT_PORT, show_default=True)
@click.option("--workers", default=2, show_default=True)
@click.option("--threads", default=64, show_default=True, help="Threads a worker; each live page holds one.")
def serve(host: str, port: int, workers: int, threads: int) -> None:
    """Serve on a database of your own (DATABASE_URL, BRUMEL_SECRET_KEY)."""
    _config()
    os.execv(  # noqa: S606
        sys.executable,
        [
            sys.executable,
            "-m",
            "gunicorn",
            "--bind",
            f"{host}:{port}",
            "--workers",
            str(workers),
            "--worker-class",
            "gthread",
            "--threads",
            str(threads),
            "--timeout",
            "60",
            "--graceful-timeout",
            "3",
            "--log-level",
            "warning",
            "--no-control-socket",
            "brumel.wsgi:app",
        ],
    )


@main.command("migrate")
def migrate_command() -> None:
    """Bring the database of DATABASE_URL up to the newest tables."""
    from brumel.store.migrate import migrate

    url = os.environ.get("DATABASE_URL")
    if not url:
        raise click.ClickException("DATABASE_URL is not set; point it at a PostgreSQL server.")
    migrate(sqlalchemy_url(url))
    out.print("· up to date")


@main.command()
@click.option("--parent", type=int, help="End when this process has ended.")
def meter(parent: int | None) -> None:
    """Run the simulated meters inside Brumel: what their probes show is stored."""
    from brumel.store.sessions import Announcements, make_engine, make_sessions
    from brumel.work.desk import Desk
    from brumel.work.simulator import process

    url = _config().database_url
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    process.run(
        Desk(make_sessions(make_engine(url, pool_size=2))),
        Announcements(url),
        lambda: parent is None or os.getppid() == parent,
        lambda words: out.print(f"· {words}"),
    )


@main.command("meter-port")
@click.option("--port", type=int, required=True, help="TCP port on loopback the meter's cable comes out of.")
@click.option("--meter", "name", default="Field set A", show_default=True, help="Which meter is played.")
@click.option("--parent", type=int, help="End when this process has ended.")
def meter_port(port: int, name: str, parent: int | None) -> None:
    """Run a simulated meter on a TCP port that speaks the link's protocol (SDI-12)."""
    from brumel.meters.port import serve as serve_port
    from brumel.store.sessions import make_engine, make_sessions
    from brumel.work import simulator as work_simulator
    from brumel.work.desk import Desk

    desk = Desk(make_sessions(make_engine(_config().database_url, pool_size=3)))
    cable = work_simulator.Cable(desk, name)
    server = serve_port("127.0.0.1", port, cable.addresses, cable.sense)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    threading.Thread(target=server.serve_forever, args=(LOOK_S,), daemon=True).start()
    while parent is None or os.getppid() == parent:
        time.sleep(LOOK_S)


@main.command()
@click.option("--server", required=True, help="Address of Brumel, as https://brumel.example.")
@click.option("--port", required=True, help="Where the meter is plugged in: a serial port, or socket://host:port.")
@click.option("--baud", default=1200, show_default=True)
@click.option("--every", default=0.5, show_default=True, help="Seconds between readings.")
@click.option(
    "--spool",
    type=click.Path(dir_okay=False, path_type=Path),
    default=Path("brumel-link.sqlite"),
    show_default=True,
    help="File that keeps what is not yet sent.",
)
@click.option("--quiet", is_flag=True, help="Say nothing but errors.")
@click.option("--parent", type=int, help="End when this process has ended.")
def link(server: str, port: str, baud: int, every: float, spool: Path, quiet: bool, parent: int | None) -> None:
    """Read a meter where it is plugged in and post what it shows, with the token of BRUMEL_LINK_TOKEN."""
    from brumel.meters.agent import Agent, ServerRefused, Spool

    token = os.environ.get("BRUMEL_LINK_TOKEN", "")
    if not token:
        raise click.ClickException("BRUMEL_LINK_TOKEN is not set; the lead makes a token in Kit, on the meter's page.")
    if not server.startswith(("http://", "https://")):
        raise click.ClickException("The server's address must begin with http:// or https://.")
    stop = threading.Event()
    signal.signal(signal.SIGTERM, lambda *_: stop.set())
    if parent is not None:
        threading.Thread(target=_end_with, args=(parent, stop), daemon=True).start()
    say = (lambda _: None) if quiet else (lambda words: out.print(f"· link: {words}"))
    try:
        Agent(server, token, port, Spool(spool), every_s=every, baud=baud, say=say).run(stop)
    except ServerRefused as error:
        raise click.ClickException(str(error)) from error
    except KeyboardInterrupt:
        stop.set()


def _end_with(parent: int, stop: threading.Event) -> None:
    while os.getppid() == parent:
        time.sleep(LOOK_S)
    stop.set()


@main.command("add-user")
@click.argument("username")
@click.argument("name")
@click.option("--role", type=click.Choice(("technician", "lead")), default="technician", show_default=True)
@click.password_option()
def add_user(username: str, name: str, role: str, password: str) -> None:
    """Add a person to the database of DATABASE_URL."""
    from brumel.store.sessions import make_engine, make_sessions
    from brumel.work import people
    from brumel.work.desk import Desk

    desk = Desk(make_sessions(make_engine(_config().database_url)))
    try:
        with desk.sessions.begin() as session:
            people.add_user(session, desk, username, name, role, password)
    except InputError as error:
        raise click.ClickException(" ".join(str(fault) for fault in error.faults)) from error
    out.print(f"· {username} added as {role}, {datetime.now(UTC):%d %b %Y}")


def _config() -> Config:
    try:
        return Config.from_env()
    except ConfigError as error:
        raise click.ClickException(str(error)) from error


for _command in chores.COMMANDS:
    main.add_command(_command)


@main.command("help")
@click.pass_context
def help_command(context: click.Context) -> None:
    """Show this list."""
    click.echo(main.get_help(context))


if __name__ == "__main__":
    main(prog_name="brumel")
