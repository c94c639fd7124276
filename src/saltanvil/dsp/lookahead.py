"""A gain that is down before the peak arrives: what limiter and clipper hold a ceiling with.

The lowest wanted gain of the lookahead, then the mean over the same time: at the peak itself every value in the mean
is at or below what the peak wants, so the ceiling holds whatever the release does (the argument is ours). The gain is
counted in 2^-30ths while it is averaged, so that the running sum is exact and no division into blocks changes it.
"""

import numpy as np

from saltanvil.dsp.kernel import inline

#: What one window remembers beside its lanes.
QUICK, SLOW, SUM, SO_FAR, AT, LOOKAHEAD_STATE = range(6)
#: Ticks of the averaged gain's counter.
UNITS = float(1 << 30)


@inline
def lowest_then_mean(target, follower, lanes, frames, release, adaptive, slow_attack, slow_release, count):  # type: ignore[no-untyped-def]
    """Window minimum, release, and mean over the same window of frames + 1 values, in place.

    release, slow_attack, slow_release: coefficients; release 0 is none; adaptive: whether a slow gain holds it down too.
    lanes: (3, size over the window): lowest from each place to the end of the last window-long stretch; the gains of
    this stretch; the gains that are averaged. A window lies over the end of one stretch and the start of the next:
    its minimum is that of two running minima (van Herk, Pattern Recognition Letters 13, 1992; from memory).
    """
    window = frames + 1
    at = int(follower[AT])
    total = follower[SUM]
    quick = follower[QUICK]
    slow = follower[SLOW]
    so_far = follower[SO_FAR]
    to_end, stretch, averaged = lanes[0], lanes[1], lanes[2]
    given_back = 1.0 - release
    share = 1.0 / (UNITS * window)
    i = 0
    while i < count:
        run = min(count - i, window - at)
        old = to_end[at + 1 : at + 1 + run]
        new = stretch[at : at + run]
        mean = averaged[at : at + run]
        gains = target[i : i + run]
        for j in range(run):
            gain = np.float64(gains[j])
            new[j] = gain
            so_far = min(so_far, gain)
            lowest = min(so_far, old[j])
            quick = min(lowest, quick * release + lowest * given_back)
            slowest = quick
            if adaptive:
                slow = lowest + (slow - lowest) * (slow_attack if lowest < slow else slow_release)
                slowest = min(quick, slow)
            counted = np.floor(slowest * UNITS)
            total += counted - mean[j]
            mean[j] = counted
            gains[j] = np.float32(total * share)
        i += run
        at += run
        if at == window:
            lowest = 1.0
            to_end[window] = 1.0
            for j in range(window - 1, -1, -1):
                lowest = min(lowest, stretch[j])
                to_end[j] = lowest
            at = 0
            so_far = 1.0
    follower[AT] = at
    follower[SUM] = total
    follower[QUICK] = quick
    follower[SLOW] = slow
    follower[SO_FAR] = so_far


@inline
def rest(follower, lanes, frames):  # type: ignore[no-untyped-def]
    """As if the gain had always been 1."""
    window = frames + 1
    lanes[:2, :] = 1.0
    lanes[2, :] = UNITS
    follower[AT] = 0.0
    follower[SO_FAR] = 1.0
    follower[QUICK] = 1.0
    follower[SLOW] = 1.0
    follower[SUM] = UNITS * window
