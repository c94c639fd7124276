"""Delay memory: remember a stretch, read it later, in contiguous runs."""

from saltanvil.dsp.kernel import inline


@inline
def write_ring(values, ring, at, count):  # type: ignore[no-untyped-def]
    """`count` values into a ring, whose size is a power of two, from a place on."""
    size = ring.shape[0]
    i = 0
    while i < count:
        run = min(count - i, size - at)
        memory = ring[at : at + run]
        part = values[i : i + run]
        for j in range(run):
            memory[j] = part[j]
        i += run
        at = (at + run) & (size - 1)


@inline
def read_ring(ring, at, out, count):  # type: ignore[no-untyped-def]
    """The opposite of `write_ring`."""
    size = ring.shape[0]
    i = 0
    while i < count:
        run = min(count - i, size - at)
        memory = ring[at : at + run]
        taken = out[i : i + run]
        for j in range(run):
            taken[j] = memory[j]
        i += run
        at = (at + run) & (size - 1)


@inline
def through_ring(x, start, ring, base, late, out, count):  # type: ignore[no-untyped-def]
    """Remember a stretch of one channel and read it `late` frames later."""
    write_ring(x[start : start + count], ring, base, count)
    read_ring(ring, (base - late) & (ring.shape[0] - 1), out, count)
