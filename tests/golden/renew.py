"""Writes the renders of the golden documents again: `.venv/bin/python -m tests.golden.renew`.

For a change that is meant to alter the sound of kept sessions, and says so in its commit; the documents stay as they are.
"""

import gzip
import json
import shutil
import tempfile
from pathlib import Path

import numpy as np

from tests.session.test_format import GOLDEN, sound_of


def main() -> None:
    golden = json.loads(gzip.decompress((GOLDEN / "documents.json.gz").read_bytes()))
    with tempfile.TemporaryDirectory() as folder:
        shutil.copy(GOLDEN / "saltanvil.db", folder)
        names = list(np.load(GOLDEN / "rendered.npz"))
        np.savez_compressed(GOLDEN / "rendered.npz", **{name: sound_of(name, golden, Path(folder)) for name in names})


if __name__ == "__main__":
    main()
