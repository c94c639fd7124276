"""What is recorded by delivery checks, for listening: the master, what each decoder gives back, and the difference."""

import itertools
import shutil
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from saltanvil.media.recording import Recording
from saltanvil.processors.trim import TrimSettings
from saltanvil.session.document.path import Path as StepPath
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.studies.delivery.check import Decoded

#: Numbers of recordings begin here, far behind those of the store's media.
FIRST_RECORDING = 1 << 52
MASTER = "master"
DIFFERENCE = " difference"


@dataclass
class Check:
    """A check whose sound is there. number: of the master among the recordings; those of the formats follow."""

    session_id: int
    start_s: float
    folder: Path
    master: Recording
    decoded: list[Decoded]
    number: int = 0

    def sounds(self) -> list[tuple[Recording, int, int]]:
        """Each with the frame at which it begins, and the length of the master."""
        decoded = ((one.sound, one.checked.offset_frames) for one in self.decoded)
        return [(sound, offset, self.master.frames) for sound, offset in ((self.master, 0), *decoded)]

    def discard(self) -> None:
        """Its files go; whoever still reads them may go on."""
        shutil.rmtree(self.folder, ignore_errors=True)


class Checks:
    """The last check of each session; each recording has a number of its own."""

    def __init__(self) -> None:
        self._held: dict[int, Check] = {}
        self._numbers = itertools.count(FIRST_RECORDING)
        self._lock = threading.Lock()

    def keep(self, check: Check) -> Check | None:
        """Returns the one it takes the place of, which is the caller's to discard."""
        with self._lock:
            old = self._held.pop(check.session_id, None)
            numbers = [next(self._numbers) for _ in check.sounds()]
            check.number = numbers[0]
            self._held[check.session_id] = check
        return old

    def of(self, session_id: int) -> Check | None:
        with self._lock:
            return self._held.get(session_id)


class Delivered:
    """What a tab hears of a check: `master`, each format by its name, and each format's difference from the master."""

    hides = False

    def __init__(self, check: Check, session: Session) -> None:
        self.session_id, self.check, self._around = check.session_id, check, session
        self._documents: dict[str, Session] = {}

    @property
    def names(self) -> Sequence[str]:
        formats = [one.checked.format for one in self.check.decoded]
        return [MASTER, *formats, *(f"{name}{DIFFERENCE}" for name in formats)]

    @property
    def recordings(self) -> dict[int, tuple[Recording, int, int]]:
        return dict(enumerate(self.check.sounds(), self.check.number))

    def heard(self, name: str, matched: bool) -> tuple[Session, tuple[str, float]]:
        """matched: the decoded sound is brought to the loudness of the master."""
        if name not in self._documents:
            self._documents[name] = self._document(name)
        change = next(
            (one.checked.loudness_lu for one in self.check.decoded if one.checked.format == name.removesuffix(DIFFERENCE)), None
        )
        return self._documents[name], ("decoded", -change if matched and change is not None else 0.0)

    def _document(self, name: str) -> Session:
        """Tracks in place of the master: what was recorded, and upside down what is taken away from it."""
        form = name.removesuffix(DIFFERENCE)
        difference = form != name
        strips = [Strip(id="main", name="Main", kind="main", output=None)]
        if form == MASTER or difference:
            strips.append(self._track("recorded", self.check.number, StepPath()))
        for place, one in enumerate(self.check.decoded, 1):
            if one.checked.format == form:
                turned = [Step(id="turned", kind="trim", settings=TrimSettings(invert=True))] if difference else []
                strips.append(self._track("decoded", self.check.number + place, StepPath(steps=turned)))
        around = self._around
        return Session(name=around.name, rate_hz=around.rate_hz, tempo_bpm=around.tempo_bpm, strips=strips)

    def _track(self, name: str, number: int, path: StepPath) -> Strip:
        return Strip(id=name, name=name, kind="track", media_id=number, start_s=self.check.start_s, path=path)
