"""Automata that read columns of text many times as fast as patterns do, made part by part.

They read what most columns hold; what one does not accept is left to the patterns.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from eptaro.core.kernels.reading import Automaton

DIGITS = "0123456789"
States = tuple[int, ...]  # all that a text may be in after the same letters
BEGIN: States = (0,)
_MOST = 256  # states of an automaton, which are single bytes


class Builder:
    """States, and the letters that lead from one to others.

    What the letter that leads to a state is kept for is its part, 0 where it is not kept.
    """

    def __init__(self) -> None:
        """Make the state that begins."""
        self._ways: list[list[tuple[int, int]]] = [[]]  # a byte, and the state that it leads to
        self._parts, self._ends = [0], [0]

    def state(self, part: int = 0) -> int:
        """Return a new state."""
        self._ways.append([])
        self._parts.append(part)
        self._ends.append(0)
        return len(self._ways) - 1

    def step(self, states: States, letters: str, part: int = 0) -> States:
        """Return where one of some letters leads to, each of one byte."""
        to = self.state(part)
        self._lead(states, letters.encode(), to)
        return (to,)

    def _lead(self, states: States, letters: Iterable[int], to: int) -> None:
        for state in states:
            self._ways[state] += [(letter, to) for letter in letters]

    def repeat(self, states: States, letters: str, part: int = 0) -> States:
        """Return where one or more of some letters lead to."""
        (to,) = self.step(states, letters, part)
        self._lead((to,), letters.encode(), to)
        return (to,)

    def digits(self, states: States, part: int, least: int = 1, most: int = 1) -> States:
        """Return where a number of `least` to `most` digits may end."""
        ends: States = ()
        for count in range(1, most + 1):
            states = self.step(states, DIGITS, part)
            ends += states if count >= least else ()
        return ends

    def words(self, states: States, words: Iterable[str], part: int = 0) -> States:
        """Return where one of some words leads to; its last byte is of the part."""
        end = self.state(part)
        for word in words:
            self.lead(states, word, end)
        return (end,)

    def lead(self, states: States, word: str, to: int) -> None:
        """Let a word lead to a state."""
        *before, last = word.encode()
        for letter in before:
            step = self.state()
            self._lead(states, (letter,), step)
            states = (step,)
        self._lead(states, (last,), to)

    def accept(self, states: States, end: int = 1) -> None:
        """Let texts end there, which says something of them other than 0."""
        for state in states:
            self._ends[state] = end

    def build(self) -> Automaton:
        """Return the automaton, each of whose states is a set of these: where a letter leads to
        several, it leads to their set.

        Raises `ValueError` where states of a set differ in their parts or in what their end says.
        """
        numbers: dict[frozenset[int], int] = {frozenset(): 0, frozenset(BEGIN): 1}
        rows: list[dict[int, int]] = [{}, {}]
        sets = [*numbers]
        for states in sets:  # which grow
            ways: dict[int, set[int]] = {}
            for state in states:
                for letter, to in self._ways[state]:
                    ways.setdefault(letter, set()).add(to)
            for letter, found in ways.items():
                reached = frozenset(found)
                if reached not in numbers:
                    numbers[reached] = len(sets)
                    sets.append(reached)
                    rows.append({})
                rows[numbers[states]][letter] = numbers[reached]
        if len(sets) > _MOST:
            raise ValueError(f"{len(sets)} states")
        table = np.zeros((len(sets), 256), np.uint8)
        for number, row in enumerate(rows):
            table[number, [*row]] = [*row.values()]
        parts = [self._agreed({self._parts[state] for state in states}) for states in sets]
        ends = [self._agreed({self._ends[state] for state in states} - {0}) for states in sets]
        return Automaton(table, np.array(parts, np.uint8), np.array(ends, np.uint8))

    @staticmethod
    def _agreed(values: set[int]) -> int:
        if len(values) > 1:
            raise ValueError("a letter may be kept for two things")
        return min(values, default=0)
