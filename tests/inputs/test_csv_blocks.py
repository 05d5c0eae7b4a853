"""CSV files that are parsed in blocks side by side read as one stream of rows does."""

import itertools
import random
from collections import Counter
from pathlib import Path
from unittest import mock

import pyarrow as pa
import pyarrow.csv

import eptaro as ep
from eptaro.inputs.files import csv, csvblocks
from eptaro.inputs.sources import ColumnRequest
from eptaro.rules import FileRules
from tests.inputs.test_sources import Files

FIELDS = [b"a", b"route 07", b'"quoted"', b'"two\nlines"', b'"with ""quotes"" in it"', b'""', b"",
          b'"a,b;c"', '"Fähre\r\n"'.encode()]  # fmt: skip
ODD = [b'5" pipe', b'"closed" and more', b"one,more,field", b'"left open', b"\xff", b"a\rb"]

PARSE = csv.CsvFile._parse_stream


def random_text(rng: random.Random, mark: bytes) -> bytes:
    """Return rows of a date, a text and a number, some of them odd."""
    end = rng.choice([b"\n", b"\r\n"])
    rows = [
        mark.join([b"2025-01-%02d" % rng.randrange(1, 29), rng.choice(FIELDS), b"%d" % n])
        for n in range(rng.randrange(30, 120))
    ]
    for _ in range(rng.choice([0, 0, 1, 2])):
        rows.insert(rng.randrange(len(rows)), rng.choice([b"", b""]))
    for _ in range(rng.choice([0, 0, 1])):
        rows.insert(rng.randrange(len(rows)), mark.join([b"2025-02-01", rng.choice(ODD), b"1"]))
    head = rng.choice([[], [mark.join([b'"on"', b"shop", b"fare"])]])
    text = end.join([*head, *rows]) + rng.choice([b"", end])
    return rng.choice([b"", b"\xef\xbb\xbf"]) + text


class Blocks(Files):
    """The same tables, or the same error, from blocks of any size."""

    def read(self, path: Path, rules: FileRules) -> object:
        source = csv.CsvFile(path, rules)
        rows: list = []
        try:
            on, shop, fare = source.names()[:3]
            for table in source.batches(ColumnRequest(on, [shop], [fare], plain_days=True)):
                columns = [table[on].cast(pa.string()), table[shop], table[fare]]
                rows += zip(*(column.to_pylist() for column in columns), strict=True)
        except ep.EptaroError as error:
            return str(error), rows if "is not a number" in str(error) else None
        return rows

    def test_blocks_of_any_text_read_as_one_stream_does(self):
        whole = self.enterContext(
            mock.patch.object(csv.CsvFile, "_parse_stream", autospec=True, side_effect=PARSE)
        )
        outcomes: Counter = Counter()
        for seed in range(200):
            rng = random.Random(seed)
            mark = rng.choice(",;\t")
            text = random_text(rng, mark.encode())
            rules = FileRules(delimiter=mark, header_row=1 if b"shop" in text[:20] else "none")
            path = self.file("rows.csv", text)
            wanted = self.read(path, rules)
            whole.reset_mock()
            with (
                mock.patch.object(csv, "_LEAST_CUT", 0),
                mock.patch.object(csvblocks, "_BLOCK", rng.choice([64, 100, 300, 1000])),
            ):
                self.assertEqual(self.read(path, rules), wanted, (seed, text))
            end = "refused" if isinstance(wanted, tuple) else "read"
            outcomes[end, "as a stream in the end" if whole.called else "in blocks"] += 1
        for way in ("in blocks", "as a stream in the end"):
            self.assertGreater(outcomes["read", way], 50, outcomes)
        self.assertGreater(outcomes["refused", "as a stream in the end"], 20, outcomes)

    def test_a_block_that_cannot_be_parsed_is_read_with_the_stream(self):
        rows = [f"2025-01-{1 + n % 28:02d},a,{n}\n" for n in range(200)]
        path = self.file("rows.csv", "on,shop,fare\n" + "".join(rows))
        wanted = self.read(path, FileRules())
        parse = pa.csv.read_csv
        for failing in (1, 3):
            calls = itertools.count(1)

            def parse_some(*words, failing=failing, calls=calls, **options):
                if next(calls) == failing:
                    raise pa.ArrowInvalid("cannot be")
                return parse(*words, **options)

            with (
                mock.patch.object(csv, "_LEAST_CUT", 0),
                mock.patch.object(csvblocks, "_BLOCK", 500),
                mock.patch.object(pa.csv, "read_csv", parse_some),
            ):
                self.assertEqual(self.read(path, FileRules()), wanted, failing)
