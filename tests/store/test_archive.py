"""Session files: exact to the sample, and refused with a reason where they are damaged, newer or hostile."""

import io
import json
import shutil
import zipfile

import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from saltanvil.cli import main
from saltanvil.engine.render import Cancelled, render_strips
from saltanvil.engine.time import session_frames
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.store.archive import ARCHIVE, ArchiveError, pack, unpack
from saltanvil.store.database import Database
from saltanvil.store.media import ImportCancelled, MediaStore
from saltanvil.store.sessions import SessionStore
from saltanvil.studies.match.match import with_current_matches
from tests.signals import noise

RATE = 48000


def stored(folder):
    folder.mkdir(exist_ok=True)
    database = Database(folder / "saltanvil.db")
    return database, SessionStore(database), MediaStore(database)


def add(media, x, rate, name):
    blocks = (x[:, at : at + 1152] for at in range(0, x.shape[1], 1152))  # as a lossy file is decoded
    return media.add(name, "made", rate, len(x), blocks, RATE, x.shape[1])


@pytest.fixture(scope="module")
def packed(tmp_path_factory):
    """A session with media of every sort: 24 bits, float, another rate, samples above full scale."""
    folder = tmp_path_factory.mktemp("packed")
    database, sessions, media = stored(folder / "one")
    whole = (np.rint(noise(2, 20_000, 1) * (1 << 23)) / (1 << 23)).astype(np.float32)
    sounds = {"Whole": (whole, RATE), "Float": (noise(1, 15_000, 2), RATE), "Other": (noise(2, 18_000, 3, 0.9), 44100)}
    strips = [Strip(id="main", name="Main", kind="main", output=None, path={"steps": [Step(id="l", kind="limiter")]})]
    for name, (x, rate) in sounds.items():
        strips.append(Strip(id=name.lower(), name=name, kind="track", media_id=add(media, x, rate, f"{name}.wav")))
    steps = [Step(id="s", kind="saturator", settings={"drive_db": 12.0}), Step(id="e", kind="echo")]
    strips[1] = strips[1].model_copy(update={"path": strips[1].path.model_copy(update={"steps": steps})})
    session = with_current_matches(Session(name="Ebb / Flood", strips=strips), media.at_rate(RATE))
    number = sessions.create(session)
    path = folder / "session.zip"
    pack(session, media, path)
    yield session, number, path, folder / "one", rendered(session, media)
    database.close()


def rendered(session, media):
    at_rate = media.at_rate(session.rate_hz)
    blocks = [held["main"] for held in render_strips(session, at_rate, 0, session_frames(session, at_rate))]
    return np.concatenate(blocks, axis=1)


def test_unpacked_elsewhere_it_sounds_the_same_bit_for_bit(packed, tmp_path):
    session, _, path, _, sound = packed
    database, sessions, media = stored(tmp_path / "two")
    add(media, noise(1, 500), RATE, "another")  # so that the numbers of the media are others
    number = unpack(path, "session.zip", sessions, media, tmp_path)
    again = sessions.version(number).session
    assert [strip.media_id for strip in again.strips] != [strip.media_id for strip in session.strips]
    pairs = zip(again.strips, session.strips, strict=True)
    plain = again.model_copy(update={"strips": [new.model_copy(update={"media_id": old.media_id}) for new, old in pairs]})
    assert plain == session
    assert np.array_equal(rendered(again, media), sound)
    assert not list(tmp_path.glob("unpack-*"))
    database.close()


def test_what_is_in_it(packed):
    """Open formats: FLAC where 24 bits hold every sample, float WAV where not; JSON with versions; read by soundfile."""
    _, _, path, _, _ = packed
    with zipfile.ZipFile(path) as archive:
        assert archive.testzip() is None
        assert sorted(archive.namelist()) == ["README.txt", "media/1.flac", "media/2.wav", "media/3.wav", "session.json"]
        told = json.loads(archive.read("session.json"))
        assert told["archive"] == ARCHIVE and told["document"]["format"] >= 6 and b"unpack" in archive.read("README.txt")
        x, rate = soundfile.read(io.BytesIO(archive.read("media/3.wav")), dtype="float32", always_2d=True)
        assert rate == 44100 and np.array_equal(x.T, noise(2, 18_000, 3, 0.9))


def test_by_the_command_line(packed, tmp_path, capsys):
    _, _, _, folder, sound = packed
    assert main(["pack", "Ebb / Flood", "-o", str(tmp_path / "s.zip"), "--data", str(folder)]) == 0
    assert main(["unpack", str(tmp_path / "s.zip"), "--data", str(tmp_path / "new")]) == 0
    assert capsys.readouterr().out.splitlines() == [str(tmp_path / "s.zip"), "1  Ebb / Flood"]
    database, sessions, media = stored(tmp_path / "new")
    assert np.array_equal(rendered(sessions.version(1).session, media), sound)
    database.close()
    (tmp_path / "s.zip").write_bytes(b"no zip")
    assert main(["unpack", str(tmp_path / "s.zip"), "--data", str(tmp_path / "new")]) == 1
    assert "s.zip: the archive is damaged" in capsys.readouterr().err


def changed(path, target, **members):
    """A copy with members replaced, added, or (None) left out."""
    with zipfile.ZipFile(path) as source, zipfile.ZipFile(target, "w") as out:
        for info in source.infolist():
            if info.filename not in members:
                out.writestr(info, source.read(info.filename))
        for name, body in members.items():
            if body is not None:
                how = zipfile.ZIP_DEFLATED if isinstance(body, tuple) else zipfile.ZIP_STORED
                out.writestr(name, body[0] if isinstance(body, tuple) else body, how)
    return target


def document(path, **values):
    with zipfile.ZipFile(path) as archive:
        return json.dumps({**json.loads(archive.read("session.json")), **values})


def refusal(archive, folder):
    """Why it is refused; nothing of it remains."""
    database, sessions, media = stored(folder / "store")
    try:
        with pytest.raises(ArchiveError) as error:
            unpack(archive, "s.zip", sessions, media, folder)
        assert sessions.listed() == []
        assert database.connection().execute("SELECT count(*) FROM media").fetchone()[0] == 0
        assert not list(folder.glob("unpack-*"))
    finally:
        database.close()
    assert str(error.value).startswith("s.zip: ")
    return str(error.value)


def test_hostile_and_foreign_archives(packed, tmp_path, monkeypatch):
    path = packed[2]
    with zipfile.ZipFile(path) as archive:
        told = json.loads(archive.read("session.json"))
        sound = archive.read("media/1.flac")
    media = told["media"]
    cases = {
        "outside.zip": ({"../evil.wav": b"x"}, "has no place in one"),
        "absolute.zip": ({"/etc/passwd": b"x"}, "has no place in one"),
        "newer.zip": ({"session.json": document(path, archive=ARCHIVE + 1)}, "packed by a newer Salt Anvil"),
        "document.zip": ({"session.json": document(path, document={**told["document"], "format": 99})}, "newer Salt Anvil"),
        "none.zip": ({"session.json": None}, "it has no session.json"),
        "json.zip": ({"session.json": b"[[[["}, "not JSON text"),
        "deep.zip": ({"session.json": b"[" * 200_000}, "not JSON text"),
        "missing.zip": ({"media/1.flac": None}, "damaged"),
        "other.zip": ({"media/1.flac": sound[:-500] + bytes(500)}, "damaged"),
        "swapped.zip": ({"media/2.wav": sound}, "damaged"),
        # A bomb: deflated zeros in the place of sound.
        "bomb.zip": ({"media/1.flac": (bytes(50 << 20),)}, "another size than it says"),
        # Sound that says it is short and is long, and one that says it is longer than any disk.
        "long.zip": ({"session.json": document(path, media=[{**media[0], "frames": 10}, *media[1:]])}, "damaged"),
        "huge.zip": (
            {"session.json": document(path, media=[{**one, "frames": 6 * 3600 * 384000} for one in media])}, "more than 64 GiB",
        ),
        "traversal.zip": ({"session.json": document(path, media=[{**media[0], "file": "../../x.flac"}, *media[1:]])}, "damaged"),
    }  # fmt: skip
    for name, (members, words) in cases.items():
        folder = tmp_path / name.split(".")[0]
        folder.mkdir()
        assert words in refusal(changed(path, folder / "s.zip", **members), folder), name
        shutil.rmtree(folder)
    monkeypatch.setattr("saltanvil.store.archive.shutil.disk_usage", lambda folder: shutil._ntuple_diskusage(1, 1, 1000))
    assert "free some space" in refusal(path, tmp_path)
    assert not (tmp_path.parent / "evil.wav").exists()


@settings(max_examples=1000, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_a_thousand_mutated_archives(packed, store, data):
    """A clear error, or the right session: nothing else, and nothing left behind."""
    session, _, path, _, _ = packed
    sessions, media, folder = store
    whole = path.read_bytes()
    mutated = bytearray(whole)
    # Half of all changes hit the small files and the directory at the end, where a zip says what it is.
    last = st.integers(len(whole) - 3000, len(whole) - 1)
    for _ in range(data.draw(st.integers(1, 3))):
        at = data.draw(st.one_of(st.integers(0, len(whole) - 1), last))
        kind = data.draw(st.sampled_from(["byte", "cut", "double", "zeros"]))
        if kind == "byte":
            mutated[at % len(mutated)] ^= data.draw(st.integers(1, 255))
        elif kind == "cut":
            del mutated[at : at + data.draw(st.integers(1, 200))]
        elif kind == "double":
            mutated[at:at] = mutated[at : at + data.draw(st.integers(1, 200))]
        else:
            mutated[at : at + 8] = bytes(min(8, max(len(mutated) - at, 0)))
        if not mutated:
            mutated = bytearray(b"x")
    try:
        number = unpack(io.BytesIO(bytes(mutated)), "s.zip", sessions, media, folder)
    except ArchiveError as error:
        assert str(error).startswith("s.zip: ") and len(str(error)) < 600
        return
    again = sessions.version(number).session
    assert [strip.model_copy(update={"media_id": None}) for strip in again.strips] == [
        strip.model_copy(update={"media_id": None}) for strip in session.strips
    ]
    for strip, old in zip(again.strips, session.strips, strict=True):
        if strip.media_id is not None:
            assert media.row(strip.media_id).frames == packed_frames(old.name)
            media.drop(strip.media_id)


def packed_frames(name):
    return {"Whole": 20_000, "Float": 15_000, "Other": 18_000}[name]


@pytest.fixture
def store(tmp_path):
    database, sessions, media = stored(tmp_path / "store")
    yield sessions, media, tmp_path
    database.close()


def test_cancelled(packed, tmp_path):
    session, _, path, folder, _ = packed
    database, sessions, media = stored(tmp_path / "two")
    with pytest.raises(ImportCancelled):
        unpack(path, "s.zip", sessions, media, tmp_path, cancelled=lambda: True)
    assert sessions.listed() == [] and not list(tmp_path.glob("unpack-*"))
    database.close()
    database, sessions, media = stored(folder)
    with pytest.raises(Cancelled):
        pack(session, media, tmp_path / "x.zip", cancelled=lambda: True)
    assert not list(tmp_path.glob(".pack-*"))
    database.close()
