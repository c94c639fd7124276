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


def kernel(signature: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Compile for one signature, ahead of use, cached on disk, without the interpreter lock.

    Only contraction is allowed of the fast-math set: it keeps results bit-identical at any block size.
    """
    return numba.njit(signature, nogil=True, cache=True, fastmath={"contract"}, error_model="numpy")


def inline(function: Callable[..., Any]) -> Callable[..., Any]:
    """A small function to be used inside kernels only."""
    return numba.njit(function, nogil=True, cache=True, fastmath={"contract"}, error_model="numpy")  # type: ignore[no-any-return]
