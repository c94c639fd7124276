"""Printing and replacing what tracks play, through the API: against the mix as it was, and as it would be from the beginning."""

import numpy as np
import pytest
from fastapi.testclient import TestClient

from saltanvil.engine.render import render_strips
from saltanvil.engine.time import session_frames
from saltanvil.studies.match.match import with_current_matches
from saltanvil.web.app import create_app
from tests.web.test_imports import BASE, bring, ended, wav

RATE = 48000
STEPS = {
    "compressor": {"threshold_db": -30.0, "makeup_db": 4.0, "lookahead_ms": 5.0},
    "echo": {"time_mode": "ms", "time_ms": 180.0, "feedback": 0.5, "mix": 0.3, "width": 0.0},
    "wide echo": {"time_mode": "ms", "time_ms": 120.0, "feedback": 0.3, "mix": 0.3, "width": 1.0},
    "saturator": {"drive_db": 9.0},
}


@pytest.fixture
def client(tmp_path):
    with TestClient(create_app(tmp_path / "data"), base_url=BASE) as client:
        yield client


@pytest.fixture
def session(client, tmp_path):
    number = client.post("/api/sessions", json={"name": "Own"}).json()["id"]
    files = [(f"{name}.wav", wav(tmp_path, f"{name}.wav", channels, 2.0, RATE, seed))
             for seed, (name, channels) in enumerate((("Low", 1), ("High", 2), ("Key", 1)))]  # fmt: skip
    assert bring(client, number, files)[0]["state"] == "done"
    return number


def edited(client, session, **edit):
    answer = client.post(f"/api/sessions/{session}/edits", json={"edit": edit})
    assert answer.status_code == 200, answer.text
    return answer.json()["session"]


def document(client, session):
    return client.get(f"/api/sessions/{session}").json()["session"]


def track(client, session, name):
    return next(strip for strip in document(client, session)["strips"] if strip["name"] == name)


def with_steps(client, session, name, *kinds, **values):
    """A track with steps, at a level and pan of its own."""
    strip = track(client, session, name)
    for place, kind in enumerate(kinds):
        step = {"kind": kind.split()[-1], "settings": STEPS[kind]}
        edited(client, session, op="add_step", strip_id=strip["id"], step=step, index=place)
    moved = {"level_db": -6.0, "pan": 0.3, "trim_db": -2.0, **values}
    values = [{"of": "strip", "id": strip["id"], "name": key, "value": value} for key, value in moved.items()]
    edited(client, session, op="set", values=values)
    return track(client, session, name)


def mix(client, session, seconds=4.0):
    """The main, with its tail."""
    services = client.app.state.services
    document = services.sessions.version(session).session
    media = services.media.at_rate(RATE)
    blocks = render_strips(with_current_matches(document, media), media, 0, round(seconds * RATE), begin=0)
    return np.concatenate([block["main"] for block in blocks], axis=1)


def near(a, b):
    """In dB re the louder's peak: ids decide in which order strips are summed."""
    return 20 * np.log10(np.abs(a - b).max() / np.abs(b).max() + 1e-12) < -120.0


def test_new_takes_among_imported_files_are_proposed_and_take_the_place_of_the_old_in_one_edit(client, session, tmp_path):
    before = with_steps(client, session, "Low", "compressor")
    files = [(f"{name}.wav", wav(tmp_path, f"again {name}.wav", 1, 1.5, RATE, 9)) for name in ("low", "Fresh")]
    _, view, _ = bring(client, session, files)
    [proposal] = [one for one in view["proposals"] if one["name"] == "replacements"]
    assert proposal["text"] == "new takes of Low: all that is done to these tracks stays"
    names = {strip["name"] for strip in document(client, session)["strips"]}
    edited(client, session, **proposal["edit"])
    assert {strip["name"] for strip in document(client, session)["strips"]} == names - {"low"}
    after = track(client, session, "Low")
    assert after["media_id"] != before["media_id"] and same({**after, "media_id": 0}, {**before, "media_id": 0})
    assert client.post(f"/api/sessions/{session}/undo", json={}).status_code == 200
    assert same(track(client, session, "Low"), before) and track(client, session, "low")["media_id"] == after["media_id"]


def same(a, b):
    """But for matches, which are measured whenever there is time."""

    def without(part):
        if isinstance(part, dict):
            return {name: without(value) for name, value in part.items() if name != "match"}
        return [without(value) for value in part] if isinstance(part, list) else part

    return without(a) == without(b)


def printed(client, session, *names):
    strip_ids = [track(client, session, name)["id"] for name in names]
    answer = client.post(f"/api/sessions/{session}/print", json={"strip_ids": strip_ids})
    return ended(client, answer.json()) if answer.status_code == 202 else answer.json()


@pytest.mark.parametrize("kinds", [("compressor",), ("echo",), ("wide echo", "compressor"), ("saturator", "echo")])
def test_a_printed_mix_is_the_mix_and_unprinted_the_document_is_what_it_was(client, session, kinds):
    """Mono in and out, mono to stereo, with trim, level, pan, latency, a tail and a held loudness; a key taken after the path."""
    low = with_steps(client, session, "Low", *kinds)
    with_steps(client, session, "High", "compressor", "saturator")
    key = track(client, session, "Key")
    ducker = {"kind": "ducker", "key": {"strip_id": low["id"]}}
    edited(client, session, op="add_step", strip_id=key["id"], step=ducker)
    before, mixed = document(client, session), mix(client, session)
    job = printed(client, session, "Low", "High")
    assert job["state"] == "done", job["error"]
    low = track(client, session, "Low")
    assert low["printed"]["channels"] == 1 and all(step["bypass"] for step in low["path"]["steps"]) and low["trim_db"] == 0.0
    channels = client.get(f"/api/media/{low['media_id']}").json()["channels"]
    assert channels == (2 if "wide echo" in kinds else 1)
    again = mix(client, session)
    assert near(again, mixed)
    for name in ("Low", "High"):
        edited(client, session, op="unprint", strip_id=track(client, session, name)["id"])
    after = document(client, session)
    assert same(after["strips"], before["strips"]) and np.array_equal(mix(client, session), mixed)
    # One undo takes a print back.
    assert printed(client, session, "Low", "High")["state"] == "done"
    client.post(f"/api/sessions/{session}/undo", json={})
    assert same(document(client, session)["strips"], before["strips"])


def test_what_would_be_lost_is_refused_with_the_reason(client, session):
    low = with_steps(client, session, "Low", "compressor")
    key = track(client, session, "Key")

    def refusal(name):
        return printed(client, session, name)["detail"]

    assert "no step" in refusal("Key")
    assert "plays no recording" in refusal("Main")
    inside = {"kind": "gate", "key": {"step_id": low["path"]["steps"][0]["id"]}}
    document = edited(client, session, op="add_step", strip_id=key["id"], step=inside)
    gate = next(strip for strip in document["strips"] if strip["name"] == "Key")["path"]["steps"][0]["id"]
    assert "key of the gate on 'Key' is taken inside its path" in refusal("Low")
    edited(client, session, op="set_key", step_id=gate, key={"strip_id": low["id"], "at": "before"})
    assert "before its path" in refusal("Low")
    edited(client, session, op="set_key", step_id=gate, key={"strip_id": low["id"]})
    assert printed(client, session, "Low")["state"] == "done"
    assert "printed already" in refusal("Low")
    edited(client, session, op="store_slot", of="strip", id=low["id"], slot=1)
    switched = {"op": "switch_slot", "of": "strip", "id": low["id"], "slot": 1, "seed": "0" * 12}
    answer = client.post(f"/api/sessions/{session}/edits", json={"edit": switched})
    assert answer.status_code == 409 and "would treat it twice" in answer.json()["detail"]
    view = client.post(f"/api/sessions/{session}/imports", json={"names": ["a.wav"], "replaces": low["id"]})
    assert "unprint it first" in view.json()["detail"]


def test_both_recordings_of_a_printed_track_travel_and_stay(client, session, tmp_path):
    """In a session file, and past the sweep of media that nothing needs."""
    with_steps(client, session, "Low", "compressor", "echo")
    mixed = mix(client, session)
    assert printed(client, session, "Low")["state"] == "done"
    services = client.app.state.services
    services.media.sweep(now=1.0)
    services.media.sweep(now=1e12)
    job = ended(client, client.post(f"/api/sessions/{session}/archive").json())
    packed = client.get(f"/api/exports/{job['id']}/0").content
    answer = client.post("/api/archives?name=own.saltanvil", content=packed)
    assert answer.status_code == 202, answer.text
    job = ended(client, answer.json())
    assert job["state"] == "done", job["error"]
    other = max(entry["id"] for entry in client.get("/api/sessions").json())
    edited(client, other, op="unprint", strip_id=track(client, other, "Low")["id"])
    assert np.array_equal(mix(client, other), mixed)


def test_a_new_take_goes_through_what_was_done_to_the_old_one(client, session, tmp_path):
    """Equal to the session made with it from the beginning; what differs is named, and undo brings the old one back."""
    low = with_steps(client, session, "Low", "compressor", "echo")
    before = document(client, session)
    take = wav(tmp_path, "take.wav", 1, 2.5, RATE, 77)
    job, view, _ = bring(client, session, [("take.wav", take)], replaces=low["id"])
    assert job["state"] == "done" and view["files"][0]["becomes"] == "what Low plays"
    assert view["notes"] == ["2.500 s long, 2.000 s before."]
    replaced = mix(client, session)
    now = document(client, session)
    strip = track(client, session, "Low")
    assert {**strip, "media_id": low["media_id"]} == low
    client.post(f"/api/sessions/{session}/undo", json={})
    assert same(document(client, session)["strips"], before["strips"])
    # From the beginning.
    other = client.post("/api/sessions", json={"name": "Other"}).json()["id"]
    files = [("Low.wav", take), *((f"{name}.wav", (tmp_path / f"{name}.wav").read_bytes()) for name in ("High", "Key"))]
    bring(client, other, files)
    with_steps(client, other, "Low", "compressor", "echo")
    assert near(mix(client, other), replaced)
    assert session_frames(client.app.state.services.sessions.version(other).session,
                          client.app.state.services.media.at_rate(RATE)) == round(2.5 * RATE)  # fmt: skip
    assert now["strips"][1]["media_id"] != low["media_id"]


def test_what_is_no_sound_replaces_nothing(client, session):
    low = track(client, session, "Low")
    before = document(client, session)
    job, _, problems = bring(client, session, [("bad.wav", b"RIFFnothing")], replaces=low["id"])
    assert job["state"] == "failed" and problems and document(client, session)["strips"] == before["strips"]
    assert client.post(f"/api/sessions/{session}/imports", json={"names": ["a", "b"], "replaces": low["id"]}).status_code == 422
    assert client.post(f"/api/sessions/{session}/imports", json={"names": ["a"], "replaces": "main"}).status_code == 409
