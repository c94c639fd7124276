"""Kernels of the colours: a curve with memory around it, and the mix with what was not shaped.

    x --> drive --> highs lost, squeezed --+--> delay ------------------------------------(+)--> y
                           ^               |                                               |
            power, smoothed by three poles +--> + bias --> up --> rest --> down --> no DC -+

The *rest* of a curve f is r(v) = f(v) - v: what it adds to its input. Only the rest goes through the oversampling, so
that sound which the curve leaves alone passes as it came. With a bias b the curve is f(u + b) - f(b), and f has slope 1
where b stands at its rest, so that small signals are left alone there too.

What follows the level follows the mean power through three equal poles: a square has twice the frequency and its own
folds, and three poles leave nothing of either to modulate the sound with.

Aliasing is held down twice: by oversampling and by first-order antiderivative anti-aliasing (Parker, Zavalishin and
Le Bivic, "Reducing the aliasing of nonlinear waveshaping using continuous-time convolution", DAFx 2016; from memory).
Curves are held as tables of cubics with their exact antiderivatives, so that any curve serves.
"""

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.curve_table import CELLS, PER_UNIT, REACH
from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, copy_rows, inline, kernel, share_of
from saltanvil.dsp.oversample import doubled, halved
from saltanvil.dsp.ring import through_ring

Array = NDArray[np.float64]

# Target settings; those before GLIDING glide from tick to tick. Gains are linear.
(DRIVE, SECOND_DRIVE, LOSS, SQUEEZE, BIAS, MOVE, GLIDING, STEPS, LATENCY, PAD, LINKED, CURVE, GLIDE, POWER_POLE,
 LOSS_POLE, DC_POLE, SETTINGS) = range(17)  # fmt: skip
# State: the gliding settings, those they glide from, then per channel a row of followers.
POSITION, PRIMED, RING_AT, CURVE_AT, CURVE_LEFT, BENT, REST_BIAS, REST_VALUE, HEADER = range(12, 21)
(LAST_IN, LAST_MEAN, LAST_OTHER, POWER_1, POWER_2, POWER_3, LOW, DC_IN, DC_OUT, FOLLOWERS) = range(10)
STATE = HEADER + 2 * FOLLOWERS
MAX_FACTOR = 16
MAX_PAD = 16
#: While nothing glides, several ticks are worked through at once, up to this many samples at the highest rate.
CHUNK_FRAMES = 256
ROOM = TICK_FRAMES * MAX_FACTOR
WORK_ROWS = 12
#: Ticks in which a curve becomes another: what is left then is one part in a million.
CURVE_TICKS = 80
# Rows of the trace, one column a tick: peak taken off in dB, level at the curve in dB.
TRACE_ROWS = 2
#: Two samples nearer than this are taken as one, half-way between them.
NEAR = 1e-5
HALF = np.float32(0.5)
#: A mean power at which half of the highs that can be lost are lost: that of a full-scale sine.
LOSS_POWER = 0.5


@inline
def cell_of(v):  # type: ignore[no-untyped-def]
    return min(max(int((v + REACH) * PER_UNIT), 0), CELLS - 1)


@inline
def area_at(curve, v):  # type: ignore[no-untyped-def]
    """The antiderivative of the rest."""
    cell = cell_of(v)
    d = v - (cell / PER_UNIT - REACH)
    return curve[cell, 0] + d * (curve[cell, 1] + d * (curve[cell, 2] + d * (curve[cell, 3] + d * curve[cell, 4])))


@inline
def rest_at(curve, v):  # type: ignore[no-untyped-def]
    cell = cell_of(v)
    d = v - (cell / PER_UNIT - REACH)
    return curve[cell, 1] + d * (2.0 * curve[cell, 2] + d * (3.0 * curve[cell, 3] + d * 4.0 * curve[cell, 4]))


@inline
def rests(curve, v, before, last_mean, smooth, out, count):  # type: ignore[no-untyped-def]
    """out = the curve's rest for v, a sample late if `smooth`: the mean over the way from sample to sample.

    before: the sample before the stretch; last_mean: the mean that led there. Returns the last mean.
    """
    if not smooth:
        for i in range(count):
            out[i] = np.float32(rest_at(curve, np.float64(v[i])))
        return last_mean
    v0 = before
    area0 = area_at(curve, v0)
    for i in range(count):
        v1 = np.float64(v[i])
        area1 = area_at(curve, v1)
        moved = v1 - v0
        mean = rest_at(curve, 0.5 * (v0 + v1)) if abs(moved) < NEAR else (area1 - area0) / moved
        # The mean over two samples makes the half sample of delay a whole one.
        out[i] = np.float32(0.5 * (mean + last_mean))
        last_mean = mean
        v0 = v1
        area0 = area1
    return last_mean


def bends(state: NDArray[np.float64], settings: NDArray[np.float64]) -> bool:
    """Whether `saturate` would change its `curves`: at its first block, and while it glides from one to another."""
    gliding = state[CURVE_LEFT] > 0.0 or state[BENT] != 0.0 or state[CURVE_AT] != settings[CURVE]
    return bool(gliding or state[PRIMED] == 0.0)


@kernel(
    "void(float32[:,::1],float32[:,::1],float64[::1],float64[::1],float64[:,::1],float64[:,:,::1],float32[:,:,:,::1],"
    "int64[:,::1],float32[:,:,::1],float32[:,:,:,::1],float32[:,::1],float32[:,::1],float32[:,::1],float32[:,::1])"
)
def saturate(x, y, settings, state, curve, curves, ladder, taps, ups, downs, pads, ring, trace, work):  # type: ignore[no-untyped-def]
    """Shape a block of any length, LATENCY late.

    x, y: (channels, frames). curve: the table wanted; curves: (2, CELLS, 5), the one glided from and the one glided to.
    ladder: (2, stages, 2, taps), filters up and down; taps: (2, stages), how many of each half. ups: (channels,
    stages, room); downs: (channels, stages, 2, room); pads: (channels, room at the highest rate). ring: (2 channels,
    size), size a power of two of at least latency + CHUNK_FRAMES, for the sound and the bias. trace: (TRACE_ROWS, a
    column for every tick touched), zeros. work: (WORK_ROWS, room).
    """
    channels, frames = x.shape
    now = state[:GLIDING]
    before = state[GLIDING : 2 * GLIDING]
    if state[PRIMED] == 0.0:
        copy(settings[:GLIDING], now)
        copy(settings[:GLIDING], before)
        copy_rows(curve, curves[0])
        copy_rows(curve, curves[1])
        state[CURVE_AT] = settings[CURVE]
        # What stands at the beginning goes round the filters, which would answer it with a click, and around their noise.
        state[REST_BIAS] = np.float64(np.float32(now[BIAS]))
        state[REST_VALUE] = rest_at(curve, state[REST_BIAS])
        for c in range(channels):
            state[HEADER + c * FOLLOWERS + LAST_IN] = state[REST_BIAS]
            state[HEADER + c * FOLLOWERS + LAST_MEAN] = state[REST_VALUE]
            state[HEADER + c * FOLLOWERS + LAST_OTHER] = state[REST_VALUE]
        state[PRIMED] = 1.0
    stand, stand_rest = np.float32(state[REST_BIAS]), np.float32(state[REST_VALUE])
    steps = int(settings[STEPS])
    factor = 1 << steps
    latency = int(settings[LATENCY])
    pad = int(settings[PAD])
    mask = ring.shape[1] - 1
    low, high, even, odd, rest, other = work[0], work[1], work[2], work[3], work[4], work[5]
    power, bias, sound, bias_late = work[6], work[7], work[8], work[9]
    glide, spare = work[10], work[11]
    gliding = settings[GLIDE]
    start = 0
    column = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        bent = state[BENT] != 0.0
        if phase == 0:
            share = share_of(gliding)
            gliding = after_tick(gliding)
            for i in range(GLIDING):
                before[i] = now[i]
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-6 else now[i] + gap * share
            if state[CURVE_AT] != settings[CURVE]:
                state[CURVE_AT] = settings[CURVE]
                state[CURVE_LEFT] = CURVE_TICKS
            if bent or state[CURVE_LEFT] > 0.0:
                copy_rows(curves[1], curves[0])
                for c in range(channels):
                    state[HEADER + c * FOLLOWERS + LAST_OTHER] = state[HEADER + c * FOLLOWERS + LAST_MEAN]
            bent = state[CURVE_LEFT] > 0.0
            state[BENT] = 1.0 if bent else 0.0
            if bent:
                state[CURVE_LEFT] -= 1.0
                part = share if state[CURVE_LEFT] > 0.0 else 1.0
                for i in range(CELLS):
                    for k in range(5):
                        curves[1, i, k] = curves[0, i, k] + part * (curve[i, k] - curves[0, i, k])
        moving = bent
        for i in range(GLIDING):
            moving = moving or before[i] != now[i] or now[i] != settings[i]
        # Stretches end on multiples of their length, counted from the beginning, and never in the middle of a flush.
        length = TICK_FRAMES if moving else min(CHUNK_FRAMES, ROOM // factor)
        count = min(length - int(state[POSITION]) % length, frames - start)
        flush = (int(state[POSITION]) + count) % CHUNK_FRAMES == 0
        for i in range(count):
            glide[i] = np.float32(np.float64(phase + i + 1) / TICK_FRAMES) if moving else np.float32(1.0)
        follows = now[LOSS] != 0.0 or now[SQUEEZE] != 0.0 or now[MOVE] != 0.0 or before[LOSS] != 0.0
        follows = follows or before[SQUEEZE] != 0.0 or before[MOVE] != 0.0
        base = int(state[RING_AT])
        for c in range(channels):
            follower = state[HEADER + c * FOLLOWERS : HEADER + (c + 1) * FOLLOWERS]
            own = SECOND_DRIVE if c == 1 else DRIVE
            signal = x[c, start : start + count]
            for i in range(count):
                low[i] = np.float32(signal[i] * (before[own] + (now[own] - before[own]) * glide[i]))
            if follows:
                if settings[LINKED] == 0.0 or channels == 1:
                    for i in range(count):
                        power[i] = low[i] * low[i]
                elif c == 0:
                    second = x[1, start : start + count]
                    for i in range(count):
                        beside = second[i] * (before[SECOND_DRIVE] + (now[SECOND_DRIVE] - before[SECOND_DRIVE]) * glide[i])
                        spare[i] = np.float32(0.5 * (low[i] * low[i] + beside * beside))
                if settings[LINKED] != 0.0 and channels == 2:
                    for i in range(count):
                        power[i] = spare[i]
                pole = settings[POWER_POLE]
                p1, p2, p3 = follower[POWER_1], follower[POWER_2], follower[POWER_3]
                for i in range(count):
                    p1 = power[i] + (p1 - power[i]) * pole
                    p2 = p1 + (p2 - p1) * pole
                    p3 = p2 + (p3 - p2) * pole
                    power[i] = np.float32(p3)
                follower[POWER_1], follower[POWER_2], follower[POWER_3] = p1, p2, p3
                lost, pole = follower[LOW], settings[LOSS_POLE]
                for i in range(count):
                    along = np.float64(glide[i])
                    p = np.float64(power[i])
                    lost = low[i] + (lost - low[i]) * pole
                    loss = (before[LOSS] + (now[LOSS] - before[LOSS]) * along) * p / (p + LOSS_POWER)
                    squeeze = before[SQUEEZE] + (now[SQUEEZE] - before[SQUEEZE]) * along
                    low[i] = np.float32((low[i] - loss * (low[i] - lost)) / np.sqrt(1.0 + squeeze * p))
                    level = np.sqrt(max(p, 0.0))
                    move = (before[MOVE] + (now[MOVE] - before[MOVE]) * along) * level / (1.0 + level)
                    bias[i] = np.float32(before[BIAS] + (now[BIAS] - before[BIAS]) * along + move) - stand
                follower[LOW] = lost
            else:
                for i in range(count):
                    bias[i] = np.float32(before[BIAS] + (now[BIAS] - before[BIAS]) * np.float64(glide[i])) - stand
            through_ring(low, 0, ring[c], base, latency, sound, count)
            through_ring(bias, 0, ring[channels + c], base, latency, bias_late, count)
            for i in range(count):
                low[i] += bias[i]
            at = 0
            tick = column
            while at < count:
                run = min(TICK_FRAMES - (phase + at) % TICK_FRAMES, count - at)
                loudest = np.float32(0.0)
                for i in range(at, at + run):
                    loudest = max(loudest, abs(low[i] + stand))
                trace[1, tick] = max(trace[1, tick], loudest)
                tick += 1
                at += run
            size = count
            for s in range(steps):
                doubled(low, ups[c, s], ladder[0, s], taps[0, s], True, even, odd, high, size)
                size *= 2
                for i in range(size):
                    low[i] = high[i]
            for i in range(size):
                low[i] += stand
            last_in, last_mean = follower[LAST_IN], follower[LAST_MEAN]
            if bent:
                last_other = follower[LAST_OTHER]
                follower[LAST_OTHER] = rests(curves[0], low, last_in, last_other, steps > 0, other, size)
            follower[LAST_MEAN] = rests(curves[1], low, last_in, last_mean, steps > 0, rest, size)
            follower[LAST_IN] = np.float64(low[size - 1])
            if bent:
                for i in range(size):
                    share = np.float32(np.float64(phase * factor + i + 1) / (TICK_FRAMES * factor))
                    rest[i] = other[i] + share * (rest[i] - other[i])
            late = pad if steps > 0 else 0
            padding = pads[c]
            for i in range(size):
                padding[late + i] = rest[i] - stand_rest
            for i in range(size):
                high[i] = padding[i]
            for i in range(late):
                padding[i] = padding[size + i]
            for s in range(steps - 1, -1, -1):
                size //= 2
                for i in range(2 * size):
                    low[i] = high[i]
                halved(low, downs[c, s], ladder[1, s], taps[1, s], s > 0, odd, high, size)
            last_in, last_out = follower[DC_IN], follower[DC_OUT]
            out = y[c, start : start + count]
            for i in range(count):
                place = np.float64(stand + bias_late[i])
                entered = np.float64(high[i]) - (
                    rest_at(curves[1], place) - state[REST_VALUE] if place != 0.0 or stand != 0.0 else 0.0
                )
                last_out = entered - last_in + settings[DC_POLE] * last_out
                last_in = entered
                out[i] = np.float32(sound[i] + last_out)
            follower[DC_IN], follower[DC_OUT] = last_in, last_out
            if flush:
                for i in range(POWER_1, FOLLOWERS):
                    if abs(follower[i]) < DENORMAL:
                        follower[i] = 0.0
        at = 0
        while at < count:
            v = np.float64(trace[1, column])
            left = max(abs(v + rest_at(curves[1], v)), 1e-8)
            trace[0, column] = np.float32(20.0 * np.log10(max(v, 1e-8) / left))
            trace[1, column] = np.float32(20.0 * np.log10(max(v, 1e-8)))
            at += TICK_FRAMES - (phase + at) % TICK_FRAMES
            column += 1
        start += count
        state[POSITION] += count
        state[RING_AT] = np.float64((base + count) & mask)


# Settings of the mix; those before GLIDING_MIX glide.
BACK, OUTPUT, MIX, LIVEN, GLIDING_MIX, LATE, MIX_GLIDE, FAST_POLE, SLOW_POLE, HIGH_POLE, MIX_SETTINGS = range(11)
MIX_POSITION, MIX_PRIMED, MIX_RING_AT, MIX_HEADER = 8, 9, 10, 12
(FAST_1, FAST_2, SLOW_1, SLOW_2, WET_LOW, MIX_FOLLOWERS) = range(6)
MIX_STATE = MIX_HEADER + 2 * MIX_FOLLOWERS
MIX_ROWS = 4


@kernel("void(float32[:,::1],float32[:,::1],float32[:,::1],float64[::1],float64[::1],float32[:,::1],float32[:,::1])")
def finish(wet, dry, y, settings, state, ring, work):  # type: ignore[no-untyped-def]
    """y = OUTPUT ((1 - MIX) dry + MIX BACK lively wet), dry LATE frames later than it is given.

    Lively: where the input's fast power stands over its slow one, by a share s of it, the wet sound is raised by
    LIVEN s and its highs by as much again; s is found in the dry sound. The sides share it.
    wet, dry, y: (channels, frames). ring: (channels + 1, size), a power of two. work: (MIX_ROWS, CHUNK_FRAMES).
    """
    channels, frames = wet.shape
    now = state[:GLIDING_MIX]
    before = state[GLIDING_MIX : 2 * GLIDING_MIX]
    if state[MIX_PRIMED] == 0.0:
        copy(settings[:GLIDING_MIX], now)
        copy(settings[:GLIDING_MIX], before)
        state[MIX_PRIMED] = 1.0
    lift, lift_late, late = work[0], work[1], work[2]
    mask = ring.shape[1] - 1
    gliding = settings[MIX_GLIDE]
    start = 0
    while start < frames:
        phase = int(state[MIX_POSITION]) % TICK_FRAMES
        if phase == 0:
            if now[LIVEN] == 0.0 and settings[LIVEN] != 0.0:
                # As if the powers had been followed until now, and no attack were passing.
                for c in range(channels):
                    power = 0.0
                    for i in range(ring.shape[1]):
                        power += np.float64(ring[c, i]) * ring[c, i]
                    for i in (FAST_1, FAST_2, SLOW_1, SLOW_2):
                        state[MIX_HEADER + c * MIX_FOLLOWERS + i] = power / ring.shape[1]
            share = share_of(gliding)
            gliding = after_tick(gliding)
            for i in range(GLIDING_MIX):
                before[i] = now[i]
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-6 else now[i] + gap * share
        count = min(TICK_FRAMES - phase, frames - start)
        base = int(state[MIX_RING_AT])
        lively = now[LIVEN] != 0.0 or before[LIVEN] != 0.0
        for i in range(count):
            lift[i] = np.float32(0.0)
        for c in range(channels if lively else 0):
            follower = state[MIX_HEADER + c * MIX_FOLLOWERS : MIX_HEADER + (c + 1) * MIX_FOLLOWERS]
            f1, f2, s1, s2 = follower[FAST_1], follower[FAST_2], follower[SLOW_1], follower[SLOW_2]
            fast, slow = settings[FAST_POLE], settings[SLOW_POLE]
            for i in range(count):
                p = np.float64(dry[c, start + i]) * dry[c, start + i]
                f1 = p + (f1 - p) * fast
                f2 = f1 + (f2 - f1) * fast
                s1 = p + (s1 - p) * slow
                s2 = s1 + (s2 - s1) * slow
                lift[i] = max(lift[i], np.float32(1.0 - s2 / (f2 + 1e-12)))
            follower[FAST_1], follower[FAST_2], follower[SLOW_1], follower[SLOW_2] = f1, f2, s1, s2
        through_ring(lift, 0, ring[channels], base, int(settings[LATE]), lift_late, count)
        for c in range(channels):
            through_ring(dry[c], start, ring[c], base, int(settings[LATE]), late, count)
            follower = state[MIX_HEADER + c * MIX_FOLLOWERS : MIX_HEADER + (c + 1) * MIX_FOLLOWERS]
            signal = wet[c, start : start + count]
            out = y[c, start : start + count]
            lowered = follower[WET_LOW]
            for i in range(count):
                along = np.float64(phase + i + 1) / TICK_FRAMES
                shaped = np.float64(signal[i])
                if lively:
                    lowered = shaped + (lowered - shaped) * settings[HIGH_POLE]
                    rise = (before[LIVEN] + (now[LIVEN] - before[LIVEN]) * along) * lift_late[i]
                    shaped += rise * (shaped + (shaped - lowered))
                back = before[BACK] + (now[BACK] - before[BACK]) * along
                mix = before[MIX] + (now[MIX] - before[MIX]) * along
                output = before[OUTPUT] + (now[OUTPUT] - before[OUTPUT]) * along
                out[i] = np.float32(output * (late[i] + mix * (shaped * back - late[i])))
            follower[WET_LOW] = lowered
            if phase + count == TICK_FRAMES:
                for i in range(MIX_FOLLOWERS):
                    if abs(follower[i]) < DENORMAL:
                        follower[i] = 0.0
        start += count
        state[MIX_POSITION] += count
        state[MIX_RING_AT] = np.float64((base + count) & mask)
