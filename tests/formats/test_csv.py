"""CSV opens safely in a spreadsheet and reads back [RFC 4180]."""

import csv
import io

from hypothesis import given
from hypothesis import strategies as st

from brumel.formats.csv_rows import safe_cell, write_rows

COLUMNS = ("a", "b")
text = st.text(st.characters(blacklist_categories=("Cs",), blacklist_characters="\x00\r"), max_size=30)


@given(st.lists(st.fixed_dictionaries({"a": text, "b": st.floats(-1e6, 1e6) | st.none()}), max_size=5))
def test_rows_read_back_and_no_cell_can_run(rows):
    found = list(csv.DictReader(io.StringIO("".join(write_rows(COLUMNS, rows)), newline="")))
    assert len(found) == len(rows)
    for row, back in zip(rows, found, strict=True):
        assert back["a"] in (row["a"], "'" + row["a"])
        assert not back["a"].lstrip(" \u00a0").startswith(("=", "+", "-", "@", "|"))
        assert back["b"] == ("" if row["b"] is None else str(row["b"]))


def test_numbers_keep_their_sign():
    assert safe_cell(-5.2) == -5.2
    assert safe_cell("-5.2;cmd") == "'-5.2;cmd"
    assert safe_cell("%") == "%"
