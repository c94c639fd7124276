"""Keys, sends and the order of things: alignment, loops, random graphs, and what is done when a source goes."""

import itertools

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from saltanvil.engine.audition import RENDERED, Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.latency import Latencies
from saltanvil.engine.media import Arrays
from saltanvil.engine.path_runner import PathRunner
from saltanvil.engine.rack import Rack
from saltanvil.engine.render import render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.processors import REGISTRY
from saltanvil.processors.base import Context
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.path import Key, Path, Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.graph import Graph
from saltanvil.session.validate import checked
from tests.edits import edit_json, undone
from tests.signals import noise, tone

RATE = 48000
FRAMES = 24_000
KEYED = sorted(kind for kind, processor in REGISTRY.items() if processor.keyed)


def step(kind, name, key=None, **chosen):
    return Step.model_validate({"id": name, "kind": kind, "settings": chosen, **({"key": key} if key else {})})


def strip(name, *steps, kind="track", media_id=None, **more):
    return Strip(id=name, name=name.upper(), kind=kind, media_id=media_id, path=Path(steps=list(steps)), **more)


def session_of(*strips):
    return checked(Session(name="S", strips=[strip("main", kind="main", output=None), *strips]))


def edited(session, **edit):
    return apply(session, EDIT.validate_python(edit_json(**edit)))


def rendered(session, media, strip_id="main", frames=FRAMES):
    return np.concatenate([b[strip_id] for b in render_strips(session, media, 0, frames, [strip_id])], axis=1)


# ---- random graphs ---------------------------------------------------------------------------------------------------


@st.composite
def graphs(draw):
    """Strips with steps, splits, sends, lane outputs and keys at random; loops are as likely as not."""
    buses = [f"b{n}" for n in range(draw(st.integers(1, 3)))]
    tracks = [f"t{n}" for n in range(draw(st.integers(1, 4)))]
    numbers = itertools.count()
    parts, strips = [], []

    def some_steps(depth):
        steps = []
        for _ in range(draw(st.integers(0, 2))):
            kind = draw(st.sampled_from(["compressor", "gate", "limiter", "trim", "ducker", "split"]))
            name = f"p{next(numbers)}"
            look = {"lookahead_ms": draw(st.sampled_from([0.0, 1.0, 3.7]))} if kind in ("compressor", "gate", "ducker") else {}
            if kind == "split":
                if depth == 2:
                    continue
                lanes = [
                    {
                        "id": f"p{next(numbers)}",
                        "name": "L",
                        "path": {"steps": [s.model_dump() for s in some_steps(depth + 1)]},
                        "output": draw(st.sampled_from([None, None, *buses])),
                    }
                    for _ in range(2)
                ]
                parts.extend(("lane_id", lane["id"]) for lane in lanes)
                way = {"by": draw(st.sampled_from(["copies", "mid/side"])), "blend": False}
                steps.append(Step.model_validate({"id": name, "kind": kind, "settings": way, "lanes": lanes}))
            else:
                more = {"threshold_db": -30.0} if kind in ("compressor", "gate", "ducker") else {}
                steps.append(step(kind, name, **look, **more))
            parts.append(("step_id", name))
        return steps

    for name in (*tracks, *buses):
        track = name in tracks
        output = draw(st.sampled_from(["main", None, *buses]))
        sends = [{"id": f"s-{name}", "target": draw(st.sampled_from(buses)), "level_db": -6.0, "pre": draw(st.booleans())}]
        strips.append(
            strip(name, *some_steps(0), kind="track" if track else "bus", media_id=tracks.index(name) if track else None,
                  output=output, sends=sends if draw(st.booleans()) else [], level_db=-3.0)
        )  # fmt: skip
    strips.append(strip("main", kind="main", output=None))
    sources = [("strip_id", s.id) for s in strips] + parts
    for s in strips:
        for result in s.path.walk():
            if result.kind in KEYED and draw(st.booleans()):
                where, name = draw(st.sampled_from(sources))
                result.key = Key.model_validate({where: name, "at": draw(st.sampled_from(["before", "after"])), "trim_db": 3.0})
    return strips


def reaches(strips):
    """Whether anything can reach itself, by brute force over the graph's own edges."""
    graph = Graph(Session.model_construct(name="x", strips=strips, rate_hz=RATE))
    above = {point: {edge.source for edge in edges} for point, edges in graph.sources.items()}
    while True:
        wider = {point: result.union(*(above[source] for source in result)) for point, result in above.items()}
        if wider == above:
            return graph, {point for point, result in above.items() if point in result}
        above = wider


@settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.filter_too_much])
@given(graphs(), st.randoms(use_true_random=False), st.lists(st.integers(1, 90), min_size=1, max_size=6))
def test_random_graphs_render_alike_or_are_refused_with_the_true_loop(strips, chance, blocks):
    graph, around = reaches(strips)
    if around:
        with pytest.raises(ValueError, match="this would close a loop: ") as refused:
            checked(Session(name="S", strips=strips))
        names = {graph.strip_of[point].name for point in around}
        told = str(refused.value).split("loop: ")[1].split(" [type")[0]
        told_names = [part.split(" (")[0] for part in told.split(" on ")[0].split(" > ")]
        if " on " in told:
            assert told.split(" on ")[1].split("\n")[0] in names
        else:  # every strip named lies on a loop, and the named one closes
            assert set(told_names) <= names and told_names[0] == told_names[-1].split("\n")[0]
        return
    media = Arrays(*(noise(1 + n % 2, 64 * 120, n) for n in range(4)))
    session = Session(name="S", strips=strips)
    whole = compile_plan(session, media, Rack(), RENDERED)
    expected = whole.render(0, 64 * 120).copy()
    assert np.isfinite(expected).all()
    shuffled = list(strips)
    chance.shuffle(shuffled)
    other = compile_plan(Session(name="S", strips=shuffled), media, Rack(), RENDERED)
    edges = [0, *itertools.accumulate(64 * b for b in blocks)]
    edges = [edge for edge in edges if edge < 64 * 120] + [64 * 120]
    parts = [other.render(a, b - a).copy() for a, b in zip(edges, edges[1:], strict=False)]
    assert np.array_equal(np.concatenate(parts, axis=1), expected)
    # What is worked out beforehand is how late each point is, and what waits.
    late = Latencies(whole.graph)
    assert {point: node.latency_frames for point, node in whole.nodes.items()}.items() <= late.latency_frames.items()
    scope = ScopeRenderer(session, media, SegmentCache(), 0, 64 * 60).compare(Scope("main"))
    assert np.array_equal(scope.after, expected[:, whole.latency_frames : whole.latency_frames + 64 * 60])


QUICK = {
    "gate": {"threshold_db": -20.0, "attack_ms": 0.02, "hold_ms": 5.0},
    "expander": {"threshold_db": -20.0, "attack_ms": 0.02, "hold_ms": 5.0},
    "compressor": {"threshold_db": -40.0, "ratio": 10.0, "attack_ms": 0.1},
    "ducker": {"threshold_db": -40.0, "attack_ms": 0.0, "depth_db": 12.0},
}


@settings(max_examples=60, deadline=None)
@given(
    st.sampled_from(sorted(QUICK)),
    st.integers(1000, 4000),
    st.lists(st.sampled_from([0.5, 1.0, 2.3, 7.0]), max_size=3),
    st.lists(st.sampled_from([0.5, 1.0, 2.3, 7.0]), max_size=3),
    st.sampled_from(["strip", "step", "lane", "bus"]),
)
def test_an_impulse_in_the_key_moves_the_gain_at_the_same_sample_through_any_latency(kind, at, before_key, before_sound, way):
    """The sound is constant, so its level tells the gain; both come through lookaheads of their own."""
    x, impulse = np.full((1, 9000), 0.01, np.float32), np.zeros((1, 9000), np.float32)
    impulse[0, at] = 0.9
    limiters = lambda times, name: [  # noqa: E731
        step("compressor", f"{name}{n}", ratio=1.0, lookahead_ms=t) for n, t in enumerate(times)
    ]
    lanes = {"by": "copies", "blend": False}
    inner = Step.model_validate({
        "id": "split", "kind": "split", "settings": lanes,
        "lanes": [{"id": "lane", "name": "L", "path": {"steps": [s.model_dump() for s in limiters(before_key, "k")]}}],
    })  # fmt: skip
    source = strip("k", *([inner] if way == "lane" else limiters(before_key, "k")), media_id=1, output=None)
    key = {"strip": {"strip_id": "k"}, "lane": {"lane_id": "lane"}, "bus": {"strip_id": "bus"}}.get(way, {"strip_id": "k"})
    if way == "step" and before_key:
        key = {"step_id": f"k{len(before_key) - 1}"}
    others = []
    if way == "bus":
        source.output = "bus"
        others = [strip("bus", kind="bus", output=None)]
    sound = strip("s", *limiters(before_sound, "x"), step(kind, "d", key, **QUICK[kind]), media_id=0)
    session = session_of(source, sound, *others)
    y = rendered(session, Arrays(x, impulse), "s", 9000)[0]
    settled = y[at - 400 : at]
    assert np.ptp(settled) == 0.0
    moved = np.flatnonzero(y[at - 400 : at + 400] != settled[0])
    assert moved[0] == 400, f"gain moved {moved[0] - 400} frames from the impulse: {kind}, {way}"


def test_a_key_has_its_trim_its_channels_and_its_point():
    loud, quiet = noise(2, FRAMES, 1), noise(1, FRAMES, 2)
    media = Arrays(quiet, loud)
    chosen = {"threshold_db": -30.0, "ratio": 4.0}
    # The reference: the processor itself, given what the key is said to be.
    for key, heard in (
        ({"strip_id": "k"}, 0.5 * (loud[:1] + loud[1:]) * np.float32(10 ** (-6 / 20))),
        ({"strip_id": "k", "at": "before"}, 0.5 * (loud[:1] + loud[1:])),
        ({"strip_id": "k", "at": "before", "trim_db": 12.0}, 0.5 * (loud[:1] + loud[1:]) * np.float32(10 ** (12 / 20))),
        ({"step_id": "down", "at": "before"}, 0.5 * (loud[:1] + loud[1:])),
    ):
        source = strip("k", step("trim", "down", gain_db=-6.0), media_id=1, level_db=-30.0, mute=True)
        session = session_of(source, strip("s", step("compressor", "c", key, **chosen), media_id=0, pan=-1.0))
        y = rendered(session, media, "s")[0]
        kind = REGISTRY["compressor"]
        alone = kind(kind.settings_model(**chosen), 1, compile_plan(session, media, Rack()).node("s").steps[0].processor.context)
        expected = alone.process(quiet, np.ascontiguousarray(heard, dtype=np.float32))
        assert np.abs(y - expected[0]).max() < 1e-6
    # Asked for, a mute of the source silences the key; a lane's own mute too.
    session = edited(session, op="set_key", step_id="c", key={"strip_id": "k", "mutes": True})
    assert np.array_equal(rendered(session, media, "s")[0], quiet[0])


def test_the_dry_sound_ducks_the_wet_lane_inside_one_path():
    """Own strip before its path as the key of a ducker in the wet lane: the repeats come up when the sound stops."""
    x = np.zeros((1, RATE * 3), np.float32)
    x[0, :RATE] = noise(1, RATE, 3, level=0.5)[0]
    wet = [
        step("echo", "e", time_mode="ms", time_ms=200.0, feedback=0.6, mix=1.0),
        step("ducker", "d", {"at": "before"}, threshold_db=-50.0, depth_db=60.0, attack_ms=5.0, hold_ms=20.0, decay_ms=100.0),
    ]
    lanes = [{"id": "dry", "name": "D"}, {"id": "wet", "name": "W", "path": {"steps": [s.model_dump() for s in wet]}}]
    split = Step.model_validate({"id": "p", "kind": "split", "settings": {"by": "copies", "blend": False}, "lanes": lanes})
    y = PathRunner(Path(steps=[split]), x, RATE).run()
    rms = lambda a, b: 20 * np.log10(np.sqrt(np.mean((y - x)[0, round(a * RATE) : round(b * RATE)] ** 2)) + 1e-9)  # noqa: E731
    assert rms(0.4, 0.95) < -60 and rms(1.15, 1.3) > -35


def test_lanes_may_key_each_other_and_a_later_point_is_legal_unless_it_closes_a_loop():
    media = Arrays(noise(1, FRAMES, 4))
    lanes = [
        {"id": "one", "name": "One", "path": {"steps": [step("compressor", "c1", lookahead_ms=5.0).model_dump()]}},
        {"id": "two", "name": "Two", "path": {"steps": [step("ducker", "d2", {"lane_id": "one"}).model_dump()]}},
    ]
    split = Step.model_validate({"id": "p", "kind": "split", "settings": {"by": "copies", "blend": False}, "lanes": lanes})
    session = session_of(strip("a", split, step("trim", "t"), media_id=0), strip("b", step("gate", "g"), media_id=0))
    late = Latencies(Graph(session))
    assert late.path("a") == 240  # the second lane waits for its key, and the sum for neither more
    assert np.isfinite(rendered(session, media)).all()
    with pytest.raises(
        EditRefused, match=r"loop: (ducker > compressor > ducker|compressor > ducker > compressor) \(by their keys\) on A"
    ):
        edited(session, op="set_key", step_id="c1", key={"lane_id": "two"})
    later = edited(session, op="set_key", step_id="g", key={"step_id": "t"})
    assert Latencies(Graph(later)).path("b") == 240
    crossed = edited(later, op="set_key", step_id="c1", key={"strip_id": "b", "at": "before"})  # no loop point by point
    assert np.isfinite(rendered(crossed, media)).all()


def test_loops_are_refused_by_name_through_outputs_sends_lanes_and_keys():
    duck = step("ducker", "d")
    lane = [{"id": "l", "name": "L"}]
    split = Step.model_validate({"id": "p", "kind": "split", "settings": {"by": "copies", "blend": False}, "lanes": lane})
    session = session_of(
        strip("voice", duck, media_id=0, output="voices"), strip("voices", kind="bus", output="all"),
        strip("all", split, kind="bus"), strip("plate", kind="bus"),
    )  # fmt: skip
    session = edited(session, op="add_send", strip_id="voice", send={"id": "s", "target": "plate"})
    for edit, told in (
        ({"op": "set_output", "strip_id": "all", "output": "voices"}, "VOICES > ALL > VOICES"),
        ({"op": "add_send", "strip_id": "all", "send": {"target": "voices"}}, "VOICES > ALL > VOICES (send)"),
        ({"op": "set_key", "step_id": "d", "key": {"strip_id": "all"}}, "VOICE > VOICES > ALL > VOICE (key of its ducker)"),
        ({"op": "set_key", "step_id": "d", "key": {"strip_id": "plate"}}, "VOICE > PLATE (send) > VOICE (key of its ducker)"),
        ({"op": "set_lane", "lane_id": "l", "output": "voices"}, "VOICES > ALL > VOICES (lane)"),
        ({"op": "add_send", "strip_id": "plate", "send": {"target": "plate"}}, "PLATE > PLATE (send)"),
    ):
        with pytest.raises(EditRefused) as refused:
            edited(session, **edit)
        around = lambda loop: {tuple(loop[n:] + loop[:n]) for n in range(len(loop))}  # noqa: E731 -- it may begin anywhere
        names = str(refused.value).split("loop: ")[1].split(" > ")
        assert names[0] == names[-1].split(" (")[0]
        assert tuple(names[1:]) in around(told.split(" > ")[1:]), refused.value


def test_what_keyed_lets_go_when_its_source_goes_and_undo_gives_it_back():
    media = Arrays(noise(1, FRAMES, 5), noise(1, FRAMES, 6))
    session = session_of(
        strip("kick", step("trim", "t"), media_id=0),
        strip("bass", step("ducker", "d", {"step_id": "t", "trim_db": 3.0}), step("gate", "g", {"strip_id": "kick"}), media_id=1),
        strip("par", kind="bus"),
    )
    session = edited(session, op="add_send", strip_id="kick", send={"id": "s", "target": "par", "level_db": -4.0})
    without = edited(session, op="remove_strip", strip_id="kick")
    assert without.step("d").step.key is None and without.step("g").step.key is None
    assert undone(session, without) == session
    assert np.array_equal(rendered(undone(session, without), media), rendered(session, media))
    no_step = edited(session, op="remove_step", step_id="t")
    assert no_step.step("d").step.key is None and no_step.step("g").step.key is not None
    assert undone(session, no_step) == session
    both = [{"op": "remove_step", "step_id": "t"}, {"op": "add_strip", "strip": {"id": "new", "name": "New", "kind": "bus"}}]
    at_once = edited(session, op="batch", edits=both)
    assert at_once.step("d").step.key is None and undone(session, at_once) == session
    no_bus = edited(session, op="remove_strip", strip_id="par")
    assert not no_bus.strip("kick").sends and undone(session, no_bus) == session


# ---- sends -----------------------------------------------------------------------------------------------------------


def test_sends_before_and_after_the_level_sum_as_arithmetic_says():
    a, b = noise(1, FRAMES, 7), noise(1, FRAMES, 8)
    sends = lambda name, **more: [{"id": f"s-{name}", "target": "par", "level_db": -6.0, **more}]  # noqa: E731
    session = session_of(
        strip("a", media_id=0, pan=-1.0, level_db=-12.0, output=None, sends=sends("a", pre=True)),
        strip("b", step("compressor", "c", ratio=1.0, lookahead_ms=4.0), media_id=1, pan=-1.0, level_db=-12.0, output=None,
              sends=sends("b")),
        strip("par", kind="bus", output="more"), strip("more", kind="bus"),
    )  # fmt: skip
    media = Arrays(a, b)
    six, twelve = 10 ** (-6 / 20), 10 ** (-12 / 20)
    expected = six * a[0] + six * twelve * b[0]
    assert np.abs(rendered(session, media)[0] - expected).max() < 1e-6
    quiet = edited(session, op="set_send", send_id="s-b", mute=True)
    assert np.abs(rendered(quiet, media)[0] - six * a[0]).max() < 1e-6
    down = edited(session, op="set_strip", strip_id="a", mute=True)
    assert np.abs(rendered(down, media)[0] - six * twelve * b[0]).max() < 1e-6
    with pytest.raises(EditRefused, match="already; change that send"):
        edited(session, op="add_send", strip_id="a", send={"target": "par"})


# ---- latency ---------------------------------------------------------------------------------------------------------


def test_latency_is_told_with_its_cause_and_low_latency_takes_it_away():
    lanes = [{"id": "x", "name": "X", "path": {"steps": [step("limiter", "lim").model_dump()]}}, {"id": "y", "name": "Y"}]
    split = Step.model_validate({"id": "p", "kind": "split", "settings": {"by": "copies", "blend": False}, "lanes": lanes})
    session = session_of(
        strip("a", step("gate", "g", lookahead_ms=5.0), split, media_id=0),
        strip("b", step("clipper", "c"), media_id=0), strip("c", media_id=0),
    )  # fmt: skip
    late = Latencies(Graph(session))
    lim = REGISTRY["limiter"].latency_of(session.step("lim").step.settings, RATE)
    assert [(c.step_id, c.frames) for c in late.causes("main")] == [("g", 240), ("lim", lim)]
    assert late.latency_frames[("end", "main")] == 240 + lim and late.path("c") == 0 and late.path("b") > 0
    media = Arrays(noise(1, FRAMES, 9))
    assert compile_plan(session, media, Rack()).latency_frames == 240 + lim
    sent = session.model_copy(deep=True)  # a lane sent to a bus is not waited for, and is no cause of what stays
    sent.strip("a").path.steps[1].lanes[0].output = "main"
    assert [c.step_id for c in Latencies(Graph(sent)).causes("a")] == ["g"] and Latencies(Graph(sent)).path("a") == 240
    one = edited(session, op="set_step", step_id="g", low_latency=True)
    assert compile_plan(one, media, Rack()).latency_frames == lim
    quick = edited(session, op="set_session", low_latency=True)
    assert compile_plan(quick, media, Rack()).latency_frames == 24  # the limiter's least window
    # Playing along is a matter of listening: an export has all its lookahead.
    assert np.array_equal(rendered(quick, media), rendered(session, media))
    assert not np.array_equal(rendered(one, media), rendered(session, media))


# ---- the ducker ------------------------------------------------------------------------------------------------------


def ducker(**chosen):
    kind = REGISTRY["ducker"]
    return kind(kind.settings_model(**chosen), 1, Context(rate=RATE))


def gain_db(y, x):
    return 20 * np.log10(np.abs(y / x) + 1e-12)


@pytest.mark.parametrize("decay_ms", [25.0, 400.0])
def test_the_bed_falls_by_the_depth_within_the_attack_and_is_back_after_hold_and_decay(decay_ms):
    bed, voice = np.full((1, RATE), 0.25, np.float32), np.zeros((1, RATE), np.float32)
    voice[0, 10_000:20_000] = tone(300.0, 10_000 / RATE, -10.0)
    made = ducker(threshold_db=-30.0, span_db=6.0, depth_db=9.0, attack_ms=20.0, hold_ms=50.0, decay_ms=decay_ms)
    y = made.process(bed, voice)
    change = gain_db(y, bed)[0]
    assert np.all(change[:10_000] == 0.0)
    assert change[10_000 + 960 + 48] == pytest.approx(-9.0, abs=0.05)  # the tone's first crest comes within 1 ms
    assert np.all(np.abs(change[11_100:20_000] + 9.0) < 0.05)  # between the wave's crests it stays down
    # 5 ms a neper of fall: the level passes the threshold's span within 15 ms of the end.
    back = 20_000 + round((0.015 + 0.050 + decay_ms / 1000.0) * RATE)
    assert change[back] == pytest.approx(0.0, abs=0.2) and change[20_000 + 2000] < -8.9
    assert made.telemetry.reduction_db.max() == pytest.approx(9.0, abs=0.01)


def test_each_hit_starts_the_same_dip_however_loud_it_is():
    bed, hits = np.full((1, RATE * 2), 0.25, np.float32), np.zeros((1, RATE * 2), np.float32)
    rng = np.random.default_rng(1)
    starts = [8_000, 30_000, 52_000, 74_000]
    for at, level in zip(starts, (0.9, 0.2, 0.5, 0.004), strict=True):
        hits[0, at : at + 6000] = level * rng.standard_normal(6000) * np.exp(-np.arange(6000) / 1200)
    made = ducker(by="hits", threshold_db=-30.0, depth_db=12.0, attack_ms=0.0, hold_ms=5.0, decay_ms=25.0)
    change = gain_db(made.process(bed, hits), bed)[0]
    dips = [change[at - 100 : at + 4000] for at in starts]
    assert made.telemetry.rows["hits"].sum() == 3  # the last lies under the threshold
    assert all(dip.min() == pytest.approx(-12.0, abs=0.01) for dip in dips[:3]) and dips[3].min() == 0.0
    for dip in dips[:3]:
        first = int((dip < -6).argmax())
        assert first < 150 and dip[first + round(0.0305 * RATE)] == pytest.approx(0.0, abs=0.1)
        assert np.allclose(dip[first : first + 1400], dips[0][int((dips[0] < -6).argmax()) :][:1400], atol=1e-4)


@given(st.floats(-1.0, 1.0), st.floats(0.0, 60.0))
@settings(max_examples=20, deadline=None)
def test_the_shape_bends_the_way_back_and_not_its_ends(shape, depth):
    bed, key = np.full((1, 12_000), 0.25, np.float32), np.zeros((1, 12_000), np.float32)
    key[0, :2000] = 1.0
    made = ducker(threshold_db=-30.0, depth_db=depth, attack_ms=1.0, hold_ms=0.0, decay_ms=100.0, shape=shape)
    change = gain_db(made.process(bed, key), bed)[0]
    assert change[1900] == pytest.approx(-depth, abs=0.02) and change[-1] == pytest.approx(0.0, abs=0.01)
    assert np.all(np.diff(change[2000:]) >= -1e-3)


# ---- echo and room -----------------------------------------------------------------------------------------------------


def test_echo_repeats_in_time_by_its_feedback_and_crosses_sides():
    kind = REGISTRY["echo"]
    chosen = {"note": "1/8d", "feedback": 0.5, "low_hz": 5.0, "high_hz": 20000.0, "mix": 1.0}
    x = np.zeros((2, RATE * 2), np.float32)
    x[0, 0] = 1.0
    late = round(0.75 * 60 / 90 * RATE)  # a dotted eighth at 90 a minute lasts 500 ms (common practice, no source)
    y = kind(kind.settings_model(**chosen), 2, Context(rate=RATE, tempo_bpm=90.0)).process(x)
    energy = lambda side, n: np.sum(y[side, n * late - 5 : n * late + 2000] ** 2)  # noqa: E731
    assert np.abs(y[0]).argmax() == late and not y[1].any()
    assert [10 * np.log10(energy(0, n) / energy(0, 1)) for n in (2, 3)] == pytest.approx([-6.02, -12.04], abs=2.5)
    crossed = kind(kind.settings_model(**chosen, cross=1.0), 2, Context(rate=RATE, tempo_bpm=90.0)).process(x)
    assert np.abs(crossed[1]).argmax() == 2 * late and not crossed[1, : 2 * late - 10].any()
    # A moved time fades, without a click: no jump beyond those of the sound itself.
    tone_ = (0.3 * tone(110.0, 2.0)).astype(np.float32)[None]
    made = kind(kind.settings_model(**chosen), 1, Context(rate=RATE, tempo_bpm=90.0))
    first = made.process(np.ascontiguousarray(tone_[:, : 64 * 700]))
    made.configure(kind.settings_model(**{**chosen, "note": "1/16"}), Context(rate=RATE, tempo_bpm=90.0))
    both = np.concatenate([first, made.process(np.ascontiguousarray(tone_[:, 64 * 700 :]))], axis=1)[0, late + 100 :]
    assert np.abs(np.diff(both)).max() < 4 * np.abs(np.diff(tone_[0])).max()


@pytest.mark.parametrize(("size", "decay_s"), [("chamber", 0.6), ("room", 1.2), ("hall", 2.5)])
def test_a_room_dies_away_in_the_set_time(size, decay_s):
    """Schroeder's backward integration, from -5 to -35 dB (ISO 3382-1's T30, from memory)."""
    kind = REGISTRY["room"]
    x = np.zeros((2, round(RATE * (decay_s + 0.5))), np.float32)
    x[:, 0] = 1.0
    chosen = kind.settings_model(size=size, decay_s=decay_s, damping_hz=20000.0, low_hz=5.0, mix=1.0, predelay_ms=20.0)
    y = kind(chosen, 2, Context(rate=RATE)).process(x)
    assert not y[:, : round(0.02 * RATE)].any() and y[:, round(0.02 * RATE) :].any()
    tail = 10 * np.log10(np.cumsum((y**2).sum(axis=0)[::-1])[::-1] / np.sum(y**2) + 1e-12)
    reached = [int((tail < level).argmax()) for level in (-5.0, -35.0)]
    assert 2 * (reached[1] - reached[0]) / RATE == pytest.approx(decay_s, rel=0.15)
    assert abs(np.corrcoef(y[0, 4000:], y[1, 4000:])[0, 1]) < 0.3  # the sides of the tail are not alike
    noise_ = noise(2, RATE * 3, 3)
    steady = kind(chosen, 2, Context(rate=RATE)).process(noise_)[:, RATE * 2 :]
    assert np.isfinite(steady).all() and np.abs(steady).max() < 10
