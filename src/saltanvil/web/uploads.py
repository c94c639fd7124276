"""Imports under way: the files that were sent, by the number of the import."""

import threading
from collections import OrderedDict
from pathlib import PurePosixPath
from typing import Annotated, Literal

from pydantic import BaseModel, Field, model_validator

from saltanvil.media.names import without_marks
from saltanvil.session.document.base import MAX_STRIPS, Id, NotFound
from saltanvil.session.importing import natural_key
from saltanvil.studies.importing.files import Proposal, Sent

MAX_FILES = MAX_STRIPS - 1
#: Imports that can still be asked about.
KEPT = 20

FileName = Annotated[str, Field(min_length=1, max_length=255)]


class ImportedFile(BaseModel):
    """What a file was and what became of it. length_s, rate_hz, channels: 0 where it is no sound; start_s: at which it says it
    begins; becomes: the track in words, or why there is none; converted: from what to what, if it is not as it was; joined: it is
    one side of a stereo track."""

    name: str
    format: str
    rate_hz: int
    channels: int
    length_s: float
    start_s: float | None
    becomes: str
    converted: str | None
    strip_id: str | None
    joined: bool


class ImportView(BaseModel):
    """files: each in its order; strip_ids: the tracks that were made; problems: a line for each file that was not taken;
    passage_s: the whole song, or its loudest eight bars if it is long."""

    id: int
    files: list[ImportedFile]
    strip_ids: list[str]
    problems: list[str]
    notes: list[str]
    proposals: list[Proposal]
    passage_s: tuple[float, float] | None


class NewImport(BaseModel):
    """names: of the files in the order they were given; order: of the tracks; rate: the session's, or that of most files as long
    as the session has no sound; replaces: the track whose recording the one file is to replace."""

    names: list[FileName] = Field(min_length=1, max_length=MAX_FILES)
    order: Literal["name", "given"] = "name"
    rate: Literal["session", "files"] = "session"
    replaces: Id | None = None

    @model_validator(mode="after")
    def one_replaces_one(self) -> "NewImport":
        if self.replaces is not None and len(self.names) != 1:
            raise ValueError("one file replaces one recording; send one")
        return self


class Import:
    """Files on their way to be tracks."""

    def __init__(self, number: int, session_id: int, question: NewImport) -> None:
        self.number, self.session_id, self.order, self.rate = number, session_id, question.order, question.rate
        self.replaces = question.replaces
        self.files = [Sent(shown_name(name)) for name in question.names]
        self.view = ImportView(id=number, files=[], strip_ids=[], problems=[], notes=[], proposals=[], passage_s=None)

    def sound_files(self) -> list[Sent]:
        """Those that become tracks, in their order."""
        result = [sent for sent in self.files if sent.path is not None and sent.problem is None and not sent.midi]
        return sorted(result, key=lambda sent: natural_key(sent.name)) if self.order == "name" else result

    def discard(self) -> None:
        for sent in self.files:
            sent.drop()


class Imports:
    """The imports of a server, by number."""

    def __init__(self) -> None:
        self._held: OrderedDict[int, Import] = OrderedDict()
        self._lock = threading.Lock()
        self._count = 0

    def begin(self, session_id: int, question: NewImport) -> Import:
        with self._lock:
            self._count += 1
            job = self._held[self._count] = Import(self._count, session_id, question)
            while len(self._held) > KEPT:
                self._held.popitem(last=False)[1].discard()
        return job

    def get(self, session_id: int, number: int) -> Import:
        """Raises NotFound."""
        with self._lock:
            result = self._held.get(number)
        if result is None or result.session_id != session_id:
            raise NotFound("this import is not known any more; choose the files again")
        return result


def shown_name(name: str) -> str:
    return without_marks(PurePosixPath(name.replace("\\", "/")).name) or "file"
