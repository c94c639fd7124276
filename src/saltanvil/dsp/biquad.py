"""Second-order sections: coefficients by the Audio EQ Cookbook, and a cascade whose coefficients may glide."""

import math

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, kernel, share_of

Coefficients = tuple[float, float, float, float, float]
IDENTITY: Coefficients = (1.0, 0.0, 0.0, 0.0, 0.0)


def cookbook(kind: str, frequency_hz: float, q: float, gain_db: float, rate: float) -> Coefficients:
    """(b0, b1, b2, a1, a2) with a0 = 1, from R. Bristow-Johnson, "Audio EQ Cookbook" (W3C note).

    kind: bell, low shelf, high shelf, high-pass, low-pass, band-pass (0 dB at its peak) or off. `q` is also the
    shelves' Q. The frequency is held below 0.49 of the rate, so that a setting made at one rate stays valid at another.
    """
    if kind == "off":
        return IDENTITY
    w0 = 2.0 * math.pi * min(frequency_hz, 0.49 * rate) / rate
    cos, alpha = math.cos(w0), math.sin(w0) / (2.0 * q)
    a = 10.0 ** (gain_db / 40.0)
    if kind == "high-pass":
        b = ((1 + cos) / 2, -(1 + cos), (1 + cos) / 2)
        d = (1 + alpha, -2 * cos, 1 - alpha)
    elif kind == "low-pass":
        b = ((1 - cos) / 2, 1 - cos, (1 - cos) / 2)
        d = (1 + alpha, -2 * cos, 1 - alpha)
    elif kind == "band-pass":
        b = (alpha, 0.0, -alpha)
        d = (1 + alpha, -2 * cos, 1 - alpha)
    elif kind == "bell":
        b = (1 + alpha * a, -2 * cos, 1 - alpha * a)
        d = (1 + alpha / a, -2 * cos, 1 - alpha / a)
    elif kind in ("low shelf", "high shelf"):
        s = 1.0 if kind == "low shelf" else -1.0
        root = 2.0 * math.sqrt(a) * alpha
        b = (
            a * ((a + 1) - s * (a - 1) * cos + root),
            2 * s * a * ((a - 1) - s * (a + 1) * cos),
            a * ((a + 1) - s * (a - 1) * cos - root),
        )
        d = (
            (a + 1) + s * (a - 1) * cos + root,
            -2 * s * ((a - 1) + s * (a + 1) * cos),
            (a + 1) + s * (a - 1) * cos - root,
        )
    else:
        raise ValueError(f"{kind!r} is not a filter kind; use bell, low shelf, high shelf, high-pass, low-pass, band-pass or off")
    return b[0] / d[0], b[1] / d[0], b[2] / d[0], d[1] / d[0], d[2] / d[0]


def butterworth(kind: str, frequency_hz: float, slope_db: int, rate: float) -> list[Coefficients]:
    """A Butterworth high-pass or low-pass of 12, 24 or 48 dB per octave, as cookbook sections.

    The order is slope/6; pole k has Q = 1 / (2 cos((2k + 1) pi / 2n)) (Butterworth's polynomial).
    """
    order = slope_db // 6
    qs = [0.5 / math.cos((2 * k + 1) * math.pi / (2 * order)) for k in range(order // 2)]
    return [cookbook(kind, frequency_hz, q, 0.0, rate) for q in qs]


def response_db(sections: NDArray[np.float64], frequencies_hz: NDArray[np.float64], rate: float) -> NDArray[np.float64]:
    """Magnitude of a cascade `(sections, 5)` at the frequencies, in dB."""
    z = np.exp(-2j * np.pi * frequencies_hz / rate)
    total = np.ones_like(z)
    for b0, b1, b2, a1, a2 in sections:
        total *= (b0 + b1 * z + b2 * z * z) / (1.0 + a1 * z + a2 * z * z)
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(total), 1e-12)), dtype=np.float64)


#: While coefficients move they step this often.
STEP_FRAMES = 8


@kernel("void(float32[:,::1],float32[:,::1],float64[:,::1],float64[:,::1],float64[:,:,::1],float64[::1])", allocates=True)
def cascade(x, y, target, now, memory, state):  # type: ignore[no-untyped-def]
    """A cascade of sections in direct form I over a block of any length, in float64 inside.

    Direct form I remembers sound and not products of coefficients, so that gliding coefficients do not click. An
    identity passes the sound bit for bit.

    target, now: (sections, 5), wanted and current coefficients; they glide in steps of STEP_FRAMES. Mixing two
    stable sets stays stable, as the stable region of (a1, a2) is convex. memory: (sections, 4, channels).
    state: [position, share of the way a tick or minus the ticks that are left (see `share_of`), primed].
    """
    channels, frames = x.shape
    sections = target.shape[0]
    if state[2] == 0.0:
        now[:, :] = target
        state[2] = 1.0
    work = np.empty((2, TICK_FRAMES))
    # Coefficients that move are others every few frames: a step a tick would be heard as a buzz of its rate.
    steps = TICK_FRAMES // STEP_FRAMES
    glide = state[1] * steps if state[1] < 0.0 else 1.0 - (1.0 - state[1]) ** (1.0 / steps)
    start = 0
    while start < frames:
        phase = int(state[0]) % TICK_FRAMES
        settled = True
        for s in range(sections):
            for i in range(5):
                settled = settled and now[s, i] == target[s, i]
        if phase % STEP_FRAMES == 0 and not settled:
            share = share_of(glide)
            glide = after_tick(glide)
            for s in range(sections):
                for i in range(5):
                    gap = target[s, i] - now[s, i]
                    now[s, i] = target[s, i] if abs(gap) < 1e-9 else now[s, i] + gap * share
        length = TICK_FRAMES if settled else STEP_FRAMES
        count = min(length - phase % length, frames - start)
        for c in range(channels):
            signal = x[c, start : start + count]
            for i in range(count):
                work[c, i] = signal[i]
        # Flushed where a tick ends, never where a block ends: the result must not depend on the division.
        flush = phase + count == TICK_FRAMES
        for s in range(sections):
            b0 = now[s, 0]
            b1 = now[s, 1]
            b2 = now[s, 2]
            a1 = now[s, 3]
            a2 = now[s, 4]
            if b0 == 1.0 and b1 == a1 and b2 == a2:
                for c in range(channels):
                    for i in range(max(0, count - 2), count):
                        memory[s, 1, c] = memory[s, 0, c]
                        memory[s, 0, c] = work[c, i]
                    memory[s, 2, c] = memory[s, 0, c]
                    memory[s, 3, c] = memory[s, 1, c]
                continue
            px1, px2, py1, py2 = memory[s, 0, 0], memory[s, 1, 0], memory[s, 2, 0], memory[s, 3, 0]
            if channels == 2:
                qx1, qx2, qy1, qy2 = memory[s, 0, 1], memory[s, 1, 1], memory[s, 2, 1], memory[s, 3, 1]
                for i in range(count):
                    p = work[0, i]
                    q = work[1, i]
                    p_out = (b0 * p + b1 * px1 + b2 * px2 - a2 * py2) - a1 * py1
                    q_out = (b0 * q + b1 * qx1 + b2 * qx2 - a2 * qy2) - a1 * qy1
                    px2 = px1
                    px1 = p
                    py2 = py1
                    py1 = p_out
                    qx2 = qx1
                    qx1 = q
                    qy2 = qy1
                    qy1 = q_out
                    work[0, i] = p_out
                    work[1, i] = q_out
                memory[s, 0, 1], memory[s, 1, 1], memory[s, 2, 1], memory[s, 3, 1] = qx1, qx2, qy1, qy2
            else:
                for i in range(count):
                    p = work[0, i]
                    p_out = (b0 * p + b1 * px1 + b2 * px2 - a2 * py2) - a1 * py1
                    px2 = px1
                    px1 = p
                    py2 = py1
                    py1 = p_out
                    work[0, i] = p_out
            memory[s, 0, 0], memory[s, 1, 0], memory[s, 2, 0], memory[s, 3, 0] = px1, px2, py1, py2
            if flush:
                for c in range(channels):
                    for k in range(4):
                        if abs(memory[s, k, c]) < DENORMAL:
                            memory[s, k, c] = 0.0
        for c in range(channels):
            out = y[c, start : start + count]
            for i in range(count):
                out[i] = np.float32(work[c, i])
        start += count
        state[0] += count
