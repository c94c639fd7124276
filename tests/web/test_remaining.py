"""Time left: told from the speed that was seen, and only once something was seen."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from saltanvil.web.remaining import LEAST_S, ROUGH_FRACTION, ROUGH_S, Remaining


class Clock:
    at_s = 100.0

    def __call__(self):
        return self.at_s


def test_nothing_is_said_before_anything_was_seen_and_a_beginning_is_rough():
    clock = Clock()
    remaining = Remaining(clock)
    assert remaining.left().seconds is None
    remaining.add(0.005)
    clock.at_s += 60.0
    assert remaining.left().seconds is None  # a hundredth was not reached in a minute
    remaining.add(0.1)
    assert remaining.left().rough and remaining.left().seconds > 0.0


@given(st.floats(2.0, 5000.0), st.floats(0.02, 0.99), st.integers(20, 400))
def test_at_a_steady_speed_it_is_right_from_the_start(whole_s, fraction, steps):
    clock = Clock()
    remaining = Remaining(clock)
    for step in range(1, steps + 1):
        clock.at_s = 100.0 + whole_s * fraction * step / steps
        remaining.add(fraction * step / steps)
    left = remaining.left()
    if whole_s * fraction < LEAST_S:
        assert left.seconds is None
    else:
        assert left.seconds == pytest.approx(whole_s * (1.0 - fraction), rel=0.02)
        assert left.rough == (fraction < ROUGH_FRACTION or whole_s * fraction < ROUGH_S)


def test_a_slow_start_is_forgotten_and_a_standstill_noticed():
    clock = Clock()
    remaining = Remaining(clock)
    for second in range(1, 21):  # 20 s for a tenth, then a hundredth a second
        clock.at_s = 100.0 + second
        remaining.add(0.005 * second)
    for second in range(1, 41):
        clock.at_s = 120.0 + second
        remaining.add(0.1 + 0.01 * second)
    assert remaining.left().seconds == pytest.approx(50.0, rel=0.05)
    clock.at_s += 60.0
    assert remaining.left().seconds > 100.0


def test_waiting_for_its_turn_is_no_work():
    clock = Clock()
    remaining = Remaining(clock)
    clock.at_s += 1000.0
    remaining.begin()
    clock.at_s += 10.0
    remaining.add(0.5)
    assert remaining.left().seconds == pytest.approx(10.0)
