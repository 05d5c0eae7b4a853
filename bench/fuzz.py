"""Mutated inputs of every kind, each case in a child with bounds: an answer, or an error of ours.

Run as `python bench/fuzz.py [cases] [seed]`. Children take cases one after the other and say
which one they begin; one that dies, takes too long or too much memory is told with its case,
and the next child goes on after it. A case is at fault that ends its process, hangs, raises
anything but an error of ours, or makes the command line report a fault. With a third argument
one case runs alone, in this process.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import io
import json
import multiprocessing
import random
import resource
import sys
import tempfile
import time
import traceback
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

SECONDS = 40  # for one case, with the start of a reader of workbooks
MEMORY = 12 << 30
WORKERS = 2
KINDS = {
    "csv": 16, "parquet": 10, "arrow": 8, "ndjson": 10, "xlsx": 2, "ods": 2, "toml": 10, "ics": 6,
    "book": 10, "measure": 10, "span": 8, "label": 6, "command line": 12,
}  # fmt: skip
WORDS = ["", "0", "-1", "9999-12-31", "0001-01-01", "2025-02-30", "1e308", "nan", "null", "\x00",
         "\x1b[2J", "\u202e", "é", "99999999999999999999", "-9223372036854775808", "()", "=1+1",
         "..", "%", "'", '"', ",", "\n", "month", "2025-W53", "FY", "per day", "sum(", "{}", "[]",
         "true", "\ud800", "/", "~", "*", "16777217", "day", "year"]  # fmt: skip


def bytes_changed(data: bytes, rng: random.Random) -> bytes:
    """Return bytes with a few of them changed, dropped, doubled or cut off."""
    made = bytearray(data)
    for _ in range(rng.choice([1, 1, 2, 4, 12])):
        at = rng.randrange(len(made) + 1)
        match rng.randrange(7):
            case 0 if made:
                made[at % len(made)] = rng.randrange(256)
            case 1:
                del made[at : at + rng.choice([1, 3, 40])]
            case 2:
                made[at:at] = rng.choice(WORDS).encode("utf-8", "surrogatepass")
            case 3:
                made[at:at] = made[at : at + rng.choice([1, 9, 60])]
            case 4 if rng.random() < 0.3:
                del made[at:]
            case 5 if made:
                made[at % len(made)] ^= 1 << rng.randrange(8)
            case 6:
                made[at:at] = bytes(rng.randrange(256) for _ in range(rng.choice([1, 8])))
    return bytes(made)


def text_changed(text: str, rng: random.Random) -> str:
    """Return text with letters changed and odd words put in."""
    made = list(text)
    for _ in range(rng.choice([1, 1, 2, 5])):
        at = rng.randrange(len(made) + 1)
        match rng.randrange(4):
            case 0:
                made[at:at] = list(rng.choice(WORDS))
            case 1:
                del made[at : at + rng.choice([1, 2, 6])]
            case 2:
                made[at : at + 1] = [chr(rng.choice([rng.randrange(128), rng.randrange(0x2FFF)]))]
            case 3:
                made[at:at] = made[at : at + rng.choice([1, 5, 20])]
    return "".join(made)


class Seeds:
    """One good input of each kind, in a folder, to be mutated."""

    def __init__(self, folder: Path) -> None:
        import pyarrow as pa
        from pyarrow import feather, parquet

        import eptaro as ep
        from eptaro.demo.files import copy_shipped

        self.folder = folder
        rng = random.Random(1)
        day = dt.date(2024, 1, 1)
        frame = {
            "on": [day + dt.timedelta(rng.randrange(500)) for _ in range(60)],
            "g": [rng.choice(["a", "b", "é", None]) for _ in range(60)],
            "x": [rng.choice([1.5, -3.25, None, 2e9]) for _ in range(60)],
            "n": [rng.randrange(-5, 99) for _ in range(60)],
        }
        table = pa.table(frame)
        parquet.write_table(table, folder / "t.parquet", row_group_size=20, compression="none")
        feather.write_feather(table, str(folder / "t.arrow"), compression="uncompressed")
        measures = ["s=sum(x)", "l=last(n)", "d=distinct(g)", "m=median(n)", "v=std(x)"]
        made = ep.Daybook(table, date="on", by="g", measures=measures)
        made.write(folder / "b.parquet")
        made.recap("month", by="g").write(folder / "t.xlsx")
        lines = ["on,g,x,n", *(",".join("" if v is None else str(v) for v in row)
                               for row in zip(*frame.values(), strict=True))]  # fmt: skip
        (folder / "t.csv").write_text("\n".join(lines))
        objects = [
            {k: str(v) if k == "on" else v for k, v in row.items()} for row in table.to_pylist()
        ]
        (folder / "t.ndjson").write_text("\n".join(map(json.dumps, objects)))
        (folder / "h.ics").write_text(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\n"
            "DTSTART;VALUE=DATE:20240101\r\nDTEND;VALUE=DATE:20240103\r\nRRULE:FREQ=YEARLY;COUNT=5\r\n"
            "SUMMARY:Net Blessing\r\nCATEGORIES:company\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        )
        with contextlib.suppress(ImportError):
            import pandas as pd

            pd.DataFrame({"on": ["2024-01-01", "2024-02-01"], "x": [1, 2]}).to_excel(
                folder / "t.ods", engine="odf", index=False
            )
        copy_shipped(folder / "demo")
        self.ours = ep.EptaroError


def run_case(kind: str, rng: random.Random, seeds: Seeds) -> str:
    """Run one case; return what is at fault, or nothing."""
    import eptaro as ep

    folder = seeds.folder
    files = {"csv": "t.csv", "parquet": "t.parquet", "arrow": "t.arrow", "ndjson": "t.ndjson",
             "xlsx": "t.xlsx", "ods": "t.ods", "book": "b.parquet"}  # fmt: skip
    if kind in files:
        source = folder / files[kind]
        target = folder / f"case-{multiprocessing.current_process().pid}{source.suffix}"
        target.write_bytes(bytes_changed(source.read_bytes(), rng))
        date, measure = ("first", "s=sum(s)") if kind == "xlsx" else ("on", "s=sum(x)")
        if kind == "book":
            if rng.random() < 0.6:  # what it says of itself, in a file that is whole
                _write_about(source, target, rng)
            return _called(lambda: ep.Daybook.open(target).recap("month", by="g"))
        out = str(target.with_suffix(".out.csv"))
        annotated = ["annotate", "--add", "calendar_month", "--out", out]
        trailed = ["trail", "--back", "3 days", "--every", "year"]
        compared = ["compare", "--per", "year"]
        asked = rng.choice([["recap", "--per", "month"], trailed, annotated, ["inspect"], compared])
        more = [] if asked[0] in ("inspect", "annotate") else ["--measure", measure]
        options = ["--bad-dates", "reject"] if rng.random() < 0.5 else []
        rejected = ["--rejected", str(target.with_suffix(".rejected.csv"))] if more else []
        return _commanded(
            [asked[0], str(target), "--date", date, *more, *asked[1:], *options, *rejected]
        )
    if kind == "toml":
        config = folder / "demo" / f"case-{multiprocessing.current_process().pid}.toml"
        good = (folder / "demo" / "eptaro.toml").read_bytes()
        config.write_bytes(bytes_changed(good, rng))
        return _commanded(["recap", "--config", str(config), "--per", "year"])
    if kind == "ics":
        target = folder / f"case-{multiprocessing.current_process().pid}.ics"
        target.write_bytes(bytes_changed((folder / "h.ics").read_bytes(), rng))
        return _called(lambda: ep.HolidaySet.from_icalendar(target, 2020, 2030))
    if kind == "measure":
        text = text_changed(rng.choice(["s=sum(x)", "q=quantile(x, 0.9)", "r=sum(x)/count()",
                                        "b=max(sum(x) per day)", 'a=mean("x")']), rng)  # fmt: skip
        frame = {"on": ["2024-01-01", "2024-01-03"], "x": [1, None]}
        return _called(lambda: ep.Daybook(frame, date="on", measures=text).recap("month"))
    made = _small_book()
    if kind == "span":
        text = text_changed(
            rng.choice(["2024-01-01..2024-02-01", "last 3 months", "g=a", "2024-Q1"]), rng
        )
        back = text_changed(rng.choice(["3 months", "1 year", "5 entries"]), rng)
        return _called(lambda: (made.recap("month", only=text), ep.Span.parse(text))) or _called(
            lambda: (made.trail(back), made.compare("month", back=back))
        )
    if kind == "label":
        text = text_changed(rng.choice(["2024-W07", "FY2025-Q3", "2024-03", "2024-08-20"]), rng)
        calendars = (ep.MonthCalendar(), ep.WeekCalendar("w"), ep.MonthCalendar("f", prefix="FY"))
        return _called(lambda: [c.period(text).shift(-1, "year") for c in calendars]) or _called(
            lambda: made.compare("month", against=text)
        )
    words = rng.choice([
        ["recap", "t.csv", "--date", "on", "--measure", "s=sum(x)", "--per", "month", "--by", "g"],
        ["compare", "t.csv", "--date", "on", "--measure", "s=sum(x)", "--per", "quarter",
         "--to-date", "--match", "weekday", "--as-of", "2025-01-31"],
        ["dimension", "--from", "2024-01-01", "--through", "2024-02-01", "--year-starts", "04-01"],
        ["calendar", "show", "--pattern", "4-4-5", "--year-ends", "01-31", "--year", "2024"],
        ["accumulate", "t.csv", "--date", "on", "--measure", "s=sum(x)", "--within", "quarter"],
        ["rhythm", "t.csv", "--date", "on", "--measure", "s=sum(x)", "--per", "weekday"],
    ])  # fmt: skip
    for _ in range(rng.choice([1, 1, 2])):
        at = rng.randrange(len(words))
        words = [*words[:at], text_changed(words[at], rng), *words[at + 1 :]]
    plain = [w.replace("\x00", "").encode("utf-8", "replace").decode() for w in words]
    if any(word in ("--out", "--database", "--plot", "--rejected", "-") for word in plain):
        return ""
    return _commanded([str(folder / w) if w == "t.csv" else w for w in plain])


def _write_about(source: Path, target: Path, rng: random.Random) -> None:
    """Write a book whose metadata are changed."""
    from pyarrow import parquet

    from eptaro.version import BOOK_MARK

    table = parquet.read_table(source)
    about = text_changed(table.schema.metadata[BOOK_MARK].decode(), rng)
    changed = {BOOK_MARK: about.encode("utf-8", "replace")}
    parquet.write_table(table.replace_schema_metadata(changed), target)


def _small_book() -> Any:
    import eptaro as ep

    return ep.Daybook({"on": ["2024-01-01", "2024-05-03"], "g": ["a", "b"], "x": [1, 2]}, date="on",
                      by="g", measures="s=sum(x)")  # fmt: skip


def _commanded(arguments: list[str]) -> str:
    """Run a command; return what is at fault."""
    from eptaro.cli.app import run

    out, said = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(said):
        status = run(arguments)
    told = said.getvalue()
    wrong = status not in (0, 1, 2) or "fault of ours" in told or "Traceback" in told
    raw = any(mark in told for mark in ("\x1b", "\x9b", "\u202e"))
    return f"{arguments}: status {status}: {told[-300:]}" if wrong or raw else ""


def _called(call: Callable[[], Any]) -> str:
    """Call something of the library; return what is at fault."""
    import eptaro as ep

    try:
        call()
    except ep.EptaroError:
        return ""
    except Exception:  # whatever is not ours is a fault
        return traceback.format_exc()[-600:]
    return ""


def case(number: int, seed: int, seeds: Seeds) -> tuple[str, str]:
    """Run the case of a number; return its kind and what is at fault."""
    rng = random.Random(seed * 1_000_003 + number)
    kind = rng.choices([*KINDS], [*KINDS.values()])[0]
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return kind, run_case(kind, rng, seeds)


def child(numbers: range, seed: int, folder: str, say: Any) -> None:
    """Run cases one after the other, telling which one begins and what was wrong."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    seeds = Seeds(Path(folder))
    for number in numbers:
        say.send((number, "", ""))
        say.send((number, *case(number, seed, seeds)))


def follow(numbers: range, seed: int) -> list[str]:
    """Run cases in children; return what was at fault, each with its number."""
    faults: list[str] = []
    context = multiprocessing.get_context("spawn")
    while numbers:
        with tempfile.TemporaryDirectory(prefix="eptaro-fuzz-") as folder:
            hear, say = context.Pipe(duplex=False)
            process = context.Process(target=child, args=(numbers, seed, folder, say))
            process.start()
            say.close()
            at = numbers[0]
            try:
                while hear.poll(SECONDS):
                    at, kind, wrong = hear.recv()
                    if wrong:
                        faults.append(f"case {at} ({kind}): {wrong}")
                        print(faults[-1], flush=True)
                ended = f"takes over {SECONDS} seconds"
            except EOFError:
                process.join(5)
                ended = f"ends its process ({process.exitcode})" if process.exitcode else ""
            process.kill()
            process.join()
        if not ended:
            return faults
        faults.append(f"case {at}: {ended}")
        print(faults[-1], flush=True)
        numbers = range(at + 1, numbers.stop)
    return faults


def main(cases: int, seed: int) -> int:
    """Run so many cases; return how many were at fault."""
    from concurrent.futures import ThreadPoolExecutor

    began = time.monotonic()
    step = -(-cases // WORKERS)
    parts = [range(start, min(start + step, cases)) for start in range(0, cases, step)]
    with ThreadPoolExecutor(WORKERS) as pool:
        found = [
            fault for part in pool.map(lambda part: follow(part, seed), parts) for fault in part
        ]
    print(f"{cases:,} cases in {time.monotonic() - began:,.0f} s, {len(found):,} at fault")
    return len(found)


if __name__ == "__main__":
    given = [int(word) for word in sys.argv[1:]]
    if len(given) > 2:
        with tempfile.TemporaryDirectory() as made:
            print(case(given[2], given[1], Seeds(Path(made))))
        sys.exit()
    sys.exit(bool(main(given[0] if given else 2000, given[1] if len(given) > 1 else 1)))
