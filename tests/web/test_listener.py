"""Listeners on the socket: one that behaves gets its blocks in time, whoever listens beside it."""

import contextlib
import json
import os
import threading
import time

import httpx
import numpy as np
import pytest
import soundfile
from websockets.exceptions import ConnectionClosed
from websockets.sync.client import connect

from saltanvil.engine.audition import Audition
from saltanvil.engine.stream import Stream
from saltanvil.engine.wanted import Passage, Wanted
from tests.conftest import wait_for
from tests.edits import moved_json
from tests.listener import Client
from tests.signals import noise
from tests.web.test_attack import served  # noqa: F401

RATE = 48000


@pytest.fixture
def session(served, tmp_path):  # noqa: F811
    """A session with one track of noise through a compressor."""
    services, address = served
    path = tmp_path / "noise.wav"
    soundfile.write(path, noise(1, 20 * RATE, 3).T, RATE, "FLOAT")
    with httpx.Client(base_url=address) as client:
        number = client.post("/api/sessions", json={"name": "S"}).json()["id"]
        client.post(f"/api/sessions/{number}/media?name=noise.wav", content=path.read_bytes())
        wait_for(lambda: len(client.get(f"/api/sessions/{number}").json()["session"]["strips"]) == 2)
        track = next(s for s in client.get(f"/api/sessions/{number}").json()["session"]["strips"] if s["kind"] == "track")
        step = {"id": "c", "kind": "compressor", "settings": {"threshold_db": -30.0, "ratio": 4.0}}
        edit = {"op": "add_step", "strip_id": track["id"], "step": step}
        assert client.post(f"/api/sessions/{number}/edits", json={"edit": edit}).status_code == 200
    return services, address, number


def expected(services, number, count, start=0):
    version = services.sessions.version(number).session
    wanted = Wanted(version, Audition(), Passage(0, 1 << 62, False))
    stream = Stream(services.media.at_rate(RATE), wanted, start, 1)
    return [stream.next(wanted, 0.3).audio for _ in range(count)]


def slow(address, number, stop):
    """Reads one message in a while, and reports nothing."""
    with connect(f"{address.replace('http', 'ws')}/api/sessions/{number}/audition?tab=slow", origin=address) as socket:
        socket.send('{"type": "play", "position_s": 0}')
        while not stop.wait(0.3):
            with contextlib.suppress(TimeoutError):  # it has all that it gets without reporting
                socket.recv(0.1)


def stalled(address, number, stop):
    """Never reads."""
    socket = connect(f"{address.replace('http', 'ws')}/api/sessions/{number}/audition?tab=stalled", origin=address, legacy=True)
    socket.send('{"type": "play", "position_s": 0}')
    stop.wait()
    socket.socket.close()


def abrupt(address, number, stop):
    """Goes without a word, again and again, in the middle of a play."""
    while not stop.wait(0.2):
        socket = connect(
            f"{address.replace('http', 'ws')}/api/sessions/{number}/audition?tab=abrupt", origin=address, legacy=True
        )
        socket.send('{"type": "play", "position_s": 1}')
        stop.wait(0.1)
        socket.socket.close()


def garbage(address, number, stop):
    """Says what is not to be understood, or lies about what it heard."""
    lies = [
        "{", '{"type": "jump"}', "[]", '{"type": "play", "position_s": "now"}', '{"type": "play", "position_s": 1e999}',
        json.dumps({"type": "heard", "epoch": 1, "frames": 10**15, "underruns": 10**9}), "x" * 70_000, os.urandom(64),
    ]  # fmt: skip
    while not stop.wait(0.02):
        try:
            with connect(f"{address.replace('http', 'ws')}/api/sessions/{number}/audition?tab=garbage", origin=address) as socket:
                for lie in lies:
                    socket.send(lie)
                    stop.wait(0.01)
        except ConnectionClosed:
            pass


@pytest.mark.parametrize("beside", [slow, stalled, abrupt, garbage])
def test_a_listener_beside_a_bad_one_hears_everything_in_time(session, beside):
    services, address, number = session
    stop = threading.Event()
    # Each new play settles on a second of sound before it begins: one that comes and goes is work enough.
    count = 1 if beside is abrupt else 3
    others = [threading.Thread(target=beside, args=(address, number, stop), daemon=True) for _ in range(count)]
    for other in others:
        other.start()
    client = Client(address, number, "good")
    client.play()
    wait_for(lambda: client.queue.heard > 3 * RATE)
    gaps, played = client.queue.gaps, client.queue.sounded()
    client.close()
    stop.set()
    for other in others:
        other.join(10)
    # A machine that is busy otherwise may cost one or two; a listener that starves has one for nearly every block of 140.
    assert gaps <= 8
    for (sequence, audio), block in zip(played.items(), expected(services, number, len(played)), strict=True):
        assert np.array_equal(audio, block[:, : audio.shape[1]]), sequence
    wait_for(lambda: not services._auditions)  # nobody is left behind


def test_edits_reach_the_ear_within_the_lead_and_none_is_lost(session):
    """Fifty quick edits while it plays: the last one sounds, long before what was ahead has been heard."""
    services, address, number = session
    client = Client(address, number, "good")
    client.play()
    wait_for(lambda: client.queue.heard > RATE // 2)
    with httpx.Client(base_url=address) as http:
        for step in range(50):
            body = {"edit": moved_json("step", "c", threshold_db=-30.0 - step / 5), "gesture": "drag", "tab": "good"}
            assert http.post(f"/api/sessions/{number}/edits", json=body).status_code == 200
    at, versions = client.queue.heard, client.headers[-1]["version"]
    assert versions > 10
    wait_for(lambda: client.queue.heard > at + RATE)
    client.close()
    assert client.queue.gaps <= 8  # as above
    # From the last seam on it is what a play with the last value says, glides apart: the reference is moved there likewise.
    last = client.headers[-1]["seam"]
    tail = [audio for sequence, audio in client.queue.sounded().items() if sequence > last + 10]
    want = expected(services, number, last + 11 + len(tail))[last + 11 :]
    assert len(tail) > 4
    for audio, block in zip(tail, want, strict=True):
        assert np.abs(audio - block[:, : audio.shape[1]]).max() < 2e-3 * np.abs(block).max() + 1e-4


def test_what_was_moved_is_not_rendered_again_when_it_is_stored(session):
    """The edit that stores a move changes nothing of what sounds: the play is taken back once, not twice."""
    services, address, number = session
    client = Client(address, number, "good")
    client.play()
    wait_for(lambda: client.queue.heard > RATE // 2)
    edit = moved_json("step", "c", threshold_db=-45.0)
    client.send(type="move", values=edit["values"], gesture="drag", number=1)
    wait_for(lambda: client.headers[-1]["version"] == 1)
    body = {"edit": edit, "gesture": "drag", "tab": "good", "number": 1}
    assert httpx.post(f"{address}/api/sessions/{number}/edits", json=body).status_code == 200
    at = client.queue.heard
    wait_for(lambda: client.queue.heard > at + RATE // 2)
    assert client.headers[-1]["version"] == 1
    assert services.sessions.version(number).session.step("c").step.settings.threshold_db == -45.0
    client.close()


def test_a_listener_that_falls_silent_is_not_sent_more_than_its_lead(session):
    _, address, number = session
    client = Client(address, number, "good")
    client.play()
    wait_for(lambda: client.queue.heard > RATE // 2)
    client._running = False  # no reports any more
    time.sleep(0.5)
    count = len(client.headers)
    time.sleep(1.0)
    assert len(client.headers) - count <= 2
    client.close()
