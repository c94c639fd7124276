"""Deliveries: what a check and a ceiling cost against the song's length, and what a second process brings a batch.

.venv/bin/python benchmarks/delivery.py
"""

import json
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

from saltanvil.cli import main
from saltanvil.demo import low_water
from saltanvil.engine.media import Arrays
from saltanvil.engine.render import render_strips
from saltanvil.engine.time import session_frames
from saltanvil.media.encode import Writing
from saltanvil.media.formats import FORMATS
from saltanvil.media.recording import recorded
from saltanvil.studies.delivery.ceiling import CeilingSearch
from saltanvil.studies.delivery.check import check_formats, measured_master
from saltanvil.studies.match.match import with_current_matches

ENCODERS = ("mp3-128", "mp3-256", "aac-256", "opus-128", "vorbis-192")
FILES, FILE_S = 24, 30
RATE = 48000


def timed(work) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def check_and_ceiling(folder: Path) -> None:
    tracks = low_water.synthesise()
    media = Arrays(*tracks.values())
    session = with_current_matches(low_water.build_session({name: number for number, name in enumerate(tracks)}), media)
    stop = session_frames(session, media)
    length = stop / RATE
    master = recorded(folder / "master", (held["main"] for held in render_strips(session, media, 0, stop)), RATE, 2)
    checked = measured_master(master, "main", "Main", 0.0, -1.0)
    for name in ENCODERS:
        seconds = timed(lambda: check_formats(master, checked, [Writing(name)], folder))  # noqa: B023
        print(f"{FORMATS[name].label}, encoded, decoded, measured: {length / seconds:.0f} x real time")
    seconds = timed(lambda: check_formats(master, checked, [Writing(name) for name in ENCODERS], folder))
    print(f"all five, two at a time: {length / seconds:.1f} x real time ({seconds:.0f} s for {length:.0f} s)")
    search = CeilingSearch(session, "main", media, 0, stop, False, [Writing(name) for name in ENCODERS], -1.0, folder)
    seconds = timed(search.run)
    print(f"safe ceiling for them: {seconds:.0f} s, {len(search.rows)} trials")


def batch(folder: Path) -> None:
    source = folder / "in"
    source.mkdir()
    rng = np.random.default_rng(1)
    for number in range(FILES):
        x = 0.1 * rng.standard_normal((FILE_S * RATE, 2))
        soundfile.write(source / f"{number:02d}.wav", x, RATE, subtype="PCM_24")
    steps = [{"kind": "compressor", "settings": {"threshold_db": -30}}, {"kind": "clipper"}, {"kind": "limiter"}]
    (folder / "path.json").write_text(json.dumps({"steps": steps}))

    def run(jobs: int) -> float:
        out = folder / f"out {jobs}"
        command = ["batch", str(source), "-o", str(out), "--path", str(folder / "path.json"), "--jobs", str(jobs)]
        return timed(lambda: main(command))

    one, two = run(1), run(2)
    print(f"batch of {FILES} files of {FILE_S} s: {FILES * FILE_S / two:.0f} x real time on two processes, {one / two:.2f} x one")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        check_and_ceiling(Path(folder))
        batch(Path(folder))
