"""The leveller's kernel: a slow gain towards a target, that waits while nothing is said.

    key --> power --+--> quick mean --> above the gate? --+
                    +--> slow mean, only while above -----+--> target - level, within the range --> slow gain --(x)--> out

Gain and mean stand still while the quick mean is below the gate: a pause neither raises the gain nor drags the level
down for the first word after it. (The design is ours; no source.)
"""

import numpy as np

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, kernel

(TARGET, RANGE, GATE, OFFSET, GLIDING, QUICK, SLOW, SPEED, SETTINGS) = range(9)
POSITION, PRIMED, QUICK_MEAN, SLOW_MEAN, GAIN_DB, GAIN_FROM, HEARD, STATE = range(8)
# Rows of the trace, one column a tick: loss in dB (negative where gain rises), level in dB, whether it is at work.
TRACE_ROWS = 3
FLOOR = 1e-16


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
            state[GAIN_FROM] = 10.0 ** (state[GAIN_DB] / 20.0)
            quick_db = 10.0 * np.log10(state[QUICK_MEAN] + FLOOR) + settings[OFFSET]
            at_work = quick_db > settings[GATE]
            if at_work and state[HEARD] == 0.0:
                state[SLOW_MEAN] = state[QUICK_MEAN]
            state[HEARD] = 1.0 if at_work else -1.0 if state[HEARD] != 0.0 else 0.0
            if at_work:
                slow_db = 10.0 * np.log10(state[SLOW_MEAN] + FLOOR) + settings[OFFSET]
                wanted = min(max(settings[TARGET] - slow_db, -settings[RANGE]), settings[RANGE])
                state[GAIN_DB] += (wanted - state[GAIN_DB]) * settings[SPEED]
        count = min(TICK_FRAMES - phase, frames - start)
        quick, slow = state[QUICK_MEAN], state[SLOW_MEAN]
        at_work = state[HEARD] > 0.0
        first = key[0, start : start + count]
        second = key[channels - 1, start : start + count]
        for i in range(count):
            power = np.float64(first[i]) * first[i]
            if channels == 2:
                power += np.float64(second[i]) * second[i]
            quick = power + (quick - power) * settings[QUICK]
            if at_work:
                slow = power + (slow - power) * settings[SLOW]
        state[QUICK_MEAN] = 0.0 if quick < DENORMAL and phase + count == TICK_FRAMES else quick
        state[SLOW_MEAN] = slow
        before = state[GAIN_FROM]
        after = 10.0 ** (state[GAIN_DB] / 20.0)
        for c in range(channels):
            given = x[c, start : start + count]
            out = y[c, start : start + count]
            for i in range(count):
                out[i] = np.float32(given[i] * (before + (after - before) * np.float64(phase + i + 1) / TICK_FRAMES))
        trace[0, column] = np.float32(-state[GAIN_DB])
        trace[1, column] = np.float32(10.0 * np.log10(quick + FLOOR) + settings[OFFSET])
        trace[2, column] = np.float32(at_work)
        column += 1
        start += count
        state[POSITION] += count
