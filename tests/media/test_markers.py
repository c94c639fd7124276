"""Time references and markers of WAV files.

Files are written by ffmpeg and libsndfile, and byte by byte after the specifications (RIFF, EBU Tech 3285).
"""

import struct
import subprocess

import numpy as np
import pytest
import soundfile

from saltanvil.media.markers import wav_markers

RATE = 44100
SFC_SET_CUE = 0x10CF


def riff(*chunks):
    body = b"WAVE" + b"".join(name + struct.pack("<I", len(data)) + data + b"\0" * (len(data) % 2) for name, data in chunks)
    return b"RIFF" + struct.pack("<I", len(body)) + body


FORM = (b"fmt ", struct.pack("<HHIIHH", 1, 1, RATE, 2 * RATE, 2, 16))


def test_the_time_reference_that_ffmpeg_writes_is_read(tmp_path):
    path = tmp_path / "broadcast.wav"
    samples = 36000 * RATE + 1234  # ten in the morning, and a little
    make = ["ffmpeg", "-v", "error", "-f", "lavfi", "-i", f"anoisesrc=d=0.2:r={RATE}", "-write_bext", "1"]
    subprocess.run([*make, "-metadata", f"time_reference={samples}", str(path)], check=True)
    assert wav_markers(path, RATE).time_reference_s == pytest.approx(samples / RATE, abs=1e-9)


def test_cues_that_libsndfile_writes_are_read(tmp_path):
    path = tmp_path / "cues.wav"
    places = [0, 22050, 88200]
    with soundfile.SoundFile(str(path), "w", RATE, 1, "PCM_16") as file:
        points = b"".join(
            struct.pack("<iIiiiI256s", n + 1, at, int.from_bytes(b"data", "little"), 0, 0, at, b"") for n, at in enumerate(places)
        )
        data = struct.pack("<I", len(places)) + points + b"\0" * (280 * (100 - len(places)))
        assert soundfile._snd.sf_command(file._file, SFC_SET_CUE, data, len(data)) == 1
        file.write(np.zeros(3 * RATE, np.float32))
    result = wav_markers(path, RATE)
    assert [marker.start_s for marker in result.markers] == pytest.approx([at / RATE for at in places], abs=1e-9)
    assert result.time_reference_s is None


def test_labels_and_ranges_of_cues_are_read_in_any_order(tmp_path):
    cues = struct.pack("<I", 2) + b"".join(struct.pack("<II4sIII", cue, at, b"data", 0, 0, at) for cue, at in ((7, RATE), (3, 0)))

    def sub(name, data):
        return name + struct.pack("<I", len(data)) + data + b"\0" * (len(data) % 2)

    labels = sub(b"labl", struct.pack("<I", 3) + "Str\u00f3fa".encode() + b"\0")
    labels += sub(b"labl", struct.pack("<I", 7) + b"Chorus\0")
    labels += sub(b"ltxt", struct.pack("<IIIHHHH", 7, RATE // 2, 0, 0, 0, 0, 0))
    path = tmp_path / "labelled.wav"
    path.write_bytes(riff(FORM, (b"data", b"\0" * 4 * RATE), (b"LIST", b"adtl" + labels), (b"cue ", cues)))
    markers = wav_markers(path, RATE).markers
    assert [(m.name, m.start_s, m.end_s) for m in markers] == [("Str\u00f3fa", 0.0, None), ("Chorus", 1.0, 1.5)]


@pytest.mark.parametrize("cut", range(0, 120, 7))
def test_chunks_that_make_no_sense_are_passed_over(tmp_path, cut):
    cues = struct.pack("<I", 0xFFFFFFFF) + struct.pack("<II4sIII", 1, 0, b"data", 0, 0, 5)
    whole = riff(FORM, (b"cue ", cues), (b"bext", b"\0" * 20), (b"LIST", b"adtl" + b"labl" + struct.pack("<I", 1 << 31)))
    path = tmp_path / "odd.wav"
    path.write_bytes(whole[: len(whole) - cut])
    result = wav_markers(path, RATE)
    assert len(result.markers) <= 1 and result.time_reference_s is None
