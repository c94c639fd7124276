"""The state of a gate and its gain: one kernel for gate and expander.

    audio --+--> lookahead delay ------------------------------(x)--> out
            |                                                   ^
    key ----+--> detector --> link --> gate state --> gain --> attack / release

The gate opens when the level passes the threshold, and closes when it has been below threshold - hysteresis for the
hold time. While it is not open the wanted gain is the floor (gate), or ratio - 1 decibels less for each decibel
below the threshold, down to the floor (expander). Attack and release move the gain itself, linearly: one-pole
smoothing in the branching form of Giannoulis, Massberg and Reiss, J. Audio Eng. Soc. 60(6), 2012, eq. 17.
"""

import numpy as np

from saltanvil.dsp.detector import HISTORY, detect, detectors_of
from saltanvil.dsp.kernel import TICK_FRAMES, after_tick, copy, inline, kernel, share_of
from saltanvil.dsp.logs import TINY, exp2_block, log2_block
from saltanvil.dsp.ring import through_ring

# Target settings; those before GLIDING glide from tick to tick. Levels and the floor are in dB.
(OPENS, CLOSES, FLOOR, SLOPE, LINK, GLIDING, ATTACK, RELEASE, HOLD, RMS, LOOKAHEAD, GLIDE, LONGEST, GROUPS, SETTINGS) = range(15)
# State: the gliding settings, the powers and the gain they make, then per channel a row of followers.
POSITION, RING_AT, PRIMED, OPEN_POWER, CLOSE_POWER, FLOOR_GAIN, HEADER = 8, 9, 10, 11, 12, 13, 16
(GAIN, HOLD_LEFT, GATE, FOLLOWERS) = range(4)
STATE = HEADER + 2 * FOLLOWERS
CHUNK_FRAMES = 256
WORK_ROWS, WORK_FRAMES = 9, CHUNK_FRAMES + HISTORY

CLOSED, CLOSING, HOLDING, OPEN = range(4)
GATE_STATES = ("closed", "closing", "hold", "open")
#: A floor of this and less is silence.
SILENT_FLOOR_DB = -90.0
#: A gain this near its floor is closed.
NEAR_FLOOR = 1.05
MIN_GAIN = 1e-5
#: What is told of a gate that is silent: its range.
SILENT_GAIN = 10.0 ** (SILENT_FLOOR_DB / 20.0)
# Rows of the trace, one column a tick: reduction in dB, level at the detector in dB, gate state, openings.
TRACE_ROWS = 4


@inline
def gate_block(power, targets, opening, closing, follower, settings, count):  # type: ignore[no-untyped-def]
    """Move the gate over a stretch and leave the gain in `wanted`, which holds the gain for a gate that is not open.

    Returns how often the gate opened.
    """
    gain = follower[GAIN]
    hold_left = follower[HOLD_LEFT]
    is_open = follower[GATE] >= HOLDING
    attack = settings[ATTACK]
    release = settings[RELEASE]
    hold = settings[HOLD]
    plain = settings[SLOPE] == 0.0
    to_open = 1.0 - attack
    to_shut = np.float64(targets[0]) * (1.0 - release)
    opened = 0
    for i in range(count):
        # Without a branch: noise around the threshold would make every one a wrong guess.
        level = power[i]
        was_open = is_open
        loud = (level > opening) | (was_open & (level > closing))
        is_open = loud | (was_open & (hold_left > 0.0))
        hold_left = hold if loud else hold_left - 1.0
        opened += is_open & (not was_open)
        if plain:  # an open gate's gain only rises and a closed one's only falls
            gain = gain * (attack if is_open else release) + (to_open if is_open else to_shut)
        else:
            target = 1.0 if is_open else np.float64(targets[i])
            rising = target + (gain - target) * attack
            falling = target + (gain - target) * release
            gain = rising if target > gain else falling
        targets[i] = np.float32(gain)
    follower[GAIN] = gain
    follower[HOLD_LEFT] = hold_left
    if is_open:
        follower[GATE] = OPEN if hold_left == hold else HOLDING
    else:
        follower[GATE] = CLOSING
    return opened


@kernel(
    "void(float32[:,::1],float32[:,::1],float32[:,::1],float64[::1],float64[::1],float64[:,::1],float32[:,::1],float32[:,::1],"
    "float32[:,::1])"
)
def gate(x, key, y, settings, state, memory, ring, trace, work):  # type: ignore[no-untyped-def]
    """Gate or expand a block of any length. SLOPE is ratio - 1; 0 makes a gate.

    x, key, y: (channels, frames). ring: (channels, size), size a power of two of at least lookahead + CHUNK_FRAMES.
    memory: from `detector_memory`. trace: (TRACE_ROWS, a column for every tick touched), zeros. work: (WORK_ROWS,
    WORK_FRAMES), scratch.
    """
    channels, frames = x.shape
    now = state[:GLIDING]
    primed = state[PRIMED] != 0.0
    if not primed:
        copy(settings[:GLIDING], now)
    bits_of_work = work.view(np.int32)
    power = work[0:2]
    gains = work[2:4]
    late = work[4]
    exponent, exponent_bits = work[5], bits_of_work[5]
    mantissa, mantissa_bits = work[6], bits_of_work[6]
    factor, factor_bits = work[7], bits_of_work[7]
    shift = bits_of_work[8]
    lookahead = int(settings[LOOKAHEAD])
    glide = settings[GLIDE]
    start = 0
    column = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        settled = primed
        for i in range(GLIDING):
            settled = settled and now[i] == settings[i]
        if (phase == 0 and not settled) or not primed:
            share = share_of(glide)
            glide = after_tick(glide)
            for i in range(GLIDING):
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-4 else now[i] + gap * share
            state[OPEN_POWER] = 10.0 ** (now[OPENS] / 10.0)
            state[CLOSE_POWER] = 10.0 ** (now[CLOSES] / 10.0)
            state[FLOOR_GAIN] = 0.0 if now[FLOOR] <= SILENT_FLOOR_DB else 10.0 ** (now[FLOOR] / 20.0)
            if not primed:
                state[HEADER + GAIN] = state[FLOOR_GAIN]
                state[HEADER + FOLLOWERS + GAIN] = state[FLOOR_GAIN]
                primed = True
                state[PRIMED] = 1.0
        floor = state[FLOOR_GAIN]
        count = min((CHUNK_FRAMES if settled else TICK_FRAMES) - phase, frames - start)
        # A gate's state and its count are traced for each tick, so it moves tick by tick.
        detectors = detectors_of(memory, channels, now[LINK])
        linked = detectors < channels
        for d in range(detectors):
            sides = channels if linked else 1
            detect(
                key, start, d, sides, settings[RMS], memory, int(state[POSITION]), settings[LONGEST], int(settings[GROUPS]),
                work[5:7], power[d], count,
            )  # fmt: skip
        if detectors == 2 and now[LINK] > 0.0:
            link = np.float32(now[LINK])
            for i in range(count):
                both = max(power[0, i], power[1, i])
                power[0, i] += link * (both - power[0, i])
                power[1, i] += link * (both - power[1, i])
        for d in range(detectors):
            level = power[d]
            targets = gains[d]
            if now[SLOPE] > 0.0:
                # (level / threshold) to the power ratio - 1, of amplitudes.
                scale = np.float32(1.0 / state[OPEN_POWER])
                half = np.float32(0.5 * now[SLOPE])
                lowest = np.float32(floor)
                for i in range(count):
                    exponent[i] = max(min(level[i] * scale, np.float32(1.0)), TINY)
                log2_block(exponent, exponent_bits, mantissa, mantissa_bits, factor, count)
                for i in range(count):
                    exponent[i] = max(half * factor[i], np.float32(-100.0))
                exp2_block(exponent, mantissa, shift, factor, factor_bits, count)
                for i in range(count):
                    targets[i] = max(factor[i], lowest)
            else:
                for i in range(count):
                    targets[i] = np.float32(floor)
        at = 0
        while at < count:
            run = min(TICK_FRAMES - (phase + at) % TICK_FRAMES, count - at)
            least = np.float32(1.0)
            loudest = TINY
            for d in range(detectors):
                follower = state[HEADER + d * FOLLOWERS : HEADER + (d + 1) * FOLLOWERS]
                level = power[d, at : at + run]
                targets = gains[d, at : at + run]
                opened = gate_block(
                    level, targets, np.float32(state[OPEN_POWER]), np.float32(state[CLOSE_POWER]), follower, settings, run
                )
                trace[3, column] += np.float32(opened)
                for i in range(0, run, 4):
                    loudest = max(loudest, level[i])
                # The gain runs one way for most of a tick: its ends tell the least.
                least = min(least, min(targets[0], targets[run - 1]))
                if follower[GATE] == CLOSING and follower[GAIN] <= max(floor * NEAR_FLOOR, MIN_GAIN):
                    trace[2, column] = max(trace[2, column], np.float32(CLOSED))
                else:
                    trace[2, column] = max(trace[2, column], np.float32(follower[GATE]))
                if (phase + at + run) % TICK_FRAMES == 0 and follower[GAIN] < 1e-12:
                    follower[GAIN] = 0.0
            trace[0, column] = np.float32(-20.0 * np.log10(max(np.float64(least), SILENT_GAIN)))
            trace[1, column] = np.float32(10.0 * np.log10(loudest))
            column += 1
            at += run
        base = int(state[RING_AT])
        for c in range(channels):
            through_ring(x[c], start, ring[c], base, lookahead, late, count)
            out = y[c, start : start + count]
            applied = gains[0 if linked else c]
            for i in range(count):
                out[i] = late[i] * applied[i]
        if linked:
            for i in range(GAIN, FOLLOWERS):
                state[HEADER + FOLLOWERS + i] = state[HEADER + i]
        start += count
        state[POSITION] += count
        state[RING_AT] = np.float64((base + count) & (ring.shape[1] - 1))
