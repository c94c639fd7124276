"""Settings of the resonance tamer."""

import math
from typing import Literal

from saltanvil.measure.resonances import HIGHEST_HZ, LOWEST_HZ, MAX_RESONANCES, Resonance
from saltanvil.processors.base import Settings
from saltanvil.processors.descriptor import choice, described, rule
from saltanvil.processors.resonance_reading import free_resonances

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
        analysed=True,
    )  # fmt: skip
    studied: str = described(
        "", "text", "Studied", "", "Resonances", "The passage that the resonances were found in.", max_length=200,
        when={"mode": ["found"]}, analysed=True,
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
