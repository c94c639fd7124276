"""The leveller's kernel: a slow gain towards a target, that waits while nothing is said.

    key --> power --+--> quick mean --> above the gate?
                    |
                    +--> mean of 400 ms --> target - level, within the range --> slow --> gain --(+)--> total --(x)--> out
                    |                                                                             ^
                    +--> x total --> mean of 400 ms --> its mean in dB, less its loudness ----------+

Gain and means stand still while the quick mean is below the gate: a pause neither raises the gain nor drags the level
down for the first word after it. The gain brings the mean of what leaves, in decibels, to the target. Of notes that
decay the loudness lies above that mean, by 1 to 3 LU, as it counts powers, and only those within 10 LU of their own mean
(the gate of ITU-R BS.1770-5): so both are measured of what leaves, and the difference taken off. (The design is ours; no
source.)
"""

import numpy as np

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, inline, kernel

(TARGET, RANGE, GATE, OFFSET, GLIDING, QUICK, SLOW, SPEED, LONG, CORRECTION, SETTINGS) = range(11)
(POSITION, PRIMED, QUICK_MEAN, TICK_SUM, TICKS, SLOW_MEAN, OUT_MEAN, LONG_MEAN, GATED_MEAN, MEAN_DB, GAIN_DB, CORRECTION_DB,
 TOTAL_DB, GAIN_FROM, WORKING, STATE) = range(16)  # fmt: skip
# Rows of the trace, one column a tick: loss in dB (negative where gain rises), level in dB, whether it is at work.
TRACE_ROWS = 3
FLOOR = 1e-16
#: So much sound has to be there before the gain moves at all.
FIRST_TICKS = 150.0
#: The relative gate of BS.1770 as a ratio of powers, and the most that the correction does.
RELATIVE_GATE, MAX_CORRECTION_DB = 0.1, 12.0
#: Loud notes meet a gain that came up in the tail before: a quarter more is taken off (measured on decaying notes).
EXCESS = 1.25


@inline
def in_db(power, settings):  # type: ignore[no-untyped-def]
    return 10.0 * np.log10(power + FLOOR) + settings[OFFSET]


@inline
def move(state, settings):  # type: ignore[no-untyped-def]
    """A tick of the gain, from the means of what was heard."""
    wanted = min(max(settings[TARGET] - in_db(state[SLOW_MEAN], settings), -settings[RANGE]), settings[RANGE])
    # Plain means of what there is, until there is enough: the first phrase is not waited through.
    state[GAIN_DB] += (wanted - state[GAIN_DB]) * max(settings[SPEED], 1.0 / state[TICKS])
    part = max(
        settings[LONG], 1.0 / max(state[TICKS] - 1.0 / settings[SPEED] - 2.0 / settings[SLOW], 1.0)
    )  # once the gain is there
    state[LONG_MEAN] += (state[OUT_MEAN] - state[LONG_MEAN]) * part
    if state[OUT_MEAN] > RELATIVE_GATE * state[LONG_MEAN]:
        state[GATED_MEAN] += (state[OUT_MEAN] - state[GATED_MEAN]) * part
    state[MEAN_DB] += (in_db(state[OUT_MEAN], settings) - state[MEAN_DB]) * part
    correction = min(max(EXCESS * (state[MEAN_DB] - in_db(state[GATED_MEAN], settings)), -MAX_CORRECTION_DB), MAX_CORRECTION_DB)
    state[CORRECTION_DB] += (correction - state[CORRECTION_DB]) * settings[CORRECTION]
    state[TOTAL_DB] = min(max(state[GAIN_DB] + state[CORRECTION_DB], -settings[RANGE]), settings[RANGE])


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
            if state[WORKING] != 0.0:
                power = state[TICK_SUM] / TICK_FRAMES
                state[TICKS] += 1.0
                part = max(settings[SLOW], 1.0 / state[TICKS])
                state[SLOW_MEAN] += (power - state[SLOW_MEAN]) * part
                state[OUT_MEAN] += (power * 10.0 ** (state[TOTAL_DB] / 10.0) - state[OUT_MEAN]) * part
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
            given = x[c, start : start + count]
            out = y[c, start : start + count]
            for i in range(count):
                out[i] = np.float32(given[i] * (before + (after - before) * np.float64(phase + i + 1) / TICK_FRAMES))
        trace[0, column] = np.float32(-state[TOTAL_DB])
        trace[1, column] = np.float32(in_db(quick, settings))
        trace[2, column] = np.float32(state[WORKING])
        column += 1
        start += count
        state[POSITION] += count
