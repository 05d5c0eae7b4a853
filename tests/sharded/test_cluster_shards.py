"""Shards on a Dask cluster: kept by workers, or in a folder that all of them reach."""

import os
import signal
import threading
import time
from pathlib import Path

from pyarrow import parquet

import eptaro as ep
from tests.clusters import Client, local_cluster, needs_clusters
from tests.sharded.test_folder import BESIDE, QUESTIONS, Alike, asked, rows


@needs_clusters
class Cluster(Alike):
    """Three workers in processes of their own, with little memory."""

    @classmethod
    def setUpClass(cls):
        cls.cluster = cls.enterClassContext(local_cluster(n_workers=3, memory_limit="600MB"))
        cls.client = cls.enterClassContext(Client(cls.cluster))

    def setUp(self):
        super().setUp()
        self.apart()
        self.paths = []
        for number in range(3):
            self.paths.append(self.folder / f"rows{number}.parquet")
            parquet.write_table(rows(31).slice(number * 200, 200), self.paths[-1])
        self.names = [str(path) for path in self.paths]
        self.whole = ep.Daybook.read(self.paths, **asked())
        self.fold = lambda what, **more: ep.Daybook.read(
            what, engine="dask", client=self.client, **asked(**more)
        )

    def test_shards_that_workers_keep(self):
        book = self.fold(self.names, shards=3)
        self.all_the_same(self.whole, book, QUESTIONS[::4])
        self.all_the_same(self.whole, self.fold(self.names[::-1], shards=1), QUESTIONS[:1])
        mixed = ep.Daybook(rows(31).sort_by([("fare", "descending")]), **asked())
        parquet.write_table(
            rows(31).sort_by([("fare", "descending")]), self.folder / "mixed.parquet"
        )
        one = self.fold(str(self.folder / "mixed.parquet"), shards=1)
        self.all_the_same(mixed, one, QUESTIONS[2:4])
        with self.assertRaisesRegex(ep.InputError, "the workers hold this book"):
            book.add(self.names[0])
        import dask.dataframe as frames

        frame = frames.from_pandas(
            rows(31).set_column(3, "fare", rows(31)["fare"].cast("float64")).to_pandas(),
            npartitions=3,
        )
        self.assertEqual(
            self.fold(frame, shards=2).recap("year", by="all")["trips"].tolist(),
            self.whole.recap("year", by="all")["trips"].tolist(),
        )

    def test_a_folder_that_workers_fill_and_read(self):
        book = self.fold(self.names[:2], into=self.folder / "book", shards=3)
        book = self.fold(self.names[2], into=self.folder / "book")
        self.all_the_same(self.whole, book, QUESTIONS[1::8] + BESIDE[::8])
        opened = ep.Daybook.open(self.folder / "book", client=self.client)
        self.all_the_same(self.whole, opened, QUESTIONS[2::8] + BESIDE[1::8])
        out = opened.recap("month", by="all").write(f"{self.folder}/out/")
        written = sum(parquet.read_metadata(part).num_rows for part in Path(out).iterdir())
        self.assertEqual(written, len(self.whole.recap("month", by="all")))
        with self.assertRaisesRegex(ep.InputError, "already; use force"):
            self.fold(self.names[0], into=self.folder / "book")

    def test_workers_that_end_or_stand_still_in_a_fold_and_in_a_question(self):
        def end_one(pid):
            os.kill(pid, signal.SIGKILL)

        def hold_one(pid):
            os.kill(pid, signal.SIGSTOP)
            time.sleep(1)
            os.kill(pid, signal.SIGCONT)

        for number, (into, disturb) in enumerate(
            ((False, end_one), (True, end_one), (False, hold_one))
        ):
            with self.subTest(into=into, disturb=disturb.__name__):
                folder = self.folder / f"book{number}" if into else None
                book = None
                for questions in (None, QUESTIONS[2:4]):
                    pid = next(iter(self.cluster.workers.values())).pid
                    disturbing = threading.Timer(0.3, disturb, [pid])
                    disturbing.start()
                    if questions is None:
                        book = self.fold(self.names, shards=3, into=folder)
                    else:
                        self.all_the_same(self.whole, book, questions)
                    disturbing.join()

    def test_engines_and_places_that_do_not_go_together(self):
        for more, said in (
            ({"engine": "stream", "shards": 2}, "name it with into="),
            ({"engine": "dask", "shards": 2}, "give a Client, or a folder"),
            ({"engine": "stream", "shards": 0, "into": "x"}, "at least 1"),
        ):
            with self.assertRaisesRegex(ep.QuestionError, said):
                ep.Daybook.read(self.names, **asked(), **more)


@needs_clusters
class Ended(Alike):
    """A scheduler that is gone between a fold and a question."""

    def test_what_is_told_and_what_is_left(self):
        self.apart()
        path = self.folder / "rows.parquet"
        parquet.write_table(rows(32), path)
        with local_cluster(n_workers=1) as cluster, Client(cluster) as client:
            held = ep.Daybook.read(str(path), engine="dask", client=client, shards=2, **asked())
            kept = ep.Daybook.read(str(path), engine="dask", client=client, into=self.folder / "book", shards=2, **asked())  # fmt: skip
        for book in (held, kept):
            with self.assertRaises(ep.InputError):
                book.recap("year")
        with local_cluster(n_workers=1) as cluster, Client(cluster) as client:
            book = ep.Daybook.open(self.folder / "book", client=client)
            self.all_the_same(ep.Daybook.read(path, **asked()), book, QUESTIONS[:3])
