"""The gain computer and its smoothing: compressor kernels.

    audio --+--> lookahead delay ------------------------------(x)--> mix, make-up --> out
            |                                                   ^
    key ----+--> detector --> dB --> link --> curve --> attack / hold / release --> 2^

The curve is a sum of bends, each the soft knee of GMR eq. 4 at a place, with a slope of its own: one bend makes a
compressor, one at each point makes a curve drawn freely.

Source: Giannoulis, Massberg and Reiss, "Digital Dynamic Range Compressor Design", J. Audio Eng. Soc. 60(6), 2012
(GMR below): log-domain detector, soft knee (eq. 4), smooth branching (eq. 17) in the log domain.
"""

import numpy as np

from saltanvil.dsp.detector import HISTORY, detect, detectors_of, group_heads, spread_heads
from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, copy_rows, inline, kernel, share_of
from saltanvil.dsp.logs import ONE, decibels, exp2_block
from saltanvil.dsp.ring import through_ring

# Target settings, one float64 each. Those before GLIDING glide from tick to tick; the rest take effect at once.
(
    BASE, RANGE, BOOST, MAKEUP, MIX, LINK, RETURN, GLIDING,
    ATTACK, RELEASE, HOLD, RMS, AUTO, FOLLOW, LOOKAHEAD, FEEDBACK, GLIDE, ONSET_FAST, ONSET_SLOW, SLOW_ATTACK,
    SLOW_RELEASE, LONGEST, GROUPS, SETTINGS,
) = range(24)  # fmt: skip
# A bend of the curve: level in dB, decibels of reduction more for each decibel above it, width of its knee in dB.
AT, SLOPE, KNEE, BEND = range(4)
#: A curve that bends both ways sees no level below this, so that a gain does not move for long in silence.
QUIETEST_DB = np.float32(-120.0)
# State: the gliding settings, the output factors they glided from, then per channel a row of followers.
POSITION, RING_AT, PRIMED, GAIN_FROM, MIX_FROM, GAIN, HEADER = 16, 17, 18, 19, 20, 21, 24
#: While nothing glides, several ticks are worked through at once: longer runs vectorise better.
CHUNK_FRAMES = 256
WORK_ROWS, WORK_FRAMES = 12, CHUNK_FRAMES + HISTORY
(MEAN_SQUARE, REDUCTION, SLOW, HOLD_LEFT, FAST_ENVELOPE, SLOW_ENVELOPE, FED_BACK, APPLIED, LEVEL_DB, FOLLOWERS) = range(10)
STATE = HEADER + 2 * FOLLOWERS

OCTAVES_PER_DB = np.float32(1.0 / (20.0 * np.log10(2.0)))
FLOOR = 1e-30


@inline
def feedback_reduction(level_db, threshold_db, slope, knee_db, range_db):  # type: ignore[no-untyped-def]
    """Reduction in dB for the level *after* the gain: GMR eq. 4 inverted, slope = 1 - 1/ratio, limited to the range.

    Returns it with d(input)/d(output), by which the loop would otherwise quicken the set times.
    """
    over = level_db - threshold_db
    top = 0.5 * knee_db - slope * 0.5 * knee_db  # the knee's upper end as it leaves
    if 2.0 * over <= -knee_db or slope <= 0.0:
        return 0.0, 1.0
    if over < top:
        bend = slope / (2.0 * knee_db)
        root = np.sqrt(max(1.0 - 4.0 * bend * (over + 0.5 * knee_db), 1e-6))
        reduction = (1.0 - root) / (2.0 * bend) - (over + 0.5 * knee_db)
        quickening = 1.0 / root
    else:
        quickening = 1.0 / (1.0 - slope)
        reduction = over * (quickening - 1.0)
    return min(reduction, range_db), quickening


@inline
def smoothed(target, follower, settings, quickening):  # type: ignore[no-untyped-def]
    """One frame of attack, hold and release on a reduction in dB (GMR eq. 17); returns the reduction to apply."""
    reduction = follower[REDUCTION]
    if target > reduction:
        reduction = target + (reduction - target) * (1.0 - (1.0 - settings[ATTACK]) / quickening)
        follower[HOLD_LEFT] = settings[HOLD]
    elif follower[HOLD_LEFT] > 0.0:
        follower[HOLD_LEFT] -= 1.0
    else:
        reduction = target + (reduction - target) * (1.0 - (1.0 - settings[RELEASE]) / quickening)
    follower[REDUCTION] = reduction
    if settings[AUTO] == 0.0:
        return reduction
    slow = follower[SLOW]
    coefficient = settings[SLOW_ATTACK] if target > slow else settings[SLOW_RELEASE]
    slow = target + (slow - target) * coefficient
    follower[SLOW] = slow
    return max(reduction, slow)


@inline
def smooth_block(reduction, follower, settings, count):  # type: ignore[no-untyped-def]
    """`smoothed` over a stretch in place, without a branch where there is neither hold nor automatic release."""
    if settings[AUTO] != 0.0 or settings[HOLD] > 0.0:
        for i in range(count):
            reduction[i] = np.float32(smoothed(np.float64(reduction[i]), follower, settings, 1.0))
        return
    current = follower[REDUCTION]
    attack = settings[ATTACK]
    release = settings[RELEASE]
    up = 1.0 - attack
    down = 1.0 - release
    for i in range(count):
        # Both outcomes are prepared, so that the recursion waits for one multiply-add and one choice only.
        target = np.float64(reduction[i])
        rising = target * up + current * attack
        falling = target * down + current * release
        current = rising if target > current else falling
        reduction[i] = np.float32(current)
    follower[REDUCTION] = current
    follower[HOLD_LEFT] = 0.0


@inline
def follow_block(level, reduction, follower, settings, count):  # type: ignore[no-untyped-def]
    """`smooth_block` for a curve that bends both ways: attack while the level rises, release while it falls.

    A level that follows with the same times tells which of the two it is; the reduction moves along, so that the set
    times are those of the gain.
    """
    smooth = follower[LEVEL_DB]
    current = follower[REDUCTION]
    attack = settings[ATTACK]
    release = settings[RELEASE]
    for i in range(count):
        seen = np.float64(max(level[i], QUIETEST_DB))
        target = np.float64(reduction[i])
        coefficient = attack if seen > smooth else release
        smooth = seen + (smooth - seen) * coefficient
        current = target + (current - target) * coefficient
        reduction[i] = np.float32(current)
    follower[LEVEL_DB] = smooth
    follower[REDUCTION] = current


@inline
def curve_block(level, target, now, bends, count):  # type: ignore[no-untyped-def]
    """Reduction in dB for levels in dB: GMR eq. 4 for each bend without a branch, inside the knee a parabola, above it a line."""
    zero = np.float32(0.0)
    base_db = np.float32(now[BASE])
    for b in range(bends.shape[0]):
        at_db = np.float32(bends[b, AT])
        half_knee = np.float32(0.5 * bends[b, KNEE])
        slope = np.float32(bends[b, SLOPE])
        bend = np.float32(bends[b, SLOPE] / (2.0 * bends[b, KNEE])) if bends[b, KNEE] > 0.0 else zero
        if b == 0:
            for i in range(count):
                over = level[i] - at_db
                into = min(max(over + half_knee, zero), half_knee + half_knee)
                beyond = max(over - half_knee, zero)
                target[i] = base_db + (bend * into * into + slope * beyond)
        else:
            for i in range(count):
                over = level[i] - at_db
                into = min(max(over + half_knee, zero), half_knee + half_knee)
                beyond = max(over - half_knee, zero)
                target[i] += bend * into * into + slope * beyond
    most = np.float32(now[RANGE])
    least = np.float32(-now[BOOST])
    for i in range(count):
        target[i] = max(min(target[i], most), least)


@inline
def returned(magnitude, reduction, follower, settings, most_db):  # type: ignore[no-untyped-def]
    """The reduction with attacks given back: while a quick envelope stands above a slow one, up to `most_db` less."""
    fast = max(magnitude, follower[FAST_ENVELOPE] * settings[ONSET_FAST])
    slow = fast + (follower[SLOW_ENVELOPE] - fast) * settings[ONSET_SLOW]
    follower[FAST_ENVELOPE] = fast
    follower[SLOW_ENVELOPE] = slow
    onset_db = 20.0 * np.log10((fast + FLOOR) / (slow + FLOOR)) if fast > slow else 0.0
    return max(reduction - min(most_db, onset_db), 0.0)


@inline
def at_rest(ring, state):  # type: ignore[no-untyped-def]
    """The envelopes that find onsets, as if they had followed the sound until now and found none."""
    for c in range(ring.shape[0]):
        loudest = 0.0
        for i in range(ring.shape[1]):
            loudest = max(loudest, abs(np.float64(ring[c, i])))
        state[HEADER + c * FOLLOWERS + FAST_ENVELOPE] = loudest
        state[HEADER + c * FOLLOWERS + SLOW_ENVELOPE] = loudest


@kernel(
    "void(float32[:,::1],float32[:,::1],float32[:,::1],float64[::1],float64[:,::1],float64[:,::1],float64[::1],"
    "float64[:,::1],float32[:,::1],float32[:,::1],float32[:,::1])"
)
def compress(x, key, y, settings, curve, bends, state, memory, ring, trace, work):  # type: ignore[no-untyped-def]
    """Compress a block of any length.

    x, y: (channels, frames); key: (channels, frames), the detector's input (x itself with an internal key).
    curve, bends: (bends, BEND), wanted and current; feedback knows the first only. memory: from `detector_memory`.
    ring: (channels, size), the lookahead's memory, size a power of two of at least the lookahead and CHUNK_FRAMES.
    trace: (2, at least one column for every tick the block touches): largest reduction in dB, and loudest level at
    the detector in dB. Where the gain may rise, the larger of rise (negative) and fall is traced.
    work: (WORK_ROWS, WORK_FRAMES), scratch.
    """
    channels, frames = x.shape
    now = state[:GLIDING]
    if state[PRIMED] == 0.0:
        copy(settings[:GLIDING], now)
        copy_rows(curve, bends)
        for d in range(2):
            state[HEADER + d * FOLLOWERS + LEVEL_DB] = QUIETEST_DB
            state[HEADER + d * FOLLOWERS + REDUCTION] = min(max(now[BASE], -now[BOOST]), now[RANGE])
        state[GAIN] = 10.0 ** (now[MAKEUP] / 20.0)
        state[GAIN_FROM] = state[GAIN]
        state[MIX_FROM] = now[MIX]
        state[PRIMED] = 1.0
    bits_of_work = work.view(np.int32)
    power, power_bits = work[0], bits_of_work[0]
    mantissa, mantissa_bits = work[1], bits_of_work[1]
    factor, factor_bits = work[2], bits_of_work[2]
    shift = bits_of_work[3]
    late = work[4:6]
    levels = work[6:8]
    reduction = work[8:10]
    reduction_bits = bits_of_work[8:10]
    scratch = work[10:12]
    first = state[HEADER : HEADER + FOLLOWERS]
    second = state[HEADER + FOLLOWERS : HEADER + 2 * FOLLOWERS]
    lookahead = int(settings[LOOKAHEAD])
    feedback = settings[FEEDBACK] != 0.0
    by_output = feedback and settings[RMS] > 0.0  # a mean of what leaves, frame by frame
    glide = settings[GLIDE]
    start = 0
    column = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        settled = True
        for i in range(GLIDING):
            settled = settled and now[i] == settings[i]
        for b in range(curve.shape[0]):
            for i in range(BEND):
                settled = settled and bends[b, i] == curve[b, i]
        if phase == 0:
            state[GAIN_FROM] = state[GAIN]
            state[MIX_FROM] = now[MIX]
            if not settled:
                share = share_of(glide)
                glide = after_tick(glide)
                if now[RETURN] == 0.0 and settings[RETURN] > 0.0:
                    at_rest(ring, state)
                for i in range(GLIDING):
                    gap = settings[i] - now[i]
                    now[i] = settings[i] if abs(gap) < 1e-4 else now[i] + gap * share
                for b in range(curve.shape[0]):
                    for i in range(BEND):
                        gap = curve[b, i] - bends[b, i]
                        bends[b, i] = curve[b, i] if abs(gap) < 1e-4 else bends[b, i] + gap * share
                state[GAIN] = 10.0 ** (now[MAKEUP] / 20.0)
        steady = state[GAIN] == state[GAIN_FROM] and now[MIX] == state[MIX_FROM]
        # Up to a tick's end in either case, so that no tick is split over two columns of the trace.
        count = min((CHUNK_FRAMES if settled and steady else TICK_FRAMES) - phase, frames - start)
        base = int(state[RING_AT])
        for c in range(channels):
            through_ring(x[c], start, ring[c], base, lookahead, late[c], count)
        position = int(state[POSITION])
        detectors = detectors_of(memory, channels, now[LINK])
        linked = detectors < channels
        mixed = detectors == 2 and now[LINK] > 0.0
        if not by_output:
            for d in range(detectors):
                sides = channels if linked else 1
                level = levels[d]
                if feedback:
                    detect(late, 0, d, sides, 0.0, memory, position, settings[LONGEST], 0, scratch, power, count)
                    decibels(power, power_bits, mantissa, mantissa_bits, level, count)
                    continue
                steady_groups = detect(
                    key, start, d, sides, settings[RMS], memory, position, settings[LONGEST], int(settings[GROUPS]),
                    scratch, power, count,
                )  # fmt: skip
                if steady_groups and not mixed:
                    # One value a group is all there is to know: a sixteenth of the work.
                    heads, targets = scratch[0], scratch[1]
                    groups = group_heads(power, position, factor, count)
                    decibels(factor, factor_bits, mantissa, mantissa_bits, heads, groups)
                    curve_block(heads, targets, now, bends, groups)
                    spread_heads(heads, position, level, count)
                    spread_heads(targets, position, reduction[d], count)
                else:
                    decibels(power, power_bits, mantissa, mantissa_bits, level, count)
                    if not mixed:
                        curve_block(level, reduction[d], now, bends, count)
            if mixed:
                link = np.float32(now[LINK])
                for i in range(count):
                    both = max(levels[0, i], levels[1, i])
                    levels[0, i] += link * (both - levels[0, i])
                    levels[1, i] += link * (both - levels[1, i])
                if not feedback:
                    for d in range(2):
                        curve_block(levels[d], reduction[d], now, bends, count)
        if not feedback:
            for d in range(detectors):
                follower = first if d == 0 else second
                if settings[FOLLOW] != 0.0:
                    follow_block(levels[d], reduction[d], follower, settings, count)
                else:
                    smooth_block(reduction[d], follower, settings, count)
        elif not by_output:
            # The level after the gain: the crest held, less the reduction of the frame before.
            for d in range(detectors):
                follower = first if d == 0 else second
                applied = follower[APPLIED]
                for i in range(count):
                    seen = np.float64(levels[d, i]) - applied
                    target, quickening = feedback_reduction(seen, bends[0, AT], bends[0, SLOPE], bends[0, KNEE], now[RANGE])
                    applied = smoothed(target, follower, settings, quickening)
                    reduction[d, i] = np.float32(applied)
                follower[APPLIED] = applied
        else:
            for i in range(count):
                for d in range(channels):
                    follower = first if d == 0 else second
                    square = follower[FED_BACK] * follower[FED_BACK]
                    square += (follower[MEAN_SQUARE] - square) * settings[RMS]
                    follower[MEAN_SQUARE] = square
                    levels[d, i] = np.float32(10.0 * np.log10(square + FLOOR))
                if channels == 2:
                    both = max(levels[0, i], levels[1, i])
                    levels[0, i] += np.float32(now[LINK]) * (both - levels[0, i])
                    levels[1, i] += np.float32(now[LINK]) * (both - levels[1, i])
                for d in range(channels):
                    follower = first if d == 0 else second
                    seen = np.float64(levels[d, i])
                    target, quickening = feedback_reduction(seen, bends[0, AT], bends[0, SLOPE], bends[0, KNEE], now[RANGE])
                    applied = smoothed(target, follower, settings, quickening)
                    reduction[d, i] = np.float32(applied)
                    follower[FED_BACK] = late[d, i] * 10.0 ** (-applied / 20.0)
            detectors = channels
            linked = False
        if now[RETURN] > 0.0:
            if linked:
                for i in range(count):
                    reduction[1, i] = reduction[0, i]
            detectors = channels
            for i in range(count):
                for d in range(channels):
                    follower = first if d == 0 else second
                    magnitude = abs(np.float64(late[d, i]))
                    less = returned(magnitude, np.float64(reduction[d, i]), follower, settings, now[RETURN])
                    reduction[d, i] = np.float32(less)
                if channels == 2:
                    least = min(reduction[0, i], reduction[1, i])
                    reduction[0, i] += np.float32(now[LINK]) * (least - reduction[0, i])
                    reduction[1, i] += np.float32(now[LINK]) * (least - reduction[1, i])
        if linked:
            for i in range(FOLLOWERS):
                if i != FAST_ENVELOPE and i != SLOW_ENVELOPE:
                    second[i] = first[i]
        at = 0
        while at < count:
            run = min(TICK_FRAMES - (phase + at) % TICK_FRAMES, count - at)
            # Reductions are not negative, so their bits sort like integers: a maximum that vectorises.
            largest = np.int32(0)
            loudest = levels[0, at]
            for d in range(detectors):
                bits = reduction_bits[d, at : at + run]
                if now[BOOST] == 0.0:
                    for i in range(run):
                        largest = max(largest, bits[i])
                else:
                    for i in range(run):
                        if bits[i] & np.int32(0x7FFFFFFF) > largest & np.int32(0x7FFFFFFF):
                            largest = bits[i]
                level = levels[0 if linked else d, at : at + run]
                for i in range(0, run, 4):
                    loudest = max(loudest, level[i])
            mantissa_bits[0] = largest
            trace[0, column] = mantissa[0]
            trace[1, column] = loudest
            column += 1
            at += run
        makeup_to = state[GAIN]
        makeup_from = state[GAIN_FROM]
        mix_from = state[MIX_FROM]
        for c in range(channels):
            out = y[c, start : start + count]
            delayed = late[c]
            if c < detectors:
                down = reduction[c]
                for i in range(count):
                    power[i] = -down[i] * OCTAVES_PER_DB
                exp2_block(power, mantissa, shift, factor, factor_bits, count)
            if steady:
                makeup = np.float32(makeup_to)
                wet = np.float32(now[MIX])
                for i in range(count):
                    out[i] = delayed[i] * (ONE + wet * (factor[i] * makeup - ONE))
            else:
                for i in range(count):
                    along = np.float64(phase + i + 1) / TICK_FRAMES
                    makeup64 = makeup_from + (makeup_to - makeup_from) * along
                    wet64 = mix_from + (now[MIX] - mix_from) * along
                    out[i] = np.float32(delayed[i] * (1.0 + wet64 * (factor[i] * makeup64 - 1.0)))
        start += count
        state[POSITION] += count
        state[RING_AT] = np.float64((base + count) & (ring.shape[1] - 1))
    for i in range(HEADER, STATE):
        if abs(state[i]) < DENORMAL:
            state[i] = 0.0
