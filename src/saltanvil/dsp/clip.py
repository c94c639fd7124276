"""The clipper's kernel: sound that is not clipped passes bit for bit.

    x --+--> delay --------------------------------------------------------------------------+
        |                                                                                     +--> DC, output, mix --> y
        +--> band --> drive / ceiling --> up --+--> shape (antiderivative) --> down = d_s ----+
                                               +---------------------------> down = d_v ------+

    y = drive (x - band) + ceiling d_s + s (drive band - ceiling d_v), and then g of all but the first term

Unshaped, d_s and d_v are the same to the last bit, so with s = 1 what comes out is x. What the filters themselves
leave out (above 20 kHz) would pass unclipped; s lets it down as far as the stage is driven over its ceiling, and
for as long as the filters remember. With
minimum phase s is 0: the sound goes through the filters, whose phase it takes.

The filters swing: up to 2.6 dB over the ceiling on hats. g takes that down, a gain of half a millisecond that is there
before the peak (`saltanvil.dsp.lookahead`) and 1 where nothing is over. A second clip at the base rate would fold back;
so would a gain steered by samples, which catch the swing now here and now there: steered by the peak between them it
stands still under a steady wave, the more so as it is released slowly.

The shape, with the ceiling at 1 and the knee at a: v up to a; above it a + (1 - a) h((v - a) / (1 - a)), where
h(u) = u - 4/27 u^3 up to u = 1.5 and 1 from there on. h has slope 1 and no bend at 0, so every hardness a leaves
small signals alone. (The cubic is ours to the same end as any soft clipper's; no source.)

Aliasing is held down twice: by oversampling and by first-order antiderivative anti-aliasing (Parker, Zavalishin and
Le Bivic, "Reducing the aliasing of nonlinear waveshaping using continuous-time convolution", DAFx 2016; from memory).
"""

import numpy as np

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, inline, kernel, share_of
from saltanvil.dsp.lookahead import LOOKAHEAD_STATE, lowest_then_mean
from saltanvil.dsp.lookahead import rest as at_rest
from saltanvil.dsp.oversample import doubled, halved
from saltanvil.dsp.ring import through_ring
from saltanvil.dsp.true_peak import TRUE_PEAK_LATE, peaks_between

# Target settings; those before GLIDING glide from tick to tick. Gains are linear.
(DRIVE, CEILING, HARDNESS, OUTPUT, MIX, GLIDING, STEPS, LINEAR, LATENCY, PAD, BLOCK_DC, GLIDE, DC_POLE, DRIVEN_FALL, AHEAD,
 TRUE_PEAK, AHEAD_RELEASE, SETTINGS) = range(18)  # fmt: skip
# State: the gliding settings, those they glide from, then per channel a row of followers.
POSITION, PRIMED, RING_AT, HEADER = 10, 11, 12, 16
LAST_IN, LAST_TAKEN, DC_IN, DC_OUT, DRIVEN, BETWEEN, FOLLOWERS = range(LOOKAHEAD_STATE, LOOKAHEAD_STATE + 7)  # the window's first
STATE = HEADER + 2 * FOLLOWERS
#: What the parabola may still miss, and a gain's own movement, of what lies below 0.45 of the rate.
MARGIN_DB = 0.04
MAX_FACTOR = 16
MAX_PAD = 16
#: While nothing glides, several ticks are worked through at once, up to this many samples at the highest rate.
CHUNK_FRAMES = 256
ROOM = TICK_FRAMES * MAX_FACTOR
WORK_ROWS = 31
#: Two samples nearer than this are taken as a straight line between their own values.
NEAR = np.float32(2e-4)
HARDEST = 0.9999
KNEE_END = np.float32(1.5)
CUBIC = np.float32(4.0 / 27.0)
QUARTIC = np.float32(1.0 / 27.0)
HALF = np.float32(0.5)
# Rows of the trace, one column a tick: peak taken off in dB, level at the clip stage in dB, samples over the ceiling.
TRACE_ROWS = 3


@inline
def taken_block(v, knee, follower, smooth, in_knee, beyond, point, mean, out, count):  # type: ignore[no-untyped-def]
    """out = what the shape takes from v (shape less input), a sample late if `smooth`. v, in_knee, ...: from place 1 on.

    Place 0 of each array holds the sample before the stretch.
    """
    span = np.float32(1.0 - knee)
    inverse = np.float32(1.0) / span
    knee_width = KNEE_END * span
    knee32 = np.float32(knee)
    zero = np.float32(0.0)
    v[0] = np.float32(follower[LAST_IN])
    for i in range(count + 1):
        over = abs(v[i]) - knee32
        t = min(max(over * inverse, zero), KNEE_END)
        w = max(over - knee_width, zero)  # not scaled, so that differences stay exact however hard it is driven
        in_knee[i] = t
        beyond[i] = w
        magnitude = span * CUBIC * t * t * t + w
        point[i] = -magnitude if v[i] > zero else magnitude
    follower[LAST_IN] = v[count]
    if not smooth:
        for i in range(count):
            out[i] = point[i + 1]
        return
    last = np.float32(follower[LAST_TAKEN])
    area = span * span
    half_span = HALF * span
    v1, t1, w1, p1 = v[1 : count + 1], in_knee[1 : count + 1], beyond[1 : count + 1], point[1 : count + 1]
    for i in range(count):
        moved = v1[i] - v[i]
        t_sum = t1[i] + in_knee[i]
        squares = t1[i] * t1[i] + in_knee[i] * in_knee[i]
        risen = area * (t1[i] - in_knee[i]) * t_sum * squares * QUARTIC
        risen += (w1[i] - beyond[i]) * (HALF * (w1[i] + beyond[i]) + half_span)
        near = abs(moved) < NEAR
        average = -risen / (NEAR if near else moved)
        mean[i + 1] = HALF * (p1[i] + point[i]) if near else average
    mean[0] = last
    # The mean over two samples makes the half sample of delay a whole one.
    m1 = mean[1 : count + 1]
    for i in range(count):
        out[i] = HALF * (m1[i] + mean[i])
    follower[LAST_TAKEN] = mean[count]


@kernel(
    "void(float32[:,::1],float32[:,::1],float32[:,::1],float64[::1],float64[::1],float32[:,:,:,::1],int64[:,::1],"
    "float32[:,:,::1],float32[:,:,:,::1],float32[:,::1],float32[:,::1],float32[:,::1],float64[:,::1],float32[:,::1],"
    "float32[:,::1],float32[:,::1],float32[:,::1])"
)
def clip(x, band, y, settings, state, ladder, taps, ups, downs, pads, ring, ahead_ring, lanes, history, filters, trace, work):  # type: ignore[no-untyped-def]
    """Clip a block of any length.

    x, band, y: (channels, frames); band is what reaches the clip stage. ladder: (2, stages, 2,
    taps), filters up and down; taps: (2, stages), how many of each half. ups: (channels,
    stages, room); downs: (2 channels, stages, 2, room); pads: (2 channels, room at the highest rate); rows from
    channels on belong to the unshaped sound. ring: (2 channels, size), size a power of two of at least latency +
    CHUNK_FRAMES, for x and the band. ahead_ring: (3 channels, size), of at least
    AHEAD + TRUE_PEAK_LATE + CHUNK_FRAMES; lanes: (3, AHEAD + 2 or more); both for what holds the ceiling AHEAD frames ahead, 0
    for not at all. history: (channels, TRUE_PEAK_HISTORY + CHUNK_FRAMES) and filters: from `true_peak_filters`, where the
    peak between samples counts.
    trace: (TRACE_ROWS, a column for every tick touched), zeros. work: (WORK_ROWS, room).
    """
    channels, frames = x.shape
    now = state[:GLIDING]
    before = state[GLIDING : 2 * GLIDING]
    if state[PRIMED] == 0.0:
        copy(settings[:GLIDING], now)
        copy(settings[:GLIDING], before)
        at_rest(state[HEADER : HEADER + FOLLOWERS], lanes, int(settings[AHEAD]))
        state[PRIMED] = 1.0
    ahead = int(settings[AHEAD])
    true_peak = settings[TRUE_PEAK] != 0.0
    margin = np.float32(10.0 ** (-MARGIN_DB / 20.0))
    ahead_latency = ahead + (TRUE_PEAK_LATE if true_peak else 0)
    ahead_mask = ahead_ring.shape[1] - 1
    steps = int(settings[STEPS])
    factor = 1 << steps
    linear = settings[LINEAR] != 0.0
    latency = int(settings[LATENCY])
    pad = int(settings[PAD])
    mask = ring.shape[1] - 1
    low, high, even, odd = work[0], work[1], work[2], work[3]
    v, in_knee, beyond, point, taken = work[4], work[5], work[6], work[7], work[8]
    drive, ceiling, output, mix = work[9], work[10], work[11], work[12]
    sound, mean, shaped, spare = work[13], work[14], work[16], work[17]
    beside, gain, rows, parts = work[18], work[19], work[20:25], work[25:31]
    low_bits = work.view(np.int32)[0]
    result = work[15]
    found_bits = work.view(np.int32)[15]
    moving = True
    glide = settings[GLIDE]
    start = 0
    column = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        if phase == 0:
            share = share_of(glide)
            glide = after_tick(glide)
            for i in range(GLIDING):
                before[i] = now[i]
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-6 else now[i] + gap * share
        was_moving = moving
        moving = False
        for i in range(GLIDING):
            moving = moving or before[i] != now[i] or now[i] != settings[i]
        # Stretches end on multiples of their length, counted from the beginning, and never in the middle of a flush.
        length = TICK_FRAMES if moving else min(CHUNK_FRAMES, ROOM // factor)
        count = min(length - int(state[POSITION]) % length, frames - start)
        flush = (int(state[POSITION]) + count) % CHUNK_FRAMES == 0
        for i in range(CHUNK_FRAMES if was_moving and not moving else count if moving else 0):
            along = np.float64(phase + i + 1) / TICK_FRAMES
            drive[i] = np.float32(before[DRIVE] + (now[DRIVE] - before[DRIVE]) * along)
            ceiling[i] = np.float32(before[CEILING] + (now[CEILING] - before[CEILING]) * along)
            output[i] = np.float32(before[OUTPUT] + (now[OUTPUT] - before[OUTPUT]) * along)
            mix[i] = np.float32(before[MIX] + (now[MIX] - before[MIX]) * along)
        base = int(state[RING_AT])
        for c in range(channels):
            follower = state[HEADER + c * FOLLOWERS : HEADER + (c + 1) * FOLLOWERS]
            reached = band[c, start : start + count]
            for i in range(count):
                low[i] = reached[i] * drive[i] / ceiling[i]
            driven = follower[DRIVEN]
            for i in range(count):
                driven = max(np.float64(abs(low[i])), driven * settings[DRIVEN_FALL])
                spare[i] = np.float32(1.0 / max(driven, 1.0))
            follower[DRIVEN] = driven
            at = 0
            tick = column
            while at < count:
                run = min(TICK_FRAMES - (phase + at) % TICK_FRAMES, count - at)
                # Magnitudes sort like their bits; those over 1 are over the ceiling.
                magnitudes = low_bits[at : at + run]
                loudest = np.int32(0)
                over = np.int32(0)
                for i in range(run):
                    magnitude = magnitudes[i] & np.int32(0x7FFFFFFF)
                    loudest = max(loudest, magnitude)
                    over += np.int32(magnitude > np.int32(0x3F800000))
                found_bits[0] = loudest
                trace[1, tick] = max(trace[1, tick], result[0])
                trace[2, tick] += over
                tick += 1
                at += run
            size = count
            for s in range(steps):
                doubled(low, ups[c, s], ladder[0, s], taps[0, s], linear, even, odd, high, size)
                size *= 2
                for i in range(size):
                    low[i] = high[i]
            for i in range(size):
                v[i + 1] = low[i]
            taken_block(v, now[HARDNESS], follower, steps > 0, in_knee, beyond, point, mean, taken, size)
            if steps > 0:  # what is taken is found a sample late
                for i in range(size):
                    taken[i] += v[i]
            else:
                for i in range(size):
                    taken[i] += v[i + 1]
            for lane in range(2):
                at = c + lane * channels
                late = pad + lane if steps > 0 else 0
                padding = pads[at]
                if lane == 0:
                    for i in range(size):
                        padding[late + i] = taken[i]
                else:
                    for i in range(size):
                        padding[late + i] = v[i + 1]
                for i in range(size):
                    high[i] = padding[i]
                for i in range(late):
                    padding[i] = padding[size + i]
                for s in range(steps - 1, -1, -1):
                    size //= 2
                    for i in range(2 * size):
                        low[i] = high[i]
                    halved(low, downs[at, s], ladder[1, s], taps[1, s], linear and s > 0, odd, high, size)
                if lane == 0:
                    for i in range(count):
                        shaped[i] = high[i]
                    size = count << steps
            through_ring(x[c], start, ring[c], base, latency, sound, count)
            through_ring(band[c], start, ring[channels + c], base, latency, even, count)
            out = y[c, start : start + count]
            # In float64, so that what was not shaped comes out as it went in.
            if linear:
                for i in range(count):
                    value, reached_late = np.float64(sound[i]), np.float64(even[i])
                    drive64, ceiling64 = np.float64(drive[i]), np.float64(ceiling[i])
                    left_out = drive64 * reached_late - ceiling64 * high[i]
                    low[i] = np.float32(drive64 * (value - reached_late) + ceiling64 * shaped[i] + spare[i] * left_out)
                    beside[i] = np.float32(drive64 * (value - reached_late))
            else:
                for i in range(count):
                    rest = sound[i] - even[i]
                    beside[i] = rest * drive[i]
                    low[i] = beside[i] + shaped[i] * ceiling[i]
                    sound[i] = rest + high[i] * (ceiling[i] / drive[i])
            if settings[BLOCK_DC] != 0.0:
                last_in, last_out = follower[DC_IN], follower[DC_OUT]
                for i in range(count):
                    last_out = low[i] - last_in + settings[DC_POLE] * last_out
                    last_in = np.float64(low[i])
                    low[i] = np.float32(last_out)
                follower[DC_IN], follower[DC_OUT] = last_in, last_out
            if ahead > 0:
                clipped, base_row, dry = parts[3 * c], parts[3 * c + 1], parts[3 * c + 2]
                for i in range(count):
                    clipped[i] = low[i] - beside[i]  # what is to stay under the ceiling
                    base_row[i] = low[i]
                    dry[i] = sound[i]
            else:
                for i in range(count):
                    out[i] = sound[i] + mix[i] * (low[i] * output[i] - sound[i])
            if flush:
                for i in (DC_OUT, DRIVEN):
                    if abs(follower[i]) < DENORMAL:
                        follower[i] = 0.0
        if ahead > 0:
            # One gain for both sides, so that the image stays.
            for c in range(channels):
                clipped = parts[3 * c]
                follower = state[HEADER + c * FOLLOWERS : HEADER + (c + 1) * FOLLOWERS]
                if true_peak:
                    quietest = margin * min(ceiling[0], ceiling[count - 1])
                    follower[BETWEEN] = peaks_between(
                        clipped, history[c], filters, rows, follower[BETWEEN], quietest, beside, count
                    )  # fmt: skip
                    for i in range(count):
                        ratio = margin * ceiling[i] / max(beside[i], margin * ceiling[i])
                        gain[i] = min(gain[i], ratio) if c == 1 else ratio
                else:
                    for i in range(count):
                        ratio = ceiling[i] / max(abs(clipped[i]), ceiling[i])
                        gain[i] = min(gain[i], ratio) if c == 1 else ratio
            lowest_then_mean(
                gain, state[HEADER : HEADER + FOLLOWERS], lanes, ahead, settings[AHEAD_RELEASE], False, 0.0, 0.0, count
            )
            ahead_at = int(state[POSITION]) & ahead_mask
            for c in range(channels):
                clipped, base_row, dry = parts[3 * c], parts[3 * c + 1], parts[3 * c + 2]
                through_ring(clipped, 0, ahead_ring[3 * c], ahead_at, ahead_latency, even, count)
                through_ring(base_row, 0, ahead_ring[3 * c + 1], ahead_at, ahead_latency, shaped, count)
                through_ring(dry, 0, ahead_ring[3 * c + 2], ahead_at, ahead_latency, sound, count)
                out = y[c, start : start + count]
                for i in range(count):
                    wet = (shaped[i] + (gain[i] - np.float32(1.0)) * even[i]) * output[i]
                    out[i] = sound[i] + mix[i] * (wet - sound[i])
        knee = np.float32(now[HARDNESS])
        at = 0
        while at < count:
            loudest32 = trace[1, column]
            if loudest32 > knee:
                u = min((loudest32 - knee) / (np.float32(1.0) - knee), KNEE_END)
                left = knee + (np.float32(1.0) - knee) * (u - CUBIC * u * u * u)
                trace[0, column] = np.float32(20.0 * np.log10(loudest32 / left))
            trace[1, column] = np.float32(20.0 * np.log10(max(loudest32 * ceiling[0], np.float32(1e-8))))
            at += TICK_FRAMES - (phase + at) % TICK_FRAMES
            column += 1
        start += count
        state[POSITION] += count
        state[RING_AT] = np.float64((base + count) & mask)
