"""Kernels of echo and room: delay lines that are fed back.

A delay that is moved fades from the old place of the line to the new one, so that nothing changes its pitch.
"""

import numpy as np

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, inline, kernel, share_of
from saltanvil.dsp.ring import read_ring, write_ring

#: A middle on one side, as loud as it was on both.
HALF_POWER = 0.5 * np.sqrt(2.0)

# ---- echo ------------------------------------------------------------------------------------------------------------
# Target settings; those before ECHO_GLIDING glide. LOW and HIGH are the coefficients of one-pole filters.
FEEDBACK, CROSS, SPREAD, DRY, WET, LOW, HIGH, ECHO_GLIDING, DELAY, FADE_STEP, ECHO_GLIDE, ECHO_SETTINGS = range(12)
# State: the gliding settings, then the line's.
(ECHO_POSITION, ECHO_PRIMED, DELAY_NOW, DELAY_NEXT, FADE, DRY_FROM, WET_FROM, ECHO_HEADER) = range(ECHO_GLIDING, ECHO_GLIDING + 8)
ECHO_STATE = ECHO_HEADER + 4  # low and high follower of both sides


@inline
def move(state, now, next_, fade, target):  # type: ignore[no-untyped-def]
    """At a tick: end a fade that is over, begin one if the delay moved."""
    if state[fade] >= 1.0:
        state[now] = state[next_]
        state[fade] = 0.0
    if state[fade] == 0.0 and state[now] != target:
        state[next_] = target
        state[fade] = 1e-9  # more than nothing: it is on


@kernel("void(float32[:,::1],float32[:,::1],float64[::1],float64[::1],float32[:,::1])")
def echo(x, y, settings, state, ring):  # type: ignore[no-untyped-def]
    """Repeat a block of any length. x, y: (channels, frames); ring: (channels, size), size a power of two.

    SPREAD sends the middle of both sides to the left line and lets each repeat change sides.
    """
    channels, frames = x.shape
    now = state[:ECHO_GLIDING]
    if state[ECHO_PRIMED] == 0.0:
        copy(settings[:ECHO_GLIDING], now)
        state[DRY_FROM], state[WET_FROM] = now[DRY], now[WET]
        state[DELAY_NOW] = settings[DELAY]
        state[ECHO_PRIMED] = 1.0
    mask = ring.shape[1] - 1
    glide = settings[ECHO_GLIDE]
    start = 0
    while start < frames:
        phase = int(state[ECHO_POSITION]) % TICK_FRAMES
        if phase == 0:
            state[DRY_FROM], state[WET_FROM] = now[DRY], now[WET]
            share = share_of(glide)
            glide = after_tick(glide)
            for i in range(ECHO_GLIDING):
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-6 else now[i] + gap * share
            move(state, DELAY_NOW, DELAY_NEXT, FADE, settings[DELAY])
        count = min(TICK_FRAMES - phase, frames - start)
        base = int(state[ECHO_POSITION])
        first, second = int(state[DELAY_NOW]), int(state[DELAY_NEXT])
        fading = state[FADE] > 0.0
        feedback, low, high = now[FEEDBACK], now[LOW], now[HIGH]
        spread = now[SPREAD] if channels == 2 else 0.0
        cross = now[CROSS] + spread * (1.0 - now[CROSS])
        dry_from, wet_from = state[DRY_FROM], state[WET_FROM]
        dry_by, wet_by = now[DRY] - dry_from, now[WET] - wet_from
        for i in range(count):
            at = base + i
            output = (0.0, 0.0)
            for c in range(channels):
                v = np.float64(ring[c, (at - first) & mask])
                if fading:
                    along = state[FADE] + settings[FADE_STEP] * i / TICK_FRAMES
                    along = min(along, 1.0)
                    v += (np.float64(ring[c, (at - second) & mask]) - v) * along
                memory = ECHO_HEADER + 2 * c
                state[memory] += high * (v - state[memory])
                v = state[memory]
                state[memory + 1] += low * (v - state[memory + 1])
                v -= state[memory + 1]
                output = (v, output[1]) if c == 0 else (output[0], v)
            for c in range(channels):
                own = output[c]
                other = output[1 - c] if channels == 2 else own
                entered = np.float64(x[c, start + i])
                if spread > 0.0:
                    both = entered + np.float64(x[1 - c, start + i])
                    entered += spread * ((HALF_POWER * both if c == 0 else 0.0) - entered)
                back = entered + feedback * (own + cross * (other - own))
                ring[c, at & mask] = np.float32(back) if abs(back) > DENORMAL else np.float32(0.0)
                gone = np.float64(phase + i + 1) / TICK_FRAMES
                dry, wet = dry_from + dry_by * gone, wet_from + wet_by * gone
                y[c, start + i] = np.float32(dry * x[c, start + i] + wet * own)
        start += count
        state[ECHO_POSITION] += count
        if phase + count == TICK_FRAMES:
            if fading:
                state[FADE] = min(state[FADE] + settings[FADE_STEP], 1.0)
            for i in range(4):
                if abs(state[ECHO_HEADER + i]) < DENORMAL:
                    state[ECHO_HEADER + i] = 0.0


# ---- room ------------------------------------------------------------------------------------------------------------
LINES = 16
DIFFUSERS = 4
#: No delay inside the network is shorter than a tick, so that a whole tick is worked through at once.
MIN_DELAY_FRAMES = TICK_FRAMES
# Target settings; those before ROOM_GLIDING glide. DIFFUSION is the coefficient of the all-passes, EARLY and TAIL the
# levels of what comes straight from them and of the lines; GAINS and ABSORB are the lines' losses and damping.
ROOM_DRY, ROOM_WET, WIDTH, EARLY, TAIL, DIFFUSION, GAINS = range(7)
#: Gains move within each tick too: the first of the settings.
RAMPED = GAINS + LINES
ABSORB = RAMPED
ROOM_LOW = ABSORB + LINES
ROOM_GLIDING = ROOM_LOW + 1
PREDELAY, ROOM_FADE_STEP, ROOM_GLIDE, ROOM_SETTINGS = range(ROOM_GLIDING, ROOM_GLIDING + 4)
(ROOM_POSITION, ROOM_PRIMED, PRE_NOW, PRE_NEXT, PRE_FADE, ROOM_FROM) = range(ROOM_GLIDING, ROOM_GLIDING + 6)
ROOM_HEADER = ROOM_FROM + RAMPED  # the gains as the tick began
ROOM_STATE = ROOM_HEADER + LINES + 2  # the lines' dampers, the inputs' low cuts
ROOM_WORK_ROWS = LINES + 7


@inline
def clean_into(values, ring, at, count):  # type: ignore[no-untyped-def]
    """Into a ring, as silence where next to nothing is left."""
    for i in range(count):
        values[i] = values[i] if abs(values[i]) > np.float32(DENORMAL) else np.float32(0.0)
    write_ring(values, ring, at, count)


@inline
def damp_four(a, b, c, d, memory, absorb, count):  # type: ignore[no-untyped-def]
    """One-pole low-passes of four lines at once: each waits for itself only, so that they take the time of one."""
    p, q, r, s = memory[0], memory[1], memory[2], memory[3]
    by_p, by_q, by_r, by_s = absorb[0], absorb[1], absorb[2], absorb[3]
    keep_p, keep_q, keep_r, keep_s = 1.0 - by_p, 1.0 - by_q, 1.0 - by_r, 1.0 - by_s
    for i in range(count):
        p = keep_p * p + by_p * a[i]
        q = keep_q * q + by_q * b[i]
        r = keep_r * r + by_r * c[i]
        s = keep_s * s + by_s * d[i]
        a[i], b[i], c[i], d[i] = np.float32(p), np.float32(q), np.float32(r), np.float32(s)
    memory[0], memory[1], memory[2], memory[3] = p, q, r, s


@kernel(
    "void(float32[:,::1],float32[:,::1],float64[::1],float64[::1],int64[::1],int64[:,::1],float32[:,::1],float32[:,:,::1],"
    "float32[:,::1],float32[:,::1])"
)
def room(x, y, settings, state, delays, spreads, pre, diffusers, lines, work):  # type: ignore[no-untyped-def]
    """A feedback delay network for a block of any length.

    x, y: (channels, frames). delays: of the LINES in frames; spreads: (2, DIFFUSERS) delays of the all-passes each side
    goes through first; none shorter than MIN_DELAY_FRAMES. pre: (2, size), diffusers: (2, DIFFUSERS, size), lines:
    (LINES, size); sizes powers of two. work: (ROOM_WORK_ROWS, TICK_FRAMES), scratch.

    The lines are mixed by a Householder matrix, which keeps the energy (J.-M. Jot and A. Chaigne, "Digital Delay
    Networks for Designing Artificial Reverberators", AES 90th Convention, 1991, from memory).
    """
    channels, frames = x.shape
    now = state[:ROOM_GLIDING]
    if state[ROOM_PRIMED] == 0.0:
        copy(settings[:ROOM_GLIDING], now)
        copy(now[:RAMPED], state[ROOM_FROM : ROOM_FROM + RAMPED])
        state[PRE_NOW] = settings[PREDELAY]
        state[ROOM_PRIMED] = 1.0
    pre_mask, spread_mask, mask = pre.shape[1] - 1, diffusers.shape[2] - 1, lines.shape[1] - 1
    entered, total, sides, scratch = work[LINES : LINES + 2], work[LINES + 2], work[LINES + 3 : LINES + 5], work[LINES + 5]
    along = work[LINES + 6]
    glide = settings[ROOM_GLIDE]
    start = 0
    while start < frames:
        phase = int(state[ROOM_POSITION]) % TICK_FRAMES
        if phase == 0:
            copy(now[:RAMPED], state[ROOM_FROM : ROOM_FROM + RAMPED])
            share = share_of(glide)
            glide = after_tick(glide)
            for i in range(ROOM_GLIDING):
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-6 else now[i] + gap * share
            move(state, PRE_NOW, PRE_NEXT, PRE_FADE, settings[PREDELAY])
        count = min(TICK_FRAMES - phase, frames - start)
        base = int(state[ROOM_POSITION])
        first, second = int(state[PRE_NOW]), int(state[PRE_NEXT])
        fading = state[PRE_FADE] > 0.0
        low = now[ROOM_LOW]
        for i in range(count):
            along[i] = np.float32(phase + i + 1) / np.float32(TICK_FRAMES)
        diffusion_from = np.float32(state[ROOM_FROM + DIFFUSION])
        diffusion_by = np.float32(now[DIFFUSION]) - diffusion_from
        for c in range(2):
            v = entered[c]
            write_ring(x[min(c, channels - 1), start : start + count], pre[c], base & pre_mask, count)
            read_ring(pre[c], (base - first) & pre_mask, v, count)
            if fading:
                read_ring(pre[c], (base - second) & pre_mask, scratch, count)
                for i in range(count):
                    gone = min(state[PRE_FADE] + settings[ROOM_FADE_STEP] * (phase + i) / TICK_FRAMES, 1.0)
                    v[i] += np.float32((scratch[i] - v[i]) * gone)
            lows = state[ROOM_HEADER + LINES + c]
            for i in range(count):
                lows += low * (v[i] - lows)
                v[i] = np.float32(v[i] - lows)
            state[ROOM_HEADER + LINES + c] = lows
            for d in range(DIFFUSERS):
                read_ring(diffusers[c, d], (base - spreads[c, d]) & spread_mask, scratch, count)
                for i in range(count):
                    delayed = scratch[i]
                    diffusion = diffusion_from + diffusion_by * along[i]
                    into = v[i] + diffusion * delayed
                    v[i] = delayed - diffusion * into
                    scratch[i] = into
                clean_into(scratch, diffusers[c, d], base & spread_mask, count)
        for i in range(count):
            total[i] = np.float32(0.0)
            sides[0, i] = np.float32(0.0)
            sides[1, i] = np.float32(0.0)
        for n in range(0, LINES, 4):
            for k in range(n, n + 4):
                read_ring(lines[k], (base - delays[k]) & mask, work[k], count)
            damp_four(work[n], work[n + 1], work[n + 2], work[n + 3], state[ROOM_HEADER + n :], now[ABSORB + n :], count)
        for n in range(LINES):
            taken, side = work[n], sides[n & 1]
            gain_from = np.float32(state[ROOM_FROM + GAINS + n])
            gain_by = np.float32(now[GAINS + n]) - gain_from
            for i in range(count):
                taken[i] *= gain_from + gain_by * along[i]
            sign = np.float32(1.0 if n & 2 else -1.0)
            for i in range(count):
                total[i] += taken[i]
                side[i] += sign * taken[i]
        spread_out = np.float32(2.0 / LINES)
        for n in range(LINES):
            taken, entering = work[n], entered[n & 1]
            sign = np.float32(1.0 if n & 4 else -1.0)
            for i in range(count):
                taken[i] += sign * entering[i] - spread_out * total[i]
            clean_into(taken, lines[n], base & mask, count)
        early_from, tail_from = state[ROOM_FROM + EARLY], state[ROOM_FROM + TAIL]
        early_by, tail_by = now[EARLY] - early_from, now[TAIL] - tail_from
        for i in range(count):
            early, tail = np.float32(early_from + early_by * along[i]), np.float32(tail_from + tail_by * along[i])
            left = early * entered[0, i] + tail * sides[0, i]
            right = early * entered[1, i] + tail * sides[1, i]
            sides[0, i] = np.float32(0.5) * (left + right)
            sides[1, i] = np.float32(0.5) * (left - right)
        dry_from, wet_from, width_from = state[ROOM_FROM], state[ROOM_FROM + 1], state[ROOM_FROM + 2]
        dry_by, wet_by, width_by = now[ROOM_DRY] - dry_from, now[ROOM_WET] - wet_from, now[WIDTH] - width_from
        for c in range(channels):
            side_sign = 0.0 if channels == 1 else 1.0 if c == 0 else -1.0
            for i in range(count):
                gone = np.float64(phase + i + 1) / TICK_FRAMES
                wet = sides[0, i] + side_sign * (width_from + width_by * gone) * sides[1, i]
                y[c, start + i] = np.float32((dry_from + dry_by * gone) * x[c, start + i] + (wet_from + wet_by * gone) * wet)
        start += count
        state[ROOM_POSITION] += count
        if phase + count == TICK_FRAMES:
            if fading:
                state[PRE_FADE] = min(state[PRE_FADE] + settings[ROOM_FADE_STEP], 1.0)
            for i in range(ROOM_HEADER, ROOM_STATE):
                if abs(state[i]) < DENORMAL:
                    state[i] = 0.0
