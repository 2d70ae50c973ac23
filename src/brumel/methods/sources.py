"""Where figures come from, from `data/sources.yaml`: the pages in the application and docs/references.md are made from it."""

from __future__ import annotations

import functools
import re
from typing import NamedTuple

from pydantic import TypeAdapter

from brumel.methods.loader import DATA, load_methods
from brumel.methods.strict import load_yaml

_TITLES = TypeAdapter(dict[str, str])


@functools.cache
def load_sources() -> dict[str, str]:
    """The title of each source, by its key."""
    return _TITLES.validate_python(load_yaml((DATA / "sources.yaml").read_text("utf-8")))


@functools.cache
def _pattern() -> re.Pattern[str]:
    longest_first = sorted(load_sources(), key=len, reverse=True)
    return re.compile(rf"(?<![\w-])(?:{'|'.join(map(re.escape, longest_first))})(?![\w]|-\w)")


class Part(NamedTuple):
    """A piece of a text: the key of a source, or what stands between such."""

    text: str
    is_key: bool


def parts_of(text: str) -> list[Part]:
    """A text in pieces, with the keys of its sources apart."""
    pieces, at = [], 0
    for match in _pattern().finditer(text):
        pieces += [Part(text[at : match.start()], False), Part(match.group(), True)]
        at = match.end()
    return [piece for piece in (*pieces, Part(text[at:], False)) if piece.text]


class Use(NamedTuple):
    """Something that rests on a source: the method and what in it, and how the source stands there."""

    method: str
    title: str
    what: str
    words: str


@functools.cache
def uses() -> dict[str, tuple[Use, ...]]:
    """What in the methods rests on each source."""
    found: dict[str, list[Use]] = {key: [] for key in load_sources()}
    for method in load_methods().values():
        cited = [(name.replace("_", " "), limit.source) for name, limit in method.limits.items()]
        cited += [("settling", method.settling.source), ("how long it is valid", method.valid_h.source)]
        for what, words in cited:
            for part in parts_of(words):
                if part.is_key:
                    found[part.text].append(Use(method.key, method.title, what, words))
    return {key: tuple(dict.fromkeys(each)) for key, each in found.items()}
