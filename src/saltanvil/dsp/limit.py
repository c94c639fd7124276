"""The limiter's kernel: a gain that is down before the peak arrives, and never lets it over the ceiling.

    audio --> input gain --+--> delay: lookahead (+ interpolator) -------------------------------(x)--> out
                           |                                                                      ^
                           +--> |x|, or the peak between samples --> crest hold --> gain wanted --> link --> lowest over
                                the lookahead --> release --> mean over the lookahead ------------+

Crests are held as every detector's are (`saltanvil.dsp.detector`), so that the gain stands still under a steady tone
however short the release: it does not rise between the crests of a low sound.
"""

import numpy as np

from saltanvil.dsp.detector import GROUP_FRAMES, SPACING, detectors_of, hold
from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, kernel, share_of
from saltanvil.dsp.logs import TINY
from saltanvil.dsp.lookahead import LOOKAHEAD_STATE, lowest_then_mean, rest
from saltanvil.dsp.ring import through_ring
from saltanvil.dsp.true_peak import TRUE_PEAK_LATE, TRUE_PEAK_ROWS, peaks_between

# Target settings; those before GLIDING glide from tick to tick. CEILING and DRIVE in dB.
(
    CEILING, DRIVE, LINK, LEAN, GLIDING,
    RELEASE, ADAPTIVE, SLOW_ATTACK, SLOW_RELEASE, TRUE_PEAK, WINDOW, GLIDE, LEAN_PASS, LEAN_RELEASE, LONGEST, SETTINGS,
) = range(16)  # fmt: skip
# State: the gliding settings, gains they make, then per channel a row of followers.
POSITION, RING_AT, PRIMED, DRIVE_FROM, DRIVE_TO, CEILING_GAIN, LEAN_FROM, LEAN_TO, RELEASED, PAST = (
    5, 6, 7, 8, 9, 10, 11, 12, 13, 16,
)  # fmt: skip
#: Ceilings of the last ticks: what leaves now was held under the ceiling that was when it came in.
PAST_TICKS = 32
HEADER = PAST + PAST_TICKS
BETWEEN, LOW_A, LOW_B, LOW_PEAK, FOLLOWERS = range(LOOKAHEAD_STATE, LOOKAHEAD_STATE + 5)  # those of the window first
STATE = HEADER + 2 * FOLLOWERS
CHUNK_FRAMES = 128
WORK_ROWS = 13
#: What the filters and the parabola may still miss of what lies below 0.45 of the rate, and a gain's own movement.
MARGIN_DB = 0.035
#: An adaptive release is at least so many spacings of crests long: one that follows the waves of low tones makes others of them.
LEAST_SPACINGS = 16.0
#: Leaning begins this far below the ceiling.
LEAN_FROM_DB = 6.0


@kernel(
    "void(float32[:,::1],float32[:,::1],float64[::1],float64[::1],float64[:,::1],float32[:,::1],float32[:,::1],"
    "float64[:,:,::1],float32[:,::1],float32[:,::1],float32[:,::1])"
)
def limit(x, y, settings, state, memory, ring, history, lanes, filters, trace, work):  # type: ignore[no-untyped-def]
    """Limit a block of any length.

    memory: from `detector_memory`.
    ring: (channels, size), size a power of two of at least the latency + CHUNK_FRAMES. history: (channels, TRUE_PEAK_HISTORY +
    CHUNK_FRAMES). lanes: (2, 3, size), size over WINDOW + 2. filters: from `true_peak_filters`.
    trace: (2, a column for every tick touched): largest reduction and loudest level against 0 dBFS, in dB.
    """
    channels, frames = x.shape
    now = state[:GLIDING]
    window = int(settings[WINDOW])
    true_peak = settings[TRUE_PEAK] != 0.0
    late_by = window + (TRUE_PEAK_LATE if true_peak else 0)
    margin = 10.0 ** (-MARGIN_DB / 20.0) if true_peak else 1.0
    primed = state[PRIMED] != 0.0
    if not primed:
        copy(settings[:GLIDING], now)
        state[DRIVE_TO] = 10.0 ** (now[DRIVE] / 20.0)
        state[DRIVE_FROM] = state[DRIVE_TO]
        state[LEAN_FROM] = 1.0
        state[LEAN_TO] = 1.0
        state[RELEASED] = settings[RELEASE]
        state[RELEASED + 1] = settings[RELEASE]
        for i in range(PAST_TICKS):
            state[PAST + i] = 10.0 ** (now[CEILING] / 20.0)
        for c in range(2):
            rest(state[HEADER + c * FOLLOWERS : HEADER + (c + 1) * FOLLOWERS], lanes[c], window)
    result = work[11]
    work_bits = work.view(np.int32)
    found_bits = work_bits[11]
    driven = work[0:2]
    levels = work[2:4]
    gains = work[4:6]
    rows = work[6 : 6 + TRUE_PEAK_ROWS]
    late = work[12]
    glide = settings[GLIDE]
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
                share = share_of(glide)
                glide = after_tick(glide)
                for i in range(GLIDING):
                    gap = settings[i] - now[i]
                    now[i] = settings[i] if abs(gap) < 1e-4 else now[i] + gap * share
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
        if int(state[POSITION]) % CHUNK_FRAMES == 0:
            for d in range(2):
                state[RELEASED + d] = settings[RELEASE]
                spacing = memory[min(d, channels - 1), SPACING] * GROUP_FRAMES
                if settings[ADAPTIVE] != 0.0 and spacing > 0.0:
                    state[RELEASED + d] = max(settings[RELEASE], np.exp(-1.0 / (LEAST_SPACINGS * spacing)))
        length = CHUNK_FRAMES if plain else TICK_FRAMES
        count = min(length - int(state[POSITION]) % length, frames - start)
        ceiling = np.float32(state[CEILING_GAIN] * margin)
        base = int(state[RING_AT])
        for c in range(channels):
            signal = x[c, start : start + count]
            out = driven[c]
            if steady:
                drive = np.float32(state[DRIVE_TO])
                for i in range(count):
                    out[i] = signal[i] * drive
            else:
                for i in range(count):
                    along = np.float64(phase + i + 1) / TICK_FRAMES
                    out[i] = np.float32(signal[i] * (state[DRIVE_FROM] + (state[DRIVE_TO] - state[DRIVE_FROM]) * along))
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
                follower[BETWEEN] = peaks_between(out, history[c], filters, rows, follower[BETWEEN], ceiling, level, count)
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
            target = gains[d]
            for i in range(count):
                target[i] = ceiling / max(level[i], ceiling)
            if state[LEAN_FROM] != 1.0 or state[LEAN_TO] != 1.0:
                for i in range(count):
                    along = np.float64(phase + i + 1) / TICK_FRAMES
                    target[i] = min(target[i], np.float32(state[LEAN_FROM] + (state[LEAN_TO] - state[LEAN_FROM]) * along))
            follower = state[HEADER + d * FOLLOWERS : HEADER + (d + 1) * FOLLOWERS]
            lowest_then_mean(
                target, follower, lanes[d], window, state[RELEASED + d], settings[ADAPTIVE] != 0.0, settings[SLOW_ATTACK],
                settings[SLOW_RELEASE], count,
            )  # fmt: skip
        if linked:
            for i in range(LOOKAHEAD_STATE):
                state[HEADER + FOLLOWERS + i] = state[HEADER + i]
        at = 0
        while at < count:
            run = min(TICK_FRAMES - (phase + at) % TICK_FRAMES, count - at)
            # Neither is negative, so their bits sort like integers: extremes that vectorise.
            least = np.int32(0x3F800000)
            loudest_bits = np.int32(0)
            for d in range(detectors):
                level_bits = work_bits[2 + d, at : at + run]
                applied_bits = work_bits[4 + d, at : at + run]
                for i in range(run):
                    least = min(least, applied_bits[i])
                    loudest_bits = max(loudest_bits, level_bits[i])
            found_bits[0] = least
            found_bits[1] = loudest_bits
            trace[0, column] = np.float32(-20.0 * np.log10(result[0]))
            trace[1, column] = np.float32(20.0 * np.log10(max(result[1], TINY)))
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
