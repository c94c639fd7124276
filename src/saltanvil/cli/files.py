"""What commands on single files share: opening them, their path, how they are written."""

import argparse
import sys
from collections.abc import Iterable
from pathlib import Path

from saltanvil.cli.errors import Refused, refusing
from saltanvil.media.decode import Source, open_audio
from saltanvil.media.encode import Writing, Written
from saltanvil.media.formats import format_named
from saltanvil.session.document.path import Path as StepPath
from saltanvil.session.format import Unreadable, read_path
from saltanvil.session.slots import slots_in, with_slots_on

#: What a file is written as where only its ending says so.
DEFAULT_FORMATS = {
    ".wav": "wav32f", ".flac": "flac24", ".aiff": "aiff24", ".aif": "aiff24", ".mp3": "mp3-320", ".m4a": "aac-256",
    ".opus": "opus-192", ".ogg": "vorbis-256",
}  # fmt: skip


def existing(path: Path) -> Path:
    if not path.is_file():
        raise Refused(f"{path}: there is no such file")
    return path


def opened(path: Path, most_channels: int = 2) -> "Source":
    """Raises Refused if it is not there, MediaError if it cannot be read."""
    return open_audio(existing(path), path.name, most_channels)


def path_from(file: Path) -> StepPath:
    """A path file. Raises Refused with the file's name and what is wrong with it."""
    try:
        return read_path(file.read_text())
    except OSError as error:
        raise Refused(f"{file}: cannot be read ({error.strerror})") from error
    except UnicodeDecodeError as error:
        raise Refused(f"{file}: this is not a path file; it is to be JSON text") from error
    except Unreadable as error:
        raise Refused(f"{file}: {error}") from error


def slot_of(path: StepPath, slot: int, file: Path) -> StepPath:
    """Raises Refused if nothing in the path has that slot."""
    stored = sorted(slots_in(path))
    if slot not in stored:
        there = f"it has {', '.join(map(str, stored))}" if stored else "it has none"
        raise Refused(f"{file}: there is no slot {slot} in this path; {there}")
    return with_slots_on(path, slot)


def check_tempo(tempo_bpm: float) -> None:
    if not 20.0 <= tempo_bpm <= 300.0:
        raise Refused(f"--tempo {tempo_bpm:g}: a tempo is from 20 to 300 quarter notes a minute")


def writing_of(request: argparse.Namespace, form: str | None, output: Path | None = None) -> "Writing":
    """How a file is written. output: whose ending must fit. Raises Refused."""
    if form is None:
        raise Refused(f"{output}: its ending says no format; use {', '.join(DEFAULT_FORMATS)}, or name one with --format")
    with refusing():
        suffix = format_named(form).suffix
    if output is not None and output.suffix.lower() not in (suffix, suffix.replace("ff", "f")):
        raise Refused(f"{output}: the file's ending must fit the format: {form} is written to {suffix}")
    return Writing(form, request.rate, "shaped" if request.shaped_dither else "tpdf")


def warn_of_clipping(files: "Iterable[tuple[str, Written]]") -> bool:
    """Say which files were clipped, a line each; whether any was."""
    warnings = [text for name, written in files if (text := written.warning(name)) is not None]
    for text in warnings:
        print(f"saltanvil: {text}", file=sys.stderr)
    return bool(warnings)
