"""The render store: whatever was rendered before, and whatever of it was lost, a render is the one from nothing."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.demo import harbour_walk, low_water
from saltanvil.engine import segments
from saltanvil.engine.audition import Scope
from saltanvil.engine.media import Arrays
from saltanvil.engine.render import render_strips
from saltanvil.engine.scopes import ScopesRender
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.edits.base import EditRefused
from saltanvil.store.renders import RENDERS, RenderFile
from tests.edits import any_edits, moved_json
from tests.engine.test_stream import Names
from tests.signals import noise

SEGMENT_FRAMES = 4096
DEMOS = [demo.build_session(Names()) for demo in (harbour_walk, low_water)]
FRAMES = 3 * SEGMENT_FRAMES - 1000
SOUNDS = [0.3 * noise(1, FRAMES, seed) for seed in range(24)]


class Memory:
    """A store that keeps everything but what it is told to lose."""

    def __init__(self):
        self.kept, self.lost, self.reads, self.writes = {}, set(), 0, 0

    def has(self, name, segments):
        return all((name, segment) in self.kept for segment in range(segments))

    def read(self, name, segment):
        self.reads += 1
        sound = self.kept.get((name, segment))
        return None if sound is None or self.reads in self.lost else sound.copy()

    def write(self, name, segment, sound):
        self.writes += 1
        self.kept[name, segment] = sound.copy()

    def borders(self, name, most):
        return [number for kind, number in self.kept if kind == ("states", name) and number <= most]

    def read_state(self, name, segment):
        return self.kept.get((("states", name), segment))

    def write_state(self, name, segment, state):
        self.kept[("states", name), segment] = state


class Stored(Arrays):
    def __init__(self, store, *sounds):
        super().__init__(*sounds)
        self.renders = store

    def key(self, media_id):
        return f"sound {media_id}"


@pytest.fixture(autouse=True)
def short_segments(monkeypatch):
    monkeypatch.setattr(segments, "SEGMENT_FRAMES", SEGMENT_FRAMES)


def outputs(session, media, names):
    blocks = list(render_strips(session, media, 0, FRAMES, names, begin=0))
    return {name: np.concatenate([block[name] for block in blocks], axis=1) for name in names}


@pytest.mark.parametrize("demo", DEMOS, ids=["harbour walk", "low water"])
@settings(max_examples=40, deadline=None)
@given(data=st.data())
def test_any_history_of_renders_gives_what_a_render_from_nothing_gives(demo, data):
    """Edits of every kind, one store for all versions, reads that fail in the midst: every strip's output, to the bit. A
    fingerprint that an edit does not change, though it changes the sound, would be found here."""
    store, session = Memory(), demo
    for _ in range(data.draw(st.integers(2, 5))):
        try:
            session = apply(session, EDIT.validate_python(data.draw(any_edits(session))))
        except EditRefused:
            continue
        names = data.draw(st.lists(st.sampled_from([strip.id for strip in session.strips]), min_size=1, max_size=3, unique=True))
        store.lost = {store.reads + number for number in data.draw(st.sets(st.integers(1, 30), max_size=2))}
        with_store, plain = (outputs(session, media, names) for media in (Stored(store, *SOUNDS), Arrays(*SOUNDS)))
        for name in names:
            assert np.array_equal(with_store[name], plain[name]), name


@pytest.mark.parametrize("lost", [set(), {1}, {2}, {3}])
def test_what_an_edit_leaves_alone_is_read(lost):
    """An edit of one track renders it and what it feeds; a segment that is lost is rendered from the start."""
    session, store = DEMOS[1], Memory()
    media = Stored(store, *SOUNDS)
    outputs(session, media, ["main"])
    first, store.writes = store.writes, 0
    step = next(step for strip in session.strips if strip.name == "Snare" for step in strip.path.steps)
    changed = apply(session, EDIT.validate_python(moved_json("step", step.id, bypass=True)))
    store.lost = lost
    sound = outputs(changed, media, ["main"])["main"]
    assert np.array_equal(sound, outputs(changed, Arrays(*SOUNDS), ["main"])["main"])
    # Of ten strips with steps and two buses without four: the snare, the drums, what they key, and the main.
    assert (first, store.writes) == (3 * 12, 3 * 4) and store.reads > 9
    store.writes, store.reads, store.lost = 0, 0, set()
    outputs(session, media, ["main"])  # undone
    assert store.writes == 0 and store.reads == 3  # the main alone


def test_the_file_serves_as_the_store(tmp_path):
    """Written by a thread of its own while the render goes on: what it is handed must not change meanwhile."""
    session, file = DEMOS[1], RenderFile(tmp_path / RENDERS, 1 << 30)
    media = Stored(file, *SOUNDS)
    names = [strip.id for strip in session.strips]
    plain = outputs(session, Arrays(*SOUNDS), names)
    for _ in range(2):
        sound = outputs(session, media, names)
        assert all(np.array_equal(sound[name], plain[name]) for name in names)
        file.flush()
    assert file.bytes > 0
    file.close()


def test_a_scope_whose_gain_reduction_counts_is_made_though_its_sound_is_there():
    session, store = DEMOS[1], Memory()
    strip = next(strip for strip in session.strips if strip.name == "Snare")

    def reduction(media):
        scopes = ScopesRender(session, media, [Scope(strip.id)], FRAMES)
        for _ in scopes.blocks():
            pass
        return scopes.reduction_db(0, 0, FRAMES)

    outputs(session, Stored(store, *SOUNDS), ["main"])
    plain = reduction(Arrays(*SOUNDS))
    assert len(plain) and np.array_equal(reduction(Stored(store, *SOUNDS)), plain)


def test_the_same_number_with_another_sound_is_another_sound():
    """Numbers of media are given anew after a removal; keys are not."""
    session, store = DEMOS[0], Memory()
    outputs(session, Stored(store, *SOUNDS), ["main"])
    others = Stored(store, *reversed(SOUNDS))
    others.key = lambda media_id: f"other {media_id}"
    assert np.array_equal(outputs(session, others, ["main"])["main"], outputs(session, Arrays(*others.sounds), ["main"])["main"])
