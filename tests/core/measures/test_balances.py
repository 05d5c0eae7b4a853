"""Closing and opening balances of accounts, carried forward, against plain Python."""

import datetime as dt
import random
import tempfile
import unittest
from dataclasses import replace
from decimal import Decimal
from fractions import Fraction
from pathlib import Path

import pyarrow as pa
from pyarrow import csv

import eptaro as ep
from tests.oracle import DAY

START = dt.date(2024, 11, 3)
MEASURES = ["c=closing(balance per account)", "o=opening(balance per account)", "moved=sum(amount)",
            "gap=c - o - moved", "m=mean(closing(balance per account) per day)"]  # fmt: skip


def ledger(rng: random.Random, kind, accounts: int = 8, count: int = 90) -> list[dict]:
    """Return postings with the balance after each, in the order of the days; accounts may move to
    another branch, but not on one day.
    """
    days = sorted(START + DAY * rng.randrange(140) for _ in range(count))
    held, branch, rows = {}, {}, []
    for day in days:
        account = f"A{rng.randrange(accounts)}"
        if branch.get(account, (None, None))[1] != day and rng.random() < 0.8:
            branch[account] = branch.get(account, (rng.choice("xyz"), day))[0], day
        if account not in branch or (branch[account][1] != day and rng.random() < 0.3):
            branch[account] = rng.choice("xyz"), day
        amount = rng.randint(-500, 900)
        held[account] = held.get(account, 0) + amount
        rows.append({"on": day, "account": account, "branch": branch[account][0],
                     "balance": kind(held[account]), "amount": kind(amount)})  # fmt: skip
    for row in rng.sample(rows, 4):  # some are without a balance, or of no account
        row[rng.choice(["balance", "account"])] = None
    return rows


def held_at(rows: list[dict], branches: str, day: dt.date) -> Fraction | None:
    """Return what the accounts whose last row is of some branches have at the end of a day."""
    last = {}
    for row in rows:
        if row["on"] <= day and row["account"] is not None and row["balance"] is not None:
            last[row["account"]] = row
    own = [Fraction(row["balance"]) for row in last.values() if row["branch"] in branches]
    return sum(own) if own else None


def frame(rows: list[dict]) -> dict[str, list]:
    """Return rows as columns."""
    return {name: [row[name] for row in rows] for name in rows[0]}


class Carried(unittest.TestCase):
    """In groups, periods, windows and running totals, in every store."""

    def same(self, got, want, said):
        self.assertEqual(got is None, want is None, (said, got, want))
        if want is not None:
            self.assertAlmostEqual(float(got), float(want), 6, said)

    def check(self, table: ep.Table, rows: list[dict], names: str, ending: str = "") -> int:
        first_day, last_day = min(r["on"] for r in rows), max(r["on"] for r in rows)
        seen = 0
        for row in table.rows():
            first, last = max(row["first"], first_day), min(row["last"], last_day)
            if first > last:
                continue
            own = row.get("branch", names)
            closing, opening = held_at(rows, own, last), held_at(rows, own, first - DAY)
            self.same(row[f"c{ending}"], closing, (row, "closing"))
            self.same(row[f"o{ending}"], opening, (row, "opening"))
            days = [held_at(rows, own, first + DAY * n) for n in range((last - first).days + 1)]
            known = [one for one in days if one is not None]
            self.same(row[f"m{ending}"], sum(known) / len(known) if known else None, (row, "mean"))
            seen += 1
        return seen

    def test_every_verb_and_store_equals_plain_python(self):
        rng, seen = random.Random(21), 0
        for kind in (int, float, lambda n: Decimal(n) / 4):
            rows = ledger(rng, kind)
            asked = {"date": "on", "by": "branch", "measures": MEASURES}
            with tempfile.TemporaryDirectory() as folder:
                half = len(rows) // 2
                merged = ep.Daybook(frame(rows[:half]), **asked).merge(
                    ep.Daybook(frame(rows[half:]), **asked)
                )
                written = ep.Daybook.open(merged.write(Path(folder) / "book.parquet"))
                csv.write_csv(pa.table(frame(rows)), f"{folder}/rows.csv")
                shards = ep.Daybook.read(
                    f"{folder}/rows.csv", into=f"{folder}/book", shards=3, **asked
                )
                shards._store = replace(shards._store, at_once=0)
                for book in (ep.Daybook(frame(rows), **asked), merged, written, shards):
                    for by in (None, "branch"):
                        seen += self.check(book.recap("month", by=by), rows, "xyz")
                        seen += self.check(
                            book.trail("20 days", by=by, every="week"), rows, "xyz", "_trailing"
                        )
                    seen += self.check(book.recap("week", only="branch=y", by="branch"), rows, "y")
                    seen += self.check(
                        book.compare("month", back="1 month", by="branch"), rows, "xyz"
                    )
                    until = rows[half]["on"]
                    early = [row for row in rows if row["on"] <= until]
                    seen += self.check(book.recap("month", as_of=until), early, "xyz")
        self.assertGreater(seen, 900)

    def test_movements_tie_out_and_numbers_are_proved(self):
        rng = random.Random(22)
        rows = [row for row in ledger(rng, int) if None not in row.values()]
        first = {row["account"]: row["branch"] for row in reversed(rows)}
        held = dict.fromkeys(first, 0)
        for row in rows:  # no account moves: then what a branch has changes by its postings alone
            held[row["account"]] += row["amount"]
            row |= {"branch": first[row["account"]], "balance": held[row["account"]]}
        book = ep.Daybook(frame(rows), date="on", by="branch", measures=MEASURES)
        table = book.recap("month", by="branch")
        for row in table.rows():
            if row["o"] is not None:
                self.assertEqual(row["gap"], 0)
        total = book.recap("month")
        for row in total.rows():
            parts = [one["c"] or 0 for one in table.rows() if one["period"] == row["period"]]
            self.assertEqual(sum(parts), row["c"])
        for answer in (table, book.recap("quarter", by="branch", top=1), book.accumulate("quarter", every="month"),
                       book.compare("month", back="1 month", wide=True, by="branch"), book.trail("30 days")):  # fmt: skip
            self.assertGreater(book.prove(answer, sample=5), 4)

    def test_what_cannot_be_known_is_refused(self):
        table = {"on": ["2025-01-01", "2025-01-01"], "a": ["A", "A"], "g": ["x", "y"], "b": [1, 2]}
        book = ep.Daybook(table, date="on", by="g", measures="c=closing(b per a)")
        with self.assertRaisesRegex(
            ep.QuestionError, "'A' has rows of several groups on 2025-01-01"
        ):
            book.recap("month")
        self.assertEqual(
            ep.Daybook(table, date="on", measures="c=closing(b per a)")
            .recap("month")["c"]
            .tolist(),
            [2],
        )
        timed = ep.Daybook(
            {**table, "on": ["2025-01-01 05:00", "2025-01-01 04:00"]},
            date="on",
            measures="c=closing(b per a)",
        )
        with self.assertRaisesRegex(ep.QuestionError, "these dates have times"):
            timed.recap("month")
        with self.assertRaisesRegex(ep.QuestionError, "goes by all days before"):
            ep.Daybook(table, date="on", measures="c=mean(closing(b per a) per day)").rhythm(
                "weekday"
            )
        for spec, said in (("closing(b)", r"name the accounts.*; of a single one, use last\(b\)"), ("opening(b)", r"per account\)$"), ("closing(b per day)", "a balance is of accounts"),
                           ("max(closing(b per a) per a)", "closing goes by the order"), ("closing(b per zz)", "unknown column 'zz'")):  # fmt: skip
            with self.subTest(spec=spec), self.assertRaisesRegex(ep.EptaroError, said):
                ep.Daybook(table, date="on", measures=f"c={spec}")


if __name__ == "__main__":
    unittest.main()
