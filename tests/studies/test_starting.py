"""Starting points against their own sentences, on sounds no processor was tuned on (`tests.material`), five of each kind.

Loudness is measured by pyloudnorm (filter "DeMan", ITU-R BS.1770), levels of bands by scipy.signal, the rest by NumPy; what a
sentence means in figures is the project's own reading.
"""

import numpy as np
import pyloudnorm
import pytest
import scipy.signal

from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Arrays
from saltanvil.engine.render import render_nodes
from saltanvil.processors import REGISTRY
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.session import Session
from saltanvil.session.graph import NodeId
from saltanvil.studies.aim import Search
from saltanvil.studies.match.match import with_current_matches
from saltanvil.studies.starting import started, starting
from tests.material import RATE, VARIANTS, sound

START, STOP = RATE, 5 * RATE


class Tried:
    """A starting point applied to a sound: what goes in and comes out over the passage."""

    def __init__(self, kind, name, x, start=START, stop=STOP, key=None, **more):
        """key: what an outside key hears, (frames,); more: settings that the step has before."""
        step = {"id": "s", "kind": kind, "settings": more}
        if key is not None:
            step["key"] = {"strip_id": "k"}
        if REGISTRY[kind].matched:
            step["match_over"] = {"start_s": start / RATE, "end_s": stop / RATE}
        session = Session.model_validate({"name": "S", "strips": [
            {"id": "main", "name": "Main", "kind": "main", "output": None},
            {"id": "t", "name": "T", "kind": "track", "media_id": 0, "path": {"steps": [step]}},
            *([] if key is None else [{"id": "k", "name": "K", "kind": "track", "media_id": 1}]),
        ]})  # fmt: skip
        x = np.atleast_2d(np.asarray(x, np.float32))
        media, cache = Arrays(x, *([] if key is None else [np.atleast_2d(np.asarray(key, np.float32))])), SegmentCache()
        self.result = starting(session, "s", name, lambda one, question: Search(one, question, media, cache, start, stop))
        after = with_current_matches(started(session, "s", self.result.settings), media)
        self.before = x[:, start:stop].astype(float)
        blocks = [block for (block,) in render_nodes(after, media, [NodeId("end", "t")], start, stop)]
        self.after = np.concatenate(blocks, axis=1).astype(float)

    @property
    def louder(self):
        meter = pyloudnorm.Meter(RATE, filter_class="DeMan")
        before = np.repeat(self.before, len(self.after) // len(self.before), axis=0)
        return meter.integrated_loudness(self.after.T) - meter.integrated_loudness(before.T)

    @property
    def peak_down(self):
        return 20 * np.log10(np.abs(self.before).max() / np.abs(self.after).max())

    @property
    def moved(self):
        """What is changed beyond a gain, in dB re the sound."""
        gain = (self.after * self.before).sum() / (self.before**2).sum()
        return 20 * np.log10((self.after / gain - self.before).std() / self.before.std() + 1e-9)

    def band(self, low, high):
        """By how much a band rises."""
        sos = scipy.signal.butter(4, (low, high), "band", fs=RATE, output="sos")
        before, after = (scipy.signal.sosfilt(sos, x).std() for x in (self.before, self.after))
        return 20 * np.log10(after / before)

    def levels(self, x, block=2400):
        """RMS of blocks of 50 ms, loudest first, in dB."""
        powers = (x[0, : x.shape[1] // block * block].reshape(-1, block) ** 2).mean(axis=1)
        return np.sort(10 * np.log10(powers + 1e-12))[::-1]

    @property
    def touched(self):
        """Share of the blocks of 50 ms whose gain moves by over 1 dB against the usual one."""
        blocks = self.before.shape[1] // 2400
        shape = (blocks, 2400)
        before, after = ((x[0, : blocks * 2400].reshape(shape) ** 2).mean(axis=1) for x in (self.before, self.after))
        loud = before > before.max() * 1e-4
        gains = 10 * np.log10(after[loud] / before[loud])
        return float((np.abs(gains - np.median(gains)) > 1.0).mean())


def same_loudness(tried):
    assert abs(tried.louder) < 0.15


def peaks_down(low, high):
    def check(tried):
        assert low <= tried.peak_down <= high

    return check


def costs_at_most(lu):
    def check(tried):
        assert -lu <= tried.louder <= 0.1

    return check


def does_something(tried):
    assert tried.moved > -40.0


def touches_at_most(share):
    def check(tried):
        assert tried.touched <= share

    return check


def rises(low, high, least, most=24.0):
    def check(tried):
        assert least <= tried.band(low, high) <= most

    return check


def nearer(tried):
    """Loud and soft lie nearer together: the loudest blocks and those of which a quarter is softer."""
    before, after = (np.subtract(*np.percentile(tried.levels(x), (95, 25))) for x in (tried.before, tried.after))
    assert after < before - 0.4


def soft_falls(least, low_db=12.0, high_db=45.0):
    """Blocks of 50 ms that lie between low_db and high_db under the loudest fall by so much more than the loud ones: a quarter
    of them at least (the rest holds the ends of what is loud)."""

    def check(tried):
        blocks = tried.before.shape[1] // 2400
        before, after = (
            (x[0, : blocks * 2400].reshape(blocks, 2400) ** 2).mean(axis=1) + 1e-14 for x in (tried.before, tried.after)
        )
        under, gain = 10 * np.log10(before.max() / before), 10 * np.log10(after / before)
        soft = (under > low_db) & (under < high_db)
        assert soft.sum() >= 2 and np.median(gain[under < 6.0]) - np.percentile(gain[soft], 25) >= least

    return check


def louder_by(least, most):
    def check(tried):
        assert least <= tried.louder <= most

    return check


#: What each sentence promises: the sound it is about, and the checks.
PROMISES = {
    ("compressor", "snare: tighten, keep the crack"): ("snare", (same_loudness, peaks_down(-6.0, 0.0))),
    ("compressor", "bass: even notes"): ("bass", (same_loudness, nearer)),
    ("compressor", "voice: hold it in front"): ("voice", (same_loudness, nearer)),
    ("compressor", "drums: parallel weight"): ("drums", (same_loudness, nearer)),
    ("compressor", "bus: glue"): ("mix", (same_loudness, does_something)),
    ("compressor", "speech: steady narrator"): ("speech", (same_loudness, nearer)),
    ("freecurve", "gate and compressor in one"): ("speech", (same_loudness, does_something)),
    ("freecurve", "soft sounds up, loud sounds as they are"): ("voice", (same_loudness, nearer)),
    ("freecurve", "two thresholds: gentle, then firm"): ("speech", (same_loudness, does_something)),
    ("limiter", "bus: the last two decibels"): ("mix", (touches_at_most(0.3),)),
    ("limiter", "bus: louder, still clean"): ("mix", (louder_by(0.5, 9.0),)),
    ("limiter", "snare: even hits"): ("snare", (peaks_down(3.8, 4.2), touches_at_most(0.4))),
    ("limiter", "voice: catch the shouts"): ("voice", (peaks_down(2.8, 3.2), touches_at_most(0.4), costs_at_most(2.0))),
    ("limiter", "speech: level after make-up"): ("speech", (does_something,)),
    ("clipper", "drums: 6 dB of peaks for nothing"): ("drums", (peaks_down(5.9, 6.1), costs_at_most(0.7))),
    ("clipper", "snare: stray hits in line"): ("snare", (peaks_down(2.9, 3.2), costs_at_most(0.5))),
    ("clipper", "kick: keep the low clear"): ("kick", (rises(30, 100, -0.3, 0.3), does_something)),
    ("clipper", "bass: round the top of the waves"): ("bass", (peaks_down(2.9, 3.1), costs_at_most(1.0))),
    ("clipper", "bus: middle only, air untouched"): ("mix", (rises(10000, 16000, -0.3, 0.3), does_something)),
    ("clipper", "parallel crunch"): ("drums", (same_loudness, does_something)),
    ("deesser", "voice: soften s and sh"): ("voice", (rises(100, 2000, -0.3, 0.1),)),
    ("deesser", "harsh upper middle"): ("voice", (rises(100, 1000, -0.5, 0.2), rises(2600, 3800, -4.0, -0.1))),
    ("deesser", "overheads: keep the shine, lose the grain"): ("overheads", (rises(4500, 8000, -4.0, -0.1),)),
    ("saturator", "organ and keys: even warmth"): ("keys", (same_loudness, does_something)),
    ("saturator", "bass: cut through the guitars"): ("bass", (same_loudness, rises(600, 3000, 1.5, 8.0))),
    ("saturator", "kick: weight from the core"): ("kick", (same_loudness, rises(100, 300, 0.3))),
    ("saturator", "just before the limiter: peaks rounded"): ("mix", (peaks_down(1.9, 2.1),)),
    ("lowend", "bass: small speakers"): ("bass", (rises(180, 1200, 1.0),)),
    ("lowend", "weight about 100 Hz"): ("bass", (rises(76, 160, 0.8), rises(1000, 8000, -0.5, 0.5))),
    ("lowend", "kick: an octave of body"): ("kick", (rises(70, 160, 0.4),)),
    ("equaliser", "bus: a little air"): ("mix", (rises(10000, 18000, 1.2, 2.5), rises(100, 2000, -0.3, 0.3))),
    ("equaliser", "anything: rumble out"): ("bass", (rises(41, 200, -0.4, 0.3),)),
    ("shaper", "plucked strings: more fingers"): ("guitar", (same_loudness, does_something)),
    ("gate", "voice: room out between phrases"): ("speech", (costs_at_most(0.3),)),
    ("gate", "snare: only the hits"): ("snare", (peaks_down(-0.1, 0.3), costs_at_most(0.7), soft_falls(2.0, 24.0, 60.0))),
    ("gate", "kick: keep the hats out"): ("kick and hats", (rises(9000, 16000, -40.0, -2.0), rises(40, 120, -0.7, 0.1))),
    ("gate", "drum: open on the click"): ("kick", (peaks_down(-0.1, 0.3), costs_at_most(0.7))),
    ("gate", "guitar: hum in the rests"): ("guitar and hum", (costs_at_most(0.3),)),
    ("gate", "room mic: short burst"): ("room_mic", (peaks_down(-0.1, 0.3), soft_falls(6.0, 20.0, 60.0))),
    ("expander", "voice: breaths down"): ("breathing voice", (costs_at_most(0.4), soft_falls(3.0, 26.0, 36.0))),
    ("expander", "overheads: less bleed between hits"): ("overheads", (costs_at_most(0.9), soft_falls(1.0, 18.0))),
    ("expander", "snare: more contrast to ghost notes"): ("snare", (louder_by(-1.0, 0.5), soft_falls(1.5))),
    ("expander", "mix: restore contrast"): ("mix", (costs_at_most(1.0), soft_falls(0.4, 9.0))),
    ("expander", "speech: room noise down"): ("speech and pauses", (costs_at_most(0.3), soft_falls(6.0, 42.0, 75.0))),
    ("expander", "guitar: tighter stops"): ("guitar", (costs_at_most(0.4),)),
    ("shaper", "snare: more crack, less ring"): ("snare", (peaks_down(-8.0, -2.5), soft_falls(1.5))),
    ("shaper", "kick: shorter and tighter"): ("kick", (soft_falls(2.0), peaks_down(-6.0, 0.5))),
    ("shaper", "overheads: soften the sticks"): ("overheads", (peaks_down(1.5, 9.0), costs_at_most(4.0))),
    ("shaper", "room: bring up the space"): ("room_mic", (nearer, louder_by(0.5, 9.0))),
    ("shaper", "two shelves: tilt it brighter"): ("mix", (rises(6000, 16000, 1.0, 2.2), rises(40, 120, -2.2, -1.0))),
    ("deesser", "voice: one whistling pitch"): ("whistling voice", (rises(6800, 7200, -12.0, -2.0), rises(100, 4000, -0.2, 0.1))),
    ("deesser", "speech: close microphone"): ("speech", (rises(100, 2000, -0.3, 0.1), rises(5000, 11000, -8.0, -0.2))),
    ("deesser", "hard and fast, everything down"): ("speech", (rises(5000, 11000, -9.0, -0.5), touches_at_most(0.35))),
    ("saturator", "drums bus: round the hits"): ("drums", (same_loudness, peaks_down(0.5, 9.0), rises(10000, 16000, -3.5, 3.0))),
    ("saturator", "voice: nearer"): ("voice", (same_loudness, does_something)),
    ("saturator", "guitars: attacks and edge back"): ("guitar", (same_loudness, does_something)),
    ("saturator", "parallel dirt"): ("mix", (does_something,)),
    ("lowend", "kick: small speakers"): ("kick", (rises(180, 1200, 0.5),)),
    ("lowend", "low synthetic tone: a pitch to follow"): ("low tones", (rises(200, 1200, 6.0, 200.0),)),
    ("lowend", "bus: the low end a little clearer"): ("mix", (rises(180, 800, 0.1, 3.0), rises(3000, 16000, -0.3, 0.3))),
    ("equaliser", "voice: clear and near"): ("voice", (rises(2800, 4400, 1.5, 2.8), rises(180, 330, -2.8, -1.0))),
    ("equaliser", "kick: out of the bass's way"): ("kick", (rises(2500, 5000, 1.5, 3.2), rises(250, 400, -4.2, -2.5))),
    ("equaliser", "guitars: less mud"): ("guitar", (rises(200, 360, -3.7, -2.0), rises(1500, 8000, -0.6, 0.2))),
    ("equaliser", "overheads: find a ring"): ("overheads", (rises(4100, 4300, -8.2, -4.0), rises(9000, 16000, -0.3, 0.3))),
    ("limiter", "kick: weight on the low end"): ("kick", (louder_by(0.5, 7.0),)),
    ("tamer", "full mix: smoother, without a study"): ("mix", (does_something, costs_at_most(0.3))),
    ("echo", "voice: dotted eighths"): ("voice", (same_loudness, does_something)),
    ("echo", "one short repeat for width"): ("guitar", (same_loudness, does_something)),
    ("echo", "guitar: eighths from side to side"): ("guitar", (same_loudness, does_something)),
    ("echo", "snare: a sixteenth behind it"): ("snare", (same_loudness, peaks_down(-1.0, 1.0), does_something)),
    ("echo", "long tail of quarters"): ("voice", (same_loudness, does_something)),
    ("room", "voice: a small room around it"): ("voice", (same_loudness, does_something)),
    ("room", "snare: a second behind it"): ("snare", (same_loudness, nearer)),
    ("room", "drums: short and bright"): ("drums", (same_loudness, does_something)),
    ("room", "organ and strings: a church"): ("keys", (same_loudness, does_something)),
    ("freecurve", "hold everything at one level"): ("drums", (does_something, peaks_down(-2.0, 6.0))),
    ("freecurve", "expand the middle, keep the peaks"): ("drums", (soft_falls(1.5), peaks_down(-3.0, 6.0))),
}  # fmt: skip


def material_of(name, variant):
    """One of the frozen sounds, or one with what a sentence speaks of beside it."""
    t = np.arange(round(8.0 * RATE)) / RATE
    if name == "kick and hats":
        return sound("kick", variant) + 0.1 * sound("overheads", variant)
    if name == "guitar and hum":
        return sound("guitar", variant) + 0.002 * np.sin(2 * np.pi * 50 * t)
    if name == "whistling voice":
        bursts = np.maximum(np.sin(2 * np.pi * 1.3 * t), 0.0) ** 8
        return sound("voice", variant) + 0.1 * bursts * np.sin(2 * np.pi * 7000 * t)
    if name == "speech and pauses":
        noise = 0.0008 * np.random.default_rng(variant).standard_normal(len(t))
        return np.where(t % 1.6 < 1.0, sound("speech", variant), noise)
    if name == "breathing voice":
        voice = sound("voice", variant)
        breaths = np.random.default_rng(variant).standard_normal(len(t)) * (t % 1.6 < 0.3)
        return voice * (t % 1.6 >= 0.35) + 0.008 * breaths
    if name == "low tones":
        hz = 40.0 * 2.0 ** (variant / 12.0) * np.where(t % 1.0 < 0.5, 1.0, 1.335)
        return 0.4 * np.sin(2 * np.pi * t * hz) * np.sin(np.pi * (t % 0.5) / 0.5) ** 2
    return sound(name, variant)


@pytest.mark.parametrize(("kind", "name"), PROMISES, ids=lambda part: part)
def test_it_does_what_its_sentence_says(kind, name):
    material, checks = PROMISES[kind, name]
    assert len(VARIANTS) == 5
    for variant in VARIANTS:
        tried = Tried(kind, name, material_of(material, variant))
        for check in checks:
            check(tried)


def test_every_aim_of_a_starting_point_is_one_that_its_step_can_be_asked_for():
    for processor in REGISTRY.values():
        aims = {aim.name: aim for aim in processor.aims}
        for start in processor.starts:
            for figure, target, setting in start.aims:
                assert setting in aims[figure].settings and aims[figure].low <= target <= aims[figure].high


def test_the_level_it_was_recorded_at_makes_no_difference():
    """Twelve decibels softer, the same compression: that is what an aim is for."""
    x = sound("voice", 0)
    loud, soft = (Tried("compressor", "voice: hold it in front", gain * x) for gain in (1.0, 0.25))
    assert 10.0 < loud.result.settings["threshold_db"] - soft.result.settings["threshold_db"] < 14.0
    assert np.allclose(0.25 * loud.after, soft.after, atol=0.02 * np.abs(soft.after).max())


def test_a_voice_without_an_s_is_not_turned_down_for_one():
    t = np.arange(6 * RATE) / RATE
    hum = 0.1 * sum(np.sin(2 * np.pi * 140 * n * t) / n for n in range(1, 20))
    tried = Tried("deesser", "voice: soften s and sh", hum)
    assert tried.moved < -30.0 and tried.result.settings["threshold_db"] >= -12.0


def test_silence_leaves_the_settings_as_they_are():
    kind, name = "compressor", "bus: glue"
    fixed = next(start.settings for start in REGISTRY[kind].starts if start.name == name)
    assert Tried(kind, name, np.zeros(6 * RATE)).result.settings == fixed
    with pytest.raises(NotFound, match="no starting point 'glue'"):
        Tried(kind, "glue", np.zeros(6 * RATE))


def test_phrases_come_nearer_under_the_leveller():
    """Phrases of four seconds, 8 dB apart: what single notes do is another matter."""
    x = np.concatenate([sound("bass", 0), sound("bass", 1)]) * np.repeat([1.0, 0.4, 1.0, 0.4], 4 * RATE)
    tried = Tried("leveller", "bass: soft and loud phrases nearer", x, 4 * RATE, 16 * RATE)
    levels = lambda x: 10 * np.log10((x[0].reshape(3, -1) ** 2).mean(axis=1))  # noqa: E731
    before, after = levels(tried.before), levels(tried.after)
    assert np.ptp(after) < np.ptp(before) - 2.5
