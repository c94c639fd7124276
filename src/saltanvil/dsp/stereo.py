"""Kernels of the stereo step: a gliding two-by-two matrix, and a filter that takes away what does not move."""

import numpy as np

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, kernel, share_of

#: State of the matrix: position, primed, the four gains they glided from, and those they stand at.
POSITION, PRIMED, FROM, NOW, STATE = 0, 1, 2, 6, 10


@kernel("void(float32[:,::1],float32[:,::1],float64[::1],float64,float64[::1])")
def matrix(x, y, target, part, state):  # type: ignore[no-untyped-def]
    """y = M x for two channels. wanted: (4,), left from left and right, right from left and right; part: share of the
    way a gain covers each tick. A gain of 1 beside a gain of 0 passes the sound bit for bit."""
    if state[PRIMED] == 0.0:
        copy(target, state[FROM : FROM + 4])
        copy(target, state[NOW : NOW + 4])
        state[PRIMED] = 1.0
    glide = part
    start = 0
    while start < x.shape[1]:
        phase = int(state[POSITION]) % TICK_FRAMES
        if phase == 0:
            share = share_of(glide)
            glide = after_tick(glide)
            for i in range(4):
                state[FROM + i] = state[NOW + i]
                gap = target[i] - state[NOW + i]
                state[NOW + i] = target[i] if abs(gap) < 1e-6 else state[NOW + i] + gap * share
        count = min(TICK_FRAMES - phase, x.shape[1] - start)
        left = x[0, start : start + count]
        right = x[1, start : start + count]
        for c in range(2):
            out = y[c, start : start + count]
            a, b = state[FROM + 2 * c], state[FROM + 2 * c + 1]
            more_a = (state[NOW + 2 * c] - a) / TICK_FRAMES
            more_b = (state[NOW + 2 * c + 1] - b) / TICK_FRAMES
            for i in range(count):
                along = np.float64(phase + i + 1)
                out[i] = np.float32((a + more_a * along) * left[i] + (b + more_b * along) * right[i])
        start += count
        state[POSITION] += count


@kernel("void(float32[:,::1],float32[:,::1],float64,float64[:,::1],int64[::1])")
def block_dc(x, y, pole, memory, position):  # type: ignore[no-untyped-def]
    """A first-order high-pass: y = x - x' + pole y'. x and y may be the same. memory: (channels, 2): last in, last out."""
    start = 0
    while start < x.shape[1]:
        count = min(TICK_FRAMES - position[0], x.shape[1] - start)
        for c in range(x.shape[0]):
            last_in, last_out = memory[c, 0], memory[c, 1]
            for i in range(start, start + count):
                value = np.float64(x[c, i])
                last_out = value - last_in + pole * last_out
                last_in = value
                y[c, i] = np.float32(last_out)
            memory[c, 0] = last_in
            memory[c, 1] = last_out
        position[0] = (position[0] + count) % TICK_FRAMES
        if position[0] == 0:
            for c in range(x.shape[0]):
                if abs(memory[c, 1]) < DENORMAL:
                    memory[c, 1] = 0.0
        start += count
