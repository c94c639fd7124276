"""Instruments. All return float64 mono arrays at RATE and draw their chance from the generator they are given."""

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.biquad import cascade, cookbook
from saltanvil.dsp.kernel import kernel

RATE = 48000
Sound = NDArray[np.float64]
CONTROL_FRAMES = 64

#: Formants F1..F4 in Hz of sung vowels, a man's tenor range (from memory, textbook averages).
VOWELS: dict[str, tuple[float, float, float, float]] = {
    "a": (700.0, 1150.0, 2600.0, 3300.0),
    "e": (460.0, 1750.0, 2500.0, 3350.0),
    "i": (300.0, 2150.0, 2850.0, 3500.0),
    "o": (450.0, 820.0, 2550.0, 3250.0),
    "u": (330.0, 720.0, 2400.0, 3200.0),
}
FORMANT_WIDTHS = (80.0, 95.0, 130.0, 180.0)
FORMANT_GAINS = (1.0, 0.55, 0.32, 0.22)


def seconds(duration_s: float) -> Sound:
    """Time axis of a sound."""
    return np.arange(round(duration_s * RATE)) / RATE


def filtered(x: Sound, *sections: tuple[str, float, float, float]) -> Sound:
    """x through cookbook filters (kind, frequency_hz, q, gain_db)."""
    target = np.array([cookbook(kind, hz, q, db, RATE) for kind, hz, q, db in sections])
    block = np.ascontiguousarray(x[None, :], dtype=np.float32)
    out = np.empty_like(block)
    cascade(block, out, target, target.copy(), np.zeros((len(sections), 4, 1)), np.array([0.0, 1.0, 1.0]))
    return np.asarray(out[0], dtype=np.float64)


def kick(rng: np.random.Generator) -> Sound:
    """A sine swept from 190 to 47 Hz, with a click."""
    t = seconds(0.42)
    frequency = 47.0 + 60.0 * np.exp(-t / 0.030) + 83.0 * np.exp(-t / 0.006)
    body = np.sin(2 * np.pi * np.cumsum(frequency) / RATE) * np.exp(-t / 0.13) * np.minimum(t / 0.0008, 1.0)
    click = filtered(
        rng.standard_normal(len(t)) * np.exp(-t / 0.0025),
        ("high-pass", 1800.0, 0.7, 0.0),
        ("low-pass", 6500.0, 0.7, 0.0),
    )
    return np.asarray(body + 0.35 * click)


def snare(rng: np.random.Generator) -> Sound:
    """Membrane modes and the wires' noise."""
    t = seconds(0.6)
    modes = ((186.0, 1.0, 0.12), (278.0, 0.55, 0.08), (331.0, 0.5, 0.05), (455.0, 0.3, 0.035), (612.0, 0.2, 0.025))
    shift = 1.0 + 0.06 * np.exp(-t / 0.012)
    body = sum(gain * np.sin(2 * np.pi * np.cumsum(hz * shift) / RATE) * np.exp(-t / decay) for hz, gain, decay in modes)
    wires = filtered(rng.standard_normal(len(t)), ("high-pass", 900.0, 0.7, 0.0), ("bell", 5200.0, 0.8, 5.0)) * (
        0.85 * np.exp(-t / 0.085) + 0.15 * np.exp(-t / 0.2)
    )
    stick = filtered(rng.standard_normal(len(t)), ("high-pass", 2500.0, 0.7, 0.0)) * np.exp(-t / 0.0018)
    return np.asarray((0.55 * body + 0.42 * wires + 0.5 * stick) * np.minimum(t / 0.0004, 1.0))


def metal(rng: np.random.Generator, duration_s: float, decay_s: float, low_hz: float, partials: int = 34) -> Sound:
    """A cymbal: crowded inharmonic partials over noise."""
    t = seconds(duration_s)
    out = np.zeros(len(t))
    for _ in range(partials):
        hz = low_hz * (1.0 + 9.0 * rng.random() ** 1.4)
        if hz < 0.45 * RATE:
            own = decay_s * (0.4 + 0.9 * rng.random()) * (low_hz / hz) ** 0.35
            out += np.sin(2 * np.pi * hz * t + rng.random() * 6.28) * np.exp(-t / own) * (0.4 + rng.random())
    noise = filtered(rng.standard_normal(len(t)), ("high-pass", low_hz * 1.6, 0.7, 0.0)) * np.exp(-t / (0.6 * decay_s))
    return np.asarray((out / partials * 2.6 + 0.4 * noise) * np.minimum(t / 0.0006, 1.0))


@kernel("void(float64[::1],float64[::1],int64,float64,float64,float64)", allocates=True)
def string_loop(out, pluck, period, fraction, damping, brightness):  # type: ignore[no-untyped-def]
    """A plucked string: a delay line fed back through a two-point average and a fractional-delay all-pass."""
    line = np.zeros(period)
    for i in range(period):
        line[i] = pluck[i % pluck.shape[0]] if i < pluck.shape[0] else 0.0
    at = 0
    last = 0.0
    ap_x = 0.0
    ap_y = 0.0
    coefficient = (1.0 - fraction) / (1.0 + fraction)
    for i in range(out.shape[0]):
        v = line[at]
        averaged = brightness * v + (1.0 - brightness) * last
        last = v
        passed = coefficient * averaged + ap_x - coefficient * ap_y
        ap_x = averaged
        ap_y = passed
        line[at] = damping * passed
        out[i] = v
        at += 1
        if at == period:
            at = 0


def string(rng: np.random.Generator, hz: float, duration_s: float, decay_s: float, brightness: float, touch: float) -> Sound:
    """A plucked string; touch (0..1) darkens the pluck."""
    length = RATE / hz - (1.0 - brightness)
    period = int(length - 0.3)
    pluck = rng.uniform(-1.0, 1.0, period)
    for _ in range(1 + int(6 * touch)):
        pluck = 0.5 * (pluck + np.roll(pluck, 1))
    pluck -= pluck.mean()
    pluck /= np.abs(pluck).max()
    place = max(1, int(period * 0.17))  # plucked at 17 % of its length: a comb
    pluck = pluck - 0.9 * np.roll(pluck, place)
    out = np.empty(round(duration_s * RATE))
    string_loop(out, pluck, period, length - period, 10.0 ** (-3.0 / (decay_s * hz)), brightness)
    fade = min(len(out), 480)
    out[-fade:] *= np.linspace(1.0, 0.0, fade)
    return out


def organ(hz: float, duration_s: float, phase: float) -> Sound:
    """Nine drawbars, a slow swell of the rotor, a key click's softness."""
    t = seconds(duration_s)
    bars = (
        (0.5, 0.8),
        (1.5, 0.45),
        (1.0, 1.0),
        (2.0, 0.6),
        (3.0, 0.35),
        (4.0, 0.25),
        (5.0, 0.10),
        (6.0, 0.10),
        (8.0, 0.12),
    )
    rotor = 2 * np.pi * 0.9 * t + phase
    vibrato = 0.0009 * np.sin(rotor) * hz / 0.9
    tone = sum(gain * np.sin(2 * np.pi * hz * n * t + n * vibrato + n) for n, gain in bars if hz * n < 9000.0)
    shape = np.minimum(t / 0.02, 1.0) * np.minimum((duration_s - t) / 0.05, 1.0)
    return np.asarray(tone * shape * (1.0 + 0.15 * np.sin(rotor)) / 3.0)


@kernel(
    "void(float64[::1],float64[::1],float64[::1],float64[:,::1],float64[::1],float64[::1],float64[::1],float64)", allocates=True
)
def sing_loop(out, frequency, strength, formants, widths, gains, breath, rate):  # type: ignore[no-untyped-def]
    """A glottal pulse and breath noise through parallel formant resonators; controls are per 64 frames."""
    count = formants.shape[0]
    y1 = np.zeros(count)
    y2 = np.zeros(count)
    x2 = 0.0
    x1 = 0.0
    phase = 0.0
    flow = 0.0
    for i in range(out.shape[0]):
        at = i // 64
        along = (i % 64) / 64.0
        after = min(at + 1, frequency.shape[0] - 1)
        hz = frequency[at] + (frequency[after] - frequency[at]) * along
        level = strength[at] + (strength[after] - strength[at]) * along
        phase += hz / rate
        if phase >= 1.0:
            phase -= 1.0
        # Rosenberg's pulse: opens over 40 %, closes over 16 % of the period.
        if phase < 0.40:
            pulse = 0.5 * (1.0 - np.cos(np.pi * phase / 0.40))
        elif phase < 0.56:
            pulse = np.cos(0.5 * np.pi * (phase - 0.40) / 0.16)
        else:
            pulse = 0.0
        source = (pulse - flow) * 12.0 + breath[i] * (0.02 + 0.10 * pulse)
        flow = pulse
        source *= level
        total = 0.0
        for f in range(count):
            centre = formants[f, at] + (formants[f, after] - formants[f, at]) * along
            r = np.exp(-np.pi * widths[f] / rate)
            a1 = -2.0 * r * np.cos(2.0 * np.pi * centre / rate)
            y = (1.0 - r) * (source - x2) - a1 * y1[f] - r * r * y2[f]
            y2[f] = y1[f]
            y1[f] = y
            total += gains[f] * y * (1.0 if f % 2 == 0 else -1.0)
        x2 = x1
        x1 = source
        out[i] = total


def sing(rng: np.random.Generator, frequency: Sound, strength: Sound, formants: NDArray[np.float64], frames: int) -> Sound:
    """A voice from controls per CONTROL_FRAMES: frequency in Hz, strength 0..1, formants (4, controls) in Hz."""
    out = np.empty(frames)
    breath = rng.standard_normal(frames)
    sing_loop(out, frequency, strength, formants, np.array(FORMANT_WIDTHS), np.array(FORMANT_GAINS), breath, float(RATE))
    return out


def sibilant(rng: np.random.Generator, duration_s: float, centre_hz: float) -> Sound:
    """An s: noise around its centre, rising and falling."""
    t = seconds(duration_s)
    noise = filtered(
        rng.standard_normal(len(t)),
        ("high-pass", 0.72 * centre_hz, 1.0, 0.0),
        ("bell", centre_hz, 1.6, 12.0),
        ("low-pass", 1.5 * centre_hz, 0.9, 0.0),
    )
    return np.asarray(noise * np.sin(np.pi * np.minimum(t / duration_s, 1.0)) ** 0.6 / 4.0)
