"""The data folder: one process writes it at a time."""

import fcntl
import os
from pathlib import Path
from types import TracebackType
from typing import Self

from saltanvil.store.database import StoreError

DATABASE, LOCK, COPIES = "saltanvil.db", "lock", "copies"


class DataFolder:
    """A folder held for writing until `close`, by a lock of the operating system that dies with its process.

    Raises StoreError, naming the folder and the remedy, if another process holds it or it cannot be written; nothing is
    changed then.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            if not path.is_dir():
                path.mkdir(parents=True, mode=0o700)
            self._lock = os.open(path / LOCK, os.O_RDWR | os.O_CREAT, 0o600)
        except (FileExistsError, NotADirectoryError) as error:
            raise StoreError(f"{path}: this is a file, not a folder; name another one with --data") from error
        except OSError as error:
            raise StoreError(
                f"{path}: the folder cannot be written ({error.strerror}); free some space, allow writing, "
                "or name another one with --data"
            ) from error
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            holder = os.pread(self._lock, 32, 0).decode("ascii", "replace").strip()
            os.close(self._lock)
            raise StoreError(
                f"{path}: another Salt Anvil{f' (process {holder})' if holder else ''} works with this folder; "
                "stop it first, or name another folder with --data"
            ) from error
        try:
            os.ftruncate(self._lock, 0)
            os.pwrite(self._lock, f"{os.getpid()}\n".encode(), 0)
        except OSError:  # a full disk: the lock holds without a number in it
            pass

    @property
    def database(self) -> Path:
        return self.path / DATABASE

    def close(self) -> None:
        if self._lock >= 0:
            os.close(self._lock)
            self._lock = -1

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()
