"""Splits: idle nulls, alignment, crossovers against scipy and ffmpeg, the edits and their undoing, the steady blend."""

import shutil
import subprocess

import numpy as np
import pyloudnorm
import pytest
import scipy.signal
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.demo import low_water
from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Arrays
from saltanvil.engine.path_runner import PathRunner
from saltanvil.engine.rack import Rack
from saltanvil.engine.render import render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.measure.figures import figures_of, match_db
from saltanvil.processors.base import Context
from saltanvil.processors.split import BAND_STARTS, Split, SplitSettings, band_gains_db
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.blend import blend_gains, full_sum_db
from saltanvil.session.document.path import Path, Step, Stretch
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.matches import matches_of
from saltanvil.session.starts import PATH_STARTS
from saltanvil.session.validate import checked
from saltanvil.studies.match.match import make_up_level_db, with_current_matches
from saltanvil.studies.scope.ledger import ledger_of
from saltanvil.studies.scope.passage import passage_of
from tests.edits import edit_json, set_lane, set_step, undone
from tests.matching import match_of
from tests.signals import noise, tone

RATE = 48000


def step(kind, name=None, **settings_):
    return Step.model_validate({**({"id": name} if name else {}), "kind": kind, "settings": settings_})


def split(*lanes, name="split", levels=(), **settings_):
    """A split whose lanes hold the given steps."""
    made = [
        {
            "id": f"{name}-{i}",
            "name": f"L{i}",
            "path": {"steps": [s.model_dump() for s in steps]},
            "level_db": levels[i] if levels else 0.0,
        }
        for i, steps in enumerate(lanes)
    ]
    return Step.model_validate({"id": name, "kind": "split", "settings": settings_, "lanes": made})


def through(path, x, rate=RATE, blocks=(), tempo=120.0):
    """x through steps, aligned to x, and the steps at work."""
    work = PathRunner(Path(steps=path), x, rate, tempo)
    end = x.shape[1] + work.latency_frames
    return work.run([0, *sorted({b for b in blocks if 0 < b < end}), end]), work.plan.node("sound").steps


def db(value):
    return 20 * np.log10(np.maximum(np.abs(value), 1e-12))


def null_db(y, x):
    return db(np.abs(y - x).max() / np.abs(x).max())


# ---- idle sums -------------------------------------------------------------------------------------------------------


def test_a_copy_split_with_one_lane_is_bit_exact_and_two_are_twice_as_loud():
    """Two identical full-level copies: +6.02 dB (common practice, no source)."""
    x = noise(2, 20_000)
    y, _ = through([split([], by="copies", blend=False)], x)
    assert np.array_equal(y, x)
    twice = split([], [], by="copies", blend=False)
    y, _ = through([twice], x)
    assert np.array_equal(y, 2 * x) and full_sum_db(twice, twice.settings) == pytest.approx(6.02, abs=0.01)
    late = split(
        [], [step("limiter", lookahead_ms=5.0)], [step("clipper", ceiling_db=0.0, oversampling="4x")], by="copies", blend=False
    )
    y, nodes = through([late], 0.1 * x)
    assert nodes[0].latency_frames > 240 and null_db(y, 0.3 * x) < -130


def test_uncorrelated_sounds_sum_3_db_louder():
    """+3.01 dB (common practice, no source): the left and the right of independent noise, as lanes of a mono-making step."""
    x = noise(2, RATE * 4)
    mono = step("stereo", width=0.0)  # each side becomes half the sum of both
    y, _ = through([split([], [], by="left/right"), mono], x)
    assert db(2 * y[0].std() / x[0].std()) == pytest.approx(3.01, abs=0.2)


divider_lists = st.integers(1, 5).flatmap(
    lambda n: (
        st.lists(st.floats(25.0, 19000.0), min_size=n, max_size=n)
        .map(sorted)
        .filter(lambda hz: all(b > 1.11 * a for a, b in zip(hz, hz[1:], strict=False)))
    )
)


@settings(max_examples=60, deadline=None)
@given(divider_lists, st.sampled_from([12, 24, 48]), st.sampled_from([44100, 48000, 96000]))
def test_idle_bands_add_up_to_an_all_pass(dividers, slope, rate):
    """Linkwitz-Riley: the sum is all-pass (Linkwitz 1976); flat within 0.01 dB from 20 Hz to 20 kHz."""
    x = np.zeros((1, 1 << 17), np.float32)
    x[0, 100] = 1.0
    y, _ = through([split(*[[]] * (len(dividers) + 1), by="bands", dividers_hz=dividers, slope=f"{slope} dB/oct")], x, rate)
    hz = np.fft.rfftfreq(y.shape[1], 1 / rate)
    magnitude = db(np.fft.rfft(y[0].astype(np.float64)))[(hz >= 20) & (hz <= 20000)]
    assert np.abs(magnitude).max() < 0.01


@settings(max_examples=12, deadline=None)
@given(divider_lists, st.sampled_from([12, 24, 48]))
def test_idle_linear_phase_bands_are_a_pure_delay(dividers, slope):
    x = noise(2, 30_000)
    y, nodes = through(
        [split(*[[]] * (len(dividers) + 1), by="bands", dividers_hz=dividers, slope=f"{slope} dB/oct", phase="linear")], x
    )
    assert nodes[0].latency_frames > 4000 and null_db(y, x) < -100


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("by", ["mid/side", "left/right"])
def test_idle_mid_side_and_left_right_null(by, channels):
    """Each matrix scaled by 1/sqrt(2) adds nothing (common practice, no source)."""
    x = noise(channels, 20_000)
    y, _ = through([split([], [], by=by)], x)
    assert null_db(y, x) < -120
    assert null_db(through([split([], [], by="mid/side")], tone(1000, 1)[None].astype(np.float32))[0], tone(1000, 1)[None]) < -120


def test_splits_within_splits_null():
    x = noise(2, 40_000)
    inner = split(
        [], [split([], [], name="ms", by="mid/side")], [], name="in", by="bands", dividers_hz=[300.0, 3000.0], phase="linear"
    )
    outer = split([], [inner], name="out", by="left/right")
    around = split([], [outer, step("limiter", ceiling_db=0.0)], name="round", by="copies", blend=False)
    y, nodes = through([around], 0.05 * x)
    assert null_db(y, 0.1 * x) < -100
    assert nodes[0].latency_frames == nodes[0].lanes[1].latency > 5000


@settings(max_examples=25, deadline=None)
@given(st.lists(st.integers(1, 11_000), max_size=8), st.sampled_from(["minimum", "linear"]), st.sampled_from([12, 24, 48]))
def test_any_division_into_blocks_gives_the_same_samples(blocks, phase, slope):
    inner = split([step("compressor", threshold_db=-40.0)], [], name="i", by="mid/side", levels=(-2.0, 3.0))
    made = [
        split(
            [inner],
            [step("shaper", attack_db=9.0)],
            [],
            by="bands",
            dividers_hz=[150.0, 2500.0],
            slope=f"{slope} dB/oct",
            phase=phase,
        ),
        split([], [step("limiter", gain_db=12.0)], name="b", by="copies", law="equal power", position=0.4),
    ]
    x = noise(2, 12_000)
    assert np.array_equal(through(made, x, blocks=blocks)[0], through(made, x)[0])


# ---- crossovers ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("slope", [12, 24, 48])
def test_bands_are_butterworth_filters_twice_over(slope):
    """scipy.signal.butter, squared, is the low side; -6.02 dB at the divider (Linkwitz 1976)."""
    x = np.zeros((1, 1 << 16), np.float32)
    x[0, 0] = 1.0
    processor = Split(SplitSettings(by="bands", dividers_hz=(1000.0,), slope=f"{slope} dB/oct"), 1, Context(rate=RATE))
    low, high = (np.fft.rfft(band[0].astype(np.float64)) for band in processor.divide(x))
    hz = np.fft.rfftfreq(x.shape[1], 1 / RATE)
    at = (hz > 30) & (hz < 15000)
    for result, kind in ((low, "low"), (high, "high")):
        sos = scipy.signal.butter(slope // 12, 1000.0, kind, fs=RATE, output="sos")
        wanted = 2 * db(scipy.signal.sosfreqz(sos, hz, fs=RATE)[1])
        seen = at & (wanted > -80)
        assert np.abs(db(result) - wanted)[seen].max() < 0.01
        assert db(result)[np.abs(hz - 1000.0).argmin()] == pytest.approx(-6.02, abs=0.02)
    drawn = band_gains_db(processor.settings, hz[at], RATE)
    assert np.abs(np.array([db(low)[at], db(high)[at]]) - drawn)[:, drawn.min(axis=0) > -80].max() < 0.01


def test_band_levels_are_those_of_ffmpegs_crossover(tmp_path):
    """ffmpeg's acrossover, 4th order (Linkwitz-Riley 24 dB/oct)."""
    x = noise(1, RATE * 3)
    soundfile.write(tmp_path / "x.wav", x.T, RATE, subtype="FLOAT")
    outs = [tmp_path / f"{i}.wav" for i in range(4)]
    command = [
        "ffmpeg",
        "-v",
        "error",
        "-i",
        str(tmp_path / "x.wav"),
        "-filter_complex",
        "acrossover=split=120 500 5000:order=4th[a][b][c][d]",
    ]
    for name, out in zip("abcd", outs, strict=True):
        command += ["-map", f"[{name}]", "-c:a", "pcm_f32le", str(out)]
    assert shutil.which("ffmpeg") and subprocess.run(command).returncode == 0
    ours = Split(SplitSettings(by="bands", dividers_hz=BAND_STARTS[4]), 1, Context(rate=RATE)).divide(x)
    for band, out in zip(ours, outs, strict=True):
        theirs = soundfile.read(out)[0]
        assert db(band.std() / theirs.std()) == pytest.approx(0.0, abs=0.02)


@pytest.mark.parametrize("slope", ["12 dB/oct", "24 dB/oct", "48 dB/oct"])
def test_a_divider_that_moves_does_not_click(slope):
    """Two octaves in one jump under a steady tone: no step in any band larger than the tone's own steps."""
    x = tone(400.0, 1.0, -6.0)[None].astype(np.float32)
    processor = Split(SplitSettings(by="bands", dividers_hz=(200.0,), slope=slope), 1, Context(rate=RATE))
    before = processor.divide(x[:, :24_000])
    processor.configure(SplitSettings(by="bands", dividers_hz=(1800.0,), slope=slope), Context(rate=RATE))
    after = processor.divide(x[:, 24_000:])
    for a, b in zip(before, after, strict=True):
        y = np.concatenate((a[0], b[0]))
        curve = np.abs(np.diff(y, 2))  # bends show a click better than steps
        own = np.abs(np.diff(x[0], 2)).max()
        assert curve[23_000:27_000].max() < 2 * own
    total = np.concatenate([sum(before)[0], sum(after)[0]])
    assert np.abs(np.diff(total, 2))[23_000:27_000].max() < 2 * np.abs(np.diff(x[0], 2)).max()


# ---- lanes -----------------------------------------------------------------------------------------------------------


def test_a_late_lane_beside_an_empty_one_makes_no_comb():
    """An impulse stays one impulse, whatever makes a lane late."""
    x = np.zeros((1, 9000), np.float32)
    x[0, 500] = 0.25
    for late in (
        step("limiter", lookahead_ms=10.0, peaks="true peak"),
        step("clipper", oversampling="16x", ceiling_db=0.0),
        step("compressor", ratio=1.0, lookahead_ms=20.0),
        split([], [], name="lin", by="bands", dividers_hz=[1000.0], phase="linear"),
    ):
        y, _ = through([split([], [late], by="copies", blend=False)], x)
        assert null_db(y, 2 * x) < -100, late.kind


def test_level_polarity_mute_solo_and_bypass_of_a_lane():
    x = noise(2, 8000)
    made = split([], [step("trim", gain_db=6.0)], by="copies", blend=False, levels=(-6.0, 0.0))
    low = np.float32(10 ** (-6 / 20)) * x
    up = np.float32(10 ** (6 / 20)) * x
    assert null_db(through([made], x)[0], low + up) < -120
    made.lanes[1].invert = True
    assert null_db(through([made], x)[0], low - up) < -120
    made.lanes[1].bypass = True
    assert null_db(through([made], x)[0], low - x) < -120
    made.lanes[1].mute = True
    assert null_db(through([made], x)[0], low) < -120
    made.lanes[1].mute, made.lanes[1].solo = False, True
    assert null_db(through([made], x)[0], low - x) < -120  # solo is a matter of listening
    listened = PathRunner(Path(steps=[made]), x, RATE, audition=Audition()).run()
    assert null_db(listened, -x) < -120
    only = PathRunner(Path(steps=[made]), x, RATE, audition=Audition(Scope("sound", None, "split-0"), "solo lane")).run()
    assert null_db(only, low) < -120


def session_of(*steps, **more):
    strips = [
        Strip(id="main", name="Main", kind="main", output=None),
        Strip(id="bus", name="Bus", kind="bus"),
        Strip(id="a", name="A", kind="track", media_id=0, output="bus", path=Path(steps=list(steps)), **more),
    ]
    return checked(Session(name="S", strips=strips))


@pytest.fixture(scope="module")
def media():
    return Arrays(noise(2, RATE * 4, 3))


def rendered(session, media, strip="main", stop=RATE * 2):
    return np.concatenate([block[strip] for block in render_strips(session, media, 0, stop, [strip])], axis=1)


def bands_with_treatment():
    return split(
        [step("compressor", "low-comp", threshold_db=-40.0, lookahead_ms=3.0)], [], [step("shaper", "high-shape", attack_db=6.0)],
        by="bands", dividers_hz=[200.0, 2000.0],
    )  # fmt: skip


def test_before_after_and_taken_of_a_lane_and_of_a_step_in_it(media):
    session = session_of(step("trim", "first", gain_db=-3.0), bands_with_treatment(), step("limiter", "last", gain_db=6.0))
    render = lambda scope, stop=RATE: ScopeRenderer(session, media, SegmentCache(), RATE // 2, stop).compare(scope)  # noqa: E731
    lane, inside = render(Scope("a", None, "split-0")), render(Scope("a", "low-comp"))
    assert np.array_equal(lane.before, inside.before) and np.array_equal(lane.after, inside.after)
    assert lane.latency_frames == 144 and inside.reduction_db.max() > 3 and np.array_equal(lane.reduction_db, inside.reduction_db)
    whole = render(Scope("a", "split"))
    idle = render(Scope("a", None, "split-1"))
    assert np.array_equal(idle.before, idle.after)
    others = render(Scope("a", None, "split-2")).after + idle.after
    assert null_db(lane.after + others, whole.after) < -120
    # The live plan hears the same.
    for scope, result in ((Scope("a", None, "split-0"), lane), (Scope("a", "low-comp"), inside)):
        heard = {}
        for listening in ("difference", "solo lane"):
            plan = compile_plan(session, media, Rack(), Audition(scope, listening))
            heard[listening] = np.concatenate([plan.render(at, 1024) for at in range(0, RATE + 4096, 1024)], axis=1)
            late = plan.latency_frames
        cut = slice(RATE // 2 + late, RATE + late)
        assert null_db(heard["difference"][:, cut], result.before - result.after) < -110
        solo = session.model_copy(deep=True)
        solo.lane("split-0")[2].solo = True
        plan = compile_plan(solo, media, Rack(), Audition())
        assert np.array_equal(
            heard["solo lane"], np.concatenate([plan.render(at, 1024) for at in range(0, RATE + 4096, 1024)], axis=1)
        )


def test_an_edit_in_one_lane_renders_that_lane_only(media):
    session, cache = session_of(bands_with_treatment()), SegmentCache()
    ScopeRenderer(session, media, cache, 0, RATE).compare(Scope("a"))
    misses = cache.misses
    changed = apply(session, set_step("high-shape", {"attack_db": 3.0}))
    after = ScopeRenderer(changed, media, cache, 0, RATE).compare(Scope("a")).after
    assert cache.misses == misses + 3  # the step, its lane in the sum, the sum
    assert np.array_equal(after, ScopeRenderer(changed, media, SegmentCache(), 0, RATE).compare(Scope("a")).after)


def test_lanes_on_buses_of_their_own_sum_to_the_same(media):
    session = session_of(split([], [], [], by="bands", dividers_hz=[200.0, 2000.0]), level_db=-4.0, pan=0.3)
    together = rendered(session, media)
    apart = apply(session, EDIT.validate_python({"op": "lanes_to_buses", "step_id": "split", "seed": "s"}))
    buses = [strip for strip in apart.strips if strip.id.startswith("s-")]
    assert [bus.name for bus in buses] == ["A l0", "A l1", "A l2"] and all(bus.output == "bus" for bus in buses)
    assert null_db(rendered(apart, media), together) < -120
    assert not rendered(apart, media, "a").any()
    apart.strip("s-1").mute = True
    scoped = ScopeRenderer(apart, media, SegmentCache(), 0, RATE * 2).compare(Scope("bus")).after
    assert np.array_equal(scoped, rendered(apart, media, "bus"))
    assert undone(session, apart) == session
    without = apply(apart, EDIT.validate_python({"op": "remove_strip", "strip_id": "s-0"}))
    assert without.lane("split-0")[2].output is None and undone(apart, without) == apart
    with pytest.raises(EditRefused, match=r"close a loop: (Bus > A l2 > Bus|A l2 > Bus > A l2)"):
        loop = apply(
            apart,
            EDIT.validate_python(
                {"op": "add_step", "strip_id": "bus", "step": split([], [], name="x", by="mid/side").model_dump()}
            ),
        )
        apply(loop, set_lane("x-0", output="s-2"))


# ---- edits -----------------------------------------------------------------------------------------------------------


def edited(session, **edit):
    """The changed session; undoing must bring the old one back."""
    parsed = EDIT.validate_python(edit_json(**edit))
    changed = apply(session, EDIT.validate_json(parsed.model_dump_json()))
    assert undone(session, changed) == session
    assert apply(session, parsed) == changed  # a redo makes the same names
    return changed


def path_of(session):
    return session.strip("a").path.steps


def test_steps_go_into_a_split_and_come_out_of_it(media):
    plain = session_of(step("gate", "g"), step("compressor", "c", threshold_db=-40.0), step("trim", "t", gain_db=2.0))
    parallel = edited(plain, op="divide", strip_id="a", step_ids=["c", "t"], by="copies", split_id="p")
    made = path_of(parallel)[1]
    assert [s.kind for s in path_of(parallel)] == ["gate", "split"] and made.blended and made.split.position == 0.0
    assert [[s.id for s in lane.path.steps] for lane in made.lanes] == [[], ["c", "t"]]
    # At the untreated end the split is silent about it: the sound is what enters it.
    result = ScopeRenderer(parallel, media, SegmentCache(), 0, RATE).compare(Scope("a", "p"))
    assert np.array_equal(result.before, result.after)
    assert edited(parallel, op="remove_split", step_id="p").strip("a").path == plain.strip("a").path
    with pytest.raises(EditRefused, match="side by side"):
        edited(plain, op="divide", strip_id="a", step_ids=["g", "t"], by="copies")
    bands = edited(plain, op="divide", strip_id="a", step_ids=["c"], by="bands", dividers_hz=BAND_STARTS[4], split_id="b")
    lanes = path_of(bands)[1].lanes
    assert [lane.name for lane in lanes] == ["Low", "Low mid", "High mid", "High"]
    assert [lane.path.steps[0].settings.threshold_db for lane in lanes] == [-40.0] * 4
    assert edited(bands, op="remove_split", step_id="b").strip("a").path == plain.strip("a").path


def test_dividers_come_and_go_without_losing_the_treatment():
    session = session_of(bands_with_treatment())
    more = edited(session, op="add_divider", step_id="split", frequency_hz=80.0, seed="n")
    made = path_of(more)[0]
    assert made.split.dividers_hz == (80.0, 200.0, 2000.0)
    kinds = [[s.kind for s in lane.path.steps] for lane in made.lanes]
    assert kinds == [["compressor"], ["compressor"], [], ["shaper"]]
    less = edited(more, op="remove_divider", step_id="split", index=0)
    assert [[s.kind for s in lane.path.steps] for lane in path_of(less)[0].lanes] == [["compressor"], [], ["shaper"]]
    one = edited(edited(less, op="remove_divider", step_id="split", index=1), op="set_lane", lane_id="split-0", name="Bottom")
    assert [[s.kind for s in lane.path.steps] for lane in path_of(one)[0].lanes] == [["compressor"], ["shaper"]]
    with pytest.raises(EditRefused, match="take it apart"):
        edited(one, op="remove_divider", step_id="split", index=0)
    moved = edited(one, op="add_step", strip_id="a", lane_id="split-2", step=step("gate", "own").model_dump())
    both = edited(
        edited(moved, op="add_divider", step_id="split", frequency_hz=5000.0), op="remove_divider", step_id="split", index=0
    )
    aside = path_of(both)[0].lanes[0].path.steps  # what would be lost stays behind, bypassed
    assert [(s.kind, s.bypass) for s in aside] == [("compressor", False), ("shaper", True), ("gate", True)]


def test_linked_lanes_move_together_and_keep_their_differences():
    session = session_of(step("compressor", "c", threshold_db=-30.0, attack_ms=10.0))
    session = edited(
        session, op="divide", strip_id="a", step_ids=["c"], by="bands", dividers_hz=[200.0, 2000.0], split_id="b", seed="n"
    )
    ids = [lane.path.steps[0].id for lane in path_of(session)[0].lanes]
    session = edited(session, op="set_step", step_id=ids[1], settings={"threshold_db": -20.0, "attack_ms": 5.0})
    for lane in path_of(session)[0].lanes[:2]:
        session = edited(session, op="set_lane", lane_id=lane.id, linked=True)
    session = edited(session, op="set_step", step_id="c", settings={"threshold_db": -36.0, "attack_ms": 20.0, "detector": "rms"})
    seen = [lane.path.steps[0].settings for lane in path_of(session)[0].lanes]
    assert [s.threshold_db for s in seen] == [-36.0, -26.0, -30.0]
    assert [s.attack_ms for s in seen] == [20.0, 10.0, 10.0] and [s.detector for s in seen] == ["rms", "rms", "peak"]
    held = edited(session, op="set_step", step_id="c", settings={"threshold_db": 0.0})
    assert path_of(held)[0].lanes[1].path.steps[0].settings.threshold_db == 0.0  # held within its range
    copied = edited(session, op="copy_to_lanes", step_id="c")
    assert [lane.path.steps[0].settings.threshold_db for lane in path_of(copied)[0].lanes] == [-36.0] * 3


def test_a_third_copy_ends_the_blend_without_moving_the_two():
    session = session_of(split([], [step("trim", gain_db=-6.0)], by="copies", law="linear", position=0.25))
    more = edited(session, op="add_lane", step_id="split", seed="third")
    made = path_of(more)[0]
    assert not made.blended and [round(lane.level_db, 2) for lane in made.lanes] == [-2.5, -12.04, 0.0]
    assert path_of(edited(more, op="remove_lane", lane_id="third"))[0].lanes == made.lanes[:2]


def test_what_cannot_be_is_refused_with_its_reason():
    session = session_of(bands_with_treatment())
    for edit, why in (
        ({"op": "set_step", "step_id": "split", "settings": {"dividers_hz": [200.0, 210.0]}}, "too near"),
        ({"op": "set_step", "step_id": "split", "settings": {"dividers_hz": [200.0]}}, "2 lanes, not 3"),
        ({"op": "add_lane", "step_id": "low-comp"}, "choose a split"),
        ({"op": "add_lane", "step_id": "split"}, "add a divider"),
        ({"op": "move_step", "step_id": "split", "strip_id": "a", "lane_id": "split-0", "index": 0}, "lane of its own"),
        ({"op": "add_step", "strip_id": "a", "lane_id": "gone", "step": {"kind": "trim"}}, "this lane is not there any more"),
        ({"op": "set_lane", "lane_id": "split-0", "output": "nowhere"}, "does not exist"),
    ):
        with pytest.raises(EditRefused, match=why):
            apply(session, EDIT.validate_python(edit_json(**edit)))
    with pytest.raises(ValueError, match="at least one lane"):
        step("split")
    deep = step("trim")
    for level in range(9):
        deep = split([deep], name=f"d{level}", by="copies")
    with pytest.raises(ValueError, match="8 deep"):
        session_of(deep)


# ---- the steady blend ------------------------------------------------------------------------------------------------


def sides_of(kind, x):
    """A treated side of many sorts."""
    late = np.concatenate((np.zeros((len(x), 700), np.float32), x[:, :-700]), axis=1)
    high = scipy.signal.sosfilt(scipy.signal.butter(4, 300, "high", fs=RATE, output="sos"), x).astype(np.float32)
    return {
        "compressed": through([step("compressor", threshold_db=-36.0, ratio=8.0, attack_ms=1.0, makeup_db=4.0)], x)[0],
        "distorted": np.tanh(12 * x).astype(np.float32),
        "delayed": late,
        "filtered": high,
        "turned": -np.float32(0.45) * late,
        "uncorrelated": noise(len(x), x.shape[1], 77),
    }[kind]


@pytest.mark.parametrize(
    ("kind", "track"),
    [
        ("compressed", "Snare"), ("compressed", "Lead voice"), ("distorted", "Bass"), ("distorted", "Overheads"),
        ("delayed", "Snare"), ("delayed", "Bass"), ("filtered", "Lead voice"), ("filtered", "Overheads"), ("turned", "Bass"),
        ("turned", "Snare"), ("uncorrelated", "Lead voice"), ("uncorrelated", "Overheads"),
    ],
)  # fmt: skip
def test_the_steady_blend_holds_the_loudness_at_every_position(kind, track, demo_tracks):
    """Within 0.3 LU of the untreated side over 15 positions, read by pyloudnorm (BS.1770; DeMan's K-weighting)."""
    x = np.ascontiguousarray(demo_tracks[track][:, RATE * 30 : RATE * 36])
    treated = np.ascontiguousarray(sides_of(kind, x))
    match = match_of(x, treated, RATE)
    assert match.refused is None, match.refused
    made = split([], [], by="copies", law="steady")
    made.match = match
    meter = pyloudnorm.Meter(RATE, filter_class="DeMan")
    own = meter.integrated_loudness(x.T.astype(np.float64))
    moved = []
    for position in np.linspace(0, 1, 15):
        made.settings = SplitSettings(by="copies", law="steady", position=float(position))
        a, b = blend_gains(made.settings, match)
        moved.append(meter.integrated_loudness((a * x + b * treated).T.astype(np.float64)) - own)
    assert np.abs(moved).max() < 0.3


def test_sides_that_cancel_are_refused_a_match_and_silence_is_named(demo_tracks):
    x = np.ascontiguousarray(demo_tracks["Snare"][:, RATE * 30 : RATE * 34])
    refused = match_of(x, -x, RATE)
    assert "all but cancel" in refused.refused and not refused.gains_db
    made = split([], [], by="copies", law="steady", position=0.5)
    made.match = refused
    assert blend_gains(made.settings, refused) == (0.5, 0.5)  # and nothing is boosted
    assert "treated side is silent" in match_of(x, 0 * x, RATE).refused
    assert "untreated side is silent" in match_of(0 * x, x, RATE).refused
    assert "too far" in match_of(10 * x, 0.02 * x, RATE).refused
    part = match_of(x, np.float32(-0.45) * x, RATE)  # matched, the two are the same sound turned over
    assert "all but cancel" in part.refused


def test_a_silent_split_says_why(media):
    session = session_of(split([], [], by="copies", blend=False))
    made = path_of(session)[0]

    def hints():
        result = ScopeRenderer(session, media, SegmentCache(), 0, RATE).compare(Scope("a", "split"))
        return [hint.text for hint in ledger_of(passage_of(result, RATE), session, made).hints]

    assert not any("split" in hint or "lane" in hint for hint in hints())
    for lane in made.lanes:
        lane.mute = True
    assert hints() == ["Every lane that goes to the sum is muted."]
    made.lanes[0].mute = made.lanes[1].mute = False
    made.lanes[1].invert = True
    assert "cancel each other" in hints()[0]
    for lane in made.lanes:
        lane.output = "bus"
    assert "buses of their own" in hints()[0]


def test_inner_matches_come_before_outer_ones_and_the_stretch_is_held(media):
    inner = split([], [step("compressor", threshold_db=-40.0, ratio=8.0)], name="in", by="copies", position=0.5)
    outer = split([], [inner, step("trim", gain_db=-9.0)], name="out", by="copies", position=0.7)
    stretch = {"start_s": 1.0, "end_s": 3.0}
    inner.match_over = outer.match_over = outer.lanes[1].path.steps[0].match_over = Stretch(**stretch)
    session = with_current_matches(session_of(outer), media)
    result = matches_of(session)
    assert set(result) == {"in", "out"} and all(match.refused is None for match in result.values())
    renderer = lambda s: ScopeRenderer(s, media, SegmentCache(), RATE, RATE * 3)  # noqa: E731
    done = renderer(session).compare(Scope("a", "out"))
    assert abs(match_db(done.before, done.after, RATE)) < 0.05
    treated = renderer(session).compare(Scope("a", None, "out-1"))
    assert make_up_level_db(passage_of(treated, RATE), 0.0) > 3


def test_parallel_drums_raise_the_detail_and_not_the_peaks(demo_tracks):
    """8:1, 10 ms, release at the tempo (common practice, no source): on the demo's drums the 10th percentile of the
    50 ms levels comes up 4 dB at a quarter of the blend, at the same loudness, and the peaks stay."""
    start = next(start for start in PATH_STARTS if start.name.startswith("parallel drums"))
    made = start.path.steps[0].model_copy(deep=True)
    drums = [(name, 10 ** (level / 20)) for name, bus, level, _ in low_water.TRACKS if bus == "drums"]
    x = sum(gain * demo_tracks[name] for name, gain in drums)[:, RATE * 34 : RATE * 44].astype(np.float32)
    treated = through(made.lanes[1].path.steps, x, tempo=low_water.TEMPO_BPM)[0]
    made.match = match_of(x, treated, RATE)
    made.settings = made.settings.model_copy(update={"position": 0.25})
    y, _ = through([made], x, tempo=low_water.TEMPO_BPM)
    before, after = figures_of(np.ascontiguousarray(x), RATE), figures_of(np.ascontiguousarray(y), RATE)
    assert after.floor_dbfs - before.floor_dbfs == pytest.approx(4.0, abs=0.8)
    assert abs(after.sample_peak_dbfs - before.sample_peak_dbfs) < 1
    assert abs(after.integrated_lufs - before.integrated_lufs) < 0.3


def test_ready_made_paths_are_valid_say_what_to_listen_for_and_idle_ones_are_flat():
    x = noise(2, 20_000)
    assert len({start.name for start in PATH_STARTS}) == len(PATH_STARTS) >= 6
    for start in PATH_STARTS:
        assert start.listen.endswith(".") and len(start.listen) > 40
        y, _ = through(start.path.steps, x)
        assert np.isfinite(y).all()
    orders = [[step.kind for step in start.path.steps] for start in PATH_STARTS if "colour" in start.name]
    assert orders == [["saturator", "compressor"], ["compressor", "saturator"], ["saturator", "limiter"]]
    low_end = next(start for start in PATH_STARTS if start.name == "low-end control").path.steps[0]
    assert low_end.split.dividers_hz == (77.0,) and low_end.lanes[0].path.steps[0].kind == "compressor"
