"""What enters a strip's path: media, or the sum of what feeds it; and an outside key on its way to a detector."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.units import SILENCE_DB, db_to_gain, gain_to_db
from saltanvil.engine.automation import Moving
from saltanvil.engine.media import Media
from saltanvil.engine.nodes.base import Node
from saltanvil.engine.nodes.gains import Gains, moves_of, place
from saltanvil.engine.rack import Audio, DelayLine, Glide
from saltanvil.session.document.session import Strip


@dataclass
class Feed:
    """What reaches a strip from one source. gains: what a send or a lane gets on the way; None leaves it as it is.

    name: of the send, the lane or the strip it comes from; peak_db: its last block's, in dBFS, if it has gains.
    """

    name: str
    wait: int
    delay_line: DelayLine
    gains: Gains | None = None
    glide: Glide | None = None
    moving: Moving[Gains] | None = None
    peak_db: float = SILENCE_DB

    def sound(self, x: Audio, part: float, at: int) -> Audio:
        """(2, frames), as late as the latest."""
        if self.gains is not None:
            assert self.glide is not None
            y = np.empty((2, x.shape[1]), np.float32)
            place(x, y, self.gains, self.moving, at, part, self.glide)
            self.peak_db = gain_to_db(float(mix.peak(y)))
            x = y
        return self.delay_line(x, self.wait)


class Entry(Node):
    """What enters a strip's path: media, or the sum of what feeds it, each aligned to the latest; then the trim."""

    def __init__(
        self, strip: Strip, sources: Sequence[Node], feeds: list[Feed], latency_frames: int, channels: int, rate: int,
        media: Media, trim: Glide, moving: Moving[Gains] | None = None,
    ) -> None:  # fmt: skip
        super().__init__(sources, latency_frames, channels)
        self.moving = moving
        self.strip, self.feeds, self.rate, self.media, self.trim = strip, feeds, rate, media, trim

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        strip = self.strip
        if strip.media_id is not None:
            x = self.media.read(strip.media_id, at - round(strip.start_s * self.rate), frames)
        else:
            x = np.zeros((self.channels, frames), np.float32)
            for feed, sound in zip(self.feeds, inputs, strict=True):
                mix.accumulate(feed.sound(sound, glide_part(self.rate), at), x)
        trim = db_to_gain(strip.trim_db)
        if trim == 1.0 and self.moving is None and not self.trim.values[mix.PRIMED]:
            return x
        y = np.empty_like(x)
        place(x, y, (trim, trim), self.moving, at, glide_part(self.rate), self.trim)
        return y

    def cache_key(self) -> tuple[object, ...]:
        strip = self.strip
        feeds = [(feed.gains, feed.wait, moves_of(feed.moving)) for feed in self.feeds]
        return strip.media_id, strip.start_s, strip.trim_db, moves_of(self.moving), feeds


@dataclass
class KeyFeed:
    """An outside key on its way to a detector: its trim, and as late as the sound it steers."""

    wait: int
    gain: float
    delay_line: DelayLine
    glide: Glide
    moving: Moving[Gains] | None = None

    def sound(self, x: Audio, channels: int, part: float, at: int) -> Audio:
        """With as many channels as the sound it steers: the mean of its sides, or the same on both."""
        x = self.fitted(x, channels)
        y = np.empty((channels, x.shape[1]), np.float32)
        place(x, y, (self.gain, self.gain), self.moving, at, part, self.glide)
        return self.delay_line(y, self.wait)

    @staticmethod
    def fitted(x: Audio, channels: int) -> Audio:
        if len(x) <= channels:
            return x
        folded = np.empty((1, x.shape[1]), np.float32)
        mix.fold(x, folded)
        return folded
