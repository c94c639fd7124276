"""Kernels of echo and room: delay lines that are fed back.

A delay that is moved fades from the old place of the line to the new one, so that nothing changes its pitch.
"""

import numpy as np

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, copy, inline, kernel

#: A middle on one side, as loud as it was on both.
HALF_POWER = 0.5 * np.sqrt(2.0)

# ---- echo ------------------------------------------------------------------------------------------------------------
# Target settings; those before ECHO_GLIDING glide. LOW and HIGH are the coefficients of one-pole filters.
FEEDBACK, CROSS, SPREAD, DRY, WET, LOW, HIGH, ECHO_GLIDING, DELAY, FADE_STEP, ECHO_GLIDE, ECHO_SETTINGS = range(12)
# State: the gliding settings, then the line's.
(ECHO_POSITION, ECHO_PRIMED, DELAY_NOW, DELAY_NEXT, FADE, DRY_FROM, WET_FROM, ECHO_HEADER) = range(ECHO_GLIDING, ECHO_GLIDING + 8)
ECHO_STATE = ECHO_HEADER + 4  # low and high follower of both sides


@inline
def move(state, now, next_, fade, wanted):  # type: ignore[no-untyped-def]
    """At a tick: end a fade that is over, begin one if the delay moved."""
    if state[fade] >= 1.0:
        state[now] = state[next_]
        state[fade] = 0.0
    if state[fade] == 0.0 and state[now] != wanted:
        state[next_] = wanted
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
    start = 0
    while start < frames:
        phase = int(state[ECHO_POSITION]) % TICK_FRAMES
        if phase == 0:
            state[DRY_FROM], state[WET_FROM] = now[DRY], now[WET]
            for i in range(ECHO_GLIDING):
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-6 else now[i] + gap * settings[ECHO_GLIDE]
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
            heard = (0.0, 0.0)
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
                heard = (v, heard[1]) if c == 0 else (heard[0], v)
            for c in range(channels):
                own = heard[c]
                other = heard[1 - c] if channels == 2 else own
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
LINES = 8
DIFFUSERS = 2
# Target settings; those before ROOM_GLIDING glide. ABSORB is the damping filter's coefficient; GAINS are the lines'.
(ROOM_DRY, ROOM_WET, ABSORB, ROOM_LOW, WIDTH, GAINS) = range(6)
ROOM_GLIDING = GAINS + LINES
PREDELAY, ROOM_FADE_STEP, ROOM_GLIDE, ROOM_SETTINGS = range(ROOM_GLIDING, ROOM_GLIDING + 4)
(ROOM_POSITION, ROOM_PRIMED, PRE_NOW, PRE_NEXT, PRE_FADE, ROOM_FROM) = range(ROOM_GLIDING, ROOM_GLIDING + 6)
ROOM_HEADER = ROOM_FROM + 3  # dry, wet and width as the tick began
ROOM_STATE = ROOM_HEADER + LINES + 2  # the lines' dampers, the inputs' low cuts
DIFFUSION = 0.62
#: What lies outside the network, and so moves within each tick.
OUTSIDE = (ROOM_DRY, ROOM_WET, WIDTH)


@kernel(
    "void(float32[:,::1],float32[:,::1],float64[::1],float64[::1],int64[::1],int64[:,::1],float32[:,::1],float32[:,:,::1],float32[:,::1])",
    allocates=True,
)
def room(x, y, settings, state, delays, spreads, pre, diffusers, lines):  # type: ignore[no-untyped-def]
    """A feedback delay network for a block of any length.

    x, y: (channels, frames). delays: of the LINES in frames; spreads: (2, DIFFUSERS) delays of the all-passes each side
    goes through first. pre: (2, size), diffusers: (2, DIFFUSERS, size), lines: (LINES, size); sizes powers of two.

    The lines are mixed by a Householder matrix, which keeps the energy (J.-M. Jot and A. Chaigne, "Digital Delay
    Networks for Designing Artificial Reverberators", AES 90th Convention, 1991, from memory).
    """
    channels, frames = x.shape
    now = state[:ROOM_GLIDING]
    if state[ROOM_PRIMED] == 0.0:
        copy(settings[:ROOM_GLIDING], now)
        for i in range(3):
            state[ROOM_FROM + i] = now[OUTSIDE[i]]
        state[PRE_NOW] = settings[PREDELAY]
        state[ROOM_PRIMED] = 1.0
    pre_mask, spread_mask, mask = pre.shape[1] - 1, diffusers.shape[2] - 1, lines.shape[1] - 1
    start = 0
    given = np.zeros(2)
    taken = np.zeros(LINES)
    while start < frames:
        phase = int(state[ROOM_POSITION]) % TICK_FRAMES
        if phase == 0:
            for i in range(3):
                state[ROOM_FROM + i] = now[OUTSIDE[i]]
            for i in range(ROOM_GLIDING):
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-6 else now[i] + gap * settings[ROOM_GLIDE]
            move(state, PRE_NOW, PRE_NEXT, PRE_FADE, settings[PREDELAY])
        count = min(TICK_FRAMES - phase, frames - start)
        base = int(state[ROOM_POSITION])
        first, second = int(state[PRE_NOW]), int(state[PRE_NEXT])
        fading = state[PRE_FADE] > 0.0
        absorb, low = now[ABSORB], now[ROOM_LOW]
        dry_from, wet_from, width_from = state[ROOM_FROM], state[ROOM_FROM + 1], state[ROOM_FROM + 2]
        dry_by, wet_by, width_by = now[ROOM_DRY] - dry_from, now[ROOM_WET] - wet_from, now[WIDTH] - width_from
        for i in range(count):
            at = base + i
            for c in range(2):
                pre[c, at & pre_mask] = x[min(c, channels - 1), start + i]
                v = np.float64(pre[c, (at - first) & pre_mask])
                if fading:
                    along = min(state[PRE_FADE] + settings[ROOM_FADE_STEP] * i / TICK_FRAMES, 1.0)
                    v += (np.float64(pre[c, (at - second) & pre_mask]) - v) * along
                memory = ROOM_HEADER + LINES + c
                state[memory] += low * (v - state[memory])
                v -= state[memory]
                for d in range(DIFFUSERS):
                    held = np.float64(diffusers[c, d, (at - spreads[c, d]) & spread_mask])
                    into = v + DIFFUSION * held
                    v = held - DIFFUSION * into
                    diffusers[c, d, at & spread_mask] = np.float32(into) if abs(into) > DENORMAL else np.float32(0.0)
                given[c] = v
            total = 0.0
            left = 0.0
            right = 0.0
            for n in range(LINES):
                v = np.float64(lines[n, (at - delays[n]) & mask])
                state[ROOM_HEADER + n] += absorb * (v - state[ROOM_HEADER + n])
                v = state[ROOM_HEADER + n] * now[GAINS + n]
                taken[n] = v
                total += v
                sign = 1.0 if n & 2 else -1.0
                if n & 1:
                    right += sign * v
                else:
                    left += sign * v
            total *= 2.0 / LINES
            for n in range(LINES):
                back = taken[n] - total + (given[n & 1] if n & 4 else -given[n & 1])
                lines[n, at & mask] = np.float32(back) if abs(back) > DENORMAL else np.float32(0.0)
            gone = np.float64(phase + i + 1) / TICK_FRAMES
            dry, wet, width = dry_from + dry_by * gone, wet_from + wet_by * gone, width_from + width_by * gone
            middle, side = 0.5 * (left + right), 0.5 * (left - right) * width
            if channels == 1:
                y[0, start + i] = np.float32(dry * x[0, start + i] + wet * middle)
            else:
                y[0, start + i] = np.float32(dry * x[0, start + i] + wet * (middle + side))
                y[1, start + i] = np.float32(dry * x[1, start + i] + wet * (middle - side))
        start += count
        state[ROOM_POSITION] += count
        if phase + count == TICK_FRAMES:
            if fading:
                state[PRE_FADE] = min(state[PRE_FADE] + settings[ROOM_FADE_STEP], 1.0)
            for i in range(ROOM_HEADER, ROOM_STATE):
                if abs(state[i]) < DENORMAL:
                    state[i] = 0.0
