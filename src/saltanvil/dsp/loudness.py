"""Kernels of the loudness and true-peak meters; the measures themselves are in `saltanvil.measure`."""

import math

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import DENORMAL, kernel


def k_weighting(rate: int) -> NDArray[np.float64]:
    """The two sections of the K-weighting, (2, 5) as b0 b1 b2 a1 a2, re-derived for the rate.

    ITU-R BS.1770-5, Annex 1, tables 1 and 2 give 48 kHz only. The analogue prototypes behind them (shelf: f0, gain,
    Q; high-pass: f0, Q) are mapped by the bilinear transform; at 48 kHz the tables come back (tested).
    """
    k = math.tan(math.pi * 1681.974450955533 / rate)
    q = 0.7071752369554196
    vh = 10.0 ** (3.999843853973347 / 20.0)
    vb = vh**0.4996667741545416
    a0 = 1.0 + k / q + k * k
    shelf = (
        (vh + vb * k / q + k * k) / a0,
        2.0 * (k * k - vh) / a0,
        (vh - vb * k / q + k * k) / a0,
        2.0 * (k * k - 1.0) / a0,
        (1.0 - k / q + k * k) / a0,
    )
    k = math.tan(math.pi * 38.13547087602444 / rate)
    q = 0.5003270373238773
    a0 = 1.0 + k / q + k * k
    high_pass = (1.0, -2.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0)
    return np.array([shelf, high_pass])


@kernel("void(float32[:,::1],float64[:,::1],float64[:,::1],float64[::1],int64,float64[::1])")
def weighted_energy(x, sections, memory, progress, hop, energies):  # type: ignore[no-untyped-def]
    """Sum of squares of the K-weighted channels in consecutive hops of `hop` frames.

    sections: (2, 5) from `k_weighting`; memory: (channels, 4), kept between calls; progress: [frames into the hop,
    energy so far], kept between calls; energies: one value for each hop completed by this block.
    """
    channels, frames = x.shape
    b0, b1, b2, a1, a2 = sections[0, 0], sections[0, 1], sections[0, 2], sections[0, 3], sections[0, 4]
    d1, d2 = sections[1, 3], sections[1, 4]
    start = 0
    done = 0
    while start < frames:
        count = min(hop - int(progress[0]), frames - start)
        energy = 0.0
        if channels == 2:  # both at once: two independent chains fill the pipeline
            l1, l2, l3, l4 = memory[0, 0], memory[0, 1], memory[0, 2], memory[0, 3]
            r1, r2, r3, r4 = memory[1, 0], memory[1, 1], memory[1, 2], memory[1, 3]
            left = 0.0
            right = 0.0
            x0 = x[0, start : start + count]
            x1 = x[1, start : start + count]
            for i in range(count):
                v = np.float64(x0[i])
                w = b0 * v + l1
                l1 = b1 * v - a1 * w + l2
                l2 = b2 * v - a2 * w
                y = w + l3
                l3 = -2.0 * w - d1 * y + l4
                l4 = w - d2 * y
                left += y * y
                v = np.float64(x1[i])
                w = b0 * v + r1
                r1 = b1 * v - a1 * w + r2
                r2 = b2 * v - a2 * w
                y = w + r3
                r3 = -2.0 * w - d1 * y + r4
                r4 = w - d2 * y
                right += y * y
            memory[0, 0], memory[0, 1], memory[0, 2], memory[0, 3] = l1, l2, l3, l4
            memory[1, 0], memory[1, 1], memory[1, 2], memory[1, 3] = r1, r2, r3, r4
            energy = left + right
        else:
            s1, s2, t1, t2 = memory[0, 0], memory[0, 1], memory[0, 2], memory[0, 3]
            for i in range(start, start + count):
                v = np.float64(x[0, i])
                w = b0 * v + s1
                s1 = b1 * v - a1 * w + s2
                s2 = b2 * v - a2 * w
                y = w + t1
                t1 = -2.0 * w - d1 * y + t2
                t2 = w - d2 * y
                energy += y * y
            memory[0, 0], memory[0, 1], memory[0, 2], memory[0, 3] = s1, s2, t1, t2
        for c in range(channels):
            for i in range(4):
                if abs(memory[c, i]) < DENORMAL:
                    memory[c, i] = 0.0
        progress[0] += count
        progress[1] += energy
        start += count
        if progress[0] >= hop:
            energies[done] = progress[1]
            done += 1
            progress[0] = 0.0
            progress[1] = 0.0
