"""The ducker's kernel: a dip whose depth is set, that follows the level of a key or starts at each of its hits.

    key --> peak detector, both sides --+--> dB over the threshold, over the span ------------------+
                                        +--> falling peak --> hit? -- the same dip each time -------+--> dip 0..1 --> gain
                                                                          attack, hold, decay in straight lines

The dip moves in straight lines, so that attack and decay end when they say; its shape bends the way between.
(The design is ours; no source.)
"""

import numpy as np

from saltanvil.dsp.detector import HISTORY, detect
from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, kernel, share_of
from saltanvil.dsp.logs import TINY, exp2_block, log2_block

# Target settings; those before GLIDING glide from tick to tick. Levels in dB; RISE and FALL are shares a frame.
(THRESHOLD, DEPTH, SHAPE, GLIDING, SPAN, RISE, FALL, HOLD, HITS, LOOKAHEAD, DROP, SLOW, GAP, GLIDE, LONGEST,
 GROUPS, SETTINGS) = range(17)  # fmt: skip
# State: the gliding settings, then followers.
(POSITION, PRIMED, PEAK, SLOW_AT, DIP, HOLDING, RISING, ARMED, SINCE, DEPTH_FROM, SHAPE_FROM, STATE) = range(
    GLIDING, GLIDING + 12
)
WORK_ROWS, WORK_FRAMES = 9, TICK_FRAMES + HISTORY
# Rows of the trace, one column a tick: reduction in dB, level at the detector in dB, dip 0..1, hits.
TRACE_ROWS = 4
#: A hit stands this much over the level that was (6 dB), and the next can come when the peak is down to that level.
HIT = 2.0
DB_PER_OCTAVE = np.float32(10.0 * np.log10(2.0))
OCTAVES_PER_DB = np.float32(1.0 / (20.0 * np.log10(2.0)))


@kernel(
    "void(float32[:,::1],float32[:,::1],float32[:,::1],float64[::1],float64[::1],float64[:,::1],float32[:,::1],float32[:,::1],"
    "float32[:,::1])"
)
def duck(x, key, y, settings, state, memory, ring, trace, work):  # type: ignore[no-untyped-def]
    """Duck a block of any length.

    x, key, y: (channels, frames). ring: (channels, size), size a power of two of at least lookahead + TICK_FRAMES.
    memory: from `detector_memory`. trace: (TRACE_ROWS, a column for every tick touched), zeros. work: (WORK_ROWS,
    WORK_FRAMES), scratch.
    """
    channels, frames = x.shape
    bits = work.view(np.int32)
    levels, fraction, gains = work[0], work[1], work[2]
    power, power_bits = work[3], bits[3]
    mantissa, mantissa_bits = work[4], bits[4]
    shift = bits[5]
    gains_bits = bits[2]
    exponent = work[6]
    now = state[:GLIDING]
    if state[PRIMED] == 0.0:
        copy(settings[:GLIDING], now)
        state[PRIMED] = 1.0
        state[DEPTH_FROM], state[SHAPE_FROM] = now[DEPTH], now[SHAPE]
        state[ARMED] = 1.0
        state[SINCE] = settings[GAP]
    mask = ring.shape[1] - 1
    lookahead = int(settings[LOOKAHEAD])
    rise, fall, hold = settings[RISE], settings[FALL], settings[HOLD]
    by_hits = settings[HITS] != 0.0
    glide = settings[GLIDE]
    start = 0
    column = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        if phase == 0:
            state[DEPTH_FROM], state[SHAPE_FROM] = now[DEPTH], now[SHAPE]
            share = share_of(glide)
            glide = after_tick(glide)
            for i in range(GLIDING):
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-4 else now[i] + gap * share
        count = min(TICK_FRAMES - phase, frames - start)
        peak, slow = state[PEAK], state[SLOW_AT]
        hits = 0.0
        threshold_gain = 10.0 ** (now[THRESHOLD] / 20.0)
        dip, holding, rising = state[DIP], state[HOLDING], state[RISING]
        groups = 0 if by_hits else int(settings[GROUPS])
        detect(key, start, 0, channels, 0.0, memory, int(state[POSITION]), settings[LONGEST], groups, work[5:7], power, count)
        if by_hits:
            for i in range(count):
                peak = max(np.sqrt(np.float64(power[i])), peak * settings[DROP])
                power[i] = max(np.float32(peak * peak), TINY)
                state[SINCE] += 1.0
                if state[ARMED] != 0.0 and peak > HIT * slow and peak > threshold_gain and state[SINCE] > settings[GAP]:
                    rising = 1.0
                    state[ARMED] = 0.0
                    state[SINCE] = 0.0
                    hits += 1.0
                slow = peak + (slow - peak) * settings[SLOW]
                if peak <= slow:
                    state[ARMED] = 1.0
                if rising != 0.0:
                    dip += rise
                    if dip >= 1.0:
                        dip = 1.0
                        rising = 0.0
                        holding = hold + max(settings[LOOKAHEAD] - state[SINCE], 0.0)  # from the hit itself on
                elif holding > 0.0:
                    holding -= 1.0
                else:
                    dip = max(0.0, dip - fall)
                exponent[i] = np.float32(dip)
        log2_block(power, power_bits, mantissa, mantissa_bits, levels, count)
        loudest = np.float32(-160.0)
        for i in range(count):
            levels[i] *= DB_PER_OCTAVE
            loudest = max(loudest, levels[i])
        if not by_hits:
            threshold, span = now[THRESHOLD], settings[SPAN]
            for i in range(count):
                target = min(max((levels[i] - threshold) / span, 0.0), 1.0)
                if target >= dip:
                    dip = min(target, dip + rise)
                    holding = hold
                elif holding > 0.0:
                    holding -= 1.0
                else:
                    dip = max(target, dip - fall)
                exponent[i] = np.float32(dip)
        deepest = np.float32(0.0)
        shape = np.float32(now[SHAPE])
        scale = np.float32(now[DEPTH]) * OCTAVES_PER_DB
        moving = state[DEPTH_FROM] != now[DEPTH] or state[SHAPE_FROM] != now[SHAPE]
        for i in range(count):
            p = exponent[i]
            deepest = max(deepest, p)
            if moving:
                gone = np.float64(phase + i + 1) / TICK_FRAMES
                shape = np.float32(state[SHAPE_FROM] + (now[SHAPE] - state[SHAPE_FROM]) * gone)
                scale = np.float32(state[DEPTH_FROM] + (now[DEPTH] - state[DEPTH_FROM]) * gone) * OCTAVES_PER_DB
            # Above 0 it comes back quickly at first, below 0 it stays down for long.
            bent = p + shape * (p * p - p) if shape >= 0.0 else p - shape * (p - p * p)
            exponent[i] = -scale * bent
        exp2_block(exponent, fraction, shift, gains, gains_bits, count)
        base = int(state[POSITION])
        for c in range(channels):
            for i in range(count):
                ring[c, (base + i) & mask] = x[c, start + i]
                y[c, start + i] = ring[c, (base + i - lookahead) & mask] * gains[i]
        bent = (
            deepest + shape * (deepest * deepest - deepest) if shape >= 0.0 else deepest - shape * (deepest - deepest * deepest)
        )
        trace[0, column] = max(trace[0, column], np.float32(now[DEPTH]) * bent)
        trace[1, column] = loudest if phase == 0 else max(trace[1, column], loudest)
        trace[2, column] = max(trace[2, column], deepest)
        trace[3, column] += np.float32(hits)
        state[DIP], state[HOLDING], state[RISING] = dip, holding, rising
        start += count
        state[POSITION] += count
        if phase + count == TICK_FRAMES:
            peak = 0.0 if peak < DENORMAL else peak
            slow = 0.0 if slow < DENORMAL else slow
            column += 1
        state[PEAK], state[SLOW_AT] = peak, slow
