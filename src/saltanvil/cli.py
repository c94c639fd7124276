"""The command line: serve, measure, process, batch, bench, aim, steps, render; pack, unpack; check, backup, restore."""

import argparse
import contextlib
import json
import math
import os
import secrets
import sys
import time
import traceback
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from saltanvil.engine.plan import Plan
    from saltanvil.media.decode import Source
    from saltanvil.media.encode import Writing, Written
    from saltanvil.processors.descriptor import Descriptor
    from saltanvil.session.document import Path as StepPath
    from saltanvil.session.document import Session
    from saltanvil.store.database import Database
    from saltanvil.store.sessions import SessionStore
    from saltanvil.studies.batch import Journal

DEFAULT_PORT = 8420
#: What a file is written as where only its ending says so.
DEFAULT_FORMATS = {
    ".wav": "wav32f", ".flac": "flac24", ".aiff": "aiff24", ".aif": "aiff24", ".mp3": "mp3-320", ".m4a": "aac-256",
    ".opus": "opus-192", ".ogg": "vorbis-256",
}  # fmt: skip
BENCH_TESTS = ("harmonics", "intermodulation", "aliasing", "curve", "burst", "impulse", "noise")


class Refused(Exception):
    """Something the user can mend; shown as one line."""


class Failed(Exception):
    """Some of the work could not be done, as was said; the rest is."""


def main(arguments: list[str] | None = None) -> int:
    """Returns the exit status: 0; 1 with one line on standard error for what the user can mend; 3 for a fault of the program,
    with where it was; 4 with --strict if samples were clipped, which is a line on standard error in any case; 5 if some files
    of a batch failed."""
    parser = build_parser()
    given = sys.argv[1:] if arguments is None else arguments
    request = parser.parse_args(given or ["serve"])
    try:
        warned = request.run(request)
    except KeyboardInterrupt:
        return 130
    except Exception as error:
        if isinstance(error, mendable()):
            print(f"saltanvil: {one_line(error)}", file=sys.stderr)
            return 5 if isinstance(error, Failed) else 1
        traceback.print_exc()
        print(f"saltanvil: a fault of the program ({type(error).__name__}), not of what you asked for", file=sys.stderr)
        return 3
    return 4 if warned and request.strict else 0


def warn_of_clipping(files: "Iterable[tuple[str, Written]]") -> bool:
    """Say which files were clipped, a line each; whether any was."""
    warnings = [text for name, written in files if (text := written.warning(name)) is not None]
    for text in warnings:
        print(f"saltanvil: {text}", file=sys.stderr)
    return bool(warnings)


def mendable() -> tuple[type[Exception], ...]:
    """The errors that say what to do; anything else is a fault of the program."""
    from saltanvil.media.decode import MediaError
    from saltanvil.session.document import NotFound
    from saltanvil.session.edits import EditRefused
    from saltanvil.session.format import Unreadable
    from saltanvil.store.database import StoreError

    return Refused, Failed, MediaError, NotFound, EditRefused, Unreadable, StoreError, OSError


def one_line(error: Exception) -> str:
    return " ".join(str(error.args[0] if isinstance(error, LookupError) else error).split())


@contextlib.contextmanager
def refusing() -> Iterator[None]:
    """What is asked for here is checked by the model itself: its refusal is the user's to mend."""
    from saltanvil.session.edits import reason

    try:
        yield
    except ValueError as error:
        raise Refused(reason(error)) from error


def build_parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="saltanvil", description="A bench for the dynamics and tone of tracks and buses.")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    serve = commands.add_parser("serve", help="serve the page and the engine")
    serve.add_argument("--port", type=int, default=DEFAULT_PORT, help="0 takes a free one")
    serve.add_argument("--host", default="127.0.0.1", help="other than loopback needs the token that is printed")
    add_data(serve)
    serve.add_argument("--empty", action="store_true", help="make no demo sessions")
    serve.add_argument("--until-stdin-closes", action="store_true", help="stop when standard input ends")
    serve.set_defaults(run=run_serve)

    measure = commands.add_parser("measure", help="loudness, peaks and levels of files")
    measure.add_argument("files", nargs="+", type=Path, metavar="FILE")
    measure.add_argument("--json", action="store_true")
    measure.set_defaults(run=run_measure)

    process = commands.add_parser("process", help="put a file through a path of steps")
    process.add_argument("input", type=Path, metavar="IN")
    process.add_argument("-o", "--output", type=Path, required=True, metavar="OUT", help="its ending says the format")
    process.add_argument(
        "--path", type=Path, required=True, metavar="PATH.json", help='{"steps": [{"kind": ..., "settings": {...}}]}'
    )
    process.add_argument(
        "--key",
        type=Path,
        default=None,
        metavar="KEYFILE",
        help="key of every detector that has none in the path",
    )
    process.add_argument("--tempo", type=number, default=120.0, metavar="BPM", help="what note values count in (120)")
    process.add_argument("--slot", type=int, default=None, metavar="N", help="the path as stored in slot N (1 to 4)")
    add_format(process, None)
    process.add_argument("--report", action="store_true", help="print figures before and after as JSON")
    add_written(process)
    process.set_defaults(run=run_process)

    bench = commands.add_parser("bench", help="test signals through a path of steps: what it does, in figures")
    bench.add_argument("--path", type=Path, required=True, metavar="PATH.json", help="as for process")
    bench.add_argument("--test", choices=BENCH_TESTS, required=True)
    bench.add_argument("--frequency-hz", type=number, default=1000.0, help="of the tone (1000)")
    bench.add_argument("--level-dbfs", type=number, default=-12.0, help="peak of the test signal (-12)")
    bench.add_argument("--low-dbfs", type=number, default=-40.0, help="the burst's level before and after (-40)")
    bench.add_argument("--burst-ms", type=number, default=400.0, help="how long the burst lasts (400)")
    bench.add_argument("--compare", action="store_true", help="aliasing at every oversampling the path offers")
    bench.add_argument("--rate", type=int, choices=(44100, 48000, 88200, 96000), default=48000)
    bench.add_argument("--channels", type=int, choices=(1, 2), default=1)
    bench.add_argument("--tempo", type=number, default=120.0, metavar="BPM")
    how = bench.add_mutually_exclusive_group()
    how.add_argument("--json", action="store_true", help="everything, the picture's lines too")
    how.add_argument("--csv", action="store_true", help="the table")
    bench.set_defaults(run=run_bench)

    aim = commands.add_parser("aim", help="find the setting of a step by which a file reaches a figure")
    aim.add_argument("input", type=Path, metavar="IN")
    aim.add_argument("--path", type=Path, required=True, metavar="PATH.json", help="as for process")
    aim.add_argument("--step", type=int, required=True, metavar="N", help="which step of the path, from 1")
    aim.add_argument("--figure", required=True, help="what is asked for; `saltanvil steps --json` lists the aims of every step")
    aim.add_argument("--target", type=number, required=True)
    aim.add_argument("--setting", default=None, help="which setting reaches it (the usual one)")
    aim.add_argument("--key", type=Path, default=None, metavar="KEYFILE", help="as for process")
    aim.add_argument("--tempo", type=number, default=120.0, metavar="BPM")
    aim.add_argument("--json", action="store_true")
    aim.add_argument("-o", "--output", type=Path, default=None, metavar="OUT.json", help="write the path with the setting there")
    aim.set_defaults(run=run_aim)

    steps = commands.add_parser("steps", help="every processor with its settings")
    steps.add_argument("--json", action="store_true")
    steps.set_defaults(run=run_steps)

    batch = commands.add_parser("batch", help="put all files of a folder through a path, on one machine or many")
    batch.add_argument("folder", type=Path, metavar="IN_FOLDER", help="with all folders in it")
    batch.add_argument("-o", "--output", type=Path, required=True, metavar="OUT", help="folder for the results and the report")
    batch.add_argument("--path", type=Path, required=True, metavar="PATH.json", help="as for process")
    add_format(batch, "wav24")
    batch.add_argument("--loudness", type=number, default=None, metavar="LUFS", help="bring every file to this, behind the path")
    batch.add_argument(
        "--true-peak", type=number, default=-1.0, metavar="DBTP", help="as far as its true peak stays at or below this (-1)"
    )
    batch.add_argument("--tempo", type=number, default=120.0, metavar="BPM")
    batch.add_argument("--no-tail", action="store_true", help="end with the input, and cut off what still sounds then")
    who = batch.add_mutually_exclusive_group()
    who.add_argument("--jobs", type=int, default=None, metavar="N", help="processes at a time (one for each core)")
    who.add_argument("--scheduler", default=None, metavar="tcp://HOST:PORT", help="an existing Dask cluster does the work")
    batch.add_argument("--resume", action="store_true", help="skip what is done already, by content and path")
    batch.set_defaults(run=run_batch, strict=False)

    pack = commands.add_parser("pack", help="write a session with its sound to one file")
    pack.add_argument("session", metavar="SESSION", help="its name or number")
    pack.add_argument("-o", "--output", type=Path, required=True, metavar="FILE.zip")
    add_data(pack)
    pack.set_defaults(run=run_pack)

    unpack = commands.add_parser("unpack", help="make a session of a file written by pack")
    unpack.add_argument("archive", type=Path, metavar="FILE.zip")
    add_data(unpack)
    unpack.set_defaults(run=run_unpack)

    check = commands.add_parser("check", help="test a folder of sessions: the database, every session, all sound; writes nothing")
    add_data(check)
    check.set_defaults(run=run_check)

    backup = commands.add_parser("backup", help="copy all sessions and media to one file, also while they are in use")
    backup.add_argument("-o", "--output", type=Path, required=True, metavar="FILE")
    add_data(backup)
    backup.set_defaults(run=run_backup)

    restore = commands.add_parser("restore", help="bring the sessions of a copy back, beside those there are")
    restore.add_argument("copy", type=Path, metavar="COPY", help="one of the daily copies, or a backup of the same folder")
    add_data(restore)
    restore.set_defaults(run=run_restore)

    render = commands.add_parser("render", help="render sessions to files, several at a time")
    render.add_argument("sessions", nargs="+", metavar="SESSION", help="their names or numbers")
    render.add_argument("-o", "--output", type=Path, required=True, metavar="DIR")
    render.add_argument("--strips", nargs="*", default=None, help="names of strips of one session; the main if left out")
    add_format(render, "wav24")
    add_written(render)
    add_data(render)
    render.set_defaults(run=run_render)
    return parser


def add_format(parser: argparse.ArgumentParser, default: str | None) -> None:
    usual = "what fits the ending" if default is None else default
    parser.add_argument(
        "--format", default=default, metavar="FORMAT",
        help=f"wav16, wav24, wav32f, the same with bwf, flac, aiff; mp3-, aac-, opus-, vorbis- with kbit/s: mp3-256 ({usual})",
    )  # fmt: skip
    parser.add_argument("--rate", type=int, choices=(44100, 48000, 88200, 96000), default=None, help="sample rate (as it is)")
    parser.add_argument("--shaped-dither", action="store_true", help="shape the noise of 16 bits to where it is heard least")


def add_written(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--no-tail", action="store_true", help="end with the input, and cut off what still sounds then")
    parser.add_argument("--strict", action="store_true", help="exit with 4 if samples were clipped; the files are written")


def add_data(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--data", type=Path, default=Path("data"), metavar="DIR", help="where the sessions are kept")


# ---- serve ---------------------------------------------------------------------------------------------------------

#: Objects made until the young ones are looked through: with Python's 700 that is some hundred times a second in a drag, and each
#: time the player waits.
GC_THRESHOLD = 20_000


def run_serve(request: argparse.Namespace) -> None:
    import gc
    import socket
    import threading

    from saltanvil.sound.line import SOUND

    SOUND.start()  # it gets ready meanwhile
    gc.disable()  # what a start makes stays: looking through it again and again is a tenth of the start

    print("Salt Anvil: getting ready ...", flush=True)
    import uvicorn

    from saltanvil.engine.priority import sound_first
    from saltanvil.web.app import create_app
    from saltanvil.web.audition import MAX_MESSAGE
    from saltanvil.web.security import LOOPBACK, names_of_machine, url_host
    from saltanvil.web.services import Services

    if not 0 <= request.port <= 65535:
        raise Refused(f"--port {request.port}: a port is from 0 to 65535")
    loopback = request.host in ("127.0.0.1", "localhost", "::1")
    family = socket.AF_INET6 if ":" in request.host else socket.AF_INET
    listener = socket.socket(family, socket.SOCK_STREAM)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((request.host, request.port))
    except OSError as error:
        raise Refused(
            f"port {request.port} on {request.host} cannot be used ({error.strerror}); choose another with --port or --host"
        ) from error
    if not request.empty:
        ensure_demo(request.data)
    token = None if loopback else secrets.token_urlsafe(18)
    hosts = LOOPBACK if loopback else {*LOOPBACK, *names_of_machine(request.host)}
    services = Services(request.data)
    app = create_app(services, hosts, token)
    config = uvicorn.Config(
        app, log_level="warning", ws_per_message_deflate=False, ws_max_size=MAX_MESSAGE, timeout_graceful_shutdown=2
    )
    server = uvicorn.Server(config)
    if request.until_stdin_closes:

        def wait() -> None:
            sys.stdin.buffer.read()
            server.should_exit = True

        threading.Thread(target=wait, daemon=True).start()
    threading.Thread(target=end_anyway, args=(lambda: server.should_exit,), daemon=True).start()
    listener.listen(128)  # from here on a browser that is quick waits instead of being refused
    port = listener.getsockname()[1]
    shown = url_host(request.host)
    gc.freeze()
    gc.set_threshold(GC_THRESHOLD)
    gc.enable()
    print(f"Salt Anvil is at http://{shown}:{port}/{f'?token={token}' if token else ''}", flush=True)
    sound_first()  # what is heard goes through this thread, and nothing else takes long in it
    with contextlib.suppress(KeyboardInterrupt):
        server.run(sockets=[listener])


#: How long the server may take to end; what a disk holds up then is left as it is.
END_S = 8.0


def end_anyway(ending: Callable[[], bool]) -> None:
    """End the process if it has not ended by itself some time after it began to: Python waits for every thread of a pool, also
    for one that waits for a disk."""
    while not ending():
        time.sleep(0.2)
    time.sleep(END_S)
    os._exit(0)


def ensure_demo(folder: Path) -> None:
    """Make the demo sessions if the store has no session at all."""
    from saltanvil.store.database import Database
    from saltanvil.store.folder import DataFolder
    from saltanvil.store.media import MediaStore
    from saltanvil.store.sessions import SessionStore

    with DataFolder(folder) as held, Database(held.database) as database:
        sessions = SessionStore(database)
        if sessions.listed():
            return
        from saltanvil.demo.make import make_demo

        def progress(share: float) -> None:
            print(f"\rMaking the demo sessions ... {share:4.0%}", end="" if share < 1 else "\n", flush=True)

        progress(0.0)
        media = MediaStore(database)
        media.clear_unfinished()
        make_demo(sessions, media, progress)


# ---- the folder ----------------------------------------------------------------------------------------------------


def run_check(request: argparse.Namespace) -> None:
    from saltanvil.store.copies import findings

    wrong = 0
    for finding in findings(request.data):
        wrong += finding.wrong
        print(f"{'wrong: ' if finding.wrong else ''}{finding.text}")
    if wrong:
        raise Refused(
            f"{request.data}: {wrong} faults; put a copy in its place, or bring single sessions back with `saltanvil restore`"
        )
    print("no fault found")


def run_backup(request: argparse.Namespace) -> None:
    from saltanvil.store.copies import back_up

    print(f"{request.output}: {back_up(request.data, request.output) / (1 << 20):.1f} MiB")


def run_restore(request: argparse.Namespace) -> None:
    from saltanvil.store.copies import restore_documents
    from saltanvil.store.database import Database
    from saltanvil.store.folder import DataFolder

    copy = existing(request.copy)
    with DataFolder(request.data) as held, Database(held.database) as database:
        for name in restore_documents(database, copy):
            print(name)


def run_pack(request: argparse.Namespace) -> None:
    from saltanvil.media.encode import whole_or_none
    from saltanvil.store.archive import pack
    from saltanvil.store.copies import reading
    from saltanvil.store.media import MediaStore
    from saltanvil.store.sessions import SessionStore

    if not request.output.parent.is_dir():
        raise Refused(f"{request.output.parent}: there is no such folder to write to; make it first")
    # Reading needs no lock, migrating does.
    with reading(request.data) as database:
        session = session_named(SessionStore(database), request.session)
        with whole_or_none(request.output) as part, progress_bar("Packing") as progress:
            pack(session, MediaStore(database), part, progress)
    print(request.output)


def run_unpack(request: argparse.Namespace) -> None:
    from saltanvil.store.archive import ArchiveError, unpack
    from saltanvil.store.database import Database
    from saltanvil.store.folder import DataFolder
    from saltanvil.store.media import MediaStore
    from saltanvil.store.sessions import SessionStore

    archive = existing(request.archive)
    with DataFolder(request.data) as held, Database(held.database) as database:
        sessions = SessionStore(database)
        try:
            with progress_bar("Unpacking") as progress:
                number = unpack(archive, archive.name, sessions, MediaStore(database), request.data, progress)
        except ArchiveError as error:
            raise Refused(str(error)) from error
        print(f"{number}  {sessions.version(number).session.name}")


def session_named(sessions: "SessionStore", name: str) -> "Session":
    """Raises Refused with those there are."""
    rows = [row for row in sessions.listed() if not row.deleted]
    chosen = [row for row in rows if name in (row.name, str(row.id))]
    if not chosen:
        raise Refused(f"there is no session {name!r}; there are {', '.join(row.name for row in rows) or 'none'}")
    return sessions.version(chosen[0].id).session


@contextlib.contextmanager
def progress_bar(what: str) -> Iterator[Callable[[float], None]]:
    """A bar where someone watches, told a share from 0 to 1."""
    from tqdm import tqdm

    with tqdm(total=100, desc=what, unit="%", disable=not sys.stderr.isatty(), leave=False) as bar:
        yield lambda share: bar.update(100.0 * share - bar.n) and None


# ---- files ---------------------------------------------------------------------------------------------------------


def run_measure(request: argparse.Namespace) -> None:
    from saltanvil.measure.figures import FIGURES, FiguresMeter

    found: dict[str, dict[str, float | None]] = {}
    for path in request.files:
        source = opened(path, most_channels=6)
        meter = FiguresMeter(source.channels, source.rate)
        for block in source.blocks:
            meter.add(block)
        found[str(path)] = meter.figures().as_dict()
    if request.json:
        print(json.dumps([{"file": name, **figures} for name, figures in found.items()], indent=1))
        return
    for name, figures in found.items():
        print(name)
        for name_of, value in figures.items():
            figure = FIGURES[name_of]
            print(f"  {figure.label:<32}{'too short' if value is None else f'{figure.text(value):>8} {figure.unit}'}")


def run_process(request: argparse.Namespace) -> bool:
    """In blocks, so that memory does not grow with the file."""
    from saltanvil.engine.path_runner import SOUND_ID
    from saltanvil.engine.process import FileProcess
    from saltanvil.measure.figures import FiguresMeter
    from saltanvil.media.encode import whole_or_none, write_audio
    from saltanvil.media.stream import FileSound
    from saltanvil.studies.delivered import facts_of_file
    from saltanvil.studies.match import settled

    path = path_from(request.path)
    if request.slot is not None:
        path = slot_of(path, request.slot, request.path)
    writing = writing_of(request, request.format or DEFAULT_FORMATS.get(request.output.suffix.lower()), request.output)
    if not request.output.parent.is_dir():
        raise Refused(f"{request.output.parent}: there is no such folder to write to; make it first")
    check_tempo(request.tempo)
    source = opened(request.input)
    entering = FiguresMeter(source.channels, source.rate)
    sound = FileSound(request.input, None, entering.add)
    keys = [] if request.key is None else [FileSound(existing(request.key), sound.rate)]
    with refusing():
        work = FileProcess(path, sound, keys, request.tempo)
        work.session = settled(work.session, work.media)
    reductions: dict[str, float] = {}

    def watch(plan: "Plan") -> None:
        for node in plan.walk():
            warnings = node.processor.telemetry.reduction_db
            if len(warnings):
                reductions[node.step.id] = max(reductions.get(node.step.id, -1000.0), float(warnings.max()))

    with whole_or_none(request.output) as target:
        blocks = work.blocks(not request.no_tail, watch)
        written = write_audio(target, blocks, sound.rate, work.channels, writing, sound.frames)
        # What the file holds, for the report and the loudness fields of a Broadcast WAV.
        wanted = request.report or writing.format.startswith("bwf")
        facts = facts_of_file(target, request.output.name, writing.format) if wanted else None
    if facts is not None and request.report:
        clipped = {"clipped_samples": written.clipped, "clipped_by_db": round(written.over_db, 2)}
        steps = [
            {"kind": step.kind, "largest_reduction_db": reductions.get(step.id)}
            for step in work.session.strip(SOUND_ID).path.walk()
            if not step.bypass
        ]
        after = {**facts.figures.as_dict(), **clipped}
        print(json.dumps({"before": entering.figures().as_dict(), "after": after, "steps": steps}, indent=1))
    return warn_of_clipping([(request.output.name, written)])


def writing_of(request: argparse.Namespace, form: str | None, output: Path | None = None) -> "Writing":
    """How a file is written. output: whose ending must fit. Raises Refused."""
    from saltanvil.media.encode import Writing
    from saltanvil.media.formats import format_named

    if form is None:
        raise Refused(f"{output}: its ending says no format; use {', '.join(DEFAULT_FORMATS)}, or name one with --format")
    with refusing():
        suffix = format_named(form).suffix
    if output is not None and output.suffix.lower() not in (suffix, suffix.replace("ff", "f")):
        raise Refused(f"{output}: the file's ending must fit the format: {form} is written to {suffix}")
    return Writing(form, request.rate, "shaped" if request.shaped_dither else "tpdf")


def existing(path: Path) -> Path:
    if not path.is_file():
        raise Refused(f"{path}: there is no such file")
    return path


def opened(path: Path, most_channels: int = 2) -> "Source":
    """Raises Refused if it is not there, MediaError if it cannot be read."""
    from saltanvil.media.decode import open_audio

    return open_audio(existing(path), path.name, most_channels)


def path_from(file: Path) -> "StepPath":
    """A path file. Raises Refused with the file's name and what is wrong with it."""
    from saltanvil.session.format import Unreadable, read_path

    try:
        return read_path(file.read_text())
    except OSError as error:
        raise Refused(f"{file}: cannot be read ({error.strerror})") from error
    except UnicodeDecodeError as error:
        raise Refused(f"{file}: this is not a path file; it is to be JSON text") from error
    except Unreadable as error:
        raise Refused(f"{file}: {error}") from error


def slot_of(path: "StepPath", slot: int, file: Path) -> "StepPath":
    """Raises Refused if nothing in the path has that slot."""
    from saltanvil.session.slots import slots_in, with_slots_on

    stored = sorted(slots_in(path))
    if slot not in stored:
        there = f"it has {', '.join(map(str, stored))}" if stored else "it has none"
        raise Refused(f"{file}: there is no slot {slot} in this path; {there}")
    return with_slots_on(path, slot)


def number(text: str) -> float:
    """A finite number, of an argument."""
    result = float(text)
    if not math.isfinite(result):
        raise argparse.ArgumentTypeError(f"{text}: give a finite number")
    return result


def check_tempo(tempo_bpm: float) -> None:
    if not 20.0 <= tempo_bpm <= 300.0:
        raise Refused(f"--tempo {tempo_bpm:g}: a tempo is from 20 to 300 quarter notes a minute")


def run_batch(request: argparse.Namespace) -> None:
    from saltanvil.studies.batch import BusyFolder, Journal

    check_tempo(request.tempo)
    path_from(request.path)
    writing = writing_of(request, request.format)
    folder, out = request.folder.resolve(), request.output.resolve()
    if not folder.is_dir():
        raise Refused(f"{request.folder}: there is no such folder")
    if out == folder:
        raise Refused(f"{request.output}: the results need a folder of their own, so that they never replace what came in")
    if request.jobs is not None and request.jobs < 1:
        raise Refused(f"--jobs {request.jobs}: at least one process is needed")
    if request.loudness is not None and not -60.0 <= request.loudness <= 0.0:
        raise Refused(f"--loudness {request.loudness:g}: a loudness is from -60 to 0 LUFS")
    if not -24.0 <= request.true_peak <= 0.0:
        raise Refused(f"--true-peak {request.true_peak:g}: a true peak is from -24 to 0 dBTP")
    with contextlib.ExitStack() as held:
        try:
            out.mkdir(parents=True, exist_ok=True)
            journal = held.enter_context(Journal(out, request.resume))
        except BusyFolder as error:
            raise Refused(str(error)) from error
        process_folder(request, folder, out, writing, journal)


def process_folder(request: argparse.Namespace, folder: Path, out: Path, writing: "Writing", journal: "Journal") -> None:
    from tqdm import tqdm

    from saltanvil.media.encode import whole_or_none
    from saltanvil.studies.batch import JOURNAL, REPORT, Row, Treatment, planned, report_of, sound_files
    from saltanvil.studies.batch_pool import NoCluster, on_cluster, on_processes

    files = sound_files(folder, out)
    if not files:
        raise Refused(f"{request.folder}: there are no sound files in it")
    treatment = Treatment(
        request.path.read_text(), writing.format, request.loudness, request.true_peak, request.tempo, not request.no_tail,
        request.rate, request.shaped_dither,
    )  # fmt: skip
    items = planned([(file, str(file.relative_to(folder))) for file in files], out, writing.format, journal.rows)
    rows: dict[str, Row] = {}
    if journal.unread:
        lost = f"{journal.unread} lines could not be read; what they stood for is done anew"
        rows[JOURNAL] = Row(JOURNAL, "", "failed", lost)
        print(f"saltanvil: {JOURNAL}: {lost}", file=sys.stderr)
    try:
        work = (
            on_processes(items, treatment, request.jobs)
            if request.scheduler is None
            else on_cluster(items, treatment, request.scheduler)
        )
        bar = tqdm(work, total=len(items), desc="Processing", unit="file", disable=not sys.stderr.isatty())
        for row in bar:
            journal.add(row)
            rows[row.input] = row
            for text in (f"{row.input}: {row.error}" if row.error else "", row.warning if row.state == "done" else ""):
                if text:
                    bar.write(f"saltanvil: {text}", file=sys.stderr)
    except NoCluster as error:
        raise Refused(str(error)) from error
    with whole_or_none(out / REPORT) as part:
        part.write_text(report_of([*(rows[item.input] for item in items), *(rows[name] for name in rows if name == JOURNAL)]))
    states = Counter(rows[item.input].state for item in items)
    failed = states["failed"]
    print(f"{len(items) - failed} of {len(items)} files done ({states['skipped']} before); {out / REPORT}")
    if failed:
        raise Failed(f"{failed} of {len(items)} files failed; run it again with --resume once they are mended")
    if journal.unread:
        raise Failed(f"{JOURNAL} was damaged; it is whole now, and so are all files")


def run_bench(request: argparse.Namespace) -> None:
    from saltanvil.studies.bench import Bench, Question, csv_of, measured

    check_tempo(request.tempo)
    path = path_from(request.path)
    question = Question(
        request.test, request.frequency_hz, request.level_dbfs, request.low_dbfs, request.burst_ms, request.compare
    )
    with refusing():
        result = measured(Bench(path, request.rate, request.channels, request.tempo), question)
    if request.json:
        print(json.dumps(result.as_dict(), indent=1))
    elif request.csv:
        print(csv_of(result), end="")
    else:
        for figure in result.figures:
            print(f"{figure.label:<40}{'--' if figure.value is None else f'{figure.value:10.2f}'} {figure.unit}")


def run_aim(request: argparse.Namespace) -> None:
    from saltanvil.engine.cache import SegmentCache
    from saltanvil.engine.path_runner import session_around
    from saltanvil.media.stream import FileMedia, FileSound
    from saltanvil.session.apply import apply
    from saltanvil.session.edits import Set
    from saltanvil.session.settings import Moved
    from saltanvil.studies.aim import Question, Search
    from saltanvil.studies.match import settled

    check_tempo(request.tempo)
    path = path_from(request.path)
    if not 1 <= request.step <= len(path.steps):
        raise Refused(f"{request.path}: there is no step {request.step}; the path has {len(path.steps)}, counted from 1")
    sound = FileSound(existing(request.input), None)
    keys = [] if request.key is None else [FileSound(existing(request.key), sound.rate)]
    media = FileMedia(sound, *keys)
    with refusing():
        session = settled(session_around(path, sound.rate, request.tempo, bool(keys)), media)
        step_id = path.steps[request.step - 1].id
        question = Question("step", step_id, request.figure, request.target, request.setting)
        answer = Search(session, question, media, SegmentCache(), 0, sound.frames).run()
    if request.json:
        print(json.dumps(vars(answer), indent=1))
    elif answer.reached:
        print(answer.text)
    if not answer.reached:
        raise Refused(answer.text)
    if request.output is not None:
        moved = Moved(of="step", id=step_id, name=answer.setting, value=answer.value)
        written = apply(session, Set(values=[moved])).strip("sound").path
        request.output.write_text(json.dumps(written.model_dump(mode="json"), indent=1) + "\n")


def run_steps(request: argparse.Namespace) -> None:
    from saltanvil.processors import REGISTRY
    from saltanvil.processors.reference import reference_of

    processors = [reference_of(processor) for processor in REGISTRY.values()]
    if request.json:
        print(json.dumps([processor.model_dump(mode="json") for processor in processors], indent=1))
        return
    for processor in processors:
        print(f"{processor.kind}: {processor.summary}")
        for setting in processor.settings:
            print(f"  {setting.name:<22}{span(setting):<44}{setting.help}")


def span(setting: "Descriptor") -> str:
    default: Any = setting.default
    if setting.type == "number":
        return f"{setting.minimum:g} to {setting.maximum:g} {setting.unit} ({default:g})"
    if setting.type == "choice":
        return f"{' | '.join(setting.options)} ({default})"
    if setting.type == "dividers":
        return f"[Hz, ...], 1 to 5 of them ({len(default)})"
    if setting.type == "points":
        return f"[[in, out], ...] dB ({len(default)} points)"
    if setting.type == "resonances":
        return "[{frequency_hz, width_oct, height_db, share, on}, ...]"
    if setting.type == "text":
        return "text"
    return f"on | off ({'on' if default else 'off'})"


def run_render(request: argparse.Namespace) -> bool:
    from saltanvil.store.copies import reading

    with reading(request.data) as database:
        return render_sessions(request, database)


def render_sessions(request: argparse.Namespace, database: "Database") -> bool:
    from concurrent.futures import ThreadPoolExecutor
    from dataclasses import replace

    from saltanvil.engine.export import Target, export_strips
    from saltanvil.engine.time import session_frames
    from saltanvil.media.encode import whole_or_none
    from saltanvil.media.formats import format_named
    from saltanvil.media.names import file_names
    from saltanvil.store.media import MediaStore
    from saltanvil.store.sessions import SessionStore
    from saltanvil.studies.delivered import facts_of_file
    from saltanvil.studies.match import settled

    sessions, store = SessionStore(database), MediaStore(database)
    if request.strips and len(request.sessions) > 1:
        raise Refused("--strips names strips of one session; render the sessions one by one, or leave it out")
    found = [session_named(sessions, name) for name in request.sessions]
    titles = [title(session, strip_id) for session in found for strip_id in ids_of(session, request.strips)]
    writing = writing_of(request, request.format)
    names = iter(file_names([text.replace("/", "_") for text in titles], [format_named(writing.format).suffix] * len(titles)))
    work = [
        (session, [Target(strip_id, request.output / next(names), writing) for strip_id in ids_of(session, request.strips)])
        for session in found
    ]
    try:
        request.output.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise Refused(f"{request.output}: this folder cannot be made ({error.strerror}); name another one") from error
    progress = progress_line(len(work))

    files: list[tuple[str, Written]] = []

    def export(number: int) -> None:
        session, targets = work[number]
        media = store.at_rate(session.rate_hz)
        session = settled(session, media)
        end = session_frames(session, media)
        with contextlib.ExitStack() as whole:
            parts = [replace(target, path=whole.enter_context(whole_or_none(target.path))) for target in targets]
            written = export_strips(
                session, media, 0, end, parts, lambda share: progress(number, share), tail=not request.no_tail
            )
            for part in parts if writing.format.startswith("bwf") else []:  # which get their loudness fields
                facts_of_file(part.path, part.path.name, writing.format)
        files.extend((target.path.name, file) for target, file in zip(targets, written, strict=True))

    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:  # the kernels release the interpreter
        list(pool.map(export, range(len(work))))
    for _, targets in work:
        for target in targets:
            print(target.path)
    return warn_of_clipping(sorted(files, key=lambda file: file[0]))


def ids_of(session: "Session", names: list[str] | None) -> list[str]:
    """The strips of those names; the main if there are none. Raises Refused."""
    from saltanvil.session.document import MAIN_ID

    by_name = {strip.name: strip.id for strip in session.strips}
    for name in names or []:
        if name not in by_name:
            raise Refused(f"{session.name} has no strip {name!r}; it has {', '.join(by_name)}")
    return [by_name[name] for name in names] if names else [MAIN_ID]


def title(session: "Session", strip_id: str) -> str:
    return f"{session.name} - {session.strip(strip_id).name}"


def progress_line(works: int) -> Callable[[int, float], None]:
    """Shows how far several works are, together, where someone watches."""
    shares = [0.0] * works
    last = -1

    def progress(number: int, share: float) -> None:
        nonlocal last
        shares[number] = share
        done = int(100 * sum(shares) / works)
        if sys.stderr.isatty() and done != last:
            last = done
            print(f"\rRendering ... {done} %", end="" if done < 100 else "\n", file=sys.stderr, flush=True)

    return progress


if __name__ == "__main__":
    sys.exit(main())
