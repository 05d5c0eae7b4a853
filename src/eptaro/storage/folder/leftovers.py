"""What changes of a book's folder leave behind: taken away, and nothing that is not our own.

Only files are deleted whose names the program makes: those that an old manifest names, once nobody
reads by it any more, and those of a change that was killed, whose token it wrote down before it
began. Links are never followed.
"""

from __future__ import annotations

import json
import os
import re
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from eptaro.errors import InputError
from eptaro.paths import Found, StoragePath, runs
from eptaro.storage.folder.files import SHARD_FILE, TOKEN
from eptaro.storage.folder.manifest import Manifest, manifest_of
from eptaro.storage.layout import NAME

LOCK = ".writing"


@contextmanager
def lock_folder(folder: StoragePath) -> Iterator[None]:
    """Be the only one that changes a folder; the system lets go of it however the process ends.

    In an object store nobody is kept out: there the manifest is looked at once more before another
    is put in its place. Raises `InputError` where somebody else is writing.
    """
    local = folder.local
    if local is None:
        yield
        return
    with folder.describe_errors("written"):
        local.mkdir(parents=True, exist_ok=True)
        handle = os.open(local / LOCK, os.O_RDWR | os.O_CREAT, 0o666)
    try:
        try:
            _lock(handle)
        except OSError:
            raise InputError(
                f"{folder}: somebody else is changing this book; try again when that is done"
            ) from None
        yield
    finally:
        os.close(handle)


def _lock(handle: int) -> None:
    try:
        import fcntl
    except ImportError:  # Windows
        import msvcrt

        msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined,unused-ignore]
        return
    fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)


GRACE = 3600  # seconds for which what a manifest of before names is kept
BEFORE = "manifests"
_CHANGING = ".changing"  # holds the token of a change that is under way
_OLD = re.compile(BEFORE + r"/\d{6,}\.json")
_BESIDE = re.compile(r"(?:(.*)/)?\.(.+)\.(\d+)")  # a file that is being written, and by whom


def begin(folder: StoragePath, token: str) -> None:
    """Write down the token of a change before it writes anything."""
    text = json.dumps({"book": "eptaro", "token": token}).encode()
    (folder / _CHANGING).write(lambda sink: sink.write(text))


def end(folder: StoragePath) -> None:
    """Forget the token of a change that is done."""
    (folder / _CHANGING).delete()


def clear(folder: StoragePath, manifest: Manifest | None) -> None:
    """Take away what a change left that was killed.

    In an object store, where nobody is kept out, that is done when it cannot be under way any more.
    """
    begun_once = (folder / _CHANGING).is_file()
    if folder.local is None and not begun_once:
        return
    token = _token(folder) if begun_once else None
    found = [file for file in folder.within() if _is_ours(folder, file)]
    begun = next((file.changed for file in found if file.inside == _CHANGING), 0.0)
    if folder.local is None and begun > time.time() - GRACE:
        return
    named = set() if manifest is None else {file.path for file in manifest.files}
    for file in found:
        beside = _BESIDE.fullmatch(file.inside)
        inside = file.inside
        if beside is not None:
            if runs(int(beside[3])):
                continue
            inside = f"{beside[1]}/{beside[2]}" if beside[1] else beside[2]
        made = SHARD_FILE.fullmatch(inside)
        ours = made is not None and made[1] == token and inside not in named
        if ours or (beside is not None and (inside in (NAME, _CHANGING) or _OLD.fullmatch(inside))):
            file.place.delete()
    if begun_once:
        end(folder)


def _token(folder: StoragePath) -> str | None:
    """Return the token of the change that was under way, None where that cannot be read."""
    with suppress(ValueError, KeyError, TypeError, InputError):
        said = json.loads((folder / _CHANGING).read())
        if said["book"] == "eptaro" and TOKEN.fullmatch(said["token"]):
            return str(said["token"])
    return None


def check_empty(folder: StoragePath) -> None:
    """Raise `InputError` where a folder that is to be made is there and holds something."""
    for file in folder.within():
        if file.inside not in (LOCK, _CHANGING):
            raise InputError(
                f"{folder}: is a folder of other things ({file.inside}); name a new one"
            )


def remove_old_manifests(
    folder: StoragePath, manifest: Manifest, grace: float | None = None
) -> None:
    """Take away manifests of before that nobody reads by any more, and what they alone name."""
    until = time.time() - (GRACE if grace is None else grace)
    named = {file.path for file in manifest.files}
    found = {file.inside: file for file in folder.within() if _is_ours(folder, file)}
    old = [file for inside, file in found.items() if _OLD.fullmatch(inside)]
    gone, unused = list[Found](), set[str]()
    for file in old:
        with suppress(InputError):  # a damaged one names nothing for sure
            paths = {one.path for one in manifest_of(file.place.read(), str(file.place)).files}
            if file.changed < until:
                gone.append(file)
                unused |= paths
            else:
                named |= paths
    for path in sorted(unused - named):
        if path in found:
            found[path].place.delete()
    for file in gone:
        file.place.delete()


def _is_ours(folder: StoragePath, file: Found) -> bool:
    """Return whether a file is no link, and lies in no folder that is one."""
    local = folder.local
    if local is None:
        return True
    at = local
    for part in file.inside.split("/"):
        at = at / part
        if at.is_symlink():
            return False
    return True
