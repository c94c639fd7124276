"""Reading audio files block by block, with messages a person can act on.

soundfile reads WAV, Broadcast WAV, RF64, FLAC and AIFF, exactly to 24 bits and float; PyAV reads what is lossy, from
the container's start, so that encoder delay is taken off and the sound is aligned to the sample.
"""

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import av
import numpy as np
import soundfile
from numpy.typing import NDArray

from saltanvil.dsp.envelope import LOUDEST, all_finite
from saltanvil.errors import UserError

Audio = NDArray[np.float32]

BLOCK_FRAMES = 1 << 16
MAX_S = 6 * 3600
MIN_RATE, MAX_RATE = 8000, 384000
TOO_LONG = f"it is longer than {MAX_S // 3600} hours; cut it into parts"
EXACT = {"WAV", "WAVEX", "RF64", "FLAC", "AIFF", "W64"}


class MediaError(UserError, ValueError):
    """A file that cannot be taken; the message names it and says why and what to do."""

    def __init__(self, name: str, why: str) -> None:
        super().__init__(f"{name}: {why}")


CONTAINERS = {"wav": "WAV", "wavex": "WAV", "rf64": "RF64", "w64": "W64", "flac": "FLAC", "aiff": "AIFF"}
ENCODINGS = {"float": "32-bit float", "double": "64-bit float", "pcm s8": "8-bit", "pcm u8": "8-bit"}
CODECS = {"mp3": "MP3", "mp3float": "MP3", "aac": "AAC", "vorbis": "Ogg Vorbis", "opus": "Opus"}


def format_words(format: str) -> str:
    """A source's format as it is read: `WAV, 24-bit` for `wavex pcm 24`, `MP3` for `mp3float`."""
    container, _, encoding = format.partition(" ")
    if container not in CONTAINERS:
        return CODECS.get(container, format)
    bits = ENCODINGS.get(encoding, f"{encoding.removeprefix('pcm ')}-bit" if encoding.startswith("pcm ") else encoding)
    return f"{CONTAINERS[container]}, {bits}" if bits else CONTAINERS[container]


@dataclass(frozen=True)
class Source:
    """An open file: its rate, channels, declared length (0 if unknown), format in words, and its blocks."""

    name: str
    rate: int
    channels: int
    frames: int
    format: str
    blocks: Iterator[Audio]


def open_audio(path: Path, name: str, most_channels: int = 2) -> Source:
    """Open a file for reading; `name` is what the user calls it. Raises MediaError, also from the blocks."""
    if path.stat().st_size == 0:
        raise MediaError(name, "the file is empty; export it again")
    with path.open("rb") as file:
        head = file.read(12)
    check_whole(path, name, head)
    try:
        info = soundfile.info(str(path))
        exact = info.format in EXACT
    except Exception:  # whatever a damaged file leads to inside the library
        exact = False
    source = _with_soundfile(path, name, info) if exact else _with_av(path, name, head)
    if not 1 <= source.channels <= most_channels:
        raise MediaError(name, f"it has {source.channels} channels; split it into mono or stereo files")
    if not MIN_RATE <= source.rate <= MAX_RATE:
        raise MediaError(name, f"its sample rate of {source.rate} Hz is out of range; use {MIN_RATE} to {MAX_RATE} Hz")
    if source.frames > MAX_S * source.rate:
        raise MediaError(name, TOO_LONG)
    return Source(source.name, source.rate, source.channels, source.frames, source.format, _checked(source))


def _checked(source: Source) -> Iterator[Audio]:
    done = 0
    for block in source.blocks:
        if np.abs(block).max(initial=0.0) > LOUDEST:
            bad = done + int(np.argmax(np.abs(block).max(axis=0) > LOUDEST))
            why = f"it is louder than +80 dBFS, first at {bad / source.rate:.3f} s; export it again, or turn it down"
            raise MediaError(source.name, why)
        if not all_finite(block):
            bad = done + int(np.argmin(np.isfinite(block).all(axis=0)))
            raise MediaError(
                source.name,
                f"it holds values that are not numbers, first at {bad / source.rate:.3f} s; export it again",
            )
        done += block.shape[1]
        if done > MAX_S * source.rate:
            raise MediaError(source.name, TOO_LONG)
        yield block
    if done == 0:
        raise MediaError(source.name, "it holds no sound; export it again")
    if source.frames and done < source.frames:
        raise MediaError(
            source.name,
            f"it is cut off: {done / source.rate:.2f} s of {source.frames / source.rate:.2f} s are there; copy it again",
        )


def _with_soundfile(path: Path, name: str, info: "soundfile._SoundFileInfo") -> Source:
    def blocks() -> Iterator[Audio]:
        try:
            with soundfile.SoundFile(str(path)) as file:
                while True:
                    block = file.read(BLOCK_FRAMES, dtype="float32", always_2d=True)
                    if not len(block):
                        return
                    yield np.ascontiguousarray(block.T)
        except Exception as error:  # whatever a damaged file leads to inside the library
            raise MediaError(name, f"it is damaged ({reason(error, path, name)}); copy it again") from error

    words = f"{info.format} {info.subtype}".replace("_", " ").lower()
    return Source(name, info.samplerate, info.channels, info.frames, words, blocks())


def _with_av(path: Path, name: str, head: bytes) -> Source:
    not_audio = MediaError(name, "it is not an audio file this can read; use WAV, FLAC, AIFF, Ogg, Opus, MP3 or M4A")
    try:
        with av.open(str(path)) as probe:
            if not probe.streams.audio:
                raise not_audio
            stream = probe.streams.audio[0]
            rate, channels = stream.rate, stream.channels
            codec = stream.codec_context.name
            # An edit list counts in milliseconds and would drop a last packet that is shorter than one.
            options = {"advanced_editlist": "0"} if codec == "aac" and "mp4" in probe.format.name else {}
            declared = 0
            if codec.startswith("mp3") and stream.duration and stream.time_base:
                declared = _mp3_frames(path)
    except MediaError:
        raise
    except Exception as error:  # whatever a damaged file leads to inside the library
        raise not_audio from error
    if not rate or not channels:
        raise not_audio

    def blocks() -> Iterator[Audio]:
        resampler = av.AudioResampler(format="fltp", layout="mono" if channels == 1 else "stereo")
        decoded, end = 0, 0
        try:
            with av.open(str(path), options=options) as container:
                for packet in container.demux(audio=0):
                    if packet.pts is not None and packet.duration and packet.time_base:
                        end = max(end, round((packet.pts + packet.duration) * packet.time_base * rate))
                    for frame in packet.decode():
                        for plane in resampler.resample(frame):
                            # AAC fills its last packet up; the container says how much of it is sound.
                            sound = min(plane.samples, max(end - decoded, 0)) if codec == "aac" and end else plane.samples
                            decoded += sound
                            if sound:
                                yield np.ascontiguousarray(plane.to_ndarray()[:, :sound], dtype=np.float32)
        except Exception as error:  # whatever a damaged file leads to inside the library
            raise MediaError(name, f"it is damaged ({reason(error, path, name)}); copy it again") from error
        if decoded < declared:
            raise MediaError(name, f"it is cut off: {decoded / rate:.2f} s of {declared / rate:.2f} s are there; copy it again")

    if channels > 2:
        return Source(name, rate, channels, 0, codec, iter(()))
    return Source(name, rate, channels, 0, codec, blocks())


def reason(error: Exception, path: Path, name: str) -> str:
    """What a library says, with the name that the user knows in place of where the file lies."""
    return str(error).replace(str(path), name).replace(path.name, name)


def _mp3_frames(path: Path) -> int:
    """Sound an MP3's header promises, in samples, a little generously; 0 if it promises nothing."""
    data = path.open("rb").read(1 << 16)
    for tag in (b"Xing", b"Info"):
        at = data.find(tag)
        if at >= 0 and len(data) >= at + 12 and data[at + 7] & 1:
            frames = int(struct.unpack(">I", data[at + 8 : at + 12])[0])
            return max(0, (frames - 4) * 1152) if frames < 1 << 24 else 0
    return 0


def check_whole(path: Path, name: str, head: bytes) -> None:
    """Refuse a file that is shorter than its own header says (RIFF, RF64, AIFF) or lacks its last page (Ogg)."""
    size = path.stat().st_size
    cut = MediaError(name, "it is cut off: the file is shorter than its header says; copy or export it again")
    if head[:4] in (b"RIFF", b"RF64") and head[8:12] == b"WAVE":
        result, long_data = 0, 0
        with path.open("rb") as file:
            file.seek(12)
            while len(chunk := file.read(8)) == 8:
                length = struct.unpack("<I", chunk[4:])[0]
                if chunk[:4] == b"ds64":
                    sizes = file.read(16)
                    if len(sizes) < 16 or length < 16:
                        raise cut
                    long_data = struct.unpack("<Q", sizes[8:])[0]
                    file.seek(length - 16, 1)
                    continue
                if chunk[:4] == b"data":
                    length = long_data if length == 0xFFFFFFFF else length
                    if length and file.tell() + length > size:
                        raise cut
                    result += 1
                    break
                file.seek(length + (length & 1), 1)
        if not result:
            raise MediaError(name, "it is cut off before its sound begins; copy or export it again")
    elif head[:4] == b"FORM" and head[8:12] in (b"AIFF", b"AIFC"):
        if struct.unpack(">I", head[4:8])[0] + 8 > size + 1:
            raise cut
    elif head[:4] == b"OggS":
        with path.open("rb") as file:
            file.seek(max(0, size - (1 << 17)))
            tail = file.read()
        last = tail.rfind(b"OggS")
        if last < 0 or len(tail) < last + 27 or not tail[last + 5] & 4:
            raise MediaError(name, "it is cut off: its last page is missing; copy or export it again")


def joined(left: Source, right: Source, name: str) -> Source:
    """Two mono files of one rate as the sides of a stereo one; the shorter one is silent at its end."""

    def blocks() -> Iterator[Audio]:
        waiting = [np.zeros((1, 0), np.float32), np.zeros((1, 0), np.float32)]
        sides = [left.blocks, right.blocks]
        ended = [False, False]
        while not all(ended) or any(part.shape[1] for part in waiting):
            for side in (0, 1):
                if not ended[side] and waiting[side].shape[1] == 0:
                    block = next(sides[side], None)
                    ended[side] = block is None
                    if block is not None:
                        waiting[side] = block
            lengths = [part.shape[1] for side, part in enumerate(waiting) if not (ended[side] and part.shape[1] == 0)]
            count = min(lengths, default=0)
            if not count:
                continue
            out = np.zeros((2, count), np.float32)
            for side in (0, 1):
                part = waiting[side][:, :count]
                out[side, : part.shape[1]] = part[0]
                waiting[side] = waiting[side][:, count:]
            yield out

    if left.rate != right.rate:
        raise MediaError(name, f"its sides have different rates, {left.rate} and {right.rate} Hz; import them apart")
    return Source(name, left.rate, 2, max(left.frames, right.frames), left.format, blocks())
