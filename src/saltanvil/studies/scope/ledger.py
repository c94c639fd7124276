"""What a scope did to the passage: figures before and after, gain reduction, and what its processor says of itself."""

from dataclasses import asdict, dataclass

from saltanvil.measure.figures import Figures
from saltanvil.measure.reduction import Reduction, reduction_of
from saltanvil.processors import Settings, processor_named
from saltanvil.processors.evidence import Evidence, Fact, Hint
from saltanvil.processors.split import SplitSettings
from saltanvil.session.blend import full_sum_db
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session
from saltanvil.session.settings import loudness_gain_db, resolve
from saltanvil.studies.match.slots import MAX_MATCH_DB, UNMEASURED
from saltanvil.studies.scope.hints import general_hints
from saltanvil.studies.scope.passage import MeasuredPassage


@dataclass(frozen=True)
class Ledger:
    before: Figures
    after: Figures
    reduction: Reduction | None
    matched_db: float
    matched_refused: str | None
    facts: list[Fact]
    hints: list[Hint]

    def as_dict(self) -> dict[str, object]:
        return asdict(self)


def ledger_of(
    whole: MeasuredPassage,
    session: Session,
    step: Step | None,
    key: str | None = None,
    silent: str | None = None,
    at_s: float | None = None,
) -> Ledger:
    """The ledger of a compared scope. matched_db is what brings *before* to the loudness of *after*; where that is refused, 0.

    key: the name of the outside key; silent: why the strip is silent, as far as the document says it; at_s: where
    settings that move are read.
    """
    seen = evidence_of(whole, session.rate_hz, key)
    settings = None if step is None else resolve(session, step, at_s=at_s)
    matched_db, refused = matched(whole)
    return Ledger(
        seen.figures_before,
        seen.figures_after,
        seen.reduction,
        matched_db,
        refused,
        [] if step is None or settings is None else facts_of(seen, step, settings),
        hints_of(seen, step, settings, silent),
    )


def evidence_of(whole: MeasuredPassage, rate: int, key: str | None = None) -> Evidence:
    """What was seen of a scope, for its processor's facts, hints and aims."""
    result = whole.result
    return Evidence(
        before=result.before, after=result.after, rate=rate, figures_before=whole.figures_before,
        figures_after=whole.figures_after,
        reduction=reduction_of(whole.reduction_db) if len(whole.reduction_db) else None, reduction_db=result.reduction_db,
        detector_db=result.detector_db, rows=result.rows, key=key, key_peak_db=result.key_peak_db,
    )  # fmt: skip


def matched(whole: MeasuredPassage) -> tuple[float, str | None]:
    """The gain that brings before to the loudness of after, or 0 and why they are not matched."""
    if whole.figures_before.integrated_lufs is None or whole.figures_after.integrated_lufs is None:
        return 0.0, UNMEASURED
    if abs(whole.louder_db) > MAX_MATCH_DB:
        return 0.0, f"before and after differ by {abs(whole.louder_db):.1f} LU: played unmatched"
    return whole.louder_db, None


def facts_of(seen: Evidence, step: Step, settings: Settings) -> list[Fact]:
    """What a step of this kind is judged by, over the passage."""
    facts = split_facts(step, settings) if isinstance(settings, SplitSettings) else []
    gain_db = loudness_gain_db(step)
    if gain_db is not None:
        facts.append(Fact("loudness_gain_db", "Loudness compensation", gain_db, "dB"))
    if not step.bypassed:
        facts.extend(processor_named(step.kind).facts(settings, seen))
    return facts


def split_facts(step: Step, settings: SplitSettings) -> list[Fact]:
    """What the sum of the lanes does by itself, and what holds it."""
    if settings.by != "copies":
        return []
    if not step.blended:
        return [Fact("full_sum_db", "Idle lanes sum to", full_sum_db(step, settings), "dB")]
    if settings.law == "steady" and step.match is not None and step.match.refused is None:
        return [Fact("match_found_db", "Match found", step.match.matched_db, "dB")]
    return []


def hints_of(seen: Evidence, step: Step | None, settings: Settings | None, silent: str | None) -> list[Hint]:
    """What holds for any scope, and then, where something sounds, what the step's processor says."""
    hints = general_hints(seen, step, settings, silent)
    if step is None or settings is None or step.bypassed or any(hint.name in ("silent", "filtered") for hint in hints):
        return hints
    kind = processor_named(step.kind)
    return hints if kind.reduces and seen.reduction is None else hints + kind.hints(settings, seen)
