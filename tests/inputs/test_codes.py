"""Columns of text as codes: chunks that are empty or damaged."""

import unittest

import numpy as np
import pyarrow as pa

import eptaro as ep
from eptaro.inputs.columns.codes import read_groups
from eptaro.inputs.files.chunks import translate_errors


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
