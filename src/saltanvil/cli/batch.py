"""`saltanvil batch`: all files of a folder through a path."""

import argparse
import contextlib
import sys
from collections import Counter
from pathlib import Path

from tqdm import tqdm

from saltanvil.cli.errors import Failed, Refused
from saltanvil.cli.files import check_tempo, path_from, writing_of
from saltanvil.media.encode import Writing, whole_or_none
from saltanvil.studies.delivery.batch import JOURNAL, REPORT, BusyFolder, Journal, Row, Treatment, planned, report_of, sound_files
from saltanvil.studies.delivery.batch_pool import NoCluster, on_cluster, on_processes


def run_batch(request: argparse.Namespace) -> None:
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
    with contextlib.ExitStack() as folders:
        try:
            out.mkdir(parents=True, exist_ok=True)
            journal = folders.enter_context(Journal(out, request.resume))
        except BusyFolder as error:
            raise Refused(str(error)) from error
        process_folder(request, folder, out, writing, journal)


def process_folder(request: argparse.Namespace, folder: Path, out: Path, writing: "Writing", journal: "Journal") -> None:
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
