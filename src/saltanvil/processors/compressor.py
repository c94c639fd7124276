"""The compressor."""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import compress as dsp
from saltanvil.dsp.detector import detector_memory, longest_groups, lookahead_groups
from saltanvil.dsp.units import ms_to_frames, note_to_ms, time_constant
from saltanvil.measure.hits import hits_not_released
from saltanvil.measure.reduction import WORKING_DB
from saltanvil.processors.aims import gr_aims, level_aims, louder_aim, peak_aim
from saltanvil.processors.base import Audio, Context, Settings, Start, Telemetry, mixed_db, mixed_gain_db
from saltanvil.processors.colour import CHARACTERS, CHARACTERS_HELP, SINE, Colour, Finish, Oversampling, Stage, peaks_db
from saltanvil.processors.descriptor import Note, choice, rule
from saltanvil.processors.detectors import MAX_LOOKAHEAD_MS, KeyedProcessor, KeyedSettings, KeyFilter, averaging, lookahead_ring
from saltanvil.processors.evidence import Evidence, Hint

RANGE_OFF_DB = 60.0
MIN_KNEE_DB = 1e-3  # less is a corner: the parabola would divide by nothing
#: Automatic release: what a short peak took is back after the first; what was held for long leaves by the last.
AUTO_QUICK_MS, AUTO_SETTLE_MS, AUTO_SLOW_MS = 60.0, 400.0, 1200.0
#: Restoring attacks: an onset is where an envelope falling in the first stands over one rising in the second.
ONSET_FALL_MS, ONSET_RISE_MS = 80.0, 25.0

_NOTE = {"release_mode": ["note"]}
_COLOURED: dict[str, list[str]] = {"output_colour": [*CHARACTERS]}


class CompressorSettings(KeyedSettings):
    detector: Literal["peak", "rms"] = choice(
        "peak", "Detector", "Detector", "Peak follows every wave; RMS follows the mean power, closer to loudness."
    )
    rms_ms: float = rule(
        10.0, "RMS time", "ms", 1.0, 300.0, "Detector", "Averaging time of the RMS detector.",
        scale="log", ticks=(1, 10, 100), when={"detector": ["rms"]},
    )  # fmt: skip
    topology: Literal["feed-forward", "feedback"] = choice(
        "feed-forward", "Detection", "Detector",
        "Feed-forward detects the input, feedback the output, which releases more gently. Feedback does not use lookahead; "
        "an external key or a key filter makes it feed-forward.",
    )  # fmt: skip
    stereo_link: float = rule(
        1.0, "Stereo link", "%", 0.0, 1.0, "Detector",
        "100 %: both channels get the same gain, so the image is stable. 0 %: each channel on its own.", ticks=(0, 0.5, 1),
    )  # fmt: skip
    threshold_db: float = rule(
        -18.0, "Threshold", "dB", -60.0, 0.0, "Curve", "Level at the detector above which gain is reduced.",
        ticks=(-48, -36, -24, -12),
    )  # fmt: skip
    ratio: float = rule(
        4.0, "Ratio", ":1", 1.0, 50.0, "Curve", "Decibels in over the threshold for one decibel out. 1:1 changes nothing.",
        scale="log", ticks=(1, 2, 4, 10, 20, 50),
    )  # fmt: skip
    knee_db: float = rule(
        6.0, "Knee", "dB", 0.0, 30.0, "Curve", "Width around the threshold over which the ratio sets in.",
        ticks=(0, 6, 12, 24),
    )  # fmt: skip
    range_db: float = rule(
        RANGE_OFF_DB, "Range", "dB", 0.0, RANGE_OFF_DB, "Curve", "The largest gain reduction.",
        ticks=(0, 6, 12, 24), off_at=RANGE_OFF_DB,
    )  # fmt: skip
    attack_ms: float = rule(
        10.0, "Attack", "ms", 0.05, 250.0, "Timing", "Time to reach 63 % of the gain reduction. Longer passes transients.",
        scale="log", ticks=(0.1, 1, 10, 100),
    )  # fmt: skip
    hold_ms: float = rule(
        0.0, "Hold", "ms", 0.0, 500.0, "Timing", "Time the gain stays down before it is released.",
        ticks=(0, 100, 250, 500),
    )  # fmt: skip
    release_mode: Literal["ms", "automatic", "note"] = choice(
        "ms", "Release mode", "Timing",
        "A time; automatic (about 60 ms after short peaks, up to 1.2 s after long passages); or a note value.",
    )  # fmt: skip
    release_ms: float = rule(
        150.0, "Release", "ms", 5.0, 5000.0, "Timing", "Time to release 63 % of the gain reduction.",
        scale="log", ticks=(10, 100, 1000), when={"release_mode": ["ms"]},
    )  # fmt: skip
    release_note: Note = choice("1/8", "Release note", "Timing", "Release as a note value; d dotted, t triplet.", when=_NOTE)
    tempo: Literal["session", "own"] = choice("session", "Tempo", "Timing", "Whose tempo the note counts in.", when=_NOTE)
    tempo_bpm: float = rule(
        120.0, "Own tempo", "bpm", 20.0, 300.0, "Timing", "Quarter notes a minute, if the tempo is its own.",
        when={"release_mode": ["note"], "tempo": ["own"]}, ticks=(60, 120, 180, 240),
    )  # fmt: skip
    lookahead_ms: float = rule(
        0.0, "Lookahead", "ms", 0.0, MAX_LOOKAHEAD_MS, "Timing",
        "The detector reacts this early; adds the same latency, which is compensated.", ticks=(0, 5, 10, 20),
        moves="latency",
    )  # fmt: skip
    makeup: Literal["manual", "automatic"] = choice(
        "manual", "Make-up", "Output",
        "Automatic adds half of what the curve takes from 0 dBFS; the make-up gain is added on top.",
    )  # fmt: skip
    makeup_db: float = rule(
        0.0, "Make-up gain", "dB", -24.0, 36.0, "Output", "Gain after the compression.", ticks=(-12, 0, 12, 24)
    )
    restore_attacks_db: float = rule(
        0.0, "Restore attacks", "dB", 0.0, 24.0, "Output",
        "Up to this much less gain reduction while an attack passes, never more than there was.",
        ticks=(0, 6, 12, 18),
    )  # fmt: skip
    mix: float = rule(
        1.0, "Mix", "%", 0.0, 1.0, "Output", "Compressed sound against untreated sound.", ticks=(0, 0.25, 0.5, 0.75, 1)
    )
    output_colour: Literal["none", "plain", "tape", "tube", "transformer"] = choice(
        "none",
        "Colour",
        "Output",
        f"Saturation after the compressor; at a ratio of 1:1 it is colour only. {CHARACTERS_HELP}",
        moves="latency",
    )
    colour_drive_db: float = rule(
        6.0, "Colour drive", "dB", -12.0, 24.0, "Output", "Gain into the colour, compensated after it.", ticks=(0, 6, 12, 24),
        when=_COLOURED,
    )  # fmt: skip
    colour_odd_share: float = rule(
        0.5, "Even/odd", "%", 0.0, 1.0, "Output", "0 %: even harmonics. 100 %: odd harmonics.", ticks=(0, 0.5, 1), when=_COLOURED
    )
    oversampling: Oversampling = choice(
        "8x",
        "Oversampling",
        "Output",
        "Oversampling of the colour: higher factors reduce aliasing and use more CPU.",
        when=_COLOURED,
        moves="latency",
    )

    def colour(self) -> Colour | None:
        """What the compressed sound leaves through, if anything."""
        if self.output_colour == "none":
            return None
        drives = (self.colour_drive_db, self.colour_drive_db)
        return Colour(self.output_colour, drives, self.colour_odd_share, oversampling=self.oversampling)

    def release_time_ms(self, session_tempo_bpm: float) -> float:
        """The release in ms, whichever way it is given."""
        if self.release_mode == "note":
            return note_to_ms(self.release_note, self.tempo_bpm if self.tempo == "own" else session_tempo_bpm)
        return self.release_ms if self.release_mode == "ms" else AUTO_QUICK_MS

    def automatic_makeup_db(self) -> float:
        """Half of the reduction of a 0 dBFS level: between no make-up and full make-up (ours, no source)."""
        return -0.5 * float(Compressor.static_change_db(self, np.zeros(1))[0]) if self.makeup == "automatic" else 0.0


STARTS = (
    Start(
        "snare: tighten, keep the crack",
        "The first 5 ms of each hit should jump out as before; what rings after it should be shorter and even.",
        {"threshold_db": -22.0, "ratio": 4.0, "attack_ms": 8.0, "release_ms": 90.0, "knee_db": 3.0},
        (("gr_max_db", 6.0, "threshold_db"), ("louder_lu", 0.0, "makeup_db")),
    ),
    Start(
        "bass: even notes",
        "Soft and loud notes should stand at one level; if the low end wobbles, the release is too short.",
        {"threshold_db": -24.0, "ratio": 4.0, "attack_ms": 10.0, "release_ms": 60.0, "detector": "rms", "rms_ms": 20.0},
        (("gr_max_db", 8.0, "threshold_db"), ("louder_lu", 0.0, "makeup_db")),
    ),
    Start(
        "voice: hold it in front",
        "Every word should be understood at low volume; breaths should not come up with it.",
        {"threshold_db": -22.0, "ratio": 2.5, "attack_ms": 6.0, "release_mode": "automatic", "detector": "rms", "knee_db": 9.0},
        (("gr_max_db", 6.0, "threshold_db"), ("louder_lu", 0.0, "makeup_db")),
    ),
    Start(
        "drums: parallel weight",
        "Mix it in until the room and the ghost notes come forward, and stop before the hits get blunt.",
        {"threshold_db": -34.0, "ratio": 8.0, "attack_ms": 1.0, "release_mode": "note", "release_note": "1/8", "mix": 0.35},
        (("louder_lu", 0.0, "makeup_db"),),
    ),
    Start(
        "bus: glue",
        "The parts should breathe together; more than 3 dB of gain reduction is no longer glue.",
        {"threshold_db": -18.0, "ratio": 1.5, "attack_ms": 30.0, "release_mode": "automatic", "knee_db": 12.0},
        (("gr_max_db", 2.5, "threshold_db"), ("louder_lu", 0.0, "makeup_db")),
    ),
    Start(
        "speech: steady narrator",
        "Loud and soft sentences should need the same volume; the ends of words must not sink.",
        {"threshold_db": -26.0, "ratio": 2.0, "attack_ms": 5.0, "release_ms": 200.0, "detector": "rms", "makeup_db": 8.0},
        (("gr_max_db", 8.0, "threshold_db"), ("louder_lu", 0.0, "makeup_db")),
    ),
)


class Compressor(KeyedProcessor):
    """Takes level above a threshold down by a ratio.

        in --+--> lookahead ------------------------------------------------------(x)--> make-up, mix --> out
             |                                                                     ^            (through a colour)
        key--+--> key filter --> peak or RMS --> link --> curve with knee --> attack, hold, release --> attack return

    Gain computer and smoothing by Giannoulis, Massberg and Reiss, J. Audio Eng. Soc. 60(6), 2012: level detection and
    smooth branching in the log domain. In feedback the loop's slope is divided out of attack and release, so that the
    set times hold. At 1:1 without make-up and colour the sound passes bit for bit.

    >>> step = Compressor(CompressorSettings(threshold_db=-20, ratio=8, attack_ms=1), 2, Context(rate=48000))
    >>> step.process(np.zeros((2, 64), np.float32)).shape
    (2, 64)
    """

    kind = "compressor"
    label = "Compressor"
    about = (
        "Use it to even out a part, or with a slow attack to bring its attacks forward. Watch how far the gain reduction "
        "goes, and whether it comes back between the notes."
    )
    aliases = ("dynamics", "glue", "bus compressor", "sidechain", "GR")
    settings_model = CompressorSettings
    main = ("threshold_db", "ratio", "attack_ms", "release_ms", "makeup_db")
    level_line = "threshold_db"
    pictures = ("bite", "curve", "spectrum")
    starts = STARTS
    aims = (
        *gr_aims("threshold_db", "ratio"),
        *level_aims("makeup_db"),
        louder_aim("makeup_db"),
        peak_aim("threshold_db", "ratio"),
    )

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        assert isinstance(settings, CompressorSettings)
        return mixed_gain_db(settings.makeup_db + settings.automatic_makeup_db(), settings.mix)

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, CompressorSettings)
        return f"{settings.ratio:g}:1 at {settings.threshold_db:.0f} dB"

    @classmethod
    def hints(cls, settings: Settings, seen: Evidence) -> list[Hint]:
        """It never works, always works, is still down at the next hit, or leaves no attack."""
        assert isinstance(settings, CompressorSettings) and seen.reduction is not None
        if seen.reduction.largest_db < WORKING_DB and settings.ratio > 1.0:
            return [seen.below_threshold(settings.threshold_db, "nothing is taken")]
        hints = []
        if seen.reduction.share > 0.95:
            least = float(np.percentile(seen.reduction_db, 2))
            if least > 1.0:
                text = (
                    f"Gain stays at least {least:.1f} dB down almost all the time: part of this is only a lower level. "
                    "A shorter release or a higher threshold lets it come back."
                )
                hints.append(Hint("always", text, "release_ms"))
        unreleased = hits_not_released(seen.before, seen.reduction_db, seen.rate)
        if unreleased is not None:
            late, total, down = unreleased
            text = (
                f"The gain is still {down:.1f} dB down when the next hit arrives ({late} of {total}). "
                "A shorter release would recover in time."
            )
            hints.append(Hint("release", text, "release_ms"))
        lost = seen.figures_before.crest_db - seen.figures_after.crest_db
        if lost > 8.0:
            text = f"Crest fell by {lost:.1f} dB: hits hardly stand out now. Lengthen the attack or turn up Restore attacks."
            hints.append(Hint("crest", text, "restore_attacks_db"))
        return hints

    state = ("_key", "_ring", "_state", "_memory", "_bends", "_colour", "_finish")
    scratch = ("_work",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._key = KeyFilter(channels)
        self._ring = lookahead_ring(channels, context.rate, dsp.CHUNK_FRAMES)
        self._state = np.zeros(dsp.STATE)
        self._work = np.empty((dsp.WORK_ROWS, dsp.WORK_FRAMES), np.float32)
        self._memory = detector_memory(channels, context.rate)
        self._colour: Stage | None = None
        self._finish = Finish(channels, context.rate)
        self._curve = np.zeros((1, dsp.BEND))
        self._bends = np.zeros((1, dsp.BEND))
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, CompressorSettings)
        rate = context.rate
        target = np.zeros(dsp.SETTINGS)
        knee = settings.knee_db if settings.knee_db >= MIN_KNEE_DB else 0.0
        self._curve = np.array([[settings.threshold_db, 1.0 - 1.0 / settings.ratio, knee]])
        self._key.configure(settings, rate)
        target[dsp.RANGE] = settings.range_db if settings.range_db < RANGE_OFF_DB else 200.0
        target[dsp.MAKEUP] = settings.makeup_db + settings.automatic_makeup_db()
        target[dsp.MIX] = self._mix = settings.mix
        target[dsp.LINK] = settings.stereo_link
        target[dsp.RETURN] = settings.restore_attacks_db
        target[dsp.ATTACK] = time_constant(settings.attack_ms, rate)
        target[dsp.RELEASE] = time_constant(settings.release_time_ms(context.tempo_bpm), rate)
        target[dsp.HOLD] = ms_to_frames(settings.hold_ms, rate)
        target[dsp.RMS] = averaging(settings.detector, settings.rms_ms, rate)
        target[dsp.AUTO] = settings.release_mode == "automatic"
        target[dsp.SLOW_ATTACK] = time_constant(AUTO_SETTLE_MS, rate)
        target[dsp.SLOW_RELEASE] = time_constant(AUTO_SLOW_MS, rate)
        target[dsp.LOOKAHEAD] = super().latency_of(settings, rate)
        target[dsp.FEEDBACK] = settings.topology == "feedback"
        target[dsp.LONGEST] = longest_groups(rate)
        target[dsp.GROUPS] = lookahead_groups(int(target[dsp.LOOKAHEAD]))
        target[dsp.ONSET_FAST] = time_constant(ONSET_FALL_MS, rate)
        target[dsp.ONSET_SLOW] = time_constant(ONSET_RISE_MS, rate)
        self._target = target
        colour = settings.colour()
        if colour is not None:
            target[dsp.MIX] = 1.0  # the untreated sound comes in after the colour
            self._colour = self._colour or Stage(self.channels, rate)
            self._colour.configure(colour)
            self._finish.configure(self.latency_of(settings, rate), settings.mix, -settings.colour_drive_db)
        self._keyed = target.copy()
        self._keyed[dsp.FEEDBACK] = 0.0

    @classmethod
    def structural_key(cls, settings: Settings) -> tuple[object, ...]:
        assert isinstance(settings, CompressorSettings)
        return () if settings.output_colour == "none" else (settings.oversampling,)

    @classmethod
    def low_latency_settings(cls, settings: Settings) -> Settings:
        assert isinstance(settings, CompressorSettings)
        quick = super().low_latency_settings(settings)
        return quick if settings.output_colour == "none" else quick.model_copy(update={"oversampling": "1x"})

    @classmethod
    def latency_of(cls, settings: Settings, rate: int) -> int:
        assert isinstance(settings, CompressorSettings)
        colour = settings.colour()
        return super().latency_of(settings, rate) + (0 if colour is None else Stage.latency_of(colour))

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        y = np.empty_like(x)
        trace = self.trace(2, x.shape[1])
        target = self._target if key is None and not self._key.on else self._keyed
        target[dsp.GLIDE] = self.glide
        self.detector_input = self._key(x if key is None else key, self.glide)
        dsp.compress(
            x, self.detector_input, y, target, self._curve, self._bends, self._state, self._memory, self._ring, trace, self._work
        )
        if self._colour is not None:
            y = self._colour(y, self.trace(2, x.shape[1]), self.glide)
            y = self._finish(y, x, self.glide)
        self.telemetry = Telemetry(mixed_db(trace[0], self._mix), trace[1])
        return y

    @staticmethod
    def static_change_db(settings: CompressorSettings, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Change of level (0 or less) for steady levels: the paper's eq. 4 less its input, held to the range."""
        over = levels_db - settings.threshold_db
        slope, knee = 1.0 / settings.ratio - 1.0, settings.knee_db
        bent = slope * (over + knee / 2) ** 2 / (2 * knee) if knee >= MIN_KNEE_DB else np.zeros_like(over)
        change = np.where(2 * over < -knee, 0.0, np.where(2 * np.abs(over) <= knee, bent, slope * over))
        least = -settings.range_db if settings.range_db < RANGE_OFF_DB else -200.0
        return np.maximum(change, least)

    @classmethod
    def curve(cls, settings: Settings, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        assert isinstance(settings, CompressorSettings)
        wet = 10.0 ** ((cls.static_change_db(settings, levels_db) + settings.makeup_db + settings.automatic_makeup_db()) / 20)
        colour = settings.colour()
        if colour is None:
            return levels_db + 20.0 * np.log10(np.maximum(1.0 + settings.mix * (wet - 1.0), 1e-8))
        wave = SINE * (10.0 ** (levels_db / 20.0))[:, None]
        return peaks_db(wave + settings.mix * (colour.steady(wave * wet[:, None], given_back=True) - wave))
