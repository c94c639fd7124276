"""Imports through the API: order, names, pairs, rate, times, markers, proposals, bad files, three hundred at once."""

import struct
import subprocess
import time

import numpy as np
import pytest
import soundfile
from fastapi.testclient import TestClient

from saltanvil.web.app import create_app
from tests.signals import noise

BASE = "http://127.0.0.1:8420"


@pytest.fixture
def client(tmp_path):
    with TestClient(create_app(tmp_path / "data"), base_url=BASE) as client:
        yield client


@pytest.fixture
def session(client):
    return client.post("/api/sessions", json={"name": "Own"}).json()["id"]


def wav(tmp_path, name, channels=1, seconds=0.2, rate=44100, seed=1):
    path = tmp_path / name
    soundfile.write(path, noise(channels, round(seconds * rate), seed).T, rate, "PCM_24")
    return path.read_bytes()


def ended(client, job):
    while job["state"] in ("waiting", "running"):
        time.sleep(0.01)
        job = client.get(f"/api/jobs/{job['id']}").json()
    return job


def bring(client, session, files, **how):
    """All files at once; the job and the import's view."""
    url = f"/api/sessions/{session}/imports"
    view = client.post(url, json={"names": [name for name, _ in files], **how}).json()
    refused = [client.put(f"{url}/{view['id']}/{place}", content=data) for place, (_, data) in enumerate(files)]
    job = ended(client, client.post(f"{url}/{view['id']}").json())
    problems = [answer.json()["detail"] for answer in refused if answer.status_code == 422]
    return job, client.get(f"{url}/{view['id']}").json(), problems


def strips(client, session):
    return client.get(f"/api/sessions/{session}").json()["session"]["strips"][1:]


def tracks(client, session):
    return [strip["name"] for strip in strips(client, session) if strip["kind"] == "track"]


def test_tracks_come_in_the_order_of_their_names_or_as_given_and_one_undo_takes_them_away(client, session, tmp_path):
    names = ["10_Quay_Hat.wav", "2_Quay_Snare.wav", "1_Quay_Kick.wav"]
    files = [(name, wav(tmp_path, name)) for name in names]
    job, view, _ = bring(client, session, files)
    assert job["state"] == "done" and tracks(client, session) == ["Kick", "Snare", "Hat"]
    assert view["strip_ids"] == [strip["id"] for strip in strips(client, session)]
    client.post(f"/api/sessions/{session}/undo", json={})
    assert tracks(client, session) == []
    bring(client, session, files, order="given")
    assert tracks(client, session) == ["Hat", "Snare", "Kick"]


def test_an_empty_session_takes_the_rate_of_the_files_and_keeps_their_samples(client, session, tmp_path):
    sound = noise(2, 8820, 3)
    path = tmp_path / "Take.wav"
    soundfile.write(path, sound.T, 44100, "FLOAT")
    bring(client, session, [("Take.wav", path.read_bytes())], rate="files")
    view = client.get(f"/api/sessions/{session}").json()
    assert view["session"]["rate_hz"] == 44100
    media = client.app.state.services.media.at_rate(44100)
    assert np.array_equal(media.read(view["session"]["strips"][1]["media_id"], 0, 8820), sound)
    # With tracks in it the rate stays.
    bring(client, session, [("b.wav", wav(tmp_path, "b.wav", rate=48000))], rate="files")
    assert client.get(f"/api/sessions/{session}").json()["session"]["rate_hz"] == 44100
    for _ in range(2):
        client.post(f"/api/sessions/{session}/undo", json={})
    assert client.get(f"/api/sessions/{session}").json()["session"]["rate_hz"] == 48000


def test_sides_become_one_stereo_track(client, session, tmp_path):
    left, right = noise(1, 9000, 1), noise(1, 8000, 2)
    for name, sound in (("Piano.L.wav", left), ("Piano.R.wav", right)):
        soundfile.write(tmp_path / name, sound.T, 48000, "FLOAT")
    files = [(name, (tmp_path / name).read_bytes()) for name in ("Piano.R.wav", "Piano.L.wav")]
    bring(client, session, files)
    (strip,) = strips(client, session)
    media = client.app.state.services.media
    assert strip["name"] == "Piano" and media.row(strip["media_id"]).channels == 2
    sound = media.at_rate(48000).read(strip["media_id"], 0, 9000)
    assert np.array_equal(sound[0], left[0]) and np.array_equal(sound[1, :8000], right[0]) and not sound[1, 8000:].any()


def test_what_belongs_together_is_proposed_and_done_in_one_undoable_edit(client, session, tmp_path):
    names = ["Kick.wav", "Snare.wav", "Bass.wav", "Vox lead.wav", "Vox back.wav"]
    _, view, _ = bring(client, session, [(name, wav(tmp_path, name)) for name in names])
    (buses,) = view["proposals"]
    assert buses["name"] == "buses" and "Drums: Kick, Snare" in buses["text"] and "Bass" not in buses["text"]
    edit = {"edit": buses["edit"]}
    assert client.post(f"/api/sessions/{session}/edits", json=edit).status_code == 200
    by_id = {strip["id"]: strip for strip in strips(client, session)}
    feeds = {strip["name"]: by_id[strip["output"]]["name"] for strip in by_id.values() if strip["output"] in by_id}
    assert feeds == {"Kick": "Drums", "Snare": "Drums", "Vox lead": "Voices", "Vox back": "Voices"}
    assert [strip["name"] for strip in strips(client, session) if strip["kind"] == "bus"] == ["Drums", "Voices"]
    client.post(f"/api/sessions/{session}/undo", json={})
    assert {strip["output"] for strip in strips(client, session)} == {"main"}


def test_times_and_markers_in_the_files_are_proposed(client, session, tmp_path):
    for n, name in enumerate(("Take A.wav", "Take B.wav")):
        make = ["ffmpeg", "-v", "error", "-f", "lavfi", "-i", f"anoisesrc=d=0.3:r=48000:seed={n}", "-write_bext", "1"]
        reference = ["-metadata", f"time_reference={48000 * 3600 + n * 24000}", str(tmp_path / name)]
        subprocess.run([*make, *reference], check=True)
    tempo = b"\x00\xff\x51\x03" + (60_000_000 // 96).to_bytes(3, "big")
    marks = b"\x00\xff\x06\x05Verse" + b"\x8f\x00\xff\x06\x06Chorus" + b"\x00\xff\x2f\x00"
    song = b"MThd" + struct.pack(">IHHH", 6, 0, 1, 480) + b"MTrk" + struct.pack(">I", len(tempo + marks)) + tempo + marks
    files = [(name, (tmp_path / name).read_bytes()) for name in ("Take A.wav", "Take B.wav")]
    _, view, _ = bring(client, session, [*files, ("map.mid", song)])
    assert [proposal["name"] for proposal in view["proposals"]] == ["times", "sections", "tempo"]
    for proposal in view["proposals"]:
        assert client.post(f"/api/sessions/{session}/edits", json={"edit": proposal["edit"]}).status_code == 200
    after = client.get(f"/api/sessions/{session}").json()["session"]
    assert [strip["start_s"] for strip in after["strips"][1:]] == [0.0, 0.5] and after["tempo_bpm"] == pytest.approx(96, abs=0.01)
    assert [(s["name"], round(s["start_s"], 3)) for s in after["sections"]] == [("Verse", 0.0), ("Chorus", 2.5)]


def test_the_time_of_one_file_counts_among_others(client, session, tmp_path):
    """By itself a time of day says nothing; beside a track that begins with the session it says where."""
    make = ["ffmpeg", "-v", "error", "-f", "lavfi", "-i", "anoisesrc=d=0.3:r=48000", "-write_bext", "1"]
    subprocess.run([*make, "-metadata", "time_reference=120000", str(tmp_path / "Late.wav")], check=True)
    late = ("Late.wav", (tmp_path / "Late.wav").read_bytes())
    _, view, _ = bring(client, session, [late])
    assert view["proposals"] == [] and view["files"][0]["start_s"] == 2.5
    _, view, _ = bring(client, session, [late])
    times, takes = view["proposals"]
    assert takes["name"] == "replacements"  # as it is called like the one before
    assert client.post(f"/api/sessions/{session}/edits", json={"edit": times["edit"]}).status_code == 200
    assert [strip["start_s"] for strip in strips(client, session)] == [0.0, 2.5]


def test_an_import_says_what_it_did_with_each_file(client, session, tmp_path):
    for side in "LR":
        soundfile.write(tmp_path / f"Piano.{side}.wav", noise(1, 9600, 1).T, 48000, "PCM_16")
    subprocess.run(["ffmpeg", "-v", "error", "-i", str(tmp_path / "Piano.L.wav"), str(tmp_path / "Take.mp3")], check=True)
    names = ["Piano.L.wav", "Piano.R.wav", "Take.mp3"]
    files = [(name, (tmp_path / name).read_bytes()) for name in names]
    files += [("Hat.wav", wav(tmp_path, "Hat.wav")), ("notes.txt", b"none")]
    _, view, _ = bring(client, session, files)
    told = {file["name"]: file for file in view["files"]}
    assert list(told) == [*names, "Hat.wav", "notes.txt"]
    left, right, lossy, hat, none = told.values()
    assert left["joined"] and right["joined"] and left["strip_id"] == right["strip_id"] and left["becomes"] == "Piano, one side"
    assert (left["format"], left["rate_hz"], left["channels"], left["converted"]) == ("WAV, 16-bit", 48000, 1, None)
    assert left["length_s"] == pytest.approx(0.2)
    assert lossy["format"] == "MP3" and lossy["converted"] == "decoded from MP3" and lossy["becomes"] == "Take"
    assert lossy["length_s"] == pytest.approx(0.2, abs=0.06)  # whole frames of the codec
    assert hat["converted"] == "44.1 kHz to 48 kHz" and hat["format"] == "WAV, 24-bit"
    assert none["becomes"].startswith("not taken: ") and none["strip_id"] is None


def test_a_stereo_track_is_split_into_two_that_sum_to_it(client, session, tmp_path):
    sound = noise(2, 9600, 3)
    soundfile.write(tmp_path / "Piano.wav", sound.T, 48000, "FLOAT")
    bring(client, session, [("Piano.wav", (tmp_path / "Piano.wav").read_bytes()), ("Hat.wav", wav(tmp_path, "Hat.wav"))])
    piano = next(strip for strip in strips(client, session) if strip["name"] == "Piano")
    before = client.get(f"/api/sessions/{session}").json()["session"]
    assert ended(client, client.post(f"/api/sessions/{session}/strips/{piano['id']}/split").json())["state"] == "done"
    left, right = (strip for strip in strips(client, session) if strip["name"].startswith("Piano"))
    assert [left["name"], right["name"], left["pan"], right["pan"]] == ["Piano L", "Piano R", -1.0, 1.0]
    media = client.app.state.services.media.at_rate(48000)
    sides = [media.read(strip["media_id"], 0, 9600) for strip in (left, right)]
    assert np.array_equal(np.concatenate(sides), sound)
    client.post(f"/api/sessions/{session}/undo", json={})
    assert client.get(f"/api/sessions/{session}").json()["session"] == before
    # A mono track has no sides.
    hat = next(strip for strip in strips(client, session) if strip["name"] == "Hat")
    answer = client.post(f"/api/sessions/{session}/strips/{hat['id']}/split")
    assert answer.status_code == 409 and "no stereo track" in answer.json()["detail"]


def test_sessions_are_listed_with_length_and_size_and_named_apart(client, session, tmp_path):
    bring(client, session, [("Hat.wav", wav(tmp_path, "Hat.wav", seconds=0.5, rate=48000))])
    rows = {row["name"]: row for row in client.get("/api/sessions").json()}
    assert rows["Own"]["length_s"] == pytest.approx(0.5) and rows["Own"]["media_bytes"] == 24000 * 4
    names = [client.post(f"/api/sessions/{session}/duplicate").json()["session"]["name"] for _ in range(3)]
    assert names == ["Own copy", "Own copy 2", "Own copy 3"]


def test_files_of_any_size_are_taken(client, session, tmp_path):
    """A stem of a song is larger than any other body may be."""
    big = wav(tmp_path, "Song.wav", channels=2, seconds=20)
    assert len(big) > 5 << 20
    job, _, refused = bring(client, session, [("Song.wav", big), ("Song.wav", big)])
    assert job["state"] == "done" and not refused and len(tracks(client, session)) == 2
    assert client.post(f"/api/sessions/{session}/imports", content=b"x" * (5 << 20)).status_code == 413


def test_a_file_sent_again_takes_the_place_of_the_first(client, session, tmp_path):
    url = f"/api/sessions/{session}/imports"
    number = client.post(url, json={"names": ["a.wav"]}).json()["id"]
    assert client.put(f"{url}/{number}/0", content=b"").status_code == 422
    for _ in range(2):
        assert client.put(f"{url}/{number}/0", content=wav(tmp_path, "a.wav")).status_code == 204
    assert len(list((client.app.state.services.folder / "uploads").iterdir())) == 1
    assert ended(client, client.post(f"{url}/{number}").json())["state"] == "done" and tracks(client, session) == ["a"]


def test_bad_files_are_named_and_the_others_become_tracks(client, session, tmp_path):
    good = wav(tmp_path, "good.wav")
    cut = wav(tmp_path, "cut.wav", seconds=1.0)[:-2000]
    job, view, refused = bring(
        client, session, [("good.wav", good), ("empty.wav", b""), ("cut.wav", cut), ("notes.txt", b"hello"), ("x.mid", b"MThd")]
    )
    assert job["state"] == "done" and tracks(client, session) == ["good"]
    told = " ".join([*refused, *view["problems"]])
    assert all(name in told for name in ("empty.wav", "cut.wav", "notes.txt", "x.mid")) and "good.wav" not in told
    job, _, _ = bring(client, session, [("empty.wav", b"")])
    assert job["state"] == "done" and len(tracks(client, session)) == 1  # nothing came, nothing changed
    store = client.app.state.services
    assert not list((store.folder / "uploads").iterdir())


def test_three_hundred_files_at_once(client, session, tmp_path):
    one = wav(tmp_path, "one.wav", seconds=0.01, rate=48000)
    job, _, refused = bring(client, session, [(f"Take {n}.wav", one) for n in range(300, 0, -1)])
    assert job["state"] == "done" and not refused and tracks(client, session) == [f"Take {n}" for n in range(1, 301)]


def test_what_is_not_there_is_not_found(client, session):
    url = f"/api/sessions/{session}/imports"
    number = client.post(url, json={"names": ["a.wav"]}).json()["id"]
    assert client.put(f"{url}/{number}/1", content=b"x").status_code == 404
    assert client.get(f"{url}/{number + 1}").status_code == 404
    other = client.post("/api/sessions", json={"name": "Other"}).json()["id"]
    assert client.post(f"/api/sessions/{other}/imports/{number}").status_code == 404
    assert client.post("/api/sessions/999/imports", json={"names": ["a.wav"]}).status_code == 404
    assert client.post(url, json={"names": []}).status_code == 422


def test_tempo_sections_and_trims_are_answered(client, session, tmp_path):
    rate, seconds = 48000, 16
    x = np.zeros((1, seconds * rate), np.float32)
    for n in range(32):
        x[0, n * rate // 2 : n * rate // 2 + 2000] = noise(1, 2000, n, 0.05 if n < 16 else 0.5)[0]
    soundfile.write(tmp_path / "Beat.wav", x.T, rate, "FLOAT")
    _, view, _ = bring(client, session, [("Beat.wav", (tmp_path / "Beat.wav").read_bytes())])
    strip_id = view["strip_ids"][0]
    url = f"/api/sessions/{session}"
    tempo = client.post(f"{url}/studies/tempo", json={"tab": "t", "strip_id": strip_id}).json()
    assert tempo["bpm"] == pytest.approx(120, abs=0.2) and tempo["half_bpm"] == pytest.approx(60, abs=0.1)
    assert client.post(f"{url}/studies/tempo", json={"tab": "t", "strip_id": "main"}).status_code == 409
    result = client.post(f"{url}/studies/parts", json={"tab": "t"}).json()
    assert [(s["start_s"], s["end_s"]) for s in result["sections"]] == [(0.0, 8.0), (8.0, 16.0)]
    client.post(f"{url}/edits", json={"edit": result["edit"]})
    text = client.get(f"{url}/sections.csv").text
    read = client.post(f"{url}/sections/read", json={"text": text.replace("Part A", "Verse")}).json()
    assert [s["name"] for s in read["sections"]] == ["Verse", "Part B"]
    assert client.post(f"{url}/sections/read", json={"text": "hello"}).status_code == 409
    question = {"tab": "t", "strip_ids": [strip_id], "level": "peak", "target_db": -6}
    trims = client.post(f"{url}/studies/stage-gain", json=question).json()
    client.post(f"{url}/edits", json={"edit": trims["edit"]})
    assert strips(client, session)[0]["trim_db"] == trims["trims"][0]["trim_db"] != 0.0
    assert client.post(f"{url}/studies/stage-gain", json=question).json()["edit"] is None
    facts = client.get(f"/api/media/{strips(client, session)[0]['media_id']}").json()
    assert facts["peak_dbfs"] == pytest.approx(20 * np.log10(np.abs(x).max()), abs=0.01) and facts["rate_hz"] == 48000


def test_presets_belong_to_a_session_or_to_all_and_are_not_overwritten_unasked(client, session):
    def save(**more):
        return client.post("/api/presets", json={"kind": "trim", "name": "Loud", "settings": {"gain_db": 3.0}, **more})

    assert save().status_code == 201 and save(session_id=session).status_code == 201
    assert save().status_code == 409 and "already" in save().json()["detail"]
    assert save(settings={"gain_db": 6.0}, replace=True).status_code == 201
    everywhere = client.get("/api/presets?kind=trim").json()
    here = client.get(f"/api/presets?kind=trim&session_id={session}").json()
    assert [preset["settings"]["gain_db"] for preset in everywhere] == [6.0] and len(here) == 2
    file = client.get(f"/api/presets/file?kind=trim&session_id={session}&ids={here[1]['id']}").json()
    assert len(file["presets"]) == 1
    older = {"format": "salt anvil presets", "version": 2, "presets": [
        {"kind": "limiter", "name": "Old", "settings": {"release_mode": "leaning", "lean": 0.2}}]}  # fmt: skip
    assert client.post("/api/presets/file", json=older).json()[0]["settings"]["low_end_weight"] == 0.2


def test_an_import_that_made_tracks_never_says_it_failed(client, session, tmp_path, monkeypatch):
    """What is proposed for the tracks fails; they are there, and the job says so. So does an error behind the edit."""

    def broken(*arguments):
        raise ValueError("start_s: Input should be greater than or equal to 0")

    monkeypatch.setattr("saltanvil.web.imports.proposals", broken)
    job, view, _ = bring(client, session, [("a.wav", wav(tmp_path, "a.wav"))])
    assert job["state"] == "done" and tracks(client, session) == ["a"] and len(view["strip_ids"]) == 1
    assert view["proposals"] == [] and "the tracks are complete" in view["notes"][0] and view["passage_s"][1] > 0
    monkeypatch.undo()
    monkeypatch.setattr(client.app.state.services.matches, "check", broken)
    job, view, _ = bring(client, session, [("b.wav", wav(tmp_path, "b.wav"))])
    monkeypatch.undo()
    assert job["state"] == "done" and tracks(client, session) == ["a", "b"]
    for strip in strips(client, session):
        assert client.app.state.services.media.row(strip["media_id"]).frames > 0


def test_markers_that_no_section_can_have_are_left_out_and_named(client, session, tmp_path):
    """A MIDI file by SMPTE time, whose places came out negative and failed the import."""

    def meta(delta, kind, data):
        return delta + bytes([0xFF, kind, len(data)]) + data

    far = b"\xff\xff\xff\x7f"
    events = meta(b"\x00", 6, b"Here") + meta(b"\x81\x00", 6, b"There") + meta(far, 6, b"Far") + meta(b"\x00", 0x2F, b"")
    song = b"MThd" + struct.pack(">IHHH", 6, 0, 1, (256 - 25) << 8 | 4) + b"MTrk" + struct.pack(">I", len(events)) + events
    job, view, _ = bring(client, session, [("a.wav", wav(tmp_path, "a.wav", seconds=3.0)), ("map.mid", song)])
    assert job["state"] == "done" and tracks(client, session) == ["a"]
    sections = next(one for one in view["proposals"] if one["name"] == "sections")
    assert [edit["section"]["start_s"] for edit in sections["edit"]["edits"]] == pytest.approx([0.0, 1.28])
    assert view["notes"] == ["map.mid: 'Far' left out: sections lie in the first 6 hours, 200 at most."]
    answer = client.post(f"/api/sessions/{session}/edits", json={"edit": sections["edit"]})
    assert [one["name"] for one in answer.json()["session"]["sections"]] == ["Here", "There"]


def test_a_midi_file_beyond_its_size_is_refused_while_it_is_sent(client, session):
    url = f"/api/sessions/{session}/imports"
    view = client.post(url, json={"names": ["notes.mid"]}).json()
    answer = client.put(f"{url}/{view['id']}/0", content=b"MThd" + bytes(5 << 20))
    assert answer.status_code == 413 and "at most 4 MiB" in answer.json()["detail"]
    assert list((client.app.state.services.folder / "uploads").iterdir()) == []
