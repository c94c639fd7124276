"""What goes between the server and the process that renders what is heard: documents in what is new of them, blocks packed."""

import struct
from dataclasses import dataclass
from typing import Any

from pydantic_core import to_json

from saltanvil.engine.stream import Block
from saltanvil.session.document.session import Session, Strip

#: Stands in what is wanted where the document goes beside it, as a `Change`.
NO_DOCUMENT = Session.model_construct()


@dataclass(frozen=True)
class Change:
    """What a document has that the one before it has not, object by object. strips: all of them in order, those that stayed by
    their ids; None where all stayed."""

    fields: dict[str, Any]
    strips: list[Strip | str] | None


def change_of(session: Session, before: Session | None) -> Change | None:
    """None where both are the same object."""
    if session is before:
        return None
    fields_before = {} if before is None else before.__dict__
    fields = {
        name: value
        for name, value in session.__dict__.items()
        if name != "strips" and (name not in fields_before or fields_before[name] is not value)
    }
    if before is not None and session.strips is before.strips:
        return Change(fields, None)
    known = {} if before is None else {strip.id: strip for strip in before.strips}
    return Change(fields, [strip.id if known.get(strip.id) is strip else strip for strip in session.strips])


def changed(before: Session | None, change: Change | None) -> Session:
    """The document after a change; strips that stayed are the same objects."""
    if change is None:
        assert before is not None
        return before
    fields = ({} if before is None else before.__dict__) | change.fields
    if change.strips is not None:
        known = {} if before is None else {strip.id: strip for strip in before.strips}
        fields["strips"] = [known[strip] if isinstance(strip, str) else strip for strip in change.strips]
    return Session.model_construct(**fields)


#: Of a covered block: nothing in it tells which version sounds.
COVERED: dict[str, Any] = {
    "strips": {}, "steps": {}, "gate_states": {}, "lanes": {}, "sends": {}, "keys": {}, "reduction_db": [],
    "detector_db": -160.0, "main_peaks_dbfs": [-160.0, -160.0], "main_true_peaks_dbtp": [-160.0, -160.0],
    "momentary_lufs": -160.0, "short_term_lufs": -160.0, "lead_s": 0.0, "latency_s": 0.0,
    "exact": True,
}  # fmt: skip


def pack(block: Block, covered: bool = False) -> bytes:
    """A block as it goes over the wire. covered: without its meters, as in a blind comparison."""
    header = {
        "epoch": block.epoch,
        "sequence": block.sequence,
        "version": block.version,
        "seam": block.seam,
        "frames": block.audio.shape[1],
        "position_s": round(block.position_s, 6),
        "strips": block.strips,
        "steps": block.steps,
        "gate_states": block.gate_states,
        "lanes": block.lanes,
        "sends": block.sends,
        "keys": block.keys,
        "reduction_db": block.reduction_db,
        "detector_db": block.detector_db,
        "main_peaks_dbfs": [round(value, 1) for value in block.main_peaks_dbfs],
        "main_true_peaks_dbtp": [round(value, 1) for value in block.main_true_peaks_dbtp],
        "momentary_lufs": round(block.momentary_lufs, 1),
        "short_term_lufs": round(block.short_term_lufs, 1),
        "lead_s": round(block.lead_s, 3),
        "latency_s": round(block.latency_s, 6),
        "exact": block.exact,
        **(COVERED if covered else {}),
    }
    text = to_json(header)
    text += b" " * (-len(text) % 4)
    return struct.pack("<I", len(text)) + text + block.audio.astype("<f4", copy=False).tobytes()
