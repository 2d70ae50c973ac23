"""Files of loggers in more than twenty shapes: seen through, asked about where they are doubtful, read, refused by line."""

from dataclasses import replace
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core.errors import InputError
from brumel.formats import logger_files
from brumel.formats.logger_files import Shape, ShapeColumn
from brumel.formats.logger_files.shape import OFFSETS
from brumel.formats.logger_files.sniffing import refit


def lines(*rows, end="\n"):
    return end.join(rows)


PLAIN = ["2026-11-20 09:00,9.1,12.5", "2026-11-20 09:30,9.2,12.4", "2026-11-20 10:00,9.3,12.3"]
HEAD = "time,DO (mg/L),Temp (°C)"
NINE = datetime(2026, 11, 20, 9, 0, tzinfo=UTC)
EIGHT = datetime(2026, 11, 20, 8, 0, tzinfo=UTC)


def german(rows):
    """As a spreadsheet with decimal commas writes it: day first, semicolons."""
    out = []
    for row in rows:
        at, *values = row.split(",")
        day, clock = at.split(" ")
        out.append(";".join([".".join(reversed(day.split("-"))), clock, *(v.replace(".", ",") for v in values)]))
    return out


AS = {
    # name: (the file, the zone it is read with, the first moment, the first oxygen, what must be seen of its shape)
    "plain": (lines(HEAD, *PLAIN), "UTC", NINE, 9.1, {"order": "ymd", "zone": ""}),
    "a T between": (lines(HEAD, *(r.replace(" ", "T", 1) for r in PLAIN)), "UTC", NINE, 9.1, {}),
    "seconds": (
        lines(HEAD, *(r.replace(":00,", ":00:00,").replace(":30,", ":30:00,") for r in PLAIN)),
        "UTC",
        NINE,
        9.1,
        {},
    ),
    "offsets beside": (lines(HEAD, *(r.replace(",", "+01:00,", 1) for r in PLAIN)), "", EIGHT, 9.1, {"zone": OFFSETS}),
    "Z beside": (lines(HEAD, *(r.replace(",", "Z,", 1) for r in PLAIN)), "", NINE, 9.1, {"zone": OFFSETS}),
    "a zone above": (
        lines("Logger 4", "Clock UTC+01:00", HEAD, *PLAIN),
        "",
        EIGHT,
        9.1,
        {"zone": "UTC+01:00", "first": 3},
    ),
    "GMT+2 above": (lines("Times in GMT+2", "", HEAD, *PLAIN), "", NINE.replace(hour=7), 9.1, {"zone": "UTC+02:00"}),
    "semicolons and decimal commas": (
        lines("Dato;Tid;O2 [mg/L];Temp [°C]", *german(PLAIN)),
        "UTC",
        NINE,
        9.1,
        {"delimiter": ";", "decimal": ",", "time": 1},
    ),
    "tabs": (
        lines(HEAD.replace(",", "\t"), *(r.replace(",", "\t") for r in PLAIN)),
        "UTC",
        NINE,
        9.1,
        {"delimiter": "\t"},
    ),
    "bars": (
        lines(HEAD.replace(",", "|"), *(r.replace(",", "|") for r in PLAIN)),
        "UTC",
        NINE,
        9.1,
        {"delimiter": "|"},
    ),
    "no head": (lines(*PLAIN), "UTC", NINE, None, {"first": 0}),
    "units in a line of their own": (lines("time,DO,Temp", ",mg/L,°C", *PLAIN), "UTC", NINE, 9.1, {"first": 2}),
    "a preamble of other width": (
        lines("Serial: 12-34", "Interval, 30, min, x, y", "Deployed by A. M.", "", HEAD, *PLAIN),
        "UTC",
        NINE,
        9.1,
        {"first": 5},
    ),
    "lines behind": (lines(HEAD, *PLAIN, "", "End of data", "Checksum,77"), "UTC", NINE, 9.1, {"last": 3}),
    "carriage returns": (lines(HEAD, *PLAIN, "", end="\r\n"), "UTC", NINE, 9.1, {}),
    "quoted": (
        lines(HEAD, *(f'"{r.split(",")[0]}","{r.split(",")[1]}","{r.split(",")[2]}"' for r in PLAIN)),
        "UTC",
        NINE,
        9.1,
        {},
    ),
    "twelve hours": (
        lines(
            HEAD,
            *(
                r.replace("2026-11-20 09", "11/20/2026 09")
                .replace("2026-11-20 10", "11/20/2026 10")
                .replace(",", " AM,", 1)
                for r in PLAIN
            ),
        ),
        "UTC",
        NINE,
        9.1,
        {"order": "mdy"},
    ),
    "day first, seen from the day": (
        lines(HEAD, *(r.replace("2026-11-20", "20/11/2026") for r in PLAIN)),
        "UTC",
        NINE,
        9.1,
        {"order": "dmy"},
    ),
    "two-digit years": (
        lines(HEAD, *(r.replace("2026-11-20", "20.11.26") for r in PLAIN)),
        "UTC",
        NINE,
        9.1,
        {"order": "dmy"},
    ),
    "names of months": (
        lines(HEAD, *(r.replace("2026-11-20", "20-Nov-2026") for r in PLAIN)),
        "UTC",
        NINE,
        9.1,
        {"order": "dmy"},
    ),
    "slashes, year first": (
        lines(HEAD, *(r.replace("2026-11-20", "2026/11/20") for r in PLAIN)),
        "UTC",
        NINE,
        9.1,
        {"order": "ymd"},
    ),
    "a number before": (
        lines("#," + HEAD, *(f"{i},{r}" for i, r in enumerate(PLAIN, 1))),
        "UTC",
        NINE,
        9.1,
        {"date": 1},
    ),
    "seconds since 1970": (
        lines(HEAD, *(f"{NINE.timestamp() + 1800 * i:.0f},{r.split(',', 1)[1]}" for i, r in enumerate(PLAIN))),
        "UTC",
        NINE,
        9.1,
        {"order": "unix"},
    ),
    "days of a spreadsheet": (
        lines(HEAD, *(f"{46346.375 + i / 48:.6f},{r.split(',', 1)[1]}" for i, r in enumerate(PLAIN))),
        "UTC",
        NINE,
        9.1,
        {"order": "serial"},
    ),
    "missing values": (
        lines(HEAD, PLAIN[0], "2026-11-20 09:30,---,12.4", "2026-11-20 10:00,NaN,", "2026-11-20 10:30,9.4,12.2"),
        "UTC",
        NINE,
        9.1,
        {},
    ),
    "thousands": (
        lines("time;EC (µS/cm);DO (mg/L)", *(f"{r.split(',')[0]};1.41{i},0;9,{i + 1}" for i, r in enumerate(PLAIN))),
        "UTC",
        NINE,
        9.1,
        {"thousands": ".", "decimal": ","},
    ),
    "winter time of the site": (lines(HEAD, *PLAIN), "Europe/Oslo", EIGHT, 9.1, {}),
}


@pytest.mark.parametrize("name", AS)
def test_a_file_of_this_shape_is_seen_through_and_read(name):
    text, zone, at, oxygen, seen = AS[name]
    for encoding in ("utf-8", "utf-8-sig", "cp1252", "utf-16"):
        guess = logger_files.sniff(text.encode(encoding))
        assert {key: getattr(guess.shape, key) for key in seen} == seen
        shape = replace(guess.shape, zone=guess.shape.zone or zone)
        if not shape.columns:
            assert name == "no head"
            shape = replace(shape, columns=(ShapeColumn(1, "oxygen", "mg/L"),))
        found = logger_files.read(text.encode(encoding), shape)
        assert abs(int(found.times_us[0]) / 1e6 - at.timestamp()) < 0.1
        place = [c.quantity for c in shape.columns].index("oxygen")
        assert found.values[place][0] == pytest.approx(oxygen or 9.1)


def test_there_are_twenty_shapes_and_more():
    assert len(AS) >= 20


def test_columns_are_told_apart_by_their_names_and_units():
    head = (
        "Date Time,Battery (V),pH,ORP (mV),Temp (°F),SpCond (mS/cm),DO (% sat),DO (mg/L),Baro (kPa),Sal (psu),Level (m)"
    )
    text = lines(head, *(f"{r.split(',')[0]},3.6,7.9,212,54.5,1.41,98,9.1,101.3,0.7,1.2" for r in PLAIN))
    guess = logger_files.sniff(text.encode())
    assert [(c.place, c.quantity, c.unit) for c in guess.shape.columns] == [
        (1, "battery", "V"), (2, "ph", ""), (3, "redox", "mV"), (4, "temperature", "°F"), (5, "conductivity", "mS/cm"),
        (7, "oxygen", "mg/L"), (8, "air_pressure", "kPa"), (9, "salinity", "psu"), (10, "water_level", "m"),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("days", "orders"),
    [
        (["05/11/2026", "06/11/2026", "07/11/2026"], ("dmy",)),  # from day to day, not from month to month
        (["11/05/2026", "11/06/2026", "11/07/2026"], ("mdy",)),
        (["05/11/2026", "05/11/2026", "05/11/2026"], ("dmy", "mdy")),  # one day says nothing
        (["31/11/2026", "31/11/2026", "31/11/2026"], ("dmy",)),
    ],
)
def test_which_comes_first_is_seen_from_the_data_and_asked_where_it_is_not(days, orders):
    text = lines(HEAD, *(f"{day} 0{h}:00,9.1,12.5" for day in days for h in range(3)))
    guess = logger_files.sniff(text.encode())
    assert guess.orders == orders
    assert guess.shape.order == (orders[0] if len(orders) == 1 else "")
    if len(orders) > 1:
        with pytest.raises(InputError, match="what comes first"):
            logger_files.read(text.encode(), replace(guess.shape, zone="UTC"))


def at(found):
    return [f"{datetime.fromtimestamp(t / 1e6, UTC):%H:%M}" for t in found.times_us.tolist()]


def test_the_hour_that_is_there_twice_is_told_apart_by_its_order_and_one_that_is_not_there_is_refused():
    def read(*clocks, day="2026-10-25", zone="Europe/Oslo"):
        text = lines(HEAD, *(f"{day} {c},9.1,12.5" for c in clocks))
        return at(logger_files.read(text.encode(), replace(logger_files.sniff(text.encode()).shape, zone=zone)))

    # Summer time ends at 3:00, which is 2:00 again.
    assert read("01:30", "02:00", "02:30", "02:00", "02:30", "03:00") == [
        "23:30",
        "00:00",
        "00:30",
        "01:00",
        "01:30",
        "02:00",
    ]
    assert read("01:30", "02:00", "02:30") == ["23:30", "00:00", "00:30"]
    assert read("02:00", "02:30", "03:00", day="2026-10-24") == ["00:00", "00:30", "01:00"]
    with pytest.raises(InputError, match="does not exist"):
        read("01:30", "02:30", "03:30", day="2026-03-29")
    assert read("01:30", "02:30", "03:30", day="2026-03-29", zone="UTC+01:00") == ["00:30", "01:30", "02:30"]


@pytest.mark.parametrize(
    ("rows", "words"),
    [
        ([*PLAIN, "2026-11-20 09:45,9.4,12.2"], "line 5: the time goes back"),
        ([*PLAIN, "2026-11-20 10:00,9.9,12.3"], "line 5: the same time as the line before, with other values"),
        ([*PLAIN[:2], "2026-11-20 10:00,high,12.3"], "line 4: “high” is not a number"),
        ([*PLAIN[:2], "yesterday,9.1,12.3", PLAIN[2]], "line 4: “yesterday” is not a date"),
        ([*PLAIN[:2], "2026-11-20 10:00,inf,12.3", "2026-11-20 10:30,9.1,1"], "is not a number"),
        ([*PLAIN, "2126-11-20 10:30,9.1,12.3"], "is not between 1990 and 2100"),
        ([*PLAIN, "2026-11-20 10:30,9.1,12.3,4,5,6", "2026-11-20 11:00,9.1,12.3"], "line 5: 6 cells"),
        ([*PLAIN, "2026-11-20 10:30,9"], "line 5: 2 cells where the first record has 3"),  # it broke off
        (PLAIN[:2], "fewer than three"),
    ],
)
def test_what_cannot_be_read_is_named_by_its_line_and_nothing_is_repaired(rows, words):
    text = lines(HEAD, *rows).encode()
    columns = (ShapeColumn(1, "oxygen", "mg/L"), ShapeColumn(2, "temperature", "°C"))
    shape = Shape("utf-8", ",", ".", "", 1, 0, 0, None, "ymd", "UTC", columns)
    with pytest.raises(InputError) as caught:
        logger_files.read(text, shape)
    assert words in " ".join(str(f) for f in caught.value.faults)


def test_lines_that_stand_twice_alike_count_once_and_are_told():
    text = lines(HEAD, PLAIN[0], *PLAIN).encode()
    found = logger_files.read(text, replace(logger_files.sniff(text).shape, zone="UTC"))
    assert (found.rows, found.same, found.times_us.size) == (4, 1, 3)


@pytest.mark.parametrize(
    "data",
    [
        b"",
        b"\x00\x01\x02" * 50,
        b"one\ntwo\nthree\nfour",
        b"a,b\n1,2\n3,4\n5,6",
        "\ud800".encode("utf-16", "surrogatepass") * 30,
    ],
)
def test_what_is_no_table_of_times_is_refused_with_a_sentence(data):
    with pytest.raises(InputError) as caught:
        logger_files.sniff(data)
    assert len(str(caught.value)) > 20


@given(st.binary(max_size=400))
def test_no_bytes_break_the_door(data):
    try:
        guess = logger_files.sniff(data)
        logger_files.read(data, replace(guess.shape, zone="UTC", columns=(ShapeColumn(1, "oxygen", "mg/L"),)))
    except InputError:
        pass


@given(st.text(alphabet="0123456789.,;:-/ T\nAPMZ+", max_size=300))
def test_no_text_like_a_table_breaks_it_either(text):
    try:
        guess = logger_files.sniff(text.encode())
        for order in guess.orders:
            shape = replace(guess.shape, order=order, zone="Europe/Oslo", columns=(ShapeColumn(1, "oxygen", "mg/L"),))
            logger_files.read(text.encode(), shape)
    except InputError:
        pass


def test_what_was_said_of_an_instrument_holds_while_its_columns_are_the_same():
    text = lines(HEAD, *PLAIN).encode()
    seen = logger_files.sniff(text)
    known = replace(seen.shape, zone="UTC+03:00", columns=(ShapeColumn(2, "temperature", "°F"),))
    assert refit(seen, known).shape.zone == "UTC+03:00"
    assert refit(seen, known).shape.columns == known.columns
    other = replace(known, columns=(ShapeColumn(9, "temperature", "°F"),))
    assert refit(seen, other) is seen
    assert Shape.restored(known.as_dict()) == known
