"""The fold on two workers of a Dask cluster, one of which is killed, equals the local fold."""

import os
import random
import signal
import socket
import tempfile
import threading
import time
import unittest
import unittest.mock
from contextlib import suppress
from decimal import Decimal
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
from pyarrow import parquet

import eptaro as ep
from eptaro.background import BackgroundTask
from eptaro.engines import cluster
from eptaro.engines.clients import Watchdog
from eptaro.inputs.options import FileOptions
from tests.books import book_of_folded
from tests.clusters import Client, local_cluster, needs_clusters

MEASURES = ["s=sum(x)", "n=count()", "lo=min(x)", "hi=max(x)", "a=first(x)", "z=last(x)", "d=distinct(who)",
            "m=median(x)", "v=std(x)", "f=sum(y)", "fw=std(y)", "busiest=max(sum(x) per day)"]  # fmt: skip
GIVEN = {"date": "on", "by": ["g"], "measures": MEASURES}


def table(rows: int, seed: int) -> pa.Table:
    """Return random transactions."""
    rng = np.random.default_rng(seed)
    days = np.datetime64("2024-01-01") + rng.integers(0, 400, rows)
    cents = [Decimal(int(c)).scaleb(-2) for c in rng.integers(-(10**6), 10**7, rows)]
    return pa.table({
        "on": days, "g": rng.choice(["a", "b", "c"], rows).tolist(), "x": cents,
        "who": rng.choice([f"p{i}" for i in range(50)], rows).tolist(), "y": rng.normal(9.5 * seed, 1, rows),
    })  # fmt: skip


def frame_of(path):
    """Return a file as a pandas frame."""
    return parquet.read_table(path).to_pandas(types_mapper=pd.ArrowDtype)


def too_large(*args):
    """Fold a part that no worker can hold."""
    os.kill(os.getpid(), signal.SIGKILL)


def slow_fold(part, *args):
    """Fold a part late, so that a worker can be killed in the middle."""
    time.sleep(0.4)
    return FOLD(part, *args)


FOLD = cluster.fold_part


@needs_clusters
class Cluster(unittest.TestCase):
    """Two workers of this machine."""

    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        for number in range(6):
            parquet.write_table(
                table(3000, number), cls.folder / f"p{number}.parquet", row_group_size=1000
            )
        cls.workers = cls.enterClassContext(local_cluster(n_workers=2))
        cls.client = cls.enterClassContext(Client(cls.workers))
        cls.paths = sorted(str(path) for path in cls.folder.glob("*.parquet"))
        cls.local = ep.Daybook.read(cls.paths, **GIVEN)

    def same(self, book: ep.Daybook):
        self.assertEqual((book.rows, book.coverage), (self.local.rows, self.local.coverage))
        for ask in (lambda b: b.recap("month", by="g"), lambda b: b.trail("40 days", every="week"),
                    lambda b: b.accumulate("quarter", by="g")):  # fmt: skip
            one, two = ask(self.local), ask(book)
            self.assertEqual(one.names, two.names)
            for a, b in zip(one.rows(), two.rows(), strict=True):
                for name in a:
                    if name.startswith("f"):
                        self.assertAlmostEqual(a[name], b[name], 9) if isinstance(
                            a[name], float
                        ) else self.assertEqual(a[name], b[name])
                    else:
                        self.assertEqual(a[name], b[name], name)

    def test_files_and_row_groups(self):
        self.same(ep.Daybook.read(self.paths, engine="dask", client=self.client, **GIVEN))
        parts = cluster.parts_of(cluster.open_files(self.paths, None), 1000)
        self.assertEqual(len(parts), 18)
        options = FileOptions(measures=self.local.measures, date="on", by=["g"], client=self.client)
        folded = cluster.fold_cluster(self.paths, options, part_rows=1000)
        self.same(book_of_folded(folded, self.local.measures, ep.MonthCalendar()))

    def test_every_option_of_reading_on_every_way(self):
        wide = {
            "Norrow": ("$1,200.50", "$80.00"),
            "Fenholm": ("$7.25", "-"),
            "Skarrey": ("$0.75", "$3,000.00"),
        }
        kinds = {"Norrow": "long", "Fenholm": "short"}
        folder = Path(self.enterContext(tempfile.TemporaryDirectory())) / "wide"
        folder.mkdir()
        for number, (route, amounts) in enumerate(wide.items()):
            fields = ",".join(f'"{amount}"' for amount in amounts)
            (folder / f"{number}.csv").write_text(f"route,2023,2024\n{route},{fields}\n")
        (folder / "routes.txt").write_text("route,kind\nNorrow,long\nFenholm,short\n")
        given = {
            "date": "year", "dates": ep.DateRules(grain="year"), "by": "kind", "values": "fares",
            "across": "2023..2024 as year, fares", "memory_limit": 1 << 20,
            "numbers": ep.NumberRules(thousands=",", strip="$", blanks="-"),
            "lookups": ep.Lookup(folder / "routes.txt", "route", files=ep.FileRules(like="csv")),
            "measures": ["s=sum(fares)", "n=count(fares)", "d=distinct(fares)"],
        }  # fmt: skip
        wanted = {}
        for route, amounts in wide.items():
            for year, amount in zip(("2023", "2024"), amounts, strict=True):
                if amount != "-":
                    key = (kinds.get(route), year)
                    money = Decimal(amount[1:].replace(",", ""))
                    wanted[key] = wanted.get(key, 0) + money
        paths = sorted(map(str, folder.glob("*.csv")))
        on_cluster = {"engine": "dask", "client": self.client}
        books = [
            ep.Daybook.read(paths, **given),
            ep.Daybook.read(paths, **given, **on_cluster),
            ep.Daybook.read(paths, **given, into=folder / "a"),
            ep.Daybook.read(paths, **given, **on_cluster, into=folder / "b", shards=3),
            ep.Daybook.read(paths, **given, **on_cluster, shards=2),
            ep.Daybook.read(paths[:2], **given, into=folder / "c").add(paths[2:]),
        ]
        for number, book in enumerate(books):
            rows = [row for row in book.recap("year", by="kind", totals=False).rows() if row["s"]]
            found = {(row["kind"], row["period"]): row["s"] for row in rows}
            self.assertEqual(found, wanted, number)
            self.assertEqual(sum(row["n"] for row in rows), 5)

    def test_by_address_and_of_frames(self):
        address = self.client.scheduler.address
        self.same(ep.Daybook.read(self.paths, engine="dask", client=address, **GIVEN))
        import dask.dataframe as dd

        frame = dd.from_map(frame_of, self.paths)
        self.same(ep.Daybook.read(frame, engine="dask", client=self.client, **GIVEN))

    def test_conditions_and_formulas(self):
        given = {"date": "on", "by": ["g", "large=x > 50000"], "where": "who != 'p7' and x % 2 != 0",
                 "measures": ["s=sum(x * 2)", "c=count(where y > 20)", "r=1 - c / s", "d=distinct(upper(who))"]}  # fmt: skip
        one, two = (ep.Daybook.read(self.paths, engine=engine, client=client, **given)
                    for engine, client in (("dask", self.client), ("stream", None)))  # fmt: skip
        self.assertEqual((one.rows, one.coverage), (two.rows, two.coverage))
        for by in (["g", "large"], None):
            first, second = (book.recap("month", by=by) for book in (one, two))
            self.assertEqual(list(first.rows()), list(second.rows()))
            self.assertEqual(first.meta["left_out"], second.meta["left_out"])

    def test_memory_and_stream_agree(self):
        self.same(ep.Daybook.read(self.paths, **GIVEN))
        with self.assertRaisesRegex(ep.QuestionError, "did you mean 'stream'"):
            ep.Daybook.read(self.paths, engine="streem", **GIVEN)

    def test_a_worker_killed_in_mid_fold_loses_nothing(self):
        pids = list(self.client.run(os.getpid).values())
        killer = threading.Timer(1.0, lambda: os.kill(random.choice(pids), signal.SIGKILL))
        killer.start()
        with unittest.mock.patch.object(cluster, "fold_part", slow_fold):
            book = ep.Daybook.read(self.paths, engine="dask", client=self.client, **GIVEN)
        killer.join()
        self.same(book)
        self.client.wait_for_workers(2, timeout=30)
        self.assertNotEqual(sorted(pids), sorted(self.client.run(os.getpid).values()))

    def test_errors_and_rows_reject_come_back(self):
        for number, text in enumerate(("2025-01-01,1\nnope,2\n", "2025-01-02,4\n,8\n")):
            (self.folder / f"c{number}.csv").write_text("on,x\n" + text)
        files = [str(self.folder / f"c{n}.csv") for n in range(2)]
        asked = {"date": "on", "measures": "s=sum(x)", "engine": "dask", "client": self.client}
        with self.assertRaisesRegex(ep.DateError, "nope|blank"):
            ep.Daybook.read(files, **asked)
        book = ep.Daybook.read(files, dates=ep.DateRules(bad_dates="reject"), **asked)
        self.assertEqual(
            (
                book.recap("month")["s"].tolist(),
                len(book.rejected),
                book._store.facts.folded.left_out,
            ),
            ([5], 2, {"x": 10}),
        )
        with self.assertRaisesRegex(ep.InputError, "no scheduler answers"):
            ep.Daybook.read(files, **asked | {"client": "tcp://127.0.0.1:9", "timeout": 2})


@needs_clusters
class GivenUp(unittest.TestCase):
    """A cluster that does not answer, has no workers or cannot hold a part ends in one line of ours."""

    def setUp(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = str(folder / "a.csv")
        Path(self.path).write_text("on,x\n2025-01-01,1\n")

    def refused(self, client, said, timeout=2):
        with self.assertRaisesRegex(ep.InputError, said) as caught:
            ep.Daybook.read(self.path, date="on", measures="s=sum(x)", engine="dask", client=client,
                            timeout=timeout)  # fmt: skip
        self.assertNotIn("\n", str(caught.exception))

    def test_addresses_without_a_scheduler(self):
        self.refused("tcp://127.0.0.1:9", "no scheduler answers")
        for reply in (b"", b"HTTP/1.1 400 Bad Request\r\n\r\n" * 20):
            with socket.socket() as server:
                server.bind(("127.0.0.1", 0))
                server.listen(5)
                held = []

                def serve(server=server, reply=reply, held=held):
                    with suppress(OSError):
                        while True:
                            held.append(server.accept()[0])
                            held[-1].sendall(reply)

                threading.Thread(target=serve, daemon=True).start()
                self.refused(f"tcp://127.0.0.1:{server.getsockname()[1]}", "no scheduler answers")
                for one in held:
                    one.close()

    def test_closed_clients_and_clusters_without_workers(self):
        with local_cluster(n_workers=0) as workers:
            client = Client(workers)
            self.refused(client, "gave no answer for 2 seconds: it has no workers")
            client.close()
            self.refused(client, "the client is closed")

    def test_a_part_that_no_worker_can_hold(self):
        import dask

        with (
            dask.config.set({"distributed.scheduler.allowed-failures": 0}),
            local_cluster(n_workers=1) as workers,
            Client(workers) as client,
            unittest.mock.patch.object(cluster, "fold_part", too_large),
        ):
            self.refused(client, "workers ended while they folded a part", 60)

    def test_workers_that_are_registered_but_paused(self):
        work = threading.Event()
        for moves in (False, True):
            ticks = iter(range(10_000))

            def told(n_workers=-1, ticks=ticks, moves=moves):
                return {"workers": {"tcp://a": {"last_seen": next(ticks) if moves else 7.0}}}

            watch = Watchdog(unittest.mock.Mock(scheduler_info=told), 1.5)
            if moves:
                self.assertEqual(
                    watch.over(BackgroundTask(lambda: time.sleep(3) or "done")), "done"
                )
                continue
            with self.assertRaisesRegex(ep.InputError, "its workers do not answer"):
                watch.over(BackgroundTask(lambda: work.wait(30)))
            work.set()
