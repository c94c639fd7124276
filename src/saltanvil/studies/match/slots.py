"""How loud each slot of a scope is, and the gains that make all of them as loud as the first."""

import math
from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass

from saltanvil.engine.media import Media
from saltanvil.measure.loudness import integrated_lufs
from saltanvil.session.apply import apply
from saltanvil.session.document.session import Session
from saltanvil.session.edits.slots import SwitchSlot
from saltanvil.session.slots import SlotOwner, owner_of, slots_of, strip_of
from saltanvil.studies.match.match import strip_energies, with_current_matches

#: Versions further apart are not made equally loud: one of them is most likely silent or broken.
MAX_MATCH_DB = 20.0
UNMEASURED = "no loudness can be measured over this passage (silence, or shorter than 400 ms): played unmatched"


@dataclass(frozen=True)
class SlotLoudness:
    """Of one slot, over the passage, at the end of its strip's path. gain_db: for listening, so that it is as loud as the
    reference; 0 where it is refused, and then why. loudness_lufs: integrated; None where it cannot be measured."""

    slot: int
    loudness_lufs: float | None
    gain_db: float
    refused: str | None


def with_slot(session: Session, of: SlotOwner, name: str, slot: int) -> Session:
    """The session as it would be with another slot on. Raises EditRefused, NotFound."""
    return apply(session, SwitchSlot(of=of, id=name, slot=slot, seed="slot"))


def match_gain(reference_lufs: float | None, lufs: float | None, what: str) -> tuple[float, str | None]:
    """The gain that makes a version as loud as the reference, or 0 and why it is not matched."""
    if reference_lufs is None or lufs is None:
        return 0.0, UNMEASURED
    gain_db = reference_lufs - lufs
    if abs(gain_db) > MAX_MATCH_DB:
        return 0.0, f"differs by {abs(gain_db):.1f} LU from {what}: played unmatched"
    return gain_db, None


def slot_loudness(
    session: Session,
    of: SlotOwner,
    name: str,
    media: Media,
    start: int,
    stop: int,
    cancelled: Callable[[], bool] = lambda: False,
    pool: Executor | None = None,
) -> list[SlotLoudness]:
    """Of every slot over frames start..stop; the reference is the lowest slot. Raises NotFound, EditRefused, Cancelled."""
    slots = slots_of(owner_of(session, of, name))
    if slots is None:
        return []
    strip_id = strip_of(session, of, name)
    measured: dict[int, float | None] = {}
    for slot in sorted(slots.kept):
        version = (
            session if slot == slots.on else with_current_matches(with_slot(session, of, name, slot), media, cancelled, pool)
        )
        integrated = integrated_lufs(strip_energies(version, strip_id, media, start, stop, cancelled, pool))
        measured[slot] = integrated if math.isfinite(integrated) else None
    first = min(measured)
    result = []
    for slot, lufs in measured.items():
        gain_db, refused = match_gain(measured[first], lufs, f"slot {first}")
        result.append(SlotLoudness(slot, lufs, gain_db, refused))
    return result
