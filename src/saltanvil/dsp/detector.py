"""The level that compressor, free curve, gate, expander and ducker detect: one detector for all of them.

    key --> x^2 --> crest between the samples --> louder of linked sides --> crest hold --> lookahead hold --> power

A **peak** detector reads crests, and holds each until the next one is due, apart from attack and release, which then see
a steady level: without it they see the wave fall to zero twice a period, and settle short of the curve by up to 5 dB
(Giannoulis, Massberg and Reiss, J. Audio Eng. Soc. 60(6), 2012, section 2.2, on the ripple of peak detectors and its
remedies; the hold that adapts to the spacing of crests is ours).

- *Crest*: of the sine through three samples, as high frequencies rarely have a sample at their top. From
  x[n] = A cos(w n + p): cos w = (x[n-1] + x[n+1]) / 2 x[n] and A^2 = (x[n]^2 - x[n-1] x[n+1]) / sin^2 w. It counts only
  where the neighbouring triple agrees, so that steps and square waves read as they are.
- *Hold*: on a grid of GROUP_FRAMES. A crest is held for one and an eighth of the spacing at which crests have been
  coming, MAX_SPACING_S at most: 30 Hz needs 17 ms, a high tone under 1 ms. What ends is released that much later, and
  nothing is held longer than its own wave needs.

An **RMS** detector takes the mean power with the time constant that is set: the first-order average (eq. 3 there) of the power,
which is half the square of the sound and half that of the same sound a quarter of a turn later. Of a low tone the square
alone swings by as much as it is, twice a period, and its average with it: at 30 Hz and 10 ms by 1.1 dB. Two short chains of
all-passes turn 15 to 400 Hz (see `dsp/lowend`); above that they go together, and the power is the plain square.

Lookahead lets the level rise early; the last hold keeps it up until the delayed sound itself has gone.

Power is never below TINY, so that its logarithm is defined.
"""

import math

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import DENORMAL, copy, inline
from saltanvil.dsp.logs import TINY

#: Instead of an averaging coefficient: crests are to be found and held; or the key is a level already.
PEAK, GIVEN = 0.0, -1.0
#: Holds move on this grid, counted from the session's zero; a tick is a whole number of groups.
GROUP_FRAMES = 16
#: Crests of the lowest sound may be this far apart: one a period at 40 Hz, two at 20 Hz.
MAX_SPACING_S = 0.025
#: A crest is back when it comes within 1.5 dB of the highest, after a fall of 3 dB below it (powers).
BACK, FALLEN = np.float32(0.7), np.float32(0.5)
#: A shorter spacing is taken on by this part each time: waves have crests between their highest.
SPACING_STEP = 1.0 / 16.0
#: What is left of the spacing after MAX_SPACING_S without a crest.
FORGET, FORGOTTEN = 0.75, -1.0
#: Below this sin^2 of the frequency (about 1 kHz at 48 kHz) samples are as good as crests, and the division is not.
MIN_SIN_SQUARED = np.float32(0.02)
#: Samples before the present one that a crest's five samples reach back.
HISTORY = 4
# Memory of one detector, float64: samples, mean square, this group's highest, holds, then the lookahead's window.
MEAN_SQUARE, SHARED, GROUP, FELL, SINCE, SPACING, AHEAD, WINDOW, WINDOW_AT, WINDOW_HIGHEST = range(HISTORY, HISTORY + 10)
CREST, REFERENCE, TURNED = HISTORY + 10, HISTORY + 12, HISTORY + 16  # a level and its age; the reference's: see `followed`
#: All-passes that turn low sound: in Hz, the even ones a chain and the odd ones the other; a pole's frequency is so many times
#: that of the one before.
LOWEST_POLE_HZ, POLE_RATIO, POLES = 8.0, 2.0**1.1, 6
RECENT_AT = TURNED + POLES
HEADER = RECENT_AT + 1
#: Lookahead of at most this many groups: 20 ms at 96 kHz.
MAX_WINDOW = 121
#: Behind it lie the highest of recent groups, in a ring (see `detector_memory`).
RECENT = HEADER + MAX_WINDOW + 1
#: Rows of scratch that `detect` needs, each of a chunk and HISTORY frames.
SCRATCH_ROWS = 2


@inline
def crests(x, memory, padded, estimate, power, louder, count):  # type: ignore[no-untyped-def]
    """Squares of samples, and of the crest two frames ago: into power, or the larger of both if `louder`."""
    four = np.float32(4.0)
    least = np.float32(4.0) * MIN_SIN_SQUARED
    for i in range(HISTORY):
        padded[i] = np.float32(memory[i])
    for i in range(count):
        padded[HISTORY + i] = x[i]
    for i in range(HISTORY):
        memory[i] = padded[count + i]
    for i in range(count + 2):
        before, at, after = padded[i], padded[i + 1], padded[i + 2]
        square = at * at
        total = before + after
        four_sin = four * square - total * total
        crest = four * square * (square - before * after) / four_sin
        estimate[i] = crest if four_sin > least * square else square
    if louder:
        for i in range(count):
            before, at, after, here = padded[i + 1], padded[i + 2], padded[i + 3], padded[i + 4]
            square = at * at
            crest = max(min(estimate[i + 1], min(estimate[i], estimate[i + 2])), square)
            is_crest = (square >= before * before) & (square >= after * after)
            power[i] = max(max(here * here, crest if is_crest else square), power[i])
    else:
        for i in range(count):
            before, at, after, here = padded[i + 1], padded[i + 2], padded[i + 3], padded[i + 4]
            square = at * at
            crest = max(min(estimate[i + 1], min(estimate[i], estimate[i + 2])), square)
            is_crest = (square >= before * before) & (square >= after * after)
            power[i] = max(max(here * here, crest if is_crest else square), TINY)


@inline
def followed(highest, groups, crest, age, following, following_age):  # type: ignore[no-untyped-def]
    """The highest of about the last `groups` groups with its age in groups, and the highest since with its age."""
    if highest >= crest:
        return highest, 0.0, 0.0, 0.0
    age += 1.0
    following_age += 1.0
    if highest >= following:
        following, following_age = highest, 0.0
    if age > groups:
        return following, following_age, highest, 0.0
    return crest, age, following, following_age


@inline
def highest_recent(recent, at, groups):  # type: ignore[no-untyped-def]
    """The highest of the last `groups` places of a ring up to place `at`, the latest of equals, and its age."""
    mask = recent.shape[0] - 1
    highest, age = recent[at & mask], 0
    for back in range(1, groups):
        value = recent[(at - back) & mask]
        if value > highest:
            highest, age = value, back
    return highest, np.float64(age)


@inline
def hold_crests(memory, highest, levels, groups, longest):  # type: ignore[no-untyped-def]
    """Go on by some groups. highest: of each; levels: into it, the level held over the group after each."""
    back, back_age, back_next, back_next_age = (
        memory[REFERENCE], memory[REFERENCE + 1], memory[REFERENCE + 2], memory[REFERENCE + 3],
    )  # fmt: skip
    level, age = memory[CREST], memory[CREST + 1]
    recent, recent_at = memory[RECENT:], int(memory[RECENT_AT])
    fell, since, spacing = memory[FELL], memory[SINCE], memory[SPACING]
    for g in range(groups):
        most = np.float64(highest[g])
        since += 1.0
        if since > longest:
            # No crest came back for that long: what spacing there was is forgotten by and by.
            fell = FORGOTTEN
            spacing *= FORGET
            since = 0.0
        if most < FALLEN * back:
            fell = 1.0 if fell == 0.0 else fell
        elif fell != 0.0 and most >= BACK * back:
            if fell == 1.0:
                spacing = max(since, spacing + (since - spacing) * SPACING_STEP)
            fell = 0.0
            since = 0.0
        back, back_age, back_next, back_next_age = followed(most, longest, back, back_age, back_next, back_next_age)
        hold = spacing + 0.125 * spacing + 1.0
        recent_at += 1
        recent[recent_at & (recent.shape[0] - 1)] = most
        age += 1.0
        if most >= level:
            level, age = most, 0.0
        elif age > hold:
            level, age = highest_recent(recent, recent_at, int(hold) + 1)
        levels[g] = np.float32(level)
    memory[REFERENCE], memory[REFERENCE + 1], memory[REFERENCE + 2], memory[REFERENCE + 3] = (
        back, back_age, back_next, back_next_age,
    )  # fmt: skip
    memory[CREST], memory[CREST + 1], memory[RECENT_AT] = level, age, recent_at & (recent.shape[0] - 1)
    memory[FELL], memory[SINCE], memory[SPACING] = fell, since, spacing


@inline
def highest_of_window(memory, level, groups):  # type: ignore[no-untyped-def]
    """The highest level of the last `groups` ends of groups: running maxima over two stretches, as the limiter's lowest."""
    if memory[WINDOW] != groups:
        memory[HEADER:RECENT] = 0.0
        memory[WINDOW] = groups
        memory[WINDOW_AT] = 0.0
        memory[WINDOW_HIGHEST] = 0.0
    at = int(memory[WINDOW_AT])
    so_far = max(memory[WINDOW_HIGHEST], level)
    highest = max(so_far, memory[HEADER + at + 1])
    memory[HEADER + at] = level  # the maximum to the end that stood here has been used
    at += 1
    if at == groups:
        to_end = 0.0
        for j in range(groups - 1, -1, -1):
            to_end = max(to_end, memory[HEADER + j])
            memory[HEADER + j] = to_end
        at = 0
        so_far = 0.0
    memory[WINDOW_AT] = at
    memory[WINDOW_HIGHEST] = so_far
    return highest


@inline
def end_groups(memory, highest, levels, count, peak, longest, groups):  # type: ignore[no-untyped-def]
    """Take the highest level of each of some groups; into levels, what stands over the group after each."""
    if peak:
        hold_crests(memory, highest, levels, count, longest)
    else:
        for g in range(count):
            levels[g] = highest[g]
    if groups > 0:
        for g in range(count):
            levels[g] = np.float32(highest_of_window(memory, np.float64(levels[g]), groups))
    memory[AHEAD] = np.float64(levels[count - 1])
    memory[GROUP] = 0.0


@inline
def hold_part(level, memory, first, end):  # type: ignore[no-untyped-def]
    """Hold a part of a group; returns the highest that there was."""
    crest = np.float32(memory[AHEAD])
    highest = np.float32(0.0)
    for i in range(first, end):
        highest = max(highest, level[i])
        level[i] = max(level[i], crest)
    memory[GROUP] = max(memory[GROUP], np.float64(highest))
    return highest


@inline
def hold(level, memory, position, peak, longest, groups, scratch, count):  # type: ignore[no-untyped-def]
    """Hold crests (of a peak detector) and the lookahead's window over a stretch of level, in place.

    level: powers or magnitudes. scratch: (2, a place more than there are groups). Returns whether the level is nothing
    but what is held.
    """
    steady = True
    highest, levels = scratch[0], scratch[1]
    phase = position % GROUP_FRAMES
    first = min(GROUP_FRAMES - phase, count) if phase > 0 else 0
    if first > 0:
        steady = hold_part(level, memory, 0, first) <= memory[AHEAD]
        if phase + first == GROUP_FRAMES:
            highest[0] = np.float32(memory[GROUP])
            end_groups(memory, highest, levels, 1, peak, longest, groups)
    whole = (count - first) // GROUP_FRAMES
    if whole > 0:
        # Two-dimensional, so that the inner loops are of a known length and vectorise; levels are not negative, so
        # their bits sort like integers.
        grid = level[first : first + whole * GROUP_FRAMES].reshape(whole, GROUP_FRAMES)
        bits = grid.view(np.int32)
        highest_bits = highest.view(np.int32)
        for g in range(whole):
            most = np.int32(0)
            for j in range(GROUP_FRAMES):
                most = max(most, bits[g, j])
            highest_bits[g] = most
        levels[0] = np.float32(memory[AHEAD])
        end_groups(memory, highest, levels[1:], whole, peak, longest, groups)
        for g in range(whole):
            value = levels[g]
            steady = steady and highest[g] <= value
            for j in range(GROUP_FRAMES):
                grid[g, j] = max(grid[g, j], value)
    last = first + whole * GROUP_FRAMES
    if last < count:
        steady = (hold_part(level, memory, last, count) <= memory[AHEAD]) and steady
    return steady


@inline
def group_heads(values, position, out, count):  # type: ignore[no-untyped-def]
    """One value for each group that a stretch touches, into out. Returns how many."""
    heads = 0
    i = 0
    while i < count:
        out[heads] = values[i]
        heads += 1
        i += GROUP_FRAMES - (position + i) % GROUP_FRAMES
    return heads


@inline
def spread_heads(heads, position, out, count):  # type: ignore[no-untyped-def]
    """The opposite of `group_heads`."""
    phase = position % GROUP_FRAMES
    first = min(GROUP_FRAMES - phase, count) if phase > 0 else 0
    for i in range(first):
        out[i] = heads[0]
    parts = 1 if first > 0 else 0
    whole = (count - first) // GROUP_FRAMES
    if whole > 0:
        grid = out[first : first + whole * GROUP_FRAMES].reshape(whole, GROUP_FRAMES)
        for g in range(whole):
            value = heads[parts + g]
            for j in range(GROUP_FRAMES):
                grid[g, j] = value
    for i in range(first + whole * GROUP_FRAMES, count):
        out[i] = heads[parts + whole]


@inline
def detectors_of(memory, channels, link):  # type: ignore[no-untyped-def]
    """How many detectors there are: sides that are linked fully share one. The second begins with what the shared one held."""
    linked = channels == 2 and link == 1.0
    if memory[0, SHARED] != 0.0 and not linked:
        copy(memory[0, SHARED:], memory[1, SHARED:])
        memory[1, SHARED] = 0.0
    memory[0, SHARED] = 1.0 if linked else 0.0
    return 1 if linked else channels


@inline
def all_passes(longest):  # type: ignore[no-untyped-def]
    """Coefficients of the all-passes, in the order of their poles. longest: `longest_groups`, from which the rate is known."""
    step = np.pi * LOWEST_POLE_HZ * MAX_SPACING_S / (longest * GROUP_FRAMES)
    # Those missing below the lowest are made good for by moving it (derived in `dsp/lowend`).
    t0, t1, t2 = step * POLE_RATIO / (POLE_RATIO + 1.0), step * POLE_RATIO, step * POLE_RATIO**2
    t3, t4, t5 = step * POLE_RATIO**3, step * POLE_RATIO**4, step * POLE_RATIO**5
    return (
        (t0 - 1.0) / (t0 + 1.0), (t1 - 1.0) / (t1 + 1.0), (t2 - 1.0) / (t2 + 1.0), (t3 - 1.0) / (t3 + 1.0),
        (t4 - 1.0) / (t4 + 1.0), (t5 - 1.0) / (t5 + 1.0),
    )  # fmt: skip


@inline
def detect(key, start, first, sides, averaging, memory, position, longest, groups, scratch, power, count):  # type: ignore[no-untyped-def]
    """The power of `count` frames of a key from `start` on, the louder of `sides` channels from `first` on, into power.

    key: (channels, frames). averaging: the coefficient of the running mean, or PEAK, or GIVEN. memory: of
    `detector_memory`; row `first` keeps the holds. position: frames since the session's zero. longest: `longest_groups`.
    groups: the lookahead in groups, rounded up. scratch: (SCRATCH_ROWS, at least count + HISTORY). power: (at least
    count,), the result. Returns whether each group's power is one value.
    """
    peak = averaging == PEAK
    part = max(averaging, 0.0)
    a0, b0, a1, b1, a2, b2 = all_passes(longest)
    for side in range(first, first + sides):
        x = key[side, start : start + count]
        if peak:
            crests(x, memory[side], scratch[0], scratch[1], power, side > first, count)
            continue
        squares = scratch[0]
        mean = memory[side, MEAN_SQUARE]
        if averaging == GIVEN:
            for i in range(count):
                squares[i] = x[i] * x[i]
        else:
            z = memory[side, TURNED : TURNED + POLES]
            h0, k0, h1, k1, h2, k2 = z[0], z[1], z[2], z[3], z[4], z[5]
            for i in range(count):
                value = np.float64(x[i])
                one = a0 * value + h0
                h0 = value - a0 * one
                two = a1 * one + h1
                h1 = one - a1 * two
                one = a2 * two + h2
                h2 = two - a2 * one
                other = b0 * value + k0
                k0 = value - b0 * other
                turned = b1 * other + k1
                k1 = other - b1 * turned
                other = b2 * turned + k2
                k2 = turned - b2 * other
                square = 0.5 * (one * one + other * other)
                mean = square + (mean - square) * part
                squares[i] = np.float32(mean)
            z[0], z[1], z[2], z[3], z[4], z[5] = h0, k0, h1, k1, h2, k2
        if (position + count) % GROUP_FRAMES == 0:
            for i in range(POLES):
                if abs(memory[side, TURNED + i]) < DENORMAL:
                    memory[side, TURNED + i] = 0.0
        flush = mean < DENORMAL and (position + count) % GROUP_FRAMES == 0
        memory[side, MEAN_SQUARE] = 0.0 if flush else mean
        if side > first:
            for i in range(count):
                power[i] = max(squares[i], power[i])
        else:
            for i in range(count):
                power[i] = max(squares[i], TINY)
    if not peak and groups == 0:
        return False
    return hold(power, memory[first], position, peak, longest, groups, scratch, count)


def longest_groups(rate: int) -> float:
    """The longest spacing of crests at a rate, in groups."""
    return float(np.ceil(MAX_SPACING_S * rate / GROUP_FRAMES))


def lookahead_groups(frames: int) -> float:
    """The groups that a lookahead of some frames reaches into."""
    return float(-(-frames // GROUP_FRAMES))


def detector_memory(channels: int, rate: int) -> NDArray[np.float64]:
    """What the detectors of one processor remember, (channels, RECENT and a ring of as many groups as a crest is ever held for,
    rounded up to a power of two)."""
    return np.zeros((channels, RECENT + (1 << math.ceil(1.125 * longest_groups(rate) + 2.0).bit_length())))
