"""Files of strips: what a disk or a codec does wrong is an error of its file, ends the export, and holds nobody up."""

import errno
import threading
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile

from saltanvil.engine import export
from saltanvil.engine.export import MAX_OPEN_FILES, FileTarget, export_strips, passes_of
from saltanvil.engine.media import Arrays
from saltanvil.engine.render import Cancelled, render_strips
from saltanvil.media import encode
from saltanvil.media.encode import Writing
from saltanvil.session.document.session import Session
from tests.signals import noise

RATE, FRAMES = 48000, 12 * 48000
FULL = OSError(errno.ENOSPC, "No space left on device")


def song(tracks=1):
    strips = [{"id": f"t{n}", "name": f"T{n}", "kind": "track", "media_id": n} for n in range(tracks)]
    return Session.model_validate(
        {"name": "S", "strips": [{"id": "main", "name": "Main", "kind": "main", "output": None}, *strips]}
    )


def media(tracks=1, frames=FRAMES):
    return Arrays(*(noise(1, frames, n, 0.1) for n in range(tracks)))


class Faulty:
    """A container whose writes, closings or both fail or stand still, as a disk's may."""

    def __init__(self, inner, write=None, close=None, delay=None):
        self.inner, self.on_write, self.on_close, self.delay = inner, write, close, delay

    def write(self, samples):
        if self.delay is not None:
            self.delay()
        if self.on_write is not None:
            raise self.on_write
        self.inner.write(samples)

    def close(self):
        if self.on_close is not None:
            raise self.on_close
        self.inner.close()

    def abandon(self):
        self.inner.abandon()


def faulty(monkeypatch, **faults):
    whole = encode.container_of
    monkeypatch.setattr(encode, "container_of", lambda *arguments: Faulty(whole(*arguments), **faults))


def ended(work, within_s=20.0):
    """What work raises; fails if it does not end."""
    raised = []

    def run():
        try:
            work()
        except BaseException as error:
            raised.append(error)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    thread.join(within_s)
    assert not thread.is_alive(), "it does not end"
    return raised[0] if raised else None


@pytest.mark.parametrize("faults", [{"write": FULL}, {"close": FULL}, {"write": FULL, "close": FULL}], ids=str)
@pytest.mark.parametrize("formats", [["wav24"], ["wav24", "flac24", "mp3-128", "opus-96"]], ids=len)
def test_a_disk_that_fills_up_ends_the_export(monkeypatch, tmp_path, faults, formats):
    """With two or more files the others failed while closing, and the export waited for them for ever."""
    faulty(monkeypatch, **faults)
    targets = [FileTarget("main", tmp_path / str(n), Writing(name), 0, FRAMES) for n, name in enumerate(formats)]
    error = ended(lambda: export_strips(song(), media(), targets))
    assert isinstance(error, OSError) and error.errno == errno.ENOSPC and str(tmp_path) not in str(error)


def test_one_file_that_fails_is_named_by_its_reason_and_the_others_are_closed(monkeypatch, tmp_path):
    whole = encode.container_of

    def container(path, *rest):
        inner = whole(path, *rest)
        return Faulty(inner, close=OSError("no frame was complete")) if path.name == "1" else inner

    monkeypatch.setattr(encode, "container_of", container)
    targets = [FileTarget("main", tmp_path / str(n), Writing("wav24"), 0, FRAMES) for n in range(3)]
    error = ended(lambda: export_strips(song(), media(), targets))
    assert isinstance(error, OSError) and "no frame was complete" in str(error)


def test_a_cancelled_export_ends_though_the_disk_stands_still(monkeypatch, tmp_path):
    release = threading.Event()
    faulty(monkeypatch, delay=release.wait)
    targets = [FileTarget("main", tmp_path / str(n), Writing("wav24"), 0, FRAMES) for n in range(3)]
    began = time.monotonic()
    stop = threading.Timer(0.3, lambda: None)
    stop.start()
    try:
        error = ended(lambda: export_strips(song(), media(), targets, cancelled=lambda: not stop.is_alive()))
        assert isinstance(error, Cancelled) and time.monotonic() - began < 10.0
    finally:
        release.set()


def test_many_files_are_made_in_passes_with_few_threads_and_equal_lengths(monkeypatch, tmp_path):
    """70 files: at most 32 open at a time, no more threads than cores; one track decays longer, and all are as long as it."""
    tracks = 35
    document = song(tracks).model_dump(mode="json")
    document["strips"][20]["path"]["steps"] = [{"kind": "echo", "settings": {"mix": 0.5}}]
    session = Session.model_validate(document)
    frames = RATE // 4
    opened, most, threads = [0], [0], set()
    whole = encode.container_of

    class Counted(Faulty):
        def write(self, samples):
            threads.add(threading.get_ident())
            super().write(samples)

        def close(self):
            super().close()
            opened[0] -= 1

    def container(*arguments):
        opened[0] += 1
        most[0] = max(most[0], opened[0])
        return Counted(whole(*arguments))

    monkeypatch.setattr(encode, "container_of", container)
    monkeypatch.setattr(export.os, "cpu_count", lambda: 2)
    targets = [
        FileTarget(f"t{n}", tmp_path / f"{n}.{suffix}", Writing(kind), 0, frames, tail=True)
        for n in range(tracks)
        for suffix, kind in (("wav", "wav32f"), ("flac", "flac24"))
    ]
    shares = []
    written = export_strips(session, media(tracks, frames), targets, shares.append)
    assert len(targets) == 2 * tracks and most[0] <= MAX_OPEN_FILES and len(threads) <= 2 * 3  # two in each of three passes
    assert len({one.frames for one in written}) == 1 and written[0].frames > frames
    assert shares == sorted(shares) and shares[-1] == 1.0
    sound, _ = soundfile.read(tmp_path / "3.wav")
    assert np.abs(sound[:frames]).max() > 0.01 and not np.any(sound[frames:])


def test_sections_are_stretches_of_the_song_and_come_from_one_render(monkeypatch, tmp_path):
    """Slow gains and long echoes reach far beyond any pre-roll; section files joined are the song's file to the bit."""
    document = song(2).model_dump(mode="json")
    document["strips"][0]["path"]["steps"] = [
        {"kind": "leveller", "settings": {}},
        {"kind": "compressor", "settings": {"threshold_db": -30.0, "release_ms": 3000.0}},
        {"kind": "echo", "settings": {"mix": 0.3, "feedback": 0.9}},
    ]
    session = Session.model_validate(document)
    frames = 12 * RATE
    sounds = media(2, frames)
    edges = [0, RATE // 3, 5 * RATE + 7, 9 * RATE, frames]
    targets = [
        FileTarget("main", tmp_path / f"{number}.wav", Writing("wav32f"), start, stop)
        for number, (start, stop) in enumerate(zip(edges, edges[1:], strict=False))
    ] + [FileTarget("main", tmp_path / "whole.wav", Writing("wav32f"), 0, frames)]
    renders = []
    render = export.render_strips
    monkeypatch.setattr(export, "render_strips", lambda *rest, **more: renders.append(rest) or render(*rest, **more))
    written = export_strips(session, sounds, targets)
    assert [one.frames for one in written] == [*np.diff(edges), frames] and len(renders) == 1
    joined = np.concatenate([soundfile.read(tmp_path / f"{n}.wav", dtype="float32")[0] for n in range(4)])
    whole = soundfile.read(tmp_path / "whole.wav", dtype="float32")[0]
    np.testing.assert_array_equal(joined, whole)
    # Alone, the third section is the same; two seconds of pre-roll would not have made it so.
    export_strips(session, sounds, [replace(targets[2], path=tmp_path / "alone.wav")])
    np.testing.assert_array_equal(soundfile.read(tmp_path / "alone.wav", dtype="float32")[0], whole[edges[2] : edges[3]])
    settled = np.concatenate([b["main"] for b in render_strips(session, sounds, edges[2], edges[3])], axis=1).T
    assert np.abs(settled - whole[edges[2] : edges[3]]).max() > 1e-4


def test_passes_keep_few_files_open():
    def target(start, stop):
        return FileTarget("main", Path("x"), Writing("wav24"), start, stop)

    sections = [target(n, n + 1) for n in range(100)]
    assert passes_of(sections) == [list(range(100))]  # each is closed when the next one opens
    both = [*(target(0, 100) for _ in range(MAX_OPEN_FILES - 1)), *sections]
    assert len(passes_of(both)) == 1
    several = passes_of([*both, target(50, 60)])
    assert sorted(index for part in several for index in part) == list(range(len(both) + 1)) and len(several) == 2
