"""Routes of delivery: names, files, report, check, ceiling, listening over the socket, many files, session files."""

import hashlib
import io
import json
import time
import zipfile

import httpx
import numpy as np
import pytest
import soundfile
from fastapi.testclient import TestClient

from saltanvil.engine.render import render_strips
from saltanvil.web.app import create_app
from tests.conftest import PATIENCE_S, wait_for
from tests.listener import Client
from tests.signals import noise
from tests.web.test_api import BASE, finished, send
from tests.web.test_attack import served  # noqa: F401
from tests.web.test_listener import session as playing  # noqa: F401

RATE = 48000


def wav(x, rate=RATE):
    out = io.BytesIO()
    soundfile.write(out, x.T, rate, subtype="FLOAT", format="WAV")
    return out.getvalue()


@pytest.fixture
def client(tmp_path):
    with TestClient(create_app(tmp_path / "data"), base_url=BASE) as client:
        yield client


@pytest.fixture
def quay(client):
    """A session of two tracks, four seconds long, with two sections and a limiter on the main."""
    number = client.post("/api/sessions", json={"name": "Quay"}).json()["id"]
    for name, seed in (("Bell", 1), ("Winch", 2)):
        send(client, number, f"{name}.wav", wav(noise(2, 4 * RATE, seed, 0.3)))
    sections = [
        {"id": "e", "name": "Ebb", "start_s": 0.0, "end_s": 2.0},
        {"id": "f", "name": "Flood", "start_s": 2.0, "end_s": 4.0},
    ]
    edit(client, number, op="set_sections", sections=sections)
    step = {"id": "l", "kind": "limiter", "settings": {"gain_db": 6.0, "release_mode": "fixed"}}
    edit(client, number, op="add_step", strip_id="main", step=step)
    return number


def edit(client, number, **edit):
    answer = client.post(f"/api/sessions/{number}/edits", json={"edit": edit})
    assert answer.status_code == 200, answer.text
    return answer.json()


def url(number, what):
    return f"/api/sessions/{number}/delivery/{what}"


def ended(client, number, answer):
    assert answer.status_code == 202, answer.text
    return next(job for job in finished(client, number) if job["id"] == answer.json()["id"])


def test_names_are_previewed_and_what_is_wrong_is_said(client, quay):
    edit(client, quay, op="set_delivery", values={"extent": "sections", "pattern": "{number} {section} {format}",
                                                  "formats": ["wav24", "mp3-256"]})  # fmt: skip
    told = client.post(url(quay, "names"), json={}).json()
    assert told["names"] == ["01 Ebb wav24.wav", "02 Ebb mp3-256.mp3", "03 Flood wav24.wav", "04 Flood mp3-256.mp3"]
    assert told["problem"] is None and told["muted"] == []
    edit(client, quay, op="set_delivery", values={"extent": "whole and sections", "formats": ["wav24"]})
    assert client.post(url(quay, "names"), json={}).json()["names"] == ["01 wav24.wav", "02 Ebb wav24.wav", "03 Flood wav24.wav"]
    edit(client, quay, op="set_delivery", values={"extent": "sections"})
    edit(client, quay, op="set_sections", sections=[])
    assert "no sections" in client.post(url(quay, "names"), json={}).json()["problem"]
    gone = client.post(url(quay, "names"), json={"delivery": {"strip_ids": ["nobody"]}}).json()
    assert gone["names"] == [] and "not there any more" in gone["problem"]
    for values in ({"pattern": "{oops}"}, {"formats": ["wav8"]}, {"tags": {"free": {"1": "x"}}}):
        answer = client.post(f"/api/sessions/{quay}/edits", json={"edit": {"op": "set_delivery", "values": values}})
        assert answer.status_code == 409


def test_sizes_are_told_before_and_come_out_so_and_what_is_muted_is_named(client, quay):
    """The whole song and its sections in one go; what is said of sizes is held against the files."""
    formats = ["wav16", "wav24", "bwf32f", "aiff24", "mp3-256", "aac-256"]
    edit(client, quay, op="set_delivery", values={"extent": "whole and sections", "formats": formats, "tail": False})
    strips = client.get(f"/api/sessions/{quay}").json()["session"]["strips"]
    track = next(strip["id"] for strip in strips if strip["name"] == "Bell")
    edit(client, quay, op="set", values=[{"of": "strip", "id": track, "name": "mute", "value": True}])
    told = client.post(url(quay, "names"), json={}).json()
    assert told["muted"] == ["Bell"]
    job = ended(client, quay, client.post(url(quay, "files"), json={}))
    assert job["files"] == told["names"] and len(told["names"]) == 3 * len(formats)
    sizes = [len(client.get(f"/api/exports/{job['id']}/{number}").content) for number in range(len(told["names"]))]
    # Headers, and a lossy encoder that does not need its whole rate, are what is between them.
    assert sizes == pytest.approx(told["bytes"], rel=0.15, abs=8000)
    question = {"tab": "t", "delivery": {"extent": "whole"}}
    whole = client.post(url(quay, "time"), json=question).json()["seconds"]
    assert 0.0 < whole < 600.0
    nowhere = {"tab": "t", "delivery": {"extent": "passage"}, "start_s": 3.0, "end_s": 3.0}
    assert client.post(url(quay, "time"), json=nowhere).status_code == 422


def test_files_with_a_report_one_by_one_and_as_a_zip(client, quay):
    edit(
        client,
        quay,
        op="set_delivery",
        values={"formats": ["wav16", "flac24"], "tags": {"title": "Bells", "free": {"Pier": "4"}}},
    )
    job = ended(client, quay, client.post(url(quay, "files"), json={"report": True}))
    assert job["state"] == "done"
    assert job["files"] == [
        "Quay - Main.wav",
        "Quay - Main.flac",
        *(f"Delivery report.{kind}" for kind in ("html", "json", "csv")),
    ]
    page = client.get(f"/api/exports/{job['id']}/2")
    assert page.headers["content-type"].startswith("text/html") and page.headers["content-disposition"].startswith("inline")
    assert "default-src 'self'" in page.headers["content-security-policy"] and "<svg" in page.text
    told = json.loads(client.get(f"/api/exports/{job['id']}/3").content)
    whole = zipfile.ZipFile(io.BytesIO(client.get(f"/api/exports/{job['id']}/zip").content))
    assert whole.testzip() is None and whole.namelist() == job["files"]
    for row, name in zip(told["files"], job["files"], strict=False):
        assert hashlib.sha256(whole.read(name)).hexdigest() == row["sha256"] and row["file"] == name
    assert told["contrast"]["sections"][0]["name"] == "Ebb"


def test_a_cancelled_and_a_failed_delivery_leave_nothing(client, quay, monkeypatch):
    exports = client.app.state.services.folder / "exports"
    monkeypatch.setattr("saltanvil.engine.export.render_strips", slowly(render_strips))
    job = client.post(url(quay, "files"), json={}).json()
    wait_for(lambda: next(j for j in client.get(f"/api/sessions/{quay}/jobs").json() if j["id"] == job["id"])["progress"] > 0.2)
    client.delete(f"/api/jobs/{job['id']}")
    assert finished(client, quay)[-1]["state"] == "cancelled" and list(exports.iterdir()) == []
    monkeypatch.undo()

    def full(*arguments, **more):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("saltanvil.engine.export.AudioWriter", full)
    job = ended(client, quay, client.post(url(quay, "files"), json={}))
    assert job["state"] == "failed" and "the disk is full" in job["error"] and list(exports.iterdir()) == []
    monkeypatch.undo()
    monkeypatch.setattr("saltanvil.media.recording.np.ascontiguousarray", full)
    job = ended(client, quay, client.post(url(quay, "check"), json={}))
    assert job["state"] == "failed" and "the disk is full" in job["error"] and list(exports.iterdir()) == []


def slowly(render):
    def slow(*arguments, **more):
        for blocks in render(*arguments, **more):
            time.sleep(0.2)
            yield blocks

    return slow


def test_a_check_is_kept_with_its_version(client, quay):
    """Marked as out of date by an edit of what sounds, not by a name or a wish; current again after undo."""
    assert client.get(url(quay, "check")).json() is None
    edit(client, quay, op="set_delivery", values={"encoders": ["mp3-128", "opus-128", "wav16"], "true_peak_dbtp": -2.0})
    assert ended(client, quay, client.post(url(quay, "check"), json={}))["state"] == "done"
    view = client.get(url(quay, "check")).json()
    formats = {one["format"]: one for one in view["checked"]["formats"]}
    assert list(formats) == ["mp3-128", "opus-128", "wav16"] and not view["stale"] and view["listen"]
    assert formats["opus-128"]["over_count"] == len(formats["opus-128"]["overs"]) or formats["opus-128"]["over_count"] > 200
    assert view["checked"]["master"]["true_peak_dbtp"] == pytest.approx(-1.0, abs=0.2)
    assert view["checked"]["master_over_count"] > 0  # at -2 dBTP the master itself is over
    assert [section["name"] for section in view["playback"]["sections"]] == ["Ebb", "Flood"]
    louder = view["checked"]["master"]["integrated_lufs"] + 14.0
    assert f"turned down by {louder:.1f} dB" in view["playback"]["text"] and "bought nothing" in view["playback"]["hint"]
    edit(client, quay, op="set_delivery", values={"loudness_lufs": -23.0})
    again = client.get(url(quay, "check")).json()
    assert not again["stale"] and again["playback"]["target_lufs"] == -23.0 and again["playback"]["hint"] is None
    edit(client, quay, op="set", values=[{"of": "session", "id": None, "name": "name", "value": "Pier"}])
    assert not client.get(url(quay, "check")).json()["stale"]
    edit(client, quay, op="set", values=[{"of": "step", "id": "l", "name": "gain_db", "value": 3.0}])
    assert client.get(url(quay, "check")).json()["stale"]
    client.post(f"/api/sessions/{quay}/undo", json={})
    assert not client.get(url(quay, "check")).json()["stale"]


def test_the_check_outlives_the_server(tmp_path, client, quay):
    edit(client, quay, op="set_delivery", values={"encoders": ["opus-96"]})
    ended(client, quay, client.post(url(quay, "check"), json={"start_s": 1.0, "end_s": 2.0}))
    before = client.get(url(quay, "check")).json()
    client.__exit__(None, None, None)
    with TestClient(create_app(tmp_path / "data"), base_url=BASE) as again:
        after = again.get(url(quay, "check")).json()
        assert after == {**before, "listen": False, "names": []} and after["checked"]["start_s"] == 1.0
        gone = again.post(url(quay, "listen"), json={"tab": "t"})
        assert gone.status_code == 404 and "no delivery check to listen to" in gone.json()["detail"]
    client.__enter__()


def test_the_ceiling_is_found_and_applied(client, quay):
    edit(client, quay, op="set_delivery", values={"encoders": ["aac-128"], "true_peak_dbtp": -1.0})
    assert ended(client, quay, client.post(url(quay, "ceiling"), json={"start_s": 0.0, "end_s": 3.0}))["state"] == "done"
    found = client.get(url(quay, "check")).json()
    ceilings = found["ceilings"]
    assert ceilings["step_id"] == "l" and not found["ceilings_stale"] and found["checked"] is None
    assert {-0.1, -0.3, -0.5, -1.0} <= {row["ceiling_db"] for row in ceilings["rows"]}
    edit(client, quay, op="set", values=[{"of": "step", "id": "l", "name": "ceiling_db", "value": ceilings["value"]}])
    assert client.get(url(quay, "check")).json()["ceilings_stale"]
    ended(client, quay, client.post(url(quay, "check"), json={"start_s": 0.0, "end_s": 3.0}))
    (one,) = client.get(url(quay, "check")).json()["checked"]["formats"]
    assert one["over_count"] == 0 and one["figures"]["true_peak_dbtp"] <= -1.0
    edit(client, quay, op="set_delivery", values={"encoders": []})
    refused = client.post(url(quay, "ceiling"), json={})
    assert refused.status_code == 422 and "no encoder is chosen" in refused.json()["detail"]


def test_what_is_heard_is_the_master_the_decoded_and_their_difference(playing):  # noqa: F811
    """Blocks received over the socket, sample by sample, against what the check recorded."""
    services, address, number = playing
    listener = Client(address, number, "t")
    with httpx.Client(base_url=address, timeout=PATIENCE_S) as client:
        wait_for(lambda: "t" in services._auditions)
        edit(client, number, op="set_delivery", values={"encoders": ["opus-96"]})
        job = client.post(url(number, "check"), json={}).json()["id"]
        wait_for(lambda: client.get(f"/api/jobs/{job}").json()["state"] == "done")
        check = services.checks.of(number)
        listener.send(type="matched", on=False)
        listener.send(type="passage", start_s=0.0, end_s=3.0, loop=False)
        assert client.post(url(number, "listen"), json={"tab": "t"}).json()["names"] == [
            "master",
            "opus-96",
            "opus-96 difference",
        ]
        master, decoded = check.master, check.decoded[0]
        for letter in ("master", "opus-96", "opus-96 difference"):
            listener.send(type="letter", letter=letter)
            wait_for(lambda: services._auditions["t"]._letter == letter)  # noqa: B023
            time.sleep(0.2)
            listener.play(0.0)
            wait_for(lambda: listener.queue.heard > 30 * 1024)
            played = list(listener.queue.played)
            listener.send(type="stop")
            at = 2 * 1024
            heard = np.concatenate([audio for *_, audio in played], axis=1)[:, at : 28 * 1024]
            x, y = master.read(at, heard.shape[1]), decoded.read(at, heard.shape[1])
            expected = {"master": x, "opus-96": y, "opus-96 difference": x - y}[letter]
            assert np.abs(heard - expected).max() < 1e-6, letter
        assert np.abs(x - y).max() > 1e-3
        assert client.delete(url(number, "listen"), params={"tab": "t"}).status_code == 204
        wait_for(lambda: services._auditions["t"]._instead is None)
    listener.close()


def test_dropped_files_go_through_a_path(client, quay):
    """Sent as an import, processed instead; one that is no sound is named and the others are done."""
    files = {"a.wav": wav(noise(1, RATE, 5)), "..\\..\\b.wav": wav(noise(2, RATE, 6)), "c.wav": b"no sound"}
    number = client.post(f"/api/sessions/{quay}/imports", json={"names": list(files)}).json()["id"]
    for place, data in enumerate(files.values()):
        client.put(f"/api/sessions/{quay}/imports/{number}/{place}", content=data)
    question = {"import_id": number, "format": "flac24", "loudness_lufs": -20.0}
    job = ended(client, quay, client.post(url(quay, "batch"), json=question))
    assert job["state"] == "done" and job["files"] == ["a.flac", "b.flac", "batch.csv"]
    x, rate = soundfile.read(io.BytesIO(client.get(f"/api/exports/{job['id']}/1").content))
    assert rate == RATE and x.shape[1] == 2
    rows = client.get(f"/api/exports/{job['id']}/2").text.splitlines()
    assert len(rows) == 3 and "-20.0" in rows[1]
    assert len(client.get(f"/api/sessions/{quay}").json()["session"]["strips"]) == 3  # no tracks were made
    again = client.post(url(quay, "batch"), json=question)
    assert again.status_code == 422 and "choose files again" in again.json()["detail"]


def test_a_session_packed_and_unpacked(client, quay):
    job = ended(client, quay, client.post(f"/api/sessions/{quay}/archive"))
    assert job["state"] == "done" and job["files"] == ["Quay.zip"]
    packed = client.get(f"/api/exports/{job['id']}/0").content
    answer = client.post("/api/archives", params={"name": "Quay.zip"}, content=packed)
    assert answer.status_code == 202
    made = wait_job(client, answer.json()["id"])
    assert made["state"] == "done" and made["session_id"] != quay
    one, two = (client.get(f"/api/sessions/{number}").json()["session"] for number in (quay, made["session_id"]))
    for held in (one, two):
        for strip in held["strips"]:
            strip.pop("media_id")
    assert two.pop("name") == f"{one.pop('name')} 2" and one == two  # a name of its own
    bad = wait_job(client, client.post("/api/archives", params={"name": "../x.zip"}, content=packed[:-40]).json()["id"])
    assert bad["state"] == "failed" and bad["error"].startswith("x.zip: the archive is damaged")
    assert list((client.app.state.services.folder / "uploads").iterdir()) == []


def wait_job(client, number):
    for _ in range(400):
        job = client.get(f"/api/jobs/{number}").json()
        if job["state"] not in ("waiting", "running"):
            return job
        time.sleep(0.05)
    raise AssertionError(job)
