"""Columns as codes: in slices, of whole numbers, and of chunks that are empty or damaged."""

import unittest
from unittest import mock

import numpy as np
import pyarrow as pa

import eptaro as ep
from eptaro.core.aggregation import fold as folding
from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.cells import Plane
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.groups import Categorical
from eptaro.core.kernels import parallel
from eptaro.core.results.column import Column
from eptaro.inputs.columns.codes import read_groups
from eptaro.inputs.files import chunks
from eptaro.inputs.files.chunks import translate_errors

PLANES = [Plane("filled", "v"), Plane("sum", "v"), Plane("max", "v"), Plane("last", "v")]


class Slices(unittest.TestCase):
    """Texts that are met in some slices alone, and whole numbers used as they are."""

    def test_texts_are_what_they_were(self):
        rng = np.random.default_rng(7)
        sizes = {"_LEAST_SLICE": 16, "WORKERS": 3}
        with (
            mock.patch.multiple(chunks, _FIRST_LOOK=12, _LEAST_SLICE=16),
            mock.patch.multiple(parallel, **sizes),
        ):
            for case in range(200):
                words = [f"{'x' * (n % 11)}{n}" for n in range(rng.choice([1, 4, 90]))]
                words += ["", "a", "a\x00", "é"]
                places = rng.integers(0, len(words), rng.integers(0, 150))
                if case % 3:  # later slices have others
                    places.sort()
                texts = [words[at] if case % 2 or at % 5 else None for at in places]
                column = pa.array(texts, rng.choice([pa.string(), pa.large_string()]))
                column = column.slice(rng.integers(0, len(texts) + 1))
                cut = int(rng.integers(0, len(column) + 1)) if case % 4 == 0 else 0
                column = pa.chunked_array([column.slice(0, cut), column.slice(cut)])
                for ordered in (False, True):
                    coded = chunks.encode_dictionary(column, ordered=ordered)
                    coded.validate(full=True)
                    self.assertEqual(coded.to_pylist(), column.to_pylist())
                    self.assertEqual(len({*coded.dictionary.to_pylist()}), len(coded.dictionary))

    def test_whole_numbers_without_a_gap_make_the_groups_that_texts_make(self):
        rng, as_they_are = np.random.default_rng(6), 0
        for case in range(80):
            folds = [Fold(["g"], PLANES) for _ in range(2)]
            with mock.patch.object(folding, "MOST_DENSE", (1 << 20) if case % 2 else 3):
                for _ in range(rng.integers(1, 5)):
                    rows, kind = int(rng.integers(1, 200)), rng.choice(["i8", "i4", "i2"])
                    numbers = rng.integers(-3, 6) + rng.integers(0, rng.integers(1, 9), rows)
                    blank = (rng.random(rows) < 0.1) & (rng.random() < 0.2)
                    column = pa.chunked_array([pa.array(numbers.astype(kind), mask=blank)])
                    group = read_groups(column, "g", "f")
                    self.assertEqual(
                        [None if c < 0 else group.choices.to_list()[c] for c in group.codes],
                        column.to_pylist(),
                    )
                    as_they_are += group.consecutive is not None
                    days = (20_000 + rng.integers(0, 40, rows)).astype(np.int32)
                    values = {"v": Column.of("v", "float", rng.integers(-99, 99, rows) / 4)}
                    for fold, codes in zip(folds, (None, group.codes), strict=True):
                        coded = group if codes is None else Categorical(codes, group.choices)
                        fold.add(Batch(days, {"g": coded}, values))
            (groups, cells), (plain_groups, plain_cells) = (fold.result() for fold in folds)
            every = [part.coded["g"].choices.to_list() for part in (groups, plain_groups)]
            self.assertEqual(*every)
            for own, plain in zip(cells.axis.cells_of(), plain_cells.axis.cells_of(), strict=True):
                np.testing.assert_array_equal(own, plain)
            for plane in cells.tallies:
                for name, part in vars(cells.tallies[plane]).items():
                    np.testing.assert_array_equal(part, vars(plain_cells.tallies[plane])[name])
        self.assertGreater(as_they_are, 50)

    def test_far_numbers_and_those_with_gaps_are_coded(self):
        for numbers in ([2**62, 2**62 + 1] * 20, [-(2**63)] * 9, [1, 3] * 30, [1, 2]):
            column = pa.chunked_array([pa.array(numbers)])
            group = read_groups(column, "g", "f")
            self.assertIsNone(group.consecutive)
            self.assertEqual([group.choices.to_list()[code] for code in group.codes], numbers)


class Chunks(unittest.TestCase):
    """How a column is cut does not matter."""

    def book(self, column: pa.ChunkedArray) -> ep.Daybook:
        frame = pa.table({"on": ["2025-01-01"] * len(column), "g": column})
        return ep.Daybook(frame, date="on", by="g", measures="n=count()")

    def test_empty_sliced_and_blank_chunks(self):
        parts = [[], ["b", None, "a"], [None], ["", "a", "b", "b"]]
        for kind in (pa.string(), pa.large_string()):
            chunks = [pa.array(part, kind) for part in parts]
            chunks.append(pa.array(["x", "a", "y"], kind).slice(1, 1))
            rows = self.book(pa.chunked_array(chunks)).recap("day", by="g").rows()
            found = {row["g"]: row["n"] for row in rows}
            self.assertEqual(found, {"": 1, "a": 3, "b": 3, None: 2})

    @unittest.skipUnless(
        ep.build_info()["kernel"] == "compiled", "it is for the compiled loop to see"
    )
    def test_offsets_that_lead_out_of_the_text_are_refused(self):
        offsets = pa.py_buffer(np.array([0, 9, 3], np.int32))
        broken = pa.StringArray.from_buffers(2, offsets, pa.py_buffer(b"abc"))
        with (
            self.assertRaisesRegex(
                ep.InputError, "f: cannot be read: damaged text: texts go beyond"
            ),
            translate_errors("f"),
        ):
            read_groups(pa.chunked_array([broken]), "g", "f")
