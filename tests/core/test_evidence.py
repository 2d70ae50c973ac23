"""Every judgement and working of core as it is shown and kept: figures, words, units, digits and sources, in one file.

The values themselves are held to the outside by the other tests; this one keeps what people read from changing unseen.
After a change that is meant, `BRUMEL_WRITE_EVIDENCE=1 pytest tests/core/test_evidence.py` writes the file anew.
"""

import difflib
import json
import os
from dataclasses import fields, is_dataclass
from enum import Enum
from pathlib import Path

import numpy as np
import pytest

from brumel.core.errors import BrumelError
from brumel.core.sentence import Sentence, as_data
from tests.core import evidence_of_judgements, evidence_of_readings

KEPT = Path(__file__).with_name("evidence.txt")
CASES = evidence_of_readings.CASES | evidence_of_judgements.CASES


def plain(value):
    """What is shown of a result: figures to six digits, words with their values, errors with their field."""
    if callable(value) and not isinstance(value, type):
        try:
            return plain(value())
        except BrumelError as error:
            parts = [[plain(f.args[0]), f.field, repr(f.value)] for f in error.faults]
            return {"refused": type(error).__name__, "faults": parts}
    if isinstance(value, Sentence):
        return {k: plain(v) for k, v in as_data(value).items() if k != "template"}
    if is_dataclass(value):
        return {f.name: plain(getattr(value, f.name)) for f in fields(value)}
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, dict):
        return {k: plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple, np.ndarray)):
        return [plain(v) for v in value]
    if isinstance(value, (float, np.floating)):
        return float(f"{value:.6g}") if np.isfinite(value) else str(value)
    return value if value is None or isinstance(value, (bool, int)) else str(value)


def kept():
    """{case: its lines} of the file."""
    text = KEPT.read_text("utf-8") if KEPT.exists() else ""
    return {part.split("\n")[0]: part.strip().split("\n")[1:] for part in text.split("## ")[1:]}


@pytest.mark.parametrize("name", CASES)
def test_what_is_shown_is_what_was_shown(name):
    was, now = kept(), [json.dumps(item, ensure_ascii=False) for item in plain(CASES[name]())]
    if os.environ.get("BRUMEL_WRITE_EVIDENCE"):
        whole = was | {name: now}
        KEPT.write_text("".join(f"## {key}\n" + "".join(f"{x}\n" for x in whole[key]) for key in CASES if key in whole))
        return
    assert now == was[name], "\n".join(difflib.unified_diff(was[name], now, "kept", "now", n=0, lineterm=""))
