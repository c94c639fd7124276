"""`bench`, `aim`, `steps`: what a path does, how a figure is reached, what there is."""

import argparse
import json
from typing import Any

from saltanvil.cli.errors import Refused, refusing
from saltanvil.cli.files import check_tempo, existing, path_from
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.path_runner import session_around
from saltanvil.media.stream import FileMedia, FileSound
from saltanvil.processors import REGISTRY
from saltanvil.processors.descriptor import Descriptor
from saltanvil.processors.reference import reference_of
from saltanvil.session.address import Moved
from saltanvil.session.apply import apply
from saltanvil.session.edits.values import Set
from saltanvil.studies import aim
from saltanvil.studies.bench.measured import measured
from saltanvil.studies.bench.result import BenchRequest, csv_of
from saltanvil.studies.bench.runner import Bench
from saltanvil.studies.match.match import with_current_matches


def run_bench(request: argparse.Namespace) -> None:
    check_tempo(request.tempo)
    path = path_from(request.path)
    question = BenchRequest(
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
    check_tempo(request.tempo)
    path = path_from(request.path)
    if not 1 <= request.step <= len(path.steps):
        raise Refused(f"{request.path}: there is no step {request.step}; the path has {len(path.steps)}, counted from 1")
    sound = FileSound(existing(request.input), None)
    keys = [] if request.key is None else [FileSound(existing(request.key), sound.rate)]
    media = FileMedia(sound, *keys)
    with refusing():
        session = with_current_matches(session_around(path, sound.rate, request.tempo, bool(keys)), media)
        step_id = path.steps[request.step - 1].id
        question = aim.AimRequest("step", step_id, request.figure, request.target, request.setting)
        answer = aim.Search(session, question, media, SegmentCache(), 0, sound.frames).run()
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
