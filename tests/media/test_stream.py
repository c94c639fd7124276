"""Files read forwards, and what is measured of them, without ever being in memory whole."""

import json
import subprocess
import sys

import numpy as np
import pytest
import soundfile
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.engine.path_runner import PathRunner
from saltanvil.media.stream import FileSound
from saltanvil.session.document.path import Path as StepPath
from tests.signals import noise

STEPS = {"steps": [{"kind": "compressor", "settings": {"threshold_db": -30, "lookahead_ms": 5}},
                   {"kind": "saturator", "settings": {"drive_db": 9}}, {"kind": "limiter", "settings": {}}]}  # fmt: skip


@pytest.fixture(scope="module")
def take(tmp_path_factory):
    x = noise(2, 200_123, 7)
    path = tmp_path_factory.mktemp("take") / "take.wav"
    soundfile.write(path, x.T, 48000, subtype="FLOAT")
    return path, x


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.integers(-3000, 210_000), st.integers(1, 70_000)), min_size=1, max_size=6))
def test_any_stretch_is_what_the_file_holds_there(take, stretches):
    path, x = take
    sound = FileSound(path)
    assert (sound.channels, sound.rate, sound.frames) == (2, 48000, 200_123)
    padded = np.pad(x, ((0, 0), (3000, 80_000)))
    for start, frames in stretches:  # forwards or back again
        assert np.array_equal(sound.read(start, frames), padded[:, 3000 + start : 3000 + start + frames])


def test_another_rate_is_converted_as_a_whole_file_would_be(take):
    """soxr over the whole array, against the stream of blocks."""
    path, x = take
    sound = FileSound(path, 44100)
    expected = soxr.resample(x.T, 48000, 44100, quality="VHQ").T
    got = np.concatenate([sound.read(at, 10_000) for at in range(0, sound.frames, 10_000)], axis=1)[:, : sound.frames]
    assert abs(sound.frames - expected.shape[1]) <= 1
    both = min(sound.frames, expected.shape[1])
    assert np.abs(got[:, :both] - expected[:, :both]).max() < 1e-4


def saltanvil(*arguments):
    """Runs the command in a process of its own; its output and the most memory it had, in MB."""
    # The high-water mark of the process itself; getrusage's counts that of the process it was forked from too.
    program = (
        "import re, sys; from saltanvil.cli import main; status = main(sys.argv[1:]); "
        "most = re.search(r'VmHWM:\\s+(\\d+)', open('/proc/self/status').read())[1]; "
        "print(int(most) // 1024, file=sys.stderr); sys.exit(status)"
    )
    run = subprocess.run([sys.executable, "-c", program, *map(str, arguments)], capture_output=True, text=True)
    assert run.returncode == 0, run.stderr
    return run.stdout, int(run.stderr.strip().split("\n")[-1])


def test_process_in_blocks_is_process_of_the_whole(take, tmp_path):
    path, x = take
    (tmp_path / "path.json").write_text(json.dumps({"steps": STEPS["steps"][:1] + STEPS["steps"][2:]}))
    saltanvil("process", path, "-o", tmp_path / "out.wav", "--path", tmp_path / "path.json", "--no-tail")
    steps = StepPath.model_validate({"steps": STEPS["steps"][:1] + STEPS["steps"][2:]})
    assert np.array_equal(soundfile.read(tmp_path / "out.wav", dtype="float32")[0].T, PathRunner(steps, x, 48000).run())
    assert not list(tmp_path.glob(".*part"))


def test_memory_does_not_grow_with_the_file(tmp_path):
    """At most 300 MB: four minutes of stereo are 92 MB as they are, and took nearly 1 GB."""
    (tmp_path / "path.json").write_text(json.dumps(STEPS))
    block = noise(2, 48_000 * 10, 1).T
    took = {}
    for name, blocks in (("short", 3), ("long", 24)):
        with soundfile.SoundFile(tmp_path / f"{name}.wav", "w", 48000, 2, "FLOAT") as file:
            for _ in range(blocks):
                file.write(block)
        out, memory = saltanvil("measure", tmp_path / f"{name}.wav", "--json")
        assert json.loads(out)[0]["integrated_lufs"] < 0
        command = ("process", tmp_path / f"{name}.wav", "-o", tmp_path / "out.wav", "--path", tmp_path / "path.json", "--report")
        out, more = saltanvil(*command)
        assert json.loads(out)["after"]["integrated_lufs"] < 0
        took[name] = (memory, more)
        assert max(memory, more) <= 300, took
    assert took["long"][1] - took["short"][1] < 60, took
