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
from saltanvil.studies.batch import JOURNAL, REPORT, Treatment, digest_of, planned, sound_files
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
        (["--format", "wav8"], "there is no format 'wav8'"),
    ],
)
def test_refusals(folder, tmp_path, capsys, monkeypatch, more, words):
    monkeypatch.setattr("saltanvil.studies.batch_pool.CONNECT_S", 1)
    assert main(arguments(folder, tmp_path / "out", *more)) == 1
    assert words in capsys.readouterr().err
    assert main(["batch", str(folder / "in"), "-o", str(folder / "in"), "--path", str(folder / "path.json")]) == 1
    assert "a folder of their own" in capsys.readouterr().err


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
