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

    def __init__(self, kind, name, x, start=START, stop=STOP):
        step = {"id": "s", "kind": kind, "settings": {}}
        if REGISTRY[kind].matched:
            step["match_over"] = {"start_s": start / RATE, "end_s": stop / RATE}
        session = Session.model_validate({"name": "S", "strips": [
            {"id": "main", "name": "Main", "kind": "main", "output": None},
            {"id": "t", "name": "T", "kind": "track", "media_id": 0, "path": {"steps": [step]}},
        ]})  # fmt: skip
        x = np.atleast_2d(np.asarray(x, np.float32))
        media, cache = Arrays(x), SegmentCache()
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
    ("room", "narrator: a room nobody notices"): ("speech", (louder_by(-1.5, 0.5), does_something)),
}  # fmt: skip


@pytest.mark.parametrize(("kind", "name"), PROMISES, ids=lambda part: part)
def test_it_does_what_its_sentence_says(kind, name):
    material, checks = PROMISES[kind, name]
    assert len(VARIANTS) == 5
    for variant in VARIANTS:
        tried = Tried(kind, name, sound(material, variant))
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
