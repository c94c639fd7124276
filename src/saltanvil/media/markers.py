"""Where a file says it begins, and the markers in it: chunks of (Broadcast) WAV (see `midi` for MIDI files).

Sources: RIFF `cue ` and `LIST adtl` (Multimedia Programming Interface and Data Specifications 1.0, from memory); `bext` (EBU Tech
3285, time reference in samples since midnight); RF64 (ITU-R BS.2088).
"""

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

#: Offset of the time reference in `bext`: two words after description, originator, reference, date and time.
TIME_REFERENCE = 256 + 32 + 32 + 10 + 8
#: Chunks that are read whole are no larger than this.
MAX_BYTES = 1 << 20
#: Markers read of one file.
MAX_MARKERS = 200


@dataclass(frozen=True)
class Marker:
    """A place in seconds from the file's start; end_s: of a range, where it ends."""

    name: str
    start_s: float
    end_s: float | None = None


@dataclass(frozen=True)
class FileMarkers:
    """time_reference_s: seconds since midnight at which it begins; tempo and beats (quarter notes in a bar) from MIDI."""

    time_reference_s: float | None = None
    markers: list[Marker] = field(default_factory=list)
    tempo_bpm: float | None = None
    beats_in_bar: int | None = None
    notes: list[str] = field(default_factory=list)


def wav_markers(path: Path, rate: int) -> FileMarkers:
    """What the chunks of a WAV, Broadcast WAV or RF64 file say; nothing for other files and for chunks that make no sense."""
    try:
        return read_chunks(path, rate)
    except (struct.error, OverflowError, OSError):  # sizes and places that cannot be
        return FileMarkers()


def read_chunks(path: Path, rate: int) -> FileMarkers:
    reference: float | None = None
    places: dict[int, int] = {}
    lengths: dict[int, int] = {}
    labels: dict[int, str] = {}
    for name, data in chunks(path):
        if name == b"bext" and len(data) >= TIME_REFERENCE + 8:
            low, high = struct.unpack_from("<II", data, TIME_REFERENCE)
            reference = ((high << 32) | low) / rate
        elif name == b"cue " and len(data) >= 4:
            count = min(struct.unpack_from("<I", data)[0], (len(data) - 4) // 24, MAX_MARKERS)
            for n in range(count):
                cue, *_, frame = struct.unpack_from("<II4sIII", data, 4 + 24 * n)
                places[cue] = frame
        elif name == b"LIST" and data[:4] == b"adtl":
            for part, text in sub_chunks(data[4:]):
                if part == b"labl" and len(text) > 4:
                    labels[struct.unpack_from("<I", text)[0]] = words(text[4:])
                elif part == b"ltxt" and len(text) >= 8:
                    cue, length = struct.unpack_from("<II", text)
                    lengths[cue] = length
    markers = [
        Marker(labels.get(cue) or f"Marker {number}", frame / rate, (frame + lengths[cue]) / rate if lengths.get(cue) else None)
        for number, (cue, frame) in enumerate(sorted(places.items(), key=lambda item: item[1]), 1)
    ]
    return FileMarkers(reference, markers)


def words(text: bytes) -> str:
    """Text of a chunk: UTF-8, or else Latin-1, up to its end mark, without what cannot be shown."""
    text = text.split(b"\0", 1)[0]
    try:
        result = text.decode("utf-8")
    except UnicodeDecodeError:
        result = text.decode("latin-1")
    return "".join(letter for letter in result if letter.isprintable()).strip()[:120]


def chunks(path: Path) -> Iterator[tuple[bytes, bytes]]:
    """Names and contents of the small chunks of a RIFF or RF64 file; of a large one, such as the sound, nothing."""
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        if len(head) < 12 or head[:4] not in (b"RIFF", b"RF64") or head[8:] != b"WAVE":
            return
        long_data = 0
        while len(start := file.read(8)) == 8:
            name, length = struct.unpack("<4sI", start)
            if name == b"ds64" and length >= 16:
                data = file.read(length)
                long_data = struct.unpack_from("<Q", data, 8)[0]
            elif name == b"data" and length == 0xFFFFFFFF:
                length = long_data
                file.seek(length, 1)
            elif length > MAX_BYTES:
                file.seek(length, 1)
            else:
                yield name, file.read(length)
            if length % 2:
                file.seek(1, 1)
            if file.tell() > size:
                return


def sub_chunks(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    at = 0
    while at + 8 <= len(data):
        name, length = struct.unpack_from("<4sI", data, at)
        yield name, data[at + 8 : at + 8 + length]
        at += 8 + length + length % 2
