"""The Worksheet: known answers through the page, the address as the state, and every kind of bad input."""

import html
import re

import pytest

from brumel.work.worksheet.book import SUMS

KNOWN = [
    # BK84 as used by USGS: 9.09 mg/L at 20 °C, 1013.25 hPa; the same in the trade's other units.
    ("oxygen?t=20&s=0&way=station&pressure=1013.25", "9.09 mg/L"),
    ("oxygen?t=68&t_unit=°F&s=0&way=station&pressure=760&pressure_unit=mmHg", "9.09 mg/L"),
    ("oxygen?t=20&s=35&way=altitude&altitude=0", "7.40 mg/L"),
    ("oxygen?t=14&s=0&way=weather&altitude=2008&altitude_unit=ft&pressure=29,92&pressure_unit=inHg", "9.57 mg/L"),
    # Domain section 4: 0.57 mS/cm at 25 °C.
    ("conductivity?c=0.57&c_unit=mS/cm&t=25&kind=linear&a=2", "570.0 µS/cm"),
    ("conductivity?shown=tds-0.5&tds=285&a=2", "570.0 µS/cm"),
    ("conductivity?shown=tds-0.7&tds=399&a=2", "570.0 µS/cm"),
    ("conductivity?c=0.57 mS&t=77F&kind=linear&a=2", "570.0 µS/cm"),
    ("conductivity?shown=tds-0.5&tds=6.44 ppt&a=2", "12880.0 µS/cm"),
    ("conductivity?shown=tds&tds=570&tds_unit=ppm&factor=1&a=2", "570.0 µS/cm"),
    ("oxygen?t=68F&s=0&way=station&pressure=29.92 inHg", "9.09 mg/L"),
    ("ammonia?tan=1000 ug/L&as=N&ph=8&t=25&s=0", "0.0537 mg/L as N"),
    ("buffer?buffer=phosphate&t=10", "6.923"),  # Buck2002
    ("ph?mv=0&t=25&slope=100&offset=0", "7.00"),
    ("orp?orp=231.3&t=25&electrode=agcl-saturated&standard=zobell", "430 mV"),  # Nordstrom1977 less 199 mV
    ("ammonia?tan=1&as=N&ph=8&t=25&s=0", "0.0537 mg/L as N"),  # Emerson1975: 5.4 %
    ("chlorine?total=1.6&free=1.2&ph=7.5&t=25", "0.40 mg/L"),
    ("chlorine?total=2.4&free=2&ph=7.5&t=25&cya=40", "0.020 mg/L"),
    ("carbon?ph=7&alk=100&t=25", "19.8 mg/L"),  # 2 mmol/L · 10^(6.352 − 7) · 44.01
    ("mixing?c=1&v=100&added=101&w=1", "1.9901"),
    ("interference?ion=nitrate&c=1&other=70.906", "0.860 mg/L as N"),
    ("closing?quantity=ph&value=7.42&at=4&end=9&closed=7.15&expected=7.01", "7.420"),  # USGS-TM1D3: within 0.2 holds
    ("standard?expected=640&t=25", "1000 µS/cm"),
]


@pytest.mark.parametrize(("path", "main"), KNOWN)
def test_known_answers_through_the_page(reader, path, main):
    answer = reader.get(f"/worksheet/{path}")
    assert answer.status_code == 200
    shown = re.search(r'class="reported-now">.*?</small>(.*?)</p>', answer.text, re.S).group(1)
    assert html.unescape(shown).strip() == main


def test_every_sum_answers_its_example_with_working_source_and_validity(reader):
    for asked in SUMS:
        page = html.unescape(reader.get(f"/worksheet/{asked.key}").text)
        assert 'class="ladder"' in page, asked.key
        assert asked.validity in page
        for source in asked.sources:
            assert source in page


@pytest.mark.parametrize("asked", SUMS, ids=lambda s: s.key)
@pytest.mark.parametrize("bad", ["", "warm", "NaN", "1e999", "-9999", "99999999", "1,413", "<i>"])
def test_bad_input_in_every_field_is_a_sentence_that_names_it(reader, asked, bad):
    for entry in asked.entries:
        if entry.choices or (entry.optional and not bad):
            continue
        query = {e.key: e.default for e in asked.entries} | {entry.key: bad}
        if entry.only_for:
            query[entry.only_for[0]] = entry.only_for[1][0]
        answer = reader.get(f"/worksheet/{asked.key}", query_string=query)
        assert answer.status_code in (200, 422), (entry.key, bad)
        if bad in ("", "warm", "NaN", "1,413", "<i>"):
            assert answer.status_code == 422, (entry.key, bad)
            alert = html.unescape(re.search(r'role="alert".*?</ul>', answer.text, re.S).group())
            assert re.search(re.escape(entry.label), alert, re.I), (entry.key, alert)
        assert "nan" not in re.sub(r"<[^>]+>|“NaN”|value=\S+", "", answer.text).lower()
        assert "<i>" not in answer.text


def test_slips_and_swaps_are_spoken_up_about(reader):
    for path, words in (
        ("conductivity?c=0.57&t=25&kind=linear&a=2&usual=600", "mS/cm taken for µS/cm"),
        ("conductivity?c=0.57&t=25&kind=linear&a=2", "570 µS/cm would fit"),
        ("conductivity?c=570&c_unit=mS/cm&t=25&kind=linear&a=2", "µS/cm taken for mS/cm"),
        ("conductivity?shown=tds-3&tds=285&a=2", "is not known"),
        ("conductivity?c=570&c_unit=hPa&t=25&kind=linear&a=2", "is a conductivity; “hPa” is not one of"),
        ("oxygen?t=14&s=0&way=station&pressure=1018&altitude=612", "reduced to sea level"),
        ("oxygen?t=14&s=0&way=station&pressure=29.92", "Station pressure is meant, in hPa"),
        ("index?ph=7.4&t=29&ca=220&alk=40&tds=900&cya=300", "of cyanuric acid alone makes"),
        ("interference?ion=ammonium&c=0.5&other=600", "Nothing can be said of ammonium"),
        ("chlorine?total=1.0&free=1.9&ph=7.4&t=25", "Were they swapped"),
        ("compare?a=570&ua=5&b=571&ub=5&unit=µS/cm&of_a=at 25 °C&of_b=at 20 °C", "These are not the same thing"),
        ("pair?ion=nitrate&high_mv=168&high_t=21&high_c=100&low_mv=112&low_t=23&low_c=10", "cups swapped"),
        ("closing?quantity=oxygen&value=8&at=8&end=9&closed=11&expected=8.2", "not reported"),
        ("buffer?buffer=7.01&t=14", "set 7.05"),
    ):
        assert words in html.unescape(reader.get(f"/worksheet/{path}").text), path
    assert reader.get("/worksheet/alchemy").status_code == 404
