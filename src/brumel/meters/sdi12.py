"""The text protocol of the link: the SDI-12 command set as far as a meter with several sensors needs it [SDI12].

A command is an address, letters and "!"; the answer starts with the same address and ends with carriage return and line
feed. Values carry their sign. A "C" in a command asks for a check sum of three letters behind the values.

Spoken here: the break; "?!" and "a!" to find who is there; "aI!" who it is; "aM!" to "aM9!" and "aC!" to "aC9!", whose values
are fetched by "aD0!" to "aD9!"; "aR0!" to "aR9!" for present values; each of them with check sum. Not spoken: change of
address, verification, high-volume and metadata commands, transparent ones.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Sequence
from typing import NamedTuple, Protocol

END = "\r\n"
LONGEST = 80
_COMMAND = re.compile(r"^([0-9A-Za-z?])([A-Za-z0-9]*)!$")
_VALUES = re.compile(r"[+-](?:\d+\.?\d*|\.\d+)")
_MOST_DIGITS = 7
_HOW = re.compile(r"^[RMC]\d$")
#: A line is held at spacing for so long to wake sensors, and rests at marking behind it [s].
BREAK_S, MARK_S = 0.012, 0.009
#: Where sensors may be, in the standard's order.
ADDRESSES = "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"

Sense = Callable[[str], "Sequence[float] | None"]


class LinkFault(Exception):
    """An answer that cannot be used; the message says why."""


def check_letters(text: str) -> str:
    """The three letters of the 16-bit check sum of a text. Source: SDI12, section 4.4.12."""
    crc = 0
    for byte in text.encode("ascii", "replace"):
        crc ^= byte
        for _ in range(8):
            crc = (crc >> 1) ^ 0xA001 if crc & 1 else crc >> 1
    return "".join(chr(0x40 | part) for part in (crc >> 12, (crc >> 6) & 0x3F, crc & 0x3F))


def ask(address: str, how: str = "R0") -> str:
    """The command for a sensor's values with check sum; `how` is R, M or C with the number of the measurement."""
    if not _HOW.match(how):
        raise LinkFault(f"{how[:10]!r} is none of R0 to R9, M0 to M9, C0 to C9")
    number = how[1] if how[0] == "R" or how[1] != "0" else ""
    return f"{address}{how[0]}C{number}!"


def parse(address: str, answer: str) -> tuple[float, ...]:
    """The values of an answer to `ask`. Raises LinkFault for another address, a wrong check sum, or no values."""
    text = answer.rstrip("\r\n")
    if len(text) > LONGEST or len(text) < 4:
        raise LinkFault("the answer is empty or too long")
    body, letters = text[:-3], text[-3:]
    if check_letters(body) != letters:
        raise LinkFault("the check sum does not match")
    if body[0] != address:
        raise LinkFault(f"address {body[0]!r} answered instead of {address!r}")
    return numbers(body[1:])


def numbers(text: str) -> tuple[float, ...]:
    """The values of an answer behind its address. Raises LinkFault for anything that is not values alone."""
    found = _VALUES.findall(text)
    if "".join(found) != text or not found:
        raise LinkFault("the answer holds no values")
    if any(sum(c.isdigit() for c in each) > _MOST_DIGITS for each in found):
        raise LinkFault("a value has more digits than one may have")
    return tuple(float(each) for each in found)


class Identity(NamedTuple):
    """What a sensor says of itself: the protocol's version, who made it, model, its version, and what else it says."""

    protocol: str
    vendor: str
    model: str
    version: str
    more: str


def identity(address: str, answer: str) -> Identity:
    """An answer to "aI!": two digits, then 8, 6 and 3 characters, then up to 13 of its own. Raises LinkFault."""
    text = answer.rstrip("\r\n")
    if len(text) < 20 or len(text) > 33 or text[0] != address or not text[1:3].isdigit():
        raise LinkFault("the answer does not say who is there")
    return Identity(
        f"{text[1]}.{text[2]}", text[3:11].strip(), text[11:17].strip(), text[17:20].strip(), text[20:].strip()
    )


class Announced(NamedTuple):
    """What a measurement announces: after how many seconds at the most, and how many values."""

    seconds: int
    values: int


def announced(address: str, how: str, answer: str) -> Announced:
    """An answer to a measurement command: "atttn", of a concurrent one "atttnn". Raises LinkFault."""
    text = answer.rstrip("\r\n")
    if len(text) != (5 if how == "M" else 6) or text[0] != address or not text[1:].isdigit():
        raise LinkFault("the answer announces no measurement")
    return Announced(int(text[1:4]), int(text[4:]))


class Line(Protocol):
    """A serial line, as pyserial has it."""

    def write(self, data: bytes, /) -> int | None: ...
    def read_until(self, end: bytes, /) -> bytes: ...
    def reset_input_buffer(self) -> None: ...
    def send_break(self, duration: float) -> None: ...


class Recorder:
    """The asking side of a line: wakes the sensors, finds them, and fetches their values."""

    def __init__(self, line: Line, sleep: Callable[[float], object] = time.sleep) -> None:
        self._line, self._sleep = line, sleep
        self._breaks = True

    def wake(self) -> None:
        """The break that wakes sensors. A line without one, such as a cable over a network, needs none."""
        if not self._breaks:
            return
        try:
            self._line.send_break(BREAK_S)
            self._sleep(MARK_S)
        except (NotImplementedError, OSError, ValueError):
            self._breaks = False

    def say(self, command: str) -> str:
        """Send a command and hear the answer; an answer to an earlier one that came too late belongs to nobody any more."""
        self._line.reset_input_buffer()
        self.wake()
        self._line.write(command.encode("ascii"))
        return self._hear()

    def _hear(self) -> str:
        return self._line.read_until(b"\n").decode("ascii", "replace")

    def find(self, addresses: Sequence[str] = ADDRESSES) -> list[str]:
        """Who answers on the line, each asked by its address: "?!" is of use only where there is one."""
        return [address for address in addresses if self.say(f"{address}!").rstrip("\r\n") == address]

    def identify(self, address: str) -> Identity:
        """Who is at an address. Raises LinkFault."""
        return identity(address, self.say(f"{address}I!"))

    def values(self, address: str, how: str = "R0") -> tuple[float, ...] | None:
        """The values of a sensor, asked for with check sum; None where nobody answers. Raises LinkFault."""
        answer = self.say(ask(address, how))
        if not answer:
            return None
        if how[0] == "R":
            return parse(address, answer)
        coming = announced(address, how[0], answer)
        if coming.seconds:
            self._await(address, how[0], coming.seconds)
        found: list[float] = []
        for number in range(10):
            if len(found) >= coming.values:
                break
            found += parse(address, self.say(f"{address}D{number}!"))
        if len(found) != coming.values:
            raise LinkFault(f"{coming.values} values were announced, {len(found)} came")
        return tuple(found)

    def _await(self, address: str, how: str, seconds: int) -> None:
        """Until the values are there: a sensor says so by its address; after a concurrent measurement it does not."""
        if how == "C":
            self._sleep(seconds)
            return
        waited = 0.0
        while waited < seconds:
            if self._hear().rstrip("\r\n") == address:
                return
            waited += 0.5
            self._sleep(0.0)


# -- the answering side


def _signed(value: float) -> str:
    """A value of at most seven digits with its sign."""
    whole = len(str(int(abs(value))))
    return f"{value:+.{max(0, min(3, _MOST_DIGITS - whole))}f}"


#: Values of one answer to "aD0!" and its like [characters]; more of them stand in the next one.
_ROOM = {"M": 35, "C": 75}


class Meter:
    """The answering side: a meter with a sensor at each address. What was measured waits until it is fetched."""

    def __init__(self, addresses: Sequence[str], sense: Sense, vendor: str = "TARNHOLT", model: str = "FIELD1") -> None:
        self.addresses = addresses
        self._sense, self._who = sense, f"14{vendor:<8.8}{model:<6.6}100"
        self._measured: dict[str, tuple[list[str], bool]] = {}

    def respond(self, command: str) -> str:
        """The answer; an empty text where the meter stays silent, as an unknown address does."""
        matched = _COMMAND.match(command.strip()[:LONGEST])
        if not matched or not self.addresses:
            return ""
        address, verb = matched.groups()
        if address == "?":
            return self.addresses[0] + END if not verb else ""
        if address not in self.addresses:
            return ""
        if verb == "":
            return address + END
        if verb == "I":
            return address + self._who + END
        if asked := re.fullmatch(r"([MC])(C?)([1-9]?)", verb):
            return self._measure(address, *asked.groups())
        if fetched := re.fullmatch(r"D(\d)", verb):
            return self._fetch(address, int(fetched[1]))
        if shown := re.fullmatch(r"R(C?)(\d)", verb):
            values = self._sense(address) if shown[2] == "0" else None
            return self._answer(address, "".join(_signed(v) for v in values or ()), checked=bool(shown[1]))
        return ""

    def _measure(self, address: str, how: str, checked: str, number: str) -> str:
        values = [] if number else [_signed(v) for v in self._sense(address) or ()]
        lines = [""]
        for value in values:
            if len(lines[-1]) + len(value) > _ROOM[how]:
                lines.append("")
            lines[-1] += value
        self._measured[address] = (lines, bool(checked))
        return f"{address}000{len(values):0{1 if how == 'M' else 2}}" + END

    def _fetch(self, address: str, number: int) -> str:
        lines, checked = self._measured.get(address, ([], False))
        return self._answer(address, lines[number] if number < len(lines) else "", checked=checked)

    def _answer(self, address: str, values: str, *, checked: bool) -> str:
        body = address + values
        return body + (check_letters(body) if checked else "") + END


def respond(command: str, addresses: Sequence[str], sense: Sense) -> str:
    """What a meter answers that was asked nothing before."""
    return Meter(addresses, sense).respond(command)
