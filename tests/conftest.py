"""Fixtures that several files of tests share; and the same examples in every run, unless one searches for others."""

import contextlib
import fcntl
import os
import time

import numpy as np
import pytest
from hypothesis import settings

from saltanvil.demo import low_water

#: `HYPOTHESIS_PROFILE=search ./test` looks at other examples each time.
settings.register_profile("same", derandomize=True)
settings.register_profile("search")
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "same"))

#: How long a test waits for what must come: only a fault takes so long, also on a machine that is busy with other things.
PATIENCE_S = 180.0


def wait_for(holds, pause_s=0.01):
    """What a condition says once it holds, looked at again and again."""
    end = time.monotonic() + PATIENCE_S
    while not (result := holds()):
        assert time.monotonic() < end, "it does not come to hold"
        time.sleep(pause_s)
    return result


@pytest.fixture(scope="session")
def demo_tracks(tmp_path_factory):
    """The demo's tracks by name, (channels, frames); drawn once for all workers."""
    kept = shared_folder(tmp_path_factory) / "demo.npz"
    with locked(kept):
        if not kept.exists():
            np.savez(kept, **low_water.synthesise())
    with np.load(kept) as tracks:
        return dict(tracks)


def shared_folder(tmp_path_factory):
    """A folder of this run of pytest, whichever worker asks."""
    base = tmp_path_factory.getbasetemp()
    return base.parent if "PYTEST_XDIST_WORKER" in os.environ else base


@contextlib.contextmanager
def locked(path):
    """One worker at a time."""
    with path.with_suffix(".lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield
