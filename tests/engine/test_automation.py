"""Values that move over time: the same samples live, offline and exported, at the times that are written, for every setting."""

import math

import numpy as np
import pyloudnorm
import pytest
import scipy.signal.windows
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.automation import JUMP_MS, MAX_TURNS, NEVER, Clock
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.export import FileTarget, export_strips
from saltanvil.engine.latency import Latencies
from saltanvil.engine.live import LEAD_S
from saltanvil.engine.media import Arrays
from saltanvil.engine.rack import Rack
from saltanvil.engine.render import render_nodes, render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.engine.stream import Stream
from saltanvil.engine.wanted import Passage, Wanted
from saltanvil.media.encode import Writing
from saltanvil.processors import REGISTRY
from saltanvil.processors.descriptor import descriptors_of
from saltanvil.session.address import Address, descriptor
from saltanvil.session.automation import automation_refusal
from saltanvil.session.document.automation import Envelope, Lever
from saltanvil.session.document.path import Key, Path, Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.graph import Graph, NodeId
from saltanvil.studies.match.match import with_current_matches
from tests.signals import noise

RATE = 48000
FRAMES = 2 * RATE
MEDIA = Arrays(noise(2, FRAMES, 3), noise(1, FRAMES, 4))


def ramp(*points, shape="linear", bend=0.0):
    return Envelope.model_validate(
        {"points": [{"at_s": at_s, "value": value, "shape": shape, "bend": bend} for at_s, value in points]}
    )


def track(*steps, **more):
    """A session with one track of these steps, and another to take a key from."""
    return Session(
        name="S",
        strips=[
            Strip(id="main", name="Main", kind="main", output=None),
            Strip(
                id="a", name="A", kind="track", media_id=0, path=Path(steps=[Step.model_validate(step) for step in steps]), **more
            ),
            Strip(id="b", name="B", kind="track", media_id=1, level_db=-12.0),
        ],
    )


def run(session, cuts=(), start=0, stop=FRAMES, node=NodeId("out", "main")):
    """Frames start..stop of what leaves a node, in blocks that end at these frames. Starts cold."""
    plan = compile_plan(session, MEDIA, Rack())
    edges = sorted({start, stop, *(cut for cut in cuts if start < cut < stop)})
    parts = []
    for at, end in zip(edges, edges[1:], strict=False):
        plan.run(at, end - at)
        parts.append(plan.nodes[node].out.copy())
    return np.concatenate(parts, axis=1)


def gliding(kind):
    """The settings of a processor that can move over time."""
    result = []
    for told in descriptors_of(REGISTRY[kind].settings_model).values():
        if told.type == "number" and told.moves == "glides":
            result.append(told)
    return result


@st.composite
def envelopes(draw, told, until_s=FRAMES / RATE):
    count = draw(st.integers(1, 5))
    times = sorted(draw(st.lists(st.floats(0.0, until_s), min_size=count, max_size=count)))
    if told.scale == "log":
        values = st.floats(math.log(told.minimum), math.log(told.maximum)).map(
            lambda v: min(max(math.exp(v), told.minimum), told.maximum)
        )
    else:
        values = st.floats(told.minimum, told.maximum)
    return Envelope.model_validate(
        {
            "points": [
                {
                    "at_s": at_s,
                    "value": draw(values),
                    "shape": draw(st.sampled_from(["hold", "linear", "curve"])),
                    "bend": draw(st.floats(-1.0, 1.0)),
                }
                for at_s in times
            ]
        }
    )


cuts = st.lists(st.integers(1, FRAMES // TICK_FRAMES - 1), max_size=12).map(lambda ticks: [tick * TICK_FRAMES for tick in ticks])
PAIRS = [(kind, told.name) for kind in sorted(REGISTRY) if kind != "split" for told in gliding(kind)]


def with_envelope(kind, name, envelope):
    start = next((start.settings for start in REGISTRY[kind].starts), {})
    step = {"id": "x", "kind": kind, "settings": start, "envelopes": {name: envelope.model_dump()}}
    if REGISTRY[kind].keyed:
        step["key"] = {"strip_id": "b"}
    late = {"id": "late", "kind": "limiter", "settings": {"ceiling_db": -3.0, "lookahead_ms": 1.7}}
    return track(late, step)


@pytest.mark.parametrize(("kind", "name"), PAIRS)
@settings(max_examples=2, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_any_division_into_blocks_gives_the_same_samples(kind, name, data):
    """Every gliding setting of every processor, on a sound that is late."""
    told = descriptors_of(REGISTRY[kind].settings_model)[name]
    stop = RATE // 2
    session = with_envelope(kind, name, data.draw(envelopes(told, stop / RATE)))
    whole = run(session, stop=stop)
    assert np.isfinite(whole).all()
    np.testing.assert_array_equal(whole, run(session, data.draw(cuts), stop=stop))
    np.testing.assert_array_equal(whole, run(session, range(0, stop, 1024), stop=stop))


@pytest.mark.parametrize(("kind", "name"), PAIRS)
def test_an_envelope_that_stands_still_is_none(kind, name):
    plain = with_envelope(kind, name, Envelope())
    now = getattr(plain.step("x").step.settings, name)
    stop = RATE // 2
    expected = run(plain, stop=stop)
    for envelope in (ramp((0.1, now), (0.3, now)), ramp((0.0, now), (0.2, now), shape="hold")):
        np.testing.assert_array_equal(expected, run(with_envelope(kind, name, envelope), range(0, stop, 4096), stop=stop))


def everything():
    """All that can move besides a processor's settings, nested, keyed, sent and late."""
    return Session.model_validate(
        {
            "name": "S",
            "tempo_bpm": 150.0,
            "sections": [
                {"id": "v", "name": "Verse", "start_s": 0.2, "end_s": 0.9},
                {"id": "c", "name": "Chorus", "start_s": 0.9, "end_s": 1.6},
            ],
            "levers": [
                {
                    "id": "all",
                    "name": "All",
                    "value": 0.2,
                    "envelopes": {"value": ramp((0.3, 0.0), (1.2, 1.0)).model_dump()},
                    "targets": [
                        {"of": "lever", "id": "drums", "name": "value", "by": 0.7},
                        {"of": "strip", "id": "bus", "name": "level_db", "by": -4.0},
                    ],
                }
            ],
            "strips": [
                {
                    "id": "main",
                    "name": "Main",
                    "kind": "main",
                    "output": None,
                    "envelopes": {"level_db": ramp((0.5, 0.0), (1.0, -9.0)).model_dump()},
                },
                {
                    "id": "bus",
                    "name": "Bus",
                    "kind": "bus",
                    "envelopes": {"trim_db": {"sections": {"v": 3.0, "c": -2.0}}},
                    "path": {"steps": [{"id": "lim", "kind": "limiter", "settings": {"ceiling_db": -6.0}}]},
                },
                {"id": "room", "name": "Room", "kind": "bus"},
                {
                    "id": "b",
                    "name": "B",
                    "kind": "track",
                    "media_id": 1,
                    "output": "bus",
                    "envelopes": {
                        "mute": ramp((0.0, 0.0), (0.8, 1.0), (1.1, 0.0), shape="hold").model_dump(),
                        "pan": ramp((0.0, -1.0), (2.0, 1.0)).model_dump(),
                    },
                },
                {
                    "id": "a",
                    "name": "A",
                    "kind": "track",
                    "media_id": 0,
                    "output": "bus",
                    "sends": [
                        {
                            "id": "send",
                            "target": "room",
                            "envelopes": {"level_db": ramp((0.2, -20.0), (1.8, 0.0), shape="curve", bend=0.6).model_dump()},
                        }
                    ],
                    "path": {
                        "levers": [
                            {
                                "id": "drums",
                                "name": "Drums",
                                "value": 0.1,
                                "targets": [
                                    {"of": "step", "id": "sat", "name": "drive_db", "by": 12.0},
                                    {"of": "lane", "id": "wet", "name": "level_db", "by": 6.0, "bend": 0.5},
                                    {"of": "step", "id": "split", "name": "position", "by": 0.5},
                                ],
                            }
                        ],
                        "steps": [
                            {
                                "id": "gate",
                                "kind": "gate",
                                "settings": {"threshold_db": -20.0, "lookahead_ms": 3.3},
                                "key": {
                                    "strip_id": "b",
                                    "mutes": True,
                                    "envelopes": {"trim_db": ramp((0.0, -12.0), (1.0, 6.0)).model_dump()},
                                },
                                "envelopes": {"bypass": ramp((0.0, 0.0), (0.4, 1.0), (0.6, 0.0), shape="hold").model_dump()},
                            },
                            {
                                "id": "split",
                                "kind": "split",
                                "settings": {"law": "linear"},
                                "lanes": [
                                    {"id": "dry", "name": "Dry"},
                                    {
                                        "id": "wet",
                                        "name": "Wet",
                                        "envelopes": {"bypass": ramp((0.0, 1.0), (0.5, 0.0), shape="hold").model_dump()},
                                        "path": {
                                            "steps": [
                                                {
                                                    "id": "bands",
                                                    "kind": "split",
                                                    "settings": {
                                                        "by": "bands",
                                                        "dividers_hz": [300.0, 3000.0],
                                                        "phase": "linear",
                                                    },
                                                    "envelopes": {
                                                        "dividers_hz.1": ramp((0.2, 1000.0), (1.5, 8000.0)).model_dump()
                                                    },
                                                    "lanes": [
                                                        {"id": "low", "name": "Low"},
                                                        {
                                                            "id": "mid",
                                                            "name": "Mid",
                                                            "path": {"steps": [{"id": "sat", "kind": "saturator"}]},
                                                        },
                                                        {"id": "high", "name": "High"},
                                                    ],
                                                },
                                            ]
                                        },
                                    },
                                ],
                            },
                        ],
                    },
                },
            ],
        }
    )


@settings(max_examples=8, deadline=None)
@given(cuts)
def test_levels_pans_mutes_sends_keys_lanes_blends_dividers_and_bypasses_move_alike_at_any_block_size(where):
    session = everything()
    np.testing.assert_array_equal(run(session), run(session, where))


def test_live_offline_and_export_are_the_same(tmp_path):
    session = everything()
    start, stop = 0, FRAMES
    offline = np.concatenate([blocks["main"] for blocks in render_strips(session, MEDIA, start, stop)], axis=1)
    stream = Stream(MEDIA, Wanted(session), start, 1)
    live = []
    while (block := stream.next(Wanted(session), LEAD_S)) is not None and sum(part.shape[1] for part in live) < stop:
        live.append(block.audio)
    np.testing.assert_array_equal(np.concatenate(live, axis=1)[:, :stop], offline)
    path = tmp_path / "main.wav"
    export_strips(session, MEDIA, [FileTarget("main", path, Writing("wav32f"), start, stop)])
    np.testing.assert_array_equal(soundfile.read(path, dtype="float32", always_2d=True)[0].T, offline)
    # What is measured of a scope is what sounds.
    compared = ScopeRenderer(session, MEDIA, SegmentCache(1 << 28), RATE // 2, RATE).compare(Scope("main"))
    late = Latencies(Graph(session)).latency_frames[NodeId("end", "main")]
    whole = run(session, node=NodeId("end", "main"))
    np.testing.assert_array_equal(compared.after, whole[:, RATE // 2 + late : RATE + late])


def test_a_play_from_anywhere_is_the_render_from_there():
    """A seek: the same values at the same times, whatever lies before."""
    session = everything()
    start = 37 * TICK_FRAMES
    stream = Stream(MEDIA, Wanted(session), start, 1)
    live = np.concatenate([stream.next(Wanted(session), LEAD_S).audio for _ in range(30)], axis=1)
    offline = np.concatenate([blocks["main"] for blocks in render_strips(session, MEDIA, start, FRAMES)], axis=1)
    np.testing.assert_array_equal(live, offline[:, : live.shape[1]])


@pytest.mark.parametrize("lookahead_ms", [0.0, 20.0])
def test_over_a_loop_each_sound_has_the_value_of_its_own_time(lookahead_ms):
    """A trim that moves, behind a step that is late: what sounds of the loop's end still has the end's value, not the start's.

    A gain that moves over time is a plain product, so the whole is checked against NumPy: the trim's gain at the sound's own
    time, but for the way on which the loop turns, where it glides from the one to the other.
    """
    late = {"id": "late", "kind": "compressor", "settings": {"threshold_db": 0.0, "ratio": 1.0, "lookahead_ms": lookahead_ms}}
    trim = {"id": "t", "kind": "trim", "envelopes": {"gain_db": ramp((0.0, -40.0), (1.0, 0.0)).model_dump()}}
    session = track(late, trim)
    session.strips[2].mute = True
    passage = Passage(10 * TICK_FRAMES, 75 * TICK_FRAMES, True)
    wanted = Wanted(session, passage=passage)
    stream = Stream(MEDIA, wanted, passage.start, 1)
    live = np.concatenate([stream.next(wanted, LEAD_S).audio for _ in range(14)], axis=1)
    length = passage.stop - passage.start
    turned = np.arange(live.shape[1]) % length
    where = passage.start + turned
    expected = MEDIA.read(0, 0, FRAMES)[:, where] * 10.0 ** ((-40.0 + 40.0 * where / RATE) / 20.0)
    away = turned >= 16 * TICK_FRAMES
    np.testing.assert_allclose(live[:, away], expected[:, away], rtol=2e-3, atol=1e-6)


def test_a_clock_remembers_where_the_play_turned():
    clock = Clock()
    clock.advance(640, 128)
    clock.advance(768, 128)
    clock.advance(640, 128)  # a loop of 256 frames
    assert clock.runs(640, 128, 0) == [(0, 128, 640, 640)]
    assert clock.runs(640, 128, 64) == [(0, 64, 832, NEVER), (64, 128, 640, 640)]
    assert clock.runs(640, 128, 100) == [(0, 100, 796, NEVER), (100, 128, 640, 640)]
    assert clock.runs(640, 128, 300) == [(0, 128, 596, NEVER)]
    for _ in range(3 * MAX_TURNS):
        clock.advance(640, 64)
    assert len(clock.turns) == MAX_TURNS
    twin = clock.clone()
    twin.advance(0, 64)
    assert twin.turns != clock.turns and sum(twin.block) == sum(clock.block) + 64


BEFORE = {
    "nothing": [],
    "lookahead": [{"id": "p", "kind": "compressor", "settings": {"threshold_db": 0.0, "ratio": 1.0, "lookahead_ms": 3.21}}],
    "linear phase": [
        {
            "id": "p",
            "kind": "split",
            "settings": {"by": "bands", "phase": "linear"},
            "lanes": [{"id": "l", "name": "L"}, {"id": "h", "name": "H"}],
        }
    ],
    "nested splits": [
        {
            "id": "p",
            "kind": "split",
            "settings": {"blend": False},
            "lanes": [
                {"id": "l", "name": "L", "level_db": -6.0},
                {
                    "id": "h",
                    "name": "H",
                    "level_db": -6.0,
                    "path": {
                        "steps": [
                            {
                                "id": "q",
                                "kind": "split",
                                "settings": {"by": "mid/side"},
                                "lanes": [
                                    {
                                        "id": "m",
                                        "name": "M",
                                        "path": {
                                            "steps": [
                                                {
                                                    "id": "r",
                                                    "kind": "compressor",
                                                    "settings": {"threshold_db": 0.0, "ratio": 1.0, "lookahead_ms": 5.0},
                                                }
                                            ]
                                        },
                                    },
                                    {"id": "s", "name": "S"},
                                ],
                            },
                        ]
                    },
                },
            ],
        }
    ],
    "a late key": [{"id": "p", "kind": "gate", "settings": {"range_db": 0.0, "threshold_db": -80.0}, "key": {"strip_id": "b"}}],
}


@pytest.mark.parametrize("before", sorted(BEFORE))
@pytest.mark.parametrize("at_s", [0.5, 0.7002])
def test_a_jump_is_centred_where_it_was_written(before, at_s):
    """A trim stepped by a hold envelope, behind whatever delays, in the sound's own time: nothing before half the length of a
    jump, half way there at the written time, and at its end after as long again."""
    jump = ramp((0.0, 0.0), (at_s, -12.0), shape="hold")
    steps = [*BEFORE[before], {"id": "t", "kind": "trim", "envelopes": {"gain_db": jump.model_dump()}}]
    moved = track(*steps)
    plain = track(*steps[:-1], {"id": "t", "kind": "trim"})
    for session in (moved, plain):
        session.strips[2].path.steps = [
            Step.model_validate(
                {"id": "bl", "kind": "compressor", "settings": {"threshold_db": 0.0, "ratio": 1.0, "lookahead_ms": 4.4}}
            )
        ]
        session.strips[2].mute = True
    node = NodeId("step", "t")
    latency = Latencies(Graph(moved)).latency_frames[node]
    assert (latency > 0) == (before != "nothing")
    one, two = run(moved, node=node), run(plain, node=node)
    written, half = round(at_s * RATE) + latency, round(JUMP_MS / 2000.0 * RATE)
    changed = np.flatnonzero((one != two).any(axis=0))
    assert abs(changed[0] - (written - half)) <= 2 * TICK_FRAMES
    left = 10.0 ** (-12.0 / 20.0)
    after = slice(written + half + 2 * TICK_FRAMES, None)
    np.testing.assert_allclose(one[:, after], left * two[:, after], atol=1e-6)
    middle = slice(written - TICK_FRAMES, written + TICK_FRAMES)
    gain = np.sqrt(np.square(one[:, middle]).sum() / np.square(two[:, middle]).sum())
    assert gain == pytest.approx(10.0 ** (-6.0 / 20.0), rel=0.02)  # half way in dB, as the course goes


@pytest.mark.parametrize(("kind", "name"), PAIRS)
def test_a_jump_makes_no_more_of_a_click_than_the_setting_moved_by_hand(kind, name):
    """The largest second difference above that of the unmoved sound, against that of the same move as an edit at that tick. A
    move by hand is quick at its beginning, an envelope's in its middle: at the louder end that may be a little more."""
    told = descriptors_of(REGISTRY[kind].settings_model)[name]
    plain = with_envelope(kind, name, Envelope())
    now = float(getattr(plain.step("x").step.settings, name))
    if told.scale == "log":
        other = min(max(now * 1.5, told.minimum), told.maximum) if now * 1.5 <= told.maximum else now / 1.5
    else:
        other = now + (told.maximum - told.minimum) / 6
        other = other if other <= told.maximum else now - (told.maximum - told.minimum) / 6
    tone = Arrays(np.sin(2 * np.pi * 200 * np.arange(FRAMES) / RATE)[None].astype(np.float32) * 0.4, noise(1, FRAMES, 4))
    at = 116 * TICK_FRAMES
    late = Latencies(Graph(plain)).latency_frames[NodeId("step", "late")]
    edit_at = -(-(at + late) // TICK_FRAMES) * TICK_FRAMES

    def rendered(session, later):
        plan = compile_plan(session, tone, rack := Rack())
        plan.run(0, edit_at)
        one = plan.node("a").output.copy()
        plan = compile_plan(later, tone, rack)
        plan.run(edit_at, RATE // 2 // TICK_FRAMES * TICK_FRAMES)
        return np.concatenate([one, plan.node("a").output], axis=1)

    moved = with_envelope(kind, name, ramp((0.0, now), (at / RATE, other), shape="hold"))
    by_hand = with_envelope(kind, name, Envelope())
    by_hand.step("x").step.settings = by_hand.step("x").step.settings.model_copy(update={name: other})
    one, two = rendered(moved, moved), rendered(plain, by_hand)
    near = slice(edit_at - round(JUMP_MS / 1000.0 * RATE), edit_at + RATE // 10)

    def rough(x):
        return float(np.abs(np.diff(x[:, near], n=2, axis=1)).max())

    assert rough(one) <= 1.6 * rough(two) + 1e-5


TONE_HZ = 1000.0
TONE = Arrays((0.5 * np.sin(2.0 * np.pi * TONE_HZ * np.arange(3 * RATE) / RATE))[None].astype(np.float32), noise(1, 3 * RATE, 4))


def treated_tone(session, node):
    """The tone behind a node, in blocks."""
    plan = compile_plan(session, TONE, Rack())
    parts = []
    for at in range(0, 3 * RATE - 1024, 1024):
        plan.run(at, 1024)
        parts.append(plan.nodes[node].out[0].astype(np.float64))
    return np.concatenate(parts)


def glide_over(step, name, start, end):
    """Over two seconds."""
    return track({**step, "id": "x", "envelopes": {name: ramp((0.25, start), (2.25, end)).model_dump()}})


def band(kind, hz, **more):
    return {"kind": "equaliser", "settings": {"band1_kind": kind, "band1_frequency_hz": hz, **more}}


LANES = [{"id": "low", "name": "Low"}, {"id": "high", "name": "High", "level_db": -60.0}]
DIVIDED = {"kind": "split", "settings": {"by": "bands", "dividers_hz": [400.0]}, "lanes": LANES}


@pytest.mark.parametrize(
    ("step", "name", "start", "end", "at_most_db"),
    [
        ({"kind": "trim"}, "gain_db", 0.0, -12.0, -110.0),
        ({"kind": "trim"}, "gain_db", 0.0, -60.0, -90.0),
        (band("low-pass", 500.0), "band1_frequency_hz", 8000.0, 300.0, -80.0),
        (band("bell", 1000.0, band1_gain_db=12.0), "band1_gain_db", 12.0, -12.0, -90.0),
        (band("bell", 1000.0, band1_gain_db=12.0), "band1_frequency_hz", 200.0, 5000.0, -80.0),
        (DIVIDED, "dividers_hz.0", 300.0, 6000.0, -80.0),
    ],
)
def test_a_glide_has_no_stairs(step, name, start, end, at_most_db):
    """What lies beside a tone that glides for two seconds, 30 Hz and more away; readings at 47 Hz gave -42 to -61 dB."""
    y = treated_tone(glide_over(step, name, start, end), NodeId("step", "x"))[RATE // 2 : 2 * RATE + RATE // 4]
    spectrum = np.abs(np.fft.rfft(y * scipy.signal.windows.blackmanharris(len(y))))
    hz = np.fft.rfftfreq(len(y), 1.0 / RATE)
    beside = spectrum[(np.abs(hz - TONE_HZ) > 30.0) & (hz < 1.95 * TONE_HZ)].max()  # its harmonics are those of float32
    assert 20.0 * np.log10(beside / spectrum.max()) < at_most_db


@pytest.mark.parametrize("speed", [24.0, 120.0])
@pytest.mark.parametrize("before", sorted(BEFORE))
def test_a_gain_that_moves_is_on_time(before, speed):
    """dB a second. It was 18 to 20 ms late: 0.55 dB at 24 dB/s, 2.7 dB at 120 dB/s."""
    end_s = 0.5 + 48.0 / speed
    trim = {"id": "x", "kind": "trim", "envelopes": {"gain_db": ramp((0.5, -30.0), (end_s, 18.0)).model_dump()}}
    plain = {"id": "x", "kind": "trim"}
    node = NodeId("step", "x")
    y, x = (treated_tone(track(*BEFORE[before], step), node) for step in (trim, plain))
    latency = Latencies(Graph(track(*BEFORE[before], trim))).latency_frames[node]
    at_s = (np.arange(len(x)) - latency) / RATE
    inside = (at_s > 0.52) & (at_s < end_s - 0.02) & (np.abs(x) > 0.2)
    off = 20.0 * np.log10(np.abs(y[inside] / x[inside])) - (-30.0 + speed * (at_s[inside] - 0.5))
    assert abs(off.mean()) < 0.03 and np.abs(off).max() < 0.06


def test_a_bypass_that_moves_is_a_fade_between_what_goes_on_working():
    """While it is out the step goes on: what comes back is what it would have been all the time, and what is out is untreated."""
    comp = {
        "id": "x",
        "kind": "compressor",
        "settings": {"threshold_db": -40.0, "ratio": 8.0, "release_ms": 900.0, "lookahead_ms": 2.0},
    }
    bypass = ramp((0.0, 0.0), (0.5, 1.0), (1.0, 0.0), shape="hold")
    node = NodeId("step", "x")
    moved = run(track({**comp, "envelopes": {"bypass": bypass.model_dump()}}), node=node)
    working, out = run(track(comp), node=node), run(track({**comp, "bypass": True}), node=node)
    settled = round(0.1 * RATE)
    np.testing.assert_allclose(moved[:, : RATE // 2 - settled], working[:, : RATE // 2 - settled], atol=1e-6)
    outside = slice(RATE // 2 + settled, RATE - settled)
    np.testing.assert_allclose(moved[:, outside], out[:, outside], atol=1e-5)
    np.testing.assert_allclose(moved[:, RATE + settled :], working[:, RATE + settled :], atol=1e-5)
    # Switched off, its envelope leaves the document's word, still as a fade.
    still = track({**comp, "bypass": True, "envelopes": {"bypass": bypass.model_dump()}}, envelopes_off=True)
    np.testing.assert_array_equal(run(still, node=node), out)
    told = ScopeRenderer(
        track({**comp, "envelopes": {"bypass": bypass.model_dump()}}), MEDIA, SegmentCache(1 << 28), 0, FRAMES
    ).compare(Scope("a", "x"))
    ticks = FRAMES // TICK_FRAMES
    assert told.reduction_db[ticks // 8] > 3.0 and told.reduction_db[3 * ticks // 8] == 0.0


def test_levers_move_their_settings_and_each_other():
    """Against the same values written into the document."""
    levers = [
        Lever.model_validate(
            {
                "id": "x",
                "name": "X",
                "value": 0.5,
                "targets": [
                    {"of": "step", "id": "c", "name": "threshold_db", "by": -20.0},
                    {"of": "step", "id": "c", "name": "attack_ms", "by": 4.0},
                ],
            }
        ),
        Lever.model_validate(
            {"id": "y", "name": "Y", "value": 1.0, "targets": [{"of": "lever", "id": "x", "name": "value", "by": 0.25}]}
        ),
    ]
    comp = {"id": "c", "kind": "compressor", "settings": {"threshold_db": -10.0, "attack_ms": 5.0}}
    session = track(comp)
    session.strips[1].path.levers = levers
    same = track({**comp, "settings": {"threshold_db": -25.0, "attack_ms": 5.0 * 4.0**0.75}})
    np.testing.assert_allclose(run(session), run(same), atol=1e-6)
    # A lever that moves is the setting's own envelope, where one end is the base and the other the base moved.
    levers[1].envelopes = {"value": ramp((0.0, 0.0), (1.5, 1.0))}
    same = track(
        {
            **comp,
            "settings": {"attack_ms": 10.0},
            "envelopes": {
                "threshold_db": ramp((0.0, -20.0), (1.5, -25.0)).model_dump(),
                "attack_ms": ramp((0.0, 10.0), (1.5, 5.0 * 4.0**0.75)).model_dump(),
            },
        }
    )
    np.testing.assert_allclose(run(session), run(same), atol=1e-6)


def test_what_changes_latency_or_structure_or_does_not_glide_is_refused_with_the_reason():
    session = track(
        {"id": "c", "kind": "compressor", "key": Key(strip_id="b").model_dump()},
        {"id": "s", "kind": "split", "settings": {"by": "bands"}, "lanes": [{"id": "l", "name": "L"}, {"id": "h", "name": "H"}]},
    )

    def refusal(of, name, setting):
        return automation_refusal(session, Address(of=of, id=name, name=setting))

    assert "changes the latency" in refusal("step", "c", "lookahead_ms")
    assert "how the sound is routed or divided" in refusal("step", "s", "dividers_hz")
    assert "does not glide" in refusal("step", "c", "release_mode")
    assert "does not glide" in refusal("strip", "a", "solo")
    assert "does not glide" in refusal("session", None, "tempo_bpm")
    for address in [
        ("step", "c", "threshold_db"),
        ("step", "c", "bypass"),
        ("step", "s", "dividers_hz.0"),
        ("lane", "l", "mute"),
        ("key", "c", "trim_db"),
        ("strip", "a", "mute"),
        ("strip", "a", "pan"),
    ]:
        assert refusal(*address) is None
    # Nothing that glides and has a number is refused, and nothing else than those and the switches is let through.
    for kind, made in REGISTRY.items():
        if kind in ("split", "ducker"):
            continue
        one = track({"id": "x", "kind": kind})
        for name in descriptors_of(made.settings_model):
            told = descriptor(one, Address(of="step", id="x", name=name))
            free = automation_refusal(one, Address(of="step", id="x", name=name)) is None
            assert free == (told.type == "number" and told.moves == "glides")


@pytest.mark.parametrize("sounded", [0, 1, 23])
def test_a_play_taken_back_finds_its_place_in_the_song(monkeypatch, sounded):
    """An edit while a looped play with envelopes goes on: blocks rendered anew are those of a play in which it came there, also
    where it came before anything had sounded."""
    monkeypatch.setattr("saltanvil.engine.stream.SAVING_SHARE", math.inf)
    session = everything()
    other = session.model_copy(deep=True)
    other.strips[4].path.steps[1].settings = other.strips[4].path.steps[1].settings.model_copy(update={"position": 0.9})
    passage = Passage(0, 20 * 1024, True)
    want, edited = (Wanted(one, Audition(), passage) for one in (session, other))
    stream = Stream(MEDIA, want, 0, 1)
    heard = [stream.next(want, LEAD_S) for _ in range(40)]
    stream.take_back(sum(block.audio.shape[1] for block in heard[:sounded]))
    kept = stream._state.sequence
    heard = heard[:kept] + [stream.next(edited, LEAD_S) for _ in range(30)]
    fresh = Stream(MEDIA, want, 0, 1)
    for number, block in enumerate(heard):
        expected = fresh.next(want if number < kept else edited, LEAD_S)
        np.testing.assert_array_equal(block.audio, expected.audio)


def short_term_lufs(x):
    """Short-term loudness ten times a second, by pyloudnorm's K-weighting (ITU-R BS.1770-4, EBU Tech 3341: 3 s, no gate)."""
    weighted = x.T.astype(np.float64)
    for stage in pyloudnorm.Meter(RATE)._filters.values():
        for side in range(weighted.shape[1]):
            weighted[:, side] = stage.apply_filter(weighted[:, side])
    power = np.concatenate([[0.0], np.cumsum((weighted**2).sum(axis=1))])
    at = np.arange(0, x.shape[1] - 3 * RATE, RATE // 10)
    return -0.691 + 10.0 * np.log10((power[at + 3 * RATE] - power[at]) / (3 * RATE) + 1e-12)


@pytest.mark.parametrize("name", ["Guitar left", "Overheads"])
def test_a_steady_blend_that_moves_over_the_song_stays_as_loud_as_its_dry_side(name, demo_tracks):
    """From dry to all wet and back through a saturator: within 0.5 LU of the dry side's short-term loudness throughout."""
    x = demo_tracks[name]
    media = Arrays(x)
    position = ramp((0.0, 0.0), (20.0, 0.8), (40.0, 0.2), (60.0, 1.0), (85.0, 0.3))
    split = {
        "id": "s", "kind": "split", "settings": {"law": "steady"}, "envelopes": {"position": position.model_dump()},
        "lanes": [
            {"id": "d", "name": "Dry"},
            {"id": "w", "name": "Wet", "path": {"steps": [{"id": "c", "kind": "saturator", "settings": {"drive_db": 9.0}}]}},
        ],
    }  # fmt: skip
    session = Session(name="S", strips=[
        Strip(id="main", name="Main", kind="main", output=None),
        Strip(id="a", name="A", kind="track", media_id=0, path=Path(steps=[Step.model_validate(split)])),
    ])  # fmt: skip
    session = with_current_matches(session, media)
    rendered = render_nodes(session, media, [NodeId("step", "s")], 0, x.shape[1])
    y = np.concatenate([blocks[0] for blocks in rendered], axis=1)
    dry, blend = short_term_lufs(x), short_term_lufs(y)
    sounding = dry > -50.0
    assert sounding.sum() > 300 and np.abs(blend - dry)[sounding].max() < 0.5
    assert np.abs(y[:, : x.shape[1]] - x).max() > 0.01
