"""The colours against Chebyshev's polynomials, the sampling theorem, BS.1770 by pyloudnorm, and their own words."""

from itertools import cycle

import numpy as np
import pyloudnorm
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.dsp import biquad
from saltanvil.dsp import lowend as lowend_dsp
from saltanvil.dsp import saturate as dsp
from saltanvil.dsp.curve_table import table as table_of_curve
from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Arrays
from saltanvil.engine.rack import Rack
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.measure import distortion, speaker
from saltanvil.measure.figures import figures_of, match_db
from saltanvil.processors.base import Context
from saltanvil.processors.colour import CHARACTERS, Colour
from saltanvil.session.edits.steps import MoveStep
from saltanvil.session.settings import loudness_gain_db
from saltanvil.studies.match.match import louder_by_db, with_current_matches
from saltanvil.studies.scope.ledger import ledger_of
from saltanvil.studies.scope.passage import passage_of
from tests.engine.test_routing import session_of, step, strip
from tests.processors.test_processors import db, made, run
from tests.signals import noise, tone
from tests.studies.bench.test_bench import ask, figures

RATE = 48000
METER = pyloudnorm.Meter(RATE, filter_class="DeMan")
NOT_HELD = {"output": "not held"}


def lufs(x):
    return METER.integrated_loudness(x.T.astype(np.float64))


def lines(y, hz):
    """Amplitudes of the multiples of hz from 0 on, over the last second."""
    return np.abs(np.fft.rfft(y[-RATE:].astype(np.float64)))[:: round(hz)] / (RATE / 2)


def harmonics_db(hz=1000.0, level=-12.0, channels=1, **chosen):
    """H2 to H9 re the fundamental."""
    y, _ = run("saturator", np.tile(tone(hz, 2.0, level), (channels, 1)), **{"drive_db": 0.0, **NOT_HELD, **chosen})
    found = lines(y[0], hz)
    return db(found[2:10] / found[1])


# ---- which harmonics -------------------------------------------------------------------------------------------------


@settings(max_examples=30, deadline=None)
@given(st.integers(2, 5), st.floats(20.0, 300.0), st.floats(-60.0, 0.0), st.sampled_from([44100, 48000, 96000]))
def test_chebyshev_shaping_gives_the_chosen_harmonic_and_no_other(order, hz, level, rate):
    """T_n(cos x) = cos nx: as strong as the fundamental however loud that is, the others 70 dB below."""
    weights = (np.array(lowend_dsp.ORDERS) == order).astype(float)
    frames = 1 << 16
    hz = distortion.fitting_hz(hz, frames, rate)
    x = tone(hz, (frames + 4 * rate) / rate, level, rate).astype(np.float32)[None]
    y, chain = np.empty_like(x), lowend_dsp.chain_coefficients(rate)
    lowend_dsp.harmonics(x, y, weights, 1.0, chain, np.zeros((1, lowend_dsp.POLES)), np.zeros(lowend_dsp.STATE))
    found = 2 * np.abs(np.fft.rfft(y[0, -frames:].astype(np.float64))) / frames
    made = found[:: round(hz * frames / rate)]
    assert db(made[order]) == pytest.approx(level, abs=0.01)
    assert db(np.delete(made, order)[:12].max()) < level - 70


@pytest.mark.parametrize("drive_db", [0.0, 6.0])
@pytest.mark.parametrize("balance, wanted", [(0.0, 2), (1.0, 3)])
def test_the_plain_curve_makes_the_pure_second_or_the_pure_third(balance, wanted, drive_db):
    """g^2 = (T_2 + 1) / 2 and g^3 = (T_3 + 3 g) / 4, read on the bench."""
    result = ask(
        "harmonics",
        step("saturator", "s", character="plain", balance=balance, drive_db=drive_db, **NOT_HELD),
        frequency_hz=1000.0,
        level_dbfs=-18.0,
    )
    told = figures(result)
    found = {order: told[f"h{order}_db"] for order in range(2, 13)}
    assert found[wanted] > -60
    assert max(value for order, value in found.items() if order != wanted) < found[wanted] - 60
    assert told["even_share"] == pytest.approx(100.0 * (1.0 - balance), abs=0.01)


@settings(max_examples=40, deadline=None)
@given(st.sampled_from(sorted(CHARACTERS)), st.floats(0, 1), st.floats(-15.9, 15.9), st.floats(-15.9, 15.9))
def test_a_curve_is_read_from_its_table_with_its_exact_antiderivative(character, balance, a, b):
    """Rises everywhere, slope 1 where its bias rests; and the area over a way (DAFx 2016, from memory) is numpy's trapezoid."""
    colour = Colour(character, balance=balance)
    _, slope = colour.curve(np.linspace(-20, 20, 4001))
    at_rest = colour.curve(np.array([CHARACTERS[character].bias]))[1]
    assert slope.min() >= 0 and at_rest == pytest.approx(1.0)
    table = table_of_curve(colour.curve)
    assert dsp.rest_at(table, a) == pytest.approx(colour.curve(np.array(a))[0] - a, abs=1e-5)
    way = np.linspace(a, b, 20001)
    area = dsp.area_at(table, b) - dsp.area_at(table, a)
    assert area == pytest.approx(np.trapezoid(colour.curve(way)[0] - way, way), abs=1e-4)


def test_characters_differ_as_they_say():
    odd = {"balance": 1.0}
    # Tape: loud highs are lost, quiet ones are not; level is squeezed, with a memory.
    probe = tone(10000, 2.0, -40)
    lost = {}
    for loud in (-60.0, 0.0):
        y, _ = run("saturator", probe + tone(1000, 2.0, loud), character="tape", drive_db=0.0, **odd, **NOT_HELD)
        found = lines(y[0], 1000)
        lost[loud] = db(found[10] / 0.01) - (db(found[1]) - loud)
    assert abs(lost[-60.0]) < 0.1 and lost[0.0] < lost[-60.0] - 2
    onset = np.concatenate((np.zeros(4800), tone(1000, 0.5, -3)))
    y, _ = run("saturator", onset, character="tape", drive_db=6.0, oversampling="2x", **odd, **NOT_HELD)
    first = slice(4800, 4848)  # its first period
    assert db(np.abs(y[0, first]).max()) > db(y[0, -480:].max()) + 0.5
    plain, _ = run("saturator", onset, character="plain", drive_db=6.0, oversampling="2x", **odd, **NOT_HELD)
    assert abs(db(np.abs(plain[0, first]).max()) - db(plain[0, -480:].max())) < 0.3
    # Tube: lopsided even where nothing but odd harmonics is asked for, the more the louder.
    tube = [harmonics_db(level=level, character="tube", **odd)[0] for level in (-40.0, -20.0, -6.0)]
    assert tube[0] + 15 < tube[1] < tube[2] - 5 and harmonics_db(level=-6.0, character="plain", **odd)[0] < -90
    # Transformer: lows first.
    transformer = [harmonics_db(hz, character="transformer", **odd)[1] for hz in (40.0, 1000.0)]
    assert transformer[0] > transformer[1] + 12
    flat = [harmonics_db(hz, character="plain", **odd)[1] for hz in (40.0, 1000.0)]
    assert abs(flat[0] - flat[1]) < 0.5


# ---- what comes with them --------------------------------------------------------------------------------------------


@pytest.mark.parametrize("character", sorted(CHARACTERS))
def test_aliasing_is_100_db_down_at_full_quality(character):
    """Folding after the sampling theorem; design/5: 5 kHz driven 12 dB, and a sweep up to 18 kHz."""
    question = step("saturator", "s", character=character, drive_db=12.0, oversampling="16x", **NOT_HELD)
    for hz in (5000.0, 17900.0):
        hz = round(hz)
        y, _ = run("saturator", tone(hz, 2.0, 0), character=character, drive_db=12.0, oversampling="16x", **NOT_HELD)
        spectrum = np.abs(np.fft.rfft(y[0, RATE:].astype(float) * np.kaiser(RATE, 22)))
        at = np.arange(len(spectrum))
        harmonic = np.min([np.abs(at - k * hz) for k in range(6)], axis=0) < 30
        assert db(spectrum[~harmonic].max() / spectrum[hz]) < -100
    told = figures(ask("aliasing", question, level_dbfs=0.0, compare=True))
    assert told["alias_16x_db"] < -100 and told["alias_1x_db"] > told["alias_16x_db"] + 30


@settings(max_examples=15, deadline=None)
@given(
    st.sampled_from(sorted(CHARACTERS)), st.floats(-12, 12), st.floats(20, 1000), st.floats(-12, 12), st.floats(500, 16000),
    st.sampled_from(["1x", "8x"]),
)  # fmt: skip
def test_emphasis_and_its_undoing_are_flat_at_zero_drive(character, low_db, low_hz, high_db, high_hz, oversampling):
    """Transfer function by cross spectra (scipy.signal.csd), of noise so soft that no curve bends."""
    x = 1e-3 * np.random.default_rng(0).standard_normal(4 * RATE)
    chosen = {"low_emphasis_db": low_db, "low_emphasis_hz": low_hz, "high_emphasis_db": high_db, "high_emphasis_hz": high_hz}
    y, _ = run("saturator", x, character=character, drive_db=0.0, oversampling=oversampling, **NOT_HELD, **chosen)
    hz, crossed = scipy.signal.csd(x, y[0].astype(np.float64), RATE, nperseg=RATE // 4)
    flat = db(crossed / scipy.signal.welch(x, RATE, nperseg=RATE // 4)[1])
    assert np.abs(flat[(hz >= 20) & (hz <= 20000)]).max() < 0.06


def test_emphasis_decides_where_the_colour_is_made():
    """E dB more of a low tone into a cubic curve are 3 E more of its third harmonic, less what is undone there and of it."""
    shelf = np.array([biquad.cookbook("low shelf", 120.0, 0.7071, 6.0, RATE)])
    at, at_third = biquad.response_db(shelf, np.array([60.0, 180.0]), RATE)
    chosen = {"character": "plain", "balance": 1.0, "hz": 60.0, "level": -24.0}
    third = [harmonics_db(**chosen, low_emphasis_db=emphasis)[1] for emphasis in (0.0, 6.0)]
    assert third[1] - third[0] == pytest.approx(3 * at - at_third, abs=0.3)
    mixed = tone(3000, 2.0, -14) + tone(150, 2.0, -14)
    shares = []
    for emphasis in (-9.0, 9.0):
        y, _ = run("saturator", mixed, balance=1.0, drive_db=6.0, high_emphasis_db=emphasis, high_emphasis_hz=1000.0, **NOT_HELD)
        shares.append(db(lines(y[0], 150.0)[60]))  # 9 kHz, the third of 3 kHz
    assert shares[1] > shares[0] + 15


def test_no_direct_current_is_left_and_mix_at_nought_passes_bit_for_bit():
    for character in CHARACTERS:
        y, _ = run("saturator", tone(100, 3.0, -3), character=character, balance=0.0, drive_db=18.0, **NOT_HELD)
        assert abs(y[0, -RATE:].mean()) < 1e-4
    x = noise(2, 20000)
    for chosen in ({"stereo": "linked"}, {"stereo": "mid/side"}, {"character": "tape", "oversampling": "1x"}):
        assert np.array_equal(run("saturator", x, mix=0.0, drive_db=24.0, **NOT_HELD, **chosen)[0], x)
    half, _ = run("saturator", x, mix=0.5, drive_db=12.0, **NOT_HELD)
    whole, _ = run("saturator", x, mix=1.0, drive_db=12.0, **NOT_HELD)
    assert np.allclose(half[:, 4800:], 0.5 * (x + whole)[:, 4800:], atol=1e-6)


@pytest.mark.parametrize("first, then", [("tube", "plain"), ("plain", "tube"), ("tape", "tube"), ("tube", "transformer")])
def test_another_character_comes_without_a_click(first, then):
    """A soft sound is left alone by both, so nothing but a click could stand out of it."""
    saturator = made("saturator", drive_db=0.0, character=first, oversampling="2x", **NOT_HELD)
    x = tone(200, 1.0, -60).astype(np.float32)[None]
    saturator.process(x)
    saturator.configure(saturator.settings_model(drive_db=0.0, character=then, oversampling="2x", **NOT_HELD), Context(rate=RATE))
    assert np.abs(saturator.process(x)).max() < 2.5 * np.abs(x).max()


def test_liven_lifts_attacks_and_highs_and_leaves_what_sustains():
    note = np.concatenate((np.zeros(9600), tone(400, 1.0, -20) + tone(6000, 1.0, -40)))
    chosen = {"character": "plain", "balance": 1.0, "drive_db": 0.0, **NOT_HELD}
    still, _ = run("saturator", note, **chosen)
    lively, _ = run("saturator", note, lift_attacks=1.0, **chosen)
    attack, held = slice(9600, 9600 + 480), slice(-RATE // 2, None)
    lift = lambda part: db(np.std(lively[0, part]) / np.std(still[0, part]))  # noqa: E731
    assert 2.0 < lift(attack) <= 6.5 and abs(lift(held)) < 0.1
    split = [np.abs(np.fft.rfft(y[0, attack].astype(np.float64)))[[4, 60]] for y in (still, lively)]
    low, high = db(split[1] / split[0])
    assert high > low + 1.5


def test_sides_are_linked_or_not_or_driven_each_by_itself():
    loud, soft = tone(500, 2.0, 0), tone(500, 2.0, -30)
    x = np.stack((loud, soft))
    tape = {"character": "tape", "balance": 1.0, "drive_db": 6.0, **NOT_HELD}
    gain = {way: db(lines(run("saturator", x, stereo=way, **tape)[0][1], 500)[1]) - -30 for way in ("linked", "unlinked")}
    assert gain["unlinked"] > gain["linked"] + 2
    both = np.stack((soft, soft))
    apart, _ = run("saturator", both, stereo="left/right", second_drive_db=12.0, **tape)
    third = [db(lines(side, 500)[3] / lines(side, 500)[1]) for side in apart]
    assert third[1] - third[0] == pytest.approx(24.0, abs=3.0)  # a cubic
    plain = {**tape, "character": "plain"}
    middle, _ = run("saturator", both, stereo="mid/side", second_drive_db=12.0, **plain)
    assert np.allclose(middle, run("saturator", both, **plain)[0], atol=1e-6) and np.array_equal(middle[0], middle[1])
    side, _ = run("saturator", np.stack((soft, -soft)), stereo="mid/side", second_drive_db=12.0, **plain)
    assert np.allclose(side[0], -side[1], atol=1e-6)
    assert np.allclose(side[0], run("saturator", soft, **{**plain, "drive_db": 18.0})[0][0], atol=1e-5)


# ---- how loud --------------------------------------------------------------------------------------------------------

PARTS = {"Kick": (30, 36), "Lead voice": (36, 42), "Echo": (34, 42)}


def part_of(tracks, name):
    first, last = PARTS.get(name, (30, 36))
    return np.ascontiguousarray(tracks[name][:, first * RATE : last * RATE])


def test_loudness_is_held_on_every_demo_track_at_every_drive(demo_tracks):
    """Within 0.3 LU, read by pyloudnorm."""
    characters = cycle(CHARACTERS)
    for name in demo_tracks:
        x = part_of(demo_tracks, name)
        for drive in (0.0, 8.0, 16.0, 24.0):
            colour = {
                "character": next(characters),
                "lift_attacks": 0.3,
                "mix": 0.8,
                "oversampling": "2x",
                "low_emphasis_db": 3.0,
            }
            session = session_of(strip("t", step("saturator", "s", drive_db=drive, **colour), media_id=0))
            media = Arrays(x)
            session = with_current_matches(session, media)
            found = ScopeRenderer(session, media, SegmentCache(), 0, x.shape[1]).compare(Scope("t", "s"))
            assert abs(lufs(found.after) - lufs(found.before)) < 0.3, (name, drive)
        next(characters)


def test_level_held_drive_takes_peaks_and_leaves_the_loudness(demo_tracks):
    """On every demo track there is a drive that takes a decibel and more of true peak for less than 0.5 LU."""
    for name in demo_tracks:
        x = part_of(demo_tracks, name)
        own, loudness = figures_of(x, RATE).true_peak_dbtp, lufs(x)
        taken = []
        for drive in (2.0, 6.0, 9.0, 12.0, 15.0, 18.0):
            chosen = {"character": "plain", "balance": 1.0, "drive_db": drive, "compensate_drive": True, "oversampling": "2x"}
            y, _ = run("saturator", x, **chosen, **NOT_HELD)
            taken.append((own - figures_of(y, RATE).true_peak_dbtp, loudness - lufs(y)))
        peaks, lost = np.array(taken).T
        assert (np.diff(peaks) > 0).all() and (np.diff(lost) > 0).all()
        assert peaks[lost < 0.5].max(initial=0.0) > 1.0, (name, taken)


def test_a_held_output_is_measured_before_a_file_is_made_and_a_silent_passage_says_so():
    x = noise(1, 3 * RATE)
    session = session_of(strip("t", step("saturator", "s", drive_db=18.0, oversampling="1x"), media_id=0))
    ready = with_current_matches(session, Arrays(x))
    assert session.step("s").step.match is None and with_current_matches(ready, Arrays(x)) is ready
    found = ScopeRenderer(ready, Arrays(x), SegmentCache(), 0, 3 * RATE).compare(Scope("t", "s"))
    assert abs(match_db(found.before, found.after, RATE)) < 0.01
    silent = with_current_matches(session, Arrays(np.zeros_like(x))).step("s").step
    assert "Nothing enters" in silent.match.refused
    assert loudness_gain_db(silent) == pytest.approx(silent.match.guessed_db, abs=1e-3)


def test_hints_tell_of_a_colour_that_is_not_there_or_only_louder():
    x = noise(1, 3 * RATE)

    def told(kind, sound=x, **chosen):
        session = session_of(strip("t", step(kind, "s", **chosen), media_id=0))
        ready = with_current_matches(session, Arrays(sound))
        found = ScopeRenderer(ready, Arrays(sound), SegmentCache(), 0, 3 * RATE).compare(Scope("t", "s"))
        ledger = ledger_of(passage_of(found, RATE), ready, ready.step("s").step)
        return [hint.name for hint in ledger.hints], {fact.name: fact.value for fact in ledger.facts}

    soft = np.float32(0.001) * x
    assert told("saturator", soft, drive_db=0.0, balance=1.0, character="plain")[0] == ["idle"]
    assert told("saturator", 0.1 * x, drive_db=12.0, output="not held")[0] == ["louder"]
    hints, facts = told("saturator", drive_db=12.0)
    assert not hints and -40 < facts["coloured_db"] < 0
    assert told("lowend", tone(2000, 3.0, -12).astype(np.float32)[None])[0] == ["idle"]
    # What is read is what was put in: a hundredth of another sound, whatever the gain (root sum of squares).
    other = noise(1, 3 * RATE, seed=9)
    mixed = (3.0 * x + 0.03 * other * (x.std() / other.std())).astype(np.float32)
    assert distortion.coloured_db(x, mixed) == pytest.approx(-40.0, abs=0.1)


# ---- beside it: the low end, the compressor, the order ---------------------------------------------------------------


def test_the_low_end_is_heard_on_small_speakers_and_stays_what_it_was():
    """A bass line whose pitches lie below what a small speaker plays; loudness by BS.1770."""
    notes = [tone(hz, 0.5, -12) * np.exp(-np.arange(RATE // 2) / RATE) for hz in (41.2, 55.0, 61.7, 73.4, 49.0, 82.4)]
    x = np.concatenate(notes).astype(np.float32)[None]
    chosen = {"low_hz": 30.0, "high_hz": 110.0, "keep_low_hz": 140.0, "amount_db": -6.0, "odd_share": 0.6}
    y, _ = run("lowend", x, **chosen)
    small, full = speaker.louder_lu(x, y, RATE), match_db(x, y, RATE)
    assert small > 6.0 and 0 < full < 2.0
    assert small == pytest.approx(lufs(speaker.through(y, RATE)) - lufs(speaker.through(x, RATE)), abs=0.05)
    session = session_of(strip("t", step("lowend", "l", **chosen), media_id=0))
    compared = ScopeRenderer(session, Arrays(x), SegmentCache(), 0, x.shape[1]).compare(Scope("t", "l"))
    facts = {fact.name: fact.value for fact in ledger_of(passage_of(compared, RATE), session, session.step("l").step).facts}
    assert facts["small_louder_lu"] == pytest.approx(small, abs=0.1) and facts["full_louder_lu"] == pytest.approx(full, abs=0.1)
    assert facts["coloured_db"] > -30 and not ledger_of(passage_of(compared, RATE), session, session.step("l").step).hints
    # The untouched sound stays: what is added has nothing at the pitch and obeys the filter.
    added = (y - x)[0].astype(np.float64)
    spectrum = np.abs(np.fft.rfft(added))
    hz = np.fft.rfftfreq(len(added), 1 / RATE)
    assert db(spectrum[hz < 50].max() / spectrum.max()) < -30 and db(spectrum[hz > 3000].max() / spectrum.max()) < -60
    assert np.array_equal(run("lowend", x, amount_db=-36.0)[0], x)
    # A high sound gets nothing.
    high = tone(1000, 1.0, -6).astype(np.float32)[None]
    assert db(np.abs(run("lowend", high, **chosen)[0] - high)[:, 4800:].max()) < -75


def test_the_small_ear_is_linear_and_limited_in_band():
    """The model's own corners (common practice, no source); distortion-free: THD below -120 dB, AES17 as the bench reads it."""
    frames = 1 << 16
    for level in (0.0, -30.0):
        hz = distortion.fitting_hz(300.0, frames, RATE)
        x = tone(hz, (frames + RATE) / RATE, level).astype(np.float32)[None]
        y = speaker.through(x, RATE)[0, -frames:].astype(np.float64)
        assert distortion.harmonics_of(y, RATE, hz).thd_db < -120
    hz = np.geomspace(20, 20000, 200)
    gain = np.array(
        [db(np.std(speaker.through(tone(f, 1.0).astype(np.float32)[None], RATE)[0, RATE // 2 :]) * 2**0.5) for f in hz[::20]]
    )
    assert gain[0] < -60 and gain[np.argmin(np.abs(hz[::20] - 500))] > -1.0


@pytest.mark.parametrize("colour", sorted(CHARACTERS))
def test_a_compressor_at_one_to_one_is_colour_alone_by_the_saturators_kernels(colour):
    x = noise(2, 40000, level=0.4)
    idle = {"ratio": 1.0, "knee_db": 0.0, "output_colour": colour, "colour_drive_db": 9.0, "colour_odd_share": 0.3}
    coloured, _ = run("compressor", x, **idle)
    same = {"character": colour, "drive_db": 9.0, "balance": 0.3, "compensate_drive": True, **NOT_HELD}
    assert np.allclose(coloured, run("saturator", x, **same)[0], atol=1e-6) and np.abs(coloured - x).max() > 0.01
    assert np.array_equal(run("compressor", x, **{**idle, "mix": 0.0})[0], x)
    assert np.array_equal(run("compressor", x, ratio=1.0, knee_db=0.0)[0], x)
    # At work it is the compressor followed by the colour.
    working = {"threshold_db": -30.0, "ratio": 4.0}
    squeezed, _ = run("compressor", x, **working)
    both, _ = run("compressor", x, **{**idle, **working, "knee_db": 6.0})
    assert np.allclose(both, run("saturator", squeezed, **same)[0], atol=1e-5)


def test_another_order_is_heard_as_loud_as_the_first(demo_tracks):
    x = part_of(demo_tracks, "Snare")
    squash = step("compressor", "c", threshold_db=-36.0, ratio=8.0, attack_ms=20.0, makeup_db=6.0)
    dirt = step("saturator", "d", drive_db=18.0, oversampling="1x", **NOT_HELD)
    session, media = session_of(strip("t", squash, dirt, media_id=0)), Arrays(x)
    swap = MoveStep(step_id="d", strip_id="t", index=0)
    renderer = lambda s: ScopeRenderer(s, media, SegmentCache(), 0, x.shape[1])  # noqa: E731
    louder = louder_by_db(session, "t", swap, media, 0, x.shape[1])
    first = renderer(session).compare(Scope("t")).after
    other = session.model_copy(deep=True)
    swap.change(other)
    second = renderer(other).compare(Scope("t")).after
    assert abs(louder) > 1.0 and louder == pytest.approx(lufs(second) - lufs(first), abs=0.1)

    def heard(version, order):
        plan = compile_plan(version, media, Rack(), Audition(Scope("t"), "after", balance=order))
        blocks = [plan.render(at, 1024).copy() for at in range(0, x.shape[1], 1024)]
        return np.concatenate(blocks, axis=1)[:, plan.latency_frames : x.shape[1]]

    assert abs(lufs(heard(other, ("t", -louder))) - lufs(heard(session, ("", 0.0)))) < 0.1
    assert abs(lufs(heard(other, ("", 0.0))) - lufs(heard(session, ("", 0.0)))) > 1.0
