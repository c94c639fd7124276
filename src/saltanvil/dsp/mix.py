"""Gains, sums, delays and peaks: what lies between the steps."""

import numpy as np

from saltanvil.dsp.kernel import TICK_FRAMES, after_tick, inline, kernel, share_of

#: Elements of a glide's state.
POSITION, PRIMED, FROM_LEFT, FROM_RIGHT, NOW_LEFT, NOW_RIGHT, GLIDE_STATE = range(7)


@inline
def place_stretch(x, y, start, frames, left, right, glide, state):  # type: ignore[no-untyped-def]
    """`place` from frame `start` up to `frames`."""
    channels = y.shape[0]
    if state[PRIMED] == 0.0:
        state[FROM_LEFT] = left
        state[NOW_LEFT] = left
        state[FROM_RIGHT] = right
        state[NOW_RIGHT] = right
        state[PRIMED] = 1.0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        if phase == 0:
            share = share_of(glide)
            glide = after_tick(glide)
            state[FROM_LEFT] = state[NOW_LEFT]
            state[FROM_RIGHT] = state[NOW_RIGHT]
            gap = left - state[NOW_LEFT]
            state[NOW_LEFT] = left if abs(gap) < 1e-6 else state[NOW_LEFT] + gap * share
            gap = right - state[NOW_RIGHT]
            state[NOW_RIGHT] = right if abs(gap) < 1e-6 else state[NOW_RIGHT] + gap * share
        count = min(TICK_FRAMES - phase, frames - start)
        for c in range(channels):
            before = state[FROM_LEFT + c]
            after = state[NOW_LEFT + c]
            source = x[min(c, x.shape[0] - 1), start : start + count]
            out = y[c, start : start + count]
            if before == after:
                gain = np.float32(after)
                for i in range(count):
                    out[i] = source[i] * gain
            else:
                for i in range(count):
                    gain64 = before + (after - before) * (phase + i + 1) / TICK_FRAMES
                    out[i] = np.float32(source[i] * gain64)
        start += count
        state[POSITION] += count


@kernel("void(float32[:,::1],float32[:,::1],float64,float64,float64,float64[::1])")
def place(x, y, left, right, part, state):  # type: ignore[no-untyped-def]
    """Give each side its gain, gliding over ticks. x: (1 or 2, frames); y: (1 or 2, frames), at least as many.

    A mono x into a stereo y is placed by the two gains; a mono y takes `left`. part: share of the way a tick, 0..1.
    """
    place_stretch(x, y, 0, x.shape[1], left, right, part, state)


@kernel("void(float32[:,::1],float32[:,::1],int64[::1],float64[:,::1],float64[::1],float64[::1])")
def place_along(x, y, ends, gains, glides, state):  # type: ignore[no-untyped-def]
    """`place` with other gains from time to time. ends: frame at which each piece ends; gains: (pieces, 2), left and right;
    glides: how each piece gets there (see `share_of`)."""
    start = 0
    for piece in range(ends.shape[0]):
        place_stretch(x, y, start, ends[piece], gains[piece, 0], gains[piece, 1], glides[piece], state)
        start = ends[piece]


@kernel("void(float32[:,::1],float32[:,::1])")
def fold(x, y):  # type: ignore[no-untyped-def]
    """The mean of both sides. x: (2, frames); y: (1, frames)."""
    for i in range(x.shape[1]):
        y[0, i] = np.float32(0.5) * (x[0, i] + x[1, i])


@kernel("void(float32[:,::1],float32[:,::1])")
def accumulate(x, total):  # type: ignore[no-untyped-def]
    """Add x to total, both (channels, frames)."""
    for c in range(x.shape[0]):
        for i in range(x.shape[1]):
            total[c, i] += x[c, i]


@inline
def copy_ring(row, ring, first, count, into):  # type: ignore[no-untyped-def]
    """Copy between a row and a ring from a place on, round its end; count is at most the ring's length."""
    size = ring.shape[0]
    straight = min(count, size - first)
    if into:
        for i in range(straight):
            ring[first + i] = row[i]
        for i in range(count - straight):
            ring[i] = row[straight + i]
    else:
        for i in range(straight):
            row[i] = ring[first + i]
        for i in range(count - straight):
            row[straight + i] = ring[i]


@kernel("void(float32[:,::1],float32[:,::1],float32[:,::1],int64[::1],int64)")
def delay(x, y, ring, at, frames_late):  # type: ignore[no-untyped-def]
    """y is x, `frames_late` later. ring: (channels, size), size a power of two of at least frames_late + 1.

    The ring remembers its whole length, so that the delay may change and still read sound and not silence.
    """
    size = ring.shape[1]
    mask = size - 1
    frames = x.shape[1]
    most = size - frames_late  # what is still to be read must not be written over
    done = 0
    while done < frames:
        count = min(frames - done, most)
        place = (at[0] + done) & mask
        for c in range(x.shape[0]):
            copy_ring(x[c, done : done + count], ring[c], place, count, True)
            copy_ring(y[c, done : done + count], ring[c], (place - frames_late) & mask, count, False)
        done += count
    at[0] = (at[0] + frames) & mask


@kernel("void(float32[:,::1],float32[:,::1],int64[::1])")
def remember(x, ring, at):  # type: ignore[no-untyped-def]
    """Let a delay's ring go on without reading it."""
    size = ring.shape[1]
    frames = x.shape[1]
    first = max(0, frames - size)
    for c in range(x.shape[0]):
        copy_ring(x[c, first:], ring[c], (at[0] + first) & (size - 1), frames - first, True)
    at[0] = (at[0] + frames) & (size - 1)


@kernel("float32(float32[:,::1])", allocates=True)
def peak(x):  # type: ignore[no-untyped-def]
    """Largest magnitude of a block, linear."""
    # Magnitudes sort like their bits: an integer maximum vectorises, a floating one does not.
    bits = x.view(np.int32)
    result = np.zeros(1, np.float32)
    most = np.int32(0)
    for c in range(x.shape[0]):
        for i in range(x.shape[1]):
            most = max(most, bits[c, i] & np.int32(0x7FFFFFFF))
    result.view(np.int32)[0] = most
    return result[0]
