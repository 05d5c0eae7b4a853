"""Files and frames of every kind give the same Daybook; what cannot be used is refused."""

import bz2
import datetime as dt
import gzip
import io
import json
import random
import subprocess
import sys
import tempfile
import unittest
import warnings
import zipfile
from decimal import Decimal
from pathlib import Path
from unittest import mock

import numpy as np
import openpyxl
import pandas as pd
import polars as pl
import pyarrow as pa
import sqlalchemy
from pyarrow import feather, parquet

import eptaro as ep
from eptaro.digest import digest_of_file

ROWS = {
    "on": ["2025-01-31", "2025-02-01", "2025-02-01"],
    "shop": ["007", "12", None],
    "fare": [Decimal("10.10"), Decimal("0.20"), None],
}
TEXT = "on,shop,fare\n2025-01-31,007,10.10\n2025-02-01,12,0.20\n2025-02-01,,\n"
OPTIONS = {
    "date": "on",
    "by": "shop",
    "measures": ["revenue=sum(fare)", "n=count()", "m=mean(fare)"],
}


class Files(unittest.TestCase):
    """A folder of its own for each test."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def file(self, name: str, content: str | bytes) -> Path:
        path = self.folder / name
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return path

    def archive(self, name: str, **files: str) -> Path:
        with zipfile.ZipFile(self.folder / name, "w", zipfile.ZIP_DEFLATED) as packed:
            for inside, content in files.items():
                packed.writestr(inside, content)
        return self.folder / name

    def read(self, content: str | bytes, **options) -> ep.Daybook:
        return ep.Daybook.read(self.file("rows.csv", content), **{**OPTIONS, **options})


class Folders(Files):
    """Folders of Parquet files, in folders whose names state columns."""

    def setUp(self):
        super().setUp()
        for year in (2024, 2025):
            for port in ("Aldmoor", "Brinefen"):
                folder = self.folder / f"sailed={year}" / f"port={port}"
                folder.mkdir(parents=True)
                rows = {"on": [f"{year}-03-01", f"{year}-04-01"], "fare": [year % 100, 1]}
                parquet.write_table(pa.table(rows), folder / "part.parquet")
        (self.folder / "_unfinished.parquet").write_text("no")
        (self.folder / "note.txt").write_text("no")

    def test_what_folders_state_is_a_column(self):
        book = ep.Daybook.read(str(self.folder), date="on", by=["port", "sailed"],
                               measures=["s=sum(fare)", "d=distinct(port)"])  # fmt: skip
        found = book.recap("year", by="port")
        self.assertEqual(found["s"].tolist(), [25, 26, 25, 26])
        self.assertEqual(found["d"].tolist(), [1, 1, 1, 1])
        self.assertEqual(book.recap("year", by="sailed")["s"].tolist(), [50, 0, 0, 52])

    def test_a_file_is_never_read_twice_and_never_without_a_column(self):
        with self.assertRaisesRegex(ep.InputError, "is named twice"):
            ep.Daybook.read(
                [self.folder, self.folder / "sailed=2024"], date="on", measures="n=count()"
            )
        parquet.write_table(
            pa.table({"on": ["2025-01-01"]}), self.folder / "sailed=2024" / "z.parquet"
        )
        with self.assertRaisesRegex(ep.InputError, "z.parquet: unknown column 'fare'"):
            ep.Daybook.read(self.folder, date="on", measures="s=sum(fare)")
        (self.folder / "a.parquet").write_text("no")
        with self.assertRaisesRegex(ep.InputError, "a.parquet: cannot be read"):
            ep.Daybook.read(self.folder, date="on", measures="s=sum(fare)")

    def test_a_folder_without_parquet_is_refused(self):
        empty = self.folder / "empty"
        empty.mkdir()
        with self.assertRaisesRegex(ep.InputError, "is a folder without Parquet files"):
            ep.Daybook.read(empty, date="on", measures="n=count()")


class SameBook(Files):
    """The same rows in any form give the same answer."""

    def test_every_kind_of_source(self):
        table = pa.table(ROWS)
        parquet.write_table(table, self.folder / "rows.parquet")
        books = {
            "mapping": ep.Daybook(ROWS, **OPTIONS),
            "arrow": ep.Daybook(table, **OPTIONS),
            "pandas": ep.Daybook(pd.DataFrame(ROWS), **OPTIONS),
            "polars": ep.Daybook(pl.DataFrame(ROWS), **OPTIONS),
            "csv": self.read(TEXT),
            "csv with a byte order mark": self.read(b"\xef\xbb\xbf" + TEXT.encode()),
            "parquet": ep.Daybook.read(self.folder / "rows.parquet", **OPTIONS),
        }
        expected = list(books["mapping"].recap("month", by="shop").rows())
        self.assertEqual([row["shop"] for row in expected], ["007", "007", "12", "12", None, None])
        self.assertEqual(expected[0]["revenue"], Decimal("10.10"))
        for name, book in books.items():
            self.assertEqual(list(book.recap("month", by="shop").rows()), expected, name)

    def test_every_file_and_its_packed_and_other_forms(self):
        table = pa.table(ROWS)
        expected = list(ep.Daybook(ROWS, **OPTIONS).recap("month", by="shop").rows())
        numbers = [None if fare is None else float(fare) for fare in ROWS["fare"]]
        plain = pa.table({**ROWS, "fare": numbers})
        (self.folder / "parts").mkdir()
        parquet.write_table(table.slice(0, 1), self.folder / "parts" / "a.parquet")
        parquet.write_table(table.slice(1), self.folder / "parts" / "b.parquet")
        feather.write_feather(table, str(self.folder / "r.arrow"))
        with pa.ipc.new_stream(str(self.folder / "s.arrow"), table.schema) as stream:
            stream.write_table(table, max_chunksize=1)
        self.enterContext(mock.patch("eptaro.inputs.sources._ROWS", 2))
        self.enterContext(mock.patch("eptaro.inputs.files.jsonlines._BLOCK", 70))
        lines = "".join(json.dumps(row) + "\n" for row in plain.to_pylist())
        self.book(plain)
        engine = sqlalchemy.create_engine(f"sqlite:///{self.folder}/r.db")
        with engine.begin() as connection:
            connection.execute(
                sqlalchemy.text('CREATE TABLE t ("on" TEXT, shop TEXT, fare NUMERIC)')
            )
            for row in plain.to_pylist():
                connection.execute(sqlalchemy.text("INSERT INTO t VALUES (:on, :shop, :fare)"), row)
        query = ep.FileRules(query="SELECT * FROM t")
        comma = ep.FileRules(delimiter=";", decimal=",", encoding="latin-1")
        forms = {
            "gz": (self.file("r.csv.gz", gzip.compress(TEXT.encode())), None),
            "bz2": (self.file("r.csv.bz2", bz2.compress(TEXT.encode())), None),
            "zip": (self.archive("r.csv.zip", **{"r.csv": TEXT, "__MACOSX/r.csv": "x"}), None),
            "zip of tabs": (
                self.archive("t.zip", **{"in/t.txt": TEXT.replace(",", "\t")}),
                ep.FileRules(delimiter="\t"),
            ),
            "zst": (self.file("r.csv.zst", pa.compress(TEXT.encode(), "zstd", asbytes=True)), None),
            "tsv": (self.file("r.tsv", TEXT.replace(",", "\t")), None),
            "comma": (
                self.file("c.csv", TEXT.replace(",", ";").replace(".", ",").encode("latin-1")),
                comma,
            ),
            "folder": (self.folder / "parts", None),
            "pattern": (f"{self.folder}/parts/*.parquet", None),
            "arrow": (self.folder / "r.arrow", None),
            "arrow stream": (self.folder / "s.arrow", None),
            "ndjson": (self.file("r.ndjson", lines), None),
            "xlsx": (self.folder / "r.xlsx", None),
            "ods": (self.folder / "r.ods", None),
            "sql": (f"sqlite:///{self.folder}/r.db", query),
        }
        for name, (path, rules) in forms.items():
            book = ep.Daybook.read(path, **OPTIONS, files=rules)
            rows = list(book.recap("month", by="shop").rows())
            if name in ("ndjson", "xlsx", "ods"):  # 10.10 and 0.20 are written 10.1 and 0.2
                rows = [
                    {**row, "revenue": row["revenue"] and row["revenue"].quantize(Decimal("0.01"))}
                    for row in rows
                ]
            if name == "sql":  # SQLite has no decimals
                rows = [
                    {**row, "revenue": row["revenue"] and Decimal(f"{row['revenue']:.2f}")}
                    for row in rows
                ]
            self.assertEqual(rows, expected, name)

    def test_json_lines_whose_kinds_and_names_change_on_the_way(self):
        rows = [{"on": f"2025-01-{day:02d}", "fare": day, "shop": "a"} for day in range(1, 29)]
        rows[20] |= {"fare": 20.25, "late": 7}
        del rows[3]["shop"], rows[25]["shop"]
        text = "\n".join(map(json.dumps, rows))
        for block in (1, 150, 1 << 26):
            with mock.patch("eptaro.inputs.files.jsonlines._BLOCK", block):
                path = self.file("r.ndjson", text)
                book = ep.Daybook.read(
                    path, date="on", by="shop", measures=["s=sum(fare)", "l=sum(late)"]
                )
                found = [(r["shop"], r["s"], r["l"]) for r in book.recap("month", by="shop").rows()]
                self.assertEqual(found, [("a", Decimal("375.25"), 7), (None, 30, None)])
                with self.assertRaisesRegex(ep.InputError, "row 29 is not JSON"):
                    ep.Daybook.read(
                        self.file("r.ndjson", text + "\n{on}"), date="on", measures="n=count()"
                    )

    def test_a_group_column_that_is_blank_throughout(self):
        path = self.file("b.csv", "on,g,x\n2025-01-01,,1\n2025-01-02,,2\n")
        frame = {"on": ["2025-01-01", "2025-01-02"], "g": [None, None], "x": [1, 2]}
        asked = {"date": "on", "by": "g", "measures": "s=sum(x)"}
        for book in (ep.Daybook.read(path, **asked), ep.Daybook(frame, **asked)):
            (row,) = book.recap("year", by="g").rows()
            self.assertEqual((row["g"], row["s"]), (None, 3))
            self.assertEqual(book.prove(book.recap("month", by="g")), 1)

    def book(self, table: pa.Table) -> None:
        """Write the rows as an xlsx and an ods workbook, with real date cells."""
        made = openpyxl.Workbook()
        sheet = made.active
        sheet.append(table.column_names)
        frame = table.to_pandas()
        frame["on"] = pd.to_datetime(frame["on"])
        for row in frame.itertuples(index=False):
            sheet.append([None if value != value else value for value in row])
        made.save(self.folder / "r.xlsx")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            frame.to_excel(self.folder / "r.ods", engine="odf", index=False)

    def test_frames_as_they_come(self):
        rows = [
            {"on": "2025-01-05", "x": 1},
            {"x": 2, "on": "2025-02-05", "more": "y"},
            {"on": "2025-02-06", "x": 4},
        ]
        days = pd.DatetimeIndex([row["on"] for row in rows])
        frames = (
            rows, pl.LazyFrame(rows, infer_schema_length=None), pd.DataFrame({"x": [1, 2, 4]}, index=days.rename("on")),
            pd.DataFrame({"x": [1, 2, 4]}, index=days.to_period("M").rename("on")), pd.DataFrame({"on": days.to_period("M"), "x": [1, 2, 4]}),
            pd.Series([1, 2, 4], index=days.rename("on"), name="x"), pd.Series([1, 2, 4], index=days.to_period("D").rename("on"), name="x"),
        )  # fmt: skip
        for frame in frames:
            with self.subTest(kind=type(frame), index=type(getattr(frame, "index", None))):
                book = ep.Daybook(frame, date="on", measures="s=sum(x)")
                self.assertEqual(book.recap("month")["s"].tolist(), [1, 6])
        for freq, per in (("M", "month"), ("Q", "quarter")):
            with self.assertRaisesRegex(ep.QuestionError, f"dated by the {per}"):
                ep.Daybook(pd.DataFrame({"x": [1]}, index=pd.period_range("2025", periods=1, freq=freq)),
                           measures="s=sum(x)").recap("week")  # fmt: skip
        with self.assertRaisesRegex(ep.InputError, "nor a list of dicts"):
            ep.Daybook([1, 2], date="on", measures="s=sum(x)")

    def test_words_of_other_tools_are_refused_with_ours(self):
        book = ep.Daybook(
            {"on": ["2025-01-05", "2025-02-05"], "x": [1, 2]}, date="on", measures="s=sum(x)"
        )
        for ask, ours in ((lambda: book.recap("M"), "did you mean 'month'"), (lambda: book.recap("yearly"), "'year'"),
                          (lambda: book.trail("7D"), "write '7 days'"), (lambda: book.compare("month", back="12M"), "is not an amount of time")):  # fmt: skip
            with self.assertRaisesRegex(ep.EptaroError, ours):
                ask()
        self.assertEqual(book.recap("month", as_of="2025-01")["s"].tolist(), [1])

    def test_standard_input_and_the_only_date_column(self):
        command = [sys.executable, "-m", "eptaro", "recap", "-", "--measure", "s=sum(fare)",
                   "--per", "month", "--format", "csv"]  # fmt: skip
        done = subprocess.run(command, input=TEXT, capture_output=True, text=True, check=True)
        self.assertIn("2025-01,2025-01-01,2025-01-31,31,false,10.10", done.stdout)
        self.assertIn("taken from 'on', the only column that can be dates", done.stderr)

    def test_streamed_blocks_of_any_size_give_the_same(self):
        rows = "".join(f"2025-01-{i % 28 + 1:02d},{i % 7:03d},{i / 100:.2f}\n" for i in range(5000))
        path = self.file("rows.csv", "on,shop,fare\n" + rows)
        specs = ["s=sum(fare)", "m=median(fare)", "d=distinct(fare)", "v=std(fare)", "l=last(fare)"]
        answers = []
        for block in (1 << 23, 1 << 10, 1 << 14):
            with mock.patch("eptaro.inputs.files.csv._BLOCK", block):
                book = ep.Daybook.read(path, date="on", by="shop", measures=specs)
            answers.append(list(book.recap("day", by="shop").rows()))
        self.assertEqual(answers[0], answers[1])
        self.assertEqual(answers[0], answers[2])

    def test_days_read_as_days_are_those_read_as_text(self):
        odd = ["", " ", "2025-01-31 ", "0000-01-01", "2025-02-30", "2025-1-5", "20250105", "5 January 2025", "soon",
               "2025-01-05T10:00", "2025-01-05 00:00:00", "2025-03", "9999-12-31", "0001-01-01", "-2025-01-01",
               "2025-01-05Z", "\u0662025-01-01", '"2025-01-05"', "1/2/2025", "2025-W02"]  # fmt: skip
        rules = [ep.DateRules(**more, bad_dates=bad) for bad in ("raise", "reject") for more in (
            {}, {"order": "dmy"}, {"order": "infer"}, {"grain": "day"}, {"grain": "month"}, {"blanks": "2025-01-07"})]  # fmt: skip

        def answers(path: Path, dates: ep.DateRules) -> list[object]:
            try:
                book = ep.Daybook.read(
                    path, date="on", by="shop", measures=["s=sum(fare)", "n=count()"], dates=dates
                )
                rows = [*book.recap("month", by="shop").rows()]
                return [rows, [*book.rejected.rows()], book.notes, book.prove(book.recap("year"))]
            except ep.EptaroError as error:
                return [type(error), str(error)]

        self.enterContext(mock.patch("eptaro.inputs.files.csv._BLOCK", 1 << 11))
        as_text = mock.patch(
            "eptaro.inputs.files.csv.CsvFile._begins_with_days", return_value=False
        )
        for text in odd:
            path = self.file(
                "days.csv",
                "fare,on,shop\n" + "1,2025-01-05,a\n" * 150 + f"2,{text},b\n3,2025-02-06,b\n",
            )
            own = answers(path, ep.DateRules(bad_dates="reject"))
            with as_text:
                self.assertEqual(answers(path, ep.DateRules(bad_dates="reject")), own, text)
        as_days = 0
        for seed in range(7):
            rng = random.Random(seed)
            dates = [
                f"2025-{rng.randrange(1, 13):02d}-{rng.randrange(1, 29):02d}" for _ in range(400)
            ]
            for _ in range(rng.choice((0, 1, 1, 3))):
                dates[rng.choice((rng.randrange(400), rng.randrange(120, 400)))] = rng.choice(odd)
            fares = [f"{rng.randrange(9999) / 100}" for _ in dates]
            if seed % 10 == 3:
                fares[300] = "much"
            rows = (f"{fare},{on},{fare[-1]}\n" for on, fare in zip(dates, fares, strict=True))
            path = self.file("days.csv", "fare,on,shop\n" + "".join(rows))
            chosen = rng.choice(rules)
            own = answers(path, chosen)
            with as_text as asked:
                self.assertEqual(answers(path, chosen), own, (seed, chosen))
            as_days += asked.called
        self.assertGreater(as_days, 2)

    def test_blanks_are_counted_and_said(self):
        self.assertEqual(self.read(TEXT).notes, ("1 blank value in 'fare' left out",))
        floats = ep.Daybook({"on": ["2025-01-01"] * 3, "x": [0.5, float("nan"), None]}, date="on",
                            measures=["s=sum(x)", "m=median(x)"])  # fmt: skip
        self.assertEqual(floats.notes[0], "2 blank values in 'x' left out")
        self.assertEqual(len(floats.notes), 1)  # a note on memory is for what takes much

    def test_cells_beyond_a_memory_limit_are_kept_in_files(self):
        rng = random.Random(7)
        rows = "".join(
            f"20{rng.randrange(10, 30)}-{rng.randrange(1, 13):02d}-17,{rng.randrange(9**9)},{rng.randrange(999)}.25\n"
            for _ in range(2500)
        )
        path = self.file("many.csv", "on,shop,fare\n" + rows)
        for measures in (
            ["s=sum(fare)", "n=count()"],
            ["s=sum(fare)", "v=var(fare)", "m=median(fare)", "l=last(fare)"],
        ):
            answers = []
            with (
                mock.patch("eptaro.inputs.files.csv._BLOCK", 1 << 13),
                mock.patch("eptaro.core.aggregation.axis.MOST_DENSE", 1 << 10),
                mock.patch("eptaro.core.aggregation.fold.MOST_DENSE", 1 << 10),
            ):
                for limit in (None, 10):
                    book = ep.Daybook.read(
                        path, date="on", by="shop", measures=measures, memory_limit=limit
                    )
                    answers.append(
                        list(book.recap("year", by="shop").rows())
                        + list(book.recap("month").rows())
                    )
                    self.assertEqual(book.prove(book.recap("year")) > 0, True)
            self.assertEqual(*answers)
            held = book._store.facts.folded.cells.memory
            self.assertLess(held, 1 << 20)

    def test_no_room_for_cells_is_told(self):
        with (
            mock.patch(
                "eptaro.core.kernels.allocation.os.posix_fallocate",
                side_effect=OSError(28, "No space left"),
            ),
            self.assertRaisesRegex(
                ep.InputError, "no room for .* MiB more of them in .*No space left.*TMPDIR"
            ),
        ):
            self.read(TEXT, memory_limit=10)

    def test_several_files_are_one(self):
        first = self.file("a.csv", "on,shop,fare\n2025-01-31,007,10.1\n")
        second = self.file("b.csv", "shop,on,fare\n12,2025-02-01,0.20\n,2025-02-01,\n")
        book = ep.Daybook.read([first, second], **OPTIONS)
        whole = self.read(TEXT)
        self.assertEqual(list(book.recap("month").rows()), list(whole.recap("month").rows()))

    def test_numbers_in_text_are_exact_decimals(self):
        fares = [f"{n / 100:.2f}" for n in range(1, 3000)]
        text = "on,fare\n" + "".join(f"2025-01-01,{fare}\n" for fare in fares)
        (row,) = self.read(text, by=None).recap("day").rows()
        self.assertEqual(row["revenue"], sum(map(Decimal, fares)))

    def test_more_digits_than_a_float_holds_are_kept(self):
        text = "on,fare\n2025-01-01,90071992547409.93\n2025-01-02,0.01\n"
        book = self.read(text, by=None)
        self.assertEqual(book.recap("month")["revenue"][0], Decimal("90071992547409.94"))

    def test_days_and_times_of_numpy_in_every_unit(self):
        words = [f"2025-0{1 + n % 2}-0{1 + n % 7}" for n in range(40)]
        for unit in ("D", "h", "m", "s", "ms", "us", "ns"):
            days = np.array(words, f"M8[{unit}]")
            for on, count in ((days, 40), (days[::-1][::2], 20)):
                for kind in (dict, pd.DataFrame):
                    with self.subTest(unit=unit, rows=count, kind=kind.__name__):
                        frame = kind({"on": on, "x": np.arange(count)})
                        table = ep.Daybook(frame, date="on", measures=["n=count()"]).recap("day")
                        expected = {}
                        for day in on.astype("M8[D]").tolist():
                            expected[day] = expected.get(day, 0) + 1
                        rows = {row["first"]: row["n"] for row in table.rows() if row["n"]}
                        self.assertEqual(rows, expected)
            blank = days.copy()
            blank[3] = np.datetime64("NaT")
            for frame in ({"on": blank}, pd.DataFrame({"on": blank})):
                with self.assertRaisesRegex(ep.DateError, "row 4: blank"):
                    ep.Daybook(frame, date="on", measures="n=count()")

    def test_columns_of_pandas_are_read_when_they_are_asked_for(self):
        words = np.array([f"w{n}" for n in range(9000)], object)
        frame = pd.DataFrame(
            {"on": ["2025-01-01"] * 9000, "x": 1, "y": words, "z": [object()] * 9000}
        )
        with mock.patch("pyarrow.table", wraps=pa.table) as read:
            book = ep.Daybook(frame, date="on", measures="s=sum(x)")
        self.assertEqual(book.recap("year")["s"].tolist(), [9000])
        full = [call.args[0].columns.tolist() for call in read.call_args_list
                if isinstance(call.args[0], pd.DataFrame) and len(call.args[0]) == 9000]  # fmt: skip
        self.assertEqual(full, [["on"], ["x"]])
        with self.assertRaisesRegex(ep.InputError, "column 'z' cannot be used"):
            ep.Daybook(frame, date="on", by="z", measures="s=sum(x)")
        prints = {ep.Daybook(part, date="on", measures="s=sum(x)")._store.facts.folded.fingerprints
                  for part in (frame, frame.copy(), frame.assign(y=words[::-1]), frame[:-1],
                               frame.assign(y=[*words[:-1], "w"]))}  # fmt: skip
        self.assertEqual(len(prints), 4)  # as many as there are different rows

    def test_parts_of_one_frame_are_different_inputs(self):
        for count in (60, 4000, 40_000):
            days = [f"2025-{1 + n % 12:02d}-{1 + n % 28:02d}" for n in range(count)]
            table = pa.table({"on": days, "shop": [f"s{n}" for n in range(count)]})
            half = count // 2
            for frame in (
                table,
                table.to_pandas(),
                table.to_pandas().astype(object),
                pl.from_arrow(table),
            ):
                books = [ep.Daybook(part, date="on", measures="n=count()")
                         for part in (frame[:half], frame[half:])]  # fmt: skip
                with self.subTest(rows=count, kind=type(frame)):
                    both = books[0].merge(books[1])
                    self.assertEqual(both.recap("year")["n"].tolist(), [count])
                    with self.assertRaisesRegex(ep.InputError, "already|twice|both"):
                        both.merge(books[1])

    def test_a_file_is_known_by_its_bytes_wherever_it_lies(self):
        class Far(io.BytesIO):
            def read_at(self, count, at):
                return self.getvalue()[at : at + count]

        for size in (10, 1 << 20, 5 << 20):
            plain = bytearray(random.Random(size).randbytes(size))
            one = digest_of_file(io.BytesIO(plain), size)
            self.assertEqual(digest_of_file(Far(plain), size), one)
            for at in (0, size // 2, size - 1):
                plain[at] ^= 1
                self.assertNotEqual(digest_of_file(io.BytesIO(plain), size), one, (size, at))
                plain[at] ^= 1

    def test_damage_far_into_a_packed_file_names_the_file(self):
        rng = random.Random(4)
        rows = [f"2025-01-{1 + n % 31:02d},{rng.random()},1\n" for n in range(40_000)]
        packed = bytearray(gzip.compress(("on,shop,fare\n" + "".join(rows)).encode()))
        half = len(packed) // 2
        packed[half : half + 200] = b"\xff" * 200
        path = self.file("damaged.csv.gz", bytes(packed))
        with self.assertRaisesRegex(ep.InputError, "damaged.csv.gz: cannot be read"):
            ep.Daybook.read(path, **OPTIONS)

    def test_long_archives_are_read_to_their_end(self):
        self.enterContext(mock.patch("eptaro.inputs.files.csv._BLOCK", 1 << 16))
        rows = [f"2025-01-{1 + n % 31:02d},{n % 7},{n}.25\n" for n in range(30_000)]
        text = "on,shop,fare\n" + "".join(rows)
        books = [ep.Daybook.read(path, **OPTIONS) for path in
                 (self.file("long.csv", text), self.archive("long.zip", **{"l.csv": text}))]  # fmt: skip
        one, two = ([*book.recap("month", by="shop").rows()] for book in books)
        self.assertEqual(one, two)

    def test_what_frames_hold(self):
        on = pd.to_datetime(["2025-01-31", "2025-02-01"])
        frame = pd.DataFrame({"on": on, "shop": [1.0, np.nan], "fare": [0.5, np.nan]})
        rows = list(ep.Daybook(frame, **OPTIONS).recap("year", by="shop").rows())
        self.assertEqual(
            [(r["shop"], r["revenue"], r["m"]) for r in rows], [(1, 0.5, 0.5), (None, None, None)]
        )


class Refused(Files):
    """What cannot be used is refused in one clear line."""

    def test_files(self):
        missing = self.folder / "row.csv"
        self.file("rows.csv", TEXT)
        bad = (
            (missing, "there is no such file.*did you mean 'rows.csv'"),
            (self.file("semi.csv", "on;shop;fare\n2025-01-01;a;1\n"), "separated by ';'"),
            ("nothing-*.csv", "no file fits this pattern"),
            (self.file("bad.xlsx", "no"), "cannot be read"),
            ("sqlite:///x.db", "needs a query"),
            (self.file("wide.csv", ",".join(map(str, range(20_000))) + "\n1"), "unknown column"),
            (self.file("r.parquet.gz", "x"), "only CSV files may be compressed"),
            (self.folder / "rows.txt", "unknown file ending '.txt'"),
            (self.file("empty.csv", ""), "is empty"),
            (self.file("header.csv", "on,shop,fare\n"), "column names but no rows"),
            (self.file("bare.csv", "on,shop,fare"), "column names but no rows"),
            (self.file("ragged.csv", TEXT + "2025-01-01,x\n"), "line 5 has 2 fields for 3 columns; is a field missing"),
            (self.file("few.csv", TEXT + "2025-01-31,007\n"), "line 5 has 2 fields for 3"),
            (self.file("many.csv.gz", gzip.compress((TEXT + "2025-01-31,007,10.10,5\n").encode())),
             "line 5 has 4 fields for 3 columns; is a ',' within"),
            (self.file("cut.csv", TEXT + f"2025-01-31,{'x' * 200},1\n2025-01-31,{'x' * 200},1,2\n"), "line 6 has 4 fields"),
            (self.file("lines.csv", TEXT + '2025-01-31,"a\nb",1,2\n'), "the row .* has 4 fields"),
            (self.file("latin.csv", b"on,shop,fare\n2025-01-01,caf\xe9,1\n"), "cannot be read"),
            (self.file("twice.csv", "on,shop,fare,fare\n2025-01-01,a,1,2\n"), "two columns"),
            (self.file("columns.csv", "on,shop,fares\n2025-01-01,a,1\n"), "did you mean 'fares'"),
            (self.file("not.parquet", "PAR1"), "cannot be read"),
            (self.folder / "none", "file ending"),
        )  # fmt: skip
        for path, message in bad:
            with self.assertRaisesRegex(ep.InputError, message):
                ep.Daybook.read(path, **OPTIONS)

    def test_a_missing_file_is_refused_with_the_files_there_are(self):
        for number in range(10):
            self.file(f"{number}.csv", TEXT)
        self.file("._0.csv", TEXT)
        message = r"no such file; the folder holds 0\.csv, 1\.csv, .*, 7\.csv and 2 more$"
        with self.assertRaisesRegex(ep.InputError, message):
            ep.Daybook.read(self.folder / "quite another.csv", **OPTIONS)

    def test_a_file_named_twice(self):
        path = self.file("rows.csv", TEXT)
        with self.assertRaisesRegex(ep.InputError, "named twice"):
            ep.Daybook.read([path, path], **OPTIONS)

    def test_values(self):
        bad = (
            ("on,shop,fare\n2025-01-01,a,1\n2025-01-01,a,1O\n", "row 2 .*'1O' is not a number"),
            ('on,shop,fare\n2025-01-01,a,"2\n', "row 1 .*'2.n' is not a number"),
            ("on,shop,fare\n2025-01-01,a,NA\n", "'NA' is not a number"),
            ("on,shop,fare\n2025-01-01,a,2025-01-01\n", "row 1 of .fare.: .2025-01-01. is not a number"),
        )  # fmt: skip
        for text, message in bad:
            with self.assertRaisesRegex(ep.MeasureError, message):
                self.read(text)
        huge = pa.array([Decimal(10) ** 20], pa.decimal128(38, 2))
        with self.assertRaisesRegex(ep.MeasureError, "row 1 of 'fare'.*does not fit"):
            ep.Daybook({**ROWS, "on": ["2025-01-01"], "shop": ["a"], "fare": huge}, **OPTIONS)

    def test_archives(self):
        good = self.archive("good.zip", **{"r.csv": TEXT * 400})
        torn = good.read_bytes()
        middle = len(torn) // 3
        for name, content, message in (
            ("two.zip", self.archive("two.zip", **{"a.csv": TEXT, "b.csv": TEXT}).read_bytes(),
             "holds a.csv, b.csv; unpack it first"),
            ("none.zip", self.archive("none.zip", **{"a/": ""}).read_bytes(), "it holds no file"),
            ("book.zip", self.archive("book.zip", **{"a.xlsx": "x"}).read_bytes(), "holds a.xlsx"),
            ("cut.zip", torn[:middle], "cannot be read: File is not a zip file"),
            ("bad.zip", torn[:middle] + bytes(9) + torn[middle + 9 :], "cannot be read"),
        ):  # fmt: skip
            with self.subTest(name), self.assertRaisesRegex(ep.InputError, message):
                ep.Daybook.read(self.file(name, content), **OPTIONS)

    def test_frames(self):
        bad = (
            ([1, 2], "neither a frame"),
            ({"on": ["2025-01-01"], "shop": ["a", "b"]}, "differ in length"),
            ({**ROWS, "shop": [0.5, 1, 2]}, "holds fractions"),
            ({**ROWS, "shop": [[1], [2], [3]]}, "holds list"),
            ({**ROWS, "shop": [object()] * 3}, "cannot be used"),
            ({**ROWS, "shop": [1, "b", None]}, r"values of several types \(int, str\); make"),
            (
                pd.DataFrame({**ROWS, "shop": [1, "b", None]}),
                r"types \(int, str\); make them of one",
            ),
            ({**ROWS, "shop": "a"}, "column 'shop' is 'a', not a list of values"),
            ({**ROWS, "shop": np.array(1)}, "not a list of values"),
        )
        for frame, message in bad:
            with self.assertRaisesRegex(ep.InputError, message):
                ep.Daybook(frame, **OPTIONS)

    def test_measures(self):
        more = {"late": [True, None, True], "stay": [dt.timedelta(hours=1)] * 3}
        bad = (
            ("revenue", "write it as name=how"),
            ("=sum(fare)", "write it as name=how"),
            ("r=sum fare", "write it as name=how"),
            ("r=summ(fare)", "did you mean 'sum'"),
            ("r=sum()", "names no column"),
            (
                "r=sum(late)",
                r"true and false, not numbers; count\(where late\) counts what is true",
            ),
            ("r=sum(stay)", "amounts of time, not numbers"),
            (["r=sum(fare)", "r=count()"], "two measures are called 'r'"),
            ([], "no measure is given"),
        )
        for measures, message in bad:
            with self.assertRaisesRegex(ep.MeasureError, message):
                ep.Daybook({**ROWS, **more}, date="on", measures=measures)
        late = ep.Daybook({**ROWS, **more}, date="on", measures="n=count(where late)")
        self.assertEqual(late.recap("year")["n"].sum(), 2)
        book = ep.Daybook(ROWS, date="on", measures="period=count()")
        with self.assertRaisesRegex(ep.QuestionError, "both be called 'period'"):
            book.recap("month")


class JsonRows(unittest.TestCase):
    """A JSON file that is a list of row objects, as `--format json` writes one."""

    def test_what_is_written_is_read_again(self):
        table = {
            "on": ["2025-01-31", "2025-02-01", "2025-02-03"],
            "g": ["a", "b", None],
            "x": [0.1, 0.2, 0.7],
        }
        book = ep.Daybook(table, date="on", by="g", measures="s=sum(x)")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "rows.json"
            book.recap("month", by="g").write(path)
            again = ep.Daybook.read(path, date="first", by="g", measures="s=sum(s)")
            self.assertEqual(
                again.recap("month", by="g")["s"].tolist(),
                book.recap("month", by="g")["s"].tolist(),
            )
            path.write_text(
                '[{"on": "2025-01-01", "x": 0.1}, {"x": 0.2, "on": "2025-01-02", "y": "z"}]'
            )
            book = ep.Daybook.read(path, date="on", by="y", measures="s=sum(x)")
            self.assertEqual(book.recap("year").column("s").to_list(), [Decimal("0.3")])
            for text, said in (("[", "is not JSON"), ("{}", "not a list of JSON objects.*jsonl"), ("[1]", "not a list"),
                               ("[]", "holds no rows"), ('[{"x": [1]}, {"x": 2}]', "cannot be used")):  # fmt: skip
                path.write_text(text)
                with self.subTest(text=text), self.assertRaisesRegex(ep.InputError, said):
                    ep.Daybook.read(path, date="x", measures="n=count()")
