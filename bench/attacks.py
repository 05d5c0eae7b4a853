"""A book's folder under attack: killed folds, damaged shards and changed manifests.

Run as `python bench/attacks.py [kills] [shards] [manifests] [seed]`. A fold is killed at a random
event on files and folded again; a shard's file is damaged, cut, or takes the place of another; a
manifest is changed anywhere. Whatever answers must answer rightly, whatever is refused must be
refused by an error of ours, and files that are not the book's stay. It prints what went wrong.
"""

from __future__ import annotations

import datetime as dt
import json
import random
import shutil
import signal
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep

ASKED = {"date": "on", "by": ["g"], "measures": ["s=sum(x)", "n=count()", "d=distinct(who)"]}
# Ends the process at the n-th event on files of the folder.
KILLED = """
import os, signal, sys, eptaro as ep
left, folder = [int(sys.argv[2])], sys.argv[1]
def stop(event, given):
    if event.split(".")[0] in ("open", "os", "shutil") and folder in str(given):
        left[0] -= 1
        if left[0] == 0:
            os.kill(os.getpid(), signal.SIGKILL)
ep.Daybook({"on": ["2025-01-01"]}, date="on", measures="n=count()")
sys.addaudithook(stop)
if os.path.exists(folder + "/manifest.json"):
    ep.Daybook.open(folder).add(sys.argv[4])
else:
    ep.Daybook.read(sys.argv[3], into=folder, shards=3, date="on", by=["g"],
                    measures=["s=sum(x)", "n=count()", "d=distinct(who)"])
"""


def rows(rng: random.Random) -> pa.Table:
    """Return random transactions of 40 groups over two years."""
    count = 3000
    return pa.table({
        "on": [dt.date(2023, 1, 1) + dt.timedelta(rng.randrange(700)) for _ in range(count)],
        "g": [f"g{rng.randrange(40)}" for _ in range(count)],
        "x": [rng.randrange(9999) for _ in range(count)],
        "who": [f"p{rng.randrange(50)}" for _ in range(count)],
    })  # fmt: skip


def answers(book: Any) -> list[Any]:
    """Return the rows of a few questions."""
    tables = [book.recap("month", by=[]), book.recap("year", by="g"), book.card(by=[])]
    return [row for table in tables for row in table.rows()]


def tried(folder: Path, want: list[Any]) -> str:
    """Return how a folder answers: right, refused, or what is wrong with it."""
    try:
        book = ep.Daybook.open(folder)
        book._store = replace(book._store, at_once=0)
        return "right" if answers(book) == want else "WRONG numbers"
    except ep.EptaroError:
        return "refused"
    except Exception as error:  # of others, which is what is looked for
        return f"FOREIGN {type(error).__name__}: {error}"


def kills(rng: random.Random, base: Path, want: list[Any], count: int) -> Iterator[str]:
    """Kill folds into a new folder, and additions to one that holds a book; do each again."""
    both = [base / "rows.parquet", base / "night.parquet"]
    later = answers(ep.Daybook.read(both, **ASKED))
    for number in range(count):
        folder = base / f"killed{number}"
        old = number % 2
        if old:
            shutil.copytree(base / "book", folder)
        alien = folder.parent / f"killed{number}.txt"
        alien.write_text("mine")
        command = [sys.executable, "-c", KILLED, str(folder), str(rng.randint(1, 120)),
                   str(base / "rows.parquet"), str(base / "night.parquet")]  # fmt: skip
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        if done.returncode not in (0, 1, -signal.SIGKILL):
            yield f"FOREIGN end of a fold: {done.stderr[-300:]}"
        yield "killed" if done.returncode < 0 else "not killed, it was done"
        if old:
            found = {tried(folder, want), tried(folder, later)} - {"WRONG numbers"}
            yield f"{''.join(found) or 'WRONG numbers'} in an old book, before or after"
            with suppress(ep.InputError):  # it is in already
                ep.Daybook.open(folder).add(base / "night.parquet")
            yield f"{tried(folder, later)} once it is added"
        else:
            with suppress(ep.InputError):  # it is there already
                ep.Daybook.read(base / "rows.parquet", into=folder, shards=3, **ASKED)
            yield f"{tried(folder, want)} after the next fold"
        yield "kept" if alien.read_text() == "mine" else "LOST a file of others"
        shutil.rmtree(folder, ignore_errors=True)


def damaged(rng: random.Random, base: Path, want: list[Any], count: int) -> Iterator[str]:
    """Damage one shard file of a copy: a byte turned, cut short, emptied, gone, or exchanged."""
    names = sorted(path.relative_to(base / "book") for path in (base / "book").rglob("*.parquet"))
    for _ in range(count):
        folder = base / "damaged"
        shutil.copytree(base / "book", folder)
        target = folder / rng.choice(names)
        content = bytearray(target.read_bytes())
        match rng.choice(["turned", "cut", "empty", "gone", "other"]):
            case "turned":
                content[rng.randrange(len(content))] ^= 1 << rng.randrange(8)
                target.write_bytes(content)
            case "cut":
                target.write_bytes(content[: rng.randrange(len(content))])
            case "empty":
                target.write_bytes(b"")
            case "gone":
                target.unlink()
            case "other":
                target.write_bytes((folder / rng.choice(names)).read_bytes())
        yield tried(folder, want)
        shutil.rmtree(folder)


def changed(rng: random.Random, base: Path, want: list[Any], count: int) -> Iterator[str]:
    """Change a manifest: as bytes, or as JSON whose digest is made anew or left."""
    from eptaro.storage.folder.manifest import _digest

    folder = base / "changed"
    shutil.copytree(base / "book", folder)
    path = folder / "manifest.json"
    text = path.read_text()
    odd = [None, True, -1, 2**70, 1.5, "", "x", "../../x", [], [None], {}, {"a": 1}, "\ud800"]
    for number in range(count):
        if number % 3 == 0:
            content = bytearray(text.encode())
            for _ in range(rng.randint(1, 4)):
                content[rng.randrange(len(content))] = rng.randrange(256)
            path.write_bytes(content)
        else:
            said = json.loads(text)
            places = [*_places(said)]
            holder, key = rng.choice(places)
            if rng.random() < 0.3 and isinstance(holder, dict):
                del holder[key]
            else:
                holder[key] = rng.choice(odd)
            if number % 3 == 1:
                said.pop("digest", None)
                try:
                    said["digest"] = _digest(said)
                except (ValueError, TypeError, UnicodeError):
                    continue
            path.write_text(json.dumps(said))
        told = tried(folder, want)
        # Who makes the digest anew may say that rows were left out, or a measure is another one.
        yield "right by its own words" if number % 3 == 1 and told.startswith("WRONG") else told
    shutil.rmtree(folder)


def _places(said: Any) -> Iterator[tuple[Any, Any]]:
    """Yield where each value of a document stands."""
    keys = said.keys() if isinstance(said, dict) else range(len(said))
    for key in list(keys):
        yield said, key
        if isinstance(said[key], dict | list):
            yield from _places(said[key])


def main(counts: list[int], seed: int) -> int:
    """Attack so often; return how much went wrong."""
    rng = random.Random(seed)
    wrong = 0
    with tempfile.TemporaryDirectory() as made:
        base = Path(made)
        for name in ("rows", "night"):
            parquet.write_table(rows(rng), base / f"{name}.parquet")
        ep.Daybook.read(base / "rows.parquet", into=base / "book", shards=3, **ASKED)
        want = answers(ep.Daybook.read(base / "rows.parquet", **ASKED))
        for attack, count in zip((kills, damaged, changed), counts, strict=True):
            found = Counter(attack(rng, base, want, count))
            print(attack.__name__, dict(found.most_common(12)), flush=True)
            wrong += sum(n for told, n in found.items() if told.split(" ")[0].isupper())
    return wrong


if __name__ == "__main__":
    given = [int(word) for word in sys.argv[1:]]
    counts = given[:3] if len(given) > 2 else [20, 30, 60]
    sys.exit(bool(main(counts, given[3] if len(given) > 3 else 1)))
