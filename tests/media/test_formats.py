"""Every format written and read back: in time to the sample, as long as it was, with its tags; Broadcast WAV by a parser."""

import json
import shutil
import struct
import subprocess

import numpy as np
import pytest
import scipy.signal

from saltanvil.media.broadcast import BEYOND, BroadcastFile
from saltanvil.media.convert import converted, converted_frames
from saltanvil.media.decode import open_audio
from saltanvil.media.encode import Writing, crc_16, write_audio
from saltanvil.media.formats import FORMATS, Origin, Tags
from saltanvil.studies.delivery.facts import facts_of_file

TAGS = Tags(title="Ebb at Kelpwick", artist="The Pilots", date="2026-11-26", free={"Mood": "grey", "Pier Number": "4"})


def sound(rate, frames):
    """Bursts of noise below 8 kHz with an impulse in each: what encoders keep, and where it begins is plain."""
    rng = np.random.default_rng(5)
    t = np.arange(frames) / rate
    x = 0.3 * rng.standard_normal((2, frames)) * np.exp(-6 * (t % 0.4)) * (t % 0.4 < 0.3)
    x[:, (np.arange(1, int(t[-1] / 0.4)) * 0.4 * rate).astype(int)] += 0.5
    return np.ascontiguousarray(scipy.signal.sosfilt(scipy.signal.butter(4, 8000, fs=rate, output="sos"), x), np.float32)


def written(tmp_path, name, x, rate, **more):
    path = tmp_path / f"file{FORMATS[name].suffix}"
    write_audio(
        path, [x[:, at : at + 10_000] for at in range(0, x.shape[1], 10_000)], rate, len(x), Writing(name, **more), x.shape[1]
    )
    return path


def read(path):
    source = open_audio(path, path.name)
    return source, np.concatenate(list(source.blocks), axis=1)


def lateness(x, y):
    """Frames by which y is late, by correlation."""
    product = scipy.signal.correlate(y.sum(axis=0), x.sum(axis=0), "full", "fft")
    return int(product.argmax()) - (x.shape[1] - 1)


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("name", [n for n in FORMATS if n.split("-")[-1] not in ("96", "160", "224", "320")])
def test_every_format_comes_back_in_time(name, rate, tmp_path):
    x = sound(rate, 2 * rate + 777)
    source, y = read(written(tmp_path, name, x, rate))
    form = FORMATS[name]
    assert source.rate == form.rate_for(rate)
    expected = np.concatenate(list(converted([x], rate, source.rate, 2)), axis=1)
    assert y.shape == expected.shape
    assert lateness(expected, y) == 0
    error = (y - expected).std() / expected.std()
    assert error <= (0.6 if form.lossy else {0: 0.0, 16: 1e-3, 24: 1e-5}[form.bits])


@pytest.mark.parametrize("name", ["mp3-192", "aac-192", "opus-128", "vorbis-192", "flac24"])
def test_an_impulse_stays_where_it_was(name, tmp_path):
    x = np.zeros((2, 48_000), np.float32)
    x[:, 20_000] = 0.9
    _, y = read(written(tmp_path, name, x, 48000))
    assert abs(int(np.abs(y[0]).argmax()) - 20_000) <= (0 if name == "flac24" else 1)


@pytest.mark.parametrize("name", ["flac24", "mp3-128", "aac-128", "opus-96", "vorbis-128", "wav24", "bwf24", "aiff16"])
def test_tags_by_ffprobe(name, tmp_path):
    """ffprobe reads them back; WAV and AIFF have places for the usual ones only."""
    path = written(tmp_path, name, sound(48000, 30_000), 48000, tags=TAGS)
    shown = subprocess.run(
        [shutil.which("ffprobe"), "-v", "error", "-of", "json", "-show_entries", "format_tags:stream_tags", str(path)],
        capture_output=True, text=True, check=True,
    ).stdout  # fmt: skip
    told = json.loads(shown)
    tags = {**told["streams"][0].get("tags", {}), **told["format"].get("tags", {})}
    tags = {key.lower(): value for key, value in tags.items()}
    assert tags["title"] == TAGS.title and TAGS.artist in (tags.get("artist"), tags.get("author"))
    if FORMATS[name].kind not in ("wav", "aiff", "bwf"):
        assert (tags["date"], tags["mood"], tags["pier_number"]) == (TAGS.date, "grey", "4")
    elif FORMATS[name].kind != "aiff":
        assert tags["date"] == TAGS.date


def chunks(path):
    """An independent reader of RIFF and RF64: names, places and bodies of the chunks; the body of `data` is not read."""
    with path.open("rb") as file:
        form, size, kind = struct.unpack("<4sI4s", file.read(12))
        assert kind == b"WAVE"
        found, long_data, long_riff = {}, None, None
        while len(head := file.read(8)) == 8:
            name, length = struct.unpack("<4sI", head)
            if name == b"ds64":
                body = file.read(length)
                long_riff, long_data, samples = struct.unpack("<QQQ", body[:24])
                found[name] = (long_riff, long_data, samples)
            elif name == b"data":
                length = long_data if length == BEYOND else length
                found[name] = (file.tell(), length)
                file.seek(length + (length & 1), 1)
            else:
                found[name] = file.read(length)
                file.seek(length & 1, 1)
        end = file.tell()
    assert (long_riff if size == BEYOND else size) == end - 8
    return form, found


def test_the_chunks_of_a_broadcast_wav(tmp_path):
    """EBU Tech 3285 version 2, table of the bext chunk (from memory); the loudness fields are those of our meter, which the
    standards' tests check, in hundredths."""
    x = sound(48000, 200_000)
    path = written(
        tmp_path, "bwf24", x, 48000, tags=TAGS, origin=Origin(originator="Kelpwick Radio", description="Low Water, last take"),
        start_s=12.5,
    )  # fmt: skip
    before = path.read_bytes()
    facts = facts_of_file(path, "file.wav", "bwf24")
    form, found = chunks(path)
    body = found[b"bext"]
    assert form == b"RIFF"
    assert body[:256].rstrip(b"\0") == b"Low Water, last take" and body[256:288].rstrip(b"\0") == b"Kelpwick Radio"
    assert struct.unpack("<QH", body[338:348]) == (600_000, 2)  # time reference in frames, version
    figures = facts.figures
    values = [figures.integrated_lufs, figures.loudness_range_lu, figures.true_peak_dbtp, figures.max_momentary_lufs,
              figures.max_short_term_lufs]  # fmt: skip
    assert struct.unpack("<5h", body[412:422]) == tuple(round(100 * value) for value in values)
    assert struct.unpack("<5h", before[before.index(b"bext") + 8 :][412:422]) == (0x7FFF,) * 5  # until it was measured
    assert body[602:].rstrip(b"\0\r\n") == b"A=PCM,F=48000,W=24,M=stereo,T=Salt Anvil"
    assert struct.unpack("<HHIIHH", found[b"fmt "]) == (1, 2, 48000, 288_000, 6, 24)
    assert b"INAM" in found[b"LIST"] and TAGS.title.encode() in found[b"LIST"]
    _, y = read(path)
    assert np.abs(y - x).max() < 2**-21


def test_a_broadcast_wav_of_more_than_4_gib_is_rf64(tmp_path):
    """ITU-R BS.2088: sizes stand in ds64. The file is sparse, so that it takes no room; silence that was never written."""
    path = tmp_path / "long.wav"
    file = BroadcastFile(path, 96000, 2, 0, Origin(), {})
    file.write(np.full((2, 1000), 0.25, np.float32))
    skipped = 4_400_000_000 // 8 * 8
    file.file.seek(skipped, 1)
    file.data_bytes += skipped
    file.write(np.full((2, 1000), 0.5, np.float32))
    file.close()
    assert path.stat().st_blocks * 512 < 10 << 20
    form, found = chunks(path)
    assert form == b"RF64"
    data = skipped + 16_000
    assert found[b"ds64"][1:] == (data, data // 8) and found[b"data"][1] == data
    at = found[b"data"][0]
    with path.open("rb") as raw:
        raw.seek(at + data - 8)
        assert struct.unpack("<2f", raw.read(8)) == (0.5, 0.5)
    assert open_audio(path, "long.wav").frames == data // 8


@pytest.mark.parametrize("rest", [0, 1, 9, 32, 47, 232, 1151])
def test_an_mp3_is_as_long_as_its_sound(rest, tmp_path):
    """Also where its last frame holds next to nothing; the header's CRC-16 fits (as the muxer's own does)."""
    x = sound(48000, 84 * 1152 + rest)
    path = written(tmp_path, "mp3-128", x, 48000)
    assert read(path)[1].shape == x.shape
    data = path.read_bytes()
    at = data.index(b"Info")
    assert crc_16(data[data.rindex(b"\xff", 0, at) : at + 154]) == int.from_bytes(data[at + 154 : at + 156], "big")


def test_rates_a_format_cannot_have():
    assert FORMATS["mp3-128"].rate_for(96000) == 48000 and FORMATS["mp3-128"].rate_for(88200) == 44100
    assert FORMATS["opus-128"].rate_for(44100) == 48000 and FORMATS["wav24"].rate_for(192000) == 192000
    assert converted_frames(3, 48000, 44100) == 3
