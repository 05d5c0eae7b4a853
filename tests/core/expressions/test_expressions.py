"""Random expressions over columns equal what plain Python makes of each row."""

import datetime as dt
import random
import unittest
from decimal import Decimal
from fractions import Fraction

import numpy as np

from eptaro.core.expressions.evaluate import evaluate
from eptaro.core.expressions.interpreter import plain_value
from eptaro.core.expressions.kinds import FUNCTIONS, ValueKind, kind_of
from eptaro.core.expressions.parser import parse
from eptaro.core.results.column import Column
from eptaro.errors import EptaroError, ExpressionError
from tests.core.expressions.maker import Maker

ROWS = 120
KINDS = {
    "whole": ValueKind.NUMBER, "cents": ValueKind.NUMBER, "share": ValueKind.NUMBER, "route": ValueKind.TEXT,
    "class of fare": ValueKind.TEXT, "on": ValueKind.DATE, "where": ValueKind.DATE, "late": ValueKind.FLAG, "none": ValueKind.BLANK,
}  # fmt: skip


def columns(rng: random.Random) -> dict[str, Column]:
    """Return columns of every kind, some values of each blank."""

    def valid():
        return np.array([rng.random() > 0.2 for _ in range(ROWS)])

    words = np.array(["North", "south ", "", "Ost 10"], object)
    codes = np.array([rng.randrange(-1, 4) for _ in range(ROWS)])
    floats = np.array([rng.choice([rng.uniform(-9, 9), np.nan, 0.5, 2.0]) for _ in range(ROWS)])
    days = [np.array([rng.randrange(19_000, 21_000) for _ in range(ROWS)]) for _ in range(2)]
    return {
        "whole": Column.of("whole", "integer", [rng.randint(-40, 40) for _ in range(ROWS)], valid()),
        "cents": Column.of("cents", "decimal", [rng.randint(-9999, 9999) for _ in range(ROWS)], valid(), scale=2),
        "share": Column.of("share", "float", floats),
        "route": Column.text("route", words, codes),
        "class of fare": Column.text("class of fare", words[::-1].copy(), codes[::-1].copy()),
        "on": Column.of("on", "date", days[0], valid()),
        "where": Column.of("where", "date", days[1]),
        "late": Column.of("late", "flag", [rng.random() > 0.5 for _ in range(ROWS)], valid()),
        "none": Column.of("none", "integer", np.zeros(ROWS, np.int64), np.zeros(ROWS, bool)),
    }  # fmt: skip


def rows_of(given: dict[str, Column]) -> list[dict]:
    """Return the columns row by row, numbers as fractions or floats."""
    listed = {}
    for name, column in given.items():
        values = column.to_list()
        if column.kind in ("integer", "decimal"):
            values = [None if v is None else Fraction(v) for v in values]
        listed[name] = [None if isinstance(v, float) and v != v else v for v in values]
    return [dict(zip(listed, row, strict=True)) for row in zip(*listed.values(), strict=True)]


def alike(one, two) -> bool:
    """Return whether two values are one, floats to the last digits."""
    if one is None or two is None:
        return one is two
    if isinstance(one, float) or isinstance(two, float):
        one, two = float(one), float(two)
        return abs(one - two) <= 1e-9 * max(abs(one), abs(two), 1)
    if isinstance(one, Decimal | int) and not isinstance(one, bool):
        return Fraction(one) == two
    return one == two


class Values(unittest.TestCase):
    """Over columns and row by row."""

    def test_random_expressions_equal_plain_python(self):
        rng = random.Random(17)
        maker, seen, checked = Maker(rng), set(), 0
        given = columns(rng)
        rows = rows_of(given)
        for number in range(600):
            text = maker.of(rng.choice([*ValueKind][:4]), rng.randrange(4))
            node = parse(text)
            self.assertEqual(parse(str(node)), node, text)
            try:
                found = evaluate(node, text, given, KINDS, ROWS, {})
            except ExpressionError as error:
                self.assertRegex(str(error), "does not fit into 64 bits|do not go together", text)
                continue
            values = found.to_list()
            values = [None if isinstance(v, float) and v != v else v for v in values]
            for row, value in zip(rows, values, strict=True):
                wanted = plain_value(node, row)
                if isinstance(wanted, dt.datetime):
                    wanted = wanted.date()
                if isinstance(wanted, float) and abs(wanted) > 1e12:
                    continue
                near_half = (
                    "round" in text
                    or "floor" in text
                    or "ceil" in text
                    or "%" in text
                    or "date(" in text
                    or "band" in text
                )
                if (near_half and "share" in text) or ("/" in text and near_half):
                    continue  # the last digit of a float decides
                self.assertTrue(alike(value, wanted), (text, row, value, wanted))
                checked += 1
            seen |= {part for part in FUNCTIONS if part in text}
            del number
        self.assertGreater(checked, 50_000)
        self.assertEqual(seen | {"hour"}, set(FUNCTIONS))

    def test_hours_come_from_times(self):
        hours = {"on": Column.of("", "integer", [7, 23])}
        given = {"on": Column.of("on", "date", [1, 2])}
        found = evaluate(
            parse("hour(on) + 1"), "hour(on) + 1", given, {"on": ValueKind.DATE}, 2, hours
        )
        self.assertEqual(found.to_list(), [8, 24])
        with self.assertRaisesRegex(ExpressionError, "hour takes a column of times"):
            evaluate(parse("hour(on)"), "hour(on)", given, {"on": ValueKind.DATE}, 2, {})

    def test_exact_numbers_stay_exact(self):
        given = {"x": Column.of("x", "decimal", [10**15 + 1, -(10**15)], scale=2)}
        kinds = {"x": ValueKind.NUMBER}

        def of(text):
            return evaluate(parse(text), text, given, kinds, 2, {}).to_list()

        self.assertEqual(of("x * 1.001")[0], (Decimal(10**15 + 1) / 100) * Decimal("1.001"))
        self.assertEqual(
            of("round(x, 1)"), [Decimal("10000000000000.0"), Decimal("-10000000000000.0")]
        )
        self.assertEqual(of("-0.5 - 1"), [Decimal("-1.5")] * 2)
        for text in ("x * x", "x * 0.00000000000000001"):
            with self.assertRaisesRegex(ExpressionError, r"does not fit into 64 bits(.|\n)*\^"):
                of(text)

    def test_a_remainder_of_numbers_of_any_size(self):
        for one in (10**30 + 5, -(10**30) - 5, 12):
            for two in (7, -7, 10**25, 0):
                columns = {
                    "a": Column.of("a", "integer", np.array([one], object)),
                    "b": Column.of(
                        "b", "integer", [two] if abs(two) < 99 else np.array([two], object)
                    ),
                }
                found = evaluate(
                    parse("a % b"), "a % b", columns, dict.fromkeys("ab", ValueKind.NUMBER), 1, {}
                )
                want = None if not two else (abs(one) % abs(two)) * (1 if one > 0 else -1)
                self.assertEqual(found.to_list(), [want], (one, two))


class Wrong(unittest.TestCase):
    """Every error shows the place."""

    def test_a_caret_stands_under_the_place(self):
        for text, place, said in (
            ("fare > > 5", 7, "a value is missing before '>'"), ("fare 5", 5, "an operator is missing"), ("fare where fare > 2", 5, "inside the brackets"), ("(fare", 5, "'\\)' is missing"),
            ("flor(fare)", 0, "did you mean 'floor'"), ("'abc", 0, "no closing quote"), ("fare + $5", 7, "has no meaning here"), ("5x > 1", 0, "is not a number"),
            ("round(fare, 1, 2)", 0, "write round"), ("fare in 5", 8, "'\\(' is missing"), ("fare between 1 or 2", 15, "'and' is missing"),
            ("fare is 5", 8, "'blank' is missing"), ("((((" * 40 + "1", 100, "deeper than 60"), ("not " * 120 + "a", 400, "deeper"), ("", 0, "a value is missing at the end"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ExpressionError, said) as caught:
                parse(text)
            lines = str(caught.exception).split("\n")
            start = max(place - 50, 0)
            self.assertEqual(lines[2].index("^") - 2 + start, place, lines)
        with self.assertRaisesRegex(ExpressionError, "10,000 letters"):
            parse("1 + " * 5000 + "1")

    def test_a_function_takes_as_many_values_as_it_says(self):
        for name, function in FUNCTIONS.items():
            for count in (function.least - 1, function.most + 1):
                with (
                    self.subTest(name=name, count=count),
                    self.assertRaisesRegex(ExpressionError, "is given|a value is missing"),
                ):
                    parse(f"{name}({', '.join(['whole'] * count)})")

    def test_values_that_do_not_go_together(self):
        for text, place, said in (
            ("route > 5", 6, "text and a number"), ("route * 2", 0, "works on numbers; column 'route' holds text"), ("whole and late", 0, "'and' joins conditions"),
            ("nowhere = 1", 0, "unknown column 'nowhere'"), ("on > 'May'", 5, "is not a date"), ("on = route", 5, "text beside a date"), ("upper(whole)", 6, "upper takes text"),
            ("if(late, whole, route)", 0, "do not go together"), ("not whole", 4, "turns a condition round"), ("round(whole, whole)", 13, "written out"), ("on >= 2024-01-05", 3, "put dates in quotes: '2024-01-05'"),
            ("contains(route, route)", 16, "written out"), ("-route", 1, "sign cannot be turned"), ("whole where route", 12, "a condition follows 'where'"),
        ):  # fmt: skip
            from eptaro.core.expressions.parser import Formula

            with self.assertRaisesRegex(ExpressionError, said) as caught:
                kind_of(Formula.column(text).node, KINDS, text)
            self.assertEqual(str(caught.exception).split("\n")[2].index("^") - 2, place, text)

    def test_mutated_expressions_end_in_an_answer_or_our_error(self):
        rng = random.Random(5)
        maker, given = Maker(rng), columns(rng)
        letters = "abc 019.'\"()+-*/%<>=!,_é\n\0{}[]__."
        for _ in range(5_000):
            text = list(maker.of(rng.choice([*ValueKind][:4]), 2))
            for _ in range(rng.randrange(1, 4)):
                at = rng.randrange(len(text) + 1)
                text[at : at + rng.randrange(3)] = rng.choice(letters) * rng.randrange(3)
            mutated = "".join(text)
            try:
                evaluate(parse(mutated), mutated, given, KINDS, ROWS, {})
            except EptaroError as error:
                self.assertIn("^", str(error), mutated)
