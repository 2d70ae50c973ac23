"""The text protocol of the link: the part of the SDI-12 command set that a meter with several sensors needs [SDI12].

A command is an address, letters and "!"; the answer starts with the same address and ends with carriage return and line
feed. Values carry their sign. "aRC0!" asks for the present values with a check sum of three letters behind them.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

END = "\r\n"
LONGEST = 80
_COMMAND = re.compile(r"^([0-9A-Za-z?])([A-Za-z0-9]*)!$")
_VALUES = re.compile(r"[+-]\d{1,7}(?:\.\d{1,6})?")

Sense = Callable[[str], "tuple[float, float] | None"]


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


def ask(address: str) -> str:
    """The command for a sensor's present values with check sum."""
    return f"{address}RC0!"


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
    values = tuple(float(v) for v in _VALUES.findall(body[1:]))
    if "".join(_VALUES.findall(body[1:])) != body[1:] or not values:
        raise LinkFault("the answer holds no values")
    return values


def _signed(value: float) -> str:
    """A value of at most seven digits with its sign."""
    whole = len(str(int(abs(value))))
    return f"{value:+.{max(0, min(3, 7 - whole))}f}"


def respond(
    command: str, addresses: Sequence[str], sense: Sense, vendor: str = "TARNHOLT", model: str = "FIELD1"
) -> str:
    """What a meter answers; an empty text where it stays silent, as an unknown address does."""
    matched = _COMMAND.match(command.strip()[:LONGEST])
    if not matched or not addresses:
        return ""
    address, verb = matched.groups()
    if address == "?":
        return addresses[0] + END if not verb else ""
    if address not in addresses:
        return ""
    if verb == "":
        return address + END
    if verb == "I":
        return f"{address}14{vendor:<8.8}{model:<6.6}100" + END
    if verb in ("M", "C"):
        return f"{address}000{2 if verb == 'M' else '02'}" + END
    if verb in ("D0", "R0", "RC0"):
        shown = sense(address)
        body = address + ("".join(_signed(v) for v in shown) if shown else "")
        return body + (check_letters(body) if verb == "RC0" else "") + END
    return ""
