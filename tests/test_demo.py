"""The demo's faults are there, in the size that is written down (invented data)."""

import numpy as np
import pytest

from saltanvil.demo import low_water as demo
from saltanvil.demo.synth import RATE
from saltanvil.engine.render import render_strips
from saltanvil.engine.through import Arrays
from saltanvil.measure.figures import figures_of

FAULTS = demo.FAULTS


@pytest.fixture
def tracks(demo_tracks):
    return demo_tracks


def db(value):
    return 20 * np.log10(value)


def spectrum_db(x, low, high):
    """Mean power between two frequencies, in dB."""
    power = np.abs(np.fft.rfft(x * np.hanning(len(x)))) ** 2
    hz = np.fft.rfftfreq(len(x), 1 / RATE)
    return 10 * np.log10(power[(hz >= low) & (hz < high)].mean())


def test_it_is_the_same_every_time(tracks):
    assert np.array_equal(tracks["Snare"], demo.make_snare().astype(np.float32))
    assert len(tracks) == 10 and tracks["Overheads"].shape[0] == 2
    assert all(np.isfinite(x).all() and np.abs(x).max() < 1 for x in tracks.values())


def test_stray_snare_hits(tracks):
    hits = {}
    for at, _ in demo.snare_times():
        start = round(at * RATE)
        if abs(at / demo.BEAT_S - round(at / demo.BEAT_S)) > 0.1:
            continue  # a ghost note
        hits[round(at / demo.BEAT_S)] = np.abs(tracks["Snare"][0, start : start + 2400]).max()
    stray = {bar * 4 + beat for bar, beat in FAULTS.stray_snare}
    for name, first, last in demo.SECTIONS[1:]:
        usual = np.median([v for beat, v in hits.items() if first <= beat // 4 < last and beat not in stray and beat % 2])
        for beat in stray:
            if first <= beat // 4 < last:
                assert db(hits[beat] / usual) == pytest.approx(FAULTS.stray_snare_db, abs=1.2), (name, beat)


def test_room_between_phrases(tracks):
    gaps = demo.phrase_gaps()
    assert len(gaps) >= 4
    for start, end in gaps:
        quiet = tracks["Lead voice"][0, round(start * RATE) : round(end * RATE)]
        assert db(np.sqrt(np.mean(quiet**2))) == pytest.approx(FAULTS.room_dbfs, abs=1)


def test_sibilants_ring_boom_and_mud(tracks):
    voice = tracks["Lead voice"][0]
    hisses = [s for s, _, _, _, hiss, _ in demo.syllables() if hiss]
    at = round((hisses[3] - 0.09) * RATE)
    hiss = voice[at : at + 4096]
    hz = np.fft.rfftfreq(4096, 1 / RATE)
    peak = hz[np.where(hz > 3500, np.abs(np.fft.rfft(hiss * np.hanning(4096))), 0).argmax()]
    assert peak == pytest.approx(FAULTS.sibilant_hz, rel=0.15)
    chorus = slice(round(12 * demo.BAR_S * RATE), round(20 * demo.BAR_S * RATE))
    ring = tracks["Overheads"][0, chorus]
    assert spectrum_db(ring, 4150, 4250) - spectrum_db(ring, 4400, 5000) > 0.5 * FAULTS.ring_db
    organ = tracks["Organ"][0, chorus]
    assert spectrum_db(organ, 200, 320) > spectrum_db(organ, 500, 900)
    plain = tracks["Bass"][0, round(19 * demo.BAR_S * RATE) : round(20 * demo.BAR_S * RATE)]  # a bar on A, 55 Hz
    assert demo.PROGRESSION[19] == "Am" and spectrum_db(plain, 53, 57) > spectrum_db(plain, 108, 112) + 6


def test_chorus_over_verse(tracks):
    sounds = list(tracks)
    session = demo.build_session({name: index for index, name in enumerate(sounds)})
    media = Arrays(*tracks.values())
    mix = np.concatenate([block["main"] for block in render_strips(session, media, 0, demo.FRAMES)], axis=1)
    found = {}
    for name, first, last in demo.SECTIONS:
        part = np.ascontiguousarray(mix[:, round(first * demo.BAR_S * RATE) : round(last * demo.BAR_S * RATE)])
        found[name] = figures_of(part, RATE).integrated_lufs
    assert found["Chorus"] - found["Verse"] == pytest.approx(FAULTS.chorus_over_verse_lu, abs=0.7)
    assert figures_of(mix, RATE).true_peak_dbtp < 0
