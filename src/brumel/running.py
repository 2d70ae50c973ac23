"""Programs that run together: they part from one process that has read what all of them need."""

from __future__ import annotations

import multiprocessing
import os
import signal
import socket
import subprocess
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from typing import Protocol


@dataclass(frozen=True)
class Program:
    """One of them.

    run : what a process does that parts from this one, with all that this one has imported
    line : the same as a command line, which reads everything from the disk as it is now
    """

    run: Callable[[], object]
    line: tuple[str, ...]


class Child(Protocol):
    """A process of ours, asked as `subprocess.Popen` is."""

    def poll(self) -> int | None: ...
    def wait(self, timeout: float | None = None) -> int: ...
    def terminate(self) -> None: ...
    def kill(self) -> None: ...


class Parted:
    """A program in a process that parted from this one."""

    def __init__(self, program: Program, env: Mapping[str, str]) -> None:
        context = multiprocessing.get_context("fork")
        self._process = context.Process(target=_begin, args=(program.run, dict(env)))
        self._process.start()
        self.terminate, self.kill = self._process.terminate, self._process.kill

    def poll(self) -> int | None:
        """Its exit code, negative for a signal; None while it runs."""
        return self._process.exitcode

    def wait(self, timeout: float | None = None) -> int:
        """Wait for its end; subprocess.TimeoutExpired where it is not there in time [s]."""
        self._process.join(timeout)
        if (code := self._process.exitcode) is None:
            raise subprocess.TimeoutExpired(str(self._process.name), timeout or 0.0)
        return code


#: What tells a program to end.
TO_END = frozenset({signal.SIGTERM, signal.SIGINT, signal.SIGHUP})


@contextmanager
def _undisturbed() -> Iterator[None]:
    """Who tells us to end meanwhile is heard after it: no child is left that nobody knows of."""
    before = signal.pthread_sigmask(signal.SIG_BLOCK, TO_END)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def _begin(run: Callable[[], object], env: Mapping[str, str]) -> None:
    """As a program begins: what the process it parted from does on a signal is none of its own."""
    for signum in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(signum, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.pthread_sigmask(signal.SIG_UNBLOCK, TO_END)
    os.environ.clear()
    os.environ.update(env)
    run()


class Running:
    """Programs that run together: when one ends all end, but for helpers, which are started anew."""

    def __init__(self) -> None:
        self._children: list[Child] = []
        self._helpers: dict[Program, Child] = {}
        self._env: dict[str, str] = {}

    def start(self, programs: Sequence[Program], env: Mapping[str, str], helpers: Sequence[Program] = ()) -> None:
        """Start these too. Nothing may be connected and no thread run: what parts would share them."""
        self._env = dict(env)
        with _undisturbed():
            self._children += [Parted(program, self._env) for program in programs]
            self._helpers |= {program: Parted(program, self._env) for program in helpers}

    def replace(self, program: Program, is_ready: Callable[[], bool], longest_s: float = 60.0) -> bool:
        """Start the first of these anew, as it is on the disk now, and end the old one once the new one is ready; False
        where it never is.

        Called from a signal's handler: meanwhile both answer, so nobody is refused.
        """
        old, new = self._children[0], subprocess.Popen(program.line, env=self._env)
        end = time.monotonic() + longest_s
        while new.poll() is None and not is_ready() and time.monotonic() < end:
            time.sleep(0.1)
        if new.poll() is not None or not is_ready():
            new.kill()
            new.wait()
            return False
        self._children[0] = new
        old.terminate()
        try:
            old.wait(timeout=30)
        except subprocess.TimeoutExpired:
            old.kill()
            old.wait()
        return True

    def wait_for(self, port: int) -> None:
        """Wait until something listens on a port of loopback, or one of these has ended."""
        while all(child.poll() is None for child in self._children):
            with suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1):
                return
            time.sleep(0.1)

    def until_one_ends(self) -> int:
        """Wait; returns the worst exit code, 0 where we were told to stop."""
        signal.signal(signal.SIGTERM, leave)
        try:
            while all(child.poll() is None for child in self._children):
                for program, helper in self._helpers.items():
                    if helper.poll() is not None:
                        time.sleep(2)  # one that cannot start is not started without end at full speed
                        with _undisturbed():
                            self._helpers[program] = Parted(program, self._env)
                os.waitid(os.P_ALL, 0, os.WEXITED | os.WNOWAIT)  # until one of them ends
            return max((c.poll() or 0) for c in self._children)
        except KeyboardInterrupt:
            return 0

    def end(self) -> None:
        """End all of them."""
        everyone = [*self._children, *self._helpers.values()]
        for child in everyone:
            child.terminate()
        for child in everyone:
            try:
                child.wait(timeout=8)
            except subprocess.TimeoutExpired:
                child.kill()


def leave(*_: object) -> None:
    """What a signal to end does: as Ctrl-C."""
    raise KeyboardInterrupt
