"""Keeping freed memory in the process.

Blocks come and go by the thousand. Above 128 KiB the C library asks the kernel for each and gives it back, and every
page is faulted in anew: measured here, a render of 24 tracks ran at half its speed. Where there is no `mallopt`
(outside glibc) nothing is changed.
"""

import ctypes
import functools
import gc

M_TRIM_THRESHOLD, M_TOP_PAD, M_MMAP_THRESHOLD, M_ARENA_MAX = -1, -2, -3, -8


@functools.cache
def _library() -> ctypes.CDLL:
    return ctypes.CDLL(None)


@functools.cache
def keep_freed_memory() -> None:
    """Raise glibc's thresholds, once for the process."""
    library = _library()
    if hasattr(library, "mallopt"):
        library.mallopt(M_MMAP_THRESHOLD, 2 << 20)
        library.mallopt(M_TRIM_THRESHOLD, 64 << 20)
        library.mallopt(M_TOP_PAD, 16 << 20)
        # Each arena keeps what was freed in it: few of them, shared by the threads.
        library.mallopt(M_ARENA_MAX, 2)


def give_back_memory() -> None:
    """What is free in the process goes back to the system, and first what only hangs together in rings. It takes ten
    milliseconds or so in which no thread of the process can allocate: what sounds must not depend on them."""
    gc.collect()
    if hasattr(_library(), "malloc_trim"):
        _library().malloc_trim(0)
