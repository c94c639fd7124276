"""The leveller's kernel: a slow gain towards a target, that waits while nothing is said.

    key --> power --+--> quick mean --> above the gate?
                    |
                    +--> mean of 400 ms --> target - level, within the range --> slow --> gain --(+)--> total --(x)--> out
                    |                                                                             ^
                    +--> x total --> blocks of 400 ms, one each 100 ms --> their loudness ... correction

Gain and means stand still while the quick mean is below the gate: a pause neither raises the gain nor drags the level
down for the first word after it. The gain brings the mean in decibels to the target. Of notes that decay the loudness lies
above that mean, by 1 to 3 LU, as it counts powers, and only those within 10 LU of their own mean (blocks and gate of
ITU-R BS.1770-5): so the loudness of what leaves is measured. A part of its distance from the mean in decibels is taken off at
once, and what then is still missing to the target is made up slowly. (The design and its constants are ours, found on notes
that decay; no source.)
"""

import numpy as np

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, inline, kernel

(TARGET, RANGE, GATE, OFFSET, GLIDING, QUICK, SLOW, SPEED, LONG, CORRECTION, HOP, SETTINGS) = range(12)
(POSITION, PRIMED, QUICK_MEAN, TICK_SUM, TICKS, SLOW_MEAN, GAIN_DB, CORRECTION_DB, TOTAL_DB, GAIN_FROM, WORKING,
 HOP_SUM, HOP_TICKS, LAST_HOP, HOP_BEFORE, THIRD_HOP, BLOCKS, LONG_MEAN, GATED_MEAN, MEAN_DB, MISSING_DB, WANTED_DB,
 STATE) = range(23)  # fmt: skip
# Rows of the trace, one column a tick: loss in dB (negative where gain rises), level in dB, whether it is at work.
TRACE_ROWS = 3
FLOOR = 1e-16
#: So much sound has to be there before the gain moves at all.
FIRST_TICKS = 150.0
#: The relative gate of BS.1770 as a ratio of powers, and how far the loudness of any sound lies from its mean in decibels.
RELATIVE_GATE, MAX_ABOVE_DB = 0.1, 5.0
#: The share of the distance between mean and loudness that is taken off, and how fast the rest follows, as a share of LONG.
TAKEN, FOLLOWED = 0.6, 0.25
MAX_MISSING_DB, NEAR_DB = 2.0, 0.5
#: Blocks until the gain is about there, as what left before says nothing; and until it is, so that what is missing then counts.
FIRST_BLOCKS, SETTLED_BLOCKS = 10.0, 25.0


@inline
def in_db(power, settings):  # type: ignore[no-untyped-def]
    return 10.0 * np.log10(power + FLOOR) + settings[OFFSET]


@inline
def move(state, settings):  # type: ignore[no-untyped-def]
    """A tick of the gain, from the means of what was heard."""
    target = min(max(settings[TARGET] - in_db(state[SLOW_MEAN], settings), -settings[RANGE]), settings[RANGE])
    # Plain means of what there is, until there is enough: the first phrase is not waited through.
    state[GAIN_DB] += (target - state[GAIN_DB]) * max(settings[SPEED], 1.0 / state[TICKS])
    state[CORRECTION_DB] += (state[WANTED_DB] - state[CORRECTION_DB]) * settings[CORRECTION]
    state[TOTAL_DB] = min(max(state[GAIN_DB] + state[CORRECTION_DB], -settings[RANGE]), settings[RANGE])


@inline
def leave(power, state, settings):  # type: ignore[no-untyped-def]
    """A tick has left with this power; each 100 ms a block of 400 ms counts."""
    state[HOP_SUM] += power
    state[HOP_TICKS] += 1.0
    if state[HOP_TICKS] < settings[HOP]:
        return
    hop = state[HOP_SUM] / state[HOP_TICKS]
    state[HOP_SUM] = state[HOP_TICKS] = 0.0
    block = 0.25 * (hop + state[LAST_HOP] + state[HOP_BEFORE] + state[THIRD_HOP])
    state[THIRD_HOP], state[HOP_BEFORE], state[LAST_HOP] = state[HOP_BEFORE], state[LAST_HOP], hop
    if in_db(block, settings) <= settings[GATE]:
        return
    state[BLOCKS] += 1.0
    part = max(settings[LONG], 1.0 / max(state[BLOCKS] - FIRST_BLOCKS, 1.0))
    state[LONG_MEAN] += (block - state[LONG_MEAN]) * part
    state[MEAN_DB] += (in_db(block, settings) - state[MEAN_DB]) * part
    if block > RELATIVE_GATE * state[LONG_MEAN]:
        state[GATED_MEAN] += (block - state[GATED_MEAN]) * part
    loudness = in_db(state[GATED_MEAN], settings)
    if state[BLOCKS] > SETTLED_BLOCKS:
        # While the gain is on its way, by far less than is missing: else it would swing.
        apart = min(max(settings[TARGET] - loudness, -NEAR_DB), NEAR_DB)
        missing = state[MISSING_DB] + apart * FOLLOWED * settings[LONG]
        state[MISSING_DB] = min(max(missing, -MAX_MISSING_DB), MAX_MISSING_DB)
    # After a loud phrase the mean of powers falls far behind that of decibels: that is no property of the sound.
    above = min(max(loudness - state[MEAN_DB], -MAX_ABOVE_DB), MAX_ABOVE_DB)
    state[WANTED_DB] = state[MISSING_DB] - TAKEN * above


@kernel("void(float32[:,::1],float32[:,::1],float32[:,::1],float64[::1],float64[::1],float32[:,::1])")
def level(x, key, y, settings, state, trace):  # type: ignore[no-untyped-def]
    """Level a block of any length. x, key, y: (channels, frames). OFFSET in dB is added to the power of all channels."""
    channels, frames = x.shape
    if state[PRIMED] == 0.0:
        state[GAIN_FROM] = 1.0
        state[PRIMED] = 1.0
    start = 0
    column = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        if phase == 0:
            power = state[TICK_SUM] / TICK_FRAMES
            leave(power * 10.0 ** (state[TOTAL_DB] / 10.0), state, settings)
            if state[WORKING] != 0.0:
                state[TICKS] += 1.0
                part = max(settings[SLOW], 1.0 / state[TICKS])
                state[SLOW_MEAN] += (power - state[SLOW_MEAN]) * part
            state[TICK_SUM] = 0.0
            state[GAIN_FROM] = 10.0 ** (state[TOTAL_DB] / 20.0)
            state[WORKING] = 1.0 if in_db(state[QUICK_MEAN], settings) > settings[GATE] else 0.0
            if state[WORKING] != 0.0 and state[TICKS] >= FIRST_TICKS:
                move(state, settings)
        count = min(TICK_FRAMES - phase, frames - start)
        quick, total = state[QUICK_MEAN], state[TICK_SUM]
        first = key[0, start : start + count]
        second = key[channels - 1, start : start + count]
        for i in range(count):
            power = np.float64(first[i]) * first[i]
            if channels == 2:
                power += np.float64(second[i]) * second[i]
            quick = power + (quick - power) * settings[QUICK]
            total += power
        state[QUICK_MEAN] = 0.0 if quick < DENORMAL and phase + count == TICK_FRAMES else quick
        state[TICK_SUM] = total
        before = state[GAIN_FROM]
        after = 10.0 ** (state[TOTAL_DB] / 20.0)
        for c in range(channels):
            source = x[c, start : start + count]
            out = y[c, start : start + count]
            for i in range(count):
                out[i] = np.float32(source[i] * (before + (after - before) * np.float64(phase + i + 1) / TICK_FRAMES))
        trace[0, column] = np.float32(-state[TOTAL_DB])
        trace[1, column] = np.float32(in_db(quick, settings))
        trace[2, column] = np.float32(state[WORKING])
        column += 1
        start += count
        state[POSITION] += count
