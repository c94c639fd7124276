"""Resonances of known frequency, width and height, added to noise, music and speech, are found; what is clean is clear."""

import numpy as np
import pytest

from saltanvil.demo import harbour_walk, low_water
from saltanvil.demo.low_water import FAULTS
from saltanvil.dsp.bells import width_to_q
from saltanvil.measure.resonances import verdict_of
from saltanvil.studies.resonances import study
from tests.processors.test_tamer import resonant
from tests.signals import pink

RATE = 48000
#: Seconds of the demo's song: a verse and a chorus.
PASSAGE = slice(12 * RATE, 57 * RATE)


@pytest.fixture(scope="module")
def tracks():
    made = {
        "guitar": low_water.make_guitar(7, 0.0, 0), "organ": low_water.make_organ(), "snare": low_water.make_snare(),
        "overheads": low_water.make_overheads(), "bass": low_water.make_bass(), "water": harbour_walk.make_water(),
        "narrator": harbour_walk.make_narrator(),
    }  # fmt: skip
    return {name: np.ascontiguousarray(sound, np.float32) for name, sound in made.items()}


def nearest(found, hz):
    return min(found, key=lambda one: abs(np.log2(one.frequency_hz / hz)), default=None)


def is_found(found, hz, height_db):
    one = nearest(found, hz)
    return one is not None and abs(np.log2(one.frequency_hz / hz)) < 1 / 12 and abs(one.height_db - height_db) <= 2.0


ADDED = [
    (180.0, 8.0, 10.0),
    (330.0, 3.0, 8.0),
    (520.0, 8.0, 10.0),
    (1000.0, 8.0, 10.0),
    (2500.0, 8.0, 10.0),
    (3100.0, 16.0, 12.0),
]


@pytest.mark.parametrize(("hz", "q", "height_db"), ADDED)
def test_in_noise_every_added_resonance_is_found_and_nothing_else(hz, q, height_db):
    for seed, slope in ((1, 0.0), (2, 1.0)):
        x = pink(seed, 20 * RATE)
        if slope:  # white, which rises by 3 dB an octave in bands of octaves
            x = (0.1 * np.random.default_rng(seed).standard_normal((1, 20 * RATE))).astype(np.float32)
        found = study(resonant(x, hz, q, height_db), RATE)
        assert len(found) == 1 and is_found(found, hz, height_db), found
        assert q / 2 < width_to_q(found[0].width_oct) < 2.5 * q and found[0].time_share > 0.5


MUSIC = [
    ("guitar", 520.0, 8.0, 10.0), ("guitar", 1000.0, 8.0, 10.0), ("guitar", 2500.0, 8.0, 10.0), ("organ", 520.0, 8.0, 10.0),
    ("organ", 1000.0, 8.0, 10.0), ("snare", 1000.0, 8.0, 10.0), ("snare", 2500.0, 8.0, 10.0), ("snare", 3100.0, 16.0, 12.0),
    ("overheads", 1000.0, 8.0, 10.0), ("narrator", 180.0, 8.0, 10.0), ("narrator", 520.0, 8.0, 10.0),
    ("narrator", 2500.0, 8.0, 10.0), ("narrator", 3100.0, 16.0, 12.0),
]  # fmt: skip


def test_in_music_and_speech_added_resonances_are_found_among_notes_and_formants(tracks):
    """Where something sounds: an organ has no partials at 180 Hz, and the height is read from those there are."""
    missed = []
    for name, hz, q, height_db in MUSIC:
        found = study(resonant(tracks[name], hz, q, height_db), RATE)
        if not is_found(found, hz, height_db):
            missed.append((name, hz, nearest(found, hz)))
    assert len(missed) <= 1, missed


@pytest.mark.parametrize("name", ["guitar", "organ", "water", "narrator", "bass", "snare"])
def test_at_most_one_false_finding_a_track(tracks, name):
    """At 6 dB and above; the known faults and a drum's own tones (demo/synth.py) are none."""
    known = (FAULTS.bass_boom_hz, FAULTS.mud_hz, FAULTS.ring_hz, 186.0, 278.0, 331.0)
    for sound in (tracks[name], tracks[name][:, PASSAGE]):
        false = [
            one
            for one in study(np.ascontiguousarray(sound), RATE)
            if one.height_db >= 6.0 and min(abs(np.log2(one.frequency_hz / hz)) for hz in known) > 1 / 12
        ]
        assert len(false) <= 1, false


def test_the_demos_faults_are_found_and_named(tracks):
    ring = study(tracks["overheads"], RATE)
    one = nearest(ring, FAULTS.ring_hz)
    assert one.frequency_hz == pytest.approx(FAULTS.ring_hz, rel=0.01) and one.height_db > 6.0
    assert verdict_of(ring)["ringing"] > 30 and verdict_of(ring)["harshness"] > 30
    mud = study(tracks["organ"], RATE)
    one = nearest(mud, FAULTS.mud_hz)
    assert one.frequency_hz == pytest.approx(FAULTS.mud_hz, rel=0.06) and one.height_db == pytest.approx(FAULTS.mud_db, abs=2.0)
    assert max(verdict_of(mud), key=lambda region: verdict_of(mud)[region]) == "mud"
    boom = study(tracks["bass"], RATE)
    one = nearest(boom, FAULTS.bass_boom_hz)
    assert one.frequency_hz == pytest.approx(FAULTS.bass_boom_hz, rel=0.06)
    assert one.height_db == pytest.approx(FAULTS.bass_boom_db, abs=2.5)
    assert next(region for region, percent in verdict_of(boom).items() if percent) == "boom"


def test_clean_noise_a_sweep_a_tone_and_silence_are_clear():
    t = np.arange(20 * RATE) / RATE
    sweep = 0.5 * np.sin(2 * np.pi * 20 * 20 / np.log(1000) * (np.exp(t / 20 * np.log(1000)) - 1))
    for x in (pink(3, 20 * RATE, 2), sweep[None], np.zeros((2, 5 * RATE)), np.zeros((1, 10)), 0.5 * np.sin(6283.2 * t)[None]):
        assert study(np.ascontiguousarray(x, np.float32), RATE) == []


def test_findings_do_not_depend_on_level_or_rate():
    x = resonant(pink(4, 20 * RATE), 1000.0, 8.0, 10.0)
    loud, quiet = study(x, RATE), study((x * 0.03).astype(np.float32), RATE)
    assert loud == quiet
    for rate in (44100, 96000):
        found = study(resonant(pink(5, 20 * rate), 1000.0, 8.0, 10.0, rate), rate)
        assert is_found(found, 1000.0, 10.0), found


def test_progress_rises_to_the_end():
    told = []
    study(pink(6, 5 * RATE), RATE, told.append)
    assert told == sorted(told) and told[-1] == 1.0
