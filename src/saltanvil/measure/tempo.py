"""Tempo of a sound: the period at which its onsets repeat.

Onset strength is the rise of the log spectrum (spectral flux; Bello et al., "A Tutorial on Onset Detection in Music Signals",
IEEE Trans. Speech and Audio Processing 13(5), 2005, from memory); its autocorrelation at whole multiples of a beat is added up,
and beats near 110 a minute are preferred a little (common practice, no source). Half and double are always as possible.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

WINDOW_FRAMES, HOP_S = 1024, 0.005
MIN_BPM, MAX_BPM = 40.0, 240.0
#: Candidates are this share apart, then made finer.
STEP = 1.0025
PREFERRED_BPM, PREFERENCE_OCTAVES = 110.0, 1.0
#: Multiples of the beat that are looked at, to find it and to find it exactly.
FEW, MANY = 4, 48
#: The mean over so much is taken off the onsets.
LOCAL_MEAN_S = 0.4
#: No tempo is told of less sound.
MIN_S = 4.0
#: At most so much of a sound is looked at.
MAX_S = 240.0


@dataclass(frozen=True)
class Tempo:
    """bpm: quarter notes a minute; certainty: 0 to 1, how alike the onsets of one beat and the next are; beat_s: where a beat
    falls, less than a beat from the start."""

    bpm: float
    certainty: float
    beat_s: float


def hop_frames(rate: int) -> int:
    """Whole frames from one onset strength to the next."""
    return round(HOP_S * rate)


def onsets(x: NDArray[np.float32], rate: int) -> NDArray[np.float64]:
    """Onset strength every `hop_frames`. x: (channels, frames)."""
    mono = x.mean(axis=0)
    hop = hop_frames(rate)
    size = WINDOW_FRAMES if rate <= 50000 else 2 * WINDOW_FRAMES
    count = max(0, 1 + (len(mono) - size) // hop)
    window = np.hanning(size).astype(np.float32)
    frames = np.lib.stride_tricks.sliding_window_view(mono, size)[::hop] if count else np.zeros((0, size), np.float32)
    result = np.zeros(count)
    last = np.zeros(size // 2 + 1)
    for at in range(0, count, 2048):
        spectrum = np.log1p(1000.0 / size * np.abs(np.fft.rfft(frames[at : at + 2048] * window, axis=1)))
        rises = np.diff(spectrum, axis=0, prepend=last[None, :])
        result[at : at + len(spectrum)] = np.maximum(rises, 0.0).sum(axis=1)
        last = spectrum[-1]
    if not count:
        return result
    result[0] = 0.0
    span = max(1, round(LOCAL_MEAN_S / HOP_S))
    sums = np.concatenate([[0.0], np.cumsum(np.pad(result, (span // 2, span - span // 2), mode="edge"))])
    mean = (sums[span:] - sums[:-span])[:count] / span
    return np.asarray(np.maximum(result - mean, 0.0))


def estimate(x: NDArray[np.float32], rate: int) -> Tempo | None:
    """The tempo of a sound (channels, frames); None if it is too short or nothing in it repeats."""
    if x.shape[1] < MIN_S * rate:
        return None
    strength = onsets(x[:, : round(MAX_S * rate)], rate)
    if not strength.any():
        return None
    hop_s = hop_frames(rate) / rate
    centred = strength - strength.mean()
    size = 1 << int(2 * len(centred) - 1).bit_length()
    power = np.abs(np.fft.rfft(centred, size)) ** 2
    alike = np.fft.irfft(power)[: len(centred)] / np.arange(len(centred), 0, -1)
    if alike[0] <= 0.0:
        return None
    alike = alike[: max(2, len(alike) * 3 // 4)] / alike[0]

    def score(bpm: float, most: int) -> float:
        lags = 60.0 / bpm / hop_s * np.arange(1, most + 1)
        lags = lags[lags < len(alike) - 1]
        return float(np.interp(lags, np.arange(len(alike)), alike).mean()) if len(lags) else -1.0

    candidates = MIN_BPM * STEP ** np.arange(int(np.log(MAX_BPM / MIN_BPM) / np.log(STEP)) + 1)
    away = np.log2(candidates / PREFERRED_BPM) / PREFERENCE_OCTAVES
    scores = np.array([score(bpm, FEW) for bpm in candidates]) * np.exp(-0.5 * away**2)
    best = float(candidates[scores.argmax()])
    # Many beats on, a small error would be a large one: so the neighbourhood is searched by them, finer and finer.
    for most, width in ((FEW, STEP), (3 * FEW, 1.002), (MANY, 1.0007)):
        near = best * np.linspace(1.0 / width, width, 81)
        best = float(near[np.argmax([score(bpm, most) for bpm in near])])
    certainty = max(0.0, min(1.0, score(best, FEW)))
    if certainty < 0.02:
        return None
    lag = 60.0 / best / hop_s
    phases = np.arange(0.0, lag, 0.5)
    beats = np.arange(0, int(len(strength) / lag))
    places = np.arange(len(strength))
    sums = [np.interp(phase + beats * lag, places, strength).sum() for phase in phases]
    # An onset is seen when a good part of the window has reached it.
    beat_s = (phases[int(np.argmax(sums))] * hop_s + 0.7 * WINDOW_FRAMES / 48000.0) % (60.0 / best)
    return Tempo(round(best, 2), certainty, float(beat_s))
