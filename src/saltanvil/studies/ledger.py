"""What a scope did to the passage: figures before and after, gain reduction, and what its kind is judged by."""

from dataclasses import asdict, dataclass

from saltanvil.dsp.gate import HOLDING
from saltanvil.engine.scope import Compared
from saltanvil.measure import speaker
from saltanvil.measure.distortion import coloured_db
from saltanvil.measure.figures import Figures, figures_of, match_db
from saltanvil.measure.reduction import Reduction, reduction_of
from saltanvil.session.blend import full_sum_db
from saltanvil.session.document import Step
from saltanvil.studies.hints import Hint, hints_of


@dataclass(frozen=True)
class Fact:
    """A figure that only this kind of step has."""

    name: str
    label: str
    value: float
    unit: str


@dataclass(frozen=True)
class Ledger:
    before: Figures
    after: Figures
    reduction: Reduction | None
    matched_db: float
    facts: list[Fact]
    hints: list[Hint]

    def as_dict(self) -> dict[str, object]:
        return asdict(self)


def ledger_of(found: Compared, rate: int, step: Step | None, key: str | None = None, silent: str | None = None) -> Ledger:
    """The ledger of a compared scope. matched_db is what brings *before* to the loudness of *after*.

    key: the name of the outside key; silent: why nothing of the strip is heard, as far as the document says it.
    """
    before, after = figures_of(found.before, rate), figures_of(found.after, rate)
    reduction = reduction_of(found.reduction_db) if len(found.reduction_db) else None
    return Ledger(
        before,
        after,
        reduction,
        match_db(found.before, found.after, rate),
        facts_of(found, before, after, rate, step),
        hints_of(found, before, after, reduction, rate, step, key, silent),
    )


def facts_of(found: Compared, before: Figures, after: Figures, rate: int, step: Step | None) -> list[Fact]:
    """What a step of this kind is judged by, over the passage."""
    rows = found.rows
    facts: list[Fact] = []
    if step is None:
        return facts
    if step.lanes:
        facts.extend(split_facts(step))
    if step.loudness_gain_db is not None:
        facts.append(Fact("held_db", "Loudness held by", step.loudness_gain_db, "dB"))
    if step.kind in ("saturator", "lowend"):
        facts.append(Fact("coloured_db", "Colour re sound", coloured_db(found.before, found.after), "dB"))
    if step.kind == "lowend":
        facts.append(Fact("small_louder_lu", "On a small speaker", speaker.louder_lu(found.before, found.after, rate), "LU"))
        facts.append(Fact("full_louder_lu", "On the full range", match_db(found.before, found.after, rate), "LU"))
    if "openings" in rows:
        seconds = found.before.shape[1] / rate
        facts.append(Fact("openings", "Openings", float(rows["openings"].sum()) / seconds, "a second"))
        facts.append(Fact("open_share", "Open or held", 100.0 * float((rows["door"] >= HOLDING).mean()), "%"))
    if "clipped" in rows:
        facts.append(Fact("peaks_down_db", "Peaks down by", before.sample_peak_dbfs - after.sample_peak_dbfs, "dB"))
        if before.integrated_lufs is not None and after.integrated_lufs is not None:
            moved = after.integrated_lufs - before.integrated_lufs
            facts.append(Fact("loudness_moved_lu", "Loudness moved by", moved, "LU"))
        clipped = float(rows["clipped"].sum())
        facts.append(Fact("samples_clipped", "Samples clipped", clipped, ""))
        facts.append(Fact("clipped_share", "Share of samples", 100.0 * clipped / found.before.size, "%"))
    if "hits" in rows and step.settings.model_dump().get("by") == "hits":
        facts.append(Fact("hits", "Hits of the key", float(rows["hits"].sum()), ""))
    if "dip" in rows:
        facts.append(Fact("down_share", "Pushed down", 100.0 * float((rows["dip"] > 0.01).mean()), "% of the time"))
    mark_db = step.settings.model_dump().get("mark_db")
    if mark_db is not None and len(found.reduction_db):
        share = float((found.reduction_db > mark_db).mean())
        facts.append(Fact("beyond_mark", f"Beyond {mark_db:g} dB", 100.0 * share, "% of the time"))
    return facts


def split_facts(step: Step) -> list[Fact]:
    """What the sum of the lanes does by itself, and what holds it."""
    if step.split is None or step.split.by != "copies":
        return []
    if not step.blended:
        return [Fact("full_sum_db", "Idle lanes sum to", full_sum_db(step), "dB")]
    if step.split.law == "steady" and step.match is not None and step.match.refused is None:
        return [Fact("match_found_db", "Match found", step.match.matched_db, "dB")]
    return []
