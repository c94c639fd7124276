"""Whole files of every kind that is read, and mutations of them, from a seed."""

import hashlib
import io
import json
import struct
import zipfile
from pathlib import Path

import numpy as np
import soundfile

from saltanvil.media.encode import write_audio
from saltanvil.media.formats import format_named
from saltanvil.session.format import FORMAT
from tests.signals import noise

RATE, FRAMES = 48000, 3000
AUDIO = ("wav16", "wav32f", "bwf24", "flac16", "aiff24", "mp3-128", "aac-128", "opus-96", "vorbis-128")
STEPS = [
    {"id": "a", "kind": "compressor", "settings": {"threshold_db": -30.0}},
    {"id": "b", "kind": "split", "settings": {"by": "copies"}, "lanes": [{"id": "c", "name": "C"}, {"id": "d", "name": "D"}]},
]


def midi():
    def meta(delta, kind, data):
        return bytes([delta, 0xFF, kind, len(data)]) + data

    track = meta(0, 0x51, (500_000).to_bytes(3, "big")) + meta(0, 0x58, bytes([4, 2, 24, 8])) + meta(96, 0x06, b"Verse")
    track += b"\x00\x90\x40\x40\x20\x40\x00" + meta(0, 0x2F, b"")
    return b"MThd" + struct.pack(">IHHH", 6, 0, 1, 96) + b"MTrk" + struct.pack(">I", len(track)) + track


def chunked_wav():
    """A WAV file with the chunks that are read besides its sound."""
    data = np.zeros(FRAMES, "<i2").tobytes()
    cue = struct.pack("<I", 1) + struct.pack("<II4sIII", 1, 0, b"data", 0, 0, 1000)
    labels = b"adtl" + b"labl" + struct.pack("<I", 10) + struct.pack("<I", 1) + b"Verse\0"
    chunks = [
        (b"fmt ", struct.pack("<HHIIHH", 1, 1, RATE, 2 * RATE, 2, 16)),
        (b"bext", bytes(602)),
        (b"cue ", cue),
        (b"LIST", labels),
    ]
    body = b"WAVE" + b"".join(name + struct.pack("<I", len(part)) + part + b"\0" * (len(part) % 2) for name, part in chunks)
    body += b"data" + struct.pack("<I", len(data)) + data
    return b"RIFF" + struct.pack("<I", len(body)) + body


def rf64():
    out = io.BytesIO()
    soundfile.write(out, noise(2, FRAMES).T, RATE, "PCM_24", format="RF64")
    return out.getvalue()


def session_file():
    samples = np.rint(noise(1, FRAMES) * (1 << 23)) / (1 << 23)
    digest = hashlib.sha256(samples.T.astype("<f4").tobytes()).hexdigest()
    strips = [
        {"id": "main", "name": "Main", "kind": "main", "output": None},
        {"id": "t", "name": "T", "kind": "track", "media_id": 1, "path": {"steps": STEPS}},
    ]
    document = {"format": FORMAT, "name": "S", "strips": strips}
    sound = io.BytesIO()
    soundfile.write(sound, samples.T, RATE, "PCM_24", format="FLAC")
    media = {"id": 1, "name": "t.wav", "format": "wav", "rate_hz": RATE, "channels": 1, "frames": FRAMES, "file": "media/1.flac",
             "sha256": digest}  # fmt: skip
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("media/1.flac", sound.getvalue())
        archive.writestr("session.json", json.dumps({"archive": 1, "name": "S", "document": document, "media": [media]}))
    return out.getvalue()


def corpus(folder: Path) -> dict[str, list[tuple[str, bytes]]]:
    """By kind: names and contents."""
    sounds = []
    for kind in AUDIO:
        path = folder / f"{kind}{format_named(kind).suffix}"
        write_audio(path, [0.3 * noise(2, FRAMES)], RATE, 2, kind, FRAMES)
        sounds.append((path.name, path.read_bytes()))
    row = {"input": "a.wav", "output": "a.wav", "state": "done", "gain_db": None, "length_s": 1.0, "digest": "x"}
    presets = [
        {"kind": "gate", "name": "G", "settings": {"threshold_db": -40.0}},
        {"kind": "path", "name": "P", "settings": {"steps": STEPS}},
    ]
    return {
        "audio": [*sounds, ("chunks.wav", chunked_wav()), ("rf64.wav", rf64())],
        "midi": [("map.mid", midi())],
        "presets": [("presets.json", json.dumps({"format": "salt anvil presets", "version": 3, "presets": presets}).encode())],
        "path": [("path.json", json.dumps({"format": FORMAT, "steps": STEPS}).encode())],
        "session": [("session.zip", session_file())],
        "journal": [("journal.jsonl", (json.dumps(row) + "\n").encode() * 3)],
        "sections": [("sections.csv", b"name,start_s,end_s\nVerse,0,8\nChorus,8,16\n")],
        "curve": [("curve.csv", b"input_db,output_db\n-60,-60\n0,-12\n"), ("curve.json", b"[[-60, -60], [0, -12]]")],
    }


WORDS = [
    b"[" * 15_000, b"{" * 3000, b"x" * 140_000, b"\0" * 40, b"\xff" * 8, b'"', b",", b"1e999", b"-1", b"nan", b"null", b"\r\n",
    b"ds64", b"data", b"RIFF", b"\xff\xff\xff\x7f", b"\xff\xff\xff\xff", "\u202e\U0001f3b5".encode(), b"=1+1", b"../", b"9" * 30,
]  # fmt: skip


def mutated(rng, data: bytes) -> bytes:
    """One to four changes: bits, bytes, runs that are cut, doubled, moved or put in, numbers at their ends, a cut end."""
    result = bytearray(data)
    for _ in range(rng.randint(1, 4)):
        # What lies in front decides most: half of all changes are made there.
        place = rng.randrange(min(len(result), 200) if rng.random() < 0.5 else len(result)) if result else 0
        size = rng.choice([1, 2, 4, 8, 64])
        match rng.randrange(9):
            case 0 if result:
                result[place] ^= 1 << rng.randrange(8)
            case 1:
                result[place : place + size] = rng.randbytes(size)
            case 2:
                del result[place : place + size]
            case 3:
                result[place:place] = result[place : place + size] * rng.randint(1, 3)
            case 4:
                result[place:place] = rng.choice(WORDS)
            case 5:
                result[place : place + 4] = struct.pack("<I", rng.choice([0, 1, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF]))
            case 6:
                result[place : place + 4] = struct.pack(">I", rng.choice([0, 1, 0x7FFFFFFF, 0xFFFFFFFF, len(result)]))
            case 7:
                del result[rng.randrange(len(result)) if result else 0 :]
            case _:
                word = rng.choice(WORDS)
                result[place : place + len(word)] = word
    return bytes(result)
