"""Sounds that no processor was tuned on: other tunings, players and rooms than the demo's, made anew from a seed.

FROZEN: these are what claims are judged by, so they are not changed to make one hold. `sound(kind, variant)` gives one channel at
48 kHz with -18 dBFS RMS while it sounds (`active_rms_db`, the working level of *Gain staging*); a variant is another instrument,
tempo and player. Strings, drums and voices are the usual models of the textbooks (decaying partials, noise through band-passes,
pulses through formants); their figures are invented.
"""

import functools
from collections.abc import Callable

import numpy as np
import scipy.signal
from numpy.typing import NDArray

from saltanvil.studies.importing.stage_gain import active_rms_db

RATE = 48000
SECONDS = 8.0
VARIANTS = range(5)
LEVEL_DB = -18.0
Sound = NDArray[np.float64]
Random = np.random.Generator
#: First four formants of five vowels, Hz, of an average speaker (after Peterson and Barney 1952; rounded, from memory).
FORMANTS = np.array(
    [[730, 1090, 2440, 3400], [270, 2290, 3010, 3600], [300, 870, 2240, 3300], [530, 1840, 2480, 3500], [570, 840, 2410, 3300]]
)


def times(seconds: float) -> Sound:
    return np.arange(round(seconds * RATE)) / RATE


def band(x: Sound, low: float, high: float, order: int = 2) -> Sound:
    return np.asarray(scipy.signal.sosfilt(scipy.signal.butter(order, (low, high), "band", fs=RATE, output="sos"), x))


def place(line: Sound, at_s: float, event: Sound, gain: float = 1.0) -> None:
    start = round(at_s * RATE)
    count = min(len(event), len(line) - start)
    if count > 0:
        line[start : start + count] += gain * event[:count]


def player(rng: Random, every_s: float, uneven_db: float) -> list[tuple[float, float]]:
    """(time, strength) of a player who is neither exact nor even."""
    steps = np.arange(0.1, SECONDS - 0.2, every_s)
    return [(float(at + rng.normal(0.0, 0.004)), float(10.0 ** (-abs(rng.normal(0.0, uneven_db)) / 20.0))) for at in steps]


def one_kick(rng: Random, hz: float) -> Sound:
    t = times(0.6)
    fall, bend = rng.uniform(0.1, 0.25), rng.uniform(1.0, 2.5)
    body = np.sin(2 * np.pi * hz * (t + bend * 0.02 * (1.0 - np.exp(-t / 0.02)))) * np.exp(-t / fall)
    return np.asarray(body + rng.uniform(0.1, 0.5) * band(rng.standard_normal(len(t)), 1500, 6000) * np.exp(-t / 0.005))


def one_snare(rng: Random, hz: float) -> Sound:
    t = times(0.5)
    shell = np.sin(2 * np.pi * hz * t) + 0.6 * np.sin(2 * np.pi * 1.593 * hz * t)
    wires = band(rng.standard_normal(len(t)), 1200, 11000)
    return np.asarray(0.7 * shell * np.exp(-t / 0.07) + wires * np.exp(-t / rng.uniform(0.06, 0.12)))


def one_hat(rng: Random, open_s: float) -> Sound:
    t = times(0.5)
    return np.asarray(band(rng.standard_normal(len(t)), rng.uniform(4500, 7000), 17000) * np.exp(-t / open_s))


def plucked(rng: Random, hz: float, seconds: float, bright: float) -> Sound:
    """Slightly stretched partials, each decaying faster than the one below; where it is plucked, some are missing."""
    t, note = times(seconds), np.zeros(round(seconds * RATE))
    where = rng.uniform(0.12, 0.3)
    for n in range(1, min(24, int(18000 / hz))):
        strength = abs(np.sin(np.pi * n * where)) / n**bright
        stretched = n * hz * np.sqrt(1.0 + 0.00008 * n * n)
        note += strength * np.exp(-t * (1.2 + 0.5 * n)) * np.sin(2 * np.pi * stretched * t + rng.uniform(0, 6.28))
    return np.asarray(note * np.minimum(t / 0.003, 1.0))


def room(rng: Random, x: Sound, decay_s: float, wet: float) -> Sound:
    t = times(2.0 * decay_s)
    tail = band(rng.standard_normal(len(t)), 150, 7000) * np.exp(-6.9 * t / decay_s)
    return np.asarray(x + wet * scipy.signal.fftconvolve(x, tail / np.sqrt((tail**2).sum()))[: len(x)])


def voiced(rng: Random, hz: Sound, vowels: list[tuple[float, int]], size: float) -> Sound:
    """A train of pulses through formants that move from vowel to vowel."""
    frames = len(hz)
    phase = np.cumsum(hz / RATE)
    pulses = np.diff(np.floor(phase), prepend=0.0)
    source = scipy.signal.lfilter([1.0], [1.0, -0.96], pulses) + 0.004 * rng.standard_normal(frames)
    result = np.zeros(frames)
    for k, (start_s, vowel) in enumerate(vowels):
        start = round(start_s * RATE)
        stop = min(round(vowels[k + 1][0] * RATE) + 960, frames) if k + 1 < len(vowels) else frames
        if start >= stop:
            continue
        part = source[start:stop]
        out = np.zeros(stop - start)
        for formant, (f, gain) in enumerate(zip(FORMANTS[vowel] * size, (1.0, 0.5, 0.25, 0.12), strict=True)):
            width = 60.0 + 30.0 * formant
            r = np.exp(-np.pi * width / RATE)
            out += gain * scipy.signal.lfilter([1.0 - r], [1.0, -2 * r * np.cos(2 * np.pi * f / RATE), r * r], part)
        ramp = np.minimum(1.0, np.minimum(np.arange(len(out)), np.arange(len(out))[::-1]) / 960.0)
        result[start:stop] += out * ramp
    return result


def syllables(rng: Random, every_s: float, pause: float) -> list[tuple[float, float, float]]:
    """(start, length, strength): words of uneven strength, with pauses between phrases."""
    at, result = 0.1, []
    while at < SECONDS - 0.5:
        length = float(rng.uniform(0.7, 1.3) * every_s)
        result.append((at, length, float(10.0 ** (-abs(rng.normal(0.0, 5.0)) / 20.0))))
        at += length + (float(rng.uniform(0.4, 0.9)) if rng.random() < pause else float(rng.uniform(0.02, 0.08)))
    return result


def a_voice(rng: Random, base_hz: float, every_s: float, pause: float, sung: bool) -> Sound:
    t = times(SECONDS)
    words = syllables(rng, every_s, pause)
    strength, hz = np.zeros(len(t)), np.full(len(t), base_hz)
    hiss = np.zeros(len(t))
    for start, length, force in words:
        a, b = round(start * RATE), round((start + length) * RATE)
        place(strength, start, force * np.sin(np.pi * np.linspace(0, 1, b - a)) ** 0.5)
        note = base_hz * 2.0 ** ((int(rng.integers(-4, 6)) if sung else rng.normal(0.0, 2.0)) / 12.0)
        hz[a:] = note if sung else note * (1.0 - 0.15 * np.minimum((t[a:] - start) / length, 1.0))
        if rng.random() < 0.35:
            s = band(rng.standard_normal(round(0.09 * RATE)), rng.uniform(4200, 5500), 11000)
            place(hiss, start - 0.07, s * np.hanning(len(s)), 0.5 * force)
    if sung:
        hz = hz * (1.0 + 0.008 * np.sin(2 * np.pi * rng.uniform(4.8, 6.0) * t))
    vowels = [(start, int(rng.integers(0, 5))) for start, _, _ in words]
    x = voiced(rng, hz, vowels, rng.uniform(0.92, 1.15)) * strength
    x /= np.abs(x).max()
    return np.asarray(x + 0.35 * hiss / max(np.abs(hiss).max(), 1e-9))


def kick(rng: Random) -> Sound:
    line, hz = np.zeros(round(SECONDS * RATE)), rng.uniform(42, 68)
    for at, force in player(rng, rng.uniform(0.42, 0.7), 2.0):
        place(line, at, one_kick(rng, hz), force)
    return line


def snare(rng: Random) -> Sound:
    line, hz, every = np.zeros(round(SECONDS * RATE)), rng.uniform(165, 240), rng.uniform(0.8, 1.2)
    for at, force in player(rng, every, 2.0):
        place(line, at, one_snare(rng, hz), force)
        if rng.random() < 0.4:
            place(line, at + every * 0.375, one_snare(rng, hz), 0.12)
    return line


def overheads(rng: Random) -> Sound:
    line, every = np.zeros(round(SECONDS * RATE)), rng.uniform(0.2, 0.3)
    for n, (at, force) in enumerate(player(rng, every, 3.0)):
        place(line, at, one_hat(rng, 0.25 if n % 8 == 7 else 0.04), 0.5 * force)
        if n % 4 == 2:
            place(line, at, one_snare(rng, 200.0), 0.4)
    return room(rng, line, 0.5, 0.3)


def drums(rng: Random) -> Sound:
    line, low, high, every = np.zeros(round(SECONDS * RATE)), rng.uniform(45, 62), rng.uniform(170, 230), rng.uniform(0.42, 0.6)
    for n, (at, force) in enumerate(player(rng, every, 2.0)):
        place(line, at, one_kick(rng, low) if n % 2 == 0 else one_snare(rng, high), force)
        for k in (0, 1):
            place(line, at + k * every / 2, one_hat(rng, 0.05), 0.25 * force)
    return room(rng, line, rng.uniform(0.3, 0.8), 0.25)


def room_mic(rng: Random) -> Sound:
    line, every = np.zeros(round(SECONDS * RATE)), rng.uniform(0.8, 1.1)
    for n, (at, force) in enumerate(player(rng, every, 2.0)):
        place(line, at, one_kick(rng, 55.0) if n % 2 == 0 else one_snare(rng, 190.0), force)
    return room(rng, line, rng.uniform(0.6, 1.0), 1.0)


def bass(rng: Random) -> Sound:
    line, every, bright = np.zeros(round(SECONDS * RATE)), rng.uniform(0.28, 0.5), rng.uniform(1.1, 1.6)
    for at, force in player(rng, every, 4.0):
        hz = 41.2 * 2.0 ** (int(rng.choice([0, 3, 5, 7, 10, 12, 15])) / 12.0)
        place(line, at, plucked(rng, hz, 1.2 * every, bright), force)
    return line


def guitar(rng: Random) -> Sound:
    line, every, bright = np.zeros(round(SECONDS * RATE)), rng.uniform(0.35, 0.6), rng.uniform(0.8, 1.2)
    for at, force in player(rng, every, 3.0):
        root = 110.0 * 2.0 ** (int(rng.choice([0, 3, 5, 7])) / 12.0)
        for k, interval in enumerate((0, 7, 12, 16)):
            place(line, at + 0.012 * k, plucked(rng, root * 2.0 ** (interval / 12.0), 1.5 * every, bright), force)
    return line


def keys(rng: Random) -> Sound:
    t, line, at = times(SECONDS), np.zeros(round(SECONDS * RATE)), 0.1
    while at < SECONDS - 0.8:
        length = float(rng.uniform(0.5, 1.4))
        here = (t >= at) & (t < at + length)
        swell = np.minimum(1.0, np.minimum(t[here] - at, at + length - t[here]) / 0.015)
        root = 98.0 * 2.0 ** (int(rng.choice([0, 2, 5, 7, 9])) / 12.0)
        for interval in (0, 4, 7, 12):
            for stop, gain in ((1, 1.0), (2, 0.6), (3, 0.35), (4, 0.25), (6, 0.12)):
                hz = root * 2.0 ** (interval / 12.0) * stop
                line[here] += gain * swell * np.sin(2 * np.pi * hz * t[here] + rng.uniform(0, 6.28))
        at += length + float(rng.choice([0.0, 0.0, 0.3]))
    return line


def voice(rng: Random) -> Sound:
    return room(rng, a_voice(rng, rng.uniform(130, 330), 0.35, 0.2, True), 0.25, 0.05)


def speech(rng: Random) -> Sound:
    x = a_voice(rng, rng.uniform(95, 210), 0.19, 0.2, False)
    return room(rng, x, 0.3, 0.1) + 0.0008 * rng.standard_normal(len(x))


def mix(rng: Random) -> Sound:
    parts = ((drums, 0.0), (bass, -2.0), (guitar, -7.0), (keys, -9.0), (voice, -2.0))
    return np.asarray(sum(10.0 ** (gain / 20.0) * levelled(make(rng)) for make, gain in parts))


def levelled(x: Sound) -> Sound:
    """At -18 dBFS RMS while it sounds."""
    blocks = x[: len(x) // 2400 * 2400].reshape(-1, 2400)
    level = active_rms_db((blocks**2).mean(axis=1))
    assert level is not None
    return np.asarray(x * 10.0 ** ((LEVEL_DB - level) / 20.0))


KINDS: dict[str, Callable[[Random], Sound]] = {
    make.__name__: make for make in (kick, snare, overheads, drums, room_mic, bass, guitar, keys, voice, speech, mix)
}


@functools.cache
def sound(kind: str, variant: int) -> Sound:
    """(frames,), 8 s at 48 kHz."""
    rng = np.random.default_rng([variant, *kind.encode()])
    result = levelled(KINDS[kind](rng))
    result.flags.writeable = False
    return result
