"""The command line: everything the README names. Each command loads what it needs, so that each starts quickly."""

from __future__ import annotations

import gc
import os
import shutil
import signal
import sys
import tempfile
import threading
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, date, datetime
from importlib import import_module
from pathlib import Path
from typing import LiteralString
from zoneinfo import ZoneInfo

import click
from rich.console import Console

from brumel import chores, operations
from brumel.config import DEMO_ACCOUNTS, DEMO_PASSWORD, Config, ConfigError
from brumel.core.errors import InputError
from brumel.running import Program, Running, leave
from brumel.store.cluster import Cluster, ClusterError, free_port

DEFAULT_PORT = 8420
#: How often a child process looks whether whoever started it is still there [s].
LOOK_S = 4.0
#: How many probes of the demo are calibrated side by side.
HANDS = 2
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
    from brumel.store.migrate import is_newest, migrate

    cluster, running = Cluster("demo"), Running()
    try:
        if fresh:
            out.print("· throwing the old demo away")
            cluster.remove()
        with _step("starting the private database") as say:
            url = _open_database(cluster)
            if _is_half_made(url):
                if cluster.is_shared():
                    raise ClusterError("Another start of the demo is making its history; wait until it is whole.")
                say("the demo's history was cut short last time; starting over")
                cluster.remove()
                url = _open_database(cluster)
            if not is_newest(url):
                say("bringing its tables up to date")
                migrate(url, tell=say)
        chosen = free_port(port)
        if chosen != port:
            out.print(f"· port {port} is taken; using {chosen}")
        env = os.environ | {
            "DATABASE_URL": cluster.app_url(),
            "BRUMEL_SECRET_KEY": cluster.secret("cookie-secret"),
            "BRUMEL_DEMO": "1",
            "BRUMEL_ZONE": "Europe/Oslo",
            "BRUMEL_PLAIN_HTTP": "1",
            "BRUMEL_LINK_TOKEN": cluster.secret("link-token"),
        }
        signal.signal(signal.SIGTERM, leave)
        _read_ahead()
        running.start([_server(f"127.0.0.1:{chosen}", workers)], env)
        _greet(chosen)
        if _has_people(url):
            out.print("· demo data kept from last time (--fresh starts over)")
        else:
            _load(cluster.app_url(), 0 if no_history else None, env["BRUMEL_LINK_TOKEN"])
        out.print("  Ctrl-C stops it; the data stays.\n")
        running.wait_for(chosen)  # the page first, then the meters
        jobs = _brumel("jobs", "--parent", str(os.getpid()))
        running.start(_meters(chosen, cluster.home / "link-spool.sqlite"), env, helpers=[jobs])
        sys.exit(running.until_one_ends())
    except KeyboardInterrupt:
        sys.exit(0)
    except ClusterError as error:
        raise click.ClickException(str(error)) from error
    finally:
        running.end()
        cluster.stop()


def _open_database(cluster: Cluster) -> str:
    cluster.start()
    cluster.ensure_database("brumel")
    return cluster.url()


def _is_half_made(url: str) -> bool:
    """Whether a start before this one was ended while it made the history."""
    return _finds(url, "sim_truths", "select 1 from sim_truths where subject = 'demo:history'")


def _has_people(url: str) -> bool:
    return _finds(url, "users", "select 1 from users limit 1")


def _finds(url: str, table: str, query: LiteralString) -> bool:
    """Whether a query finds a row, where its table is there at all; without all that makes a start slow."""
    import psycopg

    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        there = connection.execute("select to_regclass(%s) is not null", [table]).fetchone() == (True,)
        return there and connection.execute(query).fetchone() is not None


def _greet(port: int) -> None:
    out.print(f"\n  Brumel is on [bold]http://127.0.0.1:{port}/[/bold]")
    for username, name, role in DEMO_ACCOUNTS:
        out.print(f"  sign in as {username} ({name}, {role}), password {DEMO_PASSWORD}")


def _load(url: str, weeks: int | None, token: str) -> None:
    """The demo world with its history, probes calibrated side by side; kept as it is where it is there already."""
    import multiprocessing
    from concurrent.futures import ProcessPoolExecutor

    from brumel.store.sessions import make_engine, make_sessions
    from brumel.work import demo as work_demo
    from brumel.work.desk import Desk

    usual = gc.get_threshold()
    gc.set_threshold(100_000, 50, 100)  # much is made and soon let go: looking for garbage took a fifteenth of it
    engine = make_engine(url, hurried=True)
    desk = Desk(make_sessions(engine))
    how_many = work_demo.WEEKS if weeks is None else weeks
    with ProcessPoolExecutor(HANDS, mp_context=multiprocessing.get_context("fork")) as several:
        several.submit(int).result()  # all of them part now, while no thread runs and no line to the database is open
        with _step("making the demo world; its twelve weeks are lived through this once") as say:
            work_demo.load_demo(
                desk,
                weeks=how_many,
                linked=True,
                progress=lambda step: say(f"demo world: {step}"),
                hands=work_demo.Hands(several),
            )
    out.print("· demo world loaded")
    work_demo.give_token(desk, token)
    engine.dispose()
    gc.set_threshold(*usual)  # the meters and jobs, which part later, live long


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


def _meters(port: int, spool: Path) -> list[Program]:
    """The simulated meters, and one of them behind a real link."""
    cable = free_port(port + 100)
    parent = ("--parent", str(os.getpid()))
    link = ("--server", f"http://127.0.0.1:{port}", "--port", f"socket://127.0.0.1:{cable}", "--spool", str(spool))
    return [
        _brumel("meter", *parent),
        _brumel("meter-port", "--port", str(cable), *parent),
        _brumel("link", *link, "--quiet", *parent),
    ]


def _brumel(*words: str) -> Program:
    return Program(lambda: main.main(list(words), prog_name="brumel"), (sys.executable, "-m", "brumel.cli", *words))


#: What the server, its jobs and the meters run.
SHARED = (
    "gunicorn.app.wsgiapp",
    "uvicorn_worker",
    "brumel.web.doors",
    "brumel.web.jobs.kinds",
    "brumel.web.places",
    "brumel.work.demo",
    "brumel.work.simulator.process",
)


def _read_ahead() -> None:
    """Read what the programs share, once, before they part from this process."""
    gc.disable()  # nothing of what is imported is ever garbage; looking for it takes a third of the time
    for name in SHARED:
        import_module(name)
    gc.freeze()
    gc.enable()


def _server(bind: str, workers: int) -> Program:
    options = {
        "bind": bind,
        "workers": workers,
        "worker-class": "brumel.wsgi.Worker",
        "timeout": 60,
        "backlog": 2048,
        "graceful-timeout": 4,
        "log-level": "warning",
        "config": "python:brumel.wsgi",
    }
    named = [word for name, value in options.items() for word in (f"--{name}", str(value))]
    words = ["gunicorn", *named, "--preload", "--reuse-port", "--no-control-socket", "brumel.wsgi:doors"]

    def run() -> None:
        from gunicorn.app import wsgiapp

        sys.argv = words
        wsgiapp.run()

    return Program(run, (sys.executable, "-m", *words))


@main.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=DEFAULT_PORT, show_default=True)
@click.option("--workers", default=2, show_default=True)
@click.option("--threads", default=16, show_default=True, help="Threads a worker for pages; what is live needs none.")
@click.option("--jobs/--no-jobs", default=True, show_default=True, help="Do long work on this machine too.")
def serve(host: str, port: int, workers: int, threads: int, jobs: bool) -> None:
    """Serve on a database of your own (DATABASE_URL, BRUMEL_SECRET_KEY)."""
    config = _config()
    operations.check_ready(config.database_url)
    if free_port(port) != port:
        raise click.ClickException(f"Port {port} is taken; choose another with --port.")
    _tell_how_to_begin(config, host, port)
    _seal_anew(config)
    running = Running()
    counted = tempfile.mkdtemp(prefix="brumel-figures-")  # what each worker counted, for all of them to tell
    try:
        ready = Path(counted, "ready")
        server = _server(f"{host}:{port}", workers)
        own = {"BRUMEL_THREADS": str(threads), "PROMETHEUS_MULTIPROC_DIR": counted, "BRUMEL_READY": str(ready)}
        os.environ |= {"BRUMEL_LOG": "info"} | os.environ | own  # counting asks for its folder when it is read
        _read_ahead()
        running.start([server], os.environ, [_brumel("jobs", "--parent", str(os.getpid()))] if jobs else [])

        def again(*_: object) -> None:
            ready.unlink(missing_ok=True)
            done = running.replace(server, ready.exists)
            out.print("· new workers answer" if done else "· the new workers never answered; the old ones go on")

        signal.signal(signal.SIGHUP, again)
        sys.exit(running.until_one_ends())
    finally:
        running.end()
        shutil.rmtree(counted, ignore_errors=True)


def _seal_anew(config: Config) -> None:
    """What is kept of passwords and second factors lies under the present key, whatever it lay under before."""
    from brumel.store.sessions import make_engine, make_sessions
    from brumel.work import people
    from brumel.work.desk import Desk
    from brumel.work.sealing import Seal

    engine = make_engine(config.database_url, pool_size=1)
    try:
        done, lost = people.seal_anew(Desk(make_sessions(engine), seal=Seal(config.keys)))
        if done:
            out.print(f"· {done} hashes and seeds are sealed by the present key")
        if lost:
            out.print(
                f"[bold]{lost} hashes and seeds are sealed by a key that is not here: their people cannot sign in. Put the "
                "key of before into BRUMEL_OLD_SECRET_KEYS, or invite them again.[/bold]"
            )
    finally:
        engine.dispose()


def _tell_how_to_begin(config: Config, host: str, port: int) -> None:
    """Where the first person of an empty practice begins."""
    from brumel.config import first_code

    if not _has_people(config.database_url):
        out.print("\n  Nobody is here yet. Whoever opens this address becomes the first person, and its lead:")
        out.print(f"  [bold]http://{host}:{port}/begin/{first_code(config.secret_key)}[/bold]\n")


@main.command("jobs")
@click.option("--parent", type=int, help="End when this process has ended.")
def jobs_command(parent: int | None) -> None:
    """Do the long work that pages ask for; as many of these as you like, on as many machines."""
    from brumel.store.migrate import add_months
    from brumel.store.sessions import JOBS_CHANNEL, Announcements
    from brumel.web import create_app
    from brumel.web.jobs import kinds
    from brumel.work import jobs
    from brumel.work.records import telling
    from brumel.work.rounds import deployments

    config = _config()
    operations.check_ready(config.database_url)
    os.nice(5)  # a page goes before
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    app = create_app(config, longest_s=None)
    kinds.make_ready(app)
    ahead: set[date] = set()

    def chores_of_the_day() -> None:
        deployments.watch(app.extensions["desk"])
        telling.tell(app.extensions["desk"], ZoneInfo(config.zone))
        if (
            today := datetime.now(UTC).date()
        ) not in ahead:  # samples of the coming months get their partitions in time
            add_months(config.database_url, datetime.now(UTC))
            ahead.add(today)

    jobs.process(
        jobs.Doer(app.extensions["desk"], kinds.doers(app)),
        Announcements(config.database_url, JOBS_CHANNEL),
        lambda: parent is None or os.getppid() == parent,
        lambda words: out.print(f"· {words}"),
        chores_of_the_day,
    )


@main.command()
@click.option("--parent", type=int, help="End when this process has ended.")
def meter(parent: int | None) -> None:
    """Run the simulated meters inside Brumel: what their probes show is stored."""
    from brumel.store.sessions import Announcements, make_engine, make_sessions
    from brumel.work.demo import loggers as demo_loggers
    from brumel.work.desk import Desk
    from brumel.work.simulator import process

    url = _config().database_url
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    process.run(
        Desk(make_sessions(make_engine(url, pool_size=2))),
        Announcements(url),
        lambda: parent is None or os.getppid() == parent,
        lambda words: out.print(f"· {words}"),
        demo_loggers.send_on,
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
@click.option("--resend", is_flag=True, help="Send once more what the server would not have.")
@click.option("--quiet", is_flag=True, help="Say nothing but errors.")
@click.option("--parent", type=int, help="End when this process has ended.")
def link(
    server: str, port: str, baud: int, every: float, spool: Path, resend: bool, quiet: bool, parent: int | None
) -> None:
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
    kept = Spool(spool)
    if resend:
        say(
            f"{kept.again()} rows that were kept aside are sent once more; {kept.aside()} of a clock that was off are not"
        )
    try:
        Agent(server, token, port, kept, every_s=every, baud=baud, say=say).run(stop)
    except ServerRefused as error:
        raise click.ClickException(str(error)) from error
    except KeyboardInterrupt:
        stop.set()


@main.command("link-find")
@click.option("--port", required=True, help="Where the meter is plugged in: a serial port, or socket://host:port.")
@click.option("--baud", default=1200, show_default=True)
@click.option("--addresses", default="", help="Which to ask, as 0123; all 62 otherwise.")
def link_find(port: str, baud: int, addresses: str) -> None:
    """List who answers on a meter's line: each address, what the sensor says of itself, and the values it shows."""
    import serial

    from brumel.meters import sdi12

    try:
        with serial.serial_for_url(port, baudrate=baud, bytesize=7, parity="E", timeout=0.2) as line:
            recorder = sdi12.Recorder(line)
            for address in recorder.find(addresses or sdi12.ADDRESSES):
                try:
                    who, shown = recorder.identify(address), recorder.values(address)
                except sdi12.LinkFault as error:
                    out.print(f"{address}  {error}")
                    continue
                values = ", ".join(f"{n}: {value:g}" for n, value in enumerate(shown or (), 1))
                out.print(f"{address}  {who.vendor} {who.model} {who.version} (SDI-12 {who.protocol})  {values}")
    except (OSError, serial.SerialException) as error:
        raise click.ClickException(f"Nothing can be asked on {port}: {error}") from error


def _end_with(parent: int, stop: threading.Event) -> None:
    while os.getppid() == parent:
        time.sleep(LOOK_S)
    stop.set()


@main.command()
@click.option("--as", "username", required=True, help="The lead who answers for it.")
@click.option(
    "--apply", "reason", default="", help="Write the new versions, with this reason; without it they are only shown."
)
@click.option("--uncertainties", is_flag=True, help="Also readings whose uncertainty alone comes out otherwise.")
def rework(username: str, reason: str, uncertainties: bool) -> None:
    """Show what an earlier version wrote and would come out otherwise today; work it out anew with --apply."""
    from brumel.store.sessions import make_engine, make_sessions
    from brumel.work import people
    from brumel.work.desk import Desk, Refused
    from brumel.work.records import reworking

    desk = Desk(make_sessions(make_engine(_config().database_url)))
    with desk.read() as session:
        lead = people.by_username(session, username)
        wanted = reworking.visits(session)
    if lead is None or lead.role != "lead":
        raise click.ClickException(
            f"“{username[:40]}” is not a lead here; readings are worked out anew in a lead's name."
        )
    shown = 0
    for row in reworking.preview(desk, lead, uncertainties=uncertainties):
        shown += 1
        back = ", signed: returns to review" if row.signed else ""
        out.print(f"{row.at:%d %b %Y %H:%M} {row.site}, {row.quantity}: {row.old_words} becomes {row.new_words}{back}")
    out.print(f"· {shown} readings come out otherwise")
    if not reason or not shown:
        return
    try:
        done = [
            reworking.apply(
                desk, lead, uuid.uuid4(), visit_id=v, reason=reason, name=lead.name, uncertainties=uncertainties
            ).readings
            for v in wanted
        ]
    except (InputError, Refused) as error:
        raise click.ClickException(str(error)) from error
    out.print(f"· {sum(done)} new versions written; they wait for review")


@main.command("add-user")
@click.argument("username")
@click.argument("name")
@click.option("--role", type=click.Choice(("technician", "lead", "auditor")), default="technician", show_default=True)
@click.password_option()
def add_user(username: str, name: str, role: str, password: str) -> None:
    """Add a person to the database of DATABASE_URL."""
    from brumel.store.sessions import make_engine, make_sessions
    from brumel.work import people
    from brumel.work.desk import Desk
    from brumel.work.sealing import Seal

    config = _config()
    desk = Desk(make_sessions(make_engine(config.database_url)), seal=Seal(config.keys))
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


for _command in (*operations.COMMANDS, *chores.COMMANDS):
    main.add_command(_command)


@main.command("help")
@click.pass_context
def help_command(context: click.Context) -> None:
    """Show this list."""
    click.echo(main.get_help(context))


if __name__ == "__main__":
    main(prog_name="brumel")
