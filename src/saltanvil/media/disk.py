"""What an error of a disk means, in words, and what to do about it."""

import errno
import os

WORDS = {
    errno.ENOSPC: "the disk is full; free some space and try again",
    errno.EDQUOT: "the space you may use on this disk is full; free some of it and try again",
    errno.EFBIG: "the file grew larger than this disk or this account allows; deliver less at once",
    errno.EROFS: "the disk is read-only; choose another folder, or allow writing",
    errno.EACCES: "this place may not be written; choose another folder, or allow writing",
    errno.EPERM: "this place may not be written; choose another folder, or allow writing",
    errno.EMFILE: "this program has too many files open at once; close tabs, wait for other jobs, and try again",
    errno.ENFILE: "the system has too many files open at once; wait for other jobs, and try again",
    errno.ENOENT: "the folder it was written to is gone; put it back, or start Salt Anvil anew",
    errno.EIO: "the disk reports an error while reading or writing; check the disk",
}


def what_failed(error: OSError) -> str:
    """One sentence without paths, which mean nothing to whoever reads it in a browser."""
    if error.errno in WORDS:
        return WORDS[error.errno]
    said = os.strerror(error.errno) if error.errno else str(error)
    return f"it could not be read or written ({said.rstrip('.')}); is there room on the disk?"
