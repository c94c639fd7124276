"""Blind comparison: which of two to four versions is preferred, or whether two can be told apart at all.

    prefer   the candidates are X, Y, Z, W in an order drawn anew each round; the listener names the one preferred
    hear     X is drawn each round from the two candidates; the listener says which of them it is

What is drawn stays here until the comparison ends.
"""

import csv
import io
import math
import random
from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Literal

from pydantic import BaseModel, Field

from saltanvil.engine.media import Media
from saltanvil.measure.loudness import integrated_lufs
from saltanvil.media.table import guarded
from saltanvil.processors import processor_named
from saltanvil.session.address import Moved
from saltanvil.session.apply import apply
from saltanvil.session.document.path import SlotNumber, Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.edits.envelopes import by_hand
from saltanvil.session.edits.steps import MoveStep
from saltanvil.session.slots import SlotOwner, owner_of, slots_of, strip_of
from saltanvil.studies.match.match import strip_energies, with_current_matches
from saltanvil.studies.match.slots import match_gain, with_slot

Mode = Literal["prefer", "hear"]
LETTERS = ("X", "Y", "Z", "W")
#: In *hear*, the unknown one and the two known ones.
UNKNOWN, FIRST, SECOND = "X", "1", "2"
MAX_ROUNDS = 50
Draw = random.Random


class Candidate(BaseModel):
    """A version to be compared. slot: of a *slot*; *swapped*: the step and its neighbour in the other order."""

    what: Literal["before", "after", "slot", "swapped"]
    slot: SlotNumber | None = None


class Round(BaseModel):
    """What stood behind the letters, as numbers of candidates, and which candidate was named."""

    order: list[int]
    chosen: int


class BlindResult(BaseModel):
    """made_at: seconds since 1970. counts: how often each candidate was preferred, or X was taken for it.

    right, p: of *hear*: how often the answer was right, and how likely as many or more right answers are by guessing.
    unmatched: why candidates were not equally loud, if any was not.
    """

    made_at: float = 0.0
    mode: Mode
    of: str
    passage: str
    start_s: float
    end_s: float
    candidates: list[str]
    planned: int
    rounds: list[Round]
    counts: list[int]
    right: int | None = None
    p: float | None = None
    unmatched: list[str] = Field(default_factory=list)
    verdict: str = ""


@dataclass
class Comparison:
    """A comparison under way: what is drawn, and what was answered so far. draw: the source of chance."""

    mode: Mode
    candidates: int
    planned: int
    draw: Draw = field(default_factory=random.SystemRandom)
    rounds: list[Round] = field(default_factory=list)
    _order: list[int] = field(default_factory=list)

    def __post_init__(self) -> None:
        if self.mode == "hear" and self.candidates != 2:
            raise EditRefused("hearing a difference takes exactly two candidates; choose two")
        if not 2 <= self.candidates <= len(LETTERS):
            raise EditRefused("two to four candidates can be compared; choose that many")
        self._shuffle()

    def _shuffle(self) -> None:
        if self.mode == "hear":
            self._order = [self.draw.randrange(2)]
        else:
            self._order = self.draw.sample(range(self.candidates), self.candidates)

    @property
    def letters(self) -> tuple[str, ...]:
        """What can be listened to."""
        return (UNKNOWN, FIRST, SECOND) if self.mode == "hear" else LETTERS[: self.candidates]

    @property
    def answers(self) -> tuple[str, ...]:
        """What can be answered."""
        return (FIRST, SECOND) if self.mode == "hear" else self.letters

    @property
    def done(self) -> bool:
        return len(self.rounds) >= self.planned

    def behind(self, letter: str) -> int:
        """The candidate that a letter stands for. Raises EditRefused."""
        if letter not in self.letters:
            raise EditRefused(f"there is no {letter!r} in this comparison; choose one of {', '.join(self.letters)}")
        if self.mode == "hear" and letter != UNKNOWN:
            return int(letter) - 1
        return self._order[self.letters.index(letter)]

    def answer(self, letter: str) -> None:
        """The answer of a round; the next one is drawn. Raises EditRefused."""
        if self.done:
            raise EditRefused("this comparison has ended; start another one")
        if letter not in self.answers:
            raise EditRefused(f"answer with one of {', '.join(self.answers)}")
        self.rounds.append(Round(order=list(self._order), chosen=self.behind(letter)))
        self._shuffle()

    @property
    def counts(self) -> list[int]:
        return [sum(one.chosen == number for one in self.rounds) for number in range(self.candidates)]

    @property
    def right(self) -> int | None:
        return sum(one.chosen == one.order[0] for one in self.rounds) if self.mode == "hear" else None


def p_of_guessing(right: int, rounds: int) -> float:
    """How likely at least so many right answers of two are by guessing: the sum of the binomial coefficients from `right` up,
    over 2^rounds (the exact one-sided binomial test; any statistics text)."""
    return sum(math.comb(rounds, count) for count in range(right, rounds + 1)) / float(1 << rounds)


#: Below this a result is seldom one of guessing (the usual level of significance; common practice).
SELDOM = 0.05


def verdict(comparison: Comparison, labels: Sequence[str]) -> str:
    """The result in a sentence."""
    rounds = len(comparison.rounds)
    if not rounds:
        return "Nothing was answered."
    if comparison.right is None:
        order = sorted(range(comparison.candidates), key=lambda number: -comparison.counts[number])
        return ", ".join(f"{labels[number]}: {comparison.counts[number]} of {rounds}" for number in order) + "."
    p = p_of_guessing(comparison.right, rounds)
    chance = f"{comparison.right} of {rounds} right; by guessing one gets as many or more in {100 * p:.1f} % of cases"
    return f"{chance}: {'you most likely hear it' if p < SELDOM else 'it may be chance'}."


# ---- what is compared ------------------------------------------------------------------------------------------------------


def neighbour(session: Session, step_id: str) -> tuple[Step, int]:
    """The step that another one is swapped with, and where that one goes. Raises EditRefused, NotFound."""
    place = session.step(step_id)
    steps = place.path.steps
    if len(steps) < 2:
        raise EditRefused("there is no other step beside this one to swap it with")
    index = place.index + 1 if place.index + 1 < len(steps) else place.index - 1
    return steps[index], index


def version_for(session: Session, of: SlotOwner, name: str, candidate: Candidate) -> Session:
    """The session as a candidate sounds: *before* is the scope bypassed, as late as ever. Raises EditRefused, NotFound."""
    owner = owner_of(session, of, name)
    match candidate.what:
        case "before":
            if isinstance(owner, Strip):
                moved = [Moved(of="step", id=step.id, name="bypass", value=True) for step in owner.path.steps]
            else:
                moved = [Moved(of=of, id=name, name="bypass", value=True)]
            return apply(session, by_hand(session, moved)) if moved else session
        case "slot":
            slots = slots_of(owner)
            if candidate.slot is None or slots is None or candidate.slot not in slots.kept:
                raise EditRefused(f"slot {candidate.slot} is empty; store something into it first")
            return session if slots.on == candidate.slot else with_slot(session, of, name, candidate.slot)
        case "swapped":
            if of != "step":
                raise EditRefused("only a step can be swapped with its neighbour; choose a step")
            _, index = neighbour(session, name)
            place = session.step(name)
            return apply(session, MoveStep(step_id=name, strip_id=place.strip.id, lane_id=place.lane_id, index=index))
        case "after":
            return session


def label_of(session: Session, of: SlotOwner, name: str, candidate: Candidate) -> str:
    match candidate.what:
        case "slot":
            return f"Slot {candidate.slot}"
        case "swapped":
            return f"Swapped with {processor_named(neighbour(session, name)[0].kind).label}"
        case what:
            return what.capitalize()


@dataclass(frozen=True)
class Sounding:
    """A candidate as it sounds: the document, and the gain on its strip by which it is as loud as the first."""

    session: Session
    strip_id: str
    gain_db: float
    refused: str | None


def soundings(
    session: Session,
    of: SlotOwner,
    name: str,
    candidates: Sequence[Candidate],
    media: Media,
    start: int,
    stop: int,
    cancelled: Callable[[], bool] = lambda: False,
    pool: Executor | None = None,
) -> list[Sounding]:
    """Every candidate, its loudness measured over frames start..stop at the end of its strip's path.

    Raises EditRefused, NotFound, Cancelled.
    """
    strip_id = strip_of(session, of, name)
    versions = [version_for(session, of, name, candidate) for candidate in candidates]
    result: list[Sounding] = []
    first: float | None = None
    for number, version in enumerate(versions):
        if version is not session:
            version = with_current_matches(version, media, cancelled, pool)
        integrated = integrated_lufs(strip_energies(version, strip_id, media, start, stop, cancelled, pool))
        lufs = integrated if math.isfinite(integrated) else None
        first = lufs if number == 0 else first
        gain_db, refused = match_gain(first, lufs, label_of(session, of, name, candidates[0]))
        result.append(Sounding(version, strip_id, gain_db, refused))
    return result


def csv_of(results: Sequence[BlindResult]) -> str:
    """One row a candidate of each comparison."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["date", "scope", "passage", "start_s", "end_s", "mode", "rounds", "candidate", "count", "right", "p"])
    for result in results:
        date = datetime.fromtimestamp(result.made_at, UTC).isoformat(timespec="seconds")
        for candidate, count in zip(result.candidates, result.counts, strict=True):
            right = "" if result.right is None else result.right
            p = "" if result.p is None else f"{result.p:.6f}"
            span = f"{result.start_s:.3f}", f"{result.end_s:.3f}"
            names = guarded(result.of), guarded(result.passage)
            writer.writerow([date, *names, *span, result.mode, len(result.rounds), guarded(candidate), count, right, p])
    return out.getvalue()
