"""Vorbis files to the sample in other decoders (ffmpeg, libsndfile), with tags of any name."""

import subprocess

import numpy as np
import pytest
import soundfile

from saltanvil.media.decode import open_audio
from saltanvil.media.encode import Writing, write_audio
from saltanvil.media.formats import Tags
from saltanvil.media.ogg import Page, checksum, laced, pages
from tests.signals import noise

RATE = 48000


def by_ffmpeg(path):
    command = ["ffmpeg", "-v", "error", "-i", str(path), "-f", "f32le", "-"]
    return np.frombuffer(subprocess.run(command, capture_output=True, check=True).stdout, np.float32).reshape(-1, 2).T


def tone(frames):
    return (0.3 * np.sin(np.arange(frames) * 0.05) * np.ones((2, 1))).astype(np.float32)


@pytest.mark.parametrize("frames", [100, 128, 129, 500, 1100, 1199, 1300, 3000, 20_000, 48_000])
@pytest.mark.parametrize("tags", [Tags(), Tags(title="Oars", free={"Pier": "4"})])
def test_every_decoder_gives_as_many_frames_as_were_written(tmp_path, frames, tags):
    for sound in (tone(frames), noise(2, frames, 3, 0.1)):
        path = tmp_path / "x.ogg"
        write_audio(path, [sound], RATE, 2, Writing("vorbis-192", tags=tags), frames)
        told = by_ffmpeg(path)
        assert told.shape[1] == frames == len(soundfile.read(path)[0])
        assert sum(block.shape[1] for block in open_audio(path, "x").blocks) == frames
    # The tone's end is there; what noise loses to the codec says little.
    path = tmp_path / "tone.ogg"
    write_audio(path, [tone(frames)], RATE, 2, Writing("vorbis-192", tags=tags), frames)
    assert np.abs(by_ffmpeg(path) - tone(frames)).max() < 0.02
    shown = subprocess.run(
        ["ffprobe", "-v", "error", "-show_entries", "stream_tags", str(path)], capture_output=True, text=True, check=True
    ).stdout
    assert ("TAG:title=Oars" in shown and "TAG:pier=4" in shown) == (tags.title == "Oars")


def test_pages_are_read_as_they_were_written_and_checksums_are_those_of_the_library(tmp_path):
    path = tmp_path / "x.ogg"
    soundfile.write(path, noise(2, 60_000, 5, 0.1).T, RATE, format="OGG", subtype="VORBIS")
    data = path.read_bytes()
    known = list(pages(data))
    assert len(known) > 3 and b"".join(map(bytes, known)) == data
    assert checksum(b"") == 0
    lengths = [0, 254, 255, 256, 510, 700]
    page = Page(0, 7, 1, 2, laced([bytes(length) for length in lengths]), bytes(sum(lengths)))
    assert [len(packet) for packet in page.packets()] == lengths
    assert list(pages(data[: len(data) - 1])) == known[:-1]  # one that is cut off is none
