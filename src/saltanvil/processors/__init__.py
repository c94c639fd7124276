"""One file a processor: its settings, its documentation, its state, its kernel calls.

A processor added to `REGISTRY` is known everywhere: the document's validation, the interface's rules, the command
line and the reference page are derived from its settings model.
"""

from saltanvil.processors.base import Processor, Settings
from saltanvil.processors.clipper import Clipper
from saltanvil.processors.compressor import Compressor
from saltanvil.processors.deesser import Deesser
from saltanvil.processors.ducker import Ducker
from saltanvil.processors.echo import Echo
from saltanvil.processors.equaliser import Equaliser
from saltanvil.processors.expander import Expander
from saltanvil.processors.freecurve import FreeCurve
from saltanvil.processors.gate import Gate
from saltanvil.processors.leveller import Leveller
from saltanvil.processors.limiter import Limiter
from saltanvil.processors.lowend import LowEnd
from saltanvil.processors.room import Room
from saltanvil.processors.saturator import Saturator
from saltanvil.processors.shaper import Shaper
from saltanvil.processors.split import Split
from saltanvil.processors.stereo import Stereo
from saltanvil.processors.tamer import Tamer
from saltanvil.processors.trim import Trim

REGISTRY: dict[str, type[Processor]] = {
    p.kind: p
    for p in (
        Trim, Equaliser, Gate, Expander, Compressor, FreeCurve, Leveller, Ducker, Shaper, Deesser, Tamer, Saturator, LowEnd,
        Clipper, Limiter, Echo, Room, Stereo, Split,
    )
}  # fmt: skip

__all__ = ["REGISTRY", "Processor", "Settings", "processor_named"]


def processor_named(kind: str) -> type[Processor]:
    """The processor of a kind. Raises ValueError with the kinds there are."""
    if kind not in REGISTRY:
        raise ValueError(f"there is no processor {kind!r}; there are {', '.join(sorted(REGISTRY))}")
    return REGISTRY[kind]
