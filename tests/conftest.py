"""Fixtures that several files of tests share."""

import pytest

from saltanvil.demo import low_water


@pytest.fixture(scope="session")
def demo_tracks():
    """The demo's tracks by name, (channels, frames)."""
    return low_water.synthesise()
