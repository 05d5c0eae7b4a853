"""Files and books in an object store: a stand-in for S3 on the loopback address, and fsspec."""

import logging
import os
import unittest
from pathlib import Path
from unittest import mock

from pyarrow import compute, csv, dataset, feather, parquet

import eptaro as ep
from eptaro.errors import InputError
from eptaro.paths import StoragePath, is_stored
from tests.sharded.test_folder import Alike, asked, rows

SECRET = "hush-hush-hush"
MEASURES = ["fares=sum(fare)", "trips=count()", "people=distinct(who)"]


class Stores(Alike):
    """Everything that takes a path takes an address."""

    @classmethod
    def setUpClass(cls):
        try:
            import boto3
            from moto.server import ThreadedMotoServer
        except ImportError:
            raise unittest.SkipTest("moto is not installed: there is no stand-in for S3") from None
        logging.getLogger("werkzeug").setLevel(logging.CRITICAL)
        server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
        server.start()
        cls.addClassCleanup(server.stop)
        said = {
            "AWS_ACCESS_KEY_ID": "ferry", "AWS_SECRET_ACCESS_KEY": SECRET, "AWS_DEFAULT_REGION": "us-east-1", "AWS_EC2_METADATA_DISABLED": "true",
            "AWS_ENDPOINT_URL": f"http://127.0.0.1:{server.get_host_and_port()[1]}",
        }  # fmt: skip
        cls.enterClassContext(mock.patch.dict(os.environ, said))
        cls.store = boto3.client("s3")
        cls.addClassCleanup(cls.store.close)
        cls.store.create_bucket(Bucket="ferries")

    def put(self, path: Path, key: str) -> str:
        self.store.upload_file(str(path), "ferries", key)
        return f"s3://ferries/{key}"

    def test_files_of_every_kind(self):
        table = rows(21)
        whole = ep.Daybook(table, **asked(measures=MEASURES))
        csv.write_csv(table, self.folder / "rows.csv")
        parquet.write_table(table, self.folder / "rows.parquet")
        feather.write_feather(table, str(self.folder / "rows.arrow"))
        for name in ("rows.csv", "rows.parquet", "rows.arrow"):
            address = self.put(self.folder / name, f"in/{name}")
            book = ep.Daybook.read(address, **asked(measures=MEASURES))
            self.assertEqual(book._store.facts.folded.sources, (address,))
            if name == "rows.csv":
                local = ep.Daybook.read(self.folder / name, **asked(measures=MEASURES))
                self.assertEqual(
                    book._store.facts.folded.fingerprints, local._store.facts.folded.fingerprints
                )
                self.same(local.recap("month", by="all"), book.recap("month", by="all"), name)
            else:
                self.same(whole.recap("month", by="all"), book.recap("month", by="all"), name)
        several = ep.Daybook.read("s3://ferries/in/*.parquet", **asked(measures=MEASURES))
        self.assertEqual(several.rows, len(table))
        at_home = ep.Daybook.read(f"file://{self.folder}/rows.parquet", **asked(measures=MEASURES))
        self.assertEqual(at_home.rows, len(table))

    def test_books_are_kept_and_added_to(self):
        self.apart()
        table = rows(22)
        for number in range(2):
            parquet.write_table(table.slice(300 * number, 300), self.folder / f"{number}.parquet")
            self.put(self.folder / f"{number}.parquet", f"nights/{number}.parquet")
        whole = ep.Daybook(table, **asked(measures=MEASURES))
        kept = whole.write("s3://ferries/books/one.parquet")
        self.assertEqual(kept, "s3://ferries/books/one.parquet")
        self.all_the_same(whole, ep.Daybook.open(kept), [("recap", ("month",), {"by": "all"})])
        options = asked(measures=MEASURES)
        ep.Daybook.read(
            "s3://ferries/nights/0.parquet", into="s3://ferries/books/all", shards=3, **options
        )
        book = ep.Daybook.open("s3://ferries/books/all").add("s3://ferries/nights/1.parquet")
        questions = [
            ("recap", ("month",), {"by": "all"}),
            ("compare", ("quarter",), {"by": "route"}),
        ]
        self.all_the_same(whole, ep.Daybook.open("s3://ferries/books/all"), questions)
        with self.assertRaisesRegex(ep.InputError, "already; use force"):
            book.add("s3://ferries/nights/1.parquet")
        written = book.recap("month", by="all").write("s3://ferries/answers/")
        read = dataset.dataset(
            StoragePath.of(written).path, filesystem=StoragePath.of(written).system
        ).to_table()
        self.assertEqual(read.num_rows, len(whole.recap("month", by="all")))
        book.recap("year").write("s3://ferries/year.csv")
        self.assertIn(b"2024", StoragePath.of("s3://ferries/year.csv").read())

    def test_folders_name_columns_and_conditions_leave_files_out(self):
        table = rows(23)
        year = compute.year(table["day"])
        table = table.append_column("year", year)
        part = self.folder / "part"
        dataset.write_dataset(
            table,
            part,
            format="parquet",
            partitioning=["year", "route"],
            partitioning_flavor="hive",
        )
        for file in sorted(part.rglob("*.parquet")):
            self.put(file, f"part/{file.relative_to(part)}")
        where = "year = 2024 and route = 'b'"
        options = {"date": "day", "by": "year", "measures": MEASURES[:2], "where": where}
        wanted = ep.Daybook(table, **options)
        for source in (part, "s3://ferries/part"):
            read = []
            pieces = parquet.ParquetFile.read_row_group

            def counted(file, *args, _pieces=pieces, _read=read, **more):
                _read.append(file)
                return _pieces(file, *args, **more)

            with mock.patch.object(parquet.ParquetFile, "read_row_group", counted):
                book = ep.Daybook.read(source, **options)
            self.all_the_same(wanted, book, [("recap", ("month",), {"by": "all"})])
            self.assertEqual(len(read), 1, "one file alone has rows that can meet the condition")

    def test_what_is_not_there_and_what_is_not_said(self):
        for address, said in (
            ("s3://ferries/no.csv", "there is no such file"), ("s3://ferries/no*.csv", "no file fits this pattern"), ("s3://nowhere/x.csv", "there is no such file"),
            (f"s3://ferry:{SECRET}@ferries/x.csv", "holds no credentials here"), ("odd://a/b.csv", "a database needs a query"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, said) as caught:
                ep.Daybook.read(address, **asked())
            self.assertNotIn(SECRET, str(caught.exception))
        with self.assertRaisesRegex(InputError, "unknown file ending"):
            ep.Daybook(rows(1), **asked(measures=MEASURES)).recap("year").write(
                "s3://ferries/x.odd"
            )
        with (
            mock.patch.dict(os.environ, {"AWS_ENDPOINT_URL": "http://127.0.0.1:9"}),
            self.assertRaises(InputError) as caught,
        ):
            ep.Daybook.read("s3://ferries/in/rows.csv", **asked())
        self.assertNotIn(SECRET, str(caught.exception))


class OtherSystems(Alike):
    """What fsspec knows."""

    def test_a_store_of_fsspec(self):
        self.apart()
        self.assertTrue(is_stored("memory://x") and not is_stored("sqlite:///x"))
        table = rows(24)
        whole = ep.Daybook(table, **asked(measures=MEASURES))
        whole.write("memory://ferries/book/")
        self.all_the_same(whole, ep.Daybook.open("memory://ferries/book"), [("recap", ("month",), {"by": "all"})])  # fmt: skip
        name = whole.recap("month").write("memory://ferries/month.csv")
        self.assertIn(b"2024-01", StoragePath.of(name).read())
