"""One resolution of settings and one mix of a document, whoever asks: page, ledger, pictures, live, export, command line."""

import json
import time

import numpy as np
import pytest
import soundfile
from fastapi.testclient import TestClient

from saltanvil.cli import main
from saltanvil.engine.audition import RENDERED, Audition
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.path_runner import PathRunner
from saltanvil.engine.rack import Rack
from saltanvil.processors import REGISTRY, processor_named
from saltanvil.session.document.base import NotFound
from saltanvil.session.settings import resolve
from saltanvil.studies.match.match import with_current_matches
from saltanvil.web.app import create_app
from saltanvil.web.services import Services
from tests.conftest import PATIENCE_S, wait_for
from tests.edits import moved_json
from tests.signals import noise
from tests.web.test_api import BASE, finished, match_in, send
from tests.web.test_api import settled as settled_on_server


@pytest.fixture
def data(tmp_path):
    return tmp_path / "data"


@pytest.fixture
def client(data):
    with TestClient(create_app(data), base_url=BASE, raise_server_exceptions=False) as client:
        yield client


def session_of(client, tmp_path, steps, seconds=3):
    """A session with a track that has these steps; its id and the track's."""
    number = client.post("/api/sessions", json={"name": "Quay"}).json()["id"]
    x = noise(2, 48000 * seconds, 5)
    x[:, : 48000 * seconds // 2] *= 0.1
    soundfile.write(tmp_path / "take.wav", x.T, 48000, subtype="FLOAT")
    send(client, number, "take.wav", (tmp_path / "take.wav").read_bytes())
    view = client.get(f"/api/sessions/{number}").json()
    track = next(strip["id"] for strip in view["session"]["strips"] if strip["kind"] == "track")
    for step in steps:
        answer = client.post(f"/api/sessions/{number}/edits", json={"edit": {"op": "add_step", "strip_id": track, "step": step}})
        assert answer.status_code == 200, answer.text
    return number, track


def test_envelopes_and_levers_by_the_api(client, tmp_path):
    """Made, told with the version, refused with the reason, undone; the socket's file export has them."""
    number, track = session_of(client, tmp_path, [{"kind": "trim", "id": "t", "settings": {}}])

    def edit(**edit):
        return client.post(f"/api/sessions/{number}/edits", json={"edit": edit})

    address = {"of": "step", "id": "t", "name": "gain_db"}
    points = [{"id": "a", "at_s": 0.0, "value": 0.0, "shape": "hold"}, {"id": "b", "at_s": 1.0, "value": -20.0}]
    answer = edit(op="change_envelope", **address, put_points=points).json()
    told = next(one for one in answer["moving"] if one["name"] == "gain_db")
    assert (told["times_s"], told["values"], told["on"]) == ([0.0, 1.0, 1.0], [0.0, 0.0, -20.0], True)
    refused = edit(op="change_envelope", of="strip", id=track, name="start_s", put_points=points)
    assert refused.status_code == 409 and "it cannot move over time" in refused.json()["detail"]
    lever = {"id": "l", "name": "More", "targets": [{**address, "by": -6.0}]}
    assert edit(op="add_lever", strip_id=track, lever=lever).status_code == 200
    circle = edit(op="set_lever", lever_id="l", moves=[{"of": "lever", "id": "l", "name": "value", "by": 1.0}])
    assert circle.status_code == 409 and "loop of levers: More moves More" in circle.json()["detail"]
    study = {"tab": "x", "strip_id": track, "step_id": "t", "start_s": 0.5, "end_s": 1.5}
    seen = client.post(f"/api/sessions/{number}/studies/scope", json=study).json()
    assert [one["text"] for one in seen["moving"]] == ["Gain over this passage -20 to 0 dB"]
    assert client.post(f"/api/sessions/{number}/undo", json={}).json()["session"]["strips"][1]["path"].get("levers", []) == []


def test_everyone_names_the_same_value_for_every_setting(client, tmp_path):
    steps = [{"kind": kind, "id": kind, "settings": {}} for kind in REGISTRY if kind != "split"]
    lanes = [{"id": "l1", "name": "U"}, {"id": "l2", "name": "T", "path": {"steps": [{"kind": "trim", "id": "inner"}]}}]
    steps.append({"kind": "split", "id": "split", "settings": {"by": "copies", "position": 0.4}, "lanes": lanes})
    number, track = session_of(client, tmp_path, steps)
    low = {"edit": moved_json("session", None, low_latency=True)}
    assert client.post(f"/api/sessions/{number}/edits", json=low).status_code == 200
    view = settled_on_server(client, number)
    services = client.app.state.services
    session = services.sessions.version(number).session
    media = services.media.at_rate(48000)
    live = compile_plan(session, media, Rack(), Audition())
    export = compile_plan(session, media, Rack(), RENDERED)
    work = PathRunner(with_current_matches(session, media).strip(track).path, noise(2, 480), 48000)
    at_work = {plan: {node.step.id: node.settings for node in plan_.walk()} for plan, plan_ in
               (("live", live), ("export", export), ("process", work.plan))}  # fmt: skip
    differs = 0
    for step in session.strip(track).path.walk():
        heard, rendered = resolve(session, step, listening=True), resolve(session, step)
        document = next(s for s in walk(view["session"]["strips"]) if s["id"] == step.id)
        editor = {**document["settings"], **view["resolved"].get(step.id, {})}
        assert editor == heard.model_dump(mode="json")
        assert at_work["live"][step.id] == heard and at_work["export"][step.id] == rendered
        assert at_work["process"][step.id] == rendered
        differs += heard != rendered
        question = {"tab": "t", "strip_id": track, "step_id": step.id, "start_s": 0.5, "end_s": 2.5}
        study = client.post(f"/api/sessions/{number}/studies/scope", json=question).json()
        assert study["settings"] == rendered.model_dump(mode="json")  # ledger and pictures
        kind = processor_named(step.kind)
        assert view["plates"][step.id] == kind.summary(rendered)
        if study["curve"] is not None:
            levels = np.array(study["curve"]["input_db"])
            assert np.allclose(study["curve"]["output_db"], kind.curve(rendered, levels), atol=0.006)
        assert study["linear_gain_db"] == pytest.approx(kind.linear_gain_db(rendered))
        facts = {fact["name"]: fact["value"] for fact in study["ledger"]["facts"]}
        if step.kind == "saturator":
            assert facts["loudness_gain_db"] == rendered.output_db == editor["output_db"]
    assert differs >= 3  # lookahead and oversampling, for listening only


def walk(strips):
    for strip in strips:
        yield from walk_steps(strip["path"]["steps"])


def walk_steps(steps):
    for step in steps:
        yield step
        for lane in step.get("lanes", []):
            yield from walk_steps(lane["path"]["steps"])


def exported(client, number):
    answer = client.post(f"/api/sessions/{number}/delivery/files", json={"delivery": {}})
    assert answer.status_code == 202
    job = finished(client, number)[-1]
    assert job["state"] == "done", job
    return client.get(f"/api/exports/{job['id']}/0").content


def test_the_same_document_exports_the_same_file_from_page_and_command_line(client, data, tmp_path):
    """Whatever passage was selected, heard or measured before: the fault was a file that left 2.5 LU lower."""
    steps = [{"kind": "saturator", "id": "s", "settings": {"drive_db": 18.0, "oversampling": "1x"}}]
    number, track = session_of(client, tmp_path, steps)
    first = exported(client, number)  # at once, before anything was measured
    match = match_in(settled_on_server(client, number), "s")
    for start, end in ((0.0, 1.0), (2.0, 3.0)):
        for tab in ("one", "two"):
            question = {"tab": tab, "strip_id": track, "step_id": "s", "start_s": start, "end_s": end}
            assert client.post(f"/api/sessions/{number}/studies/scope", json=question).status_code == 200
    assert match_in(settled_on_server(client, number), "s") == match
    assert exported(client, number) == first
    assert main(["render", "Quay", "-o", str(tmp_path / "out"), "--data", str(data)]) == 0
    assert (tmp_path / "out" / "Quay - Main.wav").read_bytes() == first
    x, y = soundfile.read(tmp_path / "take.wav", dtype="float32")[0].T, soundfile.read(tmp_path / "out/Quay - Main.wav")[0].T
    assert y.shape[1] >= x.shape[1]


def test_a_match_reaches_every_tab_and_says_that_it_is_being_measured(client, tmp_path):
    number, _ = session_of(client, tmp_path, [{"kind": "saturator", "id": "s", "settings": {"drive_db": 6.0}}])
    settled_on_server(client, number)
    where = {"host": "127.0.0.1:8420", "origin": BASE}
    with client.websocket_connect(f"/api/sessions/{number}/audition?tab=one", headers=where) as socket:
        assert json.loads(socket.receive_text())["type"] == "version"
        assert json.loads(socket.receive_text()) == {"type": "measuring", "steps": []}
        edit = {"edit": moved_json("step", "s", drive_db=20.0), "tab": "two"}
        before = client.post(f"/api/sessions/{number}/edits", json=edit).json()
        told = []
        while not (told and told[-1].get("steps") == []):
            message = json.loads(socket.receive_text())
            told.append(message)
        kinds = [(message["type"], message.get("steps", message.get("revision"))) for message in told]
        assert kinds == [
            ("version", before["revision"]),
            ("measuring", ["s"]),
            ("version", before["revision"] + 1),
            ("measuring", []),
        ]
    view = client.get(f"/api/sessions/{number}").json()
    assert view["measuring"] == [] and view["compensated"] == ["s"] and view["can_undo"]


def test_an_edit_of_something_else_does_not_stop_a_measurement(client, tmp_path):
    number, track = session_of(client, tmp_path, [{"kind": "saturator", "id": "s", "settings": {"drive_db": 6.0}}], seconds=20)
    settled_on_server(client, number)
    client.post(f"/api/sessions/{number}/edits", json={"edit": moved_json("step", "s", drive_db=20.0)})
    wait_for(lambda: client.get(f"/api/sessions/{number}").json()["measuring"])  # once the edit has settled
    until = time.monotonic() + PATIENCE_S
    for level in range(400):
        edit = {"edit": moved_json("strip", track, level_db=-float(level % 50)), "gesture": "drag"}
        view = client.post(f"/api/sessions/{number}/edits", json=edit).json()
        if match_in(view, "s")["guessed_db"] != match_in(view, "s")["matched_db"] and not view["measuring"] and level > 3:
            break
        assert time.monotonic() < until, "edits of the level keep the match from being measured"
    services = client.app.state.services
    media = services.media.at_rate(48000)
    version = services.sessions.version(number).session
    assert with_current_matches(version, media) is version


# ---- faults are called faults --------------------------------------------------------------------------------------------


@pytest.mark.parametrize("error", [KeyError("boom"), IndexError("boom"), LookupError("boom"), ValueError("boom")])
def test_a_fault_inside_is_not_taken_for_something_missing(client, monkeypatch, error):
    """Only the store's own look-ups say that something is not there."""

    def broken(*_):
        raise error

    number = client.post("/api/sessions", json={"name": "Quay"}).json()["id"]
    assert client.get("/api/sessions/999").status_code == 404
    monkeypatch.setattr("saltanvil.web.sessions.session_frames", broken)
    answer = client.get(f"/api/sessions/{number}")
    assert answer.status_code == 500 and "fault of the program" in answer.json()["detail"]
    assert type(error).__name__ in answer.json()["detail"] and "boom" not in answer.json()["detail"]


@pytest.mark.parametrize("error", [KeyError("boom"), IndexError("boom"), ValueError("boom")])
def test_the_command_line_shows_a_fault_as_one(monkeypatch, capsys, error):
    def broken(*_):
        raise error

    monkeypatch.setattr("saltanvil.cli.bench.span", broken)
    assert main(["steps"]) == 3
    told = capsys.readouterr().err
    assert "Traceback" in told and told.strip().split("\n")[-1].startswith(
        f"saltanvil: a fault of the program ({type(error).__name__})"
    )
    assert main(["measure", "nowhere.wav"]) == 1
    assert capsys.readouterr().err == "saltanvil: nowhere.wav: there is no such file\n"


def test_looking_up_what_is_not_there_names_it(client):
    number = client.post("/api/sessions", json={"name": "Quay"}).json()["id"]
    for method, path, words in (
        ("get", "/api/sessions/77", "there is no session 77"), ("get", "/api/exports/9/0", "there is no job 9"),
        ("get", "/api/media/5/waveform", "there is no waveform of media 5"), ("delete", "/api/presets/4", "there is no preset 4"),
    ):  # fmt: skip
        answer = getattr(client, method)(path)
        assert answer.status_code == 404 and words in answer.json()["detail"]
    question = {"tab": "t", "strip_id": "gone", "start_s": 0, "end_s": 1}
    assert client.post(f"/api/sessions/{number}/studies/scope", json=question).status_code == 404
    assert issubclass(NotFound, LookupError) and not issubclass(KeyError, NotFound)


def test_a_session_of_a_newer_format_is_refused_and_the_others_open(data):
    with TestClient(create_app(data), base_url=BASE) as client:
        numbers = [client.post("/api/sessions", json={"name": name}).json()["id"] for name in ("Old", "New")]
    services = Services(data)
    with services.database.transaction() as connection:
        connection.execute("UPDATE sessions SET document = '{\"format\": 99}' WHERE id = ?", (numbers[1],))
    services.close()
    with TestClient(create_app(data), base_url=BASE) as client:
        assert {row["name"] for row in client.get("/api/sessions").json()} == {"Old", "New"}
        assert client.get(f"/api/sessions/{numbers[0]}").status_code == 200
        refused = client.get(f"/api/sessions/{numbers[1]}")
        assert refused.status_code == 409 and "newer Salt Anvil" in refused.json()["detail"]
        edit = {"edit": moved_json("session", None, name="X")}
        assert client.post(f"/api/sessions/{numbers[1]}/edits", json=edit).status_code == 409


def test_an_export_that_clips_says_so(client, tmp_path):
    number, _ = session_of(client, tmp_path, [{"kind": "trim", "id": "loud", "settings": {"gain_db": 24.0}}])
    for kind, clips in (("wav16", True), ("flac24", True), ("wav32f", False)):
        assert client.post(f"/api/sessions/{number}/delivery/files", json={"delivery": {"formats": [kind]}}).status_code == 202
        job = finished(client, number)[-1]
        assert job["state"] == "done" and bool(job["warnings"]) == clips
        if clips:
            assert job["warnings"][0].startswith("Quay - Main.") and "samples were clipped, by up to" in job["warnings"][0]
