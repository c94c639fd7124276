"""Sections proposed by loudness; trims that bring tracks to one level."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pyloudnorm import Meter

from saltanvil.engine.media import Arrays
from saltanvil.session.document.session import Session, Strip
from saltanvil.studies.importing.parts import cuts, parts
from saltanvil.studies.importing.stage_gain import trims
from tests.signals import noise, snare

RATE = 48000


@settings(max_examples=50, deadline=None)
@given(st.lists(st.tuples(st.integers(4, 12), st.floats(-40, -10)), min_size=1, max_size=5), st.integers(0, 99))
def test_steps_of_loudness_are_where_parts_begin(stretches, seed):
    clear = [stretches[0]]
    clear += [here for before, here in zip(stretches, stretches[1:], strict=False) if abs(here[1] - before[1]) > 5]
    kept = [clear[0]]
    for stretch in clear[1:]:
        if abs(stretch[1] - kept[-1][1]) > 5:
            kept.append(stretch)
    levels = np.concatenate([np.full(bars, level) for bars, level in kept])
    levels += np.random.default_rng(seed).normal(0, 0.4, len(levels))
    expected = [0, *np.cumsum([bars for bars, _ in kept])[:-1]]
    assert cuts(levels) == expected


def test_equally_loud_parts_have_the_same_letter_and_silence_has_no_parts():
    levels = np.array([-30.0] * 4 + [-18.0] * 8 + [-29.6] * 4 + [-18.2] * 4)
    result = parts(levels, 2.0, 0.5, 39.0)
    assert [section.name for section in result] == ["Part A", "Part B", "Part A", "Part B"]
    assert [section.start_s for section in result] == [0.5, 8.5, 24.5, 32.5] and result[-1].end_s == 39.0
    assert parts(np.zeros(0), 2.0, 0.0, 0.0) == []


def tracks(*sounds):
    strips = [Strip(id=f"t{n}", name=f"T{n}", kind="track", media_id=n) for n in range(len(sounds))]
    return Session(name="S", strips=[Strip(id="main", name="Main", kind="main", output=None), *strips]), Arrays(*sounds)


def test_trims_bring_tracks_to_the_target():
    """RMS over what sounds, sample peak, and short-term loudness as pyloudnorm measures a steady sound."""
    rng = np.random.default_rng(1)
    steady, hits = (0.02 * rng.standard_normal((2, 6 * RATE))).astype(np.float32), snare(6.0).astype(np.float32)[None, :]
    half = steady.copy()
    half[:, 3 * RATE :] = 0.0  # pauses do not count
    session, media = tracks(steady, half, hits, np.zeros((1, RATE), np.float32))
    ids = ["t0", "t1", "t2", "t3"]
    rms = trims(session, media, ids, "rms", -18.0, lambda: False)
    level = 10 * np.log10(np.mean(steady.astype(np.float64) ** 2))
    assert rms[0].level_db == pytest.approx(level, abs=0.05) and rms[1].level_db == pytest.approx(level, abs=0.05)
    assert rms[0].trim_db == pytest.approx(-18.0 - level, abs=0.06)
    assert rms[3].level_db is None and rms[3].trim_db == 0.0
    peak = trims(session, media, ids, "peak", -6.0, lambda: False)
    assert peak[2].trim_db == pytest.approx(-6.0 - 20 * np.log10(np.abs(hits).max()), abs=0.06)
    loud = trims(session, media, ["t0"], "short-term", -18.0, lambda: False)
    assert loud[0].level_db == pytest.approx(Meter(RATE, filter_class="DeMan").integrated_loudness(steady.T), abs=0.1)


def test_a_trim_stops_at_its_limits():
    session, media = tracks(noise(1, RATE, 1, 1e-4))
    assert trims(session, media, ["t0"], "rms", 0.0, lambda: False)[0].trim_db == 24.0


def test_files_of_any_length_are_measured():
    session, media = tracks(noise(1, 100, 1), noise(1, RATE, 2))
    result = trims(session, media, ["t0", "t1"], "rms", -18.0, lambda: False)
    assert result[0].level_db is None and result[1].level_db is not None
