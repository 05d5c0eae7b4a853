"""What every source keeps, wherever its rows come from: a new one is added to `made` and passes."""

import contextlib
import io
import json
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import pyarrow as pa
from pyarrow import csv, feather, parquet

import eptaro as ep
from eptaro.inputs.columns.lookups import JoinedSource
from eptaro.inputs.columns.wrapped import NumberParsingSource, UnpivotedSource
from eptaro.inputs.files.opening import open_files
from eptaro.inputs.filtered import FilteredSource
from eptaro.inputs.sources import ColumnRequest, FrameSource, ManyFiles, Source, TableSource
from tests.conforming import concrete_kinds

ROWS = {
    "on": ["2025-01-01", "2025-01-02", "2025-01-02"],
    "route": ["a", "b", "a"],
    "fare": [7, 5, 12],
}


def rewritten(rows, folder, change=""):
    """Return a source of every kind with the same rows; `change` tells two sets of files apart."""
    table, path = pa.table(rows), Path(folder)
    csv.write_csv(table, path / f"rows{change}.csv")
    parquet.write_table(table, path / f"rows{change}.parquet")
    feather.write_feather(table, path / f"rows{change}.arrow", compression="uncompressed")
    lines = [json.dumps(row) for row in table.to_pylist()]
    (path / f"rows{change}.jsonl").write_text("\n".join(lines) + "\n")
    csv.write_csv(table.slice(0, 1), path / f"one{change}.csv")
    csv.write_csv(table.slice(1), path / f"two{change}.csv")
    names = [f"rows{change}.{ending}" for ending in ("csv", "parquet", "arrow", "jsonl")]
    found = [open_files([str(path / name)]) for name in names]
    found.append(open_files([str(path / f"{name}{change}.csv") for name in ("one", "two")]))
    text = (path / f"rows{change}.csv").read_bytes()
    with mock.patch.object(sys, "stdin", io.TextIOWrapper(io.BytesIO(text))):
        found.append(open_files(["-"]))
    plain = [FrameSource(rows), TableSource(table, "the rows")]
    plain.append(NumberParsingSource(FrameSource(rows), "infer"))
    plain.append(JoinedSource(FrameSource(rows), [], ep.DateRules()))
    return [*found, *plain, FilteredSource(FrameSource(rows), "1 = 1", None, ep.DateRules())]


class EverySource(unittest.TestCase):
    """Names, batches, whole rows and fingerprints agree with the rows."""

    def setUp(self):
        self.folder = self.enterContext(tempfile.TemporaryDirectory())
        self.made = rewritten(ROWS, self.folder)

    def test_every_kind_that_there_is_is_held_here(self):
        kinds = {type(source) for source in self.made}
        self.assertEqual(
            concrete_kinds(Source), kinds | {ManyFiles, UnpivotedSource}
        )  # test_across has the latter

    def test_names_and_rows_are_those_that_were_written(self):
        for source in self.made:
            with self.subTest(type(source).__name__):
                self.assertEqual(source.names(), list(ROWS))
                wanted = ColumnRequest("on", ["route"], ["fare"])
                read = [row for table in source.batches(wanted) for row in table.to_pylist()]
                self.assertEqual([str(row["on"])[:10] for row in read], ROWS["on"])
                self.assertEqual([row["route"] for row in read], ROWS["route"])
                self.assertEqual([float(row["fare"]) for row in read], ROWS["fare"])
                self.assertTrue(source.inputs)
                self.assertTrue(source.name)

    def test_only_wanted_columns_are_handed_on_and_whole_rows_have_all(self):
        for source in self.made:
            with self.subTest(type(source).__name__):
                for table in source.batches(ColumnRequest("on", [], ["fare"])):
                    self.assertEqual(table.column_names, ["on", "fare"])
                if not type(source).__name__.startswith("Standard"):  # it can be read only once
                    self.assertEqual(sum(len(table) for table in source.whole()), 3)
                    self.assertEqual(len(source.column("route")), 3)

    def test_a_missing_column_is_told_with_its_close_spelling(self):
        for source in self.made:
            with (
                self.subTest(type(source).__name__),
                self.assertRaisesRegex(ep.InputError, "'fair'.*did you mean 'fare'"),
            ):
                list(source.batches(ColumnRequest("on", [], ["fair"])))

    def test_a_fingerprint_tells_other_rows_apart_and_stays(self):
        other = rewritten(ROWS | {"fare": [7, 5, 13]}, self.folder, "-changed")
        for one, two in zip(self.made, other, strict=True):
            with self.subTest(type(one).__name__):
                with contextlib.suppress(
                    ep.InputError
                ):  # of what is read only once there is none before
                    list(one.batches(ColumnRequest("on"))), list(two.batches(ColumnRequest("on")))
                self.assertEqual(one.fingerprint(), one.fingerprint())
                self.assertNotEqual(one.fingerprint(), two.fingerprint())

    def test_all_come_to_the_same_book(self):
        for source in self.made:
            with self.subTest(type(source).__name__):
                book = ep.Daybook(source, date="on", by="route", measures="revenue=sum(fare)")
                self.assertEqual(book.recap("year", by="route")["revenue"].tolist(), [19, 5])
