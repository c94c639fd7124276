"""Starting points whose sentences speak of another sound, of both sides, of phrases, or of what a study found: on sounds no
processor was tuned on (`tests.material`), five of each kind. What a sentence means in figures is the project's own reading.
"""

import numpy as np
import pytest
import scipy.signal

from tests.material import RATE, VARIANTS, sound
from tests.studies.test_starting import Tried

BLOCK = 240


def powers(x, block=BLOCK):
    """Mean power of blocks, all sides together."""
    count = x.shape[1] // block
    return (x[:, : count * block].reshape(len(x), count, block) ** 2).mean(axis=(0, 2)) + 1e-14


def gains(tried, block=BLOCK):
    """Change of level of each block in dB; not a number where nothing came in."""
    before = powers(tried.before, block)
    return np.where(before > 1e-9, 10 * np.log10(powers(tried.after, block) / before), np.nan)


def steady(variant):
    """What is pushed down, so that every block tells its gain: noise, in five colours."""
    noise = np.random.default_rng(variant).standard_normal(8 * RATE)
    return 0.1 * scipy.signal.lfilter([1.0], [1.0, -0.2 * variant], noise)


def onsets(key, start, least_db=12.0):
    """Blocks in which a hit begins."""
    level = 10 * np.log10(powers(key[None, start:]))
    rise = level[4:] - np.maximum.reduce([level[: -4 + n or None][: len(level) - 4] for n in range(4)])
    at = np.flatnonzero((rise > least_db) & (level[4:] > level.max() - 12.0)) + 4
    return [one for n, one in enumerate(at) if n == 0 or one - at[n - 1] > 20]


#: What hits push down: the key, by how much at least within 40 ms, and after how long it is back to within how much.
HITS = {
    "kick over bass: out of the way of the hit": ("kick", 6.0, 24, 1.0),
    "snare over the room mics": ("snare", 4.0, 36, 2.0),
}


@pytest.mark.parametrize("variant", VARIANTS)
@pytest.mark.parametrize("name", HITS)
def test_a_hit_moves_the_sound_out_of_its_way_and_lets_it_come_back(name, variant):
    kind, least_db, blocks, left_db = HITS[name]
    key = sound(kind, variant)
    gain = gains(Tried("ducker", name, steady(variant), RATE, 7 * RATE, key=key))
    at = [one for one in onsets(key, RATE) if one + 60 < len(gain)]
    assert len(at) >= 2
    assert all(gain[one : one + 8].min() < -least_db for one in at)
    assert np.median([gain[one + blocks] for one in at]) > -left_db


@pytest.mark.parametrize("variant", VARIANTS)
def test_the_bass_never_seems_to_drop_out(variant):
    key = sound("kick", variant)
    bass = Tried("ducker", "kick over bass: out of the way of the hit", sound("bass", variant), RATE, 7 * RATE, key=key)
    assert -1.0 < bass.louder <= 0.05


def phrases(variant, kind="speech"):
    """Three seconds of a voice, three of nothing."""
    x = sound(kind, variant).copy()
    x[4 * RATE : 7 * RATE] = 0.0
    return x


@pytest.mark.parametrize("variant", VARIANTS)
@pytest.mark.parametrize(
    ("name", "low", "high"), [("voice over music", -9.2, -5.0), ("voice over its own reverb or echo", -14.2, -5.0)]
)
def test_a_voice_pushes_down_while_it_speaks_and_not_in_its_pauses(name, low, high, variant):
    gain = gains(Tried("ducker", name, steady(variant), RATE, 7 * RATE, key=phrases(variant)), 2400)
    speaks, pause = gain[4 : 3 * 20 - 2], gain[5 * 20 : 6 * 20]  # blocks of 50 ms, from the first second on
    assert low <= np.median(speaks) <= high and pause.min() > -1.0
    if name == "voice over music":  # "not between words"
        assert np.percentile(speaks, 90) < -3.0


@pytest.mark.parametrize("variant", VARIANTS)
def test_a_lead_takes_a_hands_breadth_of_the_rhythm(variant):
    gain = gains(
        Tried("ducker", "lead over rhythm: a hand's breadth", steady(variant), RATE, 7 * RATE, key=sound("voice", variant))
    )
    assert -3.1 <= np.nanmin(gain) <= -1.5 and np.nanmax(gain) <= 0.1


@pytest.mark.parametrize("variant", VARIANTS)
def test_it_breathes_with_the_beat(variant):
    kick = np.zeros(8 * RATE)
    one = sound("kick", variant)
    first = int(np.argmax(np.abs(one)))
    for at in range(0, 8 * RATE - RATE, RATE // 2):  # quarters at 120 bpm
        kick[at : at + RATE // 4] += one[first : first + RATE // 4]
    gain = gains(Tried("ducker", "breathing with the beat", steady(variant), RATE, 7 * RATE, key=kick)).reshape(-1, 100)
    assert (gain.min(axis=1) < -9.0).all() and (gain[:, -10:].mean(axis=1) > -1.0).all()


# ---- both sides ------------------------------------------------------------------------------------------------------------


def wide(kind, variant):
    """A sound with sides of its own: two others, 6 dB down."""
    return np.stack([sound(kind, variant) + 0.5 * sound("keys", variant), sound(kind, variant) + 0.5 * sound("guitar", variant)])


def side(x, low, high):
    sos = scipy.signal.butter(4, (low, high), "band", fs=RATE, output="sos")
    return 20 * np.log10(scipy.signal.sosfilt(sos, x[0] - x[1]).std() + 1e-12)


@pytest.mark.parametrize("variant", VARIANTS)
def test_stereo_starting_points_do_what_they_say(variant):
    x = wide("mix", variant)
    lows = Tried("stereo", "bus: mono lows", x)
    assert side(lows.after, 30, 80) < side(lows.before, 30, 80) - 5.0
    assert side(lows.after, 400, 8000) == pytest.approx(side(lows.before, 400, 8000), abs=0.3)
    for name, by_db in (("overheads: a little wider", 20 * np.log10(1.3)), ("pad: narrow, out of the way", 20 * np.log10(0.6))):
        tried = Tried("stereo", name, x)
        assert side(tried.after, 200, 8000) == pytest.approx(side(tried.before, 200, 8000) + by_db, abs=0.1), name
        assert np.allclose(tried.after.sum(axis=0), tried.before.sum(axis=0), atol=1e-4), "a mono sum stays"
    voice = sound("voice", variant)
    off = Tried("stereo", "voice recorded off the middle", np.stack([0.8 * voice, voice]))  # to the right
    apart = lambda x: 20 * np.log10(x[0].std() / x[1].std())  # noqa: E731
    assert abs(apart(off.after)) < abs(apart(off.before)) - 1.0
    low = sound("bass", variant)
    turned = Tried("stereo", "check for cancellation", np.stack([low, -0.9 * low]))
    assert turned.after.sum(axis=0).std() > 10.0 * turned.before.sum(axis=0).std()


@pytest.mark.parametrize("variant", VARIANTS)
def test_an_offset_goes_and_nothing_else(variant):
    tried = Tried("stereo", "clean a track with an offset", sound("voice", variant) + 0.05, 3 * RATE, 7 * RATE)
    assert abs(tried.before.mean()) > 0.04 and abs(tried.after.mean()) < 2e-3
    hz, before = scipy.signal.welch(tried.before[0], RATE, nperseg=16384)
    after = scipy.signal.welch(tried.after[0], RATE, nperseg=16384)[1]
    for low in (30, 60, 120, 1000, 8000):
        octave = (hz >= low) & (hz < 2 * low)
        assert abs(10 * np.log10(after[octave].sum() / before[octave].sum())) < 0.1, low


# ---- phrases -----------------------------------------------------------------------------------------------------------------

#: The leveller's starting points: the sound, by how much its phrases of sixteen seconds differ, and what is left of that at most.
PHRASES = {
    "voice: verse and chorus nearer": ("voice", 8.0, 6.0),
    "speech: far and near speakers": ("speech", 12.0, 4.0),
    "music bed: keep it under": ("mix", 8.0, 5.0),
    "guitar: parts from several takes": ("guitar", 8.0, 4.0),
}


def in_phrases(kind, variant, apart_db):
    x = np.concatenate([sound(kind, variant)] * 8)
    return x * np.repeat([1.0, 10 ** (-apart_db / 20), 1.0, 10 ** (-apart_db / 20)], 16 * RATE)


def spread(x):
    """Between phrases, in dB; each judged once its level has been reached."""
    level = [10 * np.log10((x[:, at + 8 * RATE : at + 16 * RATE] ** 2).mean()) for at in range(0, 48 * RATE, 16 * RATE)]
    return np.ptp(level)


@pytest.mark.parametrize("name", PHRASES)
def test_phrases_come_nearer(name):
    kind, apart_db, left_db = PHRASES[name]
    for variant in VARIANTS:
        tried = Tried("leveller", name, in_phrases(kind, variant, apart_db), 16 * RATE, 64 * RATE)
        assert spread(tried.before) == pytest.approx(apart_db, abs=0.1) and spread(tried.after) < left_db
        # no word, and no edit, is a step: a second's level moves by at most the phrases' distance in two seconds
        gain = gains(tried, RATE)
        assert np.nanmax(np.abs(np.diff(gain))) < apart_db / 2.0
        if name.startswith("music bed"):  # "never draw attention by getting louder"
            assert powers(tried.after, RATE).max() < powers(tried.before, RATE).max()


@pytest.mark.parametrize("variant", VARIANTS)
def test_a_gentle_hand_leaves_the_contrast(variant):
    """ "They should differ almost as before": 8 dB between sections stay at least 5."""
    tried = Tried("leveller", "bus: gentle hand on the fader", in_phrases("mix", variant, 8.0), 16 * RATE, 64 * RATE)
    assert 5.0 < spread(tried.after) < 8.1


@pytest.mark.parametrize("variant", VARIANTS)
def test_the_louder_it_is_played_the_softer_it_comes_out(variant):
    """Above the corner: a tone in steps of 3 dB."""
    t = np.arange(RATE) / RATE
    x = np.concatenate(
        [10 ** (db / 20) * np.sin(2 * np.pi * (110 + 30 * variant) * t) for db in (-30, -22, -19, -16, -13, -10, -7)]
    )
    tried = Tried("freecurve", "duck the loud parts under the rest", x, 0, 7 * RATE)
    levels = [10 * np.log10((tried.after[:, at + RATE // 2 : at + RATE] ** 2).mean()) for at in range(0, 7 * RATE, RATE)]
    assert levels[1] > levels[0] and all(one > other for one, other in zip(levels[3:], levels[4:], strict=False))


# ---- what a study found ------------------------------------------------------------------------------------------------------

#: The tamer's starting points that want a study: the sound, and a ring of 10 dB that the study is to have found.
RINGS = {
    "voice: boxiness and harshness": ("voice", 450.0, 4.0),
    "organ and keys: mud": ("keys", 260.0, 3.0),
    "overheads: ringing": ("overheads", 2600.0, 12.0),
    "narrator in a small room": ("speech", 320.0, 6.0),
}


def ringing(x, hz, q, db=10.0):
    """A bell (Audio EQ Cookbook, R. Bristow-Johnson)."""
    a, w = 10 ** (db / 40), 2 * np.pi * hz / RATE
    alpha = np.sin(w) / (2 * q)
    b = [1 + alpha * a, -2 * np.cos(w), 1 - alpha * a]
    return scipy.signal.lfilter(b, [1 + alpha / a, -2 * np.cos(w), 1 - alpha / a], x)


@pytest.mark.parametrize("name", RINGS)
def test_what_a_study_found_is_taken_and_the_rest_stays(name):
    kind, hz, q = RINGS[name]
    found = {"frequency_hz": hz, "width_oct": round(float(2 * np.arcsinh(1 / (2 * q)) / np.log(2)), 3), "height_db": 10.0}
    for variant in VARIANTS:
        tried = Tried("tamer", name, ringing(sound(kind, variant), hz, q), resonances=[found])
        elsewhere = 4.0 * hz if hz < 1000 else hz / 2.0
        near, away = (tried.band(one / 1.1, one * 1.1) for one in (hz, elsewhere))
        assert away - near > 2.0, (variant, near, away)
        assert abs(tried.louder) < 0.6


@pytest.mark.parametrize("variant", VARIANTS)
def test_room_is_made_where_the_other_sound_sticks_out(variant):
    """A key that rings at 1 kHz: there the sound gives way, and elsewhere much less."""
    t = np.arange(8 * RATE) / RATE
    key = 0.02 * np.random.default_rng(variant).standard_normal(len(t)) + 0.2 * np.sin(2 * np.pi * 1000 * t)
    tried = Tried("tamer", "make room for another sound", steady(variant), key=key)
    assert tried.band(940, 1060) < -1.5 and tried.band(3000, 9000) > -0.7
