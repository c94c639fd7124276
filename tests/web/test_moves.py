"""What is moved is heard before it is stored, and what is stored never takes back what has been moved since."""

import asyncio
from concurrent.futures import ThreadPoolExecutor

import pytest
from starlette.testclient import TestClient

from saltanvil.store.sessions import Version
from saltanvil.web.app import create_app
from saltanvil.web.audition import TabAudition
from saltanvil.web.messages import MESSAGE, Move
from tests.edits import moved_json
from tests.engine.test_stream import session


class Recorder:
    """A player that notes the threshold it was given."""

    def __init__(self, document, *args, **kwargs):
        self.heard = []

    def want(self, session, balance):
        self.heard.append(session.strip("a").path.steps[0].settings.threshold_db)


@pytest.fixture
def tab(monkeypatch):
    monkeypatch.setattr("saltanvil.web.audition.RemotePlayer", Recorder)
    loop = asyncio.new_event_loop()
    with ThreadPoolExecutor(1) as movers:
        yield (
            TabAudition("one", Version(1, 1, session(-30.0), True, False), None, loop, movers),
            lambda: movers.submit(int).result(),
        )
    loop.close()


def move(value, number, gesture="drag"):
    values = [{"of": "step", "id": "c", "name": "threshold_db", "value": value}]
    return Move(type="move", values=values, gesture=gesture, number=number)


def test_the_newest_move_is_heard_and_older_edits_that_are_stored_do_not_take_it_back(tab):
    audition, settle = tab
    for number, value in enumerate((-31.0, -32.0, -33.0)):
        audition.handle(move(value, number))
    settle()
    assert audition.player.heard[-1] == -33.0
    audition.set_session(session(-31.0), "drag", 0)  # the first of them is stored
    assert audition.player.heard[-1] == -33.0
    audition.set_session(session(-33.0), "drag", 2)  # the last
    assert audition._moved is None and audition.player.heard[-1] == -33.0
    audition.set_session(session(-20.0))  # undone
    assert audition.player.heard[-1] == -20.0


def test_a_move_that_comes_after_its_edit_is_not_heard(tab):
    audition, settle = tab
    audition.set_session(session(-40.0), "drag", 5)
    audition.handle(move(-35.0, 4))
    audition.handle(move(-40.0, 5))
    settle()
    assert audition.player.heard == [-40.0]
    audition.handle(move(-41.0, 6))
    settle()
    assert audition.player.heard[-1] == -41.0


def test_a_move_that_cannot_be_is_dropped_and_another_gesture_ends_it(tab):
    audition, settle = tab
    audition.handle(move(500.0, 1))
    settle()
    assert audition._moved is None and audition.player.heard[-1] == -30.0
    audition.handle(move(-31.0, 2))
    settle()
    audition.set_session(session(-30.0), "another", 3)
    assert audition.player.heard[-1] == -30.0


def test_moves_over_the_socket_are_checked(tmp_path):
    where = {"host": "localhost", "origin": "http://localhost"}
    good = {"type": "move", "values": moved_json("step", "c", ratio=2)["values"], "gesture": "g", "number": 0}
    with TestClient(create_app(tmp_path / "data"), base_url="http://localhost") as client:
        number = client.post("/api/sessions", json={"name": "S"}).json()["id"]
        with client.websocket_connect(f"/api/sessions/{number}/audition?tab=one", headers=where) as socket:
            for _ in ("version", "measuring"):
                socket.receive_text()
            for wrong in ({"values": []}, {"values": [{"of": "step"}]}, {"gesture": "g" * 65}, {"number": -1}):
                socket.send_json(good | wrong)
                assert "not understood" in socket.receive_text()


def attempt(**edit):
    return MESSAGE.validate_python({"type": "try", "edit": edit or None})


def test_an_edit_that_is_tried_is_heard_over_whatever_is_stored_and_leaves_nothing(tab):
    audition, settle = tab
    values = [{"of": "step", "id": "c", "name": "threshold_db", "value": -12.0}]
    audition.handle(attempt(op="set", values=values))
    settle()
    assert audition.player.heard[-1] == -12.0 and audition._session.strip("a").path.steps[0].settings.threshold_db == -30.0
    audition.set_session(session(-25.0))  # another tab's edit
    assert audition.player.heard[-1] == -12.0
    audition.handle(attempt())
    settle()
    assert audition.player.heard[-1] == -25.0


def test_an_edit_that_cannot_be_tried_is_refused_in_words_and_what_is_stored_sounds(tab):
    audition, settle = tab
    sent = []
    audition._send = sent.append
    audition.handle(attempt(op="remove_step", step_id="gone"))
    settle()
    assert audition.player.heard[-1] == -30.0 and "this step is not there any more" in sent[0]
    audition.set_session(session(-25.0))  # it is still tried, and still cannot be: that was said
    assert audition.player.heard[-1] == -25.0 and len(sent) == 1
