"""The resonance tamer."""

import math
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import resonance as dsp
from saltanvil.dsp.bells import bell_db, width_to_q
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import ms_to_frames
from saltanvil.measure.figures import match_db
from saltanvil.measure.reduction import WORKING_DB
from saltanvil.measure.resonances import HIGHEST_HZ, LOWEST_HZ, MAX_RESONANCES, REGIONS, Resonance, verdict_of, verdict_text
from saltanvil.processors.aims import gr_aims
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start, Telemetry
from saltanvil.processors.descriptor import choice, described, rule
from saltanvil.processors.evidence import Evidence, Fact, Hint
from saltanvil.processors.resonance_reading import free_resonances, part_of, reading_ratio, weights

#: So much earlier than the sound the fine quality hears.
AHEAD_MS = 40.0
#: Automatic times: so many periods, within limits. Shorter, and chance alone sticks out of noise.
ATTACK_PERIODS, MIN_ATTACK_MS, MAX_ATTACK_MS, RELEASE_RATIO = 120.0, 15.0, 250.0, 2.0
#: A resonance is held down from this share of its height on, within limits; in the free mode from FREE_START_DB on.
START_PART, MIN_START_DB, MAX_START_DB, FREE_START_DB = 0.5, 2.0, 6.0, 4.0
TILT_OCT = 4.0
_FREE = {"mode": ["free"]}
_SET = {"timing": ["set"]}


class TamerSettings(Settings):
    mode: Literal["found", "free"] = choice(
        "found", "Mode", "Resonances",
        "Found: the resonances that a study found, or that you set. Free: whatever sticks out between the corners, without a "
        "study.", moves="structure",
    )  # fmt: skip
    resonances: tuple[Resonance, ...] = described(
        (), "resonances", "Resonances", "", "Resonances",
        "What is held down: frequency, width, height over the surroundings, and each one's share of the amount.",
        max_length=MAX_RESONANCES, low=LOWEST_HZ, high=HIGHEST_HZ, when={"mode": ["found"]}, moves="structure",
    )  # fmt: skip
    studied: str = described(
        "", "text", "Studied", "", "Resonances", "The passage that the resonances were found in.", max_length=200,
        when={"mode": ["found"]},
    )  # fmt: skip
    sharpness: float = rule(
        5.0, "Sharpness", "Q", 2.0, 16.0, "Resonances", "How narrow the cuts are. Higher values leave more of the sound alone.",
        scale="log", ticks=(2, 4, 8, 16), when=_FREE, moves="structure",
    )  # fmt: skip
    smoothing_oct: float = rule(
        1.0, "Smoothing", "oct", 0.5, 3.0, "Resonances",
        "How far the surroundings reach on either side, against which a resonance is measured.", ticks=(0.5, 1, 2, 3),
    )  # fmt: skip
    amount: float = rule(
        0.5, "Amount", "%", 0.0, 1.0, "Reduction", "How much of what sticks out is taken: at 100 % a resonance becomes "
        "level with its surroundings.", ticks=(0, 0.5, 1),
    )  # fmt: skip
    range_db: float = rule(12.0, "Range", "dB", 0.0, 24.0, "Reduction", "The largest gain reduction.", ticks=(0, 6, 12, 24))
    tilt: float = rule(
        0.0, "Tilt", "%", -1.0, 1.0, "Reduction", "Negative: less for highs. Positive: less for lows. Turns at 1 kHz.",
        ticks=(-1, 0, 1),
    )  # fmt: skip
    low_hz: float = rule(
        40.0, "From", "Hz", 20.0, 10000.0, "Reduction", "Nothing below this is reduced.", scale="log", ticks=(100, 1000, 10000)
    )
    high_hz: float = rule(
        14000.0, "Up to", "Hz", 100.0, 20000.0, "Reduction", "Nothing above this is reduced.", scale="log",
        ticks=(100, 1000, 10000),
    )  # fmt: skip
    timing: Literal["automatic", "set"] = choice(
        "automatic", "Timing", "Timing", "Automatic: slower for lows, as long as it takes to tell a resonance from chance."
    )
    attack_ms: float = rule(
        40.0, "Attack", "ms", 5.0, 500.0, "Timing", "Time over which the levels are averaged.", scale="log", ticks=(10, 100),
        when=_SET,
    )  # fmt: skip
    release_ms: float = rule(
        120.0, "Release", "ms", 10.0, 2000.0, "Timing", "Time to release 63 %.", scale="log", ticks=(10, 100, 1000), when=_SET
    )
    quality: Literal["live", "fine"] = choice(
        "live", "Quality", "Timing",
        f"Live: no latency. Fine: listens {AHEAD_MS:.0f} ms ahead, so that the beginning of a resonance is caught too; adds the "
        "same latency.", moves="latency",
    )  # fmt: skip
    stereo: Literal["linked", "unlinked", "mid/side"] = choice(
        "linked", "Stereo", "Output",
        "Linked: both sides get the same cuts. Unlinked: each side its own. Mid/side: middle and sides each their own.",
        moves="structure",
    )  # fmt: skip
    output: Literal["held", "not held", "manual gain"] = choice(
        "held", "Compensation", "Output",
        "Of loudness. On: output gain keeps the loudness of the input, measured over the song. Off: it gets softer by what is "
        "taken. Manual gain: set it yourself.", words={"held": "on", "not held": "off"},
    )  # fmt: skip
    output_db: float = rule(
        0.0, "Output", "dB", -24.0, 24.0, "Output", "Output gain.", ticks=(-12, 0, 12), when={"output": ["manual gain"]}
    )
    mix: float = rule(1.0, "Mix", "%", 0.0, 1.0, "Output", "Treated sound against untreated sound.", ticks=(0, 0.5, 1))

    def aims_at(self) -> tuple[Resonance, ...]:
        """What the bells stand for."""
        return self.resonances if self.mode == "found" else free_resonances(self.sharpness)

    def share(self, frequency_hz: float) -> float:
        """Share of the amount at a frequency, by the corners and the tilt."""
        if not self.low_hz <= frequency_hz <= self.high_hz:
            return 0.0
        slope = self.tilt * math.log2(frequency_hz / 1000.0) / TILT_OCT
        return min(max(1.0 + slope, 0.0), 1.0)

    def attack_s(self, frequency_hz: float) -> float:
        automatic = min(max(ATTACK_PERIODS / frequency_hz, MIN_ATTACK_MS / 1000.0), MAX_ATTACK_MS / 1000.0)
        return automatic if self.timing == "automatic" else self.attack_ms / 1000.0

    def release_s(self, frequency_hz: float) -> float:
        return RELEASE_RATIO * self.attack_s(frequency_hz) if self.timing == "automatic" else self.release_ms / 1000.0

    def out_db(self) -> float:
        """Gain after the mix; where the loudness is held, `output_db` is the gain that was found."""
        return self.output_db if self.output != "not held" else 0.0

    def deepest_db(self, one: Resonance) -> float:
        """The most that is taken of a resonance."""
        share = self.amount * one.share * self.share(one.frequency_hz) if one.on else 0.0
        return min(share * one.height_db, self.range_db)


STARTS = (
    Start(
        "voice: boxiness and harshness",
        "Study a verse first. Vowels should lose their honk and keep their body; if words get thin, less amount.",
        {"amount": 0.6, "range_db": 8.0, "low_hz": 200.0, "high_hz": 7000.0},
    ),
    Start(
        "organ and keys: mud",
        "Study a passage with many chords. Low chords should get clearer while single notes keep their weight.",
        {"amount": 0.7, "range_db": 9.0, "low_hz": 90.0, "high_hz": 2000.0, "smoothing_oct": 1.5},
    ),
    Start(
        "overheads: ringing",
        "Study some bars with cymbals. The ring should go and the shine stay: listen to the difference for cymbals in it.",
        {"amount": 1.0, "range_db": 15.0, "low_hz": 500.0, "quality": "fine"},
    ),
    Start(
        "full mix: smoother, without a study",
        "A little of everything that sticks out. Listen matched: it should get calmer and not duller.",
        {"mode": "free", "amount": 0.35, "range_db": 4.0, "sharpness": 4.0, "smoothing_oct": 1.5, "stereo": "mid/side"},
    ),
    Start(
        "narrator in a small room",
        "Study half a minute of speech. The room's own tones should go; consonants must stay as they are.",
        {"amount": 0.8, "range_db": 10.0, "low_hz": 80.0, "high_hz": 4000.0, "quality": "fine"},
    ),
    Start(
        "make room for another sound",
        "Choose the other sound as the key: what sticks out of it is taken here, while it sounds.",
        {"mode": "free", "amount": 0.5, "range_db": 5.0, "sharpness": 3.0, "output": "not held"},
    ),
)  # fmt: skip


class Tamer(Processor):
    """Holds resonances down as they happen: only while they stick out of their surroundings, quiet or loud.

        in --+--> (fine: delay) --> a bell for each resonance, as deep as it sticks out now --> mix --> output --> out
             |                                        ^
        key--+--> bands, 12 an octave --> level of each resonance less that around it --> amount, range

    A bell is the exact inverse of a resonance, phase included, and adds no latency.

    >>> step = Tamer(TamerSettings(amount=0.0), 1, Context())
    >>> step.process(np.full((1, 4), 0.25, np.float32))
    array([[0.25, 0.25, 0.25, 0.25]], dtype=float32)
    """

    kind = "tamer"
    label = "Resonance tamer"
    about = (
        "Use it where something rings at times: study the passage, and it names what it found. What it takes can be heard "
        "as the difference."
    )
    aliases = ("resonance", "mud", "boxiness", "harshness", "ringing", "boom", "dynamic EQ", "unmasking", "spectral")
    settings_model = TamerSettings
    main = ("amount", "range_db", "sharpness", "mix")
    pictures = ("resonances", "spectrum", "bite")
    listens = True
    keyed = True
    matched = True
    starts = STARTS
    aims = gr_aims("amount", "range_db", target=6.0)

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, TamerSettings)
        what = "free" if settings.mode == "free" else f"{sum(one.on for one in settings.resonances)} found"
        return f"{what}, {100 * settings.amount:.0f} %"

    @classmethod
    def remark(cls, settings: Settings) -> str:
        """What was studied, and the verdict."""
        assert isinstance(settings, TamerSettings)
        return f"{settings.studied}: {verdict_text(settings.resonances)}" if settings.studied and settings.mode == "found" else ""

    @classmethod
    def facts(cls, settings: Settings, seen: Evidence) -> list[Fact]:
        """Severity of each region as the study found it, and the largest reduction in it over the passage."""
        assert isinstance(settings, TamerSettings)
        verdict = verdict_of(settings.resonances) if settings.mode == "found" else {}
        result = [Fact(f"{name}_percent", REGIONS[name].label, percent, "%") for name, percent in verdict.items() if percent]
        for name, region in REGIONS.items():
            if settings.mode == "free" and region.narrow:
                continue
            names = [row_name(n, one) for n, one in enumerate(settings.aims_at()) if region.holds(one)]
            rows = [seen.rows[name].max(initial=0.0) for name in names if name in seen.rows]
            if rows and max(rows) >= WORKING_DB:
                result.append(Fact(f"{name}_gr_db", f"{region.label}, GR max", float(max(rows)), "dB"))
        return result

    @classmethod
    def hints(cls, settings: Settings, seen: Evidence) -> list[Hint]:
        """Nothing to hold, nothing held, or softer by what is taken."""
        assert isinstance(settings, TamerSettings) and seen.reduction is not None
        if settings.mode == "found" and not settings.resonances:
            text = (
                f"The study of {settings.studied} found no resonance: clear."
                if settings.studied
                else "No resonances yet: study a busy passage, add one by hand, or use the free mode."
            )
            return [Hint("unstudied", text, "mode")]
        if seen.reduction.largest_db < WORKING_DB:
            text = "Nothing sticks out of its surroundings far enough to be held: nothing is taken."
            return [Hint("idle", text, "amount" if settings.amount < 0.1 else "smoothing_oct")]
        if settings.output == "not held":
            change = match_db(seen.before, seen.after, seen.rate)
            if change < -1.0:
                text = f"Output {-change:.1f} LU softer: hold the loudness, or listen matched (E)."
                return [Hint("softer", text, "output")]
        return []

    state = (
        "_moving", "_now", "_state", "_z", "_lines", "_counts", "_energy", "_average", "_target", "_cut", "_memory", "_ring",
    )  # fmt: skip
    scratch = ("_work", "_level")

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        rate = context.rate
        bands = len(dsp.bands_hz(rate))
        self._poles, self._starts = dsp.resonators(rate), dsp.first_bands(rate)
        self._moving = np.zeros((0, dsp.BELL))
        self._now = np.zeros(dsp.GLIDING)
        self._state = np.zeros(dsp.STATE)
        self._z = np.zeros((channels, 4, bands), np.float32)
        self._lines = np.zeros((channels, dsp.STAGES, dsp.HISTORY + TICK_FRAMES), np.float32)
        self._counts = np.zeros((channels, dsp.STAGES), np.int64)
        self._energy = np.zeros((channels, bands), np.float32)
        self._average = np.zeros((channels, bands))
        self._target, self._cut = np.zeros((2, dsp.MAX_BELLS)), np.zeros((2, dsp.MAX_BELLS))
        self._memory = np.zeros((channels, dsp.MAX_BELLS, 2))
        size = 1 << (ms_to_frames(AHEAD_MS, rate) + TICK_FRAMES).bit_length()
        self._ring = np.zeros((channels, size), np.float32)
        self._work = np.zeros((channels, TICK_FRAMES))
        self._level = np.zeros(2 * bands)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, TamerSettings)
        rate = context.rate
        self.settings = settings
        self._set = setup_of(settings.model_copy(update=GLIDING), rate)
        if len(self._moving) != len(self._set.bells):
            self._moving = self._set.bells.copy()
        self._wanted = np.array([settings.amount, settings.range_db, settings.mix, settings.out_db()])
        constants = {
            dsp.ATTACK: glide_part(rate),
            dsp.DELAY: float(self.latency_of(settings, rate)),
            dsp.APART: float(settings.stereo == "mid/side" and self.channels == 2),
            dsp.SETS: 1.0 if settings.stereo == "linked" or self.channels == 1 else 2.0,
        }
        for place, value in constants.items():
            self._state[place] = value

    @classmethod
    def structural_key(cls, settings: Settings) -> tuple[object, ...]:
        assert isinstance(settings, TamerSettings)
        form = settings.sharpness if settings.mode == "free" else float(len(settings.resonances))
        return settings.mode, settings.stereo, form

    @classmethod
    def latency_of(cls, settings: Settings, rate: int) -> int:
        assert isinstance(settings, TamerSettings)
        return ms_to_frames(AHEAD_MS, rate) if settings.quality == "fine" else 0

    @classmethod
    def low_latency_settings(cls, settings: Settings) -> Settings:
        return settings.model_copy(update={"quality": "live"})

    @classmethod
    def loudness_gain_db(cls, settings: Settings) -> float | None:
        assert isinstance(settings, TamerSettings)
        return 0.0 if settings.output == "held" else None

    @classmethod
    def with_loudness_gain(cls, settings: Settings, gain_db: float) -> Settings:
        return settings.model_copy(update={"output_db": gain_db})

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        assert isinstance(settings, TamerSettings)
        return settings.out_db()

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        source = x if key is None else key
        apart = self.channels == 2 and self.settings.stereo == "mid/side"
        self.detector_input = source
        bank = self._set
        self._state[dsp.GLIDE] = self.glide
        trace = self.trace(2 + len(bank.bells), x.shape[1])
        if apart:
            source = middle_and_sides(source)
        y = np.empty_like(x)
        dsp.tame(
            x, np.ascontiguousarray(source), y, bank.bells, self._moving, self._wanted, self._now, self._state, bank.own,
            bank.sides, bank.spans, self._poles, self._starts, dsp.HALF_BAND, bank.averaging, self._z, self._lines, self._counts,
            self._energy, self._average, self._target, self._cut, self._memory, self._ring, self._work, trace, self._level,
        )  # fmt: skip
        heard_db = np.float32(20.0) * np.log10(np.maximum(trace[1], np.float32(1e-8)))
        self.telemetry = Telemetry(trace[0], heard_db, rows={name: trace[2 + n] for n, name in enumerate(bank.rows)})
        return y

    @classmethod
    def response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64] | None:
        """At the most that is ever taken of the found resonances."""
        assert isinstance(settings, TamerSettings)
        if settings.mode == "free":
            return None
        total = np.zeros_like(frequencies_hz)
        for one in settings.resonances:
            total -= bell_db(frequencies_hz, one.frequency_hz, width_to_q(one.width_oct), settings.deepest_db(one))
        return total


def row_name(number: int, one: Resonance) -> str:
    """Of the telemetry's row that tells what is taken of a resonance: its number from 0, and where it is."""
    return f"cut {number} {one.frequency_hz:.1f}"


#: Settings of which the bells and what they listen to are independent, so that moving them costs next to nothing.
GLIDING: dict[str, float | str] = {
    "amount": 0.0, "range_db": 0.0, "mix": 0.0, "output_db": 0.0, "output": "held", "quality": "live", "studied": "",
}  # fmt: skip


@dataclass(frozen=True)
class Setup:
    """What the kernel is given; see `dsp.resonance.tame`. rows: names of the telemetry's rows."""

    bells: NDArray[np.float64]
    rows: list[str]
    own: NDArray[np.float64]
    sides: NDArray[np.float64]
    spans: NDArray[np.int64]
    averaging: NDArray[np.float64]


@lru_cache(64)
def setup_of(settings: TamerSettings, rate: int) -> Setup:
    aims, hz = settings.aims_at(), dsp.bands_hz(rate)
    bells = np.zeros((len(aims), dsp.BELL))
    own, sides = np.zeros((len(aims), len(hz))), np.zeros((2, len(aims), len(hz)))
    spans = np.zeros((len(aims), 2), np.int64)
    free = settings.mode == "free"
    for n, one in enumerate(aims):
        own[n], sides[:, n] = weights(one.frequency_hz, one.width_oct, settings.smoothing_oct, rate)
        heard = np.flatnonzero((own[n] > 0.0) | sides[:, n].any(axis=0))
        spans[n] = (heard[0], heard[-1] + 1) if len(heard) else (0, 0)
        row = bells[n]
        row[dsp.TANGENT] = math.tan(math.pi * min(one.frequency_hz, 0.45 * rate) / rate)
        row[dsp.Q] = width_to_q(one.width_oct)
        row[dsp.SHARE] = one.share * settings.share(one.frequency_hz) if one.on else 0.0
        row[dsp.LIMIT] = one.height_db
        row[dsp.RATIO] = reading_ratio(one.width_oct, settings.smoothing_oct)
        row[dsp.PART] = part_of(settings.sharpness) if free else 1.0
        row[dsp.LEAST] = FREE_START_DB if free else min(max(START_PART * one.height_db, MIN_START_DB), MAX_START_DB)
        row[dsp.RELEASE] = 1.0 - math.exp(-TICK_FRAMES / rate / settings.release_s(one.frequency_hz))
    step_s = dsp.GRID_FRAMES / rate
    averaging = np.array([1.0 - math.exp(-step_s / settings.attack_s(middle)) for middle in hz])
    return Setup(bells, [row_name(n, one) for n, one in enumerate(aims)], own, sides, spans, averaging)


def middle_and_sides(x: Audio) -> Audio:
    half = np.float32(0.5)
    return np.stack((half * (x[0] + x[1]), half * (x[0] - x[1])))
