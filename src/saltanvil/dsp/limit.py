"""The limiter's kernel: a gain that is down before the peak arrives, and never lets it over the ceiling.

    audio --> input gain --+--> delay: lookahead (+ interpolator) -------------------------------(x)--> out
                           |                                                                      ^
                           +--> |x|, or the peak between samples --> crest hold --> gain wanted --> link --> lowest over
                                the lookahead --> release --> mean over the lookahead ------------+

Crests are held as every detector's are (`saltanvil.dsp.detector`), so that the gain stands still under a steady tone
however short the release: it does not rise between the crests of a low sound.

The lowest wanted gain of the lookahead, then the mean over the same time: at the peak itself every value in the mean
is at or below what the peak wants, so the ceiling holds whatever the release does (the argument is ours). The gain is
counted in 2^-30ths while it is averaged, so that the running sum is exact and no division into blocks changes it.
"""

import numpy as np

from saltanvil.dsp.detector import detectors_of, hold
from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, copy, inline, kernel
from saltanvil.dsp.logs import TINY
from saltanvil.dsp.oversample import filtered
from saltanvil.dsp.ring import through_ring

# Target settings; those before GLIDING glide from tick to tick. CEILING and DRIVE in dB.
(
    CEILING, DRIVE, LINK, LEAN, GLIDING,
    RELEASE, ADAPTIVE, SLOW_ATTACK, SLOW_RELEASE, TRUE_PEAK, WINDOW, GLIDE, LEAN_PASS, LEAN_RELEASE, LONGEST, SETTINGS,
) = range(16)  # fmt: skip
# State: the gliding settings, gains they make, then per channel a row of followers.
POSITION, RING_AT, PRIMED, DRIVE_FROM, DRIVE_TO, CEILING_GAIN, LEAN_FROM, LEAN_TO, PAST = 5, 6, 7, 8, 9, 10, 11, 12, 16
#: Ceilings of the last ticks: what leaves now was held under the ceiling that was when it came in.
PAST_TICKS = 32
HEADER = PAST + PAST_TICKS
(BETWEEN, QUICK, SLOW, SUM, SO_FAR, AT, LOW_A, LOW_B, LOW_PEAK, FOLLOWERS) = range(10)
STATE = HEADER + 2 * FOLLOWERS
CHUNK_FRAMES = 128
WORK_ROWS = 12
#: Samples the interpolator has to see beyond the one it is at: it makes the limiter later by as much.
INTERPOLATOR_LATE = 16
HISTORY = 32
#: Ticks of the averaged gain's counter.
UNITS = float(1 << 30)
#: What interpolation at 4x with a parabola through three points may still miss, and the gain's own movement.
TRUE_PEAK_MARGIN_DB = 0.03
#: Leaning begins this far below the ceiling.
LEAN_FROM_DB = 6.0


@inline
def refined(before, at, after):  # type: ignore[no-untyped-def]
    """The magnitude of the crest near `at`: of the parabola through three equidistant points where `at` is the largest."""
    low = abs(before) if before * at > 0 else np.float32(0.0)
    high = abs(after) if after * at > 0 else np.float32(0.0)
    here = abs(at)
    tilt = high - low
    bend = np.float32(8.0) * (here + here - low - high)
    crest = here + tilt * tilt / max(bend, np.float32(1e-20))
    return crest if (here >= low and here >= high) else here


@inline
def between_samples(history, phases, rows, out, count):  # type: ignore[no-untyped-def]
    """out[j] = largest magnitude from sample j - 1 on until sample j, for j = 0..count; history: HISTORY + count."""
    taps = phases.shape[1]
    for p in range(1, 4):
        filtered(history, phases[p], count + 1, rows[p])
    sample = history[taps // 2 - 1 : taps // 2 + count + 1]
    r1, r2, r3 = rows[1], rows[2], rows[3]
    for i in range(1, count + 1):
        crest = max(refined(r3[i - 1], sample[i], r1[i]), refined(sample[i], r1[i], r2[i]))
        out[i] = max(crest, max(refined(r1[i], r2[i], r3[i]), refined(r2[i], r3[i], sample[i + 1])))


@inline
def lowest_then_mean(wanted, follower, settings, lanes, count):  # type: ignore[no-untyped-def]
    """Window minimum, release, and mean over the same window, in place.

    lanes: (3, size over the window): lowest from each place to the end of the last window-long stretch; the gains of
    this stretch; the gains that are averaged. A window lies over the end of one stretch and the start of the next:
    its minimum is that of two running minima (van Herk, Pattern Recognition Letters 13, 1992; from memory).
    """
    window = int(settings[WINDOW]) + 1
    at = int(follower[AT])
    total = follower[SUM]
    quick = follower[QUICK]
    slow = follower[SLOW]
    so_far = follower[SO_FAR]
    to_end, stretch, averaged = lanes[0], lanes[1], lanes[2]
    adaptive = settings[ADAPTIVE] != 0.0
    release = settings[RELEASE]
    given_back = 1.0 - release
    share = 1.0 / (UNITS * window)
    i = 0
    while i < count:
        run = min(count - i, window - at)
        old = to_end[at + 1 : at + 1 + run]
        new = stretch[at : at + run]
        mean = averaged[at : at + run]
        gains = wanted[i : i + run]
        for j in range(run):
            gain = np.float64(gains[j])
            new[j] = gain
            so_far = min(so_far, gain)
            lowest = min(so_far, old[j])
            quick = min(lowest, quick * release + lowest * given_back)
            held = quick
            if adaptive:
                slow = lowest + (slow - lowest) * (settings[SLOW_ATTACK] if lowest < slow else settings[SLOW_RELEASE])
                held = min(quick, slow)
            counted = np.floor(held * UNITS)
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
def rest(follower, lanes, settings):  # type: ignore[no-untyped-def]
    """As if the gain had always been 1."""
    window = int(settings[WINDOW]) + 1
    lanes[:2, :] = 1.0
    lanes[2, :] = UNITS
    follower[AT] = 0.0
    follower[SO_FAR] = 1.0
    follower[QUICK] = 1.0
    follower[SLOW] = 1.0
    follower[SUM] = UNITS * window


@kernel(
    "void(float32[:,::1],float32[:,::1],float64[::1],float64[::1],float64[:,::1],float32[:,::1],float32[:,::1],"
    "float64[:,:,::1],float32[:,::1],float32[:,::1],float32[:,::1])"
)
def limit(x, y, settings, state, memory, ring, history, lanes, phases, trace, work):  # type: ignore[no-untyped-def]
    """Limit a block of any length.

    memory: from `detector_memory`.
    ring: (channels, size), size a power of two of at least the latency + CHUNK_FRAMES. history: (channels, HISTORY +
    CHUNK_FRAMES). lanes: (2, 3, size), size over WINDOW + 2. phases: from `true_peak_phases(4)`.
    trace: (2, a column for every tick touched): largest reduction and loudest level against 0 dBFS, in dB.
    """
    channels, frames = x.shape
    now = state[:GLIDING]
    window = int(settings[WINDOW])
    true_peak = settings[TRUE_PEAK] != 0.0
    late_by = window + (INTERPOLATOR_LATE if true_peak else 0)
    margin = 10.0 ** (-TRUE_PEAK_MARGIN_DB / 20.0) if true_peak else 1.0
    primed = state[PRIMED] != 0.0
    if not primed:
        copy(settings[:GLIDING], now)
        state[DRIVE_TO] = 10.0 ** (now[DRIVE] / 20.0)
        state[DRIVE_FROM] = state[DRIVE_TO]
        state[LEAN_FROM] = 1.0
        state[LEAN_TO] = 1.0
        for i in range(PAST_TICKS):
            state[PAST + i] = 10.0 ** (now[CEILING] / 20.0)
        for c in range(2):
            rest(state[HEADER + c * FOLLOWERS : HEADER + (c + 1) * FOLLOWERS], lanes[c], settings)
    reach = np.float32(0.0)
    for p in range(phases.shape[0]):
        total = np.float32(0.0)
        for t in range(phases.shape[1]):
            total += abs(phases[p, t])
        reach = max(reach, total)
    history_bits = history.view(np.int32)
    found = work[11]
    work_bits = work.view(np.int32)
    found_bits = work_bits[11]
    driven = work[0:2]
    levels = work[2:4]
    gains = work[4:6]
    rows = work[6:10]
    late = work[10]
    start = 0
    column = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        settled = primed
        for i in range(GLIDING):
            settled = settled and now[i] == settings[i]
        if phase == 0 or not primed:
            state[DRIVE_FROM] = state[DRIVE_TO]
            state[LEAN_FROM] = state[LEAN_TO]
            if not settled or not primed:
                for i in range(GLIDING):
                    gap = settings[i] - now[i]
                    now[i] = settings[i] if abs(gap) < 1e-4 else now[i] + gap * settings[GLIDE]
                state[DRIVE_TO] = 10.0 ** (now[DRIVE] / 20.0)
                state[CEILING_GAIN] = 10.0 ** (now[CEILING] / 20.0)
            tick = int(state[POSITION]) // TICK_FRAMES
            for i in range(CHUNK_FRAMES // TICK_FRAMES):  # a chunk may hold the next tick too
                state[PAST + (tick + i) % PAST_TICKS] = state[CEILING_GAIN]
            # How far the low end leans on the gain, from what was heard of it until now.
            loudest = max(state[HEADER + LOW_PEAK], state[HEADER + FOLLOWERS + LOW_PEAK])
            state[LEAN_TO] = 1.0
            if now[LEAN] > 0.0 and loudest > 0.0:
                over = 20.0 * np.log10(loudest / state[CEILING_GAIN]) + LEAN_FROM_DB
                state[LEAN_TO] = 10.0 ** (-now[LEAN] * max(over, 0.0) / 20.0)
            primed = True
            state[PRIMED] = 1.0
        steady = state[DRIVE_TO] == state[DRIVE_FROM]
        plain = settled and steady and now[LEAN] == 0.0
        count = min((CHUNK_FRAMES if plain else TICK_FRAMES) - phase, frames - start)
        ceiling = np.float32(state[CEILING_GAIN] * margin)
        base = int(state[RING_AT])
        for c in range(channels):
            given = x[c, start : start + count]
            out = driven[c]
            if steady:
                drive = np.float32(state[DRIVE_TO])
                for i in range(count):
                    out[i] = given[i] * drive
            else:
                for i in range(count):
                    along = np.float64(phase + i + 1) / TICK_FRAMES
                    out[i] = np.float32(given[i] * (state[DRIVE_FROM] + (state[DRIVE_TO] - state[DRIVE_FROM]) * along))
            follower = state[HEADER + c * FOLLOWERS : HEADER + (c + 1) * FOLLOWERS]
            level = levels[c]
            if now[LEAN] > 0.0:
                low_a, low_b, low_peak = follower[LOW_A], follower[LOW_B], follower[LOW_PEAK]
                for i in range(count):
                    low_a += (out[i] - low_a) * settings[LEAN_PASS]
                    low_b += (low_a - low_b) * settings[LEAN_PASS]
                    low_peak = max(abs(low_b), low_peak * settings[LEAN_RELEASE])
                follower[LOW_A], follower[LOW_B], follower[LOW_PEAK] = low_a, low_b, low_peak
            if true_peak:
                past = history[c]
                for i in range(count):
                    past[HISTORY + i] = out[i]
                bits = history_bits[c]
                loud_bits = np.int32(0)
                for i in range(HISTORY + count):
                    loud_bits = max(loud_bits, bits[i] & np.int32(0x7FFFFFFF))
                found_bits[0] = loud_bits
                between = rows[0]
                between[0] = np.float32(follower[BETWEEN])
                if found[0] * reach > ceiling:
                    between_samples(past, phases, rows, between, count)
                else:
                    sample = past[HISTORY // 2 - 1 : HISTORY // 2 + count + 1]
                    for i in range(1, count + 1):
                        between[i] = abs(sample[i])
                for i in range(count):
                    level[i] = max(between[i], between[i + 1])
                follower[BETWEEN] = between[count]
                for i in range(HISTORY):
                    past[i] = past[count + i]
            else:
                for i in range(count):
                    level[i] = abs(out[i])
        detectors = detectors_of(memory, channels, now[LINK])
        linked = detectors < channels
        if linked:
            for i in range(count):
                levels[0, i] = max(levels[0, i], levels[1, i])
        for d in range(detectors):
            hold(levels[d], memory[d], int(state[POSITION]), True, settings[LONGEST], 0, work[6:8], count)
        if detectors == 2 and now[LINK] > 0.0:
            link = np.float32(now[LINK])
            for i in range(count):
                both = max(levels[0, i], levels[1, i])
                levels[0, i] += link * (both - levels[0, i])
                levels[1, i] += link * (both - levels[1, i])
        for d in range(detectors):
            level = levels[d]
            wanted = gains[d]
            for i in range(count):
                wanted[i] = ceiling / max(level[i], ceiling)
            if state[LEAN_FROM] != 1.0 or state[LEAN_TO] != 1.0:
                for i in range(count):
                    along = np.float64(phase + i + 1) / TICK_FRAMES
                    wanted[i] = min(wanted[i], np.float32(state[LEAN_FROM] + (state[LEAN_TO] - state[LEAN_FROM]) * along))
            follower = state[HEADER + d * FOLLOWERS : HEADER + (d + 1) * FOLLOWERS]
            lowest_then_mean(wanted, follower, settings, lanes[d], count)
        if linked:
            for i in (QUICK, SLOW, SUM, SO_FAR, AT):
                state[HEADER + FOLLOWERS + i] = state[HEADER + i]
        at = 0
        while at < count:
            run = min(TICK_FRAMES - (phase + at) % TICK_FRAMES, count - at)
            # Neither is negative, so their bits sort like integers: extremes that vectorise.
            least = np.int32(0x3F800000)
            loudest_bits = np.int32(0)
            for d in range(detectors):
                heard = work_bits[2 + d, at : at + run]
                applied_bits = work_bits[4 + d, at : at + run]
                for i in range(run):
                    least = min(least, applied_bits[i])
                    loudest_bits = max(loudest_bits, heard[i])
            found_bits[0] = least
            found_bits[1] = loudest_bits
            trace[0, column] = np.float32(-20.0 * np.log10(found[0]))
            trace[1, column] = np.float32(20.0 * np.log10(max(found[1], TINY)))
            column += 1
            at += run
        top = np.float32(state[CEILING_GAIN])
        tick = int(state[POSITION]) // TICK_FRAMES
        for i in range(min(late_by // TICK_FRAMES + 2, PAST_TICKS)):
            top = max(top, np.float32(state[PAST + (tick - i) % PAST_TICKS]))
        for c in range(channels):
            through_ring(driven[c], 0, ring[c], base, late_by, late, count)
            out = y[c, start : start + count]
            applied = gains[0 if linked else c]
            for i in range(count):
                out[i] = min(max(late[i] * applied[i], -top), top)
        start += count
        state[POSITION] += count
        state[RING_AT] = np.float64((base + count) & (ring.shape[1] - 1))
        if (phase + count) % TICK_FRAMES == 0:
            for c in range(channels):
                for i in (LOW_A, LOW_B, LOW_PEAK):
                    if abs(state[HEADER + c * FOLLOWERS + i]) < DENORMAL:
                        state[HEADER + c * FOLLOWERS + i] = 0.0
