"""What was measured that a mixing engineer would want to be told, and where to change it."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.gate import SHUT
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.scope import Compared
from saltanvil.measure.distortion import coloured_db
from saltanvil.measure.figures import Figures, match_db
from saltanvil.measure.reduction import WORKING_DB, Reduction
from saltanvil.session.document import Step

#: A colour further below its sound is not worth its name.
UNHEARD_DB = -60.0


@dataclass(frozen=True)
class Hint:
    """A measured fact, why it matters, and the setting to change."""

    name: str
    text: str
    setting: str | None


def why_silent(split: Step) -> str:
    """Why a split that sound enters lets none out."""
    if all(lane.output is not None for lane in split.lanes):
        return "All lanes go to buses of their own: nothing is left for the sum. Listen to the buses, or send a lane back."
    if all(lane.mute or lane.output is not None for lane in split.lanes):
        return "Every lane that goes to the sum is muted."
    return "Nothing leaves this split: the lanes are muted, turned down or shut, or they cancel each other."


def hints_of(
    found: Compared,
    before: Figures,
    after: Figures,
    reduction: Reduction | None,
    rate: int,
    step: Step | None,
    key: str | None,
    silent: str | None,
) -> list[Hint]:
    hints = []
    if after.sample_peak_dbfs > 0.0:
        hints.append(
            Hint(
                "over",
                f"Peaks leave at {after.sample_peak_dbfs:+.1f} dBFS. Nothing clips in here, but a file of whole numbers would: "
                "take the level down.",
                None,
            )
        )
    if step is not None and step.match is not None and step.match.refused is not None:
        what, where = ("blend is not matched", "law") if step.lanes else ("loudness is held by a guess", "output")
        hints.append(Hint("unmatched", f"The {what}. {step.match.refused}", where))
    if step is not None and step.lanes and after.sample_peak_dbfs <= -120.0 < before.sample_peak_dbfs:
        hints.append(Hint("silent lanes", why_silent(step), None))
    if before.sample_peak_dbfs <= -120.0:
        hints.append(
            Hint(
                "silent",
                f"Nothing sounds here in this passage. {silent or 'Choose another passage, or look for a mute further up.'}",
                None,
            )
        )
        return hints
    if silent is not None:
        hints.append(Hint("unheard", f"Nothing of this strip is heard. {silent}", None))
    if step is not None and step.kind == "lowend":
        return hints + lowend_hints(found, rate, step.settings.model_dump())
    if reduction is None or step is None:
        return hints
    settings = step.settings.model_dump()
    filtered = filtered_out(found, settings, key)
    if filtered is not None:
        return [*hints, filtered]
    own = {
        "gate": door_hints, "expander": door_hints, "limiter": limiter_hints, "deesser": deesser_hints,
        "ducker": ducker_hints, "saturator": saturator_hints,
    }  # fmt: skip
    if step.kind in own:
        return hints + own[step.kind](found, reduction, rate, settings, key)
    if step.kind != "compressor":
        return hints
    if reduction.largest_db < WORKING_DB and settings["ratio"] > 1.0:
        loudest = float(found.detector_db.max(initial=-160.0))
        hints.append(
            Hint(
                "idle",
                f"{heard(key)} {loudest:.1f} dB at most, and the threshold is at {settings['threshold_db']:.1f} dB: "
                "nothing is taken.",
                "threshold_db",
            )
        )
        return hints
    if reduction.share > 0.95:
        least = float(np.percentile(found.reduction_db, 2))
        if least > 1.0:
            hints.append(
                Hint(
                    "always",
                    f"Gain stays at least {least:.1f} dB down almost all the time: part of this is only a lower level. "
                    "A shorter release or a higher threshold lets it come back.",
                    "release_ms",
                )
            )
    unreleased = hits_not_released(found, rate)
    if unreleased is not None:
        late, total, down = unreleased
        hints.append(
            Hint(
                "release",
                f"The gain is still {down:.1f} dB down when the next hit arrives ({late} of {total}). "
                "A shorter release would let go in time.",
                "release_ms",
            )
        )
    lost = before.crest_db - after.crest_db
    if lost > 8.0:
        hints.append(
            Hint(
                "crest",
                f"Crest fell by {lost:.1f} dB: hits hardly stand out now. A longer attack or attack return gives them back.",
                "attack_return_db",
            )
        )
    return hints


def saturator_hints(found: Compared, reduction: Reduction, rate: int, settings: dict[str, Any], key: str | None) -> list[Hint]:
    """A colour that is not there, and one that may please for being louder."""
    added = coloured_db(found.before, found.after)
    if added < UNHEARD_DB:
        text = f"What it adds lies {-added:.0f} dB below the sound: nobody hears that. More drive makes more of it."
        return [Hint("idle", text, "drive_db")]
    louder = match_db(found.before, found.after, rate)
    if louder > 1.0:
        text = f"It leaves {louder:.1f} LU louder, and louder is not better: hold the output, or press M before you judge."
        return [Hint("louder", text, "output")]
    return []


def lowend_hints(found: Compared, rate: int, settings: dict[str, Any]) -> list[Hint]:
    """Harmonics of nothing, or of what a small speaker plays anyhow."""
    if coloured_db(found.before, found.after) < UNHEARD_DB:
        band = f"{settings['low_hz']:.0f} to {settings['high_hz']:.0f} Hz"
        text = f"Hardly anything sounds within {band}, or the filter keeps nothing of its harmonics: nothing is added."
        return [Hint("idle", text, "high_hz")]
    return []


#: A filter that takes more than this of the key's peak is worth a word where the rest does nothing.
FILTERED_DB = 12.0


def heard(key: str | None) -> str:
    return "The detector hears" if key is None else f"The key, {key}, reaches"


def filtered_out(found: Compared, settings: dict[str, Any], key: str | None) -> Hint | None:
    """A threshold that is never reached because the key filter lies where the source has nothing."""
    threshold = settings.get("threshold_db")
    if threshold is None or found.key_peak_db is None or settings.get("key_filter", "off") == "off":
        return None
    loudest = float(found.detector_db.max(initial=-160.0))
    if loudest >= threshold or found.key_peak_db < threshold or found.key_peak_db - loudest < FILTERED_DB:
        return None
    text = (
        f"{heard(key)} {loudest:.1f} dBFS at most behind its filter ({found.key_peak_db:.1f} without it), the threshold is at "
        f"{threshold:.1f} dB: it never gets there. Move the filter to where the source sounds, or the threshold down."
    )
    return Hint("filtered", text, "threshold_db")


def ducker_hints(found: Compared, reduction: Reduction, rate: int, settings: dict[str, Any], key: str | None) -> list[Hint]:
    """What goes wrong with a ducker: no key, never down, always down."""
    if key is None:
        text = "It hears its own sound, so it pushes itself down. Choose the sound that is to push: its key."
        return [Hint("no key", text, "key")]
    loudest, threshold = float(found.detector_db.max(initial=-160.0)), settings["threshold_db"]
    if loudest < threshold:
        text = f"{heard(key)} {loudest:.1f} dB at most, and the threshold is at {threshold:.1f} dB: nothing is pushed down."
        return [Hint("idle", text, "threshold_db")]
    if settings["depth_db"] > WORKING_DB and reduction.share > 0.98:
        text = (
            f"It is down {100 * reduction.share:.0f} % of the time: that is a lower level and no room for the key. "
            "A higher threshold or a shorter hold lets it come back in the pauses."
        )
        return [Hint("always", text, "threshold_db")]
    return []


def door_hints(found: Compared, reduction: Reduction, rate: int, settings: dict[str, Any], key: str | None) -> list[Hint]:
    """What goes wrong with a gate or an expander: it never opens, never shuts, opens too late, or chatters."""
    hints = []
    loudest = float(found.detector_db.max(initial=-160.0))
    threshold, door = settings["threshold_db"], found.rows["door"]
    if loudest < threshold:
        text = f"{heard(key)} {loudest:.1f} dB at most, and the threshold is at {threshold:.1f} dB: it never opens."
        return [Hint("shut", text, "threshold_db")]
    if float((door == SHUT).mean()) == 0.0 and reduction.largest_db < WORKING_DB:
        text = "It stays open all through the passage: nothing is taken. A higher threshold or a shorter hold lets it shut."
        return [Hint("open", text, "threshold_db")]
    lost = hits_begun_late(found, rate)
    if lost is not None:
        late, total, down = lost
        text = (
            f"It opens too late: {late} of {total} hits lose {down:.1f} dB of the peak in their first 10 ms. "
            "A shorter attack, or lookahead, keeps the start of the hit."
        )
        hints.append(Hint("late", text, "attack_ms"))
    openings = float(found.rows["openings"].sum()) * rate / found.before.shape[1]
    quick = quick_reopenings(found, rate)
    if quick > 0.3:
        text = (
            f"It chatters: {openings:.0f} openings a second, {100 * quick:.0f} % of them within 30 ms of the last. "
            "One or two milliseconds of hold, or more hysteresis, takes the ticks off."
        )
        hints.append(Hint("chatter", text, "hold_ms"))
    return hints


def quick_reopenings(found: Compared, rate: int) -> float:
    """Share of the openings that come within 30 ms of the one before; 0 for fewer than eight."""
    opened = np.repeat(np.arange(len(found.rows["openings"])), found.rows["openings"].astype(int))
    if len(opened) < 8:
        return 0.0
    return float((np.diff(opened) * TICK_FRAMES < 0.03 * rate).mean())


def limiter_hints(found: Compared, reduction: Reduction, rate: int, settings: dict[str, Any], key: str | None) -> list[Hint]:
    beyond = float((found.reduction_db > settings["mark_db"]).mean())
    if beyond == 0.0:
        return []
    text = (
        f"It takes up to {reduction.largest_db:.1f} dB, beyond your mark of {settings['mark_db']:g} dB "
        f"for {100 * beyond:.1f} % of the time. Less input gain, or a clipper before it, would spare it."
    )
    return [Hint("beyond", text, "gain_db")]


def deesser_hints(found: Compared, reduction: Reduction, rate: int, settings: dict[str, Any], key: str | None) -> list[Hint]:
    if reduction.largest_db < WORKING_DB:
        loudest = float(found.detector_db.max(initial=-160.0))
        what = "stands at" if settings["against"] == "level" else "comes up to"
        threshold = settings["threshold_db"]
        text = f"The band {what} {loudest:.1f} dB at most, and the threshold is at {threshold:.1f} dB: nothing is taken."
        return [Hint("idle", text, "threshold_db")]
    if reduction.share > 0.5:
        text = (
            f"It works for {100 * reduction.share:.0f} % of the time: that is a duller tone and no longer sibilants. "
            "A higher threshold or a higher frequency leaves the vowels alone."
        )
        return [Hint("always", text, "threshold_db")]
    return []


def hits_begun_late(found: Compared, rate: int) -> tuple[int, int, float] | None:
    """(hits whose first 10 ms lose over 3 dB of peak, all hits, median loss of those), if that is most of at least 4.

    Hits that the step shuts out from end to end are not counted.
    """
    lost, total = [], 0
    first, rest = round(0.01 * rate), round(0.05 * rate)
    for tick in hits_of(found.before, rate):
        # The rise was seen over 20 ms; the hit begins where the sound first comes near what it rises to.
        rising = np.abs(found.before[:, tick * TICK_FRAMES : tick * TICK_FRAMES + 3 * first]).max(axis=0)
        at = tick * TICK_FRAMES + int((rising > 0.25 * rising.max()).argmax())
        before, after = found.before[:, at : at + rest], found.after[:, at : at + rest]
        if before.shape[1] < rest or np.abs(after).max() < 0.1 * np.abs(before).max():
            continue
        total += 1
        loss = 20.0 * np.log10(np.abs(before[:, :first]).max() / max(float(np.abs(after[:, :first]).max()), 1e-6))
        if loss > 3.0:
            lost.append(float(loss))
    if total < 4 or len(lost) * 2 < total:
        return None
    return len(lost), total, float(np.median(lost))


def hits_not_released(found: Compared, rate: int) -> tuple[int, int, float] | None:
    """(hits met with over 1 dB of reduction, all hits, median reduction then), if that is most of at least 4 hits."""
    ticks = min(len(found.reduction_db), found.before.shape[1] // TICK_FRAMES)
    hits = [at for at in hits_of(found.before, rate) if at < ticks]
    met = [float(found.reduction_db[at]) for at in hits if found.reduction_db[at] > 1.0]
    if len(hits) < 4 or len(met) * 2 < len(hits):
        return None
    return len(met), len(hits), float(np.median(met))


def hits_of(x: NDArray[np.float32], rate: int) -> list[int]:
    """The ticks at which hits begin: a rise of the peak level by 9 dB within 20 ms, at least 80 ms after the last."""
    ticks = x.shape[1] // TICK_FRAMES
    if ticks < 16:
        return []
    peaks = np.abs(x[:, : ticks * TICK_FRAMES]).reshape(x.shape[0], ticks, TICK_FRAMES).max(axis=(0, 2))
    level = 20.0 * np.log10(np.maximum(peaks, 1e-6))
    span = max(1, round(0.02 * rate / TICK_FRAMES))
    rise = level[span:] - level[:-span]
    gap = round(0.08 * rate / TICK_FRAMES)
    hits: list[int] = []
    for at in np.flatnonzero((rise > 9.0) & (level[span:] > level.max() - 24.0)):
        if not hits or at - hits[-1] > gap:
            hits.append(int(at))
    return hits
