"""Random expressions of every kind, over columns of known names."""

import random

from eptaro.core.expressions.kinds import ValueKind


class Maker:
    """Writes random expressions of a kind."""

    def __init__(self, rng: random.Random) -> None:
        self.rng = rng
        self.more = random.Random(1)  # of forms that not every engine takes

    def of(self, kind: ValueKind, depth: int) -> str:
        return {
            ValueKind.NUMBER: self.number,
            ValueKind.TEXT: self.text,
            ValueKind.DATE: self.date,
        }.get(kind, self.flag)(depth)

    def number(self, depth: int) -> str:
        rng, simple = self.rng, ["whole", "cents", "share", "2", "0.5", "-3", "10"]
        if depth <= 0:
            return rng.choice(simple)
        a, b = self.number(depth - 1), self.number(depth - 1)
        return rng.choice([
            f"({a} {rng.choice('+-*/%')} {b})", f"{a} {rng.choice('+-')} {b} * {rng.choice(simple)}", f"-({a})", f"abs({a})",
            f"round({a}, {rng.choice([0, 1, -1])})", f"floor({a})", f"ceil({a})", f"least({a}, {b})", f"greatest({a}, {b})",
            f"coalesce({a}, {b})", f"if({self.flag(depth - 1)}, {a}, {b})", f"if({self.flag(depth - 1)}, {a})",
            f"length({self.text(depth - 1)})", f"days({self.date(depth - 1)}, {self.date(depth - 1)})",
            f"{rng.choice(['year', 'month', 'day'])}({self.date(depth - 1)})", f"({self.flag(depth - 1)}) + {a}",
        ])  # fmt: skip

    def text(self, depth: int) -> str:
        rng, simple = self.rng, ["route", '"class of fare"', "'North'", "'it''s'"]
        if depth <= 0:
            return rng.choice(simple)
        a, b = self.text(depth - 1), self.text(depth - 1)
        return rng.choice([
            f"{rng.choice(['lower', 'upper', 'trim'])}({a})", f"coalesce({a}, {b})", f"least({a}, {b})",
            f"if({self.flag(depth - 1)}, {a}, {b})", f"weekday({self.date(depth - 1)})", f"band({self.number(depth - 1)}, -5, 0, 2.5)",
        ])  # fmt: skip

    def date(self, depth: int) -> str:
        rng = self.rng
        if depth <= 0:
            return rng.choice(["on", "where"])
        plain = rng.choice([
            f"date({self.number(0)} + 2020, {self.number(0)}, {self.number(0)})", f"coalesce(on, {self.date(depth - 1)})",
            f"greatest(on, {self.date(depth - 1)})", f"if({self.flag(depth - 1)}, on, where)",
        ])  # fmt: skip
        month = self.more.choice(["route", "'Sept'", "'may.'", "'04'"])
        return self.more.choice(
            [
                *[plain] * 40,
                *[f"shift({plain}, whole - 2)"] * 12,
                f"date(2024, {month}, 1)",
                "week(2020, whole)",
            ]
        )

    def flag(self, depth: int) -> str:
        rng = self.rng
        kind = rng.choice([ValueKind.NUMBER, ValueKind.TEXT, ValueKind.DATE])
        a, b = self.of(kind, depth - 1), self.of(kind, depth - 1)
        if depth <= 0:
            return rng.choice(["late", f"{a} {rng.choice(['=', '<', '>=', '!=', '<>', '=='])} {b}"])
        c, d = self.flag(depth - 1), self.flag(depth - 1)
        return rng.choice([
            f"({c} and {d})", f"({c} or not {d})", f"not ({c})", f"({a}) in ({a}, {b})", f"({a}) not in ({b}, {b})", f"({a}) between {b} and {a}",
            f"({a}) is blank", f"({a}) is not blank", f"{a} < {b} <= {a}" if kind is ValueKind.NUMBER else f"{a} = {b}", "on >= '2023-05-06'",
            f"contains({self.text(depth - 1)}, 'o')", f"starts({self.text(depth - 1)}, 'N')", "ends(route, ' ')", "none = 3", "none is blank",
        ])  # fmt: skip
