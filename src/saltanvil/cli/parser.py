"""The words of every command. Which module runs it is named beside them, so that only that one is loaded."""

import argparse
import math
from pathlib import Path

DEFAULT_PORT = 8420


BENCH_TESTS = ("harmonics", "intermodulation", "aliasing", "curve", "burst", "impulse", "noise")


def build_parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="saltanvil", description="A bench for the dynamics and tone of tracks and buses.")
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")

    serve = commands.add_parser("serve", help="serve the page and the engine")
    serve.add_argument("--port", type=int, default=DEFAULT_PORT, help="0 takes a free one")
    serve.add_argument("--host", default="127.0.0.1", help="other than loopback needs the token that is printed")
    add_data(serve)
    serve.add_argument("--empty", action="store_true", help="make no demo sessions")
    serve.add_argument(
        "--cache", type=size, default=None, metavar="SIZE",
        help="what rendered sound may take on the disk, as 8G or 500M; 0 keeps none (a tenth of what is free, 8G at most)",
    )  # fmt: skip
    serve.add_argument("--until-stdin-closes", action="store_true", help="stop when standard input ends")
    serve.set_defaults(module="serve")

    measure = commands.add_parser("measure", help="loudness, peaks and levels of files")
    measure.add_argument("files", nargs="+", type=Path, metavar="FILE")
    measure.add_argument("--json", action="store_true")
    measure.set_defaults(module="process")

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
    process.add_argument(
        "--difference", action="store_true", help="write what the path removes or adds, without the gain of what it leaves alone"
    )
    process.add_argument("--report", action="store_true", help="print figures before and after as JSON")
    add_written(process)
    process.set_defaults(module="process")

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
    bench.set_defaults(module="bench")

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
    aim.set_defaults(module="bench")

    steps = commands.add_parser("steps", help="every processor with its settings")
    steps.add_argument("--json", action="store_true")
    steps.set_defaults(module="bench")

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
    batch.set_defaults(module="batch", strict=False)

    pack = commands.add_parser("pack", help="write a session with its sound to one file")
    pack.add_argument("session", metavar="SESSION", help="its name or number")
    pack.add_argument("-o", "--output", type=Path, required=True, metavar="FILE.zip")
    add_data(pack)
    pack.set_defaults(module="folder")

    unpack = commands.add_parser("unpack", help="make a session of a file written by pack")
    unpack.add_argument("archive", type=Path, metavar="FILE.zip")
    add_data(unpack)
    unpack.set_defaults(module="folder")

    replace = commands.add_parser("replace", help="let a track play another recording; all that is done to it stays")
    replace.add_argument("session", metavar="SESSION", help="its name or number")
    replace.add_argument("--strip", required=True, metavar="NAME")
    replace.add_argument("file", type=Path, metavar="FILE")
    add_data(replace)
    replace.set_defaults(module="replace")

    check = commands.add_parser("check", help="test a folder of sessions: the database, every session, all sound; writes nothing")
    add_data(check)
    check.set_defaults(module="folder")

    backup = commands.add_parser("backup", help="copy all sessions and media to one file, also while they are in use")
    backup.add_argument("-o", "--output", type=Path, required=True, metavar="FILE")
    add_data(backup)
    backup.set_defaults(module="folder")

    restore = commands.add_parser("restore", help="bring the sessions of a copy back, beside those there are")
    restore.add_argument("copy", type=Path, metavar="COPY", help="one of the daily copies, or a backup of the same folder")
    add_data(restore)
    restore.set_defaults(module="folder")

    render = commands.add_parser("render", help="render sessions to files, several at a time")
    render.add_argument("sessions", nargs="+", metavar="SESSION", help="their names or numbers")
    render.add_argument("-o", "--output", type=Path, required=True, metavar="DIR")
    render.add_argument(
        "--with", dest="new_files", type=Path, default=None, metavar="FOLDER",
        help="files called like tracks of one session, to be heard in place of their recordings; the session stays as it is",
    )  # fmt: skip
    render.add_argument("--strips", nargs="*", default=None, help="names of strips of one session; the main if left out")
    add_format(render, "wav24")
    add_written(render)
    add_data(render)
    render.set_defaults(module="render")
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


def number(text: str) -> float:
    """A finite number, of an argument."""
    result = float(text)
    if not math.isfinite(result):
        raise argparse.ArgumentTypeError(f"{text}: give a finite number")
    return result


UNITS = {"K": 1 << 10, "M": 1 << 20, "G": 1 << 30, "T": 1 << 40}


def size(text: str) -> int:
    """Bytes, of an argument such as 8G."""
    digits, unit = (text[:-1], UNITS[text[-1].upper()]) if text[-1:].upper() in UNITS else (text, 1)
    if not digits.isascii() or not digits.isdigit():
        raise argparse.ArgumentTypeError(f"{text}: give a size, as 8G or 500M")
    return int(digits) * unit
