"""The words of the work, from `data/glossary.yaml`: the page in the application and docs/glossary.md are made from it."""

from __future__ import annotations

import functools

from pydantic import TypeAdapter

from brumel.methods.loader import DATA
from brumel.methods.strict import load_yaml

_WORDS = TypeAdapter(dict[str, str])


@functools.cache
def load_glossary() -> dict[str, str]:
    """Each word with its sentence, by the alphabet."""
    words = _WORDS.validate_python(load_yaml((DATA / "glossary.yaml").read_text("utf-8")))
    return dict(sorted(words.items()))


def anchor(word: str) -> str:
    """Where a word stands on the glossary's page."""
    return word.replace(" ", "-")
