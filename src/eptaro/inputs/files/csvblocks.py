"""CSV text cut into blocks of whole rows, so that several are parsed side by side."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from eptaro.core.kernels.parallel import WORKERS
from eptaro.core.kernels.reading import end_of_rows

if TYPE_CHECKING:
    from concurrent.futures import Future

_BLOCK = 1 << 22  # bytes
_MOST_THREADS = 8  # each has some blocks in memory


class RowBlocks:
    """A file's text in blocks of whole rows, as far as it can be cut without parsing it.

    Iterated over, it yields each block, and whether it is the first. Afterwards `uncut` is the byte
    of the file from which the text is not cut; None where all of it was.
    """

    def __init__(self, file: Any, delimiter: bytes) -> None:
        self._file, self._delimiter = file, delimiter
        self.uncut: int | None = None

    def __iter__(self) -> Iterator[tuple[pa.Buffer, bool]]:
        rest, begin = b"", 0
        while part := self._file.read(_BLOCK):
            text = rest + part
            end = end_of_rows(text, self._delimiter)
            if end < 1:  # it takes parsing, or the row is longer than a block
                self.uncut = begin
                return
            yield pa.py_buffer(text).slice(0, end), not begin
            rest = text[end:]
            begin += end
        if rest:
            yield pa.py_buffer(rest), not begin

    def parse(self, parse: Callable[[pa.Buffer, bool], pa.Table]) -> Iterator[pa.Table]:
        """Yield the table of each block, in order; `parse` is called in several threads."""
        from concurrent.futures import ThreadPoolExecutor  # it brings logging: not at the start

        threads = min(WORKERS, _MOST_THREADS)
        pool = ThreadPoolExecutor(threads, thread_name_prefix="csv")
        pending: deque[Future[pa.Table]] = deque()
        try:
            for text, first in self:
                pending.append(pool.submit(parse, text, first))
                if len(pending) > threads:
                    yield pending.popleft().result()
            while pending:
                yield pending.popleft().result()
        finally:
            pool.shutdown(wait=False, cancel_futures=True)
