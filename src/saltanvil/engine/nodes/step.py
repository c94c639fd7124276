"""What leaves a step."""

from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.gate import GATE_STATES
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.units import gain_to_db
from saltanvil.engine.automation import Moving
from saltanvil.engine.nodes.base import Node, widened
from saltanvil.engine.nodes.feeds import KeyFeed
from saltanvil.engine.nodes.gains import BypassFade, moves_of
from saltanvil.engine.rack import Audio, Rack
from saltanvil.processors import Processor, Settings
from saltanvil.processors.base import Context, Telemetry
from saltanvil.session.document.path import Step

#: Below this a change of level is not worth telling.
SOUNDING_DB = -60.0


class StepNode(Node):
    """What leaves a step.

    settings: those it runs with; delay_frames: its own latency; wait: how long the sound waits for the key before it; moving:
    settings that move over time; fade: a bypass that does.
    """

    moving: Moving[Settings] | None = None
    fade: BypassFade | None = None

    def __init__(
        self, step: Step, settings: Settings, processor: Processor, sources: Sequence[Node], latency_frames: int, channels: int,
        delay_frames: int, wait: int, rack: Rack, key: KeyFeed | None = None,
    ) -> None:  # fmt: skip
        super().__init__(sources, latency_frames, channels)
        self.step, self.settings, self.processor = step, settings, processor
        self.delay_frames, self.wait, self.key = delay_frames, wait, key
        self.rate = processor.context.rate
        self.delay_line = rack.delay_line(channels, "step", step.id)
        self.waiting = rack.delay_line(channels, "step waits", step.id)
        #: Change of peak level over the last block, for steps whose telemetry does not say what they do.
        self.peak_change_db = 0.0

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        x = self.waiting(widened(inputs[0], self.channels), self.wait)
        # A key's way is walked also past a bypass, so that it is settled when the step comes back.
        key = None if self.key is None else self.key.sound(inputs[1], self.channels, glide_part(self.rate), at)
        scope_monitor = self.scope_monitor
        if self.step.bypassed:
            self.processor.telemetry = Telemetry()
            self.peak_change_db = 0.0
            y = before = self.delay_line(x, self.delay_frames)
            return y if scope_monitor is None else scope_monitor.compare(before, y, self.latency_frames)
        y = self._treated(at, x, key)
        self._tell(x, y)
        if scope_monitor is None and self.fade is None:
            self.delay_line.remember(x, self.delay_frames)  # so that a bypass, or whoever listens next, finds its past
            return y
        before = self.delay_line(x, self.delay_frames)
        if self.fade is not None:
            y = self.fade(at, before, y)
            self.processor.telemetry = self.fade.telemetry(at, frames, self.processor.telemetry)
        if scope_monitor is None:
            return y
        key = self.processor.detector_input if self.processor.listens else None
        if scope_monitor.audition.listening == "key" and key is not None:
            scope_monitor.straight(scope_monitor.rack.delay_line(len(key), "key")(key, self.delay_frames), self.latency_frames)
        return scope_monitor.compare(before, y, self.latency_frames)

    def carry_on(self, context: Context, replaced: Mapping[int, Node]) -> None:
        super().carry_on(context, replaced)
        if self.moving is None:
            self.processor.take(self.settings, context)

    def _treated(self, at: int, x: Audio, key: Audio | None) -> Audio:
        """What the processor makes of a block, with the settings that hold at each time."""
        processor = self.processor
        processor.glides_for(0)
        if self.moving is None:
            processor.follows = None
            return processor.process(x, key)
        if processor.follows is not self.moving:
            self.moving.leads(processor)
        parts: list[Audio] = []
        telemetries: list[Telemetry] = []
        detector_inputs: list[Audio] = []
        pieces = self.moving.pieces(at, x.shape[1])
        for begin, end, settings, ticks in pieces:
            processor.glides_for(ticks)
            processor.take(settings, processor.context)
            if len(pieces) == 1:
                return processor.process(x, key)
            cut = slice(begin, end)
            parts.append(
                processor.process(np.ascontiguousarray(x[:, cut]), None if key is None else np.ascontiguousarray(key[:, cut]))
            )
            telemetries.append(processor.telemetry)
            if processor.detector_input is not None:
                detector_inputs.append(processor.detector_input)
        processor.telemetry = joined(telemetries)
        processor.detector_input = np.concatenate(detector_inputs, axis=1) if detector_inputs else None
        return np.concatenate(parts, axis=1)

    def _tell(self, x: Audio, y: Audio) -> None:
        """How far the peak moved, where the processor does not say what it does."""
        if not len(self.processor.telemetry.reduction_db):
            entered = gain_to_db(float(mix.peak(x)))
            self.peak_change_db = gain_to_db(float(mix.peak(y))) - entered if entered > SOUNDING_DB else 0.0

    def cache_key(self) -> tuple[object, ...]:
        moves = None if self.moving is None else self.moving.cache_key(), None if self.fade is None else self.fade.cache_key()
        return self.step.kind, self.settings.model_dump_json(), self.step.bypassed, self.delay_frames, moves, *self.heard_key()

    def heard_key(self) -> tuple[object, ...]:
        """What its sound depends on besides its settings: its key's way, and the tempo."""
        key = None if self.key is None else (self.key.gain, self.key.wait, moves_of(self.key.moving))
        return self.wait, key, self.processor.context.tempo_bpm

    @property
    def change_db(self) -> float:
        """The largest change of gain in the last block, negative where it fell."""
        reduction_db = self.processor.telemetry.reduction_db
        return -float(reduction_db[np.abs(reduction_db).argmax()]) if len(reduction_db) else self.peak_change_db

    @property
    def gate_state(self) -> str | None:
        """What its gate is doing, for a step that has one."""
        row = self.processor.telemetry.rows.get("gate_state")
        return None if row is None or not len(row) else GATE_STATES[int(row[-1])]

    def walk(self) -> Iterator["StepNode"]:
        """The step, and those in its lanes."""
        yield self


def joined(telemetries: Sequence[Telemetry]) -> Telemetry:
    """The telemetry of blocks that follow each other."""
    return Telemetry(
        np.concatenate([one.reduction_db for one in telemetries]),
        np.concatenate([one.detector_db for one in telemetries]),
        {row: np.concatenate([one.rows[row] for one in telemetries]) for row in telemetries[0].rows},
    )
