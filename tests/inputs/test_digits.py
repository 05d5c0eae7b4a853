"""Long columns of digits are read by automata: as the datetime module says, and as the patterns of
text do.
"""

import datetime as dt
import math
import random
import unittest
from zoneinfo import ZoneInfo

import numpy as np
import pyarrow as pa

import eptaro as ep
from eptaro.core.kernels import dispatch, reading
from eptaro.inputs.columns.digits import number_automaton
from eptaro.inputs.columns.numbers import infer_numbers, read_written
from eptaro.inputs.dates.digits import automaton_for
from eptaro.inputs.dates.reading import read_dates
from eptaro.inputs.files.chunks import text_bytes, translate_errors
from tests.core.kernels.both import both
from tests.inputs.test_numbers import RULES, random_text, slow

ROWS = 1200
EPOCH = dt.datetime(1970, 1, 1)
FORMS = (  # of strftime, and the rules that read it
    ("%Y-%m-%d", {}),
    ("%Y-%m-%d %H:%M", {}),
    ("%Y-%m-%dT%H:%M:%S.%f", {}),
    ("%Y/%m/%d %I:%M:%S %p", {"order": "ymd"}),
    ("%Y%m%dT%H:%M:%S", {}),
    ("%d.%m.%Y %H:%M:%S", {"order": "dmy"}),
    ("%m/%d/%Y  %I:%M%p", {"order": "mdy"}),
    ("%Y-%m-%d %H:%M:%S", {"order": "dmy"}),
    ("%d-%m-%Y %H.%M", {"formats": "%d-%m-%Y %H.%M"}),
    ("%H:%M:%S,%f on %m/%d/%Y", {"formats": "%H:%M:%S,%f on %m/%d/%Y"}),
    ("%Y%m%d %H:%M", {"formats": "%Y%m%d %H:%M"}),
    ("%Y-%m-%dT%H:%M:%SZ", {"zone": "Europe/Lisbon"}),
    ("%Y-%m-%d %H:%M:%S-03:30", {"zone": "America/New_York"}),
    ("%Y-%m-%d %H:%M:%S.%f-11", {"zone": "Asia/Kolkata"}),
)
OTHERS = (  # which are left to the patterns
    ("%Y%m%dT%H%M%SZ", {"zone": "Asia/Kolkata"}),
    ("%d%b%Y", {}),
    ("%A, %B %d, %Y", {}),
    ("%Y年%m月%d日 %H:%M", {}),
    ("%Y. %m. %d.", {}),
)
ODD = (None, "", " ", "n/a", "2025-13-01", "2023-02-29", "2025-02-30 10:00", "0000-00-00", "1900-02-29",
       "20.08.25", "20 Aug 2025", "2025-08-20 24:00", "2025-08-20 10:60", "2025-08-20 13:00 pm",
       "2025-08-20 10:00 EST", "2025/08-20", "1/2/2025", "2025-8-2", "2025-08-20T09:05:07.123456789",
       "1900-01-01", "20250820", " 2025-08-20 10:30 ", "\u00a02025-08-20", "2025-08-20 10:30+0100", "x" * 300, "2025-08-20 10:30+01", "2025-08-20 10:30+1",
       "2025-01", "1 Aug 2025 10:00 +0100")  # fmt: skip


def moments(rng: random.Random) -> list[dt.datetime]:
    """Return random moments of eight centuries, some of them midnights and ends of months."""
    span = 800 * 365 * 86_400
    every = [
        dt.datetime(1601, 1, 1) + dt.timedelta(seconds=rng.randrange(span), microseconds=rng.randrange(10**6))
        for _ in range(ROWS - 3)
    ]  # fmt: skip
    return [
        *every,
        dt.datetime(2024, 2, 29),
        dt.datetime(2000, 2, 29, 12),
        dt.datetime(1999, 12, 31, 23, 59),
    ]


def column(texts: list) -> pa.ChunkedArray:
    """Return texts in two uneven chunks, the second of which begins within its buffers."""
    whole = pa.array(texts, pa.string())
    return pa.chunked_array([whole[:100], whole[100:]])


class Stamps(unittest.TestCase):
    """Days and times of long columns."""

    def test_every_form_is_what_datetime_wrote(self):
        rng = random.Random(4)
        for form, rules in (*FORMS, *OTHERS):
            whens = moments(rng)
            texts = [f"{when:{form}}" for when in whens]
            wanted = [dt.datetime.strptime(text, form) for text in texts]
            if "zone" in rules:
                offset = dt.timedelta(hours={":30": 3.5, "-11": 11}.get(form[-3:], 0))
                zone = ZoneInfo(rules["zone"])
                wanted = [(when + offset).replace(tzinfo=dt.UTC).astimezone(zone).replace(tzinfo=None)
                          for when in wanted]  # fmt: skip
            for way in both():
                found = read_dates(column(texts), ep.DateRules(**rules))
                self.assertIsNone(found.bad, (way, form))
                days = [(when - EPOCH).days for when in wanted]
                self.assertEqual(found.days.tolist(), days, (way, form))
                midnight = dt.datetime.min.time()
                times = [(when - dt.datetime.combine(when, midnight)) // dt.timedelta(microseconds=1)
                         for when in wanted]  # fmt: skip
                told = (
                    [0] * ROWS
                    if found.times is None
                    else (np.asarray(found.times) // 1000).tolist()
                )
                self.assertEqual(told, times, (way, form))

    @unittest.skipIf(
        dispatch.loops is None, "the compiled loops were not built here, or do not run"
    )
    def test_automata_leave_none_of_these_to_the_patterns(self):
        for form, rules in FORMS:
            automaton = automaton_for(ep.DateRules(**rules))
            if "%Y%m" in rules.get("formats", ""):  # where the month ends only the next letters say
                self.assertIsNone(automaton)
                continue
            texts = pa.array([f"{when:{form}}" for when in moments(random.Random(1))])
            self.assertTrue(reading.read_stamps(*text_bytes(texts), automaton).known.all(), form)

    def test_other_texts_among_them_as_the_patterns_read_them(self):
        rng = random.Random(9)
        for turn in range(40):
            form, rules = rng.choice(FORMS)
            rules = {
                **rules,
                **rng.choice(({}, {"day_starts": "04:00"}, {"blanks": ("1900-01-01", "n/a")})),
            }
            rules |= rng.choice(({}, {}, {"zone": "UTC"}, {"grain": "day"}))
            texts = [f"{when:{form}}" for when in moments(rng)]
            odd = rng.sample(ODD, rng.randint(1, 6))
            for row in rng.sample(range(ROWS), rng.choice((1, 20, ROWS // 3, ROWS - 5))):
                texts[row] = rng.choice(odd)
            outcomes = []
            for _ in both():
                try:
                    found = read_dates(column(texts), ep.DateRules(**rules))
                except ep.DateError as error:
                    outcomes.append(str(error))
                    continue
                good = np.ones(ROWS, bool) if found.bad is None else ~found.bad
                parts = found.days, found.times, found.offsets
                kept = [None if part is None else np.asarray(part)[good].tolist() for part in parts]
                reasons = None if found.reasons is None else found.reasons.tolist()
                outcomes.append([kept, reasons, found.grain])
            with self.subTest(turn=turn, form=form, rules=rules, odd=odd):
                self.assertTrue(all(outcome == outcomes[0] for outcome in outcomes))

    def test_coded_columns_of_different_moments(self):
        whens = moments(random.Random(2))
        texts = pa.array([f"{when:%Y-%m-%d %H:%M:%S}" for when in whens])
        for coded in (
            texts.dictionary_encode(),
            pa.array([*texts.to_pylist(), None]).dictionary_encode(),
        ):
            found = read_dates(pa.chunked_array([coded]), ep.DateRules())
            self.assertEqual(found.days.tolist()[:ROWS], [(when - EPOCH).days for when in whens])
            self.assertEqual(0 if found.bad is None else found.bad.sum(), coded.null_count)

    def test_what_lies_under_a_blank_is_no_date(self):
        texts = pa.array(["2025-08-20"] * ROWS)
        filled = pa.py_buffer(np.packbits(np.arange(ROWS) > 0, bitorder="little"))
        covered = pa.Array.from_buffers(pa.string(), ROWS, [filled, *texts.buffers()[1:]])
        for way in both():
            found = read_dates(pa.chunked_array([covered]), ep.DateRules())
            self.assertEqual((found.bad.sum(), found.reasons[0]), (1, "blank"), way)

    def test_a_format_that_cannot_be_is_refused_for_long_columns_too(self):
        texts = column(["01.02.2025 03 03"] * ROWS)
        for way in both():
            with self.assertRaisesRegex(ep.DateError, "names one part of the date twice", msg=way):
                read_dates(texts, ep.DateRules(formats="%d.%m.%Y %H %I"))


ODD_NUMBERS = ("1,23", "12,34,567", "1234,567", "1,234,5", "1,2345", "1.234.567", "1 234 567", "1'234'567", ".5", ",5",
               "5.", "007", "1,234.", "--5", "+-5", "-+5", "(5", "5)", "((5))", "$5$", "$-5", "-$5", "- 5", "-$-5", "5 5",
               "$ 5", "5 EUR", "EUR5kg", "$", "EUR", "-", "%", "(", "()", "5%", "5 %", "(5%)", "5%-", "5-", "5 -", "-5-",
               "(-5)", "( 5 )", "$(5)", "12-kg", "5 kg-", "9" * 18, "9" * 19, "0." + "3" * 17, "0", "-0.00", "−7")  # fmt: skip


class Numbers(unittest.TestCase):
    """Numbers of long columns, each against the slow reader."""

    def check(self, texts: list, rules: dict) -> None:
        wanted = [slow(text, rules) for text in texts]
        for way in both():
            numbers, _, wrong = read_written(pa.array(texts), ep.NumberRules(**rules))
            told = ["bad" if bad else value for value, bad in
                    zip(numbers.to_pylist(), wrong.to_pylist(), strict=True)]  # fmt: skip
            differing = [
                (text, one, two) for text, one, two in zip(texts, told, wanted, strict=True)
                if not (math.isclose(one, two, rel_tol=1e-15) if isinstance(one, float) else one == two)
            ]  # fmt: skip
            self.assertEqual(differing[:3], [], (way, rules))

    def test_random_texts(self):
        rng, rows = random.Random(3), 4200
        more = [
            {"trailing_minus": True, "percent": True, "thousands": ".", "decimal": ","},
            {"blanks": ("7", "-999.25"), "brackets": True},
        ]
        marks = {" ": " \u00a0\u202f", "'": "'’"}
        for turn in range(13):
            rules = [*RULES, *more][turn % 13]
            good = [
                text
                for text in (random_text(rng, rules) for _ in range(60))
                if slow(text, rules) != "bad"
            ]
            other = marks.get(rules.get("thousands"), "")
            good += [text.replace(other[0], mark) for mark in other[1:] for text in good[:5]]
            good += ["−4", "", f"{good[0]} ", *rules.get("blanks", ()), "5"]
            texts = [rng.choice(good) for _ in range(rows)]
            with self.subTest(turn=turn, rules=rules):
                self.check(texts, rules)
                for row in rng.sample(range(rows), 20):
                    texts[row] = rng.choice(ODD_NUMBERS)
                self.check(texts, rules)
                self.check(
                    ["5"] * rows + [text for text in ODD_NUMBERS if slow(text, rules) != "bad"],
                    rules,
                )

    @unittest.skipIf(
        dispatch.loops is None, "the compiled loops were not built here, or do not run"
    )
    def test_automata_leave_none_of_these_to_the_patterns(self):
        for rules, texts in (
            ({}, ["12", "-1234.50", "+.5", "5.", "−3", " 7 "]),
            ({"thousands": ",", "strip": "$"}, ["$1,234.50", "-$1,234", "$-12", "$ 12,345,678", "12"]),
            ({"thousands": " ", "decimal": ",", "strip": ("€", "EUR")},
             ["1 234,50 €", "1\u202f234,50\u00a0€", "7\u00a0€", "12 EUR", "EUR 12 345", "-1\u00a0234"]),
            ({"thousands": "'", "strip": "Fr."}, ["Fr. 1'234.50", "1’234", "-5"]),
            ({"brackets": True, "strip": "$"}, ["(12.5)", "($3)", "$(3)", "( 3 )", "4"]),
            ({"trailing_minus": True, "strip": "kg"}, ["12-", "12.5 -", "12 kg-", "3 kg", "-3"]),
            ({"percent": True, "brackets": True}, ["5%", "7.5 %", "5\u00a0%", "(5%)"]),
        ):  # fmt: skip
            automaton = number_automaton(ep.NumberRules(**rules))
            found = reading.read_decimals(*text_bytes(pa.array(texts)), automaton)
            self.assertEqual(found.known.tolist(), [True] * len(texts), (rules, texts))

    def test_numbers_too_long_for_64_bits_are_exact_all_the_same(self):
        for long in (
            "9,223,372,036,854,775.807",
            "123,456,789,012,345,678",
            "0.000000000000000001",
        ):
            self.check(["1,234.125"] * 4200 + [long], {"thousands": ","})

    def test_texts_that_only_zeros_tell_apart(self):
        for texts, said in (
            (["0,000", "1,234"], "two ways: '1,234'"),
            (["5,678", "0,000"], "two ways"),
        ):
            with self.assertRaisesRegex(ep.MeasureError, said):
                infer_numbers(pa.array(texts), "x")
        self.assertEqual(infer_numbers(pa.array(["0,000"]), "x")[0].thousands, None)

    def test_a_fixed_space_before_a_unit(self):
        for texts in (["1\u202f234,50\u00a0€", "7\u202f€", "−3 €"], ["5\u00a0%", "(7 %)"]):
            for rows in (1, 2000):
                frame = {"on": ["2025-01-06"] * len(texts) * rows, "x": texts * rows}
                book = ep.Daybook(frame, date="on", measures="s=sum(x)", numbers="infer")
                (row,) = book.recap("year").rows()
                each = 1238.5 if "€" in texts[0] else -0.02
                self.assertAlmostEqual(float(row["s"]), each * rows, 6)


@unittest.skipIf(dispatch.loops is None, "the compiled loops were not built here, or do not run")
class Refused(unittest.TestCase):
    """Automata and texts that lead out of their arrays."""

    def test_each(self):
        data, offsets = np.frombuffer(b"12", np.uint8), np.array([0, 1, 2])
        table = np.zeros((3, 256), np.uint8)
        parts = np.zeros(3, np.uint8)
        for name in ("read_stamps", "read_decimals"):
            read = getattr(reading, name)
            for wrong in ({"offsets": [0, 3, 2]}, {"offsets": [0, 1, 3]}, {"offsets": [-1, 1, 2]}, {"table": table + 3},
                          {"table": table[:2]}, {"parts": parts + len(reading.StampPart)}, {"ends": parts[:1]}, {"table": table[:, :9].copy()}):  # fmt: skip
                own = {"offsets": offsets, "table": table, "parts": parts, "ends": parts, **wrong}
                places = np.array(own.pop("offsets"))
                with self.assertRaises((IndexError, ValueError), msg=(name, wrong)):
                    read(data, places, reading.Automaton(**own))

    def test_damaged_columns(self):
        ends = np.arange(5001, dtype=np.int32)
        ends[7] = 9999  # the last one is as it should be, which is all that Arrow looks at
        offsets = pa.py_buffer(ends)
        broken = pa.StringArray.from_buffers(5000, offsets, pa.py_buffer(b"5" * 5000))
        for read in (lambda: read_dates(pa.chunked_array([broken]), ep.DateRules()),
                     lambda: read_written(broken, ep.NumberRules())):  # fmt: skip
            with (
                self.assertRaisesRegex(ep.InputError, "f: cannot be read: damaged text"),
                translate_errors("f"),
            ):
                read()
