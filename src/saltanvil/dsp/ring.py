"""Delay memory: remember a stretch, read it later."""

from saltanvil.dsp.kernel import inline


@inline
def through_ring(x, start, ring, base, late, out, count):  # type: ignore[no-untyped-def]
    """Remember a stretch of one channel and read it `late` frames later, in contiguous runs."""
    size = ring.shape[0]
    at = base
    i = 0
    while i < count:
        run = min(count - i, size - at)
        memory = ring[at : at + run]
        given = x[start + i : start + i + run]
        for j in range(run):
            memory[j] = given[j]
        i += run
        at = (at + run) & (size - 1)
    at = (base - late) & (size - 1)
    i = 0
    while i < count:
        run = min(count - i, size - at)
        memory = ring[at : at + run]
        taken = out[i : i + run]
        for j in range(run):
            taken[j] = memory[j]
        i += run
        at = (at + run) & (size - 1)
