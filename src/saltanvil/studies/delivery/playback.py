"""Loudness target: what a player that brings everything to one loudness does to a master, and what more limiting bought."""

from collections.abc import Sequence
from dataclasses import dataclass

from pydantic import BaseModel

from saltanvil.measure.figures import Figures, FiguresMeter
from saltanvil.media.recording import Recording
from saltanvil.session.document.session import Section

#: Players turn up no further than to this true peak (EBU R 128 asks for it; others do alike: common practice, no source).
PLAYED_DBTP = -1.0
#: Changes that nobody hears.
SAME_DB = 0.1
#: Crest lost to limiting from which on it is said.
LOST_CREST_DB = 0.3


class LoudnessTarget(BaseModel):
    """A loudness that is asked for, by whom."""

    name: str
    loudness_lufs: float
    true_peak_dbtp: float
    help: str


#: EBU R 128; the others are common practice, no source.
TARGETS = (
    LoudnessTarget(
        name="EBU R 128", loudness_lufs=-23.0, true_peak_dbtp=-1.0, help="Programmes for broadcasting: -23 LUFS, at most -1 dBTP."
    ),
    LoudnessTarget(name="Music streaming", loudness_lufs=-14.0, true_peak_dbtp=-1.0, help="What music services play at, about."),
    LoudnessTarget(name="Speech, stereo", loudness_lufs=-16.0, true_peak_dbtp=-1.0, help="Spoken programmes in stereo, about."),
    LoudnessTarget(name="Speech, mono", loudness_lufs=-19.0, true_peak_dbtp=-1.0, help="Spoken programmes in mono, about."),
)


class PlayedSection(BaseModel):
    """A section of the master. played_lufs: at the target."""

    name: str
    integrated_lufs: float | None
    played_lufs: float | None
    true_peak_dbtp: float
    crest_db: float


class Playback(BaseModel):
    """gain_db: what the player does, and played_lufs where that brings it; contrast_lu: from the quietest to the loudest section,
    which no player changes. spared_db, spared_crest_db: so much less input gain in the last limiter would play as loud, and with
    this crest instead of the master's."""

    target_lufs: float
    gain_db: float | None
    played_lufs: float | None
    text: str
    sections: list[PlayedSection]
    contrast_lu: float | None
    spared_db: float | None = None
    spared_crest_db: float | None = None
    hint: str | None = None


@dataclass(frozen=True)
class Spared:
    """The master with less input gain in its last limiter: by how much, and its figures."""

    by_db: float
    figures: Figures


def gain_to(target_lufs: float, figures: Figures) -> float | None:
    """What a player does; it never turns up into its own ceiling."""
    if figures.integrated_lufs is None:
        return None
    gain = target_lufs - figures.integrated_lufs
    return gain if gain <= 0.0 else min(gain, max(PLAYED_DBTP - figures.true_peak_dbtp, 0.0))


def sections_of(master: Recording, start: int, sections: Sequence[Section]) -> list[tuple[Section, Figures]]:
    """Figures of the sections that the master, which begins at frame `start` of the session, holds whole or in part."""
    rate = master.rate
    result = []
    for section in sorted(sections, key=lambda one: one.start_s):
        first = max(round(section.start_s * rate) - start, 0)
        last = min(round(section.end_s * rate) - start, master.frames)
        if last <= first:
            continue
        meter = FiguresMeter(master.channels, rate)
        for at in range(first, last, 1 << 16):
            meter.add(master.read(at, min(1 << 16, last - at)))
        result.append((section, meter.figures()))
    return result


def playback_of(
    target_lufs: float, figures: Figures, sections: Sequence[tuple[str, Figures]], spared: Spared | None = None
) -> Playback:
    """The statement. spared: where the player turns down and a limiter works."""
    gain = gain_to(target_lufs, figures)
    loud = [figures.integrated_lufs for _, figures in sections if figures.integrated_lufs is not None]
    played = [
        PlayedSection(
            name=name, integrated_lufs=figures.integrated_lufs,
            played_lufs=None if gain is None or figures.integrated_lufs is None else figures.integrated_lufs + gain,
            true_peak_dbtp=figures.true_peak_dbtp, crest_db=figures.crest_db,
        )
        for name, figures in sections
    ]  # fmt: skip
    result = Playback(
        target_lufs=target_lufs, gain_db=gain,
        played_lufs=None if gain is None or figures.integrated_lufs is None else figures.integrated_lufs + gain,
        text=statement(target_lufs, figures, gain), sections=played,
        contrast_lu=max(loud) - min(loud) if len(loud) > 1 else None,
    )  # fmt: skip
    if spared is not None and gain is not None and gain < -SAME_DB:
        result.spared_db, result.spared_crest_db = spared.by_db, spared.figures.crest_db
        lost = spared.figures.crest_db - figures.crest_db
        now = f"Turned down by {-gain:.1f} dB. With {spared.by_db:.1f} dB less input gain in the limiter it would play as loud"
        if lost >= LOST_CREST_DB:
            result.hint = (
                f"{now}, with a crest of {spared.figures.crest_db:.1f} dB instead of {figures.crest_db:.1f}: the extra limiting "
                "bought nothing."
            )
        else:
            result.hint = f"{now} and with the same crest: the limiter hardly works, so nothing is lost either."
    return result


def statement(target_lufs: float, figures: Figures, gain: float | None) -> str:
    if gain is None or figures.integrated_lufs is None:
        return "It is silent or too short: its loudness cannot be measured."
    if abs(target_lufs - figures.integrated_lufs) < SAME_DB:
        return f"At {target_lufs:g} LUFS it plays as it is."
    if gain < 0.0:
        return f"At {target_lufs:g} LUFS it is turned down by {-gain:.1f} dB."
    if gain < target_lufs - figures.integrated_lufs - SAME_DB:
        return (
            f"At {target_lufs:g} LUFS it is turned up by {gain:.1f} dB and plays at {figures.integrated_lufs + gain:.1f}: more "
            f"would lift its true peak above {PLAYED_DBTP:g} dBTP."
        )
    return f"At {target_lufs:g} LUFS it is turned up by {gain:.1f} dB."
