"""Many files: failures beside what is done, killed and resumed, and the same on a cluster."""

import csv
import hashlib
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile

from saltanvil.cli import main
from saltanvil.measure.figures import figures_of
from saltanvil.studies.delivery.batch import JOURNAL, REPORT, Journal, Treatment, digest_of, planned, sound_files
from tests.signals import noise, tone

PATH = {"steps": [{"kind": "compressor", "settings": {"threshold_db": -30.0, "ratio": 3.0}}]}
GOOD, BAD = 190, 10
RATE = 48000


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """Two hundred short files in folders, ten of them bad."""
    root = tmp_path_factory.mktemp("many")
    source = root / "in"
    for number in range(GOOD):
        place = source / f"take {number % 7}" / f"{number:03d}.{'flac' if number % 3 == 0 else 'wav'}"
        place.parent.mkdir(parents=True, exist_ok=True)
        x = noise(1 + number % 2, 6000 + 10 * number, number)
        soundfile.write(place, x.T, 44100 if number % 5 == 0 else RATE, subtype="PCM_24")
    for number in range(BAD):
        place = source / "bad" / f"{number}.wav"
        place.parent.mkdir(exist_ok=True)
        place.write_bytes([b"", b"RIFF", b"hello" * 99, (source / "take 1/001.wav").read_bytes()[:4000]][number % 4])
    (source / "notes.txt").write_text("not a sound")
    (source / ".hidden.wav").write_bytes(b"")
    (root / "path.json").write_text(json.dumps(PATH))
    return root


def arguments(folder, out, *more):
    return ["batch", str(folder / "in"), "-o", str(out), "--path", str(folder / "path.json"), "--format", "wav16", *more]


def checksums(out):
    return {str(path.relative_to(out)): hashlib.sha256(path.read_bytes()).hexdigest() for path in sorted(out.rglob("*.wav"))}


def report(out):
    return list(csv.DictReader((out / REPORT).read_text().splitlines()))


@pytest.fixture(scope="module")
def done(folder):
    """What a batch on two processes makes of them."""
    out = folder / "out"
    assert main(arguments(folder, out, "--jobs", "2")) == 5
    return out


def test_two_hundred_files_with_ten_bad_ones(folder, done):
    rows = report(done)
    assert len(rows) == GOOD + BAD and len(checksums(done)) == GOOD
    failed = [row for row in rows if row["state"] == "failed"]
    assert len(failed) == BAD and all(row["input"].startswith("bad") and row["error"] and not row["sha256"] for row in failed)
    sums = checksums(done)
    for row in rows:
        if row["state"] == "done":
            assert sums[row["output"]] == row["sha256"]
            x, rate = soundfile.read(done / row["output"], dtype="float32", always_2d=True)
            assert rate == soundfile.info(folder / "in" / row["input"]).samplerate
            assert float(row["true_peak_dbtp"]) == pytest.approx(
                figures_of(np.ascontiguousarray(x.T), rate).true_peak_dbtp, abs=0.01
            )
    assert not list(done.rglob("*.part"))


def test_a_file_is_what_process_makes_of_it(folder, done, tmp_path):
    name = "take 2/002.wav"
    command = ["process", str(folder / "in" / name), "-o", str(tmp_path / "one.wav"), "--path", str(folder / "path.json")]
    assert main([*command, "--format", "wav16"]) == 0
    one, other = (soundfile.read(path, dtype="int16")[0] for path in (tmp_path / "one.wav", done / name))
    assert one.shape == other.shape and np.abs(one.astype(int) - other).max() <= 3  # the dither goes by the file's name


def test_killed_in_the_middle_and_resumed(folder, done, tmp_path, capsys):
    """The same result, and nothing twice: what was done keeps its time."""
    out = tmp_path / "out"
    command = [sys.executable, "-m", "saltanvil.cli", *arguments(folder, out, "--jobs", "2")]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, start_new_session=True)
    journal = out / JOURNAL
    while not (journal.is_file() and len(journal.read_text().splitlines()) >= 20):
        assert process.poll() is None, process.stderr.read()
        time.sleep(0.01)
    os.killpg(process.pid, signal.SIGKILL)
    process.wait()
    noted = [json.loads(line)["output"] for line in journal.read_text().splitlines() if line.endswith("}")]
    assert 20 <= len(noted) < GOOD and not (out / REPORT).exists()
    with journal.open("a") as file:
        file.write('{"input": "torn')  # as a line that was being written
    times = {name: (out / name).stat().st_mtime_ns for name in noted}
    assert main(arguments(folder, out, "--jobs", "2", "--resume")) == 5
    assert f"({len(noted)} before)" in capsys.readouterr().out
    assert {name: (out / name).stat().st_mtime_ns for name in noted} == times
    assert checksums(out) == checksums(done) and report(out) == report(done)
    assert not list(out.rglob("*.part"))
    assert main(arguments(folder, out, "--jobs", "2", "--resume")) == 5
    assert f"({GOOD} before)" in capsys.readouterr().out


def test_what_changed_is_done_anew(folder, tmp_path, capsys):
    """By content and path: another path, a file with other sound under the old name, a result that is gone."""
    few = tmp_path / "few"
    few.mkdir()
    for number in range(3):
        soundfile.write(few / f"{number}.wav", noise(1, 9000, number).T, RATE, subtype="PCM_24")
    path, out = tmp_path / "path.json", tmp_path / "out"
    path.write_text(json.dumps(PATH))
    command = ["batch", str(few), "-o", str(out), "--path", str(path), "--jobs", "1", "--resume"]
    told = []

    def other() -> None:
        soundfile.write(few / "1.wav", noise(1, 9000, 9).T, RATE, subtype="PCM_24")

    for change in (None, None, other, (out / "2.wav").unlink, lambda: path.write_text('{"steps": []}')):
        if change:
            change()
        assert main(command) == 0
        told.append(capsys.readouterr().out.split("(")[1].split(" ")[0])
    assert told == ["0", "3", "2", "2", "0"]


def test_brought_to_a_loudness(folder, tmp_path, capsys):
    """By pyloudnorm's meter (an independent one); where the true peak is in the way it says so."""
    pyloudnorm = pytest.importorskip("pyloudnorm")
    source, out = tmp_path / "in", tmp_path / "out"
    source.mkdir()
    soft, sharp = 0.02 * noise(2, 3 * RATE, 1), np.zeros((2, 3 * RATE), np.float32)
    sharp[:] = tone(440, 3.0, -40.0)
    sharp[:, 50_000] = 0.7
    for name, x in (("soft", soft), ("sharp", sharp)):
        soundfile.write(source / f"{name}.wav", x.T, RATE, subtype="FLOAT")
    (tmp_path / "path.json").write_text('{"steps": []}')
    assert (
        main(["batch", str(source), "-o", str(out), "--path", str(tmp_path / "path.json"), "--loudness", "-19", "--jobs", "1"])
        == 0
    )
    assert "more would lift its true peak above -1 dBTP" in capsys.readouterr().err
    x, rate = soundfile.read(out / "soft.wav")
    assert pyloudnorm.Meter(rate, filter_class="DeMan").integrated_loudness(x) == pytest.approx(-19.0, abs=0.1)
    rows = {row["input"]: row for row in report(out)}
    assert float(rows["sharp.wav"]["true_peak_dbtp"]) <= -0.99 and rows["sharp.wav"]["warning"]


def test_a_dask_cluster_does_the_same(folder, done, tmp_path):
    """Two workers of a LocalCluster, in processes of their own: bit-equal to the local run."""
    distributed = pytest.importorskip("distributed")
    out = tmp_path / "out"
    with distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, dashboard_address=None, host="127.0.0.1", local_directory=str(tmp_path / "dask")
    ) as cluster:
        assert main(arguments(folder, out, "--scheduler", cluster.scheduler_address)) == 5
    assert checksums(out) == checksums(done) and report(out) == report(done)


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (["--scheduler", "tcp://127.0.0.1:9"], "no scheduler answers there"),
        (["--jobs", "0"], "at least one process"),
        (["--loudness", "3"], "from -60 to 0 LUFS"),
        (["--true-peak", "1"], "from -24 to 0 dBTP"),
        (["--format", "wav8"], "there is no format 'wav8'"),
    ],
)
def test_refusals(folder, tmp_path, capsys, monkeypatch, more, words):
    monkeypatch.setattr("saltanvil.studies.delivery.batch_pool.CONNECT_S", 1)
    assert main(arguments(folder, tmp_path / "out", *more)) == 1
    assert words in capsys.readouterr().err
    assert main(["batch", str(folder / "in"), "-o", str(folder / "in"), "--path", str(folder / "path.json")]) == 1
    assert "a folder of their own" in capsys.readouterr().err


@pytest.mark.parametrize("argument", ["--loudness", "--true-peak", "--tempo"])
@pytest.mark.parametrize("text", ["nan", "inf", "-inf"])
def test_numbers_that_are_none_are_refused(folder, tmp_path, capsys, argument, text):
    with pytest.raises(SystemExit):
        main(arguments(folder, tmp_path / "out", f"{argument}={text}"))
    assert "give a finite number" in capsys.readouterr().err


def few(root, *names, frames=6000):
    """A folder of short files, and the command that puts them through a path."""
    (root / "in").mkdir()
    for number, name in enumerate(names):
        soundfile.write(os.fsencode(root / "in") + b"/" + os.fsencode(name), noise(1, frames, number).T, RATE, format="WAV")
    (root / "path.json").write_text(json.dumps(PATH))
    return ["batch", str(root / "in"), "-o", str(root / "out"), "--path", str(root / "path.json"), "--jobs", "1"]


def test_no_file_is_lost_to_another(tmp_path, capsys):
    """`a (wav)` is what `a.wav` would be called beside `a.flac`; each has a result, and files are counted."""
    command = few(tmp_path, "a.wav", "a.flac", "a (wav).wav")
    assert main(command) == 0
    assert "3 of 3 files done" in capsys.readouterr().out
    rows = report(tmp_path / "out")
    assert {row["input"]: row["output"] for row in rows} == {
        "a (wav).wav": "a (wav).wav", "a.flac": "a (flac).wav", "a.wav": "a (wav) 2.wav",
    }  # fmt: skip
    assert len(checksums(tmp_path / "out")) == 3 and len({row["sha256"] for row in rows}) == 3


def test_no_result_lies_where_a_file_came_from(tmp_path):
    """The folder that comes in lies in that of the results, and has a folder of its own name in it."""
    out = tmp_path / "out"
    for name in ("in/x.wav", "in/in/x.wav"):
        (out / name).parent.mkdir(parents=True, exist_ok=True)
        soundfile.write(out / name, noise(1, 6000, len(name)).T, RATE)
    before = checksums(out)
    (tmp_path / "path.json").write_text(json.dumps(PATH))
    assert main(["batch", str(out / "in"), "-o", str(out), "--path", str(tmp_path / "path.json"), "--jobs", "1"]) == 0
    after = checksums(out)
    assert {name: after[name] for name in before} == before and len(after) == 4


def test_a_second_batch_on_a_folder_is_refused_until_the_first_has_gone(tmp_path, capsys):
    command = few(tmp_path, "a.wav")
    (tmp_path / "out").mkdir()
    script = "import sys; from saltanvil.studies.delivery.batch import *; j = Journal(Path(sys.argv[1]), False); "
    script += "print(1, flush=True); input()"
    first = subprocess.Popen(
        [sys.executable, "-c", script, str(tmp_path / "out")], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert first.stdout.readline()
    assert main(command) == 1 and "another batch works on this folder" in capsys.readouterr().err
    first.kill()
    first.wait()
    assert main(command) == 0


BROKEN = {
    "binary": bytes(range(256)) * 8 + b"\n",
    "deep": b"[" * 200_000 + b"\n",
    "newer": b'{"format": 99, "input": "a.wav", "output": "a.wav", "state": "done"}\n',
    "types": b'{"input": 3, "output": ["a.wav"], "state": {}}\n[1]\nnull\n"x"\n',
}


@pytest.mark.parametrize("broken", BROKEN)
def test_a_broken_journal_is_said_and_all_is_done(tmp_path, capsys, broken):
    command = few(tmp_path, "a.wav", "b.wav")
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / JOURNAL).write_bytes(BROKEN[broken])
    if broken != "binary":  # what comes of it is the same
        with Journal(tmp_path / "out", True) as journal:
            assert journal.unread and not journal.rows
        return
    capsys.readouterr()
    assert main([*command, "--resume"]) == 5
    told = capsys.readouterr()
    assert "could not be read" in told.err and "2 of 2 files done (0 before)" in told.out
    rows = report(tmp_path / "out")
    assert [row["state"] for row in rows] == ["done", "done", "failed"] and rows[-1]["input"] == JOURNAL
    assert main([*command, "--resume"]) == 0 and "(2 before)" in capsys.readouterr().out


def test_a_name_that_is_no_text_is_said(tmp_path, capsys):
    command = few(tmp_path, "a.wav", os.fsdecode(b"\xff\xfe.wav"))
    assert main(command) == 5
    assert "its name is no text" in capsys.readouterr().err
    rows = {row["input"]: row for row in report(tmp_path / "out")}
    assert rows["a.wav"]["state"] == "done" and rows["\\xff\\xfe.wav"]["state"] == "failed"


def test_planning_takes_time_in_proportion_to_the_files():
    """Ten times the files, at most thirty times as long (a hundred times before)."""

    def time_of(count):
        sources = [
            (Path(f"/in/{n // 2:05d}.{'wav' if n % 2 else 'flac'}"), f"{n // 2:05d}.{'wav' if n % 2 else 'flac'}")
            for n in range(count)
        ]
        began = time.process_time()
        assert len({item.output for item in planned(sources, Path("/out"), "wav24", {})}) == count
        return time.process_time() - began

    assert time_of(6000) < 30.0 * max(time_of(600), time_of(600), 0.005)


def test_names_that_would_meet(tmp_path):
    for name in ("a.wav", "a.flac", "b.wav", "sub/a.wav"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(b"x")
    files = [(path, str(path.relative_to(tmp_path))) for path in sound_files(tmp_path)]
    outputs = [item.output for item in planned(files, Path("out"), "mp3-256", {})]
    assert sorted(outputs) == ["a (flac).mp3", "a (wav).mp3", "b.mp3", "sub/a.mp3"]
    treatment = Treatment("{}", "wav24")
    assert digest_of(tmp_path / "a.wav", treatment) == digest_of(tmp_path / "b.wav", treatment)
    assert digest_of(tmp_path / "a.wav", treatment) != digest_of(tmp_path / "a.wav", Treatment("{}", "wav16"))
