"""The routes: import of every format, broken files, sessions, exports, security, two tabs."""

import io
import json
import struct
import subprocess

import numpy as np
import pytest
import soundfile
from fastapi.testclient import TestClient
from starlette.websockets import WebSocketDisconnect

from saltanvil.session.apply import EDIT
from saltanvil.session.document.session import Session
from saltanvil.studies.match.match import Matcher
from saltanvil.web.app import create_app
from tests.conftest import wait_for
from tests.edits import edit_json, moved_json
from tests.fuzz.schema import ask_everything
from tests.signals import noise, tone

BASE = "http://127.0.0.1:8420"


@pytest.fixture
def client(tmp_path):
    with TestClient(create_app(tmp_path / "data"), base_url=BASE) as client:
        yield client


@pytest.fixture
def session(client):
    return client.post("/api/sessions", json={"name": "Import"}).json()["id"]


def finished(client, session):
    """The jobs of a session once all have ended."""

    def ended():
        jobs = client.get(f"/api/sessions/{session}/jobs").json()
        return None if any(job["state"] in ("waiting", "running") for job in jobs) else [jobs]

    return wait_for(ended, 0.05)[0]


def send(client, session, name, data):
    answer = client.post(f"/api/sessions/{session}/media", params={"name": name}, content=data)
    assert answer.status_code == 202, answer.text
    return finished(client, session)[-1]


def sounds(client, session):
    """The samples of the tracks by name, as the engine reads them."""
    services = client.app.state.services
    document = services.sessions.version(session).session
    media = services.media.at_rate(document.rate_hz)
    return {s.name: media.read(s.media_id, 0, media.frames(s.media_id)) for s in document.strips if s.media_id}


EXACT = [
    ("wav", "PCM_16", 48000, 1), ("wav", "PCM_24", 48000, 2), ("wav", "PCM_32", 48000, 1), ("wav", "FLOAT", 48000, 2),
    ("rf64", "PCM_24", 48000, 2), ("flac", "PCM_16", 48000, 1), ("flac", "PCM_24", 48000, 2), ("aiff", "PCM_24", 48000, 2),
]  # fmt: skip


@pytest.mark.parametrize("container, subtype, rate, channels", EXACT)
def test_exact_formats_come_back_bit_for_bit(client, session, tmp_path, container, subtype, rate, channels):
    path = tmp_path / f"take.{container}"
    whole = (
        np.rint(noise(channels, 70_001) * 2**15) / 2**15
        if subtype == "PCM_16"
        else np.rint(noise(channels, 70_001) * 2**23) / 2**23
    )
    x = np.clip(whole, -1, 1 - 2**-15)
    soundfile.write(path, x.T, rate, subtype=subtype, format=container.upper())
    assert send(client, session, path.name, path.read_bytes())["state"] == "done"
    assert np.array_equal(sounds(client, session)["take"], x.astype(np.float32))


LOSSY = [
    ("mp3", ["-c:a", "libmp3lame", "-b:a", "192k"]),
    ("ogg", None),
    ("opus", ["-c:a", "libopus", "-b:a", "160k"]),
    ("m4a", ["-c:a", "aac"]),
]


@pytest.mark.parametrize("suffix, codec", LOSSY)
def test_lossy_formats_are_aligned_to_the_sample(client, session, tmp_path, suffix, codec):
    """Encoded by ffmpeg (Vorbis by libsndfile); the decoded sound lies where the original does."""
    x = (tone(440, 2.0, -9) * np.hanning(96000))[None] + noise(1, 96000, level=0.02)
    path = tmp_path / f"take.{suffix}"
    if codec is None:
        soundfile.write(path, x.T, 48000, format="OGG", subtype="VORBIS")
    else:
        soundfile.write(tmp_path / "x.wav", x.T, 48000, subtype="FLOAT")
        subprocess.run(["ffmpeg", "-v", "error", "-i", tmp_path / "x.wav", *codec, path], check=True)
    assert send(client, session, path.name, path.read_bytes())["state"] == "done"
    found = sounds(client, session)["take"][0]
    span = slice(30_000, 60_000)
    lags = {lag: float(np.dot(found[span.start + lag : span.stop + lag], x[0, span])) for lag in range(-60, 61)}
    assert max(lags, key=lags.get) == 0


@pytest.mark.parametrize("rate", [22050, 44100, 96000])
def test_other_rates_are_converted_once(client, session, tmp_path, rate):
    path = tmp_path / "take.wav"
    soundfile.write(path, tone(1000, 1.0, -6, rate), rate, subtype="FLOAT")
    send(client, session, path.name, path.read_bytes())
    found = sounds(client, session)["take"][0]
    assert len(found) == pytest.approx(48000, abs=2)
    assert found[2000:46000] == pytest.approx(tone(1000, 1.0, -6)[2000:46000], abs=2e-5)


def test_broadcast_wav(client, session, tmp_path):
    """A bext chunk before the sound (EBU Tech 3285) is no obstacle."""
    path = tmp_path / "plain.wav"
    soundfile.write(path, noise(1, 5000).T, 48000, subtype="PCM_24")
    raw = path.read_bytes()
    bext = b"bext" + struct.pack("<I", 602) + b"\0" * 602
    wave = b"RIFF" + struct.pack("<I", len(raw) - 8 + len(bext)) + b"WAVE" + bext + raw[12:]
    assert send(client, session, "field.wav", wave)["state"] == "done"
    assert sounds(client, session)["field"].shape == (1, 5000)


def broken_files(tmp_path):
    path = tmp_path / "x.wav"
    soundfile.write(path, noise(2, 50_000).T, 48000, subtype="PCM_24")
    whole = path.read_bytes()
    soundfile.write(tmp_path / "x.flac", noise(2, 50_000).T, 48000, subtype="PCM_24")
    flac = (tmp_path / "x.flac").read_bytes()
    soundfile.write(tmp_path / "x.ogg", noise(1, 200_000).T, 48000, format="OGG", subtype="VORBIS")
    ogg = (tmp_path / "x.ogg").read_bytes()
    soundfile.write(path, noise(1, 400).repeat(3, 0).T, 48000)
    three = path.read_bytes()
    bad = noise(1, 4000)
    bad[0, 2000] = np.nan
    soundfile.write(path, bad.T, 48000, subtype="FLOAT")
    return [
        ("empty.wav", b"", "empty"),
        ("cut.wav", whole[: len(whole) // 2], "cut off"),
        ("header.wav", whole[:30], "cut off"),
        ("cut.flac", flac[: len(flac) // 2], "cut off|damaged"),
        ("cut.ogg", ogg[: len(ogg) // 2], "cut off"),
        ("letter.wav", b"Dear harbour master, " * 50, "not an audio file"),
        ("three.wav", three, "3 channels"),
        ("nan.wav", path.read_bytes(), "not numbers"),
    ]


def test_broken_files_are_named_and_the_others_arrive(client, session, tmp_path):
    files = broken_files(tmp_path)
    soundfile.write(tmp_path / "good.wav", noise(1, 1000).T, 48000)
    for name, data, _ in files:
        client.post(f"/api/sessions/{session}/media", params={"name": name}, content=data)
    client.post(f"/api/sessions/{session}/media", params={"name": "../good.wav"}, content=(tmp_path / "good.wav").read_bytes())
    jobs = {job["title"]: job for job in finished(client, session)}
    for name, _, words in files:
        assert jobs[name]["state"] == "failed", name
        assert name in jobs[name]["error"] and any(word in jobs[name]["error"] for word in words.split("|")), jobs[name]["error"]
    assert list(sounds(client, session)) == ["good"]
    connection = client.app.state.services.database.connection()
    assert [connection.execute(f"SELECT count(*) FROM {t}").fetchone()[0] for t in ("media", "chunks")] == [1, 1]  # noqa: S608
    assert not list((client.app.state.services.folder / "uploads").iterdir())


def test_sessions_edits_and_undo(client, session):
    step = {"id": "c", "kind": "compressor", "settings": {"ratio": 8}}
    url = f"/api/sessions/{session}"
    edited = client.post(f"{url}/edits", json={"edit": {"op": "add_step", "strip_id": "main", "step": step}}).json()
    assert edited["session"]["strips"][0]["path"]["steps"][0]["settings"]["ratio"] == 8 and edited["can_undo"]
    refused = client.post(f"{url}/edits", json={"edit": moved_json("step", "c", ratio=99)})
    assert refused.status_code == 409 and "ratio" in refused.json()["detail"]
    assert client.post(f"{url}/undo", json={}).json()["session"]["strips"][0]["path"]["steps"] == []
    ghost = {"op": "add_strip", "strip": {"name": "Ghost", "kind": "track", "media_id": 77}}
    assert "77" in client.post(f"{url}/edits", json={"edit": {"op": "batch", "edits": [ghost]}}).json()["detail"]
    assert client.post(f"{url}/undo", json={}).status_code == 409
    twin = client.post(f"{url}/duplicate").json()
    assert twin["session"]["name"] == "Import copy"
    client.delete(url)
    assert [row["deleted"] for row in client.get("/api/sessions").json() if row["id"] == session] == [True]
    client.post(f"{url}/restore")
    assert client.get("/api/sessions/999").status_code == 404


def test_presets_are_kept_by_name_and_files_are_taken_whole_or_not_at_all(client):
    body = {"kind": "gate", "name": "Tight", "settings": {"threshold_db": -20.0}}
    first = client.post("/api/presets", json=body).json()
    assert first["settings"]["threshold_db"] == -20.0 and first["settings"]["hold_ms"] == 10.0
    assert client.post("/api/presets", json=body).status_code == 409  # not replaced unasked
    again = client.post("/api/presets", json={**body, "settings": {"threshold_db": -25.0}, "replace": True}).json()
    listed = client.get("/api/presets?kind=gate").json()
    assert [p["settings"]["threshold_db"] for p in listed] == [-25.0] and not client.get("/api/presets?kind=trim").json()
    other = client.post("/api/presets", json={**body, "name": "Loose"}).json()
    refused = client.patch(f"/api/presets/{other['id']}", json={"name": "Tight"})
    assert refused.status_code == 409 and "already" in refused.json()["detail"]
    assert client.delete(f"/api/presets/{again['id']}").status_code == 204
    client.patch(f"/api/presets/{other['id']}", json={"name": "Tight"})
    back = client.post(f"/api/presets/{again['id']}/restore")
    assert back.status_code == 409 and "given to another" in back.json()["detail"]
    file = client.get("/api/presets/file").json()
    assert file["format"] == "salt anvil presets" and file["version"] == 3 and len(file["presets"]) == 1
    good = {"kind": "clipper", "name": "Good", "settings": {}}
    for wrong, why in (
        ({**good, "name": "Bad", "settings": {"ceiling_db": 5.0}}, "preset 'Bad': ceiling_db"),
        ({**good, "settings": {"colour": 1}}, "colour"),
        ({**good, "kind": "toaster"}, "there is no processor 'toaster'"),
    ):
        told = client.post("/api/presets/file", json={**file, "presets": [good, wrong]})
        assert told.status_code == 422 and why in told.json()["detail"]
    assert not client.get("/api/presets?kind=clipper").json()  # none of a file with a fault
    assert "up to 3" in client.post("/api/presets/file", json={**file, "version": 4}).json()["detail"]
    assert client.post("/api/presets/file", json={**file, "presets": [good]}).status_code == 201
    assert len(client.get("/api/presets?kind=clipper").json()) == 1


def settled(client, session):
    """The version once every match is up to date."""
    services = client.app.state.services
    matcher = Matcher(services.media.at_rate(48000))
    wait_for(lambda: all(found.current for found in matcher.matches(services.sessions.version(session).session)), 0.02)
    return client.get(f"/api/sessions/{session}").json()


def match_in(view, step_id):
    session = Session.model_validate(view["session"])
    return session.step(step_id).step.match.model_dump()


def test_blends_and_held_outputs_are_matched_with_their_edit_and_lanes_given_back(client, session, tmp_path):
    soundfile.write(tmp_path / "take.wav", noise(1, 48000 * 3).T, 48000, subtype="FLOAT")
    send(client, session, "take.wav", (tmp_path / "take.wav").read_bytes())
    view = client.get(f"/api/sessions/{session}").json()
    track = next(strip["id"] for strip in view["session"]["strips"] if strip["kind"] == "track")

    def edit(**given):
        answer = client.post(f"/api/sessions/{session}/edits", json={"edit": edit_json(**given), "tab": "t"})
        assert answer.status_code == 200, answer.text
        return answer.json()

    def ask(kind, **more):
        question = {"tab": "t", "start_s": 0, "end_s": 3, **more}
        return client.post(f"/api/sessions/{session}/studies/{kind}", json=question).json()

    squash = {"kind": "compressor", "id": "c", "settings": {"threshold_db": -26, "ratio": 8}}
    edit(op="add_step", strip_id=track, step=squash)
    before = edit(op="divide", strip_id=track, step_ids=["c"], by="copies", split_id="p")
    view = settled(client, session)
    match = match_in(view, "p")
    assert match["matched_db"] > 3 and match["refused"] is None and view["revision"] == before["revision"] + 1
    assert match["over"] == {"section_id": None, "start_s": None, "end_s": None} and match["key"]
    edit(op="set_step", step_id="p", settings={"position": 0.6})
    ledger = ask("scope", strip_id=track, step_id="p")["ledger"]
    assert abs(ledger["matched_db"]) < 0.3
    edit(op="set_step", step_id="c", settings={"threshold_db": -29})
    moved = match_in(settled(client, session), "p")
    assert moved["matched_db"] > match["matched_db"] + 1  # it follows edits
    assert match_in(client.post(f"/api/sessions/{session}/undo", json={}).json(), "p") == match  # at once, with the edit
    assert match_in(client.post(f"/api/sessions/{session}/redo", json={}).json(), "p") == moved
    undone = [client.post(f"/api/sessions/{session}/undo", json={}).json() for _ in range(4)][-1]
    path = next(strip for strip in undone["session"]["strips"] if strip["id"] == track)["path"]
    assert path["steps"] == [] and undone["can_redo"]  # what was measured is no step of its own
    for _ in range(4):
        view = client.post(f"/api/sessions/{session}/redo", json={}).json()
    lanes = next(strip for strip in view["session"]["strips"] if strip["id"] == track)["path"]["steps"][0]["lanes"]
    bands = ask("bands", strip_id=track, step_id="p")["bands"]["lanes"]
    assert (
        [lane["step_id"] for lane in bands] == [None, "c"] and bands[1]["largest_db"] > 6 and bands[1]["loudness_moved_lu"] < -3
    )
    level = ask("give-back", strip_id=track, lane_id=lanes[1]["id"])["level_db"]
    assert level == pytest.approx(-bands[1]["loudness_moved_lu"], abs=0.1)
    edit(op="set_lane", lane_id=lanes[1]["id"], level_db=level)
    assert abs(ask("scope", strip_id=track, lane_id=lanes[1]["id"])["ledger"]["matched_db"]) < 0.1
    # A held output is matched like a blend, and another order of two steps is told how much louder it is.
    edit(op="add_step", strip_id=track, step={"kind": "saturator", "id": "s", "settings": {"drive_db": 18}})
    assert match_in(settled(client, session), "s")["refused"] is None
    assert abs(ask("scope", strip_id=track, step_id="s")["ledger"]["matched_db"]) < 0.02
    edit(op="set_step", step_id="s", settings={"output": "not held"})
    edit(op="add_step", strip_id=track, step={"kind": "trim", "id": "quiet", "settings": {"gain_db": -30}})
    swap = {"op": "move_step", "step_id": "quiet", "strip_id": track, "index": 0}
    before = client.get(f"/api/sessions/{session}").json()["revision"]
    louder = ask("order", strip_id=track, edit=swap)["louder_db"]
    assert client.get(f"/api/sessions/{session}").json()["revision"] == before  # asked, not done
    loudness = ask("scope", strip_id=track)["ledger"]["after"]["integrated_lufs"]
    edit(**swap)
    settled(client, session)
    assert ask("scope", strip_id=track)["ledger"]["after"]["integrated_lufs"] == pytest.approx(loudness + louder, abs=0.05)
    assert louder > 5 and "not there any more" in ask("order", strip_id=track, edit={**swap, "step_id": "gone"})["detail"]
    assert "has no lanes" in ask("bands", strip_id=track, step_id="c")["detail"]
    assert "not there any more" in ask("give-back", strip_id=track, lane_id="gone")["detail"]


def test_a_version_tells_of_routes_and_a_study_of_what_silences(client, session, tmp_path):
    soundfile.write(tmp_path / "take.wav", noise(1, 48000 * 3).T, 48000, subtype="FLOAT")
    for name in ("one.wav", "two.wav"):
        send(client, session, name, (tmp_path / "take.wav").read_bytes())
    one, two = (s["id"] for s in client.get(f"/api/sessions/{session}").json()["session"]["strips"] if s["kind"] == "track")

    def edit(**given):
        return client.post(f"/api/sessions/{session}/edits", json={"edit": edit_json(**given), "tab": "t"})

    gate = {"kind": "gate", "id": "g", "settings": {"threshold_db": 0.0, "lookahead_ms": 2.0}, "key": {"strip_id": two}}
    view = edit(op="add_step", strip_id=one, step=gate).json()
    assert view["routing"]["latency_ms"] == 2.0 and view["routing"]["strips"]["main"]["causes"][0]["step_id"] == "g"
    assert view["routing"]["strips"][two]["keys"] == ["the gate on one"] and view["notices"] == []
    edit(op="set_key", step_id="g", key={"strip_id": two, "trim_db": -20.0})
    question = {"tab": "t", "strip_id": one, "start_s": 0, "end_s": 3}
    hints = client.post(f"/api/sessions/{session}/studies/scope", json=question).json()["ledger"]["hints"]
    assert hints[-1]["text"].startswith("The gate is silent. The key, two, reaches -")
    refused = edit(op="set_output", strip_id=one, output=two)
    assert refused.status_code == 409 and "takes no input" in refused.json()["detail"]
    loop = edit(op="add_step", strip_id=two, step={"kind": "ducker", "key": {"strip_id": one}})
    assert loop.status_code == 409 and "(key of its ducker)" in loop.json()["detail"]
    muted = edit(op="set_strip", strip_id=two, mute=True).json()
    assert muted["notices"] == ["Two is muted and still keys the gate on one."]
    assert muted["routing"]["strips"][two]["silent"] == "Muted."
    gone = edit(op="remove_strip", strip_id=two).json()
    assert gone["notices"][0].startswith("Two was the key of the gate on one")
    back = client.post(f"/api/sessions/{session}/undo", json={}).json()
    assert back["routing"]["strips"][two]["keys"] == ["the gate on one"]
    bench = {"tab": "t", "strip_id": one, "test": "impulse", "level_dbfs": 0.0}
    result = client.post(f"/api/sessions/{session}/bench", json=bench).json()["result"]
    declared = next(figure["value"] for figure in result["figures"] if figure["name"] == "declared_ms")
    assert declared == 2.0 and client.get(f"/api/sessions/{session}/studies/progress?tab=t&kind=bench").json()["fraction"] == 1.0
    high = client.post(f"/api/sessions/{session}/bench", json={**bench, "test": "harmonics", "frequency_hz": 25000})
    assert high.status_code == 422 and "frequency_hz" in high.json()["detail"]


def test_paths_are_kept_as_presets_without_the_buses_they_came_from(client):
    starts = client.get("/api/paths/starts").json()
    assert {"low-end control", "four-band compressor"} <= {start["name"] for start in starts}
    path = next(start["path"] for start in starts if start["name"] == "four-band compressor")
    path["steps"][0]["lanes"][0]["output"] = "elsewhere"
    answer = client.post("/api/presets", json={"kind": "path", "name": "Mine", "settings": path})
    assert answer.status_code == 201 and answer.json()["settings"]["steps"][0]["lanes"][0]["output"] is None
    file = client.get("/api/presets/file?kind=path").json()
    assert client.post("/api/presets/file", json=file).status_code == 201
    file["presets"][0]["settings"]["steps"][0]["lanes"].pop()
    refused = client.post("/api/presets/file", json=file)
    assert refused.status_code == 422 and "4 lanes, not 3" in refused.json()["detail"]


def test_export_reads_back(client, session, tmp_path):
    soundfile.write(tmp_path / "t.wav", noise(2, 96_000).T, 48000, subtype="FLOAT")
    send(client, session, "t.wav", (tmp_path / "t.wav").read_bytes())
    strip = client.get(f"/api/sessions/{session}").json()["session"]["strips"][1]["id"]
    for kind, subtype in (
        ("wav32f", "FLOAT"),
        ("wav24", "PCM_24"),
        ("wav16", "PCM_16"),
        ("flac24", "PCM_24"),
        ("flac16", "PCM_16"),
    ):
        delivery = {"strip_ids": ["main", strip], "formats": [kind], "extent": "passage"}
        client.post(f"/api/sessions/{session}/delivery/files", json={"delivery": delivery, "start_s": 0.5, "end_s": 1.5})
        job = finished(client, session)[-1]
        assert job["state"] == "done" and len(job["files"]) == 2
        (tmp_path / "back").write_bytes(client.get(f"/api/exports/{job['id']}/0").content)
        info = soundfile.info(tmp_path / "back")
        read, _ = soundfile.read(tmp_path / "back", dtype="float32")
        assert info.subtype == subtype and read.shape == (48_000, 2)
        lsb = {"FLOAT": 0.0, "PCM_24": 2**-23, "PCM_16": 2**-15}[subtype]
        assert np.abs(read.T - sounds(client, session)["t"][:, 24_000:72_000]).max() <= 1.5 * lsb


def test_who_may_ask(client, tmp_path):
    assert client.get("/api/sessions", headers={"host": "evil.example"}).status_code == 421
    assert client.get("/api/sessions", headers={"origin": "http://evil.example"}).status_code == 403
    assert client.get("/api/sessions", headers={"origin": BASE}).status_code == 200
    assert client.post("/api/sessions", content=b"x" * (5 << 20)).status_code == 413
    with (
        pytest.raises(WebSocketDisconnect),
        client.websocket_connect(
            "/api/sessions/1/audition?tab=x", headers={"host": "127.0.0.1:8420", "origin": "http://evil.example"}
        ),
    ):
        pass
    with TestClient(create_app(tmp_path / "far", hosts={"127.0.0.1"}, token="secret"), base_url=BASE) as far:
        assert far.get("/api/sessions").status_code == 401
        assert far.get("/api/sessions?token=secret").status_code == 200
        assert far.get("/api/sessions").status_code == 200  # the cookie


def test_two_tabs_hear_of_each_other(client, session):
    where = {"host": "127.0.0.1:8420", "origin": BASE}
    url = f"/api/sessions/{session}"
    with client.websocket_connect(f"{url}/audition?tab=one", headers=where) as socket:
        assert json.loads(socket.receive_text()) == {"type": "version", "revision": 0}
        assert json.loads(socket.receive_text()) == {"type": "measuring", "steps": []}
        client.post(f"{url}/edits", json={"edit": moved_json("session", None, name="Theirs"), "tab": "two"})
        assert json.loads(socket.receive_text()) == {"type": "version", "revision": 1}
        socket.send_text('{"type": "jump"}')
        assert "not understood" in socket.receive_text()
        socket.send_json({"type": "play", "position_s": 0.0})
        assert json.loads(socket.receive_text())["type"] == "playing"
        length = struct.unpack("<I", (block := socket.receive_bytes())[:4])[0]
        header = json.loads(block[4 : 4 + length])
        assert len(block) == 4 + length + 8 * header["frames"] and header["position_s"] == 0


def test_a_tab_that_opens_while_another_edits_misses_nothing(client, session, monkeypatch):
    """A page reads the session and opens its socket after that: an edit stored between the two, or while the socket opens, was
    told to nobody, and the player went on with the old document."""
    url = f"/api/sessions/{session}"
    services = client.app.state.services
    join = services.join

    def late(audition):
        services.edit(session, EDIT.validate_python(moved_json("session", None, name="Between")), tab="two")
        join(audition)

    monkeypatch.setattr(services, "join", late)
    read = client.get(url).json()["revision"]
    with client.websocket_connect(f"{url}/audition?tab=one", headers={"host": "127.0.0.1:8420", "origin": BASE}) as socket:
        assert json.loads(socket.receive_text()) == {"type": "version", "revision": read + 1}
        assert services._auditions["one"]._sounding.name == "Between"


def test_no_request_of_the_schema_breaks_the_server(tmp_path):
    with TestClient(create_app(tmp_path / "fuzz"), base_url=BASE, raise_server_exceptions=False) as served:
        ask_everything(served, 12)


def test_slots_are_stored_switched_listed_and_measured_over_the_api(client, session):
    body = io.BytesIO()
    soundfile.write(body, noise(2, 96_000, 3).T, 48_000, format="WAV", subtype="FLOAT")
    send(client, session, "Sound.wav", body.getvalue())
    url = f"/api/sessions/{session}"
    strip = next(s["id"] for s in client.get(url).json()["session"]["strips"] if s["kind"] == "track")

    def edit(**data):
        answer = client.post(f"{url}/edits", json={"edit": data})
        assert answer.status_code == 200, answer.text
        return answer.json()

    def threshold(db):
        edit(op="set", values=[{"of": "step", "id": "c", "name": "threshold_db", "value": db}])

    edit(op="add_step", strip_id=strip, step={"id": "c", "kind": "compressor", "settings": {}})
    assert client.get(f"{url}/slots", params={"of": "step", "id": "c"}).json()["slots"] == []
    edit(op="store_slot", of="step", id="c", slot=1)
    threshold(-30.0)
    edit(op="store_slot", of="step", id="c", slot=2)
    listed = client.get(f"{url}/slots", params={"of": "step", "id": "c"}).json()
    assert listed["on"] == 2 and listed["differences"] == [
        {"label": "Threshold", "of": "step", "id": "c", "name": "threshold_db", "values": {"1": -18.0, "2": -30.0}}
    ]
    question = {"tab": "t", "of": "step", "id": "c", "start_s": 0.0, "end_s": 2.0}
    measured = client.post(f"{url}/studies/slots", json=question).json()["slots"]
    assert measured[0]["gain_db"] == 0.0 and measured[1]["gain_db"] > 3
    # Switching is undone, also after a restart, as every edit.
    edit(op="switch_slot", of="step", id="c", slot=1)
    step = lambda view: next(s for s in view["session"]["strips"] if s["id"] == strip)["path"]["steps"][0]  # noqa: E731
    assert step(client.get(url).json())["settings"]["threshold_db"] == -18.0
    client.post(f"{url}/undo", json={})
    assert step(client.get(url).json())["settings"]["threshold_db"] == -30.0
    assert client.get(f"{url}/slots", params={"of": "step", "id": "gone"}).status_code == 404
    assert client.post(f"{url}/edits", json={"edit": {"op": "store_slot", "of": "step", "id": "c", "slot": 5}}).status_code == 422


def test_a_preset_keeps_slots_only_if_it_is_told_to(client):
    def trim(gain_db):
        return {"id": "t", "kind": "trim", "settings": {"gain_db": gain_db}}

    path = {"steps": [{**trim(-3.0), "slots": {"on": 2, "kept": {"1": trim(0.0), "2": trim(-3.0)}}}]}
    body = {"kind": "path", "name": "Trims", "settings": path}
    plain = client.post("/api/presets", json=body).json()["settings"]["steps"][0]
    assert "slots" not in plain and plain["settings"]["gain_db"] == -3.0
    slotted = client.post("/api/presets", json={**body, "name": "Versions", "slots": True}).json()["settings"]["steps"][0]
    assert sorted(slotted["slots"]["kept"]) == ["1", "2"]


def test_the_history_is_a_list_in_words_that_can_be_walked_and_put_into_slots(client, session):
    url = f"/api/sessions/{session}"

    def edit(**data):
        answer = client.post(f"{url}/edits", json={"edit": data})
        assert answer.status_code == 200, answer.text
        return answer.json()

    def moved(value):
        return edit(op="set", values=[{"of": "step", "id": "c", "name": "threshold_db", "value": value}])

    edit(op="add_step", strip_id="main", step={"id": "c", "kind": "compressor", "settings": {}})
    moved(-24.0)
    assert moved(-40.0)["undo"] == "Main compressor: Threshold -24 to -40 dB"
    history = client.get(f"{url}/history").json()
    assert [one["words"] for one in history["edits"]] == [
        "Main compressor: Threshold -24 to -40 dB", "Main compressor: Threshold -18 to -24 dB", "Main: compressor added",
    ]  # fmt: skip
    assert history["position"] == 3 and all(one["made_at"] > 1.7e9 for one in history["edits"])
    there = client.post(f"{url}/history", json={"position": 1}).json()
    assert (there["undo"], there["redo"]) == ("Main: compressor added", "Main compressor: Threshold -18 to -24 dB")
    assert [one["undone"] for one in client.get(f"{url}/history").json()["edits"]] == [True, True, False]
    client.post(f"{url}/history", json={"position": 3})
    # What it was at the first place goes into a slot; what is heard stays, in a slot of its own.
    slotted = client.post(f"{url}/history/slot", json={"position": 1, "of": "step", "id": "c", "slot": 2}).json()
    step = next(s for s in slotted["session"]["strips"] if s["id"] == "main")["path"]["steps"][0]
    assert step["settings"]["threshold_db"] == -40.0 and step["slots"]["on"] == 1
    assert step["slots"]["kept"]["2"]["settings"]["threshold_db"] == -18.0
    assert client.post(f"{url}/history", json={"position": 99}).status_code == 409
    assert client.post(f"{url}/history/slot", json={"position": 0, "of": "step", "id": "c", "slot": 2}).status_code == 404
