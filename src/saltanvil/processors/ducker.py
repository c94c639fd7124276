"""The ducker."""

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import duck as dsp
from saltanvil.dsp.detector import detector_memory, longest_groups, lookahead_groups
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import ms_to_frames, note_to_ms, time_constant
from saltanvil.measure.reduction import WORKING_DB
from saltanvil.processors.aims import Aim, gr_max
from saltanvil.processors.base import Audio, Context, Settings, Start, Telemetry, number
from saltanvil.processors.descriptor import Note, choice, rule
from saltanvil.processors.detectors import MAX_LOOKAHEAD_MS, KeyedProcessor, KeyedSettings, KeyFilter, lookahead_ring
from saltanvil.processors.evidence import Evidence, Fact, Hint

#: How fast the peak falls that a hit has to stand out from.
HIT_DROP_MS = 15.0
#: What a hit stands out from, and the least time from one to the next.
HIT_SLOW_MS, HIT_GAP_MS = 80.0, 50.0
_LEVEL = {"by": ["level"]}
_NOTE = {"decay_mode": ["note"]}


class DuckerSettings(KeyedSettings):
    by: Literal["level", "hits"] = choice(
        "level", "Ducks by", "Detector",
        "Level: as deep and as long as the key is loud. Hits: the same dip at each onset, however loud it is.",
    )  # fmt: skip
    threshold_db: float = rule(
        -36.0, "Threshold", "dB", -80.0, 0.0, "Dip", "Level of the key at which the dip begins; quieter hits start none.",
        ticks=(-60, -40, -20),
    )  # fmt: skip
    span_db: float = rule(
        6.0, "Full depth at", "dB", 0.5, 40.0, "Dip", "The dip is at its full depth this far above the threshold.",
        ticks=(6, 12, 24, 36), when=_LEVEL,
    )  # fmt: skip
    depth_db: float = rule(9.0, "Depth", "dB", 0.0, 60.0, "Dip", "How far the sound goes down.", ticks=(0, 6, 12, 24, 48))
    shape: float = rule(
        0.0, "Shape", "%", -1.0, 1.0, "Dip",
        "Straight in the middle. To the right it comes back quickly at first, to the left it stays down for long.",
        ticks=(-1, 0, 1),
    )  # fmt: skip
    attack_ms: float = rule(
        10.0, "Attack", "ms", 0.0, 500.0, "Timing", "Time to the full depth, in a straight line.", ticks=(0, 100, 250, 500)
    )
    hold_ms: float = rule(
        60.0, "Hold", "ms", 0.0, 2000.0, "Timing", "Time it stays down once the key is quiet, or after a hit.",
        ticks=(0, 500, 1000, 2000),
    )  # fmt: skip
    decay_mode: Literal["ms", "note"] = choice("ms", "Decay mode", "Timing", "A time, or a note value of the session's tempo.")
    decay_ms: float = rule(
        250.0, "Decay", "ms", 1.0, 5000.0, "Timing",
        "Time to return from full depth. 25 ms just makes room for a hit; long times breathe audibly.",
        scale="log", ticks=(1, 10, 100, 1000), when={"decay_mode": ["ms"]},
    )  # fmt: skip
    decay_note: Note = choice("1/8", "Decay note", "Timing", "Decay as a note value; d dotted, t triplet.", when=_NOTE)
    lookahead_ms: float = rule(
        0.0, "Lookahead", "ms", 0.0, MAX_LOOKAHEAD_MS, "Timing",
        "It is down this much before the key sounds; adds the same latency, which is compensated.", ticks=(0, 5, 10, 20),
        moves="latency",
    )  # fmt: skip

    def decay_time_ms(self, tempo_bpm: float) -> float:
        return note_to_ms(self.decay_note, tempo_bpm) if self.decay_mode == "note" else self.decay_ms


STARTS = (
    Start(
        "kick over bass: out of the way of the hit",
        "The kick should come through whole and the bass never seem to drop out; 25 ms is enough, more becomes a groove.",
        {"by": "hits", "threshold_db": -30.0, "depth_db": 8.0, "attack_ms": 1.0, "hold_ms": 20.0, "decay_ms": 25.0},
    ),
    Start(
        "voice over music",
        "Every word should be understood; the music should come back in pauses, not between words.",
        {"threshold_db": -38.0, "span_db": 6.0, "depth_db": 9.0, "attack_ms": 60.0, "hold_ms": 400.0, "decay_ms": 900.0},
    ),
    Start(
        "voice over its own reverb or echo",
        "Dry while it speaks, wet in the gaps: the tail should bloom after the last word.",
        {"threshold_db": -40.0, "span_db": 12.0, "depth_db": 14.0, "attack_ms": 10.0, "hold_ms": 80.0, "decay_ms": 350.0},
    ),
    Start(
        "lead over rhythm: a hand's breadth",
        "You should miss nothing and only notice when you bypass it; three decibels are often all it takes.",
        {"threshold_db": -32.0, "span_db": 12.0, "depth_db": 3.0, "attack_ms": 30.0, "hold_ms": 150.0, "decay_ms": 400.0},
    ),
    Start(
        "snare over the room mics",
        "The crack should come from the close mic and the size from the room right behind it.",
        {
            "by": "hits", "threshold_db": -24.0, "depth_db": 6.0, "attack_ms": 0.5, "hold_ms": 10.0, "decay_ms": 90.0,
            "key_filter": "high-pass", "key_low_hz": 180.0,
        },
    ),
    Start(
        "breathing with the beat",
        "It should swell back in time with the song; turn the shape until the swell feels right.",
        {
            "by": "hits", "threshold_db": -30.0, "depth_db": 12.0, "attack_ms": 2.0, "hold_ms": 10.0, "decay_mode": "note",
            "decay_note": "1/8", "shape": -0.4,
        },
    ),
)  # fmt: skip


class Ducker(KeyedProcessor):
    """Another sound pushes this one down, by a set depth and for a set time.

        in --> lookahead -------------------------------------------------(x)--> out
                                                                           ^
        key --> key filter --> level over the threshold, or hits --> dip --+
                                                              attack, hold, decay, shape

    >>> step = Ducker(DuckerSettings(depth_db=20.0, attack_ms=0.0), 1, Context())
    >>> loud = np.ones((1, 640), np.float32)
    >>> round(float(step.process(loud, key=loud)[0, -1]), 3)
    0.1
    """

    kind = "ducker"
    label = "Ducker"
    about = (
        "Use it to make room for a kick or a voice: choose that sound as its key. It goes down by the same depth however "
        "loud the key is."
    )
    aliases = ("duck", "sidechain", "pump", "make room")
    settings_model: ClassVar[Any] = DuckerSettings
    needs_key = True
    level_line = "threshold_db"
    pictures = ("bite", "curve", "spectrum")
    main = ("threshold_db", "depth_db", "attack_ms", "hold_ms", "decay_ms")
    starts = STARTS
    aims = (Aim("depth_db", "Depth, max", "dB", gr_max, ("depth_db", "threshold_db"), 6.0, 0.1, 60.0),)

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, DuckerSettings)
        return f"{number(settings.depth_db)} dB by {settings.by}"

    @classmethod
    def facts(cls, settings: Settings, seen: Evidence) -> list[Fact]:
        assert isinstance(settings, DuckerSettings)
        return [Fact("hits", "Hits of the key", float(seen.rows["hits"].sum()), "")] if settings.by == "hits" else []

    @classmethod
    def hints(cls, settings: Settings, seen: Evidence) -> list[Hint]:
        """No key, never down, always down."""
        assert isinstance(settings, DuckerSettings) and seen.reduction is not None
        if seen.key is None:
            text = "No key is chosen, so it does nothing. Choose the sound that pushes this one down."
            return [Hint("no key", text, "key")]
        if seen.loudest_db < settings.threshold_db:
            return [seen.below_threshold(settings.threshold_db, "nothing is pushed down")]
        if settings.depth_db > WORKING_DB and seen.reduction.share > 0.98:
            text = (
                f"It is down {100 * seen.reduction.share:.0f} % of the time: that is a lower level and no room for the key. "
                "A higher threshold or a shorter hold lets it come back in the pauses."
            )
            return [Hint("always", text, "threshold_db")]
        return []

    state = ("_key", "_ring", "_state", "_memory")
    scratch = ("_work",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._key = KeyFilter(channels)
        self._ring = lookahead_ring(channels, context.rate, TICK_FRAMES)
        self._state = np.zeros(dsp.STATE)
        self._memory = detector_memory(channels, context.rate)
        self._work = np.empty((dsp.WORK_ROWS, dsp.WORK_FRAMES), np.float32)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, DuckerSettings)
        rate = context.rate
        hits = settings.by == "hits"
        target = np.zeros(dsp.SETTINGS)
        target[dsp.THRESHOLD] = settings.threshold_db
        target[dsp.DEPTH] = settings.depth_db
        target[dsp.SHAPE] = settings.shape
        target[dsp.SPAN] = settings.span_db
        target[dsp.RISE] = 1.0 / max(1, ms_to_frames(settings.attack_ms, rate))
        target[dsp.FALL] = 1.0 / max(1, ms_to_frames(settings.decay_time_ms(context.tempo_bpm), rate))
        target[dsp.HOLD] = ms_to_frames(settings.hold_ms, rate)
        target[dsp.HITS] = hits
        target[dsp.LOOKAHEAD] = self.latency_of(settings, rate)
        target[dsp.DROP] = time_constant(HIT_DROP_MS, rate)
        target[dsp.SLOW] = time_constant(HIT_SLOW_MS, rate)
        target[dsp.GAP] = ms_to_frames(HIT_GAP_MS, rate)
        target[dsp.LONGEST] = longest_groups(rate)
        target[dsp.GROUPS] = lookahead_groups(int(target[dsp.LOOKAHEAD]))
        self._target = target
        self._key.configure(settings, rate)

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        self._target[dsp.GLIDE] = self.glide
        y = np.empty_like(x)
        trace = self.trace(dsp.TRACE_ROWS, x.shape[1])
        # Without a key nothing pushes: its own sound is not asked for.
        self.detector_input = self._key(np.zeros_like(x) if key is None else key, self.glide)
        dsp.duck(x, self.detector_input, y, self._target, self._state, self._memory, self._ring, trace, self._work)
        self.telemetry = Telemetry(trace[0], trace[1], {"dip": trace[2], "hits": trace[3]})
        return y

    @classmethod
    def curve(cls, settings: Settings, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """How far the sound goes down for a level of the key, drawn as the key's own level less the dip."""
        assert isinstance(settings, DuckerSettings)
        over = levels_db - settings.threshold_db
        dip = np.clip(over / settings.span_db, 0.0, 1.0) if settings.by == "level" else (over > 0.0).astype(np.float64)
        square = dip * dip
        bent = dip + settings.shape * (square - dip) if settings.shape >= 0.0 else dip - settings.shape * (dip - square)
        return levels_db - settings.depth_db * bent
