"""Fixtures that several files of tests share; and the same examples in every run, unless one searches for others."""

import os

import pytest
from hypothesis import settings

from saltanvil.demo import low_water

#: `HYPOTHESIS_PROFILE=search ./test` looks at other examples each time.
settings.register_profile("same", derandomize=True)
settings.register_profile("search")
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "same"))


@pytest.fixture(scope="session")
def demo_tracks():
    """The demo's tracks by name, (channels, frames)."""
    return low_water.synthesise()
