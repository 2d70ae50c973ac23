"""The link's protocol against the published command set, the spool, and a whole cable with a server that comes and goes."""

import json
import os
import re
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest
import serial
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from brumel.cli import main
from brumel.meters import sdi12
from brumel.meters.agent import Agent, ServerRefused, Spool
from brumel.meters.port import serve


def test_the_check_letters_are_the_standard_s_own():
    assert sdi12.check_letters("0+3.14") == "OqZ"  # SDI-12 standard 1.4, section 4.4.12.3, its worked example


ANSWERS = [
    ("?!", "1\r\n"),
    ("1!", "1\r\n"),
    ("2I!", "214TARNHOLTFIELD1100\r\n"),
    ("1M!", "10002\r\n"),
    ("1C!", "100002\r\n"),
    ("1D0!", "1\r\n"),  # nothing was measured before
    ("1R0!", "1+12.500+20.000\r\n"),
    ("9!", ""),
    ("1X!", ""),
    ("1MC!", "10002\r\n"),
    ("1M3!", "10000\r\n"),
    ("1R7!", "1\r\n"),
    ("1D0!1D0!", ""),
    ("", ""),
    ("1RC0", ""),
]


@pytest.mark.parametrize(("command", "answer"), ANSWERS)
def test_commands_get_the_standard_s_answers(command, answer):
    assert sdi12.respond(command, ("1", "2"), lambda address: (12.5, 20.0)) == answer


#: Exchanges as the standard shows them, and what is in them [SDI12, 4.4.5 to 4.4.13]; the first check sum is its own.
def test_answers_are_read_as_the_standard_writes_them():
    assert sdi12.parse("0", "0+3.14OqZ\r\n") == (3.14,)
    assert sdi12.announced("0", "M", "00011\r\n") == (1, 1)
    assert sdi12.announced("3", "M", "30053\r\n") == (5, 3)
    assert sdi12.announced("a", "C", "a04510\r\n") == (45, 10)
    assert sdi12.numbers("+3.14-2.718+1.414") == (3.14, -2.718, 1.414)
    assert sdi12.numbers("+1234567-.5+3.") == (1234567.0, -0.5, 3.0)
    who = sdi12.identity("0", "014CAMPBOREXXXXXX123WIRE0001\r\n".replace("CAMPBORE", "TARNHOLT"))
    assert who == ("1.4", "TARNHOLT", "XXXXXX", "123", "WIRE0001")
    assert [sdi12.ask("0", how) for how in ("R0", "R3", "M0", "M2", "C0")] == [
        "0RC0!",
        "0RC3!",
        "0MC!",
        "0MC2!",
        "0CC!",
    ]


@pytest.mark.parametrize(
    ("read", "answer"),
    [
        (lambda a: sdi12.announced("0", "M", a), "10011"),
        (lambda a: sdi12.announced("0", "M", a), "0001"),
        (lambda a: sdi12.announced("0", "C", a), "00011"),
        (lambda a: sdi12.announced("0", "M", a), "0xx11"),
        (lambda a: sdi12.identity("0", a), "014SHORT"),
        (lambda a: sdi12.identity("0", a), "1" + "14TARNHOLTFIELD1100"),
        (sdi12.numbers, "+12345678"),
        (sdi12.numbers, "3.14"),
        (sdi12.numbers, "+3.14 "),
        (sdi12.numbers, "+"),
        (lambda a: sdi12.ask("0", a), "X1"),
        (lambda a: sdi12.ask("0", a), "R0!1M"),
    ],
)
def test_what_the_standard_does_not_write_is_a_fault(read, answer):
    with pytest.raises(sdi12.LinkFault):
        read(answer)


class _Wire:
    """A line with sensors on it that take their time: what is written, every break, and answers as they are due."""

    def __init__(self, meter, seconds=0, asks_for_service=True):
        self.meter, self.seconds, self.asks = meter, seconds, asks_for_service
        self.written, self.breaks, self.slept, self._out, self._later = [], [], [], [], []
        self.spoil = lambda answer: answer  # what the line makes of fetched values

    def write(self, data):
        command = data.decode()
        self.written.append(command)
        answer = self.meter.respond(command)
        answer = self.spoil(answer) if "D" in command else answer
        if self.seconds and answer and command[1] in "MC":
            answer = f"{answer[0]}{self.seconds:03d}{answer[4:]}"
            if command[1] == "M" and self.asks:
                self._later = [f"{command[0]}\r\n"]
        self._out = [answer, *self._later] if answer else []
        self._later = []

    def read_until(self, end):
        return (self._out.pop(0) if self._out else "").encode()

    def reset_input_buffer(self):
        self._out = []

    def send_break(self, duration):
        self.breaks.append(duration)


NINE = [1.25, -2.5, 3.125, 1000.5, -0.25, 6.0, 7.5, 88888.5, 9.0]


@pytest.mark.parametrize("how", ["R0", "M0", "C0"])
@pytest.mark.parametrize("seconds", [0, 3])
def test_every_value_of_a_sensor_is_fetched_by_every_command(how, seconds):
    wire = _Wire(sdi12.Meter(("0", "b"), lambda address: NINE), seconds)
    recorder = sdi12.Recorder(wire, wire.slept.append)
    assert recorder.values("b", how) == tuple(NINE)
    assert recorder.values("c", how) is None
    assert wire.breaks
    assert set(wire.breaks) == {sdi12.BREAK_S}
    assert sdi12.BREAK_S >= 0.012  # the least a break lasts [SDI12, 4.2.1]
    if how != "R0":
        fetched = [command for command in wire.written if "D" in command]
        assert fetched == [f"bD{n}!" for n in range(len(fetched))]
        assert len(fetched) == (2 if how == "M0" else 1)  # 35 characters of values fit, of a concurrent one 75
    assert (3 in wire.slept) == (how == "C0" and seconds == 3)


def test_a_sensor_that_forgets_to_ask_for_service_is_fetched_after_its_time():
    wire = _Wire(sdi12.Meter("0", lambda address: NINE[:2]), 2, asks_for_service=False)
    assert sdi12.Recorder(wire, lambda s: None).values("0", "M0") == (1.25, -2.5)


def test_a_spoiled_value_is_a_fault_and_never_a_value():
    meter = sdi12.Meter("0", lambda address: NINE[:3])
    for spoil in (lambda a: a.replace("1.25", "1.26"), lambda a: a[:-6] + "\r\n", lambda a: "", lambda a: "9" + a[1:]):
        wire = _Wire(meter)
        wire.spoil = spoil
        with pytest.raises(sdi12.LinkFault):
            sdi12.Recorder(wire, lambda s: None).values("0", "M0")


def test_the_simulated_meter_is_asked_over_its_cable_by_every_command():
    """Through a real socket, which has no break: the recorder does without."""
    cable = serve("127.0.0.1", 0, lambda: ["1", "5"], lambda address: (float(address) * 10, 20.0, 3.5))
    threading.Thread(target=cable.serve_forever, daemon=True).start()
    try:
        port = f"socket://127.0.0.1:{cable.server_address[1]}"
        with serial.serial_for_url(port, timeout=0.3) as line:
            recorder = sdi12.Recorder(line)
            assert recorder.find("0159") == ["1", "5"]
            assert recorder.identify("5").model == "FIELD1"
            for how in ("R0", "M0", "C0"):
                assert recorder.values("5", how) == (50.0, 20.0, 3.5), how
            assert recorder.values("9") is None
        listed = CliRunner().invoke(main, ["link-find", "--port", port, "--addresses", "0159"])
        assert [line.split() for line in listed.output.splitlines()] == [
            ["1", "TARNHOLT", "FIELD1", "100", "(SDI-12", "1.4)", "1:", "10,", "2:", "20,", "3:", "3.5"],
            ["5", "TARNHOLT", "FIELD1", "100", "(SDI-12", "1.4)", "1:", "50,", "2:", "20,", "3:", "3.5"],
        ]
    finally:
        cable.shutdown()


def test_who_is_on_a_line_is_found_and_named():
    wire = _Wire(sdi12.Meter(("0", "7", "Z"), lambda address: NINE))
    recorder = sdi12.Recorder(wire, wire.slept.append)
    assert recorder.find() == ["0", "7", "Z"]
    assert len(wire.written) == 62
    assert recorder.identify("7") == ("1.4", "TARNHOLT", "FIELD1", "100", "")


@given(y=st.floats(-9.99e6, 9.99e6), c=st.floats(-40, 130), address=st.sampled_from("0aZ5"))
def test_what_is_sent_is_read_and_a_changed_letter_is_not(y, c, address):
    line = sdi12.respond(sdi12.ask(address), (address,), lambda _: (y, c))
    found = sdi12.parse(address, line)
    assert found[0] == pytest.approx(y, rel=1e-6, abs=6e-4)
    assert found[1] == pytest.approx(c, abs=6e-4)
    for broken in (line.replace("+", "-", 1) if "+" in line else line.replace("-", "+", 1), line[1:], "x" * 200, ""):
        with pytest.raises(sdi12.LinkFault):
            sdi12.parse(address, broken)
    with pytest.raises(sdi12.LinkFault, match="answered instead"):
        sdi12.parse("Q", line)


@settings(max_examples=40)
@given(command=st.text(max_size=90))
def test_no_command_upsets_a_meter(command):
    assert isinstance(sdi12.respond(command, ("1",), lambda _: (1.0, 2.0)), str)


def test_the_spool_keeps_order_and_sessions_through_a_restart(tmp_path):
    path = tmp_path / "spool.sqlite"
    spool = Spool(path)
    spool.add("a", [["1", 0.5, 1.0, 20.0], ["1", 1.0, 1.1, 20.0]])
    spool.add("b", [["1", 0.5, 9.0, 20.0]])
    again = Spool(path)  # the program was killed and started anew
    session, ids, rows = again.oldest()
    assert (session, [r[1] for r in rows], again.waiting()) == ("a", [0.5, 1.0], 3)
    again.sent(ids)
    session, ids, rows = again.oldest()
    assert (session, rows) == ("b", [["1", 0.5, 9.0, 20.0]])
    again.refused(ids)
    assert again.oldest() == ("", [], [])
    assert again.waiting() == 0


class _Server:
    """A server that takes rows, and can be switched off, or refuse."""

    def __init__(self):
        self.rows, self.hellos, self.up, self.known = [], 0, True, True
        self.idle, self.dipped = False, threading.Event()
        self.broken = []  # bytes that stand in for answers, each given once
        self.passing, self.wrong_clock = [], 0  # statuses of a proxy's page; so often a clock is not believed
        self.late, self.asked = 0.0, 0  # how long the next rows are on their way [s]; comparisons asked for
        self.began, self.skew, self.slow = {}, 0.0, []  # [s]: how far its clock was set; how long answers take
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def log_message(self, *_):
                return

            def do_POST(self):
                body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
                if not outer.up:
                    self.send_response(503)
                    self.end_headers()
                    return
                if outer.passing and self.path == "/link/samples":
                    self.send_response(outer.passing.pop())  # a proxy's page, not Brumel's word
                    self.end_headers()
                    self.wfile.write(b"<html>Not found</html>")
                    return
                code, answer = outer.answer(self.path, body)
                if outer.broken and self.path == "/link/samples":
                    self.wfile.write(outer.broken.pop())  # the rows were stored, but the link does not hear of it
                    return
                self.send_response(code)
                self.end_headers()
                self.wfile.write(json.dumps(answer).encode())

        self.http = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.http.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self.http.server_port}"

    def answer(self, path, body):
        if not self.known:
            return 401, {"error": "This link's token is not known."}
        if path == "/link/hello":
            self.hellos += 1
            self.began[f"s{self.hellos}"] = time.monotonic() + self.skew
            return 200, {"session": f"s{self.hellos}", "meter": "Set", "addresses": ["1", "2"]}
        if path == "/link/clock":
            self.asked += 1
            at_s = time.monotonic() + self.skew - self.began[body["session"]]
            time.sleep(self.slow.pop() if self.slow else 0)
            return 200, {"at_s": at_s}
        if self.wrong_clock and path == "/link/samples":
            self.wrong_clock -= 1
            return 409, {"error": "The link's clock is 300 s off since its session began."}
        if path == "/link/wait":
            self.dipped.wait(10)
            self.idle = not self.dipped.is_set()
            return 200, {"idle": self.idle}
        late, self.late = self.late, 0.0
        off_by = time.monotonic() + self.skew + late - self.began[body["session"]] - body.get("now", 0)
        if "now" in body and abs(off_by) > 2 and abs(body.get("off", 99)) > 2:
            return 409, {"error": f"The link's clock is {off_by:.0f} s off since its session began."}
        self.rows += [(body["session"], *row) for row in body["rows"]]
        return 200, {"stored": len(body["rows"]), "idle": self.idle}


@pytest.fixture
def server():
    made = _Server()
    yield made
    made.http.shutdown()


def wait(until, longest=20.0):
    end = time.monotonic() + longest
    while not until() and time.monotonic() < end:
        time.sleep(0.05)
    assert until()


def test_an_outage_loses_and_doubles_nothing(server, tmp_path):
    late = [0.9]  # one answer comes after the program has given up waiting for it

    def sense(address):
        time.sleep(late.pop() if late else 0)
        return float(address) * 10, 20.0

    cable = serve("127.0.0.1", 0, lambda: ["1", "2"], sense)
    threading.Thread(target=cable.serve_forever, daemon=True).start()
    said, stop = [], threading.Event()
    agent = Agent(
        server.url,
        "t",
        f"socket://127.0.0.1:{cable.server_address[1]}",
        Spool(tmp_path / "s"),
        every_s=0.05,
        say=said.append,
    )
    thread = threading.Thread(target=agent.run, args=(stop,), daemon=True)
    thread.start()
    try:
        wait(lambda: len(server.rows) > 8)
        server.up = False
        before = len(server.rows)
        wait(lambda: agent.spool.waiting() > 10)
        server.up = True
        wait(lambda: len(server.rows) > before + 10 and agent.spool.waiting() < 8)
        server.wrong_clock = 2  # nor after a comparison: the clocks have drifted apart, and a new session begins
        wait(lambda: server.hellos == 2 and any(r[0] == "s2" for r in server.rows))
    finally:
        stop.set()
        thread.join(5)
        cable.shutdown()
    for address in ("1", "2"):
        for session in ("s1", "s2"):
            times = [r[2] for r in server.rows if r[:2] == (session, address)]
            assert times == sorted(times)
            assert len(times) == len(set(times))
        assert {r[3] for r in server.rows if r[1] == address} == {float(address) * 10}
    gaps = [r[2] for r in server.rows if r[:2] == ("s1", "1")]
    assert max(b - a for a, b in zip(gaps, gaps[1:], strict=False)) < 3  # what was read in the outage came after it
    assert any("no line" in line for line in said)
    assert "the line is back" in said


BROKEN = [
    b"HTTP/1.0 200 OK\r\nContent-Length: 60\r\n\r\n",  # the server is killed while it answers
    b"nonsense\r\n\r\n",
    b"",
    b"HTTP/1.0 200 OK\r\n\r\n<html>Sign in to this network</html>",
    b"HTTP/1.0 200 OK\r\n\r\n[1, 2]",
    b"HTTP/1.0 422 No\r\nContent-Length: 60\r\n\r\n{",
]


def test_the_link_outlives_answers_that_are_none(server, tmp_path):
    cable = serve("127.0.0.1", 0, lambda: ["1", "2"], lambda address: (1.0, 20.0))
    threading.Thread(target=cable.serve_forever, daemon=True).start()
    port, stop = f"socket://127.0.0.1:{cable.server_address[1]}", threading.Event()
    agent = Agent(server.url, "t", port, Spool(tmp_path / "s"), every_s=0.05, retry_s=0.05)
    server.broken = [*BROKEN]
    thread = threading.Thread(target=agent.run, args=(stop,), daemon=True)
    thread.start()
    try:
        wait(lambda: not server.broken, longest=60)
        before = len(server.rows)
        wait(lambda: len(server.rows) > before + 20)
        wait(lambda: agent.spool.waiting() < 8)
    finally:
        stop.set()
        thread.join(5)
        cable.shutdown()
    times = sorted({r[2] for r in server.rows})
    assert max(b - a for a, b in zip(times, times[1:], strict=False)) < 1  # no moment is missing


def test_while_no_probe_stands_anywhere_the_meter_is_left_alone_until_one_is_dipped(server, tmp_path):
    asked, server.idle = [], True
    cable = serve("127.0.0.1", 0, lambda: ["1", "2"], lambda address: asked.append(address) or (1.0, 20.0))
    threading.Thread(target=cable.serve_forever, daemon=True).start()
    port, stop = f"socket://127.0.0.1:{cable.server_address[1]}", threading.Event()
    agent = Agent(server.url, "t", port, Spool(tmp_path / "s"), every_s=0.05, idle_every_s=60)
    thread = threading.Thread(target=agent.run, args=(stop,), daemon=True)
    thread.start()
    try:
        wait(lambda: server.rows)
        time.sleep(0.5)
        before = len(asked)
        time.sleep(1.0)
        assert len(asked) == before
        server.dipped.set()
        wait(lambda: len(asked) > before + 10, longest=5)
    finally:
        stop.set()
        thread.join(5)
        cable.shutdown()
    assert not thread.is_alive()


def test_an_unknown_token_ends_the_program_with_its_sentence(server, tmp_path):
    server.known = False
    with pytest.raises(ServerRefused, match="token is not known"):
        Agent(server.url, "x", "socket://127.0.0.1:9", Spool(tmp_path / "s")).run(threading.Event())


@pytest.fixture
def linked(server, tmp_path):
    """A link that runs, what it said, and a way to begin it anew on the same file."""
    cable = serve("127.0.0.1", 0, lambda: ["1"], lambda address: (1.0, 20.0))
    threading.Thread(target=cable.serve_forever, daemon=True).start()
    running = []

    def begin():
        said, stop = [], threading.Event()
        port = f"socket://127.0.0.1:{cable.server_address[1]}"
        agent = Agent(server.url, "t", port, Spool(tmp_path / "s"), every_s=0.05, retry_s=0.05, say=said.append)
        thread = threading.Thread(target=agent.run, args=(stop,), daemon=True)
        thread.start()
        running.append((stop, thread))
        return agent, said

    def end():
        stop, thread = running.pop()
        stop.set()
        thread.join(10)
        assert not thread.is_alive()

    yield begin, end
    while running:
        end()
    cable.shutdown()


class _Disk:
    """A spool's database on a disk that is full."""

    def __init__(self, db):
        self._db, self.is_full = db, True

    def __getattr__(self, name):
        return getattr(self._db, name)

    def executemany(self, statement, rows):
        if self.is_full and statement.startswith("insert"):
            raise sqlite3.OperationalError("database or disk is full")
        return self._db.executemany(statement, rows)


def test_a_full_disk_is_said_and_what_was_read_meanwhile_is_not_lost(server, linked):
    agent, said = linked[0]()
    wait(lambda: len(server.rows) > 5)
    disk = _Disk(agent.spool._db)
    agent.spool._db = disk
    wait(lambda: any("cannot be written" in line for line in said))
    wait(lambda: len(agent.spool._unwritten) > 1)
    disk.is_full = False
    before = len(server.rows)
    wait(lambda: len(server.rows) > before + 20 and agent.spool.waiting() < 8, longest=40)
    times = [row[2] for row in server.rows]
    assert len(times) == len(set(times))
    assert not agent.spool._unwritten


def test_a_proxy_s_page_passes_and_a_token_that_was_replaced_is_mended_by_the_next(server, linked):
    begin, end = linked
    agent, said = begin()
    server.passing = [404, 403, 410]
    wait(lambda: not server.passing and len(server.rows) > 5)
    assert agent.spool.aside() == 0
    server.known = False
    wait(lambda: agent.spool.aside() > 5)
    assert any("token is not known" in line for line in said)
    assert agent._how_it_stands()["refused"] > 5
    end()
    server.known, before = True, len(server.rows)
    agent, _ = begin()
    wait(lambda: agent.spool.aside() == 0 and len(server.rows) > before + 5)


def test_a_clock_that_is_not_believed_begins_a_session_anew(server, linked):
    agent, _ = linked[0]()
    wait(lambda: len(server.rows) > 5)
    server.wrong_clock = 2
    wait(lambda: server.hellos == 2 and any(row[0] == "s2" for row in server.rows))
    assert agent.spool.aside() > 0, "samples of another moment are not sent as if they were of this one"
    assert agent.spool.again() == 0, "nor when somebody asks for it"


def test_a_slow_line_is_no_wrong_clock_and_a_clock_that_was_set_is(server, linked):
    agent, said = linked[0]()
    wait(lambda: len(server.rows) > 5)
    server.late = 2.2  # one batch is long on its way: it is refused, compared, and sent once more
    server.slow = [0.1, 1.2]  # the first comparison takes long too, the next says more
    wait(lambda: not server.slow)
    before = len(server.rows)
    wait(lambda: len(server.rows) > before + 5)
    assert (server.hellos, agent.spool.aside()) == (1, 0)
    times = [row[2] for row in server.rows]
    assert len(times) == len(set(times))
    asked = server.asked
    before = len(server.rows)
    wait(lambda: len(server.rows) > before + 10)
    assert server.asked <= asked + 1, "a line that is quick needs no comparing, but where the machine held still"
    server.skew = 30.0
    wait(lambda: any(row[0] == "s2" for row in server.rows))
    assert any(re.search(r"(29\.9|30\.0) s off", line) for line in said), said
    assert agent.spool.aside() > 0


def test_a_laptop_that_slept_goes_on_where_it_was(server, tmp_path):
    cable = serve("127.0.0.1", 0, lambda: ["1"], lambda address: (1.0, 20.0))
    threading.Thread(target=cable.serve_forever, daemon=True).start()
    line = [sys.executable, "-m", "brumel.cli", "link", "--server", server.url, "--every", "0.1"]
    port = f"socket://127.0.0.1:{cable.server_address[1]}"
    link = subprocess.Popen(
        [*line, "--port", port, "--spool", str(tmp_path / "s")], env={**os.environ, "BRUMEL_LINK_TOKEN": "t"}
    )
    try:
        wait(lambda: len(server.rows) > 5)
        link.send_signal(signal.SIGSTOP)
        time.sleep(2.5)
        before = len(server.rows)
        link.send_signal(signal.SIGCONT)
        wait(lambda: len(server.rows) > before + 10)
    finally:
        link.terminate()
        link.wait(10)
        cable.shutdown()
    times = [row[2] for row in server.rows]
    assert (server.hellos, len(set(times)), times) == (1, len(times), sorted(times))
    gaps = [b - a for a, b in zip(times, times[1:], strict=False)]
    assert 2.3 < max(gaps) < 6, "the moments go on while it sleeps"
