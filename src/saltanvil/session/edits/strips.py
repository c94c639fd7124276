"""Edits of the session's rate, its strips, their outputs and sends."""

from typing import Literal

from pydantic import Field

from saltanvil.session.document.base import MAIN_ID, Id, Rate
from saltanvil.session.document.session import Send, Session, Strip
from saltanvil.session.edits.base import MAX_INDEX, Edit, EditRefused


class SetRate(Edit):
    """The session's sample rate, as long as it has no sound."""

    op: Literal["set_rate"] = "set_rate"
    rate_hz: Rate

    def change(self, session: Session) -> None:
        if any(strip.media_id is not None for strip in session.strips):
            raise EditRefused("the rate of a session with tracks cannot be changed; make a new one and import the files there")
        session.rate_hz = self.rate_hz


class AddStrip(Edit):
    """A new strip at a place in the list. `feeders` and `lanes` are strips and lanes that are to feed it from now on."""

    op: Literal["add_strip"] = "add_strip"
    strip: Strip
    index: int | None = Field(default=None, ge=0, le=MAX_INDEX)
    feeders: list[Id] = Field(default_factory=list)
    lanes: list[Id] = Field(default_factory=list)

    def change(self, session: Session) -> None:
        if any(strip.id == self.strip.id for strip in session.strips):
            raise EditRefused(f"there is a strip {self.strip.id!r} already")
        if self.strip.kind == "main":
            raise EditRefused("a session has one main only")
        index = len(session.strips) if self.index is None else self.index
        feeders = [session.strip(feeder) for feeder in self.feeders]
        strips = [*session.strips]
        strips.insert(index, self.strip)
        session.strips = strips
        for feeder in feeders:
            feeder.output = self.strip.id
        for lane_id in self.lanes:
            session.lane(lane_id)[2].output = self.strip.id


class RemoveStrip(Edit):
    """Take a strip out; what fed it feeds its output instead, lanes that fed it are summed in their split again, and
    sends to it and keys taken from it go."""

    op: Literal["remove_strip"] = "remove_strip"
    strip_id: Id

    def change(self, session: Session) -> None:
        strip = session.strip(self.strip_id)
        if strip.kind == "main":
            raise EditRefused("the main cannot be removed")
        session.strips = [other for other in session.strips if other.id != strip.id]
        for other in session.strips:
            if other.output == strip.id:
                other.output = strip.output
            for lane in other.path.lanes():
                if lane.output == strip.id:
                    lane.output = None
            if any(send.target == strip.id for send in other.sends):
                other.sends = [send for send in other.sends if send.target != strip.id]


class MoveStrip(Edit):
    """Another place in the list, and perhaps another output."""

    op: Literal["move_strip"] = "move_strip"
    strip_id: Id
    index: int = Field(ge=0, le=MAX_INDEX)
    output: Id | None = None

    def change(self, session: Session) -> None:
        strip = session.strip(self.strip_id)
        if strip.id == MAIN_ID and self.output is not None:
            raise EditRefused("the main feeds no other strip")
        strips = [other for other in session.strips if other.id != strip.id]
        strips.insert(self.index, strip)
        if self.output is not None:
            session.strip(self.output)
            strip.output = self.output
        session.strips = strips


class SetOutput(Edit):
    """What a strip feeds, or where a lane goes.

    Of a strip, null is nothing, so that only its sends are heard and keys taken from it work; of a lane, null is the sum of
    its split.
    """

    op: Literal["set_output"] = "set_output"
    strip_id: Id | None = None
    lane_id: Id | None = None
    output: Id | None

    def change(self, session: Session) -> None:
        if (self.strip_id is None) == (self.lane_id is None):
            raise EditRefused("an output is that of a strip or of a lane; name one of them")
        source = session.strip(self.strip_id) if self.strip_id is not None else session.lane(self.lane_id or "")[2]
        source.output = self.output


class AddSend(Edit):
    """A strip's sound to a bus besides its output."""

    op: Literal["add_send"] = "add_send"
    strip_id: Id
    send: Send
    index: int | None = Field(default=None, ge=0, le=MAX_INDEX)

    def change(self, session: Session) -> None:
        strip = session.strip(self.strip_id)
        if any(other.target == self.send.target for other in strip.sends):
            raise EditRefused(f"{strip.name!r} sends to {session.strip(self.send.target).name!r} already; change that send")
        sends = [*strip.sends]
        sends.insert(len(sends) if self.index is None else self.index, self.send)
        strip.sends = sends


class RemoveSend(Edit):
    op: Literal["remove_send"] = "remove_send"
    send_id: Id

    def change(self, session: Session) -> None:
        strip, send = session.send(self.send_id)
        strip.sends = [other for other in strip.sends if other.id != send.id]
