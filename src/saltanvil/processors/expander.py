"""The expander."""

from typing import Any, ClassVar

from saltanvil.processors.aims import gr_aims
from saltanvil.processors.base import Start
from saltanvil.processors.descriptor import rule
from saltanvil.processors.gate import GATING_AIMS, GatingProcessor, GatingSettings


class ExpanderSettings(GatingSettings):
    threshold_db: float = rule(
        -36.0, "Threshold", "dB", -90.0, 0.0, "Curve", "Level at the detector below which gain falls.", ticks=(-72, -48, -24)
    )
    range_db: float = rule(
        20.0, "Range", "dB", 0.0, 90.0, "Curve",
        "The largest gain reduction. At 90 dB there is no limit, and sound far below the threshold is silenced.",
        ticks=(0, 20, 40, 60, 80),
    )  # fmt: skip
    ratio: float = rule(
        2.0, "Ratio", ":1", 1.0, 20.0, "Curve", "Decibels out for each decibel below the threshold. 1:1 changes nothing.",
        scale="log", ticks=(1, 2, 4, 10, 20),
    )  # fmt: skip
    attack_ms: float = rule(
        2.0, "Attack", "ms", 0.02, 100.0, "Timing", "Time to cover 63 % of the way up. Too long swallows the start of a hit.",
        scale="log", ticks=(0.1, 1, 10, 100),
    )  # fmt: skip

    def slope(self) -> float:
        return self.ratio - 1.0

    def floor_db(self) -> float:
        return -self.range_db if self.ratio > 1.0 else 0.0


STARTS = (
    Start(
        "voice: breaths down",
        "Breaths should remain, about half as loud; word endings must not be cut.",
        {
            "threshold_db": -34.0,
            "ratio": 2.0,
            "range_db": 8.0,
            "attack_ms": 2.0,
            "release_ms": 80.0,
            "lookahead_ms": 5.0,
            "detector": "rms",
            "rms_ms": 20.0,
        },
    ),
    Start(
        "overheads: less bleed between hits",
        "The space should get drier and the cymbals still ring out to their end.",
        {"threshold_db": -24.0, "ratio": 1.8, "range_db": 10.0, "attack_ms": 0.5, "release_ms": 120.0, "detector": "rms"},
    ),
    Start(
        "snare: more contrast to ghost notes",
        "Ghost notes should step back without vanishing; if they tick, lengthen hold.",
        {"threshold_db": -14.0, "ratio": 2.0, "range_db": 9.0, "attack_ms": 0.3, "hold_ms": 30.0, "release_ms": 90.0},
    ),
    Start(
        "mix: restore contrast",
        "Quiet parts should be quiet again; nothing should seem to be turned down while it sounds.",
        {
            "threshold_db": -15.0,
            "ratio": 1.4,
            "range_db": 6.0,
            "attack_ms": 5.0,
            "release_ms": 250.0,
            "detector": "rms",
            "rms_ms": 50.0,
        },
    ),
    Start(
        "speech: room noise down",
        "The room should sink evenly in the pauses; if it flutters, raise hysteresis or hold.",
        {
            "threshold_db": -40.0,
            "ratio": 2.5,
            "range_db": 18.0,
            "attack_ms": 3.0,
            "hold_ms": 120.0,
            "release_ms": 200.0,
            "detector": "rms",
            "lookahead_ms": 5.0,
        },
    ),
    Start(
        "guitar: tighter stops",
        "Stops should be short and dark; sustained chords must not change.",
        {"threshold_db": -32.0, "ratio": 3.0, "range_db": 24.0, "attack_ms": 0.5, "hold_ms": 20.0, "release_ms": 80.0},
    ),
)


class Expander(GatingProcessor):
    """Makes what is below a threshold softer by a ratio: the gate's gentler sibling.

        in --+--> lookahead -----------------------------------------------------(x)--> out
             |                                                                    ^
        key--+--> key filter --> peak or RMS --> link --> gate state, curve --> attack, release

    Below the threshold each decibel less comes out as `ratio` decibels less, down to the range. Once open it stays
    open down to the hysteresis and for the hold.

    >>> from saltanvil.processors.base import Context
    >>> import numpy as np
    >>> Expander(ExpanderSettings(ratio=1.0), 1, Context()).process(np.full((1, 3), 0.25, np.float32))
    array([[0.25, 0.25, 0.25]], dtype=float32)
    """

    kind = "expander"
    label = "Expander"
    about = (
        "Use it where a gate would be too hard: bleed, breath and noise get softer but do not vanish. The ratio and the "
        "range say how far down they go."
    )
    aliases = ("downward expansion", "noise", "dynamics")
    settings_model: ClassVar[Any] = ExpanderSettings
    main = ("threshold_db", "ratio", "range_db", "attack_ms", "release_ms")
    starts = STARTS
    aims = (*GATING_AIMS, *gr_aims("ratio", "range_db", target=12.0)[:1])
