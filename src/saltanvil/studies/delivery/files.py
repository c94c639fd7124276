"""A delivery: the files of a session, rendered, converted, dithered or encoded, and read back and measured."""

import hashlib
import json
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path

from saltanvil.engine.export import FileTarget, export_strips
from saltanvil.engine.media import Media
from saltanvil.engine.render import render_strips
from saltanvil.engine.time import session_frames
from saltanvil.media.encode import Writing
from saltanvil.media.formats import format_named
from saltanvil.session.delivery import MAX_FILES, Delivery, OutgoingFile, Span, outgoing
from saltanvil.session.document.session import Session
from saltanvil.studies.delivery.facts import FileFacts, facts_of_file
from saltanvil.studies.match.match import with_current_matches

#: Of the time of a delivery, what rendering takes; the rest is reading back.
RENDER_SHARE = 0.85
#: So much is rendered to learn how long a delivery will take.
TIMED_S = 4.0


@dataclass(frozen=True)
class DeliveredFile:
    """A finished file. warning: what is to be known of it."""

    strip_name: str
    section: str
    start_s: float
    facts: FileFacts
    warning: str | None


def digest_of(session: Session) -> str:
    """A name for everything of a session that a delivery's sound depends on."""
    document = session.model_dump(mode="json", exclude={"name", "delivery", "keep_contrast_lu", "low_latency"})
    for strip in document["strips"]:
        strip.pop("solo", None)
        strip.pop("name", None)
    return hashlib.sha256(json.dumps(document, sort_keys=True).encode()).hexdigest()


def spans_of(session: Session, media: Media, delivery: Delivery, start_s: float | None, end_s: float | None) -> list[Span]:
    """What becomes files. start_s, end_s: the passage. Raises ValueError if nothing does."""
    rate, length = session.rate_hz, session_frames(session, media)
    whole = Span(0, length)
    if "sections" in delivery.extent:
        spans = [
            Span(round(section.start_s * rate), min(round(section.end_s * rate), length), section.name)
            for section in sorted(session.sections, key=lambda one: one.start_s)
        ]
        spans = [span for span in spans if span.stop > span.start]
        if not spans:
            raise ValueError("there are no sections to deliver; make sections first, or deliver the whole song")
        return spans if delivery.extent == "sections" else [whole, *spans]
    if delivery.extent == "whole":
        return [whole]
    start = round((start_s or 0.0) * rate)
    stop = length if end_s is None else min(round(end_s * rate), length)
    if stop <= start:
        raise ValueError("the passage is empty or lies behind the end; choose another")
    return [Span(start, stop)]


def files_of(session: Session, delivery: Delivery, spans: Sequence[Span], date: str) -> list[OutgoingFile]:
    """The files with their names. Raises NotFound for a strip that is not there, ValueError if there are too many."""
    strips = [(strip_id, session.strip(strip_id).name) for strip_id in delivery.strip_ids]
    count = len(strips) * len(spans) * len(delivery.formats)
    if count > MAX_FILES:
        raise ValueError(f"that would be {count} files; deliver at most {MAX_FILES} at once")
    return outgoing(delivery, session.name, strips, spans, date)


def expected_bytes(session: Session, delivery: Delivery, files: Sequence[OutgoingFile]) -> list[int]:
    """About how large each file becomes."""
    rate = delivery.rate_hz or session.rate_hz
    lengths_s = [(file.span.stop - file.span.start) / session.rate_hz for file in files]
    return [format_named(file.format).expected_bytes(rate, length_s) for file, length_s in zip(files, lengths_s, strict=True)]


def left_out(session: Session) -> list[str]:
    """Names of strips that are muted throughout, so that they sound in no file."""
    return [strip.name for strip in session.strips if strip.muted]


def expected_seconds(
    session: Session, media: Media, delivery: Delivery, spans: Sequence[Span], cancelled: Callable[[], bool] = lambda: False
) -> float:
    """About how long a delivery takes, from the speed of rendering a few seconds in the middle of the song. Raises Cancelled,
    NotFound."""
    rate, length = session.rate_hz, session_frames(session, media)
    frames = min(round(TIMED_S * rate), length)
    start = (length - frames) // 2
    began, done = 0.0, 0
    for outputs in render_strips(session, media, start, start + frames, delivery.strip_ids, cancelled):
        if not began:
            began = time.perf_counter()  # what comes before the first block is paid once
        else:
            done += outputs[delivery.strip_ids[0]].shape[1]
    spent = time.perf_counter() - began
    return spent / max(done, 1) * max(span.stop for span in spans) / RENDER_SHARE


def writing_of(delivery: Delivery, form: str, start_s: float = 0.0) -> Writing:
    return Writing(form, delivery.rate_hz, delivery.dither, delivery.tags, delivery.origin, start_s)


def deliver(
    session: Session,
    media: Media,
    delivery: Delivery,
    files: Sequence[OutgoingFile],
    paths: Sequence[Path],
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
    pool: Executor | None = None,
) -> list[DeliveredFile]:
    """Write the files to paths, all from one render of the song.

    Solo is not rendered, mute is. A passage or a section ends where it ends; what ends with the song may decay. Raises Cancelled,
    OSError; what was written until then is the caller's to remove.
    """
    session = with_current_matches(session, media, cancelled, pool)
    length, rate = session_frames(session, media), session.rate_hz
    targets = [
        FileTarget(
            file.strip_id, path, writing_of(delivery, file.format, file.span.start / rate),
            file.span.start, file.span.stop, delivery.tail and file.span.stop == length,
        )
        for file, path in zip(files, paths, strict=True)
    ]  # fmt: skip
    written = export_strips(session, media, targets, lambda fraction: progress(RENDER_SHARE * fraction), cancelled)
    result: list[DeliveredFile] = []
    for file, path, what in zip(files, paths, written, strict=True):
        facts = facts_of_file(path, file.name, file.format, cancelled)
        strip = session.strip(file.strip_id).name
        result.append(DeliveredFile(strip, file.span.section, file.span.start / rate, facts, what.warning(file.name)))
        progress(RENDER_SHARE + (1.0 - RENDER_SHARE) * len(result) / len(files))
    return result
