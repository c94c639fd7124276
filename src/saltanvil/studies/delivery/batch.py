"""Many files through one path: on one machine or many, each written whole or not at all, and resumed where it was broken off.

planned   the files of a folder, with where each goes
process   one file: digest --> done before? --> render --> loudness --> write --> figures     (any process, any machine)
Batch     sends them out, keeps a line of the journal for each that is done, and writes the report
"""

import csv
import fcntl
import hashlib
import io
import json
import os
import re
import shutil
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, dataclass, fields, replace
from pathlib import Path
from typing import Any, Self

from pydantic import TypeAdapter

from saltanvil.engine.path_runner import FileProcess
from saltanvil.errors import UserError, reason
from saltanvil.media.decode import MediaError
from saltanvil.media.disk import what_failed
from saltanvil.media.encode import Writing, Written, whole_or_none, write_audio
from saltanvil.media.formats import format_named
from saltanvil.media.names import file_names, name_key
from saltanvil.media.recording import recorded
from saltanvil.media.stream import FileSound
from saltanvil.media.table import guarded
from saltanvil.session.format import Unreadable, read_path
from saltanvil.session.importing import natural_key
from saltanvil.studies.delivery.facts import FileFacts, facts_of_file, figures_of_blocks
from saltanvil.studies.match.match import with_current_matches

#: What is looked for in a folder.
SUFFIXES = (".wav", ".bwf", ".flac", ".aif", ".aiff", ".aifc", ".w64", ".rf64", ".mp3", ".m4a", ".aac", ".ogg", ".opus")
#: In the folder of the results: what is done.
JOURNAL = ".saltanvil-batch.jsonl"
REPORT = "batch.csv"
#: Of the journal's lines; those without a number are of format 1.
JOURNAL_FORMAT = 1
#: What is not finished yet (see `whole_or_none`, `brought_to`).
BROKEN = re.compile(r"\..*\.[0-9a-f]{8}\.part|\.batch-[a-z0-9_]+")
#: A gain that brings a file to a loudness stops where its true peak comes to this.
TRUE_PEAK_DBTP = -1.0
#: To be raised when files come out otherwise than before, so that a resumed batch makes them anew.
VERSION = 1


@dataclass(frozen=True)
class Treatment:
    """What is done to every file. path: the text of a path file. loudness_lufs: what each is brought to by a gain behind the
    path, as far as its true peak stays at `true_peak_dbtp`; None leaves it."""

    path: str
    format: str
    loudness_lufs: float | None = None
    true_peak_dbtp: float = TRUE_PEAK_DBTP
    tempo_bpm: float = 120.0
    tail: bool = True
    rate_hz: int | None = None
    shaped: bool = False

    def digest(self) -> str:
        return hashlib.sha256(json.dumps([VERSION, asdict(self)], sort_keys=True).encode()).hexdigest()


@dataclass(frozen=True)
class Row:
    """A line of the report. state: done, skipped (was done before) or failed. gain_db: that brought it to its loudness."""

    input: str
    output: str
    state: str
    error: str = ""
    warning: str = ""
    gain_db: float | None = None
    integrated_lufs: float | None = None
    true_peak_dbtp: float | None = None
    sample_peak_dbfs: float | None = None
    length_s: float | None = None
    sha256: str = ""
    digest: str = ""


ROW = TypeAdapter(Row)


@dataclass(frozen=True)
class Item:
    """One file of the work: where it lies and goes, and what it and its result are called. row: what the journal says of it."""

    source: str
    target: str
    input: str
    output: str
    row: Row | None = None


def digest_of(path: Path, treatment: Treatment) -> str:
    """A name for a file's content and what is done to it."""
    with path.open("rb") as file:
        content = hashlib.file_digest(file, "sha256").hexdigest()
    return hashlib.sha256(f"{content} {treatment.digest()}".encode()).hexdigest()


def process(item: Item, treatment: Treatment, cancelled: Callable[[], bool] = lambda: False) -> Row:
    """One file. What is wrong with it is said in the row, and nothing is left half written. Raises Cancelled."""
    if item.source != shown_path(item.source):
        return Row(item.input, item.output, "failed", "its name is no text; rename it")
    try:
        digest = digest_of(Path(item.source), treatment)
        if item.row is not None and item.row.digest == digest and Path(item.target).is_file():
            return replace(item.row, state="skipped")
        return done(item, treatment, digest, cancelled)
    except (MediaError, Unreadable, OSError, ValueError) as error:
        text = what_failed(error) if isinstance(error, OSError) else reason(error)
        return Row(item.input, item.output, "failed", named(text, item))


def named(text: str, item: Item) -> str:
    """An error without the file's name before it, which stands in the row."""
    for name in (item.source, item.input, Path(item.input).name):
        text = text.removeprefix(f"{name}: ")
    return " ".join(text.split())


def done(item: Item, treatment: Treatment, digest: str, cancelled: Callable[[], bool]) -> Row:
    source, target = Path(item.source), Path(item.target)
    work = FileProcess(read_path(treatment.path), FileSound(source), tempo_bpm=treatment.tempo_bpm)
    work.session = with_current_matches(work.session, work.media, cancelled)
    writing = Writing(treatment.format, treatment.rate_hz, "shaped" if treatment.shaped else "tpdf")
    target.parent.mkdir(parents=True, exist_ok=True)
    with whole_or_none(target) as part:
        name = Path(item.output).name
        written, gain_db = brought_to(work, treatment, part, writing, item.input, cancelled)
        facts = facts_of_file(part, name, treatment.format, cancelled)
    warnings = [text for text in (written.warning(name), peak_warning(facts, treatment, gain_db)) if text]
    figures = facts.figures
    return Row(
        item.input, item.output, "done", "", "; ".join(warnings), gain_db, figures.integrated_lufs, figures.true_peak_dbtp,
        figures.sample_peak_dbfs, round(facts.length_s, 6), facts.sha256, digest,
    )  # fmt: skip


def brought_to(
    work: FileProcess, treatment: Treatment, part: Path, writing: Writing, seed: str, cancelled: Callable[[], bool]
) -> tuple[Written, float | None]:
    """Write what leaves the path, at the loudness that is asked for; and the gain that took it there."""
    blocks = work.blocks(treatment.tail, cancelled=cancelled)
    if treatment.loudness_lufs is None:
        return write_audio(part, blocks, work.rate, work.channels, writing, work.frames, seed), None
    with tempfile.TemporaryDirectory(dir=part.parent, prefix=".batch-") as folder:
        sound = recorded(Path(folder) / "sound", blocks, work.rate, work.channels)
        figures = figures_of_blocks(sound.blocks(), sound.channels, sound.rate)
        gain_db = 0.0
        if figures.integrated_lufs is not None:
            gain_db = treatment.loudness_lufs - figures.integrated_lufs
            if gain_db > 0.0:  # turning down never needs room
                gain_db = min(gain_db, max(treatment.true_peak_dbtp - figures.true_peak_dbtp, 0.0))
        gain = 10.0 ** (gain_db / 20.0)
        return write_audio(part, sound.blocks(gain), sound.rate, sound.channels, writing, sound.frames, seed), gain_db


def peak_warning(facts: FileFacts, treatment: Treatment, gain_db: float | None) -> str | None:
    """What kept a file from the loudness that was asked for."""
    reached, target = facts.figures.integrated_lufs, treatment.loudness_lufs
    if target is None or gain_db is None:
        return None
    if reached is None:
        return f"{facts.name}: it is silent or too short to be brought to a loudness; it stays as it is"
    if target - reached > 0.2:
        return (
            f"{facts.name}: {reached:.1f} LUFS, not {target:g}: more would lift its true peak above "
            f"{treatment.true_peak_dbtp:g} dBTP; put a limiter into the path"
        )
    return None


# ---- a folder --------------------------------------------------------------------------------------------------------------


def sound_files(folder: Path, beside: Path | None = None) -> list[Path]:
    """All sound files below a folder, in natural order; `beside`, where the results go, is left out. Hidden ones are too."""
    inputs = [
        path
        for path in folder.rglob("*")
        if path.suffix.lower() in SUFFIXES
        and path.is_file()
        and not any(part.startswith(".") for part in path.relative_to(folder).parts)
        and (beside is None or folder not in beside.parents or beside not in path.parents)
    ]
    return sorted(inputs, key=lambda path: natural_key(str(path.relative_to(folder))))


def planned(sources: Sequence[tuple[Path, str]], out: Path, form: str, journal: dict[str, Row]) -> list[Item]:
    """Where each file goes: the same place below `out`, with the format's ending. sources: files and what they are called, with
    their folders. Two that would get one name keep their old endings in it; no result lies where a file comes from."""
    suffix = format_named(form).suffix
    names = [shown_path(name) for _, name in sources]
    stems = [str(Path(name).with_suffix("")) for name in names]
    count = Counter(name_key(stem) for stem in stems)
    shared = [count[name_key(stem)] > 1 for stem in stems]
    titles = [
        f"{stem} ({Path(name).suffix[1:]})" if twice else stem for name, stem, twice in zip(names, stems, shared, strict=True)
    ]
    # Those that keep their own name have the first choice.
    order = sorted(range(len(titles)), key=lambda number: shared[number])
    taken = {name_key(str(path.relative_to(out))) for path, _ in sources if out in path.parents}
    outputs = dict(zip(order, file_names([titles[number] for number in order], [suffix] * len(order), taken), strict=True))
    return [
        Item(str(path), str(out / outputs[number]), names[number], outputs[number], journal.get(outputs[number]))
        for number, (path, _) in enumerate(sources)
    ]


def shown_path(name: str) -> str:
    """A path in words: bytes that are no text stand as their numbers."""
    return name.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


class BusyFolder(UserError, ValueError):
    """Another batch works on the folder."""


class Journal:
    """What is done of a batch, a line each, written at once: a batch that is killed loses at most the file it was at.

    It holds its folder, by a lock of the operating system on the folder itself, which dies with its process. unread: lines that
    make no sense, other than one that was cut off.
    """

    def __init__(self, out: Path, resume: bool) -> None:
        """What a killed batch left half written goes. Raises BusyFolder, OSError."""
        self.unread = 0
        self._folder = os.open(out, os.O_RDONLY)
        try:
            fcntl.flock(self._folder, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            self.close()
            raise BusyFolder(f"{out}: another batch works on this folder; wait for it, or name another one with -o") from error
        try:
            self._begin(out, resume)
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        if self._folder >= 0:
            os.close(self._folder)
            self._folder = -1

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *raised: object) -> None:
        self.close()

    def _begin(self, out: Path, resume: bool) -> None:
        for path in out.rglob(".*"):
            if BROKEN.fullmatch(path.name):
                shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)
        self.path = out / JOURNAL
        self.rows = dict(self._read()) if resume else {}
        with self.path.open("w", encoding="utf-8") as file:  # torn and replaced lines go
            file.writelines(self._line(row) for row in self.rows.values())

    def _read(self) -> Iterator[tuple[str, Row]]:
        known = {field.name for field in fields(Row)}
        if not self.path.is_file():
            return
        *lines, last = self.path.read_bytes().split(b"\n")
        for line in [*lines, last]:
            try:
                data = json.loads(line)
                if data.get("format", JOURNAL_FORMAT) > JOURNAL_FORMAT:
                    raise ValueError("of a newer version")
                row = ROW.validate_python({name: value for name, value in data.items() if name in known})
            except (ValueError, TypeError, AttributeError, RecursionError):
                self.unread += line is not last  # which was cut off, or is empty
                continue
            yield row.output, row

    @staticmethod
    def _line(row: Row) -> str:
        return json.dumps({"format": JOURNAL_FORMAT, **asdict(row)}) + "\n"

    def add(self, row: Row) -> None:
        if row.state != "done":
            return
        self.rows[row.output] = row
        with self.path.open("a", encoding="utf-8") as file:
            file.write(self._line(row))
            file.flush()
            os.fsync(file.fileno())


def report_of(rows: Sequence[Row]) -> str:
    """The report as a table. A skipped file is as done as any."""
    out = io.StringIO()
    writer = csv.writer(out)
    names = [field.name for field in fields(Row)]
    writer.writerow(names)
    for row in rows:
        values: dict[str, Any] = asdict(replace(row, state="done" if row.state == "skipped" else row.state))
        writer.writerow([shown(values[name]) for name in names])
    return out.getvalue()


def shown(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, float):
        return f"{value:.2f}"
    return guarded(str(value))
