"""The demo session "Harbour Walk": a narrator leads through Kelpwick's harbour, over music, gulls and water.

What it is for: one sound makes way for another. The music goes down under the voice, the printed reverb of the voice and
its echo come up in the pauses only. The faults are written down and tested.
"""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.demo import synth
from saltanvil.demo.low_water import decibels, midi_to_hz, peak_to, put
from saltanvil.demo.synth import RATE, Sound
from saltanvil.processors.base import Context
from saltanvil.processors.room import Room, RoomSettings
from saltanvil.session.document.path import Key, Path, Step
from saltanvil.session.document.session import Section, Send, Session, Strip

TEMPO_BPM = 72.0
BEAT_S = 60.0 / TEMPO_BPM
BAR_S = 4 * BEAT_S
BARS = 18
LENGTH_S = BARS * BAR_S
FRAMES = round(LENGTH_S * RATE)
SECTIONS = (("Opening", 0, 3), ("Quay", 3, 9), ("Fish market", 9, 15), ("Farewell", 15, 18))


@dataclass(frozen=True)
class HarbourWalkFaults:
    """What is wrong with the tracks, and by how much."""

    #: RMS of the room in the narrator's track.
    room_dbfs: float = -54.0
    #: Peak of a breath before each phrase, where the vowels peak at -8 dBFS.
    breath_dbfs: float = -30.0
    #: The music's RMS in the passages with words: so near to the voice that words are covered.
    bed_dbfs: float = -22.0


FAULTS = HarbourWalkFaults()
#: Phrases: where each begins, in seconds, and its syllables.
PHRASES = (
    (10.4, 13), (15.2, 9), (19.4, 14), (25.9, 7), (28.5, 11), (34.2, 15), (39.2, 8), (42.0, 11), (47.6, 11), (52.9, 9),
)  # fmt: skip
SYLLABLE_S = 0.19
VOWELS = ("a", "e", "i", "o", "u", "e", "a", "o")


def syllables() -> list[tuple[float, float, float, str, bool]]:
    """(start, length, pitch in Hz, vowel, begins with a hiss) of all the narrator's words."""
    rng = np.random.default_rng(71)
    onsets = []
    for start, count in PHRASES:
        at = start
        for number in range(count):
            stressed = number % 3 == 0
            length = SYLLABLE_S * rng.uniform(0.75, 1.05) * (1.35 if stressed else 1.0) * (1.5 if number == count - 1 else 1.0)
            hz = 118.0 * (1.0 - 0.22 * number / count) * rng.uniform(0.97, 1.03) * (1.12 if stressed else 1.0)
            onsets.append((at, length, hz, VOWELS[int(rng.integers(len(VOWELS)))], bool(rng.random() < 0.28)))
            at += length + (0.02 if number % 4 else 0.05)
    return onsets


def spoken() -> list[tuple[float, float]]:
    """Start and end of each phrase."""
    words = syllables()
    onsets = []
    for start, count in PHRASES:
        own = [(at, at + length) for at, length, *_ in words if at >= start - 0.01][:count]
        onsets.append((own[0][0], own[-1][1]))
    return onsets


def make_narrator() -> NDArray[np.float64]:
    rng = np.random.default_rng(72)
    controls = FRAMES // synth.CONTROL_FRAMES + 2
    t = np.arange(controls) * synth.CONTROL_FRAMES / RATE
    frequency, strength = np.full(controls, 110.0), np.zeros(controls)
    formants = np.tile(np.array(synth.VOWELS["a"])[:, None], (1, controls))
    words = syllables()
    for start, length, hz, vowel, _ in words:
        a, b = np.searchsorted(t, [start - 0.02, start + length + 0.02])
        local = t[a:b] - start
        frequency[a:b] = hz * (1.0 - 0.06 * local / length)
        shape = np.clip((local + 0.005) / 0.02, 0.0, 1.0) * np.clip((length - local) / 0.05, 0.0, 1.0)
        strength[a:b] = np.maximum(strength[a:b], shape * rng.uniform(0.7, 1.0))
        formants[:, a:] = np.array(synth.VOWELS[vowel])[:, None]
    smooth = np.hanning(15) / np.hanning(15).sum()
    formants = np.ascontiguousarray(np.stack([np.convolve(np.pad(row, 7, mode="edge"), smooth, "valid") for row in formants]))
    frequency = np.convolve(np.pad(frequency, 5, mode="edge"), np.ones(11) / 11, "valid")
    track = peak_to(synth.sing(rng, frequency, strength, formants, FRAMES), -8.0)
    for start, _, _, _, hiss in words:
        if hiss:
            put(track, synth.sibilant(rng, 0.08, 6200.0), start - 0.07, 0.16)
        else:
            burst = synth.filtered(rng.standard_normal(900), ("bell", 2500.0, 0.8, 8.0)) * np.exp(-np.arange(900) / 160.0)
            put(track, burst, start - 0.008, 0.006)
    for start, _ in spoken():
        breath = synth.filtered(
            rng.standard_normal(round(0.38 * RATE)), ("bell", 1500.0, 0.8, 9.0), ("high-pass", 500.0, 0.7, 0.0)
        )
        breath *= np.sin(np.pi * np.arange(len(breath)) / len(breath)) ** 1.5
        put(track, np.asarray(breath * decibels(FAULTS.breath_dbfs) / np.abs(breath).max()), start - 0.5)
    room = synth.filtered(rng.standard_normal(FRAMES), ("low-pass", 3500.0, 0.7, 0.0), ("bell", 100.0, 1.0, 8.0))
    room *= decibels(FAULTS.room_dbfs) / np.sqrt(np.mean(room**2))
    return (track + room)[None]


CHORDS = ((50, 57, 62, 66), (47, 54, 62, 66), (43, 55, 59, 62), (45, 52, 61, 64))


def make_bed() -> NDArray[np.float64]:
    """Organ chords and a plucked figure over them, wide."""
    rng = np.random.default_rng(73)
    left, right = np.zeros(FRAMES), np.zeros(FRAMES)
    for bar in range(BARS):
        chord = CHORDS[bar % 4]
        for index, note in enumerate(chord):
            tone = synth.organ(midi_to_hz(note), BAR_S * 1.02, index + 0.7 * bar)
            put(left, tone, bar * BAR_S, 0.20 - 0.03 * index)
            put(right, np.asarray(tone[::1]), bar * BAR_S + 0.011, 0.11 + 0.03 * index)
        for eighth in range(8):
            note = chord[(eighth * 3 + bar) % 4] + 12
            tone = synth.string(rng, midi_to_hz(note), 1.8 * BEAT_S, 2.4, 0.55, 0.6)
            side = 0.5 + 0.35 * np.sin(eighth + bar)
            put(left, tone, bar * BAR_S + eighth * BEAT_S / 2, 0.5 * (1.0 - side))
            put(right, tone, bar * BAR_S + eighth * BEAT_S / 2, 0.5 * side)
    bed = np.stack(
        [synth.filtered(side, ("low-pass", 6000.0, 0.7, 0.0), ("high-pass", 60.0, 0.7, 0.0)) for side in (left, right)]
    )
    fade = np.clip(np.arange(FRAMES) / RATE / 1.5, 0.0, 1.0) * np.clip((LENGTH_S - np.arange(FRAMES) / RATE) / 3.0, 0.0, 1.0)
    first, last = round(3 * BAR_S * RATE), round(15 * BAR_S * RATE)
    return np.asarray(bed * fade * decibels(FAULTS.bed_dbfs) / np.sqrt(np.mean(bed[:, first:last] ** 2)))


def make_water() -> NDArray[np.float64]:
    """Waves that come and go at the quay wall, each side in its own time."""
    rng = np.random.default_rng(74)
    t = np.arange(FRAMES) / RATE
    sides = []
    for phase in (0.0, 1.9):
        swell = 0.35 + 0.65 * (0.5 + 0.5 * np.sin(2 * np.pi * t / 5.3 + phase)) ** 3
        low = synth.filtered(rng.standard_normal(FRAMES), ("low-pass", 700.0, 0.7, 0.0), ("high-pass", 120.0, 0.7, 0.0))
        spray = synth.filtered(rng.standard_normal(FRAMES), ("high-pass", 2500.0, 0.7, 0.0))
        sides.append(low * swell + 0.16 * spray * swell**2)
    return peak_to(np.stack(sides), -14.0)


def gull(rng: np.random.Generator) -> Sound:
    """Cries that fall, with a few harmonics."""
    out = np.zeros(round(2.2 * RATE))
    at = 0.0
    for _ in range(int(rng.integers(3, 6))):
        length = rng.uniform(0.22, 0.38)
        t = synth.seconds(length)
        hz = rng.uniform(1150, 1350) * (1.0 + 0.45 * np.exp(-t / 0.05) - 0.35 * t / length)
        phase = 2 * np.pi * np.cumsum(hz) / RATE
        cry = sum(gain * np.sin(n * phase) for n, gain in ((1, 1.0), (2, 0.6), (3, 0.3), (4, 0.12)))
        put(out, np.asarray(cry * np.sin(np.pi * t / length) ** 0.8), at)
        at += length + rng.uniform(0.06, 0.14)
    return out


def make_gulls() -> NDArray[np.float64]:
    rng = np.random.default_rng(75)
    sides = np.zeros((2, FRAMES))
    for start in (1.2, 5.8, 13.9, 18.4, 24.3, 31.4, 37.1, 44.9, 50.2, 56.6):
        cry, pan, gain = gull(rng), rng.uniform(0.15, 0.85), rng.uniform(0.35, 1.0)
        put(sides[0], cry, start, gain * np.cos(pan * np.pi / 2))
        put(sides[1], cry, start + 0.0004, gain * np.sin(pan * np.pi / 2))
    return peak_to(np.stack([synth.filtered(side, ("low-pass", 5200.0, 0.7, 0.0)) for side in sides]), -16.0)


def make_reverb(narrator: NDArray[np.float64]) -> NDArray[np.float64]:
    """The narrator in a hall, printed: nothing of the dry voice."""
    settings = RoomSettings(size="hall", decay_s=2.6, predelay_ms=40.0, damping_hz=4500.0, mix=1.0)
    voice = np.repeat(narrator.astype(np.float32), 2, axis=0)
    return peak_to(
        np.asarray(Room(settings, 2, Context(rate=RATE)).process(np.ascontiguousarray(voice)), dtype=np.float64), -12.0
    )


def synthesise(progress: Callable[[float], None] = lambda share: None) -> dict[str, NDArray[np.float32]]:
    """All tracks by name, (channels, FRAMES)."""
    makers: dict[str, Callable[[], NDArray[np.float64]]] = {
        "Narrator": make_narrator, "Music bed": make_bed, "Water": make_water, "Gulls": make_gulls,
    }  # fmt: skip
    tracks: dict[str, NDArray[np.float64]] = {}
    with ThreadPoolExecutor(2) as pool:
        futures = {name: pool.submit(maker) for name, maker in makers.items()}
        for count, (name, future) in enumerate(futures.items()):
            tracks[name] = future.result()
            progress((count + 1) / (len(makers) + 1))
    tracks["Printed reverb"] = make_reverb(tracks["Narrator"])
    progress(1.0)
    return {name: np.ascontiguousarray(sound, dtype=np.float32) for name, sound in tracks.items()}


def step(step_id: str, kind: str, key: Key | None = None, **settings: float | str) -> Step:
    keyed = {"key": key} if key is not None else {}
    return Step.model_validate({"id": step_id, "kind": kind, "settings": settings, **keyed})


def build_session(media_ids: dict[str, int]) -> Session:
    """The session over media by track name."""
    dry = Key(strip_id="narrator")
    narrator = [
        step("narrator-low", "equaliser", band1_kind="high-pass", band1_frequency_hz=75.0),
        step("narrator-gate", "expander", threshold_db=-40.0, ratio=2.5, range_db=18.0, hold_ms=120.0, release_ms=160.0),
        step("narrator-level", "compressor", threshold_db=-26.0, ratio=2.0, attack_ms=6.0, release_ms=120.0, makeup_db=4.0),
    ]
    bed = [
        step("bed-duck", "ducker", dry, threshold_db=-40.0, span_db=6.0, depth_db=9.0, attack_ms=80.0, hold_ms=450.0,
             decay_ms=900.0)
    ]  # fmt: skip
    reverb = [
        step("reverb-duck", "ducker", dry, threshold_db=-42.0, span_db=10.0, depth_db=14.0, attack_ms=10.0, hold_ms=90.0,
             decay_ms=450.0)
    ]  # fmt: skip
    echo = [
        step("echo-repeats", "echo", note="1/4d", feedback=0.42, low_hz=300.0, high_hz=2800.0, cross=1.0, mix=1.0),
        step("echo-duck", "ducker", dry, threshold_db=-42.0, span_db=10.0, depth_db=18.0, attack_ms=10.0, hold_ms=60.0,
             decay_ms=300.0),
    ]  # fmt: skip
    strips = [
        Strip(id="main", name="Main", kind="main", output=None),
        Strip(id="voice", name="Voice", kind="bus"),
        Strip(id="harbour", name="Harbour", kind="bus", level_db=-2.0),
        Strip(id="bed", name="Music bed", kind="track", media_id=media_ids["Music bed"], level_db=2.0, path=Path(steps=bed)),
        Strip(
            id="narrator", name="Narrator", kind="track", media_id=media_ids["Narrator"], output="voice",
            path=Path(steps=narrator), sends=[Send(id="narrator-to-echo", target="echo", level_db=-9.0)],
        ),
        Strip(
            id="reverb", name="Printed reverb", kind="track", media_id=media_ids["Printed reverb"], output="voice",
            level_db=-8.0, path=Path(steps=reverb),
        ),
        Strip(id="echo", name="Echo off the quay", kind="bus", output="voice", level_db=-6.0, path=Path(steps=echo)),
        Strip(id="water", name="Water", kind="track", media_id=media_ids["Water"], output="harbour", level_db=-6.0),
        Strip(id="gulls", name="Gulls", kind="track", media_id=media_ids["Gulls"], output="harbour", level_db=-8.0),
    ]  # fmt: skip
    sections = [Section(name=name, start_s=first * BAR_S, end_s=last * BAR_S) for name, first, last in SECTIONS]
    return Session(name="Harbour Walk", tempo_bpm=TEMPO_BPM, rate_hz=48000, sections=sections, strips=strips)
