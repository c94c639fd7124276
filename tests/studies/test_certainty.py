"""What a study is sure of: resonances that were added (Audio EQ Cookbook bells), and not what a sound is made of. On sounds that
neither the study nor its constants were tuned on (variant 3 of `tests.material`); what is asked for is the project's own.
"""

import numpy as np

from saltanvil.dsp.bells import bell_db
from saltanvil.measure.resonances import SURE
from saltanvil.studies.certainty import View, certainty
from saltanvil.studies.resonances import study
from tests.material import KINDS, RATE, sound
from tests.studies.test_starting_keyed import ringing

OCTAVES = np.linspace(6.0, 13.0, 169)


def view(roughness_db, height_db=0.0, hz=1000.0, q=6.0, seed=0):
    rough = roughness_db * np.random.default_rng(seed).standard_normal(len(OCTAVES))
    return View(OCTAVES, -4.5 * (OCTAVES - 6.0) + rough + bell_db(2.0**OCTAVES, hz, q, height_db), np.ones(len(OCTAVES)), False)


def test_certainty_rises_with_height_falls_with_roughness_and_needs_all_views():
    smooth = [view(1.0, height, seed=1) for height in (1.0, 6.5, 10.0)]
    low, middle, high = (certainty([one] * 3, 1000.0, 6.0, 8.0) for one in smooth)
    assert low < SURE < middle < high < 1.0
    assert certainty([view(6.0, 8.0, seed=2)] * 3, 1000.0, 6.0, 8.0) < SURE
    assert certainty([view(1.0, 5.0), view(1.0), view(1.0)], 1000.0, 6.0, 8.0) < SURE
    assert certainty([], 1000.0, 6.0, 8.0) == 0.0
    nothing = View(OCTAVES, np.zeros(len(OCTAVES)), np.zeros(len(OCTAVES)), True)
    assert certainty([nothing], 1000.0, 6.0, 8.0) == 0.0


def test_clean_sounds_are_left_alone_and_added_rings_are_not():
    """One sure finding of 6 dB in every second clean sound at most; of the added rings that are found, two of three are sure."""
    false, found, sure = 0, 0, 0
    for number, kind in enumerate(list(KINDS)[::2]):
        x, hz = sound(kind, 3), (180.0, 450.0, 1100.0, 2700.0)[number % 4]
        clean, rung = (study(np.asarray(sound_, np.float32)[None], RATE) for sound_ in (x, ringing(x, hz, 8.0)))
        false += sum(one.on and one.height_db >= 6.0 for one in clean)
        near = [one for one in rung if abs(np.log2(one.frequency_hz / hz)) < 1 / 12]
        found += bool(near)
        sure += any(one.on for one in near)
        assert all(one.on == (one.certainty >= SURE) for one in [*clean, *rung])
    assert false <= 3 and found >= 2 and 3 * sure >= 2 * found, (false, found, sure)
