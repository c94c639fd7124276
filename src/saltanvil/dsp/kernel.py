"""How a kernel is declared, and the time grid all kernels share."""

import sys
from collections.abc import Callable
from typing import Any

if "scipy.linalg" in sys.modules:
    import numba
else:
    # No kernel does linear algebra, for which numba would load scipy.linalg: a tenth of the time of a start.
    sys.modules["scipy.linalg"] = None  # type: ignore[assignment]
    import numba
    import numba.np.arraymath

    del sys.modules["scipy.linalg"]

#: Settings move on ticks of this many frames, counted from the session's zero.
TICK_FRAMES = 64

#: State below this is flushed to zero at the end of a block: denormals make recursions 70 to 140 times slower.
DENORMAL = 1e-25


class Kernel:
    """A compiled function that is loaded when it is first called, or by `load`: a command that needs three of thirty does not
    wait for the others."""

    def __init__(self, declared: Callable[[], Callable[..., Any]], doc: str | None) -> None:
        self._declared = declared
        self._compiled: Callable[..., Any] | None = None
        self.__doc__ = doc

    def load(self) -> Callable[..., Any]:
        """From the cache on disk, or compiled into it. Any number of threads may call it at once."""
        if self._compiled is None:
            self._compiled = self._declared()
        return self._compiled

    def __call__(self, *arguments: Any) -> Any:
        return (self._compiled or self.load())(*arguments)


#: All kernels of the modules that were imported.
KERNELS: list[Kernel] = []


def kernel(signature: str, *, allocates: bool = False) -> Callable[[Callable[..., Any]], Kernel]:
    """Compiled for one signature, cached on disk, without the interpreter lock.

    Only contraction is allowed of the fast-math set: it keeps results bit-identical at any block size. A kernel counts no
    references unless it allocates arrays: each view of an array would cost two atomic operations, up to a third of the
    time of a kernel that works in short stretches.
    """
    compiler = numba.njit(  # type: ignore[call-overload]
        signature, nogil=True, cache=True, fastmath={"contract"}, error_model="numpy", _nrt=allocates
    )

    def declare(function: Callable[..., Any]) -> Kernel:
        KERNELS.append(Kernel(lambda: compiler(function), function.__doc__))
        return KERNELS[-1]

    return declare


def inline(function: Callable[..., Any]) -> Callable[..., Any]:
    """A small function to be used inside kernels only; it allocates nothing."""
    return numba.njit(  # type: ignore[call-overload, no-any-return]
        function, nogil=True, cache=True, fastmath={"contract"}, error_model="numpy", _nrt=False
    )


@inline
def copy(source, target):  # type: ignore[no-untyped-def]
    """target[:] = source, for two arrays of one length that do not overlap; a slice's assignment would allocate."""
    for i in range(source.shape[0]):
        target[i] = source[i]


@inline
def copy_rows(source, target):  # type: ignore[no-untyped-def]
    """`copy` in two dimensions."""
    for row in range(source.shape[0]):
        copy(source[row], target[row])


@inline
def share_of(glide):  # type: ignore[no-untyped-def]
    """Share of the way that a gliding setting covers in a tick. glide: that share, the same each tick; or, below 0, minus the
    ticks that are left until it is there, in even steps."""
    return glide if glide > 0.0 else -1.0 / glide


@inline
def after_tick(glide):  # type: ignore[no-untyped-def]
    """The glide for the next tick."""
    return glide if glide > 0.0 else min(glide + 1.0, -1.0)
