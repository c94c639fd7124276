"""What was measured of any scope that a mixing engineer would want to be told; what belongs to one kind of step stands in
its processor's file."""

from saltanvil.processors import Settings
from saltanvil.processors.evidence import Evidence, Hint
from saltanvil.session.document.path import Step

SILENT_DBFS = -120.0
#: A filter that takes more than this of the key's peak is worth a word where the rest does nothing.
FILTERED_DB = 12.0


def why_silent(split: Step) -> str:
    """Why a split that sound enters lets none out."""
    if all(lane.output is not None for lane in split.lanes):
        return "All lanes go to buses of their own: nothing is left for the sum. Listen to the buses, or send a lane back."
    if all(lane.mute or lane.output is not None for lane in split.lanes):
        return "Every lane that goes to the sum is muted."
    return "Nothing leaves this split: the lanes are muted, turned down or shut, or they cancel each other."


def general_hints(seen: Evidence, step: Step | None, settings: Settings | None, silent: str | None) -> list[Hint]:
    """silent: why the strip is silent, as far as the document says it."""
    hints = []
    before, after = seen.figures_before.sample_peak_dbfs, seen.figures_after.sample_peak_dbfs
    if after > 0.0:
        text = f"Peaks leave at {after:+.1f} dBFS. Nothing clips in here, but a file of whole numbers would: take the level down."
        hints.append(Hint("over", text, None))
    if step is not None and step.match is not None and step.match.refused is not None:
        what, where = ("blend is not matched", "law") if step.lanes else ("loudness compensation is a guess", "output")
        hints.append(Hint("unmatched", f"The {what}. {step.match.refused}", where))
    if step is not None and step.lanes and after <= SILENT_DBFS < before:
        hints.append(Hint("silent lanes", why_silent(step), None))
    if before <= SILENT_DBFS:
        text = f"Nothing sounds here in this passage. {silent or 'Choose another passage, or look for a mute further up.'}"
        return [*hints, Hint("silent", text, None)]
    if silent is not None:
        hints.append(Hint("unheard", f"This strip is silent. {silent}", None))
    filtered = None if settings is None or seen.reduction is None else filtered_out(seen, settings)
    return hints if filtered is None else [*hints, filtered]


def filtered_out(seen: Evidence, settings: Settings) -> Hint | None:
    """The threshold is never reached: the key filter passes a range where the source has no sound."""
    threshold = getattr(settings, "threshold_db", None)
    if threshold is None or seen.key_peak_db is None or getattr(settings, "key_filter", "off") == "off":
        return None
    loudest = seen.loudest_db
    if loudest >= threshold or seen.key_peak_db < threshold or seen.key_peak_db - loudest < FILTERED_DB:
        return None
    text = (
        f"{seen.heard} {loudest:.1f} dBFS at most behind its filter ({seen.key_peak_db:.1f} without it), the threshold is at "
        f"{threshold:.1f} dB: it never gets there. Move the filter to where the source sounds, or the threshold down."
    )
    return Hint("filtered", text, "threshold_db")
