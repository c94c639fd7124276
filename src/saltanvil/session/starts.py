"""Ready-made paths and splits: starting points of several steps, named for the task, to be dropped on any path."""

from dataclasses import dataclass
from typing import Any

from saltanvil.processors.split import BAND_STARTS
from saltanvil.session.document.path import Path
from saltanvil.session.edits.lanes import BAND_NAMES


@dataclass(frozen=True)
class PathStart:
    """Steps for a task, and what to listen for when they are then moved. words: others by which it is searched for."""

    name: str
    listen: str
    path: Path
    words: tuple[str, ...] = ()


def step(kind: str, **settings: Any) -> dict[str, Any]:
    return {"kind": kind, "settings": settings}


def lane(name: str, *steps: dict[str, Any], **more: Any) -> dict[str, Any]:
    return {"name": name, "path": {"steps": list(steps)}, **more}


def split(*lanes: dict[str, Any], **settings: Any) -> dict[str, Any]:
    return {"kind": "split", "settings": settings, "lanes": list(lanes)}


def bands(dividers: tuple[float, ...], *steps: dict[str, Any]) -> dict[str, Any]:
    """Every band with the step of its place, or with none."""
    names = BAND_NAMES[len(dividers) + 1]
    own = [[one] for one in steps] or [[]] * len(names)
    return split(*(lane(name, *steps) for name, steps in zip(names, own, strict=True)), by="bands", dividers_hz=dividers)


def compressor(threshold: float, attack: float, release: float, ratio: float = 3.0) -> dict[str, Any]:
    return step("compressor", threshold_db=threshold, attack_ms=attack, release_ms=release, ratio=ratio, detector="rms")


def starting(
    name: str, listen: str, *steps: dict[str, Any], levers: tuple[dict[str, Any], ...] = (), words: tuple[str, ...] = ()
) -> PathStart:
    return PathStart(name, listen, Path.model_validate({"steps": list(steps), "levers": list(levers)}), words)


def lever(name: str, *targets: tuple[str, str, float]) -> dict[str, Any]:
    """targets: a step by its name here, its setting, and how far the lever moves that."""
    moves = [{"of": "step", "id": step_id, "name": setting, "by": by} for step_id, setting, by in targets]
    return {"name": name, "targets": moves}


def high_pass(frequency: float, **more: Any) -> dict[str, Any]:
    return step("equaliser", band1_kind="high-pass", band1_frequency_hz=frequency, **more)


def glue(threshold: float) -> dict[str, Any]:
    """Bus glue: 1.5:1, slow attack, automatic release, a few decibels (common practice, no source)."""
    return step(
        "compressor", threshold_db=threshold, ratio=1.5, attack_ms=30.0, release_mode="automatic", knee_db=12.0, detector="rms"
    )


def stage(character: str, drive: float, **more: Any) -> dict[str, Any]:
    """A little colour whose drive is taken off again behind it."""
    return step(
        "saturator", character=character, drive_db=drive, output="not held", compensate_drive=True, oversampling="4x", **more
    )


def bus_limiter(gain: float = 0.0) -> dict[str, Any]:
    """One or two decibels at the loudest moments, and a warning where it takes more."""
    return step("limiter", gain_db=gain, ceiling_db=-1.0, release_ms=120.0, lookahead_ms=5.0, warn_above_db=2.0)


def sides_tone() -> dict[str, Any]:
    """Middle and sides each with an equaliser; the sides without lows."""
    return split(
        lane("Mid", step("equaliser")), lane("Side", high_pass(120.0, band4_kind="high shelf", band4_gain_db=1.0)), by="mid/side"
    )


#: Subsonics: a high-pass here costs no tone and wins headroom (common practice, no source).
SUBSONIC_HZ = 22.0
#: Weight below this, small speakers above 140 Hz (common practice, no source).
LOW_END_HZ = 77.0

PATH_STARTS = (
    starting(
        "two bands at 80 Hz",
        "Low end and the rest; listen to each alone before you treat it.",
        bands(BAND_STARTS[2]),
    ),
    starting(
        "three bands at 200 Hz and 2 kHz",
        "Body, middle, brightness; move a divider until a sound lies in one band.",
        bands(BAND_STARTS[3]),
    ),
    starting(
        "bands at 120 Hz, 500 Hz and 5 kHz",
        "Lows, warmth, presence, air; the sum of the untreated bands sounds like the input.",
        bands(BAND_STARTS[4]),
    ),
    starting(
        "four-band compressor",
        "Each band should move on its own words or notes; where one band always works, it is an equaliser.",
        bands(
            BAND_STARTS[4],
            compressor(-26.0, 30.0, 200.0),
            compressor(-28.0, 15.0, 140.0),
            compressor(-30.0, 8.0, 100.0),
            compressor(-36.0, 3.0, 60.0),
        ),
        words=("multiband", "multiband compressor"),
    ),
    starting(
        "low-end control",
        "The low end should stand still while the notes change. Make up the loudness with the lane's button.",
        bands((LOW_END_HZ,), compressor(-34.0, 20.0, 160.0, 4.0), step("trim")),
    ),
    starting(
        "parallel drums: 8:1 at the tempo",
        "Blend until ghost notes and room come forward; the hits should stay as sharp as they were.",
        split(
            lane("Untreated"),
            lane(
                "Treated",
                step(
                    "compressor", threshold_db=-36.0, ratio=8.0, attack_ms=10.0, release_mode="note", release_note="1/8",
                    lookahead_ms=20.0,  # the hits are met as they come, so that the match does not lift them
                ),
            ),
            by="copies", law="steady", position=0.0,
        ),
    ),
    starting(
        "clip the middle only",
        "The kick and the voice get rounder, the width stays untouched.",
        split(lane("Mid", step("clipper", ceiling_db=-6.0, hardness=0.6)), lane("Side"), by="mid/side"),
    ),
    starting(
        "sides without lows",
        "The bass should stand in the middle on headphones; in mono nothing changes.",
        split(
            lane("Mid"), lane("Side", step("equaliser", band1_kind="high-pass", band1_frequency_hz=120.0)), by="mid/side"
        ),
    ),
    starting(
        "colour, then compressor",
        "Loud notes get more harmonics, and the compressor evens out what they add: for a growl that follows the playing. "
        "Choose the colour and press R to compare the other order, matched.",
        step("saturator", character="tube", drive_db=9.0, balance=0.4),
        compressor(-26.0, 15.0, 140.0),
    ),
    starting(
        "compressor, then colour",
        "Soft and loud notes arrive alike and get the same colour, and the attacks that came through are rounded last: for an "
        "even tone. Choose the colour and press R to compare the other order, matched.",
        compressor(-26.0, 15.0, 140.0),
        step("saturator", character="tape", drive_db=6.0, balance=0.7, high_emphasis_db=-3.0),
    ),
    starting(
        "colour just before the limiter",
        "The curve rounds the peaks a little all the time, so that the limiter moves less; what it adds to the peaks the "
        "limiter still holds. If the limiter's GR does not fall by a decibel, the colour is not worth it here.",
        step("saturator", character="plain", drive_db=6.0, balance=1.0, output="not held", compensate_drive=True),
        step("limiter", ceiling_db=-1.0, gain_db=3.0),
    ),
    starting(
        "bass: harmonics before the compressor",
        "Harmonics come before the compressor, which holds each note and its harmonics together. Press Small speaker: the "
        "line should be readable; on the full range it should hardly be louder.",
        step("lowend", amount_db=-6.0, odd_share=0.6),
        compressor(-26.0, 20.0, 160.0),
    ),
    starting(
        "more drum room",
        "One lever brings the room between the hits forward: the compressor in parallel sinks deeper and lets go sooner, and its "
        "blend rises. Stop where the hits begin to lose their front.",
        {
            **split(
                lane("Untreated"),
                lane("Room", {**compressor(-24.0, 12.0, 220.0, 4.0), "id": "room-compressor"}),
                by="copies", law="steady", position=0.15,
            ),
            "id": "room-blend",
        },
        levers=(
            lever(
                "More room", ("room-compressor", "threshold_db", -16.0), ("room-compressor", "ratio", 2.0),
                ("room-compressor", "release_ms", 0.4), ("room-blend", "position", 0.5),
            ),
        ),
    ),
    starting(
        "voice forward",
        "One lever brings a voice nearer: presence up, mud down, and soft words raised to the loud ones. Stop before it speaks "
        "louder than the song.",
        {
            **step(
                "equaliser", band1_kind="high-pass", band1_frequency_hz=80.0, band2_frequency_hz=280.0, band2_gain_db=0.0,
                band3_frequency_hz=3200.0, band3_gain_db=0.0,
            ),
            "id": "voice-tone",
        },
        {**compressor(-20.0, 8.0, 120.0, 2.0), "id": "voice-compressor"},
        levers=(
            lever(
                "Forward", ("voice-tone", "band2_gain_db", -3.0), ("voice-tone", "band3_gain_db", 4.0),
                ("voice-compressor", "threshold_db", -8.0), ("voice-compressor", "ratio", 1.7),
                ("voice-compressor", "makeup_db", 4.0),
            ),
        ),
    ),
    starting(
        "main: finish and keep the contrast",
        "In this order: subsonics go first, so that nothing works on what nobody hears; glue holds the mix by a decibel or two; "
        "tone of middle and sides after it, so that it does not pull at the glue; tape rounds the peaks; the limiter takes the "
        "last decibel or two. Set a contrast to keep (Contrast view), and stop where the chorus loses against the verse.",
        high_pass(SUBSONIC_HZ), glue(-20.0), sides_tone(), stage("tape", 3.0, balance=0.8), bus_limiter(),
    ),
    starting(
        "main: tube, then glue",
        "Colour comes first here, and the glue holds what it adds: rounder and denser than the other way. Choose the saturator "
        "and press R to compare the orders, matched. The limiter stays last.",
        high_pass(SUBSONIC_HZ), stage("tube", 3.0, balance=0.4), glue(-20.0), bus_limiter(),
    ),
    starting(
        "main: spare the limiter",
        "A clipper shaves the shortest peaks, which nobody misses, before the limiter, which would hold everything down for "
        "them. Raise the limiter's input gain until it warns, then the clipper's drive until it stops warning.",
        high_pass(SUBSONIC_HZ), glue(-20.0),
        step("clipper", ceiling_db=-1.5, hardness=0.7, oversampling="8x"), bus_limiter(2.0),
    ),
    starting(
        "main: speech",
        "Rumble goes, soft and loud words come nearer to each other, and the limiter catches the shouts. Set the loudness target "
        "in the Deliver view, and the limiter's input gain by it.",
        high_pass(80.0), compressor(-26.0, 10.0, 150.0, 2.0), bus_limiter(6.0),
    ),
    starting(
        "middle and sides, each with its equaliser",
        "Move a band of the middle for voice and bass, a band of the sides for width and air. In mono only the middle is left.",
        sides_tone(),
    ),
    starting(
        "width by frequency",
        "Lows in the middle, the body nearly as it came, the top wider: it should open on headphones and lose nothing in mono "
        "(check with the mono monitor). Take the top back if a cymbal loses its place.",
        split(
            lane("Low", step("stereo", width=0.0)), lane("Low mid", step("stereo", width=0.9)),
            lane("High mid", step("stereo", width=1.1)), lane("High", step("stereo", width=1.3)),
            by="bands", dividers_hz=BAND_STARTS[4],
        ),
    ),
)  # fmt: skip
