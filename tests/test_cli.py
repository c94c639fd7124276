"""The command line as a user types it."""

import json
import subprocess
import sys

import numpy as np
import pytest
import soundfile

from saltanvil.cli import main
from saltanvil.media.decode import open_audio
from saltanvil.processors import REGISTRY
from saltanvil.processors.base import Context
from saltanvil.processors.compressor import Compressor, CompressorSettings
from saltanvil.session.document.session import Session, Strip
from saltanvil.store.database import Database
from saltanvil.store.media import MediaStore
from saltanvil.store.sessions import SessionStore
from tests.conftest import PATIENCE_S
from tests.signals import noise, tone


def test_steps_describes_every_setting(capsys):
    assert main(["steps", "--json"]) == 0
    steps = {step["kind"]: step for step in json.loads(capsys.readouterr().out)}
    assert set(steps) == set(REGISTRY)
    for step in steps.values():
        assert step["settings_schema"]["properties"].keys() == {setting["name"] for setting in step["settings"]}
        for setting in step["settings"]:
            assert setting["label"] and setting["help"] and setting["group"] and setting["default"] is not None
            if setting["type"] == "number":
                assert setting["minimum"] <= setting["default"] <= setting["maximum"]
    names = {setting["name"] for setting in steps["compressor"]["settings"]}
    assert names >= {
        "threshold_db",
        "ratio",
        "knee_db",
        "range_db",
        "attack_ms",
        "hold_ms",
        "release_ms",
        "lookahead_ms",
        "makeup_db",
        "mix",
        "stereo_link",
    }
    assert main(["steps"]) == 0 and "Threshold" not in capsys.readouterr().err


def test_measure_prints_words_too(tmp_path, capsys):
    soundfile.write(tmp_path / "a.wav", tone(997, 1.0, -20), 48000)
    assert main(["measure", str(tmp_path / "a.wav")]) == 0
    assert "LUFS" in capsys.readouterr().out


@pytest.fixture
def files(tmp_path):
    soundfile.write(tmp_path / "in.wav", noise(2, 60_000).T, 48000, subtype="FLOAT")
    soundfile.write(tmp_path / "key.wav", noise(1, 30_000, 9, 0.5).T, 44100, subtype="FLOAT")
    path = {
        "steps": [
            {"kind": "trim", "settings": {"gain_db": 3}},
            {"kind": "compressor", "settings": {"threshold_db": -30, "lookahead_ms": 4}},
        ]
    }
    (tmp_path / "path.json").write_text(json.dumps(path))
    return tmp_path


def test_process_is_the_engine(files, capsys):
    out = files / "out.wav"
    assert main(["process", str(files / "in.wav"), "-o", str(out), "--path", str(files / "path.json"), "--report"]) == 0
    report = json.loads(capsys.readouterr().out)
    x = noise(2, 60_000) * np.float32(10 ** (3 / 20))
    step = Compressor(CompressorSettings(threshold_db=-30, lookahead_ms=4), 2, Context())
    expected = step.process(np.pad(x, ((0, 0), (0, 192))))[:, 192:]
    assert pytest.approx(expected, abs=1e-6) == soundfile.read(out, dtype="float32")[0].T
    assert report["steps"][1]["largest_reduction_db"] > 3 and report["after"]["rms_dbfs"] < report["before"]["rms_dbfs"] + 3
    keyed = files / "keyed.flac"
    arguments = [
        "process",
        str(files / "in.wav"),
        "-o",
        str(keyed),
        "--path",
        str(files / "path.json"),
        "--key",
        str(files / "key.wav"),
    ]
    assert main(arguments) == 0
    assert np.abs(soundfile.read(keyed)[0].T - expected).max() > 0.01


def test_process_takes_splits_as_sessions_keep_them(files, capsys):
    """An idle band split is an all-pass, so that it keeps the level; a copy split beside it doubles it."""
    lanes = [{"name": name, "path": {"steps": []}} for name in ("Low", "High")]
    bands = {"kind": "split", "settings": {"by": "bands", "dividers_hz": [500]}, "lanes": lanes}
    copies = {"kind": "split", "settings": {"by": "copies", "blend": False}, "lanes": lanes}
    (files / "split.json").write_text(json.dumps({"steps": [bands, copies]}))
    out = files / "out.wav"
    assert (
        main(["process", str(files / "in.wav"), "-o", str(out), "--path", str(files / "split.json"), "--report", "--no-tail"])
        == 0
    )
    report = json.loads(capsys.readouterr().out)
    assert report["after"]["rms_dbfs"] - report["before"]["rms_dbfs"] == pytest.approx(6.02, abs=0.01)
    assert [step["kind"] for step in report["steps"]] == ["split", "split"]


def test_process_writes_the_difference_without_the_gain(files):
    """Against NumPy: what enters less what a plain run writes, at the make-up's gain."""
    folder = files
    step = {"kind": "compressor", "settings": {"threshold_db": -30.0, "ratio": 4.0, "makeup_db": 8.0, "lookahead_ms": 2.0}}
    (folder / "made-up.json").write_text(json.dumps({"steps": [step]}))
    arguments = [str(folder / "in.wav"), "--path", str(folder / "made-up.json"), "--format", "wav32f", "--no-tail"]
    for name, more in (("plain.wav", []), ("difference.wav", ["--difference"])):
        assert main(["process", *arguments, "-o", str(folder / name), *more]) == 0
    entered, plain, difference = (soundfile.read(folder / name)[0] for name in ("in.wav", "plain.wav", "difference.wav"))
    np.testing.assert_allclose(difference, entered - plain / 10 ** (8.0 / 20), atol=1e-6)
    assert np.corrcoef(difference.ravel(), entered.ravel())[0, 1] > 0.5


def test_process_renders_the_slot_it_is_told(files, capsys):
    """Slots of single steps, as a session or a preset keeps them."""

    def trim(gain_db, **more):
        return {"id": "t", "kind": "trim", "settings": {"gain_db": gain_db}, **more}

    path = {"steps": [trim(0.0, slots={"on": 1, "kept": {"1": trim(0.0), "3": trim(-6.0)}})]}
    (files / "slots.json").write_text(json.dumps(path))
    x = soundfile.read(files / "in.wav", dtype="float32")[0]
    for slot, gain_db in (([], 0.0), (["--slot", "1"], 0.0), (["--slot", "3"], -6.0)):
        arguments = ["process", str(files / "in.wav"), "-o", str(files / "out.wav"), "--path", str(files / "slots.json")]
        assert main([*arguments, "--no-tail", *slot]) == 0
        y = soundfile.read(files / "out.wav", dtype="float32")[0]
        np.testing.assert_allclose(y, x * 10 ** (gain_db / 20), atol=1e-6)
    assert main([*arguments, "--slot", "2"]) != 0
    assert "there is no slot 2 in this path; it has 1, 3" in capsys.readouterr().err


def test_process_plays_envelopes_and_levers_of_a_path_file(files):
    """A trim held at -12 dB from half a second on, and a lever at half of -12 dB: against NumPy away from the jump's glide."""
    envelope = {"points": [{"at_s": 0.0, "value": 0.0, "shape": "hold"}, {"at_s": 0.5, "value": -12.0}]}
    path = {
        "steps": [
            {"id": "t", "kind": "trim", "settings": {"gain_db": 0.0}, "envelopes": {"gain_db": envelope}},
            {"id": "u", "kind": "trim", "settings": {"gain_db": 0.0}},
        ],
        "levers": [
            {"name": "Less", "value": 0.5, "targets": [{"of": "step", "id": "u", "name": "gain_db", "by": -12.0}]},
        ],
    }
    (files / "moving.json").write_text(json.dumps(path))
    x = soundfile.read(files / "in.wav", dtype="float32")[0]
    arguments = ["process", str(files / "in.wav"), "-o", str(files / "out.wav"), "--path", str(files / "moving.json")]
    assert main([*arguments, "--no-tail"]) == 0
    y = soundfile.read(files / "out.wav", dtype="float32")[0]
    for cut, gain_db in ((slice(0, 23_400), -6.0), (slice(24_600, 60_000), -18.0)):
        np.testing.assert_allclose(y[cut], x[cut] * 10 ** (gain_db / 20), atol=1e-5)


def test_process_gives_its_key_to_every_detector_without_one_of_its_own(files):
    """A ducker on the path, one in a lane, and one that hears the dry sound: the key file is for the first two."""
    x, key = noise(2, 60_000), np.zeros((1, 60_000), np.float32)
    key[0, 20_000:40_000] = tone(200, 20_000 / 48000, -6)
    soundfile.write(files / "key.wav", key.T, 48000, subtype="FLOAT")
    quick = {"threshold_db": -30, "attack_ms": 0, "hold_ms": 20, "decay_ms": 1}
    duck = lambda depth, **key: {"kind": "ducker", "settings": {**quick, "depth_db": depth}, **key}  # noqa: E731
    lanes = [{"name": "A", "path": {"steps": [duck(10)]}}]
    split = {"kind": "split", "settings": {"by": "copies", "blend": False}, "lanes": lanes}
    own = duck(20, key={"at": "before", "trim_db": -60})
    (files / "duck.json").write_text(json.dumps({"steps": [duck(6), split, own]}))
    arguments = ["process", "in.wav", "-o", "out.wav", "--path", "duck.json", "--key", "key.wav"]
    assert main([part if "." not in part else str(files / part) for part in arguments]) == 0
    y = soundfile.read(files / "out.wav", dtype="float32")[0].T
    down = 20 * np.log10(np.abs(y[:, 21_000:39_000]).mean() / np.abs(x[:, 21_000:39_000]).mean())
    assert down == pytest.approx(-16, abs=0.05)
    assert pytest.approx(x[:, :20_000], abs=1e-6) == y[:, :20_000] and pytest.approx(x[:, 43_000:], abs=1e-6) == y[:, 43_000:]


@pytest.mark.parametrize(
    "arguments, words",
    [
        (["measure", "gone.wav"], "gone.wav"),
        (["measure", "path.json"], "path.json"),
        (["process", "in.wav", "-o", "out.doc", "--path", "path.json"], "out.doc"),
        (["process", "in.wav", "-o", "out.wav", "--path", "bad.json"], "threshold_db"),
        (["process", "in.wav", "-o", "out.wav", "--path", "kind.json"], "echo chamber"),
        (["process", "in.wav", "-o", "out.wav", "--path", "in.wav"], "in.wav"),
        (["process", "in.wav", "-o", "out.wav", "--path", "path.json", "--tempo", "0"], "--tempo"),
        (["process", "in.wav", "-o", "out.wav", "--path", "loop.json"], "limiter > ducker"),
        (["render", "Nothing", "-o", "out", "--data", "nowhere"], "nowhere"),
        (["check", "--data", "nowhere"], "nowhere"),
        (["backup", "-o", "gone/copy.db", "--data", "nowhere"], "nowhere"),
        (["restore", "gone.db", "--data", "nowhere"], "gone.db"),
        (["serve", "--port", "99999"], "--port 99999"),
        (["process", "in.wav", "-o", "gone/out.wav", "--path", "path.json"], "gone"),
    ],
)
def test_errors_are_one_clear_line(files, monkeypatch, capsys, arguments, words):
    monkeypatch.chdir(files)
    (files / "bad.json").write_text('{"steps": [{"kind": "compressor", "settings": {"threshold_db": 40}}]}')
    (files / "loop.json").write_text('{"steps": [{"kind": "ducker", "key": {"step_id": "l"}}, {"id": "l", "kind": "limiter"}]}')
    (files / "kind.json").write_text('{"steps": [{"kind": "echo chamber"}]}')
    assert main(arguments) == 1
    told = capsys.readouterr().err
    assert words in told and told.count("\n") == 1


def test_render_writes_the_session(tmp_path, capsys):
    database = Database(tmp_path / "saltanvil.db")
    x = noise(1, 60_000)
    media = MediaStore(database).add("x", "float", 48000, 1, iter([x]), 48000)
    session = Session(name="Tide: one", strips=[*Session(name="x").strips, Strip(name="Oar", kind="track", media_id=media)])
    SessionStore(database).create(session)
    assert main(["render", "Tide: one", "-o", str(tmp_path / "out"), "--data", str(tmp_path), "--format", "wav32f"]) == 0
    written = tmp_path / "out" / "Tide_ one - Main.wav"
    assert str(written) in capsys.readouterr().out
    assert pytest.approx(np.repeat(x, 2, 0) * np.sqrt(0.5), abs=1e-6) == soundfile.read(written)[0].T


@pytest.fixture
def tide(tmp_path):
    """A session of two treated tracks, and a folder with other takes of both, one of them longer and at another rate."""
    database = Database(tmp_path / "saltanvil.db")
    store = MediaStore(database)
    tracks = []
    for seed, (name, steps) in enumerate({"Oar": ["compressor"], "Low bell": ["saturator", "echo"]}.items()):
        media = store.add(f"{name}.wav", "float", 48000, 1, iter([0.3 * noise(1, 48_000, seed)]), 48000)
        path = {"steps": [{"kind": kind} for kind in steps]}
        tracks.append(Strip(id=f"t{seed}", name=name, kind="track", media_id=media, path=path, level_db=-3.0))
    number = SessionStore(database).create(Session(name="Tide", strips=[*Session(name="x").strips, *tracks]))
    takes = tmp_path / "takes"
    takes.mkdir()
    soundfile.write(takes / "Oar.wav", 0.3 * noise(1, 60_000, 7)[0], 48000, subtype="FLOAT")
    soundfile.write(takes / "low_bell.flac", 0.3 * noise(1, 44_100, 8)[0], 44100, subtype="PCM_24")
    (takes / "notes.txt").write_text("of the second day")
    return database, number, takes


def from_the_beginning(database, takes, tmp_path, names):
    """The session made with other takes instead: what its main renders to."""
    sessions, store = SessionStore(database), MediaStore(database)
    document = sessions.version(1).session
    for name, file in names.items():
        media = store.import_source(open_audio(takes / file, file), 48000)
        strips = [strip.model_copy(update={"media_id": media}) if strip.name == name else strip for strip in document.strips]
        document = document.model_copy(update={"strips": strips})
    sessions.create(document.model_copy(update={"name": "Anew"}))
    out = tmp_path / "anew"
    assert main(["render", "Anew", "-o", str(out), "--data", str(tmp_path), "--format", "wav32f"]) == 0
    return soundfile.read(out / "Anew - Main.wav", dtype="float32")[0]


def test_render_with_other_takes_is_the_session_made_with_them_which_stays_as_it_is(tide, tmp_path, capsys):
    database, number, takes = tide
    before = SessionStore(database).version(number).session
    arguments = ["render", "Tide", "-o", str(tmp_path / "out"), "--data", str(tmp_path), "--format", "wav32f"]
    assert main([*arguments, "--with", str(takes)]) == 0
    assert SessionStore(database).version(number).session == before
    y = soundfile.read(tmp_path / "out" / "Tide - Main.wav", dtype="float32")[0]
    wanted = from_the_beginning(database, takes, tmp_path, {"Oar": "Oar.wav", "Low bell": "low_bell.flac"})
    assert np.array_equal(y, wanted)
    (takes / "low_bell.flac").unlink()
    capsys.readouterr()
    assert main([*arguments, "--with", str(takes)]) == 0
    assert capsys.readouterr().err.strip() == "as they were: Low bell"
    (takes / "Oar.wav").unlink()
    assert main([*arguments, "--with", str(takes)]) == 1
    assert "no file is called like a track of Tide; its tracks are Oar, Low bell" in capsys.readouterr().err
    assert main(["render", "Tide", "Anew", "-o", "x", "--data", str(tmp_path), "--with", str(takes)]) == 1


def test_replace_puts_a_take_on_a_track_says_what_differs_and_is_undone(tide, tmp_path, capsys):
    database, number, takes = tide
    soundfile.write(takes / "Oar.wav", np.stack([0.3 * noise(1, 60_000, 7)[0]] * 2, 1), 48000, subtype="FLOAT")
    before = SessionStore(database).version(number).session
    arguments = ["replace", "Tide", "--data", str(tmp_path), "--strip"]
    assert main([*arguments, "Oar", str(takes / "Oar.wav")]) == 0
    assert capsys.readouterr().out.splitlines() == [
        "Tide: Oar plays Oar.wav",
        "stereo now, mono before: level and pan act by another law.",
        "1.250 s long, 1.000 s before.",
    ]
    sessions = SessionStore(database)
    after = sessions.version(number).session
    [old, new] = [document.strip("t0") for document in (before, after)]
    assert new.media_id != old.media_id and new == old.model_copy(update={"media_id": new.media_id})
    assert sessions.undo(number).session == before
    for wrong, words in (
        (["Ore", str(takes / "Oar.wav")], "Tide has no strip 'Ore'; it has Main, Oar, Low bell"),
        (["Main", str(takes / "Oar.wav")], "plays no recording"),
        (["Oar", str(takes / "notes.txt")], "notes.txt"),
    ):
        assert main([*arguments, *wrong]) == 1
        assert words in capsys.readouterr().err
    assert sessions.version(number).session == before


def test_render_takes_several_sessions_at_once(tmp_path, capsys):
    database = Database(tmp_path / "saltanvil.db")
    sounds = [noise(1, 90_000, seed) for seed in (1, 2)]
    for number, x in enumerate(sounds):
        media = MediaStore(database).add("x", "float", 48000, 1, iter([x]), 48000)
        track = Strip(name="Oar", kind="track", media_id=media, pan=-1.0)
        SessionStore(database).create(Session(name=f"Tide {number}", strips=[*Session(name="x").strips, track]))
    arguments = ["render", "Tide 0", "Tide 1", "-o", str(tmp_path / "out"), "--data", str(tmp_path), "--format", "wav32f"]
    assert main(arguments) == 0
    told = capsys.readouterr().out.split("\n")
    for number, x in enumerate(sounds):
        written = tmp_path / "out" / f"Tide {number} - Main.wav"
        assert told[number] == str(written)
        assert np.array_equal(soundfile.read(written, dtype="float32")[0].T[0], x[0])
    assert main([*arguments, "--strips", "Oar"]) == 1
    assert main(["render", "Tide 0", "Ebb", *arguments[3:]]) == 1


def test_serve_says_when_its_port_is_taken(tmp_path):
    import socket

    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = str(taken.getsockname()[1])
        command = [sys.executable, "-m", "saltanvil.cli", "serve", "--empty", "--data", str(tmp_path), "--port", port]
        run = subprocess.run(command, capture_output=True, text=True, timeout=PATIENCE_S)
    assert run.returncode == 1 and port in run.stderr and "--port" in run.stderr
