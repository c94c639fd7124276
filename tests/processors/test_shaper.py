"""The transient shaper on low sounds, whose crests lie further apart than an attack is long; the bounds are our own."""

import numpy as np
import pytest

from tests.material import one_kick, one_snare, place, plucked
from tests.processors.test_processors import RATE, db, run


@pytest.mark.parametrize("hz", [41.2, 61.7, 82.4, 110.0, 164.8])
def test_a_steady_low_sound_is_left_alone(hz):
    """A gain that followed the wave would distort it (-19 dB at 41 Hz for 6 dB of attack, before crests were held)."""
    t = np.arange(3 * RATE) / RATE
    x = sum(a * np.sin(2 * np.pi * n * hz * t + n) for n, a in ((1, 0.3), (2, 0.15), (3, 0.1)))
    for more in ({}, {"full_range": True}):
        y, _ = run("shaper", x, attack_db=6.0, sustain_db=-6.0, **more)
        assert db((y[0] - x)[RATE:].std() / x.std()) < -40.0


def notes(make, every_s):
    """Sixteen of uneven strength, and where they begin."""
    rng = np.random.default_rng(3)
    line, starts = np.zeros(round((16 * every_s + 1.0) * RATE)), [0.2 + k * every_s for k in range(16)]
    for start in starts:
        place(line, start, make(rng), 0.2 * float(10.0 ** (-abs(rng.normal(0.0, 3.0)) / 20.0)))
    return line, starts


@pytest.mark.parametrize(
    ("make", "every_s", "least"),
    [
        (lambda rng: plucked(rng, 41.2 * 2.0 ** (rng.choice([0, 3, 5, 7, 10, 12]) / 12.0), 0.5, 1.3), 0.4, 3.5),
        (lambda rng: plucked(rng, 110.0 * 2.0 ** (rng.choice([0, 3, 5, 7]) / 12.0), 0.8, 1.0), 0.4, 4.0),
        (lambda rng: one_snare(rng, 190.0), 0.5, 5.5),
        (lambda rng: one_kick(rng, 52.0), 0.5, 5.5),
    ],
    ids=["bass", "guitar", "snare", "kick"],
)
def test_six_decibels_of_attack_are_nearly_six(make, every_s, least):
    """The highest of each note's first 30 ms, on average; a note that begins while another rings rises by less."""
    x, starts = notes(make, every_s)
    y, _ = run("shaper", x, attack_db=6.0)
    rise = []
    for start in starts[2:]:
        stretch = slice(round(start * RATE), round((start + 0.03) * RATE))
        rise.append(db(np.abs(y[0, stretch]).max() / np.abs(x[stretch]).max()))
    assert least < np.mean(rise) <= 6.1 and max(rise) < 6.2
