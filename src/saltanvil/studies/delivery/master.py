"""The master of a delivery: rendered as it goes out, checked with every encoder, and what a player makes of it."""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from pydantic import BaseModel, Field

from saltanvil.engine.media import Media
from saltanvil.engine.render import render_strips
from saltanvil.engine.time import session_frames
from saltanvil.errors import UserError
from saltanvil.measure.figures import Figures
from saltanvil.media.encode import Writing
from saltanvil.media.recording import Recording, recorded
from saltanvil.session.address import Address, Moved, descriptor
from saltanvil.session.apply import apply
from saltanvil.session.automation import Automation
from saltanvil.session.delivery import Delivery, Span
from saltanvil.session.document.session import Session
from saltanvil.session.edits.values import Set
from saltanvil.studies.delivery.ceiling import Ceilings, last_limiter
from saltanvil.studies.delivery.check import Decoded, DeliveryCheck, check_formats, interruptible, measured_master
from saltanvil.studies.delivery.facts import figures_of_blocks
from saltanvil.studies.delivery.files import digest_of, spans_of
from saltanvil.studies.delivery.playback import SAME_DB, Playback, Spared, gain_to, playback_of, sections_of
from saltanvil.studies.match.match import with_current_matches

#: Of a check: what rendering, encoding and the render with less limiting take.
RENDERED_SHARE, ENCODED_SHARE = 0.35, 0.85

Progress = Callable[[float], None]


class DeliveryRefused(UserError, ValueError):
    """What is to go out is not there."""


class MeasuredSection(BaseModel):
    """A section of the master that was checked."""

    id: str
    name: str
    start_s: float
    end_s: float
    figures: Figures


class SparedLimiting(BaseModel):
    """The master with less input gain in its last limiter."""

    by_db: float
    figures: Figures


class KeptCheck(BaseModel):
    """What was found. digest: of the version it is about; ceiling_digest: of that of the ceilings, which may be measured
    later."""

    digest: str
    checked: DeliveryCheck | None = None
    sections: list[MeasuredSection] = Field(default_factory=list)
    spared: SparedLimiting | None = None
    ceilings: Ceilings | None = None
    ceiling_digest: str = ""
    made_at: float = 0.0


@dataclass(frozen=True)
class MasterCheck:
    """A check that is done: its sound, and what is kept of it."""

    master: Recording
    decoded: list[Decoded]
    checked: DeliveryCheck
    sections: list[MeasuredSection]
    spared: SparedLimiting | None

    def kept(self, session: Session, before: KeptCheck | None) -> KeptCheck:
        """With the ceilings found before, which may be of another version."""
        return KeptCheck(
            digest=digest_of(session), checked=self.checked, sections=self.sections, spared=self.spared,
            ceilings=before.ceilings if before else None, ceiling_digest=before.ceiling_digest if before else "",
        )  # fmt: skip


def resolve_delivery(session: Session, requested: Delivery | None) -> Delivery:
    """What goes out: as it is asked for, or as the session has it, of strips that are there. Raises DeliveryRefused."""
    if requested is not None:
        return requested
    there = {strip.id for strip in session.strips}
    chosen = [strip_id for strip_id in session.delivery.strip_ids if strip_id in there]
    if not chosen:
        raise DeliveryRefused("none of the chosen strips is there any more; choose what goes out")
    return session.delivery.model_copy(update={"strip_ids": chosen})


def checked_span(session: Session, media: Media, start_s: float | None, end_s: float | None) -> tuple[Span, bool]:
    """What is checked: the passage, or the whole song; and whether its tail belongs to it. Raises DeliveryRefused."""
    delivery = session.delivery
    extent = "passage" if start_s is not None else "whole"
    try:
        span = spans_of(session, media, delivery.model_copy(update={"extent": extent}), start_s, end_s)[0]
    except ValueError as error:
        raise DeliveryRefused(str(error)) from error
    return span, delivery.tail and span.stop == session_frames(session, media)


def encoder_writings(delivery: Delivery) -> list[Writing]:
    """How the encoders of a check write: as the delivery would."""
    return [Writing(name, delivery.rate_hz, delivery.dither) for name in delivery.encoders]


class MasterRenderer:
    """Renders a strip as it is delivered, before conversion."""

    def __init__(
        self, media: Media, strip_id: str, span: Span, tail: bool, cancelled: Callable[[], bool], pool: ThreadPoolExecutor | None
    ) -> None:
        self.media, self.strip_id, self.span, self.tail = media, strip_id, span, tail
        self.cancelled, self.pool = cancelled, pool

    def render(self, session: Session, path: Path, progress: Progress) -> Recording:
        """Into a file. Raises Cancelled, OSError."""
        whole = with_current_matches(session, self.media, self.cancelled, self.pool)
        span, done = self.span, 0

        def blocks() -> Iterator[np.ndarray]:
            nonlocal done
            # As a file: with all that comes before it in the song.
            strips = render_strips(whole, self.media, span.start, span.stop, [self.strip_id], self.cancelled, self.tail, begin=0)
            for block in interruptible((outputs[self.strip_id] for outputs in strips), self.cancelled):
                done += block.shape[1]
                progress(min(1.0, done / (span.stop - span.start)))
                yield block

        return recorded(path, blocks(), session.rate_hz, 2)


def check_master(session: Session, renderer: MasterRenderer, folder: Path, progress: Progress) -> MasterCheck:
    """Render, encode, decode and measure with every encoder of the session's delivery. folder: for the sound, which stays.

    Raises Cancelled, OSError, NotFound.
    """
    delivery, rate, span = session.delivery, session.rate_hz, renderer.span
    strip = session.strip(renderer.strip_id)
    master = renderer.render(session, folder / "master", lambda share: progress(RENDERED_SHARE * share))
    checked = measured_master(master, strip.id, strip.name, span.start / rate, delivery.true_peak_dbtp)
    encoding = ENCODED_SHARE - RENDERED_SHARE
    decoded = check_formats(
        master, checked, encoder_writings(delivery), folder, lambda share: progress(RENDERED_SHARE + encoding * share),
        renderer.cancelled,
    )  # fmt: skip
    checked.formats = [one.checked for one in decoded]
    sections = [
        MeasuredSection(id=one.id, name=one.name, start_s=one.start_s, end_s=one.end_s, figures=figures)
        for one, figures in sections_of(master, span.start, session.sections)
    ]
    rest = 1.0 - ENCODED_SHARE
    spared = spared_limiting(session, renderer, checked, folder, lambda share: progress(ENCODED_SHARE + rest * share))
    return MasterCheck(master, decoded, checked, sections, spared)


def spared_limiting(
    session: Session, renderer: MasterRenderer, checked: DeliveryCheck, folder: Path, progress: Progress
) -> SparedLimiting | None:
    """The master with as much less input gain in its last limiter as a player takes off; None where it takes off nothing."""
    limiter = last_limiter(session, renderer.strip_id)
    gain = gain_to(session.delivery.loudness_lufs, checked.master)
    if limiter is None or gain is None or gain > -SAME_DB:
        return None
    if "gain_db" in Automation(session).moving("step", limiter.id, limiter):
        return None  # its envelope says what the gain is
    address = Address.of_step(limiter, "gain_db")
    gain_db = limiter.settings.model_dump()["gain_db"]
    lower = max(gain_db + gain, descriptor(session, address).minimum or 0.0)
    moved = Set(values=[Moved(**address.model_dump(), value=lower)], alone=True)
    softer = renderer.render(apply(session, moved), folder / "softer", progress)
    try:
        return SparedLimiting(by_db=gain_db - lower, figures=figures_of_blocks(softer.blocks(), softer.channels, softer.rate))
    finally:
        softer.discard()


def playback(session: Session, kept: KeptCheck | None) -> Playback | None:
    """What a player makes of the master that was checked, at the loudness that is wished now."""
    if kept is None or kept.checked is None:
        return None
    spared = None if kept.spared is None else Spared(kept.spared.by_db, kept.spared.figures)
    figures, target = kept.checked.master, session.delivery.loudness_lufs
    gain = gain_to(target, figures)
    if spared is not None and (gain is None or abs(spared.by_db + gain) > SAME_DB):
        spared = None  # measured for another target
    sections: Sequence[tuple[str, Figures]] = [(one.name, one.figures) for one in kept.sections]
    return playback_of(target, figures, sections, spared)
