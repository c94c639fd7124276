"""Giving a lane the loudness back that its steps took: an aim, found on the passage."""

from saltanvil.studies.passage import Passage


def make_up_level_db(result: Passage, level_db: float) -> float:
    """The level at which a lane leaves as loud as it enters. found: the lane's scope; level_db: its present level."""
    return level_db - result.louder_db
