"""Tempo and markers of MIDI files, written byte by byte after Standard MIDI Files 1.0."""

import random
import struct
import tracemalloc

import pytest

from saltanvil.media.decode import MediaError
from saltanvil.media.midi import MAX_MIDI_BYTES, midi_markers

TEMPO = (500_000).to_bytes(3, "big")


def length(value):
    out = [value & 0x7F]
    while value := value >> 7:
        out.append(value & 0x7F | 0x80)
    return bytes(out[::-1])


def meta(delta, kind, data):
    return length(delta) + bytes([0xFF, kind]) + length(len(data)) + data


def midi(*events, ticks=480, form=0):
    track = b"".join(events) + meta(0, 0x2F, b"")
    return b"MThd" + struct.pack(">IHHH", 6, form, 1, ticks) + b"MTrk" + struct.pack(">I", len(track)) + track


def test_tempo_signature_and_markers_of_a_midi_file_are_read(tmp_path):
    path = tmp_path / "map.mid"
    tempo = meta(0, 0x51, (60_000_000 // 90).to_bytes(3, "big"))
    signature = meta(0, 0x58, bytes([6, 3, 24, 8]))  # 6/8
    bars = [meta(0, 0x06, b"Verse"), meta(8 * 480, 0x06, b"Chorus")]
    path.write_bytes(midi(tempo, signature, *bars))
    result = midi_markers(path, "map.mid")
    assert result.tempo_bpm == pytest.approx(90.0, abs=1e-3) and result.beats_in_bar == 3 and not result.notes
    assert [(m.name, round(m.start_s, 5)) for m in result.markers] == [("Verse", 0.0), ("Chorus", round(8 * 60 / 90, 5))]


def test_what_a_session_cannot_have_of_a_midi_file_is_said(tmp_path):
    path = tmp_path / "odd.mid"
    tempos = [meta(0, 0x51, (500_000).to_bytes(3, "big")), meta(960, 0x51, (1_000_000).to_bytes(3, "big"))]
    path.write_bytes(midi(meta(0, 0x58, bytes([7, 3, 24, 8])), *tempos, meta(480, 0x06, b"End")))
    result = midi_markers(path, "odd.mid")
    assert result.tempo_bpm == 120.0 and result.beats_in_bar is None and len(result.notes) == 2
    assert result.markers[0].start_s == pytest.approx(2 * 0.5 + 1.0)  # by both tempos
    for bad in (b"", b"MThd", midi(tempos[0])[:20], b"RIFF" + b"\0" * 40):
        path.write_bytes(bad)
        with pytest.raises(MediaError, match=r"odd\.mid: it is not a MIDI file"):
            midi_markers(path, "odd.mid")


@pytest.mark.parametrize(("frames", "rate"), [(24, 24.0), (25, 25.0), (29, 30 / 1.001), (30, 30.0)])
def test_places_of_files_that_count_by_time(tmp_path, frames, rate):
    """An SMPTE division: ticks are parts of a frame, and tempos change nothing about places."""
    path = tmp_path / "smpte.mid"
    division = (256 - frames) << 8 | 40
    path.write_bytes(midi(meta(0, 0x51, (250_000).to_bytes(3, "big")), meta(40 * frames, 0x06, b"One"), ticks=division))
    result = midi_markers(path, "smpte.mid")
    assert result.markers[0].start_s == pytest.approx(frames / rate, abs=1e-9) and result.tempo_bpm == 240.0


def test_events_of_several_tracks_are_told_in_their_order_and_notes_passed_over(tmp_path):
    notes = b"".join(length(10) + (b"\x90" if n == 0 else b"") + bytes([60, n % 2 * 90]) for n in range(50))  # running status
    controls = b"\x00\xb0\x07\x64" + b"\x00\xc0\x05" + b"\x00\xe0\x00\x40" + b"\x05\xf0\x03\x01\x02\xf7"
    tracks = [meta(0, 0x51, TEMPO) + meta(960, 0x06, b"Late"), controls + notes + meta(0, 0x06, b"Mid")]
    chunks = [track + meta(0, 0x2F, b"") for track in tracks]
    data = b"MThd" + struct.pack(">IHHH", 6, 1, 2, 480) + b"XTRA" + struct.pack(">I", 2) + b"ab"
    path = tmp_path / "two.mid"
    path.write_bytes(data + b"".join(b"MTrk" + struct.pack(">I", len(chunk)) + chunk for chunk in chunks))
    found = midi_markers(path, "two.mid")
    assert [(m.name, m.start_s) for m in found.markers] == [
        ("Mid", pytest.approx(505 / 960)), ("Late", pytest.approx(1.0))
    ]  # fmt: skip


def test_a_file_of_notes_at_the_limit_costs_little(tmp_path):
    """Two bytes an event, as dense as it gets; before, 3 MB of notes took 760 MB."""
    dense = b"\x00\xc0\x01" + b"\x00\x01" * ((MAX_MIDI_BYTES - 200) // 2)
    part = dense[: len(dense) // 16 // 2 * 2 + 1]  # looked at byte by byte: memory is counted of a part
    path = tmp_path / "notes.mid"
    path.write_bytes(midi(part, meta(5, 0x06, b"End")))
    tracemalloc.start()
    assert [m.name for m in midi_markers(path, "notes.mid").markers] == ["End"]
    assert tracemalloc.get_traced_memory()[1] < 4 * len(part)
    tracemalloc.stop()
    path.write_bytes(midi(dense, meta(5, 0x06, b"End")))
    assert [m.name for m in midi_markers(path, "notes.mid").markers] == ["End"]
    with path.open("ab") as file:
        file.write(bytes(MAX_MIDI_BYTES))
    with pytest.raises(MediaError, match="larger than 4 MiB"):
        midi_markers(path, "notes.mid")


def test_whatever_bytes_there_are_lead_to_markers_or_words(tmp_path):
    """Whole files with some bytes changed, cut or put in, from a seed."""
    rng, path = random.Random(6), tmp_path / "any.mid"
    whole = midi(meta(0, 0x51, TEMPO), meta(0, 0x58, bytes([4, 2, 24, 8])), meta(480, 0x06, b"A"), b"\x00\x90\x40\x40")
    for _ in range(2000):
        data = bytearray(whole)
        for _ in range(rng.randint(1, 4)):
            at = rng.randrange(len(data))
            data[at : at + rng.randint(0, 2)] = rng.randbytes(rng.randint(0, 3))
        path.write_bytes(data)
        try:
            result = midi_markers(path, "any.mid")
        except MediaError as error:
            assert str(error).startswith("any.mid: ")
            continue
        assert all(marker.start_s >= 0.0 and marker.name for marker in result.markers)
        assert result.tempo_bpm is None or 20.0 <= result.tempo_bpm <= 300.0
