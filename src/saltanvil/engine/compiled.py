"""What of a plan is used again after an edit."""

from dataclasses import dataclass, field

from saltanvil.engine.audition import Audition, heard_alone
from saltanvil.engine.nodes.base import Node
from saltanvil.engine.rack import Key as StateKey
from saltanvil.processors.base import Settings
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.graph import Graph, NodeId
from saltanvil.session.sharing import shared


@dataclass
class CompiledNode:
    """A node, what it was made of (compared to find out whether it still holds), and the names of its states, in their order."""

    of: tuple[object, ...]
    node: Node
    used: dict[StateKey, None]


@dataclass
class Compiled:
    """What the last compilation of a play made with its rack. Versions of a session share the strips that an edit left alone
    (`session/sharing.py`), so what was made of the same strip object is used again as long as `whole` is the same.

    whole: what all strips depend on; the rest by strip or point. session: keeps the strips, so that identities mean something.
    """

    session: Session | None = None
    whole: tuple[object, ...] = ()
    structures: dict[str, tuple[Strip, tuple[object, ...]]] = field(default_factory=dict)
    settings: dict[str, tuple[Strip, dict[str, Settings]]] = field(default_factory=dict)
    nodes: dict[NodeId, CompiledNode] = field(default_factory=dict)
    graph: Graph | None = None

    def take(self, session: Session, audition: Audition) -> None:
        """Forget what does not hold for this version."""
        whole = (*shared(session), audition.live, heard_alone(session, audition))
        if whole != self.whole:
            self.structures, self.settings, self.nodes = {}, {}, {}
        self.session, self.whole = session, whole
