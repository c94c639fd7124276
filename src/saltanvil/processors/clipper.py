"""The clipper."""

import math
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import clip as dsp
from saltanvil.dsp.biquad import response_db
from saltanvil.dsp.oversample import MAX_TAPS, STAGES, TAPS, both_ways, whole
from saltanvil.dsp.true_peak import TRUE_PEAK_HISTORY, TRUE_PEAK_LATE, true_peak_filters
from saltanvil.dsp.units import db_to_gain, gain_to_db, ms_to_frames, time_constant
from saltanvil.processors.aims import Aim, gr_max, level_aims, louder_aim, peak_aim
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start, Telemetry, number
from saltanvil.processors.descriptor import choice, rule
from saltanvil.processors.evidence import Evidence, Fact
from saltanvil.processors.filters import flanks
from saltanvil.processors.linearphase import LinearPhase, design, gain_of, half_frames

WINDOW_SLOPE_DB, CLEAR_SLOPE_DB = 12, 48
DC_HZ = 5.0
RING_FRAMES = 8192
DRIVEN_FALL_MS = 10.0
AHEAD_MS = 0.5
#: The swing's gain comes back so slowly that it stands still between the crests of a wave; where only samples count, louder.
AHEAD_RELEASE_MS = {"true peak": 5.0, "samples": 2.5, "left": 0.0}

_WINDOW = {"window": ["on"]}


class ClipperSettings(Settings):
    ceiling_db: float = rule(
        -6.0, "Ceiling", "dB", -36.0, 0.0, "Clip", "Level at which waves are cut.", ticks=(-24, -18, -12, -6, 0)
    )
    drive_db: float = rule(0.0, "Drive", "dB", -12.0, 36.0, "Clip", "Gain into the ceiling.", ticks=(0, 12, 24, 36))
    hardness: float = rule(
        0.8, "Hardness", "%", 0.0, 1.0, "Clip",
        "From soft (round from the first wave on) to hard (flat at the ceiling). Small signals keep their level.",
        ticks=(0, 0.25, 0.5, 0.75, 1),
    )  # fmt: skip
    oversampling: Literal["1x", "2x", "4x", "8x", "16x"] = choice(
        "8x", "Oversampling", "Quality",
        "Higher factors reduce aliasing and use more CPU.",
        moves="latency",
    )  # fmt: skip
    overshoot: Literal["true peak", "samples", "left"] = choice(
        "true peak", "Overshoot", "Quality",
        "Above 1x the filters let peaks swing over the ceiling, by up to 3 dB on cymbals; a gain that comes half a millisecond "
        "before takes that down. True peak: also between the samples, cleanest, of all that lies below 0.45 of the sample rate. "
        "Samples: louder, and less clean, whatever the oversampling. Left: it passes.",
        when={"oversampling": ["2x", "4x", "8x", "16x"]}, moves="latency",
    )  # fmt: skip
    phase: Literal["linear", "minimum"] = choice(
        "linear", "Phase", "Quality",
        "Linear phase passes unclipped sound bit for bit. Minimum phase has less latency and shifts the phase of the highs.",
        when={"oversampling": ["2x", "4x", "8x", "16x"]},
        moves="latency",
    )  # fmt: skip
    dc_removal: bool = choice(False, "DC removal", "Quality", "Takes out what is below 5 Hz after the clip.")
    window: Literal["off", "on"] = choice(
        "off",
        "Clip window",
        "Frequency",
        "Only frequencies between two corners reach the clip stage; the rest bypasses it.",
        moves="latency",
    )
    window_low_hz: float = rule(
        200.0, "Window from", "Hz", 20.0, 20000.0, "Frequency", "Lower corner of the window, 12 dB per octave.",
        scale="log", ticks=(20, 100, 1000, 10000), when=_WINDOW,
    )  # fmt: skip
    window_high_hz: float = rule(
        8000.0, "Window up to", "Hz", 20.0, 20000.0, "Frequency", "Upper corner of the window, 12 dB per octave.",
        scale="log", ticks=(20, 100, 1000, 10000), when=_WINDOW,
    )  # fmt: skip
    keep_clear: Literal["nothing", "below", "above"] = choice(
        "nothing",
        "Leave unclipped",
        "Frequency",
        "Keeps a low or a high part out of the clip stage entirely.",
        moves="latency",
    )
    clear_hz: float = rule(
        120.0, "Below/above", "Hz", 20.0, 20000.0, "Frequency", "Where the unclipped part begins or ends, 48 dB per octave.",
        scale="log", ticks=(20, 100, 1000, 10000), when={"keep_clear": ["below", "above"]},
    )  # fmt: skip
    output_db: float = rule(0.0, "Output", "dB", -24.0, 24.0, "Output", "Gain after the clip.", ticks=(-12, 0, 12))
    compensate_drive: bool = choice(
        False, "Compensate drive", "Output", "Takes the drive off again after the clip, so that only peaks change."
    )
    mix: float = rule(1.0, "Mix", "%", 0.0, 1.0, "Output", "Clipped sound against untreated sound.", ticks=(0, 0.5, 1))

    def factor(self) -> int:
        return int(self.oversampling[:-1])

    def corners(self) -> tuple[object, ...]:
        """All that decides what reaches the clip stage; empty if everything does."""
        window = (self.window_low_hz, self.window_high_hz) if self.window == "on" else ()
        clear = (self.keep_clear, self.clear_hz) if self.keep_clear != "nothing" else ()
        return (*window, *clear)

    def ahead_frames(self, rate: int) -> int:
        """How far ahead of the sound the gain falls, in frames."""
        return ms_to_frames(AHEAD_MS, rate) if self.overshoot != "left" and self.factor() > 1 else 0

    def held_latency(self, rate: int) -> int:
        ahead = self.ahead_frames(rate)
        return ahead + TRUE_PEAK_LATE if ahead and self.overshoot == "true peak" else ahead

    def out_db(self) -> float:
        """All gain after the clip."""
        return self.output_db - (self.drive_db if self.compensate_drive else 0.0)


STARTS = (
    Start(
        "drums: 6 dB of peaks for nothing",
        "Compare matched: the hits should sound as loud as before. Lower the ceiling until they get dull, then go back a little.",
        {"ceiling_db": -8.0, "hardness": 0.9, "oversampling": "16x"},
        (("peaks_down_db", 6.0, "ceiling_db"),),
    ),
    Start(
        "snare: stray hits in line",
        "Only the loudest hits should be touched; listen to the difference, which should tick and no more.",
        {"ceiling_db": -7.5, "hardness": 0.85, "oversampling": "8x"},
        (("peaks_down_db", 3.0, "ceiling_db"),),
    ),
    Start(
        "kick: keep the low clear",
        "The click gets shorter and the low note stays round; if it buzzes, raise the clear corner.",
        {"ceiling_db": -10.0, "hardness": 0.7, "keep_clear": "below", "clear_hz": 150.0},
        (("gr_max_db", 6.0, "ceiling_db"),),
    ),
    Start(
        "bass: round the top of the waves",
        "Notes should get fuller, not fuzzy; lower the drive when single notes start to rasp.",
        {"ceiling_db": -6.0, "drive_db": 4.0, "hardness": 0.1, "compensate_drive": True},
        (("peaks_down_db", 3.0, "ceiling_db"),),
    ),
    Start(
        "bus: middle only, air untouched",
        "The snare comes down inside the mix while cymbals keep their shine.",
        {"ceiling_db": -4.0, "hardness": 0.75, "window": "on", "window_low_hz": 150.0, "window_high_hz": 5000.0},
        (("gr_max_db", 4.0, "ceiling_db"),),
    ),
    Start(
        "parallel crunch",
        "Loud and rough alone; mixed in, it should add bite you miss when it is bypassed.",
        {"ceiling_db": -14.0, "drive_db": 12.0, "hardness": 0.4, "compensate_drive": True, "mix": 0.3, "dc_removal": True},
        (("gr_max_db", 18.0, "ceiling_db"), ("louder_lu", 0.0, "output_db")),
    ),
)  # fmt: skip


class Clipper(Processor):
    """Cuts waves off at a ceiling, from round to flat.

        in --+--> delay -----------------------------------------------------------(+)--> output, mix --> out
             |                                                                      |
             +--> window, kept clear --> drive --> up --> shape --> down -----------+  (rest + shaped band)

    Where peaks between the samples count, nothing comes over the ceiling of what lies below 0.45 of the rate; what reaches up to
    half the rate, such as white noise, may by up to 1.2 dB.

    With linear phase, sound that is not clipped passes bit for bit, whatever the oversampling. Window and kept clear
    part are linear-phase filters (43 ms late), so that what they keep from the clip stage passes untouched beside it.

    >>> step = Clipper(ClipperSettings(ceiling_db=0.0, hardness=1.0, oversampling="1x"), 1, Context())
    >>> step.process(np.array([[0.5, 2.0, -3.0]], np.float32))
    array([[ 0.5,  1. , -1. ]], dtype=float32)
    """

    kind = "clipper"
    label = "Clipper"
    about = (
        "Use it to take the very tops off drums or a bus, so that what follows has more room. Too much of it is heard as "
        "a rattle; the difference tells how much goes."
    )
    aliases = ("soft clip", "hard clip", "peak", "distortion")
    settings_model = ClipperSettings
    main = ("ceiling_db", "drive_db", "hardness")
    pictures = ("wave", "curve", "bite", "spectrum")
    listens = True
    starts = STARTS
    aims = (
        peak_aim("ceiling_db", "drive_db"),
        Aim("gr_max_db", "GR, max", "dB", gr_max, ("ceiling_db", "drive_db"), 6.0, 0.1, 36.0),
        louder_aim("drive_db", "output_db", "ceiling_db"),
        *level_aims("output_db", "drive_db"),
    )

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, ClipperSettings)
        return f"ceiling {number(settings.ceiling_db)} dB"

    @classmethod
    def facts(cls, settings: Settings, seen: Evidence) -> list[Fact]:
        """What it is judged by: the peaks come down and the loudness hardly moves."""
        before, after = seen.figures_before, seen.figures_after
        facts = [Fact("peaks_down_db", "Peaks down by", before.sample_peak_dbfs - after.sample_peak_dbfs, "dB")]
        if before.integrated_lufs is not None and after.integrated_lufs is not None:
            facts.append(Fact("loudness_moved_lu", "Loudness moved by", after.integrated_lufs - before.integrated_lufs, "LU"))
        clipped = float(seen.rows["clipped"].sum())
        facts.append(Fact("samples_clipped", "Samples clipped", clipped, ""))
        facts.append(Fact("clipped_share", "Share of samples", 100.0 * clipped / seen.before.size, "%"))
        return facts

    state = ("_band", "_state", "_ups", "_downs", "_pads", "_ring", "_ahead_ring", "_lanes", "_history")
    heads: ClassVar[dict[str, int]] = {"_ups": MAX_TAPS, "_downs": MAX_TAPS, "_pads": 2 * dsp.MAX_PAD}
    scratch = ("_work",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        top = dsp.ROOM
        half = half_frames(context.rate)
        self._band = LinearPhase(channels, half, half + 1)
        self._corners: tuple[object, ...] | None = None
        self._state = np.zeros(dsp.STATE)
        self._ups = np.zeros((channels, STAGES, top + MAX_TAPS), np.float32)
        self._downs = np.zeros((2 * channels, STAGES, 2, top + MAX_TAPS), np.float32)
        self._pads = np.zeros((2 * channels, top + 2 * dsp.MAX_PAD), np.float32)
        self._ring = np.zeros((2 * channels, RING_FRAMES), np.float32)
        ahead = ms_to_frames(AHEAD_MS, context.rate)
        self._ahead_ring = np.zeros((3 * channels, 1 << (ahead + TRUE_PEAK_LATE + dsp.CHUNK_FRAMES).bit_length()), np.float32)
        self._lanes = np.zeros((3, ahead + 2))
        self._history = np.zeros((channels, TRUE_PEAK_HISTORY + dsp.CHUNK_FRAMES), np.float32)
        self._filters = true_peak_filters()
        self._work = np.zeros((dsp.WORK_ROWS, top + MAX_TAPS), np.float32)
        self._way = ("", "", "")
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, ClipperSettings)
        rate = context.rate
        _, latency, pad = whole(settings.factor(), settings.phase)
        target = np.zeros(dsp.SETTINGS)
        target[dsp.DRIVE] = db_to_gain(settings.drive_db)
        target[dsp.CEILING] = db_to_gain(settings.ceiling_db)
        target[dsp.HARDNESS] = min(settings.hardness, dsp.HARDEST)
        target[dsp.OUTPUT] = db_to_gain(settings.out_db())
        target[dsp.MIX] = settings.mix
        target[dsp.STEPS] = int(math.log2(settings.factor()))
        target[dsp.LINEAR] = settings.phase == "linear" or settings.factor() == 1
        target[dsp.LATENCY] = latency
        target[dsp.PAD] = pad
        target[dsp.BLOCK_DC] = settings.dc_removal
        target[dsp.DC_POLE] = 1.0 - 2.0 * math.pi * DC_HZ / rate
        target[dsp.AHEAD] = settings.ahead_frames(rate)
        target[dsp.AHEAD_RELEASE] = time_constant(AHEAD_RELEASE_MS[settings.overshoot], rate)
        target[dsp.TRUE_PEAK] = settings.overshoot == "true peak"
        target[dsp.DRIVEN_FALL] = time_constant(DRIVEN_FALL_MS, rate)
        if settings.corners() != self._corners:
            self._corners = settings.corners()
            self._band.set([lambda hz: reaching(settings, hz, rate)] if self._corners else [], rate)
        way = (settings.oversampling, settings.phase, settings.overshoot)
        if way != self._way:
            # Other filters: what they remember is of another rate. The plan fades over from a copy.
            for memory in (self._ups, self._downs, self._pads, self._ahead_ring, self._history):
                memory[:] = 0.0
            self._state[dsp.PRIMED] = 0.0
        self._way = way
        self._ladder = both_ways(settings.factor(), settings.phase)
        self._target = target

    @classmethod
    def low_latency_settings(cls, settings: Settings) -> Settings:
        return settings.model_copy(update={"oversampling": "1x"})

    @classmethod
    def latency_of(cls, settings: Settings, rate: int) -> int:
        assert isinstance(settings, ClipperSettings)
        band = 2 * half_frames(rate) + 1 if settings.corners() else 0
        return whole(settings.factor(), settings.phase)[1] + settings.held_latency(rate) + band

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        self._target[dsp.GLIDE] = self.glide
        y = np.empty_like(x)
        trace = self.trace(dsp.TRACE_ROWS, x.shape[1])
        band, x = self._band(x) if self._band.on else (x, x)
        self.detector_input = band
        dsp.clip(
            x, band, y, self._target, self._state, self._ladder, TAPS, self._ups, self._downs, self._pads,
            self._ring, self._ahead_ring, self._lanes, self._history, self._filters, trace, self._work,
        )  # fmt: skip
        driven_db = np.float32(gain_to_db(self._target[dsp.DRIVE]))
        self.telemetry = Telemetry(trace[0], trace[1] - driven_db, {"clipped": trace[2]})
        return y

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        assert isinstance(settings, ClipperSettings)
        return gain_to_db(1.0 + settings.mix * (db_to_gain(settings.drive_db + settings.out_db()) - 1.0))

    @classmethod
    def output_ceiling_db(cls, settings: Settings) -> float:
        assert isinstance(settings, ClipperSettings)
        return settings.ceiling_db + settings.out_db()

    @classmethod
    def curve(cls, settings: Settings, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Peak out for peak in, of what reaches the clip stage."""
        assert isinstance(settings, ClipperSettings)
        drive, ceiling = db_to_gain(settings.drive_db), db_to_gain(settings.ceiling_db)
        levels = 10.0 ** (levels_db / 20.0)
        v, knee = levels * drive / ceiling, min(settings.hardness, dsp.HARDEST)
        u = np.clip((v - knee) / (1.0 - knee), 0.0, 1.5)
        shaped = np.where(v > knee, knee + (1.0 - knee) * (u - 4.0 / 27.0 * u**3), v) * ceiling
        out = levels + settings.mix * (shaped * db_to_gain(settings.out_db()) - levels)
        return np.asarray(20.0 * np.log10(np.maximum(np.abs(out), 1e-8)))

    @classmethod
    def key_response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64] | None:
        """What reaches the clip stage."""
        assert isinstance(settings, ClipperSettings)
        if not settings.corners():
            return None
        taps = design(lambda hz: reaching(settings, hz, rate), rate)
        return np.asarray(20.0 * np.log10(np.maximum(gain_of(taps, frequencies_hz, rate), 1e-6)))


def reaching(settings: ClipperSettings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    """Gain, linear and without phase, of what reaches the clip stage: Butterworth magnitudes."""
    low = settings.clear_hz if settings.keep_clear == "below" else None
    high = settings.clear_hz if settings.keep_clear == "above" else None
    result = response_db(flanks(low, high, CLEAR_SLOPE_DB, rate), frequencies_hz, rate)
    if settings.window == "on":
        sections = flanks(settings.window_low_hz, settings.window_high_hz, WINDOW_SLOPE_DB, rate)
        result = result + response_db(sections, frequencies_hz, rate)
    return np.asarray(10.0 ** (result / 20.0))
