"""Writing audio files: conversion, then dither and rounding, once, then the container.

blocks --> sample rate --> dither, whole numbers --> WAV, Broadcast WAV, RF64, FLAC, AIFF
                       \\-> encoder -------------> MP3, AAC, Opus, Ogg Vorbis
"""

import contextlib
import secrets
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any, Protocol

import av
import numpy as np
import soundfile
from numpy.typing import NDArray

from saltanvil.media.broadcast import BroadcastFile
from saltanvil.media.convert import Converter, converted_frames
from saltanvil.media.dither import Dither, Quantiser
from saltanvil.media.formats import VORBIS_QUALITY, AudioFormat, Origin, Tags, format_named
from saltanvil.media.ogg import finish_vorbis

Audio = NDArray[np.float32]
SUBTYPE = {16: "PCM_16", 24: "PCM_24", 0: "FLOAT"}
WAV_LIMIT_BYTES = (1 << 32) - (1 << 16)
#: libsndfile writes 60 s of Vorbis in one call no more.
VORBIS_FRAMES = 1 << 16
#: Encoders, and the form their samples have.
ENCODERS = {"mp3": ("libmp3lame", "fltp"), "aac": ("aac", "fltp"), "opus": ("libopus", "flt")}
#: Tags that libsndfile writes into WAV and AIFF.
SOUNDFILE_TAGS = ("title", "artist", "date", "comment", "copyright", "genre", "album")


@dataclass(frozen=True)
class Written:
    """What a file holds. clipped: samples that did not fit into its whole numbers; over_db: by how much the loudest did not.

    An encoder takes what is over full scale; whether what it gives back fits is for the delivery check to say.
    """

    frames: int
    clipped: int = 0
    over_db: float = 0.0

    def warning(self, name: str) -> str | None:
        """What the user should be told, if anything."""
        if not self.clipped:
            return None
        samples = "1 sample was" if self.clipped == 1 else f"{self.clipped} samples were"
        return f"{name}: {samples} clipped, by up to {self.over_db:.1f} dB; lower the level, or write 32-bit float"


@dataclass(frozen=True)
class Writing:
    """How a file is written. rate: that it is to have, the sound's own if None; a format that cannot have it takes the nearest
    (`AudioFormat.rate_for`). dither: counts for 16 bits, at 24 it is always plain. start_s: where the sound begins, since
    midnight."""

    format: str
    rate: int | None = None
    dither: Dither = "tpdf"
    tags: Tags = field(default_factory=Tags)
    origin: Origin = field(default_factory=Origin)
    start_s: float = 0.0


class Container(Protocol):
    """A file that is being written: (channels, frames) of its samples, at its rate."""

    def write(self, samples: NDArray[Any]) -> None: ...

    def close(self) -> None: ...

    def abandon(self) -> None: ...


class Soundfile:
    """WAV, RF64, FLAC, AIFF, Ogg Vorbis by libsndfile."""

    def __init__(self, path: Path, form: AudioFormat, rate: int, channels: int, frames: int, tags: dict[str, str]) -> None:
        size = frames * channels * ((form.bits or 32) // 8)
        container = {"wav": "RF64" if size > WAV_LIMIT_BYTES else "WAV", "flac": "FLAC", "aiff": "AIFF", "vorbis": "OGG"}[
            form.kind
        ]
        if form.kind == "aiff" and size > WAV_LIMIT_BYTES:
            raise OSError("AIFF holds 4 GiB at most; write WAV or FLAC")
        quality: dict[str, Any] = {}
        if form.kind == "vorbis":
            quality["compression_level"] = 1.0 - VORBIS_QUALITY[form.bit_rate_kbps or 0]
        subtype = "VORBIS" if form.kind == "vorbis" else SUBTYPE[form.bits or 0]
        self._path, self._tags = path, tags if form.kind in ("flac", "vorbis") else {}
        self._kind = form.kind
        #: libsndfile notes where the peaks of floats are, and when it did.
        self._peaks = form.kind in ("wav", "aiff") and form.bits == 0
        self._file = soundfile.SoundFile(str(path), "w", rate, channels, subtype, format=container, **quality)
        if form.kind in ("wav", "aiff"):
            for name in SOUNDFILE_TAGS:
                if name in tags:
                    setattr(self._file, name, tags[name])

    def write(self, samples: NDArray[Any]) -> None:
        for at in range(0, samples.shape[1], VORBIS_FRAMES):
            self._file.write(np.ascontiguousarray(samples[:, at : at + VORBIS_FRAMES].T))

    def close(self) -> None:
        self._file.close()
        if self._kind == "vorbis":
            finish_vorbis(self._path, self._tags)
        elif self._tags:
            retag(self._path, self._kind, self._tags)
        elif self._peaks:
            forget_time_of_peaks(self._path)

    def abandon(self) -> None:
        with contextlib.suppress(RuntimeError, OSError):
            self._file.close()


#: The chunk of peaks stands within so many bytes; its time stamp behind its name, size and version.
PEAKS_WITHIN, PEAKS_TIME_AT = 8192, 12


def forget_time_of_peaks(path: Path) -> None:
    """The same sound gives the same file, whenever it was written."""
    with path.open("r+b") as file:
        at = file.read(PEAKS_WITHIN).find(b"PEAK")
        if at >= 0:
            file.seek(at + PEAKS_TIME_AT)
            file.write(bytes(4))


def retag(path: Path, kind: str, tags: dict[str, str]) -> None:
    """Give a file tags of any name: its packets are copied as they are."""
    copy = path.with_name(f"{path.name}.tags")
    try:
        with av.open(str(path)) as source, av.open(str(copy), "w", format=kind) as target:
            stream = source.streams.audio[0]
            out = target.add_stream_from_template(stream)
            target.metadata.update(tags)
            for packet in source.demux(stream):
                if packet.dts is not None:
                    packet.stream = out
                    target.mux(packet)
        copy.replace(path)
    finally:
        copy.unlink(missing_ok=True)


class Encoder:
    """MP3, AAC and Opus by FFmpeg's libraries."""

    CONTAINER = {"mp3": "mp3", "aac": "ipod", "opus": "opus"}  # noqa: RUF012

    def __init__(self, path: Path, form: AudioFormat, rate: int, channels: int, tags: dict[str, str]) -> None:
        codec, sample_format = ENCODERS[form.kind]
        # MP4 keeps tags of any name only if it is told to.
        # Its edit list counts in a timescale of the whole file: with that of the rate the end is cut to the sample.
        options = {"movflags": "use_metadata_tags", "movie_timescale": str(rate)} if form.kind == "aac" else {}
        self._file = av.open(str(path), "w", format=self.CONTAINER[form.kind], options=options)
        self._file.metadata.update(tags)
        self._layout = "mono" if channels == 1 else "stereo"
        stream = self._file.add_stream(codec, rate=rate, layout=self._layout)
        assert isinstance(stream, av.AudioStream)
        self._stream = stream
        self._stream.codec_context.format = sample_format
        self._stream.bit_rate = 1000 * (form.bit_rate_kbps or 0)
        self._path, self._kind, self._rate, self._at = path, form.kind, rate, 0

    def write(self, samples: NDArray[Any]) -> None:
        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(samples, dtype=np.float32), format="fltp", layout=self._layout)
        frame.sample_rate, frame.time_base, frame.pts = self._rate, Fraction(1, self._rate), self._at
        self._at += samples.shape[1]
        for packet in self._stream.encode(frame):
            self._file.mux(packet)

    def close(self) -> None:
        for packet in self._stream.encode(None):
            self._file.mux(packet)
        self._file.close()
        if self._kind == "mp3":
            note_length(self._path, self._at)

    def abandon(self) -> None:
        with contextlib.suppress(av.FFmpegError, OSError, ValueError):
            self._file.close()


#: An MP3's Info header: places from its start on, and the frames of sound in one of MPEG 1.
INFO_FRAMES_AT, INFO_DELAYS_AT, INFO_CRC_AT, MP3_FRAME = 8, 141, 154, 1152


def note_length(path: Path, frames: int) -> None:
    """Put the length into an MP3's header: where the last frame holds less than fifty samples, the muxer notes up to 46 more."""
    with path.open("r+b") as file:
        head = bytearray(file.read(1 << 16))
        at = head.find(b"Info")
        begin = head.rfind(b"\xff", 0, at)
        if at < 0 or begin < 0:
            return
        packed = head[at + INFO_DELAYS_AT : at + INFO_DELAYS_AT + 3]
        delay = packed[0] << 4 | packed[1] >> 4
        padding = int.from_bytes(head[at + INFO_FRAMES_AT : at + INFO_FRAMES_AT + 4], "big") * MP3_FRAME - delay - frames
        if not 0 <= padding < 1 << 12:
            return
        head[at + INFO_DELAYS_AT + 1 : at + INFO_DELAYS_AT + 3] = ((packed[1] & 0xF0) << 8 | padding).to_bytes(2, "big")
        crc = crc_16(head[begin : at + INFO_CRC_AT])
        file.seek(at + INFO_DELAYS_AT)
        file.write(head[at + INFO_DELAYS_AT : at + INFO_DELAYS_AT + 3])
        file.seek(at + INFO_CRC_AT)
        file.write(crc.to_bytes(2, "big"))


def crc_16(data: bytes | bytearray) -> int:
    """CRC-16 with the polynomial x^16 + x^15 + x^2 + 1, bits reversed, which the header has."""
    crc = 0
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = crc >> 1 ^ (0xA001 if crc & 1 else 0)
    return crc


def container_of(path: Path, form: AudioFormat, rate: int, channels: int, frames: int, writing: Writing) -> Container:
    tags = writing.tags.as_dict()
    if form.kind == "bwf":
        at = round(writing.start_s * rate)
        return BroadcastFile(path, rate, channels, form.bits or 0, writing.origin, tags, at)
    if form.kind in ENCODERS:
        return Encoder(path, form, rate, channels, tags)
    return Soundfile(path, form, rate, channels, frames, tags)


@contextlib.contextmanager
def whole_or_none(path: Path) -> Iterator[Path]:
    """A place beside the path to write to; it gets the path's name once it is complete, and is gone if it never was."""
    part = path.with_name(f".{path.name}.{secrets.token_hex(4)}.part")
    try:
        yield part
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)


class AudioWriter:
    """A file that is written block by block: converted, dithered and rounded, put into its container.

    Raises OSError from any of its calls; after one, `abandon` closes what is open, and the file, half written, is the caller's to
    remove.
    """

    def __init__(self, path: Path, rate: int, channels: int, writing: Writing, frames: int, seed: str = "") -> None:
        """frames: about how many, decides between WAV and RF64 (ITU-R BS.2088); seed: names the dither's noise (see
        `Quantiser`)."""
        form = format_named(writing.format)
        out_rate = form.rate_for(writing.rate or rate)
        self._quantise: Quantiser | None = None
        if form.bits:
            shaped = writing.dither == "shaped" and form.bits == 16
            self._quantise = Quantiser(form.bits, channels, seed, out_rate if shaped else None)
        self._converter = Converter(rate, out_rate, channels)
        self._frames = 0
        with writing_errors():
            self._file = container_of(path, form, out_rate, channels, converted_frames(frames, rate, out_rate), writing)

    def write(self, block: Audio) -> None:
        """block: (channels, frames), at the sound's rate."""
        self._put(self._converter.convert(block))

    def _put(self, samples: Audio) -> None:
        if samples.shape[1]:
            with writing_errors():
                self._file.write(self._quantise(samples) if self._quantise else samples)
            self._frames += samples.shape[1]

    def close(self) -> Written:
        """Complete the file."""
        self._put(self._converter.finish())
        with writing_errors():
            self._file.close()
        if self._quantise is None:
            return Written(self._frames)
        return Written(self._frames, self._quantise.clipped, self._quantise.over_db)

    def abandon(self) -> None:
        """Close a file that is not to be completed; never raises."""
        with contextlib.suppress(OSError), writing_errors():
            self._file.abandon()


@contextlib.contextmanager
def writing_errors() -> Iterator[None]:
    """Errors of the libraries that write, as OSError."""
    try:
        yield
    except (soundfile.LibsndfileError, av.FFmpegError) as error:
        # Without the path: what is written to has another name until it is complete.
        if isinstance(error, OSError) and error.errno is not None:
            raise OSError(error.errno, error.strerror) from error
        raise OSError(getattr(error, "error_string", None) or getattr(error, "strerror", None) or str(error)) from error


def write_audio(
    path: Path, blocks: Iterable[Audio], rate: int, channels: int, writing: Writing | str, frames: int, seed: str = ""
) -> Written:
    """Write blocks (channels, frames) to a file (see `AudioWriter`). writing: or only the format's name.

    Raises OSError; a file that could not be completed is the caller's to remove.
    """
    writer = AudioWriter(path, rate, channels, Writing(writing) if isinstance(writing, str) else writing, frames, seed)
    try:
        for block in blocks:
            writer.write(block)
        return writer.close()
    except BaseException:
        writer.abandon()
        raise
