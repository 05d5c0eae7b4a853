"""Rows come into a folder all or not at all, whoever writes, reads or is killed meanwhile."""

import datetime as dt
import os
import random
import signal
import subprocess
import sys
import time
from unittest import mock

import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import parquet

import eptaro as ep
from eptaro.paths import StoragePath
from eptaro.storage.folder import transaction
from eptaro.storage.folder.transaction import lock_folder
from tests.sharded.test_folder import QUESTIONS, Alike, asked, rows


class Added(Alike):
    """Night by night, and days replaced."""

    def setUp(self):
        super().setUp()
        self.apart()
        table = rows(11, 900).sort_by("day")
        self.table, self.paths = table, []
        for number, (start, end) in enumerate(((0, 300), (300, 520), (520, 700), (700, 900))):
            self.paths.append(self.folder / f"rows{number}.parquet")
            parquet.write_table(table.slice(start, end - start), self.paths[-1])
        self.book = self.folder / "book"

    def fold(self, paths, **more) -> ep.Daybook:
        return ep.Daybook.read(paths, into=self.book, shards=3, **asked(**more))

    def test_nights_added_are_one_fold(self):
        book = self.fold(self.paths[:1])
        for path in self.paths[1:3]:
            book = book.add(path)
        book = book.add(ep.Daybook.read(self.paths[3], **asked()))
        self.all_the_same(
            ep.Daybook.read(self.paths, **asked()), ep.Daybook.open(self.book), QUESTIONS[::2]
        )
        self.assertEqual([one.rows for one in book._store.manifest.changes], [300, 220, 180, 200])
        unordered = self.folder / "other"
        first = ep.Daybook.read(self.paths[3], into=unordered, shards=2, **asked())
        first.add(self.paths[:3])
        one, two = (
            ep.Daybook.open(path).recap("month", by="all") for path in (self.book, unordered)
        )
        self.assertEqual(one["trips"].tolist(), two["trips"].tolist())

    def test_groups_that_are_blank_at_first(self):
        table = self.table.sort_by([("ship", "ascending")])
        blanks = table["ship"].null_count
        parts = [table.slice(len(table) - blanks), table.slice(0, len(table) - blanks)]
        for order in (parts, parts[::-1]):
            folder = self.folder / str(order[0].num_rows)
            book = ep.Daybook.open(ep.Daybook(order[0], **asked()).write(f"{folder}/"))
            book = book.add(ep.Daybook(order[1], **asked()))
            whole = ep.Daybook(pa.concat_tables(order), **asked())
            self.all_the_same(whole, book, QUESTIONS[:3])

    def test_only_what_rows_touch_is_written(self):
        book = self.fold(self.paths[:3])
        before = {file.path for file in book._store.manifest.files}
        day = self.table["day"].to_pylist()[690]
        one = self.folder / "one.parquet"
        parquet.write_table(self.table.slice(690, 1), one)
        after = book.add(one)._store.manifest.files
        fresh = [file for file in after if file.path not in before]
        self.assertEqual([(file.role, file.first[:7]) for file in fresh], [("cells", str(day)[:7])])
        self.assertEqual(len(before - {file.path for file in after}), 1)

    def test_months_become_a_year_when_another_begins(self):
        self.fold(self.paths[0])  # rows of 2023 and 2024
        kept = ep.Daybook.open(self.book)._store.manifest
        last = max(file.last for file in kept.files if file.role == "cells")
        months = [
            file for file in kept.files if file.role == "cells" and file.first[:4] == last[:4]
        ]
        self.assertGreater(len({file.first[:7] for file in months}), 2)
        book = ep.Daybook.open(self.book).add(self.paths[1:])
        for shard in range(3):
            years = [file.first[:4] for file in book._store.manifest.of(shard, "cells")]
            self.assertEqual(years.count("2024"), 1, years)

        later = self.table.filter(pc.equal(pc.year(self.table["day"]), 2025))
        early = ep.Daybook(self.table.filter(pc.less(pc.year(self.table["day"]), 2025)), **asked())
        folder = self.folder / "turn"
        opened = ep.Daybook.open(early.write(f"{folder}/"))
        self.assertGreater(
            len([f for f in opened._store.manifest.files if f.first[:4] == "2024"]), 9
        )
        turned = opened.add(ep.Daybook(later.slice(0, 1), **asked()))
        self.assertEqual(len([f for f in turned._store.manifest.files if f.first[:4] == "2024"]), 1)
        self.assertEqual(turned.rows, early.rows + 1)

    def test_rows_that_are_in_are_refused(self):
        book = self.fold(self.paths[:2])
        was = (self.book / "manifest.json").read_bytes()
        for again in (self.paths[0], self.paths[1:3], [self.paths[3], self.paths[1]]):
            with self.assertRaisesRegex(
                ep.InputError, r"in the book of .* already; use force=True"
            ):
                book.add(again)
        self.assertEqual((self.book / "manifest.json").read_bytes(), was)
        self.assertEqual(book.add(self.paths[0], force=True).rows, 820)

    def test_days_are_replaced_in_one_step(self):
        self.fold(self.paths)
        lo, hi = dt.date(2024, 3, 5), dt.date(2024, 6, 20)
        day = self.table["day"]
        inside = pc.and_(pc.greater_equal(day, lo), pc.less_equal(day, hi))
        corrected = rows(12, 400)
        within = pc.and_(
            pc.greater_equal(corrected["day"], lo), pc.less_equal(corrected["day"], hi)
        )
        corrected = corrected.filter(within)
        path = self.folder / "corrected.parquet"
        parquet.write_table(corrected, path)
        book = ep.Daybook.open(self.book).add(path, replace_days=f"{lo}..{hi}")
        whole = ep.Daybook(
            pa.concat_tables([self.table.filter(pc.invert(inside)), corrected]),
            coverage=book.coverage,
            **asked(),
        )
        self.all_the_same(whole, book, QUESTIONS[1::2])
        change = book._store.manifest.changes[-1]
        self.assertEqual(
            (change.replaced, change.removed), (f"{lo}..{hi}", inside.to_pylist().count(True))
        )
        for span in ("2024-03-06..2024-06-20", "2024-03-05..2024-06-01"):
            with self.assertRaisesRegex(ep.InputError, "beyond .* whose rows they are to replace"):
                book.add(path, replace_days=span, force=True)

    def test_other_books_are_refused(self):
        book = self.fold(self.paths[:2])
        for more, said in (
            ({"by": "route"}, "is grouped by"),
            ({"measures": "n=count()"}, "its measures are"),
            ({"where": "ship = 1"}, "meet different conditions"),
            ({"calendar": ep.WeekCalendar("cafe")}, "has another calendar"),
            ({"coverage": "groups"}, "only one of the books has a coverage by groups"),
        ):
            with self.assertRaisesRegex(ep.InputError, said):
                book.add(ep.Daybook.read(self.paths[2], **asked(**more)))
        with self.assertRaisesRegex(ep.InputError, "is a folder of other things"):
            ep.Daybook.read(self.paths[2], **asked()).write(f"{self.folder}/")
        alone = ep.Daybook.open(
            ep.Daybook.read(self.paths[2], **asked()).write(f"{self.folder}/alone/")
        )
        with self.assertRaisesRegex(ep.InputError, "column of dates with date="):
            alone.add(self.paths[3])
        alone = alone.add(self.paths[3], date="day")
        self.assertEqual(alone.rows, 380)
        wide = ep.Daybook.read(self.paths[0], **asked(coverage="2023-01-01..2024-12-31"))
        self.assertEqual(str(alone.add(wide).coverage.first), "2023-01-01")
        with (
            mock.patch("eptaro.sharded.adding.shards_in", lambda folder, wanted: 2),
            self.assertRaisesRegex(ep.InputError, "somebody else has made this book meanwhile"),
        ):
            book.add(self.paths[3])
        mine = self.folder / "mine.parquet"
        parquet.write_table(self.table.slice(700, 9), mine)
        again = ep.Daybook.open(self.book).add(mine, dates=ep.DateRules(order="ymd"))
        self.assertEqual(again._store.manifest.reading["dates"], {})

    def test_who_has_it_open_sees_it_as_it_was(self):
        book = self.fold(self.paths[:2])
        before = book.recap("month", by="all").to_arrow()
        late = book.recap("year", by="all")
        book.add(self.paths[2])
        self.assertEqual(book.recap("month", by="all").to_arrow(), before)
        self.assertEqual(sum(late["trips"].tolist()), 520)

    def test_old_files_go_when_the_time_of_grace_is_over(self):
        book = self.fold(self.paths[0])
        leftover = self.book / "shards" / "0000" / "2020-left.parquet"
        leftover.write_bytes(b"of a change that did not end")
        book = book.add(self.paths[1])
        self.assertTrue(leftover.exists())
        for path in self.book.rglob("*"):
            os.utime(path, (1, 1))
        book.add(self.paths[2])
        self.assertTrue(leftover.exists(), "what no manifest named is not ours")
        named = {file.path for file in ep.Daybook.open(self.book)._store.manifest.files}
        there = {
            str(path.relative_to(self.book)) for path in (self.book / "shards").rglob("*.parquet")
        }
        self.assertEqual(named - there, set())
        old = {file.path for file in book._store.manifest.files} - named
        self.assertTrue(old <= there, "what a manifest of this hour names stays")

    def test_one_writer_at_a_time(self):
        book = self.fold(self.paths[0])
        with (
            lock_folder(StoragePath.of(self.book)),
            self.assertRaisesRegex(ep.InputError, "somebody else is changing this book; try again"),
        ):
            book.add(self.paths[1])
        self.assertEqual(book.add(self.paths[1]).rows, 520)

    def test_a_change_behind_ones_back_is_noticed(self):
        book = self.fold(self.paths[0])
        free = mock.patch.object(transaction, "lock_folder", lambda folder: mock.MagicMock())
        real = transaction.Transaction.commit

        def late(change, parts):
            if not late.done:
                late.done = True
                ep.Daybook.open(self.book).add(self.paths[2])
            return real(change, parts)

        late.done = False
        with (
            free,
            mock.patch.object(transaction.Transaction, "commit", late),
            self.assertRaisesRegex(ep.InputError, "somebody else has changed this book meanwhile"),
        ):
            book.add(self.paths[1])
        self.assertEqual(ep.Daybook.open(self.book).rows, 300 + 180)


class Killed(Alike):
    """Processes that end at any moment."""

    KILLS = 3

    def test_nothing_is_lost_and_nothing_doubled(self):
        table = rows(13, 2000).sort_by("day")
        size = 100
        for number in range(5):
            parquet.write_table(
                table.slice(number * size, size), self.folder / f"night{number:02d}.parquet"
            )
        measures = ["fares=sum(fare)", "trips=count()"]
        ep.Daybook.read(
            self.folder / "night00.parquet",
            into=self.folder / "book",
            shards=4,
            **asked(measures=measures),
        )
        rng, added, killed = random.Random(13), 1, 0
        program = "import sys, eptaro as ep; print('begun', flush=True); ep.Daybook.open('book').add(sys.argv[1])"
        while added < 5:
            night = f"night{added:02d}.parquet"
            process = subprocess.Popen(
                [sys.executable, "-c", program, night],
                cwd=self.folder,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
            )
            with process:
                process.stdout.readline()
                if killed < self.KILLS:
                    time.sleep(rng.random() * 0.25)
                    process.send_signal(signal.SIGKILL)
                    killed += 1
                said = process.stderr.read().decode()
            book = ep.Daybook.open(self.folder / "book")
            if (
                process.returncode == 0
                or "in the book of" in said
                or book.rows == (added + 1) * size
            ):
                added += 1
            wanted = table.slice(0, added * size)
            self.assertEqual(book.rows, added * size, said)
            counted = book.recap("year", by="all")
            self.assertEqual(sum(counted["trips"].tolist()), added * size)
            if added % 4 == 0:
                whole = ep.Daybook(wanted, **asked(measures=measures))
                self.same(whole.recap("month", by="all"), book.recap("month", by="all"), added)

    def test_two_writers_of_which_one_is_told_to_try_again(self):
        table = rows(14, 3000).sort_by("day")
        for number in range(3):
            parquet.write_table(
                table.slice(number * 1000, 1000), self.folder / f"night{number}.parquet"
            )
        ep.Daybook.read(
            self.folder / "night0.parquet", into=self.folder / "book", shards=4, **asked()
        )
        program = "import sys, eptaro as ep; book = ep.Daybook.open('book'); sys.stdin.readline(); book.add(sys.argv[1])"
        running = [
            subprocess.Popen([sys.executable, "-c", program, f"night{number}.parquet"], cwd=self.folder, stdin=subprocess.PIPE, stderr=subprocess.PIPE)
            for number in (1, 2)
        ]  # fmt: skip
        time.sleep(1.5)
        for process in running:
            process.stdin.write(b"\n")
            process.stdin.flush()
        told = [process.communicate()[1].decode() for process in running]
        rows_now = ep.Daybook.open(self.folder / "book").rows
        refused = [text for text in told if "try again" in text]
        self.assertEqual(rows_now, 3000 - 1000 * len(refused))
        self.assertTrue(all("try again" in text or not text for text in told), told)
