"""Giving a lane the loudness back that its steps took: an aim, found on the passage."""

from saltanvil.engine.scope import Compared
from saltanvil.measure.figures import match_db


def make_up_level_db(found: Compared, level_db: float, rate: int) -> float:
    """The level at which a lane leaves as loud as it enters. found: the lane's scope; level_db: its present level."""
    return level_db - match_db(found.before, found.after, rate)
