"""Linkwitz-Riley crossovers whose dividers may move: a sound cut into bands that add up to an all-pass of it.

    x --+--> low-pass(f2) --> all-pass(f3) --+--> low-pass(f1) --------------> band 1
        |                                    +--> all-pass(f1) - low --------> band 2
        +--> all-pass(f2) - low --> all-pass(f1) --+--> low-pass(f3) --------> band 3
                                                   +--> all-pass(f3) - low --> band 4

Each side of a divider is a Butterworth filter twice over (S. Linkwitz, "Active Crossover Networks for Noncoincident
Drivers", J. Audio Eng. Soc. 24(1), 1976): -6.02 dB at the divider, and the two add up to an all-pass. The high side
is found as that all-pass less the low side, so the sum holds to the last bit of float64 also while a divider moves.
Bands that a divider does not touch get its all-pass, so any number of bands stays in phase.

Sections are state-variable filters by trapezoidal integration (V. Zavalishin, "The Art of VA Filter Design"; from
memory), which bear coefficients that move.
"""

import math

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, inline, kernel, share_of

MAX_BANDS = 6
POSITION, PART, PRIMED, STATE = range(4)
CHUNK_FRAMES = 128
#: Not a power of two, so that rows do not compete for the same places of the processor's cache.
WORK_FRAMES = CHUNK_FRAMES + 8
#: While a divider glides its coefficients step this often: too little each time to click.
STEP_FRAMES = 8
#: Rows of scratch, left and right: one for each band, and one for what is not wanted.
WORK_ROWS = MAX_BANDS + 1
#: What the kernel does one after the other: divide a row (its low side goes to `low_row`), or pass it on by an all-pass.
DIVIDE, PASS = 0, 1
OP, AT, ROW, LOW_ROW, OPERATION = range(5)
#: Sections of an operation at most (48 dB/oct: four of the low side, one more of the all-pass).
SECTIONS = 5

#: Damping of the first and the second section of each Butterworth side.
DAMPINGS = {
    12: (2.0, 2.0),
    24: (math.sqrt(2.0), math.sqrt(2.0)),
    48: (2.0 * math.cos(math.pi / 8.0), 2.0 * math.cos(3.0 * math.pi / 8.0)),
}


def tangents(dividers_hz: tuple[float, ...], rate: float) -> NDArray[np.float64]:
    """What the kernel wants of each divider: tan(pi f / rate), held below 0.49 of the rate."""
    return np.array([math.tan(math.pi * min(hz, 0.49 * rate) / rate) for hz in dividers_hz])


def program(dividers: int) -> NDArray[np.int64]:
    """The operations that make dividers + 1 bands of what stands in the last row, (operations, OPERATION).

    The middle divider comes first: then the all-passes of the dividers on one side are shared by all bands of the other.
    """
    result: list[tuple[int, int, int, int]] = []

    def build(low: int, high: int) -> None:
        if low == high:
            return
        middle = (low + high - 1) // 2
        result.append((DIVIDE, middle, high, middle))
        result.extend((PASS, at, middle, 0) for at in range(middle + 1, high))
        result.extend((PASS, at, high, 0) for at in range(low, middle))
        build(low, middle)
        build(middle + 1, high)

    build(0, dividers)
    return np.array(result, np.int64)


@inline
def stepped(g, k):  # type: ignore[no-untyped-def]
    """How the integrators of a section are stepped, for a tangent and a damping."""
    a1 = 1.0 / (1.0 + g * (g + k))
    a2 = g * a1
    a3 = g * a2
    return a2, a3, 2.0 * a1 - 1.0, 2.0 * a2, 1.0 - 2.0 * a3


@inline
def low_pass(row, low, g, k, memory, count):  # type: ignore[no-untyped-def]
    """The low-pass of a section over both channels. row, low: (2, room); they may be the same.

    memory: (4,), two integrators a channel, at half their value; they are stepped by products known beforehand.
    """
    s1, t1, s2, t2 = memory[0], memory[1], memory[2], memory[3]
    a2, a3, kept1, cross, kept2 = stepped(g, k)
    p, q, low_p, low_q = row[0], row[1], low[0], low[1]
    for i in range(count):
        v = p[i]
        w = q[i]
        n1 = kept1 * s1 + (a2 * v - cross * s2)
        m1 = kept1 * t1 + (a2 * w - cross * t2)
        n2 = cross * s1 + (a3 * v + kept2 * s2)
        m2 = cross * t1 + (a3 * w + kept2 * t2)
        low_p[i] = n2 + s2
        low_q[i] = m2 + t2
        s1, t1, s2, t2 = n1, m1, n2, m2
    memory[0], memory[1], memory[2], memory[3] = s1, t1, s2, t2


@inline
def all_pass(row, low, g, k, of_in, of_low, memory, count):  # type: ignore[no-untyped-def]
    """The all-pass of a section in place, and its low-pass into low. memory as for `low_pass`.

    Second order: in - 2k band (of_in 1, of_low 0). First order, with k = 2: low less high, that is
    2 low + k band - in (of_in -1, of_low 2).
    """
    s1, t1, s2, t2 = memory[0], memory[1], memory[2], memory[3]
    a2, a3, kept1, cross, kept2 = stepped(g, k)
    of_band = k if of_low > 0.0 else -2.0 * k
    p, q, low_p, low_q = row[0], row[1], low[0], low[1]
    for i in range(count):
        v = p[i]
        w = q[i]
        n1 = kept1 * s1 + (a2 * v - cross * s2)
        m1 = kept1 * t1 + (a2 * w - cross * t2)
        n2 = cross * s1 + (a3 * v + kept2 * s2)
        m2 = cross * t1 + (a3 * w + kept2 * t2)
        low_v = n2 + s2
        low_w = m2 + t2
        p[i] = of_in * v + (of_low * low_v + of_band * (n1 + s1))
        q[i] = of_in * w + (of_low * low_w + of_band * (m1 + t1))
        low_p[i] = low_v
        low_q[i] = low_w
        s1, t1, s2, t2 = n1, m1, n2, m2
    memory[0], memory[1], memory[2], memory[3] = s1, t1, s2, t2


@kernel(
    "void(float32[:,::1],float32[:,:,::1],int64[:,::1],float64[::1],float64[::1],float64[::1],int64,float64,float64,"
    "float64[:,:,::1],float64[::1],float64[:,:,::1])"
)
def divide(x, bands, operations, targets, now, before, slope, k1, k2, memory, state, work):  # type: ignore[no-untyped-def]
    """Cut a block of any length into bands.

    x: (channels, frames); bands: (dividers + 1, channels, frames), the lowest first. operations: from `program`.
    wanted, now, before: (dividers,), tangents from `tangents`, wanted, at the end and at the start of the tick; they
    glide in octaves. slope: 12, 24 or 48 dB/oct; k1, k2: `DAMPINGS` of it. memory: (operations, SECTIONS, 4).
    state: [position, share of the way a glide covers each tick, primed]. work: (WORK_ROWS, 2, WORK_FRAMES).
    """
    channels, frames = x.shape
    dividers = targets.shape[0]
    of_in, of_low = (-1.0, 2.0) if slope == 12 else (1.0, 0.0)
    if state[PRIMED] == 0.0:
        copy(targets, now)
        copy(targets, before)
        state[PRIMED] = 1.0
    spare = work[MAX_BANDS]
    glide = state[PART]
    start = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        if phase == 0:
            share = share_of(glide)
            glide = after_tick(glide)
            for d in range(dividers):
                before[d] = now[d]
                gap = np.log(targets[d] / now[d])
                now[d] = targets[d] if abs(gap) < 1e-6 else now[d] * np.exp(gap * share)
        moving = False
        for d in range(dividers):
            moving = moving or before[d] != now[d] or now[d] != targets[d]
        # Stretches end on multiples of their length, counted from the beginning, and never in the middle of a flush.
        length = STEP_FRAMES if moving else CHUNK_FRAMES
        count = min(length - int(state[POSITION]) % length, frames - start)
        along = np.float64(phase - phase % STEP_FRAMES + STEP_FRAMES) / TICK_FRAMES
        for c in range(2):
            signal = x[min(c, channels - 1), start : start + count]
            whole = work[dividers, c]
            for i in range(count):
                whole[i] = signal[i]
        for o in range(operations.shape[0]):
            d = operations[o, AT]
            row = work[operations[o, ROW]]
            g = before[d] + (now[d] - before[d]) * along if moving else now[d]
            own = memory[o]
            if operations[o, OP] == PASS:
                all_pass(row, spare, g, k1, of_in, of_low, own[0], count)
                if slope == 48:
                    all_pass(row, spare, g, k2, 1.0, 0.0, own[1], count)
                continue
            low = work[operations[o, LOW_ROW]]
            all_pass(row, low, g, k1, of_in, of_low, own[0], count)
            if slope > 12:
                low_pass(low, low, g, k2, own[1], count)
            if slope == 48:
                all_pass(row, spare, g, k2, 1.0, 0.0, own[2], count)
                low_pass(low, low, g, k1, own[3], count)
                low_pass(low, low, g, k2, own[4], count)
            for c in range(2):
                rest, result = row[c], low[c]
                for i in range(count):
                    rest[i] -= result[i]
        for b in range(dividers + 1):
            for c in range(channels):
                band = work[b, c]
                out = bands[b, c, start : start + count]
                for i in range(count):
                    out[i] = np.float32(band[i])
        start += count
        state[POSITION] += count
        # Flushed in places of its own, never where a block ends: the result must not depend on the division.
        if int(state[POSITION]) % CHUNK_FRAMES == 0:
            flat = memory.reshape(memory.size)
            for i in range(flat.shape[0]):
                if abs(flat[i]) < DENORMAL:
                    flat[i] = 0.0


def low_gain(frequencies_hz: NDArray[np.float64], divider_hz: float, slope: int) -> NDArray[np.float64]:
    """Magnitude of the low side of a divider, linear: 1 / (1 + (f/f0)^(slope/6))."""
    return np.asarray(1.0 / (1.0 + (frequencies_hz / divider_hz) ** (slope // 6)), dtype=np.float64)
