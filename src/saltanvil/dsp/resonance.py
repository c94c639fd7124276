"""The resonance tamer's kernels: a bank of bands that listens, and a bank of bells that takes away.

The ear is a bank of complex resonators, twelve an octave, each two one-poles one after the other: the square of its magnitude is
the band's power without a ripple of its own, so that little averaging is needed. It is worked out from real sections, which cost
half. The lower octaves are heard at halved rates
(recursion by octaves as in C. Schoerkhuber and A. Klapuri, "Constant-Q Transform Toolbox for Music Processing", SMC 2010; from
memory). It is in float32: it decides how much is taken and is never heard.

The hands are bells of the Audio EQ Cookbook (R. Bristow-Johnson, W3C note) as state-variable filters (V. Zavalishin, "The Art of
VA Filter Design"; from memory), whose depth moves at each tick. A bell is the exact inverse of a bell of the same height, phase
included, which a gain on a transform's bins is not: a resonance is a filter of minimum phase. Measured on pink noise with a
resonance of 10 dB, Q 8, at 1 kHz, what differs from the clean noise is 13.6 dB below it; 40 dB below it with the bells, and 19.6
with an ideal gain on the bins of overlapping windows of 2048 to 8192 frames, which would add their length as latency besides.
"""

import math

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, inline, kernel, share_of

Array = NDArray[np.float64]

BANDS_PER_OCTAVE = 12
LOWEST_HZ = 25.0
BANDS = 116
#: Width of a one-pole as a share of its frequency; two of them are 0.07 wide (-3 dB), a tenth of an octave.
WIDTH = 0.109
#: A stage hears up to this share of its rate.
REACH = 0.42
STAGES = 7
HALF_TAPS = 12
#: Samples before the newest that the half-band filter still needs.
HISTORY = 4 * HALF_TAPS - 2
#: Levels are judged every so many ticks.
GRID_TICKS = 4
GRID_FRAMES = GRID_TICKS * TICK_FRAMES
#: Power is read at every so many samples of a stage.
EVERY = 4
MAX_BELLS = 56
#: Surroundings are no further below the louder side, so that the edge of a sound is no resonance.
EDGE_DB = 3.0
SILENT_POWER = 1e-13

# A bell: tan(pi f / rate), Q, share of the amount, the most that is taken, height for a reading of one dB, part of the way back
# at each tick; what sticks out by less than LEAST is left alone, and by half as much again is taken as it is;
# PART: of the whole cut, where neighbouring bells add up.
TANGENT, Q, SHARE, LIMIT, RATIO, RELEASE, LEAST, PART, BELL = range(9)
# Settings that glide.
AMOUNT, RANGE, MIX, OUTPUT, GLIDING = range(5)
POSITION, PRIMED, GLIDE, ATTACK, DELAY, SETS, APART, FROM_MIX, TO_MIX, FROM_GAIN, TO_GAIN, STATE = range(12)


def half_band() -> NDArray[np.float32]:
    """Every second tap of one side of a half-band low-pass, from the middle outwards; the middle one is 1/2.

    Windowed (Kaiser, beta 5.65: 60 dB; J. F. Kaiser 1974), so that what folds into a band is 55 dB down and more.
    """
    n = np.arange(1, 2 * HALF_TAPS, 2)
    window = np.kaiser(4 * HALF_TAPS + 1, 5.65)[2 * HALF_TAPS + n]
    taps = np.sin(np.pi * n / 2) / (np.pi * n) * window
    return np.asarray(taps * 0.25 / taps.sum(), np.float32)


HALF_BAND = half_band()


def bands_hz(rate: float) -> Array:
    """Middles of the bands that this rate can hear."""
    middles = LOWEST_HZ * 2.0 ** (np.arange(BANDS) / BANDS_PER_OCTAVE)
    return np.asarray(middles[middles < REACH * rate])


def stages_of(rate: float) -> NDArray[np.int64]:
    """How often the rate is halved for each band."""
    halved = np.floor(np.log2(REACH * rate / bands_hz(rate))).astype(np.int64)
    return np.minimum(halved, STAGES - 1)


def resonators(rate: float) -> NDArray[np.float32]:
    """(6, bands): of each pole p at its stage's rate 2 Re p and |p|^2, what makes a grid step's energy a mean power, and Re p^2,
    2 Im p and Im p^2."""
    hz, stage = bands_hz(rate), stages_of(rate)
    own = rate / 2.0**stage
    radius = np.exp(-np.pi * WIDTH * hz / own)
    pole = radius * np.exp(2j * np.pi * hz / own)
    power = (1.0 - radius) ** 4 * 2.0**stage * EVERY / GRID_FRAMES
    return np.array([2.0 * pole.real, radius**2, power, (pole**2).real, 2.0 * pole.imag, (pole**2).imag], np.float32)


def first_bands(rate: float) -> NDArray[np.int64]:
    """(STAGES + 1,): how many bands, from the lowest, are heard at this stage or a later one."""
    stage = stages_of(rate)
    return np.array([int((stage >= s).sum()) for s in range(STAGES + 1)], np.int64)


def heard_power(hz: Array, bands: Array) -> Array:
    """(bands, hz): power that a band passes of a sine at hz, 1 in its middle."""
    beta = WIDTH * bands[:, None] / 2.0
    return np.asarray(1.0 / (1.0 + ((hz[None, :] - bands[:, None]) / beta) ** 2) ** 2)


@inline
def resonate(line, count, begun, first, last, poles, z, energy):  # type: ignore[no-untyped-def]
    """A stretch of a stage's samples into its bands, two at a time: their recursions run beside each other.

    z: (4, bands), the last two outputs of two real sections one after the other. What two complex poles in their place would give
    is (1 - p* z^-1)^2 of the second one's output: its power is added at every fourth sample of the stage. begun: samples before.
    """
    for b in range(first, last, 2):
        other = min(b + 1, last - 1)
        c, d = poles[0, b], poles[1, b]
        e, f = poles[0, other], poles[1, other]
        u1, u2, w1, w2 = z[0, b], z[1, b], z[2, b], z[3, b]
        x1, x2, y1, y2 = z[0, other], z[1, other], z[2, other], z[3, other]
        total = energy[b]  # added to in the order of the samples, so that the division into stretches does not matter
        more = energy[other]
        w3 = w2
        y3 = y2
        i = 0
        while i < count:
            stop = min(count, i + EVERY - ((begun + i) & (EVERY - 1)))
            for k in range(HISTORY + i, HISTORY + stop):
                v = line[k]
                u = (v - d * u2) + c * u1
                u2 = u1
                u1 = u
                w = (u - d * w2) + c * w1
                w3 = w2
                w2 = w1
                w1 = w
                x = (v - f * x2) + e * x1
                x2 = x1
                x1 = x
                y = (x - f * y2) + e * y1
                y3 = y2
                y2 = y1
                y1 = y
            if (begun + stop) & (EVERY - 1) == 0:
                re = (w1 - c * w2) + poles[3, b] * w3
                im = poles[4, b] * w2 - poles[5, b] * w3
                total += re * re + im * im
                re = (y1 - e * y2) + poles[3, other] * y3
                im = poles[4, other] * y2 - poles[5, other] * y3
                more += re * re + im * im
            i = stop
        z[0, b], z[1, b], z[2, b], z[3, b] = u1, u2, w1, w2
        energy[b] = total
        if other > b:
            z[0, other], z[1, other], z[2, other], z[3, other] = x1, x2, y1, y2
            energy[other] = more


@inline
def hear(x, poles, starts, taps, z, lines, counts, energy):  # type: ignore[no-untyped-def]
    """A stretch of one channel, a tick at most, into the bank. lines: (STAGES, HISTORY + TICK_FRAMES), what came before and what
    comes; counts: (STAGES,)."""
    count = x.shape[0]
    for i in range(count):
        lines[0, HISTORY + i] = x[i]
    for stage in range(STAGES):
        line = lines[stage]
        resonate(line, count, counts[stage], starts[stage + 1], starts[stage], poles, z, energy)
        if starts[stage + 1] == 0:
            counts[stage] += count
            return
        following = lines[stage + 1]
        halved = 0
        for i in range(count):
            counts[stage] += 1
            if counts[stage] & 1 == 0:
                middle = i + HISTORY // 2
                v = np.float32(0.5) * line[middle]
                for n in range(HALF_TAPS):
                    v += taps[n] * (line[middle - 2 * n - 1] + line[middle + 2 * n + 1])
                following[HISTORY + halved] = v
                halved += 1
        for i in range(HISTORY):
            line[i] = line[i + count]
        count = halved
        if count == 0:
            return


@inline
def judge(average, own, sides, spans, bells, count, now, level, target):  # type: ignore[no-untyped-def]
    """What each bell is to take, in dB, from the bands' powers. own: (bells, bands); sides: (2, bells, bands), in shares of 1;
    spans: (bells, 2), the first band that has one and the one after the last."""
    bands = average.shape[0]
    for b in range(bands):
        level[b] = 10.0 * math.log10(average[b] + 1e-30)
    for n in range(count):
        power = 0.0
        below = 0.0
        above = 0.0
        some = 0.0
        more = 0.0
        if bells[n, SHARE] == 0.0:
            target[n] = 0.0
            continue
        for b in range(spans[n, 0], spans[n, 1]):
            power += own[n, b] * average[b]
            below += sides[0, n, b] * level[b]
            above += sides[1, n, b] * level[b]
            some += sides[0, n, b]
            more += sides[1, n, b]
        if power < SILENT_POWER or some + more == 0.0:
            target[n] = 0.0
            continue
        if some == 0.0:
            around = above
        elif more == 0.0:
            around = below
        else:
            around = max(0.5 * (below + above), max(below, above) - EDGE_DB)
        excess = (10.0 * math.log10(power) - around) * bells[n, RATIO]
        share = min(max(2.0 * (excess / bells[n, LEAST] - 1.0), 0.0), 1.0)
        excess *= share * share * (3.0 - 2.0 * share)
        target[n] = bells[n, PART] * min(now[AMOUNT] * bells[n, SHARE] * min(excess, bells[n, LIMIT]), now[RANGE])


@inline
def gain_of(db):  # type: ignore[no-untyped-def]
    return 10.0 ** (db / 20.0) if db != 0.0 else 1.0


@inline
def bell_of(bell, cut_db):  # type: ignore[no-untyped-def]
    """Coefficients of a state-variable filter, and what of its band is added, for a bell that is so deep."""
    gain = 10.0 ** (-cut_db / 20.0)
    k = 1.0 / (bell[Q] * math.sqrt(gain))
    a1 = 1.0 / (1.0 + bell[TANGENT] * (bell[TANGENT] + k))
    a2 = bell[TANGENT] * a1
    return a1, a2, bell[TANGENT] * a2, (gain - 1.0) * k


@kernel(
    "void(float32[:,::1],float32[:,::1],float32[:,::1],float64[:,::1],float64[:,::1],float64[::1],float64[::1],float64[::1],"
    "float64[:,::1],float64[:,:,::1],int64[:,::1],float32[:,::1],int64[::1],float32[::1],float64[::1],float32[:,:,::1],"
    "float32[:,:,::1],int64[:,::1],float32[:,::1],float64[:,::1],float64[:,::1],float64[:,::1],float64[:,:,::1],float32[:,::1],float64[:,::1],"
    "float32[:,::1],float64[::1])"
)
def tame(  # type: ignore[no-untyped-def]
    x, source, y, bells, moving, settings, now, state, own, sides, spans, poles, starts, taps, averaging, z, lines, counts,
    energy, average, target, cut, memory, ring, work, trace, level,
):  # fmt: skip
    """Take from x what sticks out of source.

    x, source, y: (channels, frames). bells, moving: (bells, BELL), wanted and current. settings, now: (GLIDING,). own:
    (bells, bands); sides: (2, bells, bands); spans: (bells, 2). averaging: (bands,), part of the way each grid step. z:
    (channels, 4, bands); lines: (channels, STAGES, HISTORY + TICK_FRAMES); counts: (channels, STAGES); energy, average:
    (channels, bands). target, cut: (2, MAX_BELLS), dB. memory: (channels, MAX_BELLS, 2). ring: (channels, a power of two). work:
    (channels, TICK_FRAMES). trace: (2 + bells, ticks), most taken, peak of source, each bell. state[APART]: x is treated as
    middle and sides, and source is given so.
    """
    channels, frames = x.shape
    count = bells.shape[0]
    bands = average.shape[1]
    sets = int(state[SETS])
    delay = int(state[DELAY])
    mask = ring.shape[1] - 1
    heard_bits, trace_bits = source.view(np.int32), trace.view(np.int32)
    first_phase = int(state[POSITION]) % TICK_FRAMES
    if state[PRIMED] == 0.0:
        for n in range(count):
            for i in range(BELL):
                moving[n, i] = bells[n, i]
        for i in range(GLIDING):
            now[i] = settings[i]
        state[PRIMED] = 1.0
        state[TO_MIX], state[TO_GAIN] = now[MIX], gain_of(now[OUTPUT])
    glide = state[GLIDE]
    start = 0
    while start < frames:
        position = int(state[POSITION])
        phase = position % TICK_FRAMES
        length = min(TICK_FRAMES - phase, frames - start)
        if phase == 0:
            share = share_of(glide)
            glide = after_tick(glide)
            for i in range(GLIDING):
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-4 else now[i] + gap * share
            state[FROM_MIX], state[FROM_GAIN] = state[TO_MIX], state[TO_GAIN]
            state[TO_MIX], state[TO_GAIN] = now[MIX], gain_of(now[OUTPUT])
            for n in range(count):
                for i in range(BELL):
                    gap = bells[n, i] - moving[n, i]
                    moving[n, i] = bells[n, i] if abs(gap) < 1e-6 * abs(bells[n, i]) else moving[n, i] + gap * share
            if position % GRID_FRAMES == 0:
                for c in range(channels):
                    for b in range(bands):
                        gap = np.float64(energy[c, b]) * poles[2, b] - average[c, b]
                        average[c, b] += gap * averaging[b]
                        if average[c, b] < DENORMAL:
                            average[c, b] = 0.0
                        energy[c, b] = np.float32(0.0)
                        for k in range(4):
                            if abs(z[c, k, b]) < np.float32(1e-18):
                                z[c, k, b] = np.float32(0.0)
                for one in range(sets):
                    if sets == 1 and channels == 2:
                        for b in range(bands):
                            level[bands + b] = average[0, b] + average[1, b]
                        judge(level[bands:], own, sides, spans, moving, count, now, level, target[one])
                    else:
                        judge(average[one], own, sides, spans, moving, count, now, level, target[one])
            for n in range(count):
                for one in range(sets):
                    gap = target[one, n] - cut[one, n]
                    part = state[ATTACK] if gap > 0.0 else moving[n, RELEASE]
                    cut[one, n] = target[one, n] if abs(gap) < 1e-3 else cut[one, n] + gap * part
        column = (first_phase + start) // TICK_FRAMES
        for n in range(count):
            most = max(cut[0, n], cut[1, n]) if sets == 2 else cut[0, n]
            trace[2 + n, column] = most
            trace[0, column] = max(trace[0, column], np.float32(most))
        for c in range(channels):
            signal = source[c, start : start + length]
            # Magnitudes sort like their bits: an integer maximum vectorises, a floating one does not.
            most_bits = np.int32(0)
            for i in range(start, start + length):
                most_bits = max(most_bits, heard_bits[c, i] & np.int32(0x7FFFFFFF))
            trace_bits[1, column] = max(trace_bits[1, column], most_bits)
            hear(signal, poles, starts, taps, z[c], lines[c], counts[c], energy[c])
            line = ring[c]
            for i in range(length):
                line[(position + i) & mask] = x[c, start + i]
            for i in range(length):
                work[c, i] = line[(position + i - delay) & mask]
        if state[APART] != 0.0:
            for i in range(length):
                one, other = work[0, i], work[1, i]
                work[0, i] = 0.5 * (one + other)
                work[1, i] = 0.5 * (one - other)
        for n in range(count):
            if cut[0, n] == 0.0 and (sets == 1 or cut[1, n] == 0.0):
                for c in range(channels):
                    memory[c, n, 0] = 0.0
                    memory[c, n, 1] = 0.0
                continue
            a1, a2, a3, less = bell_of(moving[n], cut[0, n])
            # As a matrix: the next state is two multiply-adds away, not six.
            a, b, d, e, f, h = 2.0 * a1 - 1.0, 2.0 * a2, 1.0 - 2.0 * a3, 2.0 * a3, less * a1, less * a2
            first, second = memory[0, n, 0], memory[0, n, 1]
            if channels == 1:
                for i in range(length):
                    v = work[0, i]
                    work[0, i] = v + (h * v + f * first - h * second)
                    following = a * first + (b * v - b * second)
                    second = d * second + (e * v + b * first)
                    first = following
            else:
                # Both sides in one loop: their recursions run beside each other.
                b1, b2, b3, fewer = bell_of(moving[n], cut[sets - 1, n])
                j, k, m, o, p, q = 2.0 * b1 - 1.0, 2.0 * b2, 1.0 - 2.0 * b3, 2.0 * b3, fewer * b1, fewer * b2
                third, fourth = memory[1, n, 0], memory[1, n, 1]
                for i in range(length):
                    v = work[0, i]
                    w = work[1, i]
                    work[0, i] = v + (h * v + f * first - h * second)
                    work[1, i] = w + (q * w + p * third - q * fourth)
                    following = a * first + (b * v - b * second)
                    second = d * second + (e * v + b * first)
                    first = following
                    following = j * third + (k * w - k * fourth)
                    fourth = m * fourth + (o * w + k * third)
                    third = following
                if phase + length == TICK_FRAMES:
                    third = 0.0 if abs(third) < DENORMAL else third
                    fourth = 0.0 if abs(fourth) < DENORMAL else fourth
                memory[1, n, 0], memory[1, n, 1] = third, fourth
            if phase + length == TICK_FRAMES:
                first = 0.0 if abs(first) < DENORMAL else first
                second = 0.0 if abs(second) < DENORMAL else second
            memory[0, n, 0], memory[0, n, 1] = first, second
        if state[APART] != 0.0:  # exact: half the sum of two float32 fits float64
            for i in range(length):
                middle, side = work[0, i], work[1, i]
                work[0, i] = middle + side
                work[1, i] = middle - side
        mix_step = (state[TO_MIX] - state[FROM_MIX]) / TICK_FRAMES
        gain_step = (state[TO_GAIN] - state[FROM_GAIN]) / TICK_FRAMES
        for c in range(channels):
            line = ring[c]
            for i in range(length):
                dry = np.float64(line[(position + i - delay) & mask])
                along = phase + i + 1
                mix = state[FROM_MIX] + mix_step * along
                y[c, start + i] = np.float32((state[FROM_GAIN] + gain_step * along) * (dry + mix * (work[c, i] - dry)))
        start += length
        state[POSITION] += length
