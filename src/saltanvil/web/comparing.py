"""What tabs hear instead of the document. What the letters of a blind comparison stand for stays here until it is over."""

import threading
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from pydantic import BaseModel, Field

from saltanvil.media.recording import Recording
from saltanvil.session.document.base import Id
from saltanvil.session.document.session import Session
from saltanvil.session.slots import SlotOwner
from saltanvil.studies.blind import (
    LETTERS,
    MAX_ROUNDS,
    BlindResult,
    Candidate,
    Comparison,
    Mode,
    Sounding,
    p_of_guessing,
    verdict,
)


class Replacement(Protocol):
    """What sounds instead of a session's document. names: what can be chosen of it; hides: whether nothing may tell which."""

    session_id: int

    @property
    def hides(self) -> bool: ...

    @property
    def names(self) -> Sequence[str]: ...

    @property
    def recordings(self) -> dict[int, tuple[Recording, int, int]]:
        """What its documents play besides media, by number: (sound, its first frame, frames)."""
        ...

    def heard(self, name: str, matched: bool) -> tuple[Session, tuple[str, float]]:
        """The document for a name, and a strip of it with the gain for listening."""
        ...


class BlindQuestion(BaseModel):
    tab: str = Field(min_length=1, max_length=64)
    of: SlotOwner
    id: Id
    candidates: list[Candidate] = Field(min_length=2, max_length=len(LETTERS))
    mode: Mode
    rounds: int = Field(ge=1, le=MAX_ROUNDS)
    passage: str = Field(max_length=200)
    start_s: float = Field(ge=0.0, le=1e6)
    end_s: float = Field(ge=0.0, le=1e6)


class BlindView(BaseModel):
    """letters: what can be listened to; answers: what can be answered; round: the one under way, from 1. The result, with what
    stood behind the letters, is told when it is over."""

    mode: Mode
    of: str
    candidates: list[str]
    letters: list[str]
    answers: list[str]
    round: int
    planned: int
    unmatched: list[str]
    result: BlindResult | None = None


@dataclass
class Blind:
    """The comparison of one tab, and how its candidates sound."""

    session_id: int
    comparison: Comparison
    candidates: list[Sounding]
    question: BlindQuestion
    of: str
    labels: list[str]

    hides = True

    @property
    def recordings(self) -> dict[int, tuple[Recording, int, int]]:
        return {}

    @property
    def names(self) -> Sequence[str]:
        return self.comparison.letters

    def heard(self, name: str, matched: bool) -> tuple[Session, tuple[str, float]]:
        """What sounds for a letter, always matched. A copy each time, so that nothing tells whether it is the one that sounded
        before."""
        sounding = self.candidates[self.comparison.behind(name)]
        return sounding.session.model_copy(), (sounding.strip_id, sounding.gain_db)

    @property
    def unmatched(self) -> list[str]:
        """Why candidates are not equally loud. Which one it is of is no secret: only the order is."""
        return [f"{label}: {one.refused}" for label, one in zip(self.labels, self.candidates, strict=True) if one.refused]

    def view(self, result: BlindResult | None = None) -> BlindView:
        comparison = self.comparison
        return BlindView(
            mode=comparison.mode, of=self.of, candidates=self.labels, letters=list(comparison.letters),
            answers=list(comparison.answers), round=min(len(comparison.rounds) + 1, comparison.planned),
            planned=comparison.planned, unmatched=self.unmatched, result=result,
        )  # fmt: skip

    def result(self) -> BlindResult:
        comparison, question = self.comparison, self.question
        right = comparison.right
        return BlindResult(
            mode=comparison.mode, of=self.of, passage=question.passage, start_s=question.start_s, end_s=question.end_s,
            candidates=self.labels, planned=comparison.planned, rounds=comparison.rounds, counts=comparison.counts, right=right,
            p=None if right is None else p_of_guessing(right, len(comparison.rounds)), unmatched=self.unmatched,
            verdict=verdict(comparison, self.labels),
        )  # fmt: skip


class Replacements:
    """What sounds instead of the document, by tab."""

    def __init__(self, most: int = 50) -> None:
        self._most = most
        self._held: dict[str, Replacement] = {}
        self._lock = threading.Lock()

    def start(self, tab: str, instead: Replacement) -> None:
        with self._lock:
            self._held.pop(tab, None)
            while len(self._held) >= self._most:  # of tabs that never came back
                self._held.pop(next(iter(self._held)))
            self._held[tab] = instead

    def of(self, tab: str, session_id: int) -> Replacement | None:
        with self._lock:
            instead = self._held.get(tab)
        return instead if instead is not None and instead.session_id == session_id else None

    def tabs_with(self, kind: type, session_id: int) -> list[str]:
        """The tabs that hear something of a kind in a session."""
        with self._lock:
            return [tab for tab, one in self._held.items() if isinstance(one, kind) and one.session_id == session_id]

    def end(self, tab: str) -> None:
        with self._lock:
            self._held.pop(tab, None)
