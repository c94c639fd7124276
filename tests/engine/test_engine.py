"""Properties of processors and plans: any division into blocks, live = offline = export, nulls, alignment."""

import threading

import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.export import FileTarget, export_strips
from saltanvil.engine.live import Player
from saltanvil.engine.media import Arrays
from saltanvil.engine.rack import Rack
from saltanvil.engine.render import Cancelled, render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.engine.stream import Reader
from saltanvil.engine.wanted import Passage, Wanted
from saltanvil.measure.resonances import Resonance
from saltanvil.media.encode import Writing
from saltanvil.processors import REGISTRY
from saltanvil.processors.base import Context
from saltanvil.processors.freecurve import MAX_CHANGE_DB
from saltanvil.session.document.path import Path, Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.levels import audible
from tests.signals import noise

FRAMES = 48000 * 3


#: Points of a free curve: inputs a decibel apart or more, any outputs.
curves = st.lists(st.tuples(st.integers(-90, 12), st.floats(-120, 12)), min_size=2, max_size=16, unique_by=lambda p: p[0]).map(
    lambda points: tuple(sorted((float(a), b) for a, b in points))
)


#: Dividers of bands: any frequencies, each at least a tenth above the one before.
dividers = st.lists(st.integers(0, 71), min_size=1, max_size=5, unique=True).map(
    lambda steps: tuple(20.0 * 1.101**step for step in sorted(steps))
)


resonances = st.lists(
    st.builds(
        Resonance, frequency_hz=st.floats(20.0, 20000.0), width_oct=st.floats(0.03, 2.0), height_db=st.floats(0.0, 24.0),
        share=st.floats(0.0, 1.0), on=st.booleans(),
    ),
    max_size=6,
).map(tuple)  # fmt: skip


def any_settings(model):
    """Random valid settings of a processor, by its schema."""
    fields = {}
    for name, field in model.model_json_schema()["properties"].items():
        if name == "points":
            fields[name] = curves
        elif name == "dividers_hz":
            fields[name] = dividers
        elif name == "resonances":
            fields[name] = resonances
        elif "enum" in field:
            fields[name] = st.sampled_from(field["enum"])
        elif field["type"] == "string":
            fields[name] = st.text(max_size=10)
        elif field["type"] == "boolean":
            fields[name] = st.booleans()
        else:
            fields[name] = st.floats(field["minimum"], field["maximum"], allow_nan=False)
    return st.builds(model, **fields)


any_step = st.sampled_from(sorted(REGISTRY)).flatmap(
    lambda kind: st.tuples(st.just(kind), any_settings(REGISTRY[kind].settings_model))
)
KINDS = {
    "noise": lambda n: noise(2, n),
    "silence": lambda n: np.zeros((2, n), np.float32),
    "full scale": lambda n: np.tile(np.array([1, -1], np.float32), (2, n))[:, :n].copy(),
    "constant": lambda n: np.full((2, n), 0.9, np.float32),
    "denormal": lambda n: np.full((2, n), 1e-40, np.float32),
    "huge": lambda n: noise(2, n, level=1e4),
    "not numbers": lambda n: np.where(np.arange(2 * n).reshape(2, n) % 997 == 5, np.float32(np.nan), noise(2, n)),
    "infinite": lambda n: np.where(np.arange(2 * n).reshape(2, n) % 1999 == 7, np.float32(-np.inf), noise(2, n)),
}


#: What is beyond +80 dBFS is held there, and a free curve may raise it by 90 dB and its output by 24 more.
MOST = 10 ** ((80 + MAX_CHANGE_DB + 24.1) / 20)


@settings(max_examples=250, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(
    any_step,
    st.sampled_from(sorted(KINDS)),
    st.lists(st.integers(1, 5999), max_size=12),
    st.sampled_from([44100, 48000, 96000]),
)
def test_any_division_into_blocks_gives_the_same_finite_samples(step, kind, cuts, rate):
    name, chosen = step
    x = KINDS[kind](6000)
    make = lambda: REGISTRY[name](chosen, 2, Context(rate=rate))  # noqa: E731
    whole = make().process(x)
    assert np.isfinite(whole).all() and np.abs(whole).max() <= MOST
    if kind == "silence":
        assert not whole.any()
    edges = sorted({0, 6000, *cuts})
    processor = make()
    parts = [processor.process(np.ascontiguousarray(x[:, a:b])) for a, b in zip(edges, edges[1:], strict=False)]
    assert np.array_equal(np.concatenate(parts, axis=1), whole)


def test_settings_moved_on_ticks_give_the_same_samples_in_any_blocks():
    x = noise(2, 64 * 200)
    kind = REGISTRY["compressor"]
    moves = {40: {"threshold_db": -40.0}, 90: {"makeup_db": 9.0, "mix": 0.4}, 91: {"ratio": 20.0}}

    def run(block):
        processor = kind(kind.settings_model(), 2, Context())
        parts = []
        for tick in range(0, 200, block):
            for at in range(tick, tick + block):
                if at in moves and at == tick:
                    processor.configure(kind.settings_model(**moves[at]), Context())
            parts.append(processor.process(np.ascontiguousarray(x[:, tick * 64 : (tick + block) * 64])))
        return np.concatenate(parts, axis=1)

    assert np.array_equal(run(1)[:, : 40 * 64], run(10)[:, : 40 * 64])
    moves = {40: {"threshold_db": -40.0}, 90: {"makeup_db": 9.0, "mix": 0.4}}
    assert np.array_equal(run(1), run(10))


def compressor(step_id="c", **chosen):
    return Step.model_validate({"id": step_id, "kind": "compressor", "settings": {"threshold_db": -35.0, "ratio": 6.0, **chosen}})


def small_session(**drums):
    """A mono track and a stereo track on a bus, both treated, the bus too."""
    return Session(
        name="Small",
        strips=[
            Strip(id="main", name="Main", kind="main", output=None),
            Strip(id="bus", name="Bus", kind="bus", path=Path(steps=[compressor("glue", ratio=2.0)])),
            Strip(
                id="a",
                name="A",
                kind="track",
                media_id=0,
                output="bus",
                pan=-0.3,
                path=Path(steps=[compressor("c", **drums)]),
            ),
            Strip(id="b", name="B", kind="track", media_id=1, output="bus", level_db=-3.0, trim_db=2.0),
        ],
    )


@pytest.fixture
def media():
    return Arrays(noise(1, FRAMES, 1), noise(2, FRAMES, 2))


def offline(session, media, start=0, stop=FRAMES, strip="main"):
    return np.concatenate([block[strip] for block in render_strips(session, media, start, stop, [strip])], axis=1)


def played(session, media, position_s, frames, prepare=lambda player: None):
    """What a listener hears from the live player, who takes blocks as they come."""
    blocks, enough = [], threading.Event()

    def deliver(block):
        blocks.append(block)
        player.heard(block.epoch, sum(b.audio.shape[1] for b in blocks), 0)
        if sum(b.audio.shape[1] for b in blocks) >= frames:
            enough.set()

    player = Player(session, media, deliver, lambda epoch: enough.set(), pytest.fail)
    prepare(player)
    player.play(position_s)
    assert enough.wait(30)
    player.close()
    return np.concatenate([b.audio for b in blocks], axis=1)[:, :frames], blocks


@pytest.mark.parametrize("position_s", [0.0, 2.4])
def test_live_is_offline_is_export(media, tmp_path, position_s):
    session = small_session(lookahead_ms=5.0)
    start = round(position_s * 48000) // TICK_FRAMES * TICK_FRAMES
    rendered = offline(session, media, start)
    live, blocks = played(session, media, position_s, FRAMES - start)
    assert np.array_equal(live, rendered[:, : live.shape[1]]) and live.shape[1] > 20000
    assert blocks[0].position_s == pytest.approx(start / 48000)
    names = ("main", "a")
    targets = [FileTarget(name, tmp_path / f"{name[0]}.wav", Writing("wav32f"), start, FRAMES) for name in names]
    export_strips(session, media, targets)
    for target in targets:
        read, rate = soundfile.read(target.path, dtype="float32")
        # A file is the stretch of the song; a play from there is settled by what lies two seconds before.
        assert rate == 48000 and np.array_equal(read.T, offline(session, media, 0, strip=target.strip_id)[:, start:])
        assert np.abs(read.T - offline(session, media, start, strip=target.strip_id)).max() < 1e-4


def test_the_loop_is_gapless_and_stamped(media):
    session = small_session()
    loop = Passage.of_seconds(1.0, 1.5, True, 48000)
    _, blocks = played(session, media, 1.0, 48000 * 2, lambda player: player.want(player.wanted.changed(passage=loop)))
    for one, two in zip(blocks, blocks[1:], strict=False):
        ahead = two.position_s - one.position_s - one.audio.shape[1] / 48000
        assert ahead == pytest.approx(0, abs=1e-9) or ahead == pytest.approx(-0.5, abs=2 * 64 / 48000)
    assert max(block.position_s for block in blocks) < 1.51


def test_reader_walks_loops():
    reader = Reader(0, Passage(0, 192, True), 10_000)
    assert [reader.next(128) for _ in range(4)] == [(0, 128), (128, 64), (0, 128), (128, 64)]
    assert reader.position_of(200) == 8 and reader.position_of(191) == 191


def test_an_edit_while_playing_is_heard_without_a_click(media):
    """A tone through a compressor whose make-up moves, then a step is added: no step larger than the tone's own."""
    tone = (0.2 * np.sin(2 * np.pi * 80 * np.arange(FRAMES) / 48000)).astype(np.float32)[None]
    quiet = Arrays(tone)

    def make(extra, **chosen):
        steps = [compressor("c", threshold_db=0.0, ratio=1.0, **chosen), *extra]
        strips = [
            Strip(id="main", name="Main", kind="main", output=None),
            Strip(id="a", name="A", kind="track", media_id=0, path=Path(steps=steps)),
        ]
        return Session(name="Edit", strips=strips)

    blocks, done = [], threading.Event()

    def deliver(block):
        blocks.append(block)
        heard = sum(b.audio.shape[1] for b in blocks)
        if len(blocks) == 10:
            player.want(Wanted(make([], makeup_db=6.0)))
        if len(blocks) == 30:
            trim = Step.model_validate({"id": "t", "kind": "trim", "settings": {"gain_db": -12.0}})
            player.want(Wanted(make([trim], makeup_db=6.0)))
        if len(blocks) == 45:
            player.want(Wanted(make([], makeup_db=6.0, lookahead_ms=10.0)))
        if heard > 100_000:
            done.set()
        player.heard(block.epoch, heard, 0)

    player = Player(make([]), quiet, deliver, lambda epoch: done.set(), pytest.fail)
    player.play(0.0)
    assert done.wait(30)
    player.close()
    y = np.concatenate([b.audio for b in blocks], axis=1)[0]
    level = [np.abs(y[at : at + 2400]).max() for at in (15_000, 50_000, 80_000, 96_000)]
    assert [20 * np.log10(v / level[0]) for v in level] == pytest.approx([0, 6, -6, 6], abs=0.1)
    assert np.abs(np.diff(y)).max() < 2.2 * np.abs(np.diff(y[10_000:15_000])).max()


def test_before_after_taken_null(media):
    """Taken + after = before, sample by sample; an idle scope takes digital silence."""
    session = small_session(lookahead_ms=3.0)
    result = ScopeRenderer(session, media, SegmentCache(), 20_000, 90_000).compare(Scope("a", "c"))
    assert np.array_equal(result.before, media.sounds[0][:, 20_000:90_000])
    assert result.latency_frames == 144 and len(result.reduction_db) == -(-70_000 // 64)
    solo = session.model_copy(deep=True)
    heard = {}
    for listening in ("before", "after", "difference"):
        plan = compile_plan(solo, media, Rack(), Audition(Scope("a", "c"), listening))
        plan.render(0, 64 * 200)
        heard[listening] = plan.render(64 * 200, 64 * 400)
    assert not np.array_equal(heard["before"], heard["after"])
    node = compile_plan(solo, media, Rack(), Audition()).node("a")
    left, _ = node.gains
    late, first = 144, 64 * 200
    step = (result.before - result.after)[0]
    stop = 64 * 600 - late
    assert heard["difference"][0, 20_000 - first + late :] == pytest.approx(np.float32(left) * step[: stop - 20_000], abs=1e-6)
    idle = small_session(ratio=1.0, lookahead_ms=3.0)
    plan = compile_plan(idle, media, Rack(), Audition(Scope("a", "c"), "difference"))
    assert not plan.render(0, 64 * 500).any()


def test_strips_that_meet_are_aligned_to_the_sample():
    """An idle lookahead on one of two equal tracks: exactly twice the other, no comb."""
    x = noise(1, FRAMES, 5)
    both = Arrays(x, x)
    strips = [
        Strip(id="main", name="Main", kind="main", output=None),
        Strip(id="a", name="A", kind="track", media_id=0, path=Path(steps=[compressor(ratio=1.0, lookahead_ms=7.0)])),
        Strip(id="b", name="B", kind="track", media_id=1),
    ]
    together = offline(Session(name="Two", strips=strips), both)
    alone = offline(Session(name="One", strips=[strips[0], strips[2]]), both)
    assert np.array_equal(together, 2 * alone)
    strips[1].path.steps[0].bypass = True
    assert np.array_equal(offline(Session(name="Bypassed", strips=strips), both), together)


def test_scope_results_are_reused_from_the_edit_on(media):
    session, cache = small_session(), SegmentCache()
    session.strip("a").path.steps = [compressor("one"), compressor("two"), compressor("three")]
    compare = lambda: ScopeRenderer(session, media, cache, 0, 48000).compare(Scope("a", "three"))  # noqa: E731
    compare()
    misses = cache.misses
    session.strip("a").path.steps[2] = compressor("three", ratio=9.0)
    compare()
    assert cache.misses == misses + 1
    small = SegmentCache(most_bytes=1000)
    ScopeRenderer(session, media, small, 0, 48000).compare(Scope("a", "three"))
    assert small.bytes <= 1000


def test_a_render_can_be_called_off(media):
    with pytest.raises(Cancelled):
        list(render_strips(small_session(), media, 0, FRAMES, ["main"], lambda: True))


def test_mute_and_solo(media):
    session = small_session()
    session.strip("a").solo = True
    assert [audible(session, session.strip(s), True) for s in ("main", "bus", "a", "b")] == [True, True, True, False]
    assert all(audible(session, strip, False) for strip in session.strips)
    session.strip("a").mute = True
    assert not audible(session, session.strip("a"), False)
    solo_bus = small_session()
    solo_bus.strip("bus").solo = True
    assert all(audible(solo_bus, strip, True) for strip in solo_bus.strips)


def test_pan_law(media):
    """Equal power for mono (-3.01 dB at the centre); balance for stereo, never raised."""
    session = small_session()
    session.strip("a").pan = 0.0
    gains = lambda strip: compile_plan(session, media, Rack()).node(strip).gains  # noqa: E731
    assert 20 * np.log10(gains("a")) == pytest.approx([-3.01, -3.01], abs=0.01)
    for pan in np.linspace(-1, 1, 9):
        session.strip("a").pan = float(pan)
        assert sum(g * g for g in gains("a")) == pytest.approx(1)
    session.strip("b").level_db = 0.0
    assert gains("b") == (1.0, 1.0)
    session.strip("b").pan = 0.6
    assert gains("b")[0] < 1.0 == gains("b")[1]


def test_hearing_the_key_plays_what_the_detector_hears_in_time_with_the_sound(media):
    chosen = {"key_filter": "high-pass", "key_low_hz": 3000.0, "lookahead_ms": 5.0}
    session = small_session(**chosen)
    session.strip("a").pan = 0.0
    render = lambda listening: np.concatenate(  # noqa: E731
        [
            plan.render(at, 1024)
            for plan in [compile_plan(session, media, Rack(), Audition(Scope("a", "c"), listening))]
            for at in range(0, 48000, 1024)
        ],
        axis=1,
    )
    step = REGISTRY["compressor"](REGISTRY["compressor"].settings_model(**chosen), 1, Context())
    step.process(np.ascontiguousarray(media.sounds[0][:, :48000]))
    late = 240  # the whole plan is as late as this one lookahead
    heard = render("key")[0, late : late + 40000]
    assert np.allclose(heard, step.detector_input[0, :40000] * np.sqrt(0.5), atol=1e-6)
    assert not np.allclose(heard, render("after")[0, late : late + 40000], atol=1e-2)
