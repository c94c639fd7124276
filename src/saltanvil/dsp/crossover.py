"""Linkwitz-Riley crossovers whose dividers may move: a sound cut into bands that add up to an all-pass of it.

    x --+--> low-pass(f1) --> all-pass(f2) --> all-pass(f3) ----------------------------> band 1
        +--> all-pass(f1) - low = rest --+--> low-pass(f2) --> all-pass(f3) ------------> band 2
                                         +--> all-pass(f2) - low = rest --+--> low ------> band 3
                                                                          +--> rest -----> band 4

Each side of a divider is a Butterworth filter twice over (S. Linkwitz, "Active Crossover Networks for Noncoincident
Drivers", J. Audio Eng. Soc. 24(1), 1976): -6.02 dB at the divider, and the two add up to an all-pass. The high side
is found as that all-pass less the low side, so the sum holds to the last bit of float64 also while a divider moves.
Bands that a divider does not touch get its all-pass, so any number of bands stays in phase.

Sections are state-variable filters by trapezoidal integration (V. Zavalishin, "The Art of VA Filter Design"; from
memory), whose coefficients are followed from sample to sample while they glide.
"""

import math

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, inline, kernel

MOST_BANDS = 6
#: Sections of the low side and of the all-pass at most (48 dB/oct), each with two integrators for each channel.
LOW_SECTIONS, PASS_SECTIONS = 4, 2
# A divider's memory: its low side and the rest of its all-pass, then the all-passes of the bands below it.
SECTIONS = LOW_SECTIONS + 1 + PASS_SECTIONS * (MOST_BANDS - 2)
POSITION, PART, PRIMED, STATE = range(4)
CHUNK_FRAMES = 256
#: Rows of scratch: left and right of the rest, of each band, of a low side, and the gliding tangent.
REST, LOW, TANGENT, BANDS = 0, 2, 4, 5
WORK_ROWS = BANDS + 2 * MOST_BANDS

#: Damping of the first and the second section of each Butterworth side.
DAMPINGS = {
    12: (2.0, 2.0),
    24: (math.sqrt(2.0), math.sqrt(2.0)),
    48: (2.0 * math.cos(math.pi / 8.0), 2.0 * math.cos(3.0 * math.pi / 8.0)),
}


def tangents(dividers_hz: tuple[float, ...], rate: float) -> NDArray[np.float64]:
    """What the kernel wants of each divider: tan(pi f / rate), held below 0.49 of the rate."""
    return np.array([math.tan(math.pi * min(hz, 0.49 * rate) / rate) for hz in dividers_hz])


@inline
def low_pass(p, q, out_p, out_q, g, moving, k, memory, count):  # type: ignore[no-untyped-def]
    """Low-pass of both channels. memory: (2, 2), two integrators a channel. g: (count,), constant unless `moving`."""
    s1, s2, t1, t2 = memory[0, 0], memory[0, 1], memory[1, 0], memory[1, 1]
    a1 = 1.0 / (1.0 + g[0] * (g[0] + k))
    a2 = g[0] * a1
    a3 = g[0] * a2
    for i in range(count):
        if moving:
            a1 = 1.0 / (1.0 + g[i] * (g[i] + k))
            a2 = g[i] * a1
            a3 = g[i] * a2
        v = p[i]
        w = q[i]
        v1 = (a1 * s1 + a2 * v) - a2 * s2
        w1 = (a1 * t1 + a2 * w) - a2 * t2
        v2 = (s2 + a3 * (v - s2)) + a2 * s1
        w2 = (t2 + a3 * (w - t2)) + a2 * t1
        s1 = 2.0 * v1 - s1
        t1 = 2.0 * w1 - t1
        s2 = 2.0 * v2 - s2
        t2 = 2.0 * w2 - t2
        out_p[i] = v2
        out_q[i] = w2
    memory[0, 0], memory[0, 1], memory[1, 0], memory[1, 1] = s1, s2, t1, t2


@inline
def all_pass(p, q, g, moving, k, first, memory, count):  # type: ignore[no-untyped-def]
    """All-pass of both channels in place: of second order, or of first order (`first`, k = 2) as low less high."""
    s1, s2, t1, t2 = memory[0, 0], memory[0, 1], memory[1, 0], memory[1, 1]
    a1 = 1.0 / (1.0 + g[0] * (g[0] + k))
    a2 = g[0] * a1
    a3 = g[0] * a2
    for i in range(count):
        if moving:
            a1 = 1.0 / (1.0 + g[i] * (g[i] + k))
            a2 = g[i] * a1
            a3 = g[i] * a2
        v = p[i]
        w = q[i]
        v1 = (a1 * s1 + a2 * v) - a2 * s2
        w1 = (a1 * t1 + a2 * w) - a2 * t2
        v2 = (s2 + a3 * (v - s2)) + a2 * s1
        w2 = (t2 + a3 * (w - t2)) + a2 * t1
        s1 = 2.0 * v1 - s1
        t1 = 2.0 * w1 - t1
        s2 = 2.0 * v2 - s2
        t2 = 2.0 * w2 - t2
        if first:
            p[i] = 2.0 * v2 + k * v1 - v
            q[i] = 2.0 * w2 + k * w1 - w
        else:
            p[i] = v - 2.0 * k * v1
            q[i] = w - 2.0 * k * w1
    memory[0, 0], memory[0, 1], memory[1, 0], memory[1, 1] = s1, s2, t1, t2


@inline
def low_and_pass(p, q, out_p, out_q, g, moving, k, first, memory, count):  # type: ignore[no-untyped-def]
    """The first section of a divider: its low-pass into out, its all-pass in place."""
    s1, s2, t1, t2 = memory[0, 0], memory[0, 1], memory[1, 0], memory[1, 1]
    a1 = 1.0 / (1.0 + g[0] * (g[0] + k))
    a2 = g[0] * a1
    a3 = g[0] * a2
    for i in range(count):
        if moving:
            a1 = 1.0 / (1.0 + g[i] * (g[i] + k))
            a2 = g[i] * a1
            a3 = g[i] * a2
        v = p[i]
        w = q[i]
        v1 = (a1 * s1 + a2 * v) - a2 * s2
        w1 = (a1 * t1 + a2 * w) - a2 * t2
        v2 = (s2 + a3 * (v - s2)) + a2 * s1
        w2 = (t2 + a3 * (w - t2)) + a2 * t1
        s1 = 2.0 * v1 - s1
        t1 = 2.0 * w1 - t1
        s2 = 2.0 * v2 - s2
        t2 = 2.0 * w2 - t2
        out_p[i] = v2
        out_q[i] = w2
        if first:
            p[i] = 2.0 * v2 + k * v1 - v
            q[i] = 2.0 * w2 + k * w1 - w
        else:
            p[i] = v - 2.0 * k * v1
            q[i] = w - 2.0 * k * w1
    memory[0, 0], memory[0, 1], memory[1, 0], memory[1, 1] = s1, s2, t1, t2


@kernel(
    "void(float32[:,::1],float32[:,:,::1],float64[::1],float64[::1],float64[::1],int64,float64,float64,"
    "float64[:,:,:,::1],float64[::1],float64[:,::1])"
)
def divide(x, bands, wanted, now, before, slope, k1, k2, memory, state, work):  # type: ignore[no-untyped-def]
    """Cut a block of any length into bands.

    x: (channels, frames); bands: (dividers + 1, channels, frames), the lowest first. wanted, now, before: (dividers,),
    tangents from `tangents`, wanted, at the end and at the start of the tick; they glide in octaves. slope: 12, 24 or
    48 dB/oct; k1, k2: `DAMPINGS` of it. memory: (dividers, SECTIONS, 2, 2). state: [position, share of the way a
    glide covers each tick, primed]. work: (WORK_ROWS, CHUNK_FRAMES).
    """
    channels, frames = x.shape
    dividers = wanted.shape[0]
    first = slope == 12
    if state[PRIMED] == 0.0:
        now[:] = wanted
        before[:] = wanted
        state[PRIMED] = 1.0
    p, q = work[REST], work[REST + 1]
    low_p, low_q = work[LOW], work[LOW + 1]
    g = work[TANGENT]
    start = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        if phase == 0:
            for d in range(dividers):
                before[d] = now[d]
                gap = np.log(wanted[d] / now[d])
                now[d] = wanted[d] if abs(gap) < 1e-6 else now[d] * np.exp(gap * state[PART])
        moving = False
        for d in range(dividers):
            moving = moving or before[d] != now[d] or now[d] != wanted[d]
        count = min((TICK_FRAMES if moving else CHUNK_FRAMES) - phase, frames - start)
        left = x[0, start : start + count]
        right = x[channels - 1, start : start + count]
        for i in range(count):
            p[i] = left[i]
            q[i] = right[i]
        for d in range(dividers):
            gliding = before[d] != now[d]
            if gliding:
                for i in range(count):
                    g[i] = before[d] + (now[d] - before[d]) * (np.float64(phase + i + 1) / TICK_FRAMES)
            else:
                g[0] = now[d]
            own = memory[d]
            # The bands already found pass this divider's all-pass.
            place = LOW_SECTIONS + 1
            for b in range(d):
                band_p, band_q = work[BANDS + 2 * b], work[BANDS + 2 * b + 1]
                all_pass(band_p, band_q, g, gliding, k1, first, own[place], count)
                if slope == 48:
                    all_pass(band_p, band_q, g, gliding, k2, False, own[place + 1], count)
                place += PASS_SECTIONS
            low_and_pass(p, q, low_p, low_q, g, gliding, k1, first, own[0], count)
            if slope == 24:
                low_pass(low_p, low_q, low_p, low_q, g, gliding, k2, own[1], count)
            elif slope == 48:
                all_pass(p, q, g, gliding, k2, False, own[LOW_SECTIONS], count)
                low_pass(low_p, low_q, low_p, low_q, g, gliding, k2, own[1], count)
                low_pass(low_p, low_q, low_p, low_q, g, gliding, k1, own[2], count)
                low_pass(low_p, low_q, low_p, low_q, g, gliding, k2, own[3], count)
            band_p, band_q = work[BANDS + 2 * d], work[BANDS + 2 * d + 1]
            for i in range(count):
                band_p[i] = low_p[i]
                band_q[i] = low_q[i]
                p[i] -= low_p[i]
                q[i] -= low_q[i]
        for b in range(dividers + 1):
            band_p = work[BANDS + 2 * b] if b < dividers else p
            band_q = work[BANDS + 2 * b + 1] if b < dividers else q
            out = bands[b, 0, start : start + count]
            for i in range(count):
                out[i] = np.float32(band_p[i])
            if channels == 2:
                out = bands[b, 1, start : start + count]
                for i in range(count):
                    out[i] = np.float32(band_q[i])
        start += count
        state[POSITION] += count
        # Flushed where a tick ends, never where a block ends: the result must not depend on the division.
        if (phase + count) % TICK_FRAMES == 0:
            flat = memory.reshape(memory.size)
            for i in range(flat.shape[0]):
                if abs(flat[i]) < DENORMAL:
                    flat[i] = 0.0


def low_gain(frequencies_hz: NDArray[np.float64], divider_hz: float, slope: int) -> NDArray[np.float64]:
    """Magnitude of the low side of a divider, linear: 1 / (1 + (f/f0)^(slope/6))."""
    return np.asarray(1.0 / (1.0 + (frequencies_hz / divider_hz) ** (slope // 6)), dtype=np.float64)
