"""A folder loses nothing that is not the book's, reads nothing that is not what was written, and
takes away what a killed change of its own left.
"""

import importlib
import json
import os
import shutil
import signal
import subprocess
import sys
import unittest
from pathlib import Path

import eptaro as ep
from tests.sharded.test_folder import Alike, asked, rows

LONG_AGO = (1, 1)
# Folds again and again, each time in a process that ends at the n-th file that it renames into
# its place, until one comes to its end; prints how each ended.
KILLED = """
import os, pathlib, signal, eptaro as ep, eptaro.sharded.folding, pyarrow.parquet
real = pathlib.Path.replace
for at in range(1, 20):
    left = [at]
    def replace(self, target):
        left[0] -= 1
        if left[0] == 0:
            os.kill(os.getpid(), signal.SIGKILL)
        return real(self, target)
    pathlib.Path.replace = replace
    child = os.fork()
    if not child:
        ep.Daybook.read("rows.parquet", date="day", by=["route", "ship"], measures=["n=count()"],
                        into="new", shards=1)
        os._exit(0)
    status = os.waitpid(child, 0)[1]
    print(status, os.path.exists("new/manifest.json"))
    if not status:
        break
"""


class Leftovers(Alike):
    """What is deleted, and what is not."""

    def setUp(self):
        super().setUp()
        self.whole = ep.Daybook(rows(21, 300), **asked())
        self.book = self.folder / "book"
        self.whole.write(f"{self.book}/")

    def make_old(self):
        """Make everything in the folder look as if it had been there for years."""
        for path in self.book.rglob("*"):
            os.utime(path, LONG_AGO, follow_symlinks=False)

    def change(self):
        """Change the book twice, so that old files could go."""
        for seed in (22, 23):
            self.make_old()
            ep.Daybook.open(self.book).add(ep.Daybook(rows(seed, 50), **asked()))

    def test_files_of_others_stay_and_links_are_not_followed(self):
        home = self.folder / "home"
        (home / "0000").mkdir(parents=True)
        named = (
            next(p for p in (self.book / "shards").rglob("cells*.parquet"))
            if list((self.book / "shards").rglob("cells*.parquet"))
            else next((self.book / "shards").rglob("*.parquet"))
        )
        mine = [home / "thesis.txt", home / "0000" / named.name, self.book / "shards" / "notes.txt",
                self.book / "shards" / "0000" / "groups-0123456789ab01234567.parquet",
                self.book / "manifests" / "letter.txt"]  # fmt: skip
        (self.book / "manifests").mkdir(exist_ok=True)
        for path in mine:
            path.write_text("mine")
        (self.book / "shards" / "zz").symlink_to(home)
        (self.book / "manifests" / "000000.json").symlink_to(home / "thesis.txt")
        self.change()
        self.assertEqual([path.read_text() for path in mine], ["mine"] * len(mine))

    def test_old_manifests_and_what_they_alone_name_go(self):
        before = {*(self.book / "shards").rglob("*.parquet")}
        self.change()
        self.make_old()
        ep.Daybook.open(self.book).add(ep.Daybook(rows(24, 50), **asked()))
        named = {self.book / f.path for f in ep.Daybook.open(self.book)._store.manifest.files}
        self.assertTrue(before - named)
        self.assertFalse([path for path in before - named if path.exists()])

    def test_a_folder_that_holds_other_things_is_no_new_book(self):
        for name in ("shards/thesis.txt", "manifests/000001.json", "letter.txt"):
            other = self.folder / f"other-{name[:3]}"
            (other / name).parent.mkdir(parents=True)
            (other / name).write_text("mine")
            with self.assertRaisesRegex(ep.InputError, f"is a folder of other things .{name}"):
                self.whole.write(f"{other}/")
            self.assertEqual((other / name).read_text(), "mine")

    def test_a_manifest_names_nothing_outside(self):
        from eptaro.storage.folder.manifest import _digest

        text = (self.book / "manifest.json").read_text()
        for path in ("../../thesis.parquet", "/etc/passwd", "shards/../x.parquet", "shards/0000/x"):
            said = json.loads(text)
            del said["digest"]
            said["files"][0]["path"] = path
            said["digest"] = _digest(said)
            (self.book / "manifest.json").write_text(json.dumps(said))
            with self.assertRaisesRegex(ep.InputError, "which is no file of a shard"):
                ep.Daybook.open(self.book)

    def test_a_manifest_that_tells_something_else_is_noticed(self):
        path = self.book / "manifest.json"
        said = json.loads(path.read_text())
        said["about"]["coverage"] = "2020-01-01..2030-12-31"
        path.write_text(json.dumps(said))
        with self.assertRaisesRegex(ep.InputError, "does not hold what was written"):
            ep.Daybook.open(self.book)

    def test_exchanged_files_are_noticed(self):
        files = [f for f in ep.Daybook.open(self.book)._store.manifest.files if f.role == "cells"]
        one, two = (self.book / file.path for file in files[:2])
        kept = two.read_bytes()
        shutil.copy(one, two)
        with self.assertRaisesRegex(ep.InputError, "does not hold what was written"):
            ep.Daybook.open(self.book).recap("year", by="all")
        two.write_bytes(kept)
        self.same(self.whole.recap("year"), ep.Daybook.open(self.book).recap("year"), "")

    def test_attacks_lead_to_right_answers_or_errors_of_ours(self):
        root = str(Path(__file__).parents[2] / "bench")
        sys.path.insert(0, root)
        self.addCleanup(sys.path.remove, root)
        attacks = importlib.import_module("attacks")
        self.assertEqual(attacks.main([2, 24, 90], 5), 0)

    @unittest.skipUnless(hasattr(signal, "SIGKILL"), "processes end otherwise here")
    def test_a_first_fold_that_is_killed_anywhere_is_made_again(self):
        from pyarrow import parquet

        parquet.write_table(rows(25, 5), self.folder / "rows.parquet")
        folder = self.folder / "new"
        command = [sys.executable, "-c", KILLED]
        done = subprocess.run(command, cwd=self.folder, capture_output=True, text=True, check=True)
        *killed, last = done.stdout.splitlines()
        self.assertEqual((set(killed), last), ({f"{int(signal.SIGKILL)} False"}, "0 True"))
        self.assertGreater(len(killed), 3)
        found = {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file()}
        named = {file.path for file in ep.Daybook.open(folder)._store.manifest.files}
        self.assertEqual(found - named, {"manifest.json", ".writing"})
        self.assertEqual(ep.Daybook.open(folder).rows, 5)


if __name__ == "__main__":
    unittest.main()
