"""`saltanvil render`: sessions to files."""

import argparse
import contextlib
import os
import sys
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

from saltanvil.cli.errors import Refused
from saltanvil.cli.files import warn_of_clipping, writing_of
from saltanvil.cli.folder import session_named, strip_named
from saltanvil.cli.replace import with_files
from saltanvil.engine.export import FileTarget, export_strips
from saltanvil.engine.media import Media
from saltanvil.engine.time import session_frames
from saltanvil.media.encode import Written, whole_or_none
from saltanvil.media.formats import format_named
from saltanvil.media.names import file_names
from saltanvil.session.document.base import MAIN_ID
from saltanvil.session.document.session import Session
from saltanvil.store.copies import reading
from saltanvil.store.database import Database
from saltanvil.store.media import MediaStore
from saltanvil.store.sessions import SessionStore
from saltanvil.studies.delivery.facts import facts_of_file
from saltanvil.studies.match.match import with_current_matches


def run_render(request: argparse.Namespace) -> bool:
    with reading(request.data) as database:
        return render_sessions(request, database)


def render_sessions(request: argparse.Namespace, database: "Database") -> bool:
    sessions, store = SessionStore(database), MediaStore(database)
    for option, value in (("--strips names strips", request.strips), ("--with names files for", request.new_files)):
        if value and len(request.sessions) > 1:
            raise Refused(f"{option} of one session; render the sessions one by one, or leave it out")
    with contextlib.ExitStack() as opened:
        numbers = [session_named(sessions, name) for name in request.sessions]
        media: list[Media] = [store.at_rate(session.rate_hz) for session in numbers]
        if request.new_files is not None:
            session, sound, left = opened.enter_context(with_files(request.new_files, numbers[0], store))
            numbers, media = [session], [sound]
            if left:
                print(f"as they were: {', '.join(left)}", file=sys.stderr)
        return render_all(request, numbers, media)


def render_all(request: argparse.Namespace, numbers: list[Session], sounds: list[Media]) -> bool:
    titles = [title(session, strip_id) for session in numbers for strip_id in ids_of(session, request.strips)]
    writing = writing_of(request, request.format)
    names = iter(file_names([text.replace("/", "_") for text in titles], [format_named(writing.format).suffix] * len(titles)))
    work = [
        (session, [(strip_id, request.output / next(names)) for strip_id in ids_of(session, request.strips)])
        for session in numbers
    ]
    try:
        request.output.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise Refused(f"{request.output}: this folder cannot be made ({error.strerror}); name another one") from error
    progress = progress_line(len(work))

    files: list[tuple[str, Written]] = []

    def export(number: int) -> None:
        session, targets = work[number]
        media = sounds[number]
        session = with_current_matches(session, media)
        end = session_frames(session, media)
        with contextlib.ExitStack() as whole:
            parts = [
                FileTarget(strip_id, whole.enter_context(whole_or_none(path)), writing, 0, end, tail=not request.no_tail)
                for strip_id, path in targets
            ]
            written = export_strips(session, media, parts, lambda fraction: progress(number, fraction))
            for part in parts if writing.format.startswith("bwf") else []:  # which get their loudness fields
                facts_of_file(part.path, part.path.name, writing.format)
        files.extend((path.name, file) for (_, path), file in zip(targets, written, strict=True))

    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:  # the kernels release the interpreter
        list(pool.map(export, range(len(work))))
    for _, targets in work:
        for _, path in targets:
            print(path)
    return warn_of_clipping(sorted(files, key=lambda file: file[0]))


def ids_of(session: "Session", names: list[str] | None) -> list[str]:
    """The strips of those names; the main if there are none. Raises Refused."""
    return [strip_named(session, name).id for name in names] if names else [MAIN_ID]


def title(session: "Session", strip_id: str) -> str:
    return f"{session.name} - {session.strip(strip_id).name}"


def progress_line(works: int) -> Callable[[int, float], None]:
    """Shows how far several works are, together, where someone watches."""
    fractions = [0.0] * works
    last = -1

    def progress(number: int, fraction: float) -> None:
        nonlocal last
        fractions[number] = fraction
        done = int(100 * sum(fractions) / works)
        if sys.stderr.isatty() and done != last:
            last = done
            print(f"\rRendering ... {done} %", end="" if done < 100 else "\n", file=sys.stderr, flush=True)

    return progress
