"""What moves, as the page and the ledger are told."""

import numpy as np
import pytest

from saltanvil.session.address import Address
from saltanvil.session.automation import Automation
from saltanvil.studies.moving import moved_over, moving_values
from tests.engine.test_automation import everything


def test_each_line_is_the_course():
    """Interpolated straight on the setting's scale, the line that is told gives what the engine reads."""
    session = everything()
    automation = Automation(session)
    told = moving_values(session)
    assert len(told) >= 14
    for one in told:
        course = automation.course(Address(of=one.of, id=one.id, name=one.name))
        if course is None:
            assert one.times_s == []
            continue
        times = np.linspace(0.0, 2.0, 777)
        scale = getattr(course, "scale")  # noqa: B009
        places = scale.to_place(np.array(one.values))
        drawn = scale.to_value(np.interp(times, one.times_s, places))
        jumps = np.abs(np.array(one.times_s)[:, None] - times[None, :]).min(axis=0) < 1e-3
        width = float(np.ptp(scale.to_place(np.array([scale.low, scale.high]))))
        off = np.abs(scale.to_place(drawn) - scale.to_place(course.at(times)))
        assert off[~jumps].max() < 0.004 * width, (one.of, one.name)
    level = next(one for one in told if one.name == "level_db" and one.of == "lane")
    assert level.owner == "A lane Wet" and level.levers[0].name == "Drums" and level.face is None


def test_the_ledger_says_what_moves_over_the_passage():
    session = everything()
    texts = [one.text for one in moved_over(session, "b", None, None, 0.0, 2.0)]
    assert texts == ["B: Mute over this passage off to on", "B: Pan over this passage -1 to 1"]
    assert [one.text for one in moved_over(session, "b", None, None, 0.1, 0.7)] == ["B: Pan over this passage -0.9 to -0.3"]
    gate = [one.text for one in moved_over(session, "a", "gate", None, 0.0, 0.5)]
    assert gate == ["Bypass over this passage off to on", "Key trim over this passage -12 to -3 dB"]
    assert moved_over(session, "room", None, None, 0.0, 2.0) == []


@pytest.mark.parametrize("of", ["strip", "session"])
def test_envelopes_are_switched_off_for_a_strip_or_all(of):
    session = everything()
    if of == "session":
        session.envelopes_off = True
    else:
        session.strip("b").envelopes_off = True
    moving = {(one.of, one.id) for one in moving_values(session) if one.times_s}
    assert ("strip", "b") not in moving and (("strip", "main") in moving) == (of == "strip")
