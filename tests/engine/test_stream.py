"""A play taken back: blocks rendered anew are those of a play in which the edit came there, and every state is whole."""

import copy
import time
from collections import deque

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.demo import harbour_walk, low_water
from saltanvil.dsp.state import Stateful
from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.live import (
    ANEW_S,
    CHANGE_STEP_S,
    LATE_STEP_S,
    LEAD_S,
    LEAD_STEP_S,
    LEFT_S,
    MAX_LEAD_S,
    MAX_OUTPUT_DELAY_S,
    MIN_OUTPUT_DELAY_S,
    OPENING_BLOCKS,
    OUTPUT_DELAY_S,
    QUIET_S,
    RESTED_S,
    Player,
)
from saltanvil.engine.rack import Rack
from saltanvil.engine.stream import BLOCK_FRAMES, Stream
from saltanvil.engine.wanted import Passage, Wanted
from saltanvil.processors import REGISTRY
from saltanvil.processors.base import Context
from saltanvil.processors.echo import MAX_NOTE_MS
from saltanvil.session.document.path import Path, Step
from saltanvil.session.document.session import Session, Strip
from tests.engine.test_engine import Arrays
from tests.listener import FADE_FRAMES, Queue, Taken
from tests.signals import noise

RATE = 48000
FRAMES = 3 * RATE
MEDIA = Arrays(noise(1, FRAMES, 1), noise(2, FRAMES, 2))


def session(threshold_db=-30.0, extra=(), **strip):
    compressor = Step.model_validate(
        {"id": "c", "kind": "compressor", "settings": {"threshold_db": threshold_db, "ratio": 6.0, "lookahead_ms": 2.0}}
    )
    steps = [compressor, *(Step.model_validate(step) for step in extra)]
    return Session(
        name="Small",
        strips=[
            Strip(id="main", name="Main", kind="main", output=None),
            Strip(id="a", name="A", kind="track", media_id=0, path=Path(steps=steps), **strip),
            Strip(id="b", name="B", kind="track", media_id=1, level_db=-3.0),
        ],
    )


SESSIONS = [
    session(),
    session(-50.0),
    session(mute=True),
    session(solo=True, pan=0.5),
    session(extra=[{"id": "e", "kind": "echo", "settings": {"mix": 0.5}}]),
    session(extra=[{"id": "l", "kind": "limiter", "settings": {"ceiling_db": -12.0}}]),
    session(extra=[{"id": "s", "kind": "split", "lanes": [
        {"id": "one", "name": "One", "path": {"steps": []}},
        {"id": "two", "name": "Two", "path": {"steps": [{"id": "g", "kind": "gate", "settings": {"threshold_db": -20.0}}]}},
    ]}]),
]  # fmt: skip
KINDS = sorted(set(REGISTRY) - {"split", "echo", "room"})


@st.composite
def any_session(draw):
    """A small session of any steps, some bypassed, one perhaps with a key or in a lane of a split, at any levels."""
    steps = []
    for number in range(draw(st.integers(0, 3))):
        kind = REGISTRY[draw(st.sampled_from(KINDS))]
        start = draw(st.sampled_from([{}, *(start.settings for start in kind.starts)]))
        step = {"id": f"x{number}", "kind": kind.kind, "settings": start, "bypass": draw(st.booleans())}
        if kind.keyed and draw(st.booleans()):
            step["key"] = {"strip_id": "b"}
        steps.append(step)
    if draw(st.booleans()):
        lanes = [
            {"id": "one", "name": "One", "mute": draw(st.booleans())},
            {"id": "two", "name": "Two", "path": {"steps": steps}},
        ]
        steps = [{"id": "s", "kind": "split", "lanes": lanes}]
    return session(
        draw(st.floats(-50.0, 0.0)), steps, level_db=draw(st.floats(-30.0, 6.0)), pan=draw(st.floats(-1.0, 1.0)),
        mute=draw(st.booleans()), solo=draw(st.booleans()),
    )  # fmt: skip


AUDITIONS = [
    Audition(),
    Audition(Scope("a", "c"), "before", -4.0),
    Audition(Scope("a", "c"), "difference"),
    Audition(Scope("a"), "after"),
]
PASSAGES = [Passage(), Passage(0, 20 * 1024, True), Passage(6400, 64_000, True)]

wanted = st.builds(
    Wanted,
    st.one_of(st.sampled_from(SESSIONS), any_session()),
    st.sampled_from(AUDITIONS),
    st.sampled_from(PASSAGES),
    st.sampled_from(("full range", "small speaker", "mono", "dim")),
)


@pytest.fixture(autouse=True, scope="module")
def saved_before_every_block():
    """However slow the machine is just then."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("saltanvil.engine.stream.SAVING_SHARE", 1e9)  # infinity times nothing is no number
        yield


def run(stream, want, count):
    return [block for _ in range(count) if (block := stream.next(want, LEAD_S)) is not None]


def same(one, other):
    assert np.array_equal(one.audio, other.audio)
    assert (one.sequence, one.position_s, one.steps, one.strips) == (other.sequence, other.position_s, other.steps, other.strips)
    assert (one.momentary_lufs, one.main_true_peaks_dbtp) == (other.momentary_lufs, other.main_true_peaks_dbtp)


@settings(max_examples=40, deadline=None)
@given(
    st.lists(st.tuples(wanted, st.integers(1, 12), st.integers(0, 14)), min_size=2, max_size=6),
    st.integers(0, 60_000),
    st.integers(1, 4),
    st.data(),
)
def test_blocks_rendered_anew_are_those_of_a_play_in_which_the_edit_came_there(moves, start, every, data):
    """Any edits at any times, each taken back by so many blocks, with a state saved before each or every few: bit for bit."""
    start = start // 64 * 64
    first = moves[0][0]
    stream = Stream(MEDIA, first, start, 1)
    heard: list = []
    plan: list[Wanted] = []  # with what each block is to be rendered in the end
    forgotten = 0
    for want, ahead, back in moves:
        target = max(len(heard) - back, forgotten)
        frame = sum(block.audio.shape[1] for block in heard[:target])
        stream.take_back(frame)
        kept = stream._state.sequence
        assert kept == target if every == 1 else target <= kept <= max(target, len(heard))
        del heard[kept:], plan[kept:]
        blocks = run(stream, want, ahead)
        stream._saved = deque(state for state in stream._saved if state.sequence % every == 0)
        assert all(block.version == stream.version and block.seam <= block.sequence for block in blocks)
        heard += blocks
        plan += [want] * len(blocks)
        if data.draw(st.booleans()):
            forgotten = max(forgotten, len(heard) - data.draw(st.integers(0, 8)))
            stream.forget(sum(block.audio.shape[1] for block in heard[:forgotten]))
            assert len(stream._saved) <= len(heard) - forgotten
    other = Stream(MEDIA, first, start, 1)
    for block, want in zip(heard, plan, strict=True):
        expected = other.next(want, LEAD_S)
        assert expected is not None
        same(block, expected)


@settings(max_examples=30, deadline=None)
@given(
    st.lists(st.tuples(wanted, st.integers(0, 5), st.integers(0, 8), st.integers(1, 6)), min_size=1, max_size=6),
    st.integers(0, 40_000),
    st.lists(st.integers(0, 10), max_size=2),
)
def test_what_sounds_is_one_version_or_the_next_also_where_blocks_come_too_late(moves, start, seeks):
    """A listener to whom replacements come ever so late, over several plays (epochs): each block that sounds is one that was
    rendered, and an edge that is no seam lies between the sound that went on and the new one. Blocks in time are exact."""
    first = moves[0][0]
    for epoch, seek in enumerate([start, *(1024 * seek for seek in seeks)], 1):
        stream, queue = Stream(MEDIA, first, seek // 64 * 64, epoch), Queue()
        rendered: dict[tuple[int, int], np.ndarray] = {}
        latest: dict[int, tuple[int, np.ndarray]] = {}

        def render(want, count, stream=stream, rendered=rendered, latest=latest):
            blocks = run(stream, want, count)
            for block in blocks:
                rendered[block.sequence, block.version] = block.audio
                latest[block.sequence] = block.version, block.audio
            return [Taken(block.sequence, block.version, block.seam, block.audio) for block in blocks]

        for block in render(first, 12):
            queue.take(block)
        for want, way, late, ahead in moves:
            queue.play(1500)
            stream.take_back(queue.heard + way * 300)
            blocks = render(want, ahead + 10)
            queue.play(late * 400)  # what sounds while they are on their way
            for block in blocks:
                queue.take(block)
            stream.forget(queue.heard)
        queue.play(1 << 20, ending=True)
        faded = np.zeros(queue.heard, bool)
        for fade in queue.fades:
            faded[fade.at : fade.at + FADE_FRAMES] = True
        at = last = 0
        for sequence, version, begin, heard in queue.played:
            frames = heard.shape[1]
            assert last <= sequence <= last + 1 and (begin == 0 or last == sequence)
            last = sequence
            piece, mixed = slice(begin, begin + frames), faded[at : at + frames]
            exact = rendered[sequence, version][:, piece]
            assert np.array_equal(heard[:, ~mixed], exact[:, ~mixed])
            # In a fade it lies between the versions there have been; one may have ended its passage sooner.
            versions = [audio[:, piece] for (number, older), audio in rendered.items() if number == sequence and older <= version]
            known = min(part.shape[1] for part in versions)
            mixed = np.flatnonzero(mixed[:known])
            low = np.min([part[:, mixed] for part in versions], axis=0, initial=np.inf)
            high = np.max([part[:, mixed] for part in versions], axis=0, initial=-np.inf)
            assert np.all((heard[:, mixed] >= low - 1e-6) & (heard[:, mixed] <= high + 1e-6))
            at += frames
        assert latest[last][0] == queue.played[-1][1]  # in the end the newest version sounds


def test_what_is_wanted_now_begins_at_the_seam():
    stream = Stream(MEDIA, Wanted(SESSIONS[0]), 0, 1)
    before = run(stream, Wanted(SESSIONS[0]), 14)
    stream.take_back(6 * BLOCK_FRAMES)
    after = run(stream, Wanted(SESSIONS[1]), 8)
    assert after[0].sequence == after[0].seam == 7 and after[0].version == 1  # the first block is cut by the latency
    changed = [np.abs(new.audio - before[new.sequence].audio).max() for new in after if new.sequence < len(before)]
    assert max(changed) > 0.01


def settings_of(made):
    """Its usual settings, and those of its starting points that can be moved to from there while sound runs."""
    usual = made.settings_model()
    starts = [made.settings_model(**start.settings) for start in made.starts]
    return [usual, *(start for start in starts if made.structural_key(start) == made.structural_key(usual))]


def poison(part):
    """Nonsense wherever nothing is remembered."""
    for name in part.scratch:
        getattr(part, name).fill(np.nan)
    for name, kept in part.heads.items():
        getattr(part, name)[..., kept:] = np.nan
    for name in part.state:
        if isinstance(getattr(part, name), Stateful):
            poison(getattr(part, name))


@pytest.mark.parametrize("kind", sorted(set(REGISTRY) - {"split"}))  # whose lanes are the plan's
@pytest.mark.parametrize("channels", [1, 2])
def test_a_processors_state_is_all_that_it_declares(kind, channels):
    """Process, save, process other sound, go back: the same to the bit as what was copied with everything it holds."""
    made = REGISTRY[kind]
    usual, *starts = settings_of(made)
    x = 0.5 * noise(channels, 64 * 1000, 3)

    def go(one, first, last):
        return one.process(np.ascontiguousarray(x[:, 64 * first : 64 * last]))

    for moved in [usual, *starts]:
        processor = made(usual, channels, Context())
        go(processor, 0, 200)
        processor.configure(moved, Context())  # what glides is on its way
        go(processor, 200, 203)
        saved, everything = processor.clone(), copy.deepcopy(processor)
        go(processor, 500, 1000)
        poison(saved)
        again = saved.clone()
        expected = go(everything, 203, 333), go(everything, 333, 500)
        for one in (saved, again):
            assert all(np.array_equal(a, b) for a, b in zip((go(one, 203, 333), go(one, 333, 500)), expected, strict=True))


class Listener:
    """A player under a clock of its own; what was sent, by number."""

    def __init__(self, monkeypatch):
        self.now = 100.0
        monkeypatch.setattr("saltanvil.engine.live.time.monotonic", lambda: self.now)
        self.blocks, self.sent = {}, []
        #: Blocks that it still takes.
        self.room = 1 << 30
        self.player = Player(SESSIONS[0], MEDIA, self.deliver, lambda epoch: None, pytest.fail, lambda: self.room > 0)

    def deliver(self, block):
        self.blocks[block.sequence] = block
        self.sent.append(block)
        self.room -= 1

    def answer(self, count):
        """Once it has rendered so many more blocks, or as many as it wants to."""
        self.room = count
        self.player.nudge()
        last = -1
        while self.room > 0 and (self.player._behind or last != len(self.sent)):
            last = len(self.sent)
            time.sleep(0.05)
        self.room = 0

    def settled(self):
        """Once the player has rendered its lead."""
        last = -1
        while last != len(self.sent):
            last = len(self.sent)
            time.sleep(0.15)
        return self


def test_an_edit_replaces_all_but_what_is_on_its_way(monkeypatch):
    listener = Listener(monkeypatch)
    player = listener.player
    epoch = player.play(0.0)
    before = dict(listener.settled().blocks)
    assert LEAD_S * RATE - BLOCK_FRAMES < sum(block.audio.shape[1] for block in before.values()) <= LEAD_S * RATE + BLOCK_FRAMES
    player.heard(epoch, 3000, 0)
    listener.settled()
    count = len(listener.sent)
    player.want(player.wanted.changed(session=SESSIONS[1]))
    anew = listener.settled().sent[count:]
    assert anew[0].version == 1 and anew[0].seam == anew[0].sequence
    begins = sum(listener.blocks[n].audio.shape[1] for n in range(anew[0].sequence))
    assert begins <= 3000 + OUTPUT_DELAY_S * RATE < begins + BLOCK_FRAMES  # the one that sounds when it comes
    assert [block.sequence for block in anew] == list(range(anew[0].sequence, anew[0].sequence + len(anew)))
    # What comes next may replace it again: once the hands rest, all of it is rendered anew.
    assert (len(anew) - 2) * BLOCK_FRAMES < ANEW_S * RATE and anew[-1].sequence < max(before)
    listener.now += RESTED_S
    player.heard(epoch, 3000, 0)
    anew = listener.settled().sent[count:]
    assert [block.sequence for block in anew] == list(range(anew[0].sequence, anew[0].sequence + len(anew)))
    assert anew[-1].sequence >= max(before)
    assert not np.array_equal(anew[2].audio, before[anew[2].sequence].audio)
    player.close()


@pytest.mark.parametrize(
    ("heard_s", "pace", "back"), [(0.13, 0.0, True), (0.13, 0.5, True), (0.13, 0.8, False), (0.2, 0.0, True), (0.2, 0.5, False)]
)
def test_a_change_goes_back_only_where_enough_is_left_ahead_meanwhile(monkeypatch, heard_s, pace, back):
    """A listener that took nothing for a while, so that less than the lead is there when the change comes, and a machine that
    needs this much of the time for what it plays: where it cannot catch up in time, the change sounds from the next block on."""
    listener = Listener(monkeypatch)
    player = listener.player
    epoch = player.play(0.0)
    before = max(listener.settled().blocks)
    listener.room = 0
    player.heard(epoch, round(heard_s * RATE), 0)
    ahead_s = player._queued / RATE - heard_s
    # What it takes to go back, to a block that begins where it will sound when it comes.
    needs_s = pace * (ahead_s - OUTPUT_DELAY_S + (2.0 - pace) * BLOCK_FRAMES / RATE)
    assert (ahead_s - needs_s > LEFT_S) == back
    player._pace = pace
    player.want(player.wanted.changed(session=SESSIONS[1]))
    count = len(listener.sent)
    listener.room = 1 << 30
    player.nudge()
    anew = listener.settled().sent[count:]
    assert anew[0].version == int(back) and (anew[0].sequence <= before) == back
    listener.now += RESTED_S
    player.heard(epoch, round(heard_s * RATE), 0)
    listener.settled()
    assert (listener.sent[-1].sequence + 2) * BLOCK_FRAMES > (heard_s + LEAD_S) * RATE  # all of the lead is there again
    player.close()


def test_a_play_opens_before_a_change_is_rendered(monkeypatch):
    """What changes at the press of Play waits until some blocks are there, and then takes their place."""
    listener = Listener(monkeypatch)
    player = listener.player
    listener.room = 0
    player.play(0.0)
    while player._fresh:
        time.sleep(0.001)
    player.want(player.wanted.changed(session=SESSIONS[1]))
    listener.room = 1 << 30
    player.nudge()
    sent = listener.settled().sent
    opening = [block.version for block in sent].index(1)
    lengths = [block.audio.shape[1] for block in sent[:opening]]
    assert sum(lengths[:-1]) < OPENING_BLOCKS * BLOCK_FRAMES <= sum(lengths)  # the first block may be shorter
    assert sent[opening].sequence == 0
    player.close()


def test_the_lead_grows_with_gaps_and_shrinks_after_quiet_minutes(monkeypatch):
    listener = Listener(monkeypatch)
    player = listener.player
    epoch = player.play(0.0)
    for _ in range(20):
        player.heard(epoch, 0, 1)
    assert player._lead_s == MAX_LEAD_S
    for minute in range(20):
        listener.now += QUIET_S + 1.0
        player.heard(epoch, 0, 0)
        assert player._lead_s == pytest.approx(max(MAX_LEAD_S - LEAD_STEP_S * (minute + 1), LEAD_S))
    player.close()


def test_the_way_follows_how_many_changes_come_too_late(monkeypatch):
    """Each late one lengthens it, each change shortens it: it settles where one in five comes too late, within its bounds."""
    listener = Listener(monkeypatch)
    player = listener.player
    epoch = player.play(0.0)
    listener.settled()
    for _ in range(3):
        player.heard(epoch, 3000, 0, late=2)
    listener.settled()
    count = len(listener.sent)
    player.want(player.wanted.changed(session=SESSIONS[1]))
    anew = listener.settled().sent[count:]
    begins = sum(listener.blocks[n].audio.shape[1] for n in range(anew[0].sequence))
    assert begins <= 3000 + (OUTPUT_DELAY_S + 3 * LATE_STEP_S) * RATE < begins + BLOCK_FRAMES
    assert player._output_delay_s == pytest.approx(OUTPUT_DELAY_S + 3 * LATE_STEP_S - CHANGE_STEP_S)
    assert pytest.approx(0.2) == CHANGE_STEP_S / (CHANGE_STEP_S + LATE_STEP_S)
    for _ in range(100):
        player.heard(epoch, 3000, 0, late=1)
    assert player._output_delay_s == MAX_OUTPUT_DELAY_S
    for edit in range(round((MAX_OUTPUT_DELAY_S - MIN_OUTPUT_DELAY_S) / CHANGE_STEP_S) + 5):
        listener.now += 1.0
        player.heard(epoch, 3000, 0)
        player.want(player.wanted.changed(session=SESSIONS[edit % 2]))
        listener.answer(1)
    assert player._output_delay_s == MIN_OUTPUT_DELAY_S
    player.close()


def test_a_drag_goes_back_only_where_it_gains_some_blocks(monkeypatch):
    """Changes that follow each other closely sound from the next block on while that is near; one after a rest goes back."""
    listener = Listener(monkeypatch)
    player = listener.player
    epoch = player.play(0.0)
    listener.settled()
    listener.room = 0
    versions = []
    for step in range(9):
        listener.now += 0.016
        player.heard(epoch, round(0.016 * RATE * step), 0)
        player.want(player.wanted.changed(session=SESSIONS[1 - step % 2]))
        listener.answer(2)
        versions.append(listener.sent[-1].version)
    # Two blocks are rendered in the time of three eighths of one: some steps are far enough ahead to go back, not all of them.
    runs = [versions.count(version) for version in sorted(set(versions))]
    assert versions == sorted(versions) and 3 <= len(runs) <= 6 and max(runs) >= 3
    listener.now += 1.0
    player.heard(epoch, 6200, 0)
    player.want(player.wanted.changed(session=SESSIONS[0]))
    listener.answer(1)
    assert listener.sent[-1].version == versions[-1] + 1 and listener.sent[-1].seam == listener.sent[-1].sequence
    player.close()


def test_nobody_waits_for_a_listener_who_has_gone_silent(monkeypatch):
    """One that neither reads nor reports never gets the change; studies of others must not wait for it again and again."""
    listener = Listener(monkeypatch)
    player = listener.player
    player.play(0.0)
    listener.settled()
    player._room = lambda: False
    player.want(player.wanted.changed(session=SESSIONS[1]))
    assert player._behind
    waited = []
    monkeypatch.setattr(player._condition, "wait_for", lambda test, timeout_s: waited.append(test()))
    player.wait_until_ahead(0.1)
    assert waited == [False]
    listener.now += 1.5
    player.wait_until_ahead(0.1)
    assert waited == [False]
    player.close()


class Names(dict):
    """A number for each name that is asked for."""

    def __missing__(self, name):
        return self.setdefault(name, len(self))


@pytest.mark.parametrize("demo", [harbour_walk, low_water])
def test_the_demos_states_are_whole(demo):
    """With all their steps, on noise: what is rendered from a saved state is the same to the bit as what was."""
    document = demo.build_session(Names())
    media = Arrays(*(0.3 * noise(1, 90 * BLOCK_FRAMES, seed) for seed in range(24)))
    rack = Rack()
    plan = compile_plan(document, media, rack)
    for at in range(0, 40 * BLOCK_FRAMES, BLOCK_FRAMES):
        plan.render(at, BLOCK_FRAMES)
    saved = rack.save()
    frames = range(40 * BLOCK_FRAMES, 80 * BLOCK_FRAMES, BLOCK_FRAMES)
    expected = [plan.render(at, BLOCK_FRAMES).copy() for at in frames]
    rack.go_back(saved)
    for part in rack.states.values():
        poison(part)
    twin = compile_plan(document, media, rack)
    for at, block in zip(frames, expected, strict=True):
        assert np.array_equal(twin.render(at, BLOCK_FRAMES), block)


@pytest.mark.parametrize("rate", [44100, 48000, 88200, 96000])
def test_a_ring_that_is_not_copied_has_room_for_the_lead(rate):
    """The longest echo and all that can be taken back lie in it side by side."""
    echo = REGISTRY["echo"](REGISTRY["echo"].settings_model(), 1, Context(rate=rate))
    longest = MAX_NOTE_MS * rate / 1000
    assert echo._ring.shape[1] - longest > 2 * (MAX_LEAD_S * rate + BLOCK_FRAMES)
