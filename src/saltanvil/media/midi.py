"""Tempo, time signature and markers of Standard MIDI Files; notes are passed over as they are read.

Source: Standard MIDI Files 1.0 (chunks, variable-length quantities, running status, meta events; SMPTE divisions), from memory.
"""

import struct
from collections.abc import Iterator
from pathlib import Path

from saltanvil.media.decode import MediaError
from saltanvil.media.markers import MAX_MARKERS, FileMarkers, Marker, words

#: A tempo map is some kilobytes; a whole orchestra's notes come near a megabyte.
MAX_MIDI_BYTES = 4 << 20
DEFAULT_TEMPO_US = 500_000
MARKER, TEMPO, SIGNATURE, END_OF_TRACK = 0x06, 0x51, 0x58, 0x2F
#: Data bytes of channel messages, by the upper half of their status.
DATA_BYTES = {0x80: 2, 0x90: 2, 0xA0: 2, 0xB0: 2, 0xC0: 1, 0xD0: 1, 0xE0: 2}
#: Frames a second by the number in an SMPTE division; 29 is 30 drop frame.
SMPTE_FRAMES = {24: 24.0, 25: 25.0, 29: 30.0 / 1.001, 30: 30.0}


class Damaged(ValueError):
    """The bytes are no MIDI file."""


def midi_markers(path: Path, name: str) -> FileMarkers:
    """What a file says. Raises MediaError.

    A session has one tempo: the first counts, and places are read by all of them; it says so where there are more.
    """
    if path.stat().st_size > MAX_MIDI_BYTES:
        raise MediaError(name, f"it is larger than {MAX_MIDI_BYTES >> 20} MiB; export its tempo and markers without notes")
    try:
        return read_midi(path.read_bytes(), name)
    except Damaged as error:
        raise MediaError(name, "it is not a MIDI file this can read; export it again as a Standard MIDI File") from error


def read_midi(data: bytes, name: str) -> FileMarkers:
    """The content of a file. Raises Damaged, MediaError."""
    tracks = list(chunks(data))
    if [sort for sort, _ in tracks[:1]] != [b"MThd"] or len(tracks[0][1]) < 6 or b"MTrk" not in dict(tracks):
        raise Damaged
    form, _, division = struct.unpack_from(">HHH", tracks[0][1])
    if form == 2:
        raise MediaError(name, "it is a MIDI file of separate patterns (type 2), which has no one timeline")
    seconds_a_tick = smpte_tick_s(division)
    if form > 2 or (seconds_a_tick is None and division == 0):
        raise Damaged
    events = [event for sort, track in tracks if sort == b"MTrk" for event in meta_events(track)]
    events.sort(key=lambda event: event[0])
    return markers_of(timed(events, division, seconds_a_tick))


def chunks(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    """Sorts and contents of the chunks. Raises Damaged if one is cut off."""
    at = 0
    while at + 8 <= len(data):
        sort, length = struct.unpack_from(">4sI", data, at)
        if at + 8 + length > len(data):
            raise Damaged
        yield sort, data[at + 8 : at + 8 + length]
        at += 8 + length


def smpte_tick_s(division: int) -> float | None:
    """Seconds of a tick, where a file counts by time and not by quarter notes. Raises Damaged."""
    if division < 0x8000:
        return None
    frames, ticks = 256 - (division >> 8), division & 0xFF
    if frames not in SMPTE_FRAMES or ticks == 0:
        raise Damaged
    return 1.0 / (SMPTE_FRAMES[frames] * ticks)


def meta_events(track: bytes) -> Iterator[tuple[int, int, bytes]]:
    """Tick, kind and content of the tempos, signatures and markers of a track. Raises Damaged."""
    at = tick = status = 0
    size = len(track)

    def quantity() -> int:
        nonlocal at
        value = 0
        for _ in range(4):
            byte = track[at]
            at += 1
            value = value << 7 | byte & 0x7F
            if byte < 0x80:
                return value
        raise Damaged

    try:
        while at < size:
            tick += quantity()
            byte = track[at]
            if byte >= 0xF0:  # meta and system exclusive; they end a running status
                at += 1
                status, kind = 0, byte
                if byte == 0xFF:
                    kind = track[at]
                    at += 1
                elif byte not in (0xF0, 0xF7):
                    raise Damaged
                length = quantity()
                if at + length > size:
                    raise Damaged
                if byte == 0xFF and kind in (MARKER, TEMPO, SIGNATURE):
                    yield tick, kind, track[at : at + length]
                at += length
                if byte == 0xFF and kind == END_OF_TRACK:
                    return
                continue
            if byte >= 0x80:
                status = byte
                at += 1
            if not status:
                raise Damaged
            at += DATA_BYTES[status & 0xF0]
    except IndexError as error:
        raise Damaged from error


def timed(
    events: list[tuple[int, int, bytes]], division: int, seconds_a_tick: float | None
) -> Iterator[tuple[float, int, bytes]]:
    """Events with their times in seconds, by all tempos before them."""
    at_s, last, tempo_us = 0.0, 0, DEFAULT_TEMPO_US
    for tick, kind, body in events:
        at_s += (tick - last) * (seconds_a_tick if seconds_a_tick is not None else tempo_us / 1e6 / division)
        last = tick
        if kind == TEMPO and len(body) == 3:
            tempo_us = int.from_bytes(body, "big")
        yield at_s, kind, body


def markers_of(events: Iterator[tuple[float, int, bytes]]) -> FileMarkers:
    tempos: list[int] = []
    signatures: list[tuple[int, int]] = []
    markers: list[Marker] = []
    for at_s, kind, body in events:
        if kind == TEMPO and len(body) == 3:
            tempos.append(int.from_bytes(body, "big"))
        elif kind == SIGNATURE and len(body) >= 2:
            signatures.append((body[0], 1 << min(body[1], 16)))
        elif kind == MARKER and len(markers) < MAX_MARKERS:
            markers.append(Marker(words(body) or f"Marker {len(markers) + 1}", at_s))
    notes = []
    if len(set(tempos)) > 1:
        notes.append(f"its tempo changes {len(tempos) - 1} times; the first one is taken, markers keep their times")
    beats: int | None = None
    if signatures:
        numerator, denominator = signatures[0]
        quarters = 4 * numerator / denominator
        if quarters == int(quarters) and 1 <= quarters <= 16:
            beats = int(quarters)
        else:
            notes.append(
                f"a bar of {numerator}/{denominator} is no whole number of quarter notes; beats in a bar stay as they are"
            )
        if len(set(signatures)) > 1:
            notes.append("its time signature changes; the first one is taken")
    bpm = None
    if tempos:
        bpm = round(60e6 / tempos[0], 3) if tempos[0] else None
        if bpm is None or not 20.0 <= bpm <= 300.0:
            notes.append(f"its tempo of {f'{bpm:g}' if bpm else 'no length'} bpm is outside of 20 to 300 and was left out")
            bpm = None
    return FileMarkers(None, markers, bpm, beats, notes)
