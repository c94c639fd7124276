"""Edits of what a track plays: printed, brought back as it was, replaced by another recording."""

from collections.abc import Iterator
from typing import Literal

from pydantic import Field

from saltanvil.processors import processor_named
from saltanvil.session.document.base import Id
from saltanvil.session.document.session import Printed, Session, Strip
from saltanvil.session.edits.base import Batch, Edit, EditRefused
from saltanvil.session.edits.strips import AddStrip


class PrintStrip(Edit):
    """A track plays what left its path, and its steps are bypassed. media_id: that sound, from the session's first frame on;
    channels: with how many the track entered its path, as level and pan go by them."""

    op: Literal["print"] = "print"
    strip_id: Id
    media_id: int = Field(ge=0, le=1 << 53)
    channels: Literal[1, 2]

    def change(self, session: Session) -> None:
        strip = session.strip(self.strip_id)
        check_printable(session, strip)
        assert strip.media_id is not None
        steps = strip.path.steps
        strip.printed = Printed(
            media_id=strip.media_id, start_s=strip.start_s, trim_db=strip.trim_db, channels=self.channels,
            trim_envelope=strip.envelopes.get("trim_db"), bypass={step.id: step.bypass for step in steps},
            bypass_envelopes={step.id: step.envelopes["bypass"] for step in steps if "bypass" in step.envelopes},
        )  # fmt: skip
        strip.media_id, strip.start_s, strip.trim_db = self.media_id, 0.0, 0.0
        strip.envelopes = {name: envelope for name, envelope in strip.envelopes.items() if name != "trim_db"}
        for step in steps:
            step.bypass = True
            step.envelopes = {name: envelope for name, envelope in step.envelopes.items() if name != "bypass"}


class UnprintStrip(Edit):
    """A printed track as it was: its recording, its trim, and those of its steps at work that were."""

    op: Literal["unprint"] = "unprint"
    strip_id: Id

    def change(self, session: Session) -> None:
        strip = session.strip(self.strip_id)
        printed = strip.printed
        if printed is None:
            raise EditRefused(f"{strip.name!r} is not printed")
        strip.media_id, strip.start_s, strip.trim_db = printed.media_id, printed.start_s, printed.trim_db
        if printed.trim_envelope is not None:
            strip.envelopes = {**strip.envelopes, "trim_db": printed.trim_envelope}
        for step in strip.path.steps:
            step.bypass = printed.bypass.get(step.id, step.bypass)
            if step.id in printed.bypass_envelopes:
                step.envelopes = {**step.envelopes, "bypass": printed.bypass_envelopes[step.id]}
        strip.printed = None


class ReplaceMedia(Edit):
    """A track plays another recording; all that is done to it stays. start_s: where that begins, if not where the old one did."""

    op: Literal["replace_media"] = "replace_media"
    strip_id: Id
    media_id: int = Field(ge=0, le=1 << 53)
    start_s: float | None = Field(default=None, ge=-86400.0, le=86400.0)

    def change(self, session: Session) -> None:
        strip = session.strip(self.strip_id)
        check_replaceable(strip)
        strip.media_id = self.media_id
        if self.start_s is not None:
            strip.start_s = self.start_s


def check_replaceable(strip: Strip) -> None:
    """Raises EditRefused, with the reason, where a strip has no recording that could be replaced."""
    if strip.media_id is None:
        raise EditRefused(f"{strip.name!r} plays no recording; only a track's can be replaced")
    if strip.printed is not None:
        raise EditRefused(f"{strip.name!r} is printed: the new recording would miss its path; unprint it first")


def check_printable(session: Session, strip: Strip) -> None:
    """Raises EditRefused, with the reason, where what leaves a strip's path cannot take the place of its recording."""
    if strip.kind != "track" or strip.media_id is None:
        raise EditRefused(f"{strip.name!r} plays no recording: print the tracks that feed it, or export it and import the file")
    if strip.printed is not None:
        raise EditRefused(f"{strip.name!r} is printed already; unprint it first")
    if not strip.path.steps:
        raise EditRefused(f"{strip.name!r} has no step: what would be printed is what it plays")
    for what in heard_inside(session, strip):
        raise EditRefused(f"{strip.name!r} cannot be printed: {what}")
    if any(target.of == "strip" and target.id == strip.id and target.name == "trim_db"
           for lever in session.levers for target in lever.targets):  # fmt: skip
        raise EditRefused(f"{strip.name!r} cannot be printed: a lever moves its trim, and would a second time")


def heard_inside(session: Session, strip: Strip) -> Iterator[str]:
    """What takes its sound from within a strip's path, where a printed one has nothing to give."""
    inside = set(strip.path.ids())
    for lane in strip.path.lanes():
        if lane.output is not None:
            yield f"its lane {lane.name!r} goes to {session.strip(lane.output).name!r}; send it back to its split first"
    for other, step, key in session.keyed_steps():
        label = f"the key of the {processor_named(step.kind).label.lower()} on {other.name!r}"
        if other.id != strip.id and {key.step_id, key.lane_id} & inside:
            yield f"{label} is taken inside its path; take it after the path first"
        elif other.id != strip.id and key.strip_id == strip.id and key.at == "before":
            yield f"{label} is taken before its path; take it after the path first"


def media_named(edit: Edit) -> Iterator[int]:
    """The media that an edit brings into a session."""
    if isinstance(edit, AddStrip):
        yield from edit.strip.media_ids()
    elif isinstance(edit, PrintStrip | ReplaceMedia):
        yield edit.media_id
    elif isinstance(edit, Batch):
        for part in edit.edits:
            yield from media_named(part)
