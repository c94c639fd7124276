"""The demo session "Low Water" by the Slack Tide Five of Kelpwick: 32 bars, ten tracks, and faults of known size."""

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.demo import synth
from saltanvil.demo.synth import RATE, Sound
from saltanvil.session.document.automation import Lever
from saltanvil.session.document.path import Key, Path, Step
from saltanvil.session.document.session import Section, Send, Session, Strip

TEMPO_BPM = 84.0
BEAT_S = 60.0 / TEMPO_BPM
BAR_S = 4 * BEAT_S
SECTIONS = (("Intro", 0, 4), ("Verse", 4, 12), ("Chorus", 12, 20), ("Bridge", 20, 24), ("Last chorus", 24, 32))
BARS = 32
LENGTH_S = BARS * BAR_S + 1.0
FRAMES = round(LENGTH_S * RATE)


@dataclass(frozen=True)
class LowWaterFaults:
    """What is wrong with the tracks, and by how much: ground truth for tests and for judging a treatment."""

    #: Snare hits this much over the rest, as (bar, beat) counted from 0.
    stray_snare_db: float = 6.0
    stray_snare: tuple[tuple[int, int], ...] = ((6, 3), (9, 1), (13, 1), (15, 3), (18, 3), (22, 1), (26, 3), (29, 1))
    #: Spread between the softest and the loudest bass note, and the boom.
    bass_spread_db: float = 10.0
    bass_boom_hz: float = 55.0
    bass_boom_db: float = 8.0
    #: The bass has hardly anything above this: on small speakers it is gone.
    bass_dark_hz: float = 150.0
    #: Centre of the voice's sibilants, and their peak over the vowels' usual level.
    sibilant_hz: float = 7000.0
    #: RMS of the room in the voice track.
    room_dbfs: float = -52.0
    #: Peak of the hats in the kick track.
    hat_bleed_dbfs: float = -30.0
    #: The overheads' ring.
    ring_hz: float = 4200.0
    ring_db: float = 14.0
    #: Mud in the organ.
    mud_hz: float = 250.0
    mud_db: float = 7.0
    #: Loudness of the chorus over the verse, whole mix.
    chorus_over_verse_lu: float = 8.0


FAULTS = LowWaterFaults()
CHORDS = {
    "Am": (57, 60, 64), "F": (53, 57, 60), "C": (60, 64, 67), "G": (55, 59, 62), "Dm": (50, 53, 57), "Em": (52, 55, 59),
}  # fmt: skip
ROOTS = {"Am": 33, "F": 29, "C": 36, "G": 31, "Dm": 38, "Em": 28}
PROGRESSION = (
    ["Am", "F", "C", "G"] * 3 + ["F", "G", "Am", "C", "F", "G", "Am", "Am"] + ["Dm", "Em", "F", "G"]
    + ["F", "G", "Am", "C", "F", "G", "Am", "Am"]
)  # fmt: skip
#: How hard the band plays, by section.
FORCE = {"Intro": 0.30, "Verse": 0.235, "Chorus": 1.0, "Bridge": 0.6, "Last chorus": 1.05}


def frames_of(section: str) -> tuple[int, int]:
    """The first frame of a section, and the first after it."""
    return next((round(first * BAR_S * RATE), round(last * BAR_S * RATE)) for name, first, last in SECTIONS if name == section)


def midi_to_hz(note: float) -> float:
    return float(440.0 * 2.0 ** ((note - 69.0) / 12.0))


def section_of(bar: int) -> str:
    return next(name for name, first, last in SECTIONS if first <= bar < last)


def loud(bar: int) -> bool:
    return "horus" in section_of(bar)


def put(track: Sound, sound: Sound, at_s: float, gain: float = 1.0) -> None:
    """Add a sound to a track at a time."""
    start = round(at_s * RATE)
    count = min(len(sound), len(track) - start)
    if count > 0:
        track[start : start + count] += gain * sound[:count]


def decibels(db: float) -> float:
    return float(10.0 ** (db / 20.0))


def peak_to(x: NDArray[np.float64], dbfs: float) -> NDArray[np.float64]:
    return np.asarray(x * (decibels(dbfs) / np.abs(x).max()))


def hat_times() -> Iterator[tuple[float, float, int]]:
    """(time, gain, bar) of the hats and rides in eighths."""
    for bar in range(2, BARS):
        for eighth in range(8):
            yield (
                bar * BAR_S + eighth * BEAT_S / 2,
                (1.0 if eighth % 2 == 0 else 0.62) * FORCE[section_of(bar)] ** 0.5,
                bar,
            )


def kick_times() -> Iterator[tuple[float, float]]:
    for bar in range(2, BARS):
        beats = (0.0, 1.75, 2.0) if loud(bar) else (0.0, 2.5) if section_of(bar) != "Bridge" else (0.0,)
        for beat in beats:
            yield bar * BAR_S + beat * BEAT_S, (1.0 if beat != 1.75 else 0.7) * (0.40 + 0.60 * FORCE[section_of(bar)])


def snare_times() -> Iterator[tuple[float, float]]:
    """Main hits vary within 1 dB, but for the stray ones."""
    rng = np.random.default_rng(42)
    for bar in range(4, BARS):
        for beat in (1, 3):
            force = decibels(float(rng.uniform(-0.5, 0.5))) * FORCE[section_of(bar)] ** 0.8
            stray = decibels(FAULTS.stray_snare_db) if (bar, beat) in FAULTS.stray_snare else 1.0
            yield bar * BAR_S + beat * BEAT_S + 0.004, force * stray
        if loud(bar) and bar % 2:
            yield bar * BAR_S + 2.75 * BEAT_S, 0.10 * FORCE[section_of(bar)]


def make_kick() -> NDArray[np.float64]:
    rng = np.random.default_rng(1)
    track, bleed = np.zeros(FRAMES), np.zeros(FRAMES)
    hits = [synth.kick(rng) for _ in range(4)]
    for index, (at, gain) in enumerate(kick_times()):
        put(track, hits[index % 4], at, gain)
    hats = [synth.metal(rng, 0.2, 0.05, 5200.0) for _ in range(4)]
    for index, (at, gain, _) in enumerate(hat_times()):
        put(bleed, hats[index % 4], at, gain)
    bleed = peak_to(synth.filtered(bleed, ("low-pass", 9000.0, 0.7, 0.0)), FAULTS.hat_bleed_dbfs)
    return (peak_to(track, -6.0) + bleed)[None]


def make_snare() -> NDArray[np.float64]:
    rng = np.random.default_rng(2)
    track = np.zeros(FRAMES)
    hits = [synth.snare(rng) for _ in range(4)]
    hits = [hit / np.abs(hit).max() for hit in hits]
    for index, (at, gain) in enumerate(snare_times()):
        put(track, hits[index % 4], at, gain)
    hats, body = [synth.metal(rng, 0.2, 0.05, 5200.0) for _ in range(3)], synth.kick(rng)
    for index, (at, gain, _) in enumerate(hat_times()):
        put(track, hats[index % 3], at + 0.001, 0.035 * gain)
    for at, gain in kick_times():
        put(track, body, at + 0.002, 0.02 * gain)
    room = synth.filtered(rng.standard_normal(FRAMES), ("low-pass", 4000.0, 0.7, 0.0))
    return (peak_to(track, -1.5) + 0.0006 * room)[None]


def make_overheads() -> NDArray[np.float64]:
    rng = np.random.default_rng(3)
    left, right = np.zeros(FRAMES), np.zeros(FRAMES)
    hats = [synth.metal(rng, 0.25, 0.055, 5400.0) for _ in range(4)]
    rides = [synth.metal(rng, 1.6, 0.55, 3300.0) for _ in range(3)]
    crash = [synth.metal(rng, 4.0, 1.3, 2600.0, 60) for _ in range(2)]
    for index, (at, gain, bar) in enumerate(hat_times()):
        sound = rides[index % 3] * 0.42 if loud(bar) else hats[index % 4] * 0.5
        put(left, sound, at, gain * (0.5 if loud(bar) else 0.9))
        put(right, sound, at + 0.0003, gain * (0.9 if loud(bar) else 0.5))
    for number, bar in enumerate((4, 12, 16, 20, 24, 28)):
        put(left, crash[number % 2], bar * BAR_S, 0.9 * FORCE[section_of(bar)])
        put(right, crash[(number + 1) % 2], bar * BAR_S, 0.8 * FORCE[section_of(bar)])
    drums = np.zeros(FRAMES)
    body, wires = synth.kick(rng), synth.snare(rng)
    for at, gain in kick_times():
        put(drums, body, at + 0.003, 0.35 * gain)
    for at, gain in snare_times():
        put(drums, wires, at + 0.003, 0.5 * gain / (1.0 if gain < 1.3 else decibels(3.0)))
    both = [synth.filtered(side + drums, ("bell", FAULTS.ring_hz, 30.0, FAULTS.ring_db)) for side in (left, right)]
    return peak_to(np.stack(both), -7.0)


def make_bass() -> NDArray[np.float64]:
    rng = np.random.default_rng(4)
    track = np.zeros(FRAMES)
    half = FAULTS.bass_spread_db / 2
    for bar in range(2, BARS):
        root = ROOTS[PROGRESSION[bar]]
        force = FORCE[section_of(bar)]
        notes = ((0.0, 0), (1.5, 0), (2.0, 7), (3.0, 0), (3.5, 12)) if loud(bar) else ((0.0, 0), (2.5, 7))
        for index, (beat, step) in enumerate(notes):
            last = notes[index + 1][0] if index + 1 < len(notes) else 4.0
            uneven = (0.0, half, -half, 0.4 * half, -0.6 * half)[(bar * 3 + index) % 5]
            tone = synth.string(rng, midi_to_hz(root + step), (last - beat) * BEAT_S * 0.96, 2.6, 0.52, 0.9)
            put(track, tone, bar * BAR_S + beat * BEAT_S, decibels(uneven) * force**0.5)
    track = synth.filtered(
        track,
        ("low-pass", FAULTS.bass_dark_hz, 0.54, 0.0),
        ("low-pass", FAULTS.bass_dark_hz, 1.31, 0.0),
        ("bell", FAULTS.bass_boom_hz, 4.0, FAULTS.bass_boom_db),
        ("high-pass", 28.0, 0.7, 0.0),
    )
    return peak_to(track, -5.0)[None]


def make_guitar(seed: int, late_s: float, octave: int) -> NDArray[np.float64]:
    rng = np.random.default_rng(seed)
    track = np.zeros(FRAMES)
    for bar in range(BARS):
        chord = CHORDS[PROGRESSION[bar]]
        voicing = [note + octave for note in (chord[0] - 12, *chord, chord[0] + 12)]
        force = FORCE[section_of(bar)]
        if loud(bar):
            for eighth in (0, 1, 3, 4, 6, 7):
                for order, note in enumerate(voicing if eighth % 2 == 0 else voicing[::-1]):
                    tone = synth.string(rng, midi_to_hz(note), 0.62 * BEAT_S, 1.4, 0.72, 0.25)
                    put(
                        track,
                        tone,
                        bar * BAR_S + eighth * BEAT_S / 2 + 0.007 * order + late_s,
                        0.5 * force * rng.uniform(0.8, 1.0),
                    )
        else:
            for eighth in range(8):
                note = voicing[(eighth * 2 + seed) % len(voicing)]
                tone = synth.string(rng, midi_to_hz(note), 1.6 * BEAT_S, 2.2, 0.62, 0.5)
                put(track, tone, bar * BAR_S + eighth * BEAT_S / 2 + late_s, 0.75 * force * rng.uniform(0.75, 1.0))
    track = np.tanh(1.6 * synth.filtered(track, ("high-pass", 90.0, 0.7, 0.0), ("bell", 1800.0, 0.8, 3.0)) / 3.0)
    return peak_to(synth.filtered(track, ("low-pass", 6500.0, 0.7, 0.0)), -8.0)[None]


def make_organ() -> NDArray[np.float64]:
    track = np.zeros(FRAMES)
    for bar in range(4, BARS):
        force = FORCE[section_of(bar)]
        for index, note in enumerate(CHORDS[PROGRESSION[bar]]):
            put(track, synth.organ(midi_to_hz(note), BAR_S * 0.99, index + bar), bar * BAR_S, 0.3 * force)
    track = synth.filtered(track, ("bell", FAULTS.mud_hz, 1.4, FAULTS.mud_db), ("low-pass", 7000.0, 0.7, 0.0))
    return peak_to(track, -11.0)[None]


#: (beat in the phrase, length in beats, midi note, vowel, begins with an s)
VERSE_LINE = (
    (0.5, 0.5, 57, "o", False), (1.0, 0.5, 60, "a", True), (1.5, 1.0, 62, "e", False), (2.5, 0.5, 60, "i", True),
    (3.0, 1.5, 57, "o", False), (5.0, 0.5, 57, "i", False), (5.5, 0.5, 60, "e", True), (6.0, 0.9, 55, "a", False),
)  # fmt: skip
CHORUS_LINE = (
    (0.0, 1.0, 65, "a", True), (1.0, 0.5, 64, "e", False), (1.5, 1.0, 67, "i", True), (2.5, 1.4, 64, "o", False),
    (4.0, 1.0, 69, "a", False), (5.0, 0.5, 67, "e", True), (5.5, 0.5, 64, "i", False), (6.0, 1.8, 60, "o", False),
)  # fmt: skip


def syllables() -> Iterator[tuple[float, float, int, str, bool, float]]:
    """(start, length, note, vowel, begins with an s, force) of the lead voice, phrase by phrase of two bars."""
    for bar in range(4, BARS, 2):
        name = section_of(bar)
        if name == "Bridge" and bar >= 22:
            continue
        line = CHORUS_LINE if loud(bar) else VERSE_LINE
        for beat, length, note, vowel, hiss in line:
            yield (
                bar * BAR_S + beat * BEAT_S,
                length * BEAT_S,
                note - (3 if name == "Bridge" else 0),
                vowel,
                hiss,
                FORCE[name],
            )


def phrase_gaps() -> list[tuple[float, float]]:
    """Stretches of the voice track with nothing but the room, each over 0.5 s, with 0.15 s kept clear."""
    spans = sorted((start - 0.14, start + length) for start, length, *_ in syllables())
    gaps, at = [], 0.0
    for start, end in [*spans, (LENGTH_S, LENGTH_S)]:
        if start - at > 0.8:
            gaps.append((at + 0.15, start - 0.15))
        at = max(at, end)
    return gaps


def voice_track(seed: int, transpose: int, drift: float, words: list[tuple[float, float, int, str, bool, float]]) -> Sound:
    """Sung syllables without sibilants."""
    rng = np.random.default_rng(seed)
    controls = FRAMES // synth.CONTROL_FRAMES + 2
    t = np.arange(controls) * synth.CONTROL_FRAMES / RATE
    frequency, strength = np.full(controls, 110.0), np.zeros(controls)
    formants = np.tile(np.array(synth.VOWELS["a"])[:, None], (1, controls))
    for start, length, note, vowel, _, force in words:
        a, b = np.searchsorted(t, [start - 0.05, start + length + 0.05])
        local = t[a:b] - start
        hz = midi_to_hz(note - 12 + transpose)
        vibrato = 1.0 + 0.008 * np.sin(2 * np.pi * 5.4 * local + seed) * np.clip((local - 0.25) / 0.3, 0.0, 1.0)
        frequency[a:b] = hz * vibrato * (1.0 + drift + 0.03 * np.exp(-np.maximum(local, 0.0) / 0.04) * -1.0)
        shape = np.clip((local + 0.01) / 0.045, 0.0, 1.0) * np.clip((length - local) / 0.09, 0.0, 1.0)
        strength[a:b] = np.maximum(strength[a:b], shape * (0.40 + 0.60 * force))
        formants[:, a:] = np.array(synth.VOWELS[vowel])[:, None]
    smooth = np.hanning(23) / np.hanning(23).sum()
    formants = np.ascontiguousarray(np.stack([np.convolve(np.pad(row, 11, mode="edge"), smooth, "valid") for row in formants]))
    frequency = np.convolve(np.pad(frequency, 5, mode="edge"), np.ones(11) / 11, "valid")
    return synth.sing(rng, frequency, strength, formants, FRAMES)


def make_voice() -> NDArray[np.float64]:
    rng = np.random.default_rng(7)
    words = list(syllables())
    track = peak_to(voice_track(7, 0, 0.0, words), -6.0)
    for start, _, _, _, hiss, force in words:
        if hiss:
            put(track, synth.sibilant(rng, 0.13, FAULTS.sibilant_hz), start - 0.115, 0.30 * (0.5 + 0.5 * force))
    room = synth.filtered(rng.standard_normal(FRAMES), ("low-pass", 5000.0, 0.7, 0.0), ("bell", 120.0, 1.0, 6.0))
    room *= decibels(FAULTS.room_dbfs) / np.sqrt(np.mean(room**2))
    return (track + room)[None]


def make_backing() -> NDArray[np.float64]:
    sides = np.zeros((2, FRAMES))
    words = [
        (bar * BAR_S, BAR_S * 0.97, CHORDS[PROGRESSION[bar]][0] + 12, "o" if bar % 2 else "a", False, 0.8)
        for bar in range(12, BARS)
        if loud(bar)
    ]
    for part, (third, pan) in enumerate(((0, 0.2), (4, 0.5), (7, 0.8))):
        voice = voice_track(20 + part, third, 0.002 * (part - 1), words)
        sides[0] += voice * np.cos(pan * np.pi / 2)
        sides[1] += voice * np.sin(pan * np.pi / 2)
    return peak_to(sides, -12.0)


def make_echo(voice: NDArray[np.float64]) -> NDArray[np.float64]:
    """Four repeats a dotted eighth apart, each duller and 5 dB softer."""
    track = np.zeros(FRAMES)
    repeat = voice[0]
    for count in range(1, 5):
        repeat = synth.filtered(repeat, ("low-pass", 3200.0, 0.7, 0.0), ("high-pass", 250.0, 0.7, 0.0))
        put(track, repeat, count * 0.75 * BEAT_S, decibels(-5.0 * count))
    return peak_to(track, -14.0)[None]


TRACKS: tuple[tuple[str, str, float, float], ...] = (
    # name, bus, level, pan
    ("Kick", "drums", -4.0, 0.0),
    ("Snare", "drums", -5.0, 0.05),
    ("Overheads", "drums", -7.0, 0.0),
    ("Bass", "band", -5.0, 0.0),
    ("Guitar left", "band", -10.0, -0.7),
    ("Guitar right", "band", -10.0, 0.7),
    ("Organ", "band", -9.0, -0.2),
    ("Lead voice", "voices", -3.5, 0.0),
    ("Backing voices", "voices", -9.0, 0.0),
    ("Echo", "voices", -8.0, 0.15),
)


def synthesise(progress: Callable[[float], None] = lambda share: None) -> dict[str, NDArray[np.float32]]:
    """All tracks by name, (channels, FRAMES), on two threads."""
    makers: dict[str, Callable[[], NDArray[np.float64]]] = {
        "Lead voice": make_voice,
        "Backing voices": make_backing,
        "Guitar left": lambda: make_guitar(5, 0.0, 0),
        "Guitar right": lambda: make_guitar(6, 0.009, 0),
        "Overheads": make_overheads,
        "Organ": make_organ,
        "Bass": make_bass,
        "Kick": make_kick,
        "Snare": make_snare,
    }
    tracks: dict[str, NDArray[np.float64]] = {}
    with ThreadPoolExecutor(2) as pool:
        futures = {name: pool.submit(maker) for name, maker in makers.items()}
        for count, (name, future) in enumerate(futures.items()):
            tracks[name] = future.result()
            progress((count + 1) / (len(makers) + 1))
    tracks["Echo"] = make_echo(tracks["Lead voice"])
    return {name: np.ascontiguousarray(sound, dtype=np.float32) for name, sound in tracks.items()}


def path_of(name: str) -> Path:
    """The treatment the demo starts with. Steps with keys, and those that hold resonances down, come from `AROUND`."""
    steps: dict[str, list[tuple[str, dict[str, float | str]]]] = {
        "Kick": [("equaliser", {"band2_frequency_hz": 320.0, "band2_gain_db": -3.0})],
        "Snare": [
            ("equaliser", {"band1_kind": "high-pass", "band1_frequency_hz": 90.0}),
            (
                "compressor",
                {"threshold_db": -18.0, "ratio": 4.0, "attack_ms": 3.2, "release_mode": "note", "release_note": "1/8"},
            ),
        ],
        "Bass": [
            # heard on small speakers; first, so that the compressor holds the notes and their harmonics together
            ("lowend", {"amount_db": -7.5, "odd_share": 0.6}),
            (
                "compressor",
                {"threshold_db": -20.0, "ratio": 3.0, "attack_ms": 15.0, "release_ms": 120.0, "makeup_db": 2.0},
            ),
        ],
        "Organ": [("equaliser", {"band2_frequency_hz": 250.0, "band2_gain_db": -2.0})],
        "Lead voice": [
            (
                "equaliser",
                {
                    "band1_kind": "high-pass",
                    "band1_frequency_hz": 80.0,
                    "band3_frequency_hz": 3000.0,
                    "band3_gain_db": 2.0,
                },
            ),
            (
                "compressor",
                {"threshold_db": -20.0, "ratio": 2.5, "attack_ms": 8.0, "release_mode": "automatic", "detector": "rms"},
            ),
            # after the compressor, so that soft and loud words get the same colour; nothing folds above -107 dB at 4x
            (
                "saturator",
                {"character": "tube", "drive_db": 4.0, "balance": 0.5, "high_emphasis_db": 3.0, "mix": 0.5, "oversampling": "4x"},
            ),
        ],
        "Drums": [
            ("compressor", {"threshold_db": -16.0, "ratio": 1.5, "attack_ms": 30.0, "release_mode": "automatic"}),
            # after the compressor, which lets the attacks through: the tape rounds them; at 4x folds are as low as at 16x
            ("saturator", {"character": "tape", "drive_db": 7.0, "balance": 0.8, "high_emphasis_db": -3.0, "oversampling": "4x"}),
        ],
    }
    parts = [
        Step.model_validate({"id": f"{name}-{index}".lower().replace(" ", "-"), "kind": kind, "settings": settings})
        for index, (kind, settings) in enumerate(steps.get(name, []))
    ]
    first, last = AROUND.get(name, ([], []))
    steps_of = [Step.model_validate(step) for step in [*first, *(step.model_dump() for step in parts), *last]]
    return Path(steps=steps_of, levers=LEVERS.get(name, []))


def tamed(step_id: str, studied: str, amount: float, *resonances: dict[str, float]) -> dict[str, object]:
    """A resonance tamer with what its study found."""
    settings = {"resonances": resonances, "studied": studied, "amount": amount, "output": "not held"}
    return {"id": step_id, "kind": "tamer", "settings": settings}


#: Steps before and after those of `path_of`: first what holds a track's own resonances down, as a study of it found them, and
#: those by which one sound makes way for another.
AROUND: dict[str, tuple[list[dict[str, object]], list[dict[str, object]]]] = {
    "Organ": ([
        tamed("organ-tamer", "Whole song, 0.0 to 91.4 s", 0.5,
              {"frequency_hz": 250.2, "width_oct": 0.845, "height_db": 6.6, "time_share": 1.0}),
    ], []),
    "Overheads": ([
        tamed("overheads-tamer", "Chorus, 34.3 to 57.1 s", 1.0,
              {"frequency_hz": 4211.4, "width_oct": 0.036, "height_db": 11.6, "time_share": 0.95}),
    ], []),
    "Snare": ([{
        "id": "snare-gate", "kind": "gate",  # opens on the crack alone, of its own sound
        "settings": {
            "threshold_db": -38.0, "hysteresis_db": 6.0, "attack_ms": 0.1, "hold_ms": 120.0, "release_ms": 120.0,
            "range_db": 18.0, "lookahead_ms": 1.0, "key_filter": "band", "key_low_hz": 1000.0, "key_high_hz": 5000.0,
        },
    }], []),
    "Bass": ([
        tamed("bass-tamer", "Chorus, 34.3 to 57.1 s", 0.4,
              {"frequency_hz": 55.1, "width_oct": 0.167, "height_db": 9.8, "time_share": 0.36}),
    ], [{
        "id": "bass-duck", "kind": "ducker", "key": Key(strip_id="kick").model_dump(),
        "settings": {"by": "hits", "threshold_db": -30.0, "depth_db": 6.0, "attack_ms": 1.0, "hold_ms": 20.0, "decay_ms": 25.0},
    }]),
    "Echo": ([], [{
        "id": "echo-duck", "kind": "ducker", "key": Key(strip_id="lead-voice").model_dump(),
        "settings": {"threshold_db": -34.0, "span_db": 12.0, "depth_db": 12.0, "attack_ms": 10.0, "hold_ms": 80.0,
                     "decay_ms": 300.0},
    }]),
    "Parallel drums": ([], [{
        "id": "parallel-drums-0", "kind": "compressor",
        "settings": {"threshold_db": -34.0, "ratio": 8.0, "attack_ms": 10.0, "release_mode": "note", "release_note": "1/8",
                     "makeup_db": 6.0},
    }, {
        "id": "parallel-drums-clipper", "kind": "clipper",  # harder where the song is at its fullest
        "settings": {"ceiling_db": -6.0, "hardness": 0.5, "oversampling": "1x"},
        "envelopes": {"drive_db": {"sections": {"last-chorus": 6.0}}},
    }]),
}  # fmt: skip
#: The main: subsonics, glue, tone of middle and sides, tape, and a limiter that takes two decibels in the choruses.
MAIN: list[dict[str, object]] = [
    {"id": "main-subsonics", "kind": "equaliser", "settings": {"band1_kind": "high-pass", "band1_frequency_hz": 22.0}},
    {"id": "main-glue", "kind": "compressor", "settings": {
        "threshold_db": -20.0, "ratio": 1.5, "attack_ms": 30.0, "release_mode": "automatic", "knee_db": 12.0, "detector": "rms",
    }},
    {"id": "main-sides", "kind": "split", "settings": {"by": "mid/side"}, "lanes": [
        {"id": "main-mid", "name": "Mid"},
        {"id": "main-side", "name": "Side", "path": {"steps": [{"id": "main-side-tone", "kind": "equaliser", "settings": {
            "band1_kind": "high-pass", "band1_frequency_hz": 120.0, "band4_kind": "high shelf", "band4_gain_db": 1.5,
        }}]}},
    ]},
    {"id": "main-tape", "kind": "saturator", "settings": {
        "character": "tape", "drive_db": 3.0, "balance": 0.8, "oversampling": "4x", "output": "not held",
        "compensate_drive": True,
    }},
    {"id": "main-limiter", "kind": "limiter", "settings": {
        "gain_db": 10.5, "ceiling_db": -1.0, "release_ms": 120.0, "lookahead_ms": 5.0, "warn_above_db": 2.0,
    }},
]  # fmt: skip
#: What it holds: the choruses stay so much louder than the intro.
KEEP_CONTRAST_LU = 13.0
#: One control for the drums' attack: more of it in the bridge.
LEVERS: dict[str, list[Lever]] = {
    "Drums": [
        Lever.model_validate({
            "id": "drums-bite", "name": "Bite", "envelopes": {"value": {"sections": {"bridge": 0.7}}},
            "targets": [
                {"of": "step", "id": "drums-0", "name": "threshold_db", "by": -6.0},
                {"of": "step", "id": "drums-0", "name": "ratio", "by": 1.6},
                {"of": "step", "id": "drums-1", "name": "drive_db", "by": 5.0},
            ],
        })
    ],
}  # fmt: skip
#: Level of the sends into one compressor that several drums share.
PARALLEL_SENDS = {"Kick": -8.0, "Snare": -6.0, "Overheads": -10.0}


def build_session(media_ids: dict[str, int]) -> Session:
    """The session over media by track name."""
    buses = [
        Strip(id=name, name=name.capitalize(), kind="bus", path=path_of(name.capitalize()))
        for name in ("drums", "band", "voices")
    ]
    buses.append(
        Strip(id="parallel", name="Parallel drums", kind="bus", output="drums", level_db=-16.0, path=path_of("Parallel drums"))
    )
    tracks = [
        Strip(
            id=name.lower().replace(" ", "-"), name=name, kind="track", media_id=media_ids[name],
            output=bus, level_db=level, pan=pan, path=path_of(name),
            sends=[
                Send(id=f"{name.lower()}-to-parallel", target="parallel", level_db=PARALLEL_SENDS[name])
            ] if name in PARALLEL_SENDS else [],
        )
        for name, bus, level, pan in TRACKS
    ]  # fmt: skip
    sections = [
        Section(id=name.lower().replace(" ", "-"), name=name, start_s=first * BAR_S, end_s=last * BAR_S)
        for name, first, last in SECTIONS
    ]
    main = Strip(id="main", name="Main", kind="main", output=None, path=Path.model_validate({"steps": MAIN}))
    return Session(
        name="Low Water", tempo_bpm=TEMPO_BPM, rate_hz=48000, keep_contrast_lu=KEEP_CONTRAST_LU, sections=sections,
        strips=[main, *buses, *tracks],
    )  # fmt: skip
