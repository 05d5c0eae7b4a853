"""Arrow files (the IPC file and stream formats) as sources."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
from pyarrow import ipc

from eptaro.digest import file_digest
from eptaro.inputs.sources import ColumnRequest, Source, check_columns, plain_text
from eptaro.rules import FileRules

_MARKS = {b"ARROW1": ipc.open_file, b"\xff\xff\xff\xff": ipc.open_stream}


class ArrowFile(Source):
    """An Arrow file, mapped into memory and read batch by batch."""

    def __init__(self, path: Path, rules: FileRules) -> None:
        self.path, self.name = path, str(path)
        del rules
        with self._open() as file:
            self._schema = file.schema

    def names(self) -> list[str]:
        """Return the names of all columns."""
        return list(self._schema.names)

    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns."""
        check_columns(request.names, self._schema.names, self.name)
        fields = sorted(self._schema.get_field_index(name) for name in request.names)
        with self._open(ipc.IpcReadOptions(included_fields=fields)) as file:
            for table in self._pieces(file):
                yield table.select(request.names)

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns, some rows at a time."""
        with self._open() as file:
            yield from self._pieces(file)

    def fingerprint(self) -> str:
        """Return a digest of the file."""
        return file_digest(self.path)

    def _open(self, options: Any = None) -> Any:
        with self.path.open("rb") as file:
            mark = file.read(6)
        opened = next((one for start, one in _MARKS.items() if mark.startswith(start)), None)
        if opened is None:
            raise pa.ArrowInvalid("this is not an Arrow file")
        return opened(pa.memory_map(str(self.path)), options=options)

    def _pieces(self, file: Any) -> Iterator[pa.Table]:
        """Yield the file's batches."""
        is_file = isinstance(file, ipc.RecordBatchFileReader)
        several = map(file.get_batch, range(file.num_record_batches)) if is_file else iter(file)
        for batches_done, batch in enumerate(several, 1):
            self.share = batches_done / file.num_record_batches if is_file else None
            yield plain_text(pa.Table.from_batches([batch]))
