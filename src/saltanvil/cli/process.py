"""`measure` and `process`: files, by themselves."""

import argparse
import hashlib
import json

from saltanvil.cli.errors import Refused, refusing
from saltanvil.cli.files import DEFAULT_FORMATS, check_tempo, existing, opened, path_from, slot_of, warn_of_clipping, writing_of
from saltanvil.engine.media import Audio
from saltanvil.engine.path_runner import SOUND_ID, FileProcess
from saltanvil.engine.plan import Plan
from saltanvil.measure.figures import FIGURES, FiguresMeter
from saltanvil.media.encode import whole_or_none, write_audio
from saltanvil.media.stream import FileSound
from saltanvil.studies.delivery.facts import facts_of_file
from saltanvil.studies.match.match import with_current_matches


def run_measure(request: argparse.Namespace) -> None:
    measured: dict[str, dict[str, float | None]] = {}
    for path in request.files:
        source = opened(path, most_channels=6)
        meter = FiguresMeter(source.channels, source.rate)
        for block in source.blocks:
            meter.add(block)
        measured[str(path)] = meter.figures().as_dict()
    if request.json:
        print(json.dumps([{"file": name, **figures} for name, figures in measured.items()], indent=1))
        return
    for name, figures in measured.items():
        print(name)
        for name_of, value in figures.items():
            figure = FIGURES[name_of]
            print(f"  {figure.label:<32}{'too short' if value is None else f'{figure.text(value):>8} {figure.unit}'}")


def run_process(request: argparse.Namespace) -> bool:
    """In blocks, so that memory does not grow with the file."""
    path = path_from(request.path)
    if request.slot is not None:
        path = slot_of(path, request.slot, request.path)
    writing = writing_of(request, request.format or DEFAULT_FORMATS.get(request.output.suffix.lower()), request.output)
    if not request.output.parent.is_dir():
        raise Refused(f"{request.output.parent}: there is no such folder to write to; make it first")
    check_tempo(request.tempo)
    source = opened(request.input)
    entering, digest = FiguresMeter(source.channels, source.rate), hashlib.blake2b(digest_size=16)

    def enter(block: Audio) -> None:
        entering.add(block)
        digest.update(block.tobytes())

    sound = FileSound(request.input, None, enter)
    # Two stems get dither that has nothing in common, the same one always the same.
    seed = f"{digest.hexdigest()} {request.input.name}"
    keys = [] if request.key is None else [FileSound(existing(request.key), sound.rate)]
    with refusing():
        work = FileProcess(path, sound, keys, request.tempo)
        work.session = with_current_matches(work.session, work.media)
    reductions: dict[str, float] = {}

    def watch(plan: "Plan") -> None:
        for node in plan.walk():
            warnings = node.processor.telemetry.reduction_db
            if len(warnings):
                reductions[node.step.id] = max(reductions.get(node.step.id, -1000.0), float(warnings.max()))

    with whole_or_none(request.output) as target:
        blocks = work.blocks(not request.no_tail, watch, difference=request.difference)
        written = write_audio(target, blocks, sound.rate, work.channels, writing, sound.frames, seed)
        # What the file holds, for the report and the loudness fields of a Broadcast WAV.
        measures = request.report or writing.format.startswith("bwf")
        facts = facts_of_file(target, request.output.name, writing.format) if measures else None
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
