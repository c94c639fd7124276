"""The sound process: documents told in what is new of them, and players that are twins of those in the server."""

import os
import pickle
import signal
import time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import TypeAdapter

from saltanvil.demo import harbour_walk, low_water
from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.stream import Stream
from saltanvil.engine.wanted import Passage, Wanted
from saltanvil.media.recording import recorded
from saltanvil.session.apply import AnyEdit, apply
from saltanvil.session.document.session import Strip
from saltanvil.session.edits.base import EditRefused
from saltanvil.sound.line import SoundProcess
from saltanvil.sound.player import RemotePlayer
from saltanvil.sound.process import MAX_WAITING_BLOCKS
from saltanvil.sound.wire import change_of, changed
from saltanvil.store.database import Database
from saltanvil.store.media import MediaStore
from tests.conftest import wait_for
from tests.edits import any_edits
from tests.engine.test_stream import Names, session
from tests.listener import unpacked
from tests.signals import noise

EDIT = TypeAdapter(AnyEdit)
DEMOS = [harbour_walk.build_session(Names()), low_water.build_session(Names())]


@settings(max_examples=60, deadline=None)
@given(data=st.data(), demo=st.sampled_from(DEMOS))
def test_the_other_side_has_the_same_document_and_keeps_what_stayed(data, demo):
    """Any chain of edits, some taken back, each sent as what is new in it: equal, and an untouched strip stays the object it was,
    so that its nodes are not made anew."""
    here, there, versions = demo, changed(None, pickle.loads(pickle.dumps(change_of(demo, None)))), [demo]
    for _ in range(data.draw(st.integers(1, 6))):
        if data.draw(st.booleans()):
            try:
                now = apply(here, EDIT.validate_python(data.draw(any_edits(here))))
            except EditRefused:
                continue
        else:
            now = data.draw(st.sampled_from(versions))
        message = pickle.dumps(change_of(now, here))
        after = changed(there, pickle.loads(message))
        assert after == now
        old = {strip.id: (mine, theirs) for mine, theirs in zip(here.strips, there.strips, strict=True) for strip in [mine]}
        for mine, theirs in zip(now.strips, after.strips, strict=True):
            if mine.id in old and old[mine.id][0] is mine:
                assert theirs is old[mine.id][1]
        assert (now is here) == (after is there)
        here, there = now, after
        versions.append(now)


def test_what_lies_in_slots_comes_along():
    here = next(demo for demo in DEMOS if any(list(strip.path.lanes()) for strip in demo.strips))
    strip = next(strip for strip in here.strips if strip.path.steps)
    owners = [("strip", strip.id), ("step", strip.path.steps[0].id)]
    lane = next(lane for strip in here.strips for lane in strip.path.lanes())
    for of, name in [*owners, ("lane", lane.id)]:
        for slot in (1, 2):
            now = apply(here, EDIT.validate_python({"op": "store_slot", "of": of, "id": name, "slot": slot}))
            there = changed(here, pickle.loads(pickle.dumps(change_of(now, here))))
            assert there == now and there.model_dump_json() == now.model_dump_json()
            here = now
    assert pickle.loads(pickle.dumps(here)) == here


def test_one_moved_value_is_a_small_message():
    demo = DEMOS[0]
    strip = demo.strips[3]
    moved = apply(
        demo, EDIT.validate_python({"op": "set", "values": [{"of": "strip", "id": strip.id, "name": "pan", "value": 0.3}]})
    )
    assert len(pickle.dumps(change_of(moved, demo), 5)) < 0.3 * len(pickle.dumps(demo, 5))


LOOP = Passage.of_seconds(0.0, 3.0, True, 48_000)


class Ear:
    """Takes what a player gives; hears it at once."""

    def __init__(self, database, document, process):
        self.blocks, self.ended, self.failed, self.lost = [], [], [], []
        self.player = RemotePlayer(
            database.path, document, self._deliver, self.ended.append, self.failed.append, lambda: self.lost.append(True), process
        )

    def _deliver(self, block):
        header, audio = unpacked(block)
        self.blocks.append((header, audio))
        self.player.taken(0)
        self.player.heard(header["epoch"], sum(sound.shape[1] for _, sound in self.blocks), 0)


@pytest.fixture(scope="module")
def process():
    made = SoundProcess()
    yield made
    made.close()


@pytest.fixture(scope="module")
def database(tmp_path_factory):
    with Database(tmp_path_factory.mktemp("sound") / "saltanvil.db") as made:
        yield made


@pytest.fixture(scope="module")
def document(database):
    """Two tracks of noise, one through a compressor."""
    store = MediaStore(database)
    numbers = [store.add(f"{seed}", "float", 48_000, 1, iter([0.3 * noise(1, 4 * 48_000, seed)]), 48_000) for seed in (1, 2)]
    made = session()
    strips = [
        strip if strip.media_id is None else strip.model_copy(update={"media_id": numbers[strip.media_id]})
        for strip in made.strips
    ]
    return made.model_copy(update={"strips": strips})


def expected(database, document, count):
    wanted = Wanted(document, Audition())
    stream = Stream(MediaStore(database).at_rate(48_000), wanted, 0, 1)
    return [stream.next(wanted, 0.3) for _ in range(count)]


def test_it_gives_what_a_play_in_the_server_would(process, database, document):
    ear = Ear(database, document, process)
    assert ear.player.play(0.0) == 1 and ear.player.playing
    wait_for(lambda: ear.ended)
    assert ear.ended == [1] and not ear.player.playing and not ear.failed
    for (header, audio), block in zip(ear.blocks, expected(database, document, len(ear.blocks)), strict=True):
        assert np.array_equal(audio, block.audio) and header["sequence"] == block.sequence
        assert header["steps"] == block.steps and header["momentary_lufs"] == round(block.momentary_lufs, 1)
    ear.player.close()


def test_changes_are_heard_and_waited_for(process, database, document):
    ear = Ear(database, document, process)
    ear.player.want(passage=LOOP)
    ear.player.play(0.0)
    wait_for(lambda: len(ear.blocks) > 20)
    muted = document.model_copy(
        update={"strips": [strip.model_copy(update={"mute": strip.kind == "track"}) for strip in document.strips]}
    )
    ear.player.want(session=muted)
    ear.player.wait_until_ahead(10.0)
    assert ear.player._known == ear.player._changes
    sent = ear.player._changes
    for _ in range(3):  # nothing new in it
        ear.player.want(session=muted)
        ear.player.want(scope=Scope("a"))
    assert ear.player._changes == sent + 1
    count = len(ear.blocks)
    wait_for(lambda: len(ear.blocks) > count + 20)
    assert not ear.blocks[-1][1].any()
    ear.player.cover(True, {})
    count = len(ear.blocks)
    wait_for(lambda: len(ear.blocks) > count + 5)
    assert ear.blocks[-1][0]["strips"] == {} and ear.blocks[-1][0]["main_peaks_dbfs"] == [-160.0, -160.0]
    assert ear.player.stop() == 2
    ear.player.wait_until_ahead(10.0)  # nobody waits for one that has stopped
    ear.player.close()


def test_a_recording_is_played_like_media(process, database, document, tmp_path):
    sound = 0.5 * noise(2, 48_000, 9)
    kept = recorded(tmp_path / "sound", [sound], 48_000, 2)
    number = 1 << 52
    strips = [Strip(id="main", name="Main", kind="main", output=None), Strip(id="r", name="R", kind="track", media_id=number)]
    ear = Ear(database, document, process)
    ear.player.cover(False, {number: (kept, 100, 40_000)})
    ear.player.want(session=document.model_copy(update={"strips": strips}))
    ear.player.play(0.0)
    wait_for(lambda: sum(audio.shape[1] for _, audio in ear.blocks) > 30_000)
    heard = np.concatenate([audio for _, audio in ear.blocks], axis=1)[:, :30_000]
    assert np.abs(heard - sound[:, 100:30_100]).max() < 1e-6
    ear.player.close()


def test_a_listener_who_takes_nothing_gets_no_more_than_its_room(process, database, document):
    ear = Ear(database, document, process)
    ear.player.taken = lambda waiting: None
    ear.player.want(passage=LOOP)
    ear.player.play(0.0)
    wait_for(lambda: len(ear.blocks) >= MAX_WAITING_BLOCKS)
    time.sleep(0.3)
    assert len(ear.blocks) == MAX_WAITING_BLOCKS
    ear.player.close()


def test_what_it_cannot_play_is_said_and_others_play_on(process, database, document):
    other = Ear(database, document, process)
    other.player.want(passage=LOOP)
    other.player.play(0.0)
    gone = document.model_copy(update={"strips": [*document.strips, Strip(id="x", name="X", kind="track", media_id=999_999)]})
    ear = Ear(database, gone, process)
    ear.player.play(0.0)
    wait_for(lambda: ear.failed)
    assert "999999" in ear.failed[0] and not ear.player.playing
    count = len(other.blocks)
    wait_for(lambda: len(other.blocks) > count + 20)
    ear.player.close()
    other.player.close()


SAID = {
    "open": lambda player: None, "play": lambda player: player.play(0.0), "stop": lambda player: player.stop(),
    "want": lambda player: player.want(monitor="mono"),
    "recordings": lambda player: player.cover(True, {1: None}), "covered": lambda player: player.cover(False, {}),
    "heard": lambda player: player.heard(1, 100, 0), "taken": lambda player: player.taken(0),
    "close": lambda player: player.close(),
}  # fmt: skip


@pytest.mark.parametrize("what", SAID)
def test_it_may_die_at_each_message(database, document, what):
    """Killed as the message leaves: nothing in the server fails or waits for it, the player is told, the next one plays."""

    class Dying(SoundProcess):
        dies = True

        def send(self, *message):
            if message[1] == what and self.dies:
                self.dies = False
                os.kill(self.pid, signal.SIGKILL)
            super().send(*message)

    process = Dying()
    try:
        ear = Ear(database, document, process)
        SAID[what](ear.player)
        if what != "close":  # then nobody is there to be told
            wait_for(lambda: ear.lost)
            assert not ear.player.playing
            ear.player.wait_until_ahead(10.0)
            ear.player.close()
        again = Ear(database, document, process)
        again.player.play(0.0)
        # One that asks before the end was noticed is told as well, and may ask again.
        wait_for(lambda: again.blocks or again.lost)
        if not again.blocks:
            again = Ear(database, document, process)
            again.player.play(0.0)
            wait_for(lambda: again.blocks)
    finally:
        process.close()


def test_what_comes_for_a_player_that_has_left_is_passed_over(process, database, document, capfd):
    ear = Ear(database, document, process)
    ear.player.close()
    for say in SAID.values():
        say(ear.player)
    other = Ear(database, document, process)
    other.player.play(0.0)
    wait_for(lambda: other.blocks)
    other.player.close()
    assert "Traceback" not in capfd.readouterr().err and not ear.failed


def test_killed_it_tells_its_players_and_starts_again_for_the_next(database, document):
    process = SoundProcess()
    ear = Ear(database, document, process)
    ear.player.play(0.0)
    wait_for(lambda: ear.blocks)
    old = process.pid
    os.kill(old, signal.SIGKILL)
    wait_for(lambda: ear.lost)
    assert not ear.player.playing
    ear.player.want(session=document.model_copy())  # nobody hears it, and nothing breaks
    ear.player.close()
    again = Ear(database, document, process)
    again.player.play(0.0)
    wait_for(lambda: again.blocks)
    assert process.pid != old
    process.close()
    with pytest.raises(ProcessLookupError):
        os.kill(process.pid or old, 0)
