"""The resonance tamer."""

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import resonance as dsp
from saltanvil.dsp.bells import bell_db, width_to_q
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import ms_to_frames
from saltanvil.measure.figures import match_db
from saltanvil.measure.reduction import WORKING_DB
from saltanvil.measure.resonances import REGIONS, Resonance, verdict_of, verdict_text
from saltanvil.processors.aims import gr_aims
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start, Telemetry
from saltanvil.processors.evidence import Evidence, Fact, Hint
from saltanvil.processors.resonance_reading import part_of, reading_ratio, weights
from saltanvil.processors.tamer_settings import (
    AHEAD_MS,
    FREE_START_DB,
    MAX_START_DB,
    MIN_START_DB,
    START_PART,
    TamerSettings,
)

#: Depth of a bell for which its share at its neighbours is worked out.
OVERLAP_DB = 6.0
NOTHING = np.zeros(0, np.float32)

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
        aims, rate = settings.aims_at(), round(seen.rate)
        cuts = [seen.rows.get(row_name(n, one), NOTHING) for n, one in enumerate(aims)]
        longest = max((len(row) for row in cuts), default=0)
        rows = [row if len(row) == longest else np.zeros(longest) for row in cuts]
        whole = np.array(rows, np.float64).reshape(len(cuts), longest)
        bank = setup_of(settings.model_copy(update=GLIDING), rate)
        taken = bank.taken(whole, settings.mix).max(axis=1, initial=0.0).tolist()
        for name, region in REGIONS.items():
            if settings.mode == "free" and region.narrow:
                continue
            inside = [largest for one, largest in zip(aims, taken, strict=True) if region.holds(one)]
            if inside and max(inside) >= WORKING_DB:
                result.append(Fact(f"{name}_gr_db", f"{region.label}, GR max", max(inside), "dB"))
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
        cuts = trace[2:]
        reduction = bank.taken(cuts, self.settings.mix).max(axis=0, initial=0.0).astype(np.float32)
        self.telemetry = Telemetry(reduction, heard_db, rows={name: cuts[n] for n, name in enumerate(bank.rows)})
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
    """What the kernel is given; see `dsp.resonance.tame`. rows: names of the telemetry's rows; overlap: (bells, bells), of each
    decibel that a bell takes, what is taken in the middle of each."""

    bells: NDArray[np.float64]
    rows: list[str]
    own: NDArray[np.float64]
    sides: NDArray[np.float64]
    spans: NDArray[np.int64]
    averaging: NDArray[np.float64]
    overlap: NDArray[np.float64]

    def taken(self, cuts: NDArray[np.floating], mix: float) -> NDArray[np.float64]:
        """What is taken in the middle of each bell, in dB, where neighbours add up. cuts: (bells, times), of each alone."""
        left = 10.0 ** (-(self.overlap @ cuts) / 20.0)
        return np.asarray(-20.0 * np.log10(1.0 + mix * (left - 1.0)))


@lru_cache(64)
def setup_of(settings: TamerSettings, rate: int) -> Setup:
    aims, hz = settings.aims_at(), dsp.bands_hz(rate)
    bells = np.zeros((len(aims), dsp.BELL))
    own, sides = np.zeros((len(aims), len(hz))), np.zeros((2, len(aims), len(hz)))
    spans = np.zeros((len(aims), 2), np.int64)
    free = settings.mode == "free"
    for n, one in enumerate(aims):
        own[n], sides[:, n] = weights(one.frequency_hz, one.width_oct, settings.smoothing_oct, rate)
        bins = np.flatnonzero((own[n] > 0.0) | sides[:, n].any(axis=0))
        spans[n] = (bins[0], bins[-1] + 1) if len(bins) else (0, 0)
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
    places = np.array([one.frequency_hz for one in aims])
    # Of a bell that is half as deep as most get; a deeper one is a little narrower.
    overlap = np.array([
        bell_db(places, one.frequency_hz, width_to_q(one.width_oct), OVERLAP_DB) / OVERLAP_DB for one in aims
    ]).reshape(len(aims), len(aims)).T  # fmt: skip
    return Setup(bells, [row_name(n, one) for n, one in enumerate(aims)], own, sides, spans, averaging, overlap)


def middle_and_sides(x: Audio) -> Audio:
    half = np.float32(0.5)
    return np.stack((half * (x[0] + x[1]), half * (x[0] - x[1])))
