"""How a moved setting glides."""

import math

from saltanvil.dsp.kernel import TICK_FRAMES

#: Time in which a moved setting covers 1 - 1/e of the way: short enough to feel direct, too long to click.
GLIDE_MS = 8.0


def glide_part(rate: int) -> float:
    """Share of the way a gliding setting covers each tick."""
    return 1.0 - math.exp(-TICK_FRAMES * 1000.0 / (GLIDE_MS * rate))
