"""The engine's budgets as ratios: against real time and against ffmpeg's filters, measured in the same run.

Run with `.venv/bin/python benchmarks/engine.py`. Each figure is the best of several runs on one core, after a warm-up.
"""

import re
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyloudnorm
import soundfile

from saltanvil.dsp import mix
from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Arrays
from saltanvil.engine.path_runner import PathRunner
from saltanvil.engine.rack import Rack
from saltanvil.engine.render import render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.measure import loudness
from saltanvil.media.decode import open_audio
from saltanvil.processors import REGISTRY
from saltanvil.processors.base import Context, Processor
from saltanvil.processors.colour import CHARACTERS
from saltanvil.processors.compressor import Compressor, CompressorSettings
from saltanvil.processors.equaliser import Equaliser, EqualiserSettings
from saltanvil.processors.saturator import Saturator, SaturatorSettings
from saltanvil.processors.split import BAND_STARTS, Split, SplitSettings
from saltanvil.session.document.path import Path as StepPath
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Send, Session, Strip
from saltanvil.store.database import Database
from saltanvil.store.media import MediaStore
from saltanvil.studies.aim import AimRequest, AimResult, Search
from saltanvil.studies.scope.ledger import ledger_of
from saltanvil.studies.scope.passage import passage_of
from saltanvil.studies.scope.pictures import bite_of, curve_of

RATE = 48000
SECONDS = 60
BLOCK = 1024


def best(work: Callable[[], object], times: int = 5) -> float:
    """Shortest process time of a call, in seconds."""
    work()
    result = []
    for _ in range(times):
        began = time.process_time()
        work()
        result.append(time.process_time() - began)
    return min(result)


def ffmpeg_seconds(path: Path, chain: str, way: str = "-af") -> float:
    """CPU time of one filter alone: with it, less without it; best of five."""

    def once(filters: str, way: str = "-af") -> float:
        run = subprocess.run(
            ["ffmpeg", "-hide_banner", "-benchmark", "-threads", "1", "-i", path, way, filters, "-f", "null", "-"],
            capture_output=True, text=True,
        )  # fmt: skip
        result = re.search(r"utime=([\d.]+)s stime=([\d.]+)s", run.stderr)
        assert result, run.stderr
        return float(result[1]) + float(result[2])

    return min(once(chain, way) for _ in range(5)) - min(once("anull") for _ in range(5))


def music(channels: int, seconds: float) -> np.ndarray:
    rng = np.random.default_rng(0)
    frames = round(seconds * RATE)
    swell = 0.05 + np.abs(np.sin(np.arange(frames) / 9000.0)) ** 2
    return (rng.standard_normal((channels, frames)) * 0.25 * swell).astype(np.float32)


def ringing(x: np.ndarray) -> np.ndarray:
    """x with a tone at each of RESONANCES, so that all are held down."""
    t = np.arange(x.shape[1]) / RATE
    tones = sum(0.1 * np.sin(2 * np.pi * one["frequency_hz"] * t) for one in RESONANCES)
    return (x + tones).astype(np.float32)


def in_blocks(step: Processor, x: np.ndarray) -> Callable[[], None]:
    blocks = [np.ascontiguousarray(x[:, at : at + BLOCK]) for at in range(0, x.shape[1], BLOCK)]

    def work() -> None:
        for block in blocks:
            step.process(block)

    return work


#: As many as there may be; in noise some are at work by chance (see `ringing` for all of them at once).
RESONANCES = [{"frequency_hz": 60.0 * 1.26**n, "width_oct": 0.1, "height_db": 10.0} for n in range(24)]
#: Kind, settings, ffmpeg's filter of the same task (design/3-engine.md names it), its name, budget.
WORKING_SET: tuple[tuple[str, dict[str, Any], str, str, str], ...] = (
    (
        "gate",
        {"threshold_db": -20.0},
        "agate=threshold=0.1:ratio=9000:range=0.001:attack=0.5:release=100",
        "agate",
        "2000 x; 0.5",
    ),
    ("expander", {"threshold_db": -20.0}, "agate=threshold=0.1:ratio=2:range=0.1:attack=2:release=100", "agate", "2000 x; 0.5"),
    ("clipper", {"oversampling": "4x"}, "volume=2,asoftclip=type=tanh:oversample=4", "asoftclip", "300 x; 0.5"),
    ("clipper", {"oversampling": "16x"}, "", "", "none set"),
    ("limiter", {"gain_db": 12.0, "peaks": "true peak"}, "alimiter=level_in=4:limit=0.9:level=0", "alimiter", "700 x; 0.9"),
    ("limiter", {"gain_db": 12.0, "peaks": "sample peak"}, "alimiter=level_in=4:limit=0.9:level=0", "alimiter", "none set"),
    ("shaper", {"attack_db": 6.0, "sustain_db": -3.0}, "", "", "none set"),
    ("deesser", {"threshold_db": -20.0, "against": "level"}, "", "", "none set"),
    ("tamer", {"resonances": RESONANCES, "amount": 1.0, "output": "not held"}, "", "", "60 x"),
    ("tamer", {"resonances": RESONANCES, "amount": 1.0, "quality": "fine", "stereo": "mid/side"}, "", "", "40 x"),
    ("tamer", {"mode": "free", "amount": 1.0}, "", "", "none set"),
    ("leveller", {}, "", "", "none set"),
    ("ducker", {"threshold_db": -30.0}, "", "", "none set"),
    ("lowend", {}, "", "", "none set"),
    ("echo", {}, "aecho=0.7:0.7:300:0.4", "aecho", "none set"),
    ("room", {}, "", "", "none set"),
    ("freecurve", {}, "acompressor=threshold=0.125:ratio=4:attack=10:release=150", "acompressor", "none set"),
)


def lanes_of(*paths: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [{"name": f"Lane {number}", "path": {"steps": steps}} for number, steps in enumerate(paths)]


def split_of(settings: dict[str, Any], *paths: list[dict[str, Any]]) -> dict[str, Any]:
    return {"kind": "split", "settings": settings, "lanes": lanes_of(*paths)}


def path_in_blocks(steps: list[dict[str, Any]], x: np.ndarray) -> Callable[[], None]:
    path = StepPath.model_validate({"steps": steps})
    through, edges = PathRunner(path, x, RATE), range(0, x.shape[1] + 1, BLOCK)

    def work() -> None:
        through.run(edges)

    return work


def splits(x: np.ndarray, path: Path) -> None:
    """Crossovers against ffmpeg's, a split of four compressors against one compressor four times, deep nesting."""
    divide = "acrossover=split=120 500 5000:order=4th[a][b][c][d];[a][b][c][d]amix=4:normalize=0"
    theirs = ffmpeg_seconds(path, divide, "-filter_complex")  # it divides and adds up, as ours does
    for slope in ("12 dB/oct", "24 dB/oct", "48 dB/oct"):
        chosen = SplitSettings(by="bands", dividers_hz=BAND_STARTS[4], slope=slope)
        ours = best(in_blocks(Split(chosen, 2, Context(rate=RATE)), x), 3)
        budget = "600 x; 0.3" if slope == "24 dB/oct" else "none set"
        against = f"; {ours / theirs:.2f} of acrossover with amix" if slope == "24 dB/oct" else ""
        say(f"four bands and their sum, {slope}", f"{SECONDS / ours:.0f} x{against}", budget)
    linear = SplitSettings(by="bands", dividers_hz=BAND_STARTS[4], phase="linear")
    say("four bands, linear phase", f"{SECONDS / best(in_blocks(Split(linear, 2, Context(rate=RATE)), x), 2):.0f} x", "none set")

    squeeze = {"kind": "compressor", "settings": {"threshold_db": -30.0}}
    bands = {"by": "bands", "dividers_hz": BAND_STARTS[4]}
    whole = best(path_in_blocks([split_of(bands, *[[squeeze]] * 4)], x), 3)
    four = best(path_in_blocks([squeeze] * 4, x), 3)
    empty = best(path_in_blocks([split_of(bands, *[[]] * 4)], x), 3)
    say("four-band compressor", f"{SECONDS / whole:.0f} x; {whole / (four + empty):.2f} of its parts", "none set")
    deep: list[dict[str, Any]] = [squeeze]
    for _ in range(4):
        deep = [split_of({"by": "copies", "blend": False}, [], deep)]
    spent = best(path_in_blocks(deep, x), 3) - best(path_in_blocks([squeeze], x), 3)
    blocks = x.shape[1] / BLOCK
    say("copy split of two lanes, for each of four nested", f"{spent / blocks / 4 * 1e6:.0f} microseconds a block", "none set")


def colours(x: np.ndarray, path: Path) -> None:
    """Each character against ffmpeg's soft clipper at the same oversampling, in the same run."""
    for times in (1, 4, 8, 16):
        theirs = ffmpeg_seconds(path, f"volume=2,asoftclip=type=tanh:oversample={times}")
        for character in CHARACTERS:
            chosen = SaturatorSettings.model_validate({"character": character, "oversampling": f"{times}x"})
            ours = best(in_blocks(Saturator(chosen, 2, Context(rate=RATE)), x), 3)
            figure = f"{SECONDS / ours:.0f} x; {ours / theirs:.2f} of asoftclip at {times}x"
            say(f"saturator, {character}, {times}x", figure, "none set")
    coloured = CompressorSettings.model_validate({"output_colour": "tape", "oversampling": "4x"})
    ours = best(in_blocks(Compressor(coloured, 2, Context()), x), 3)
    theirs = ffmpeg_seconds(path, "acompressor=threshold=0.125:ratio=4:attack=10:release=150,asoftclip=type=tanh:oversample=4")
    say("compressor with tape, 4x", f"{SECONDS / ours:.0f} x; {ours / theirs:.2f} of acompressor with asoftclip", "none set")


def say(what: str, figure: str, budget: str) -> None:
    print(f"| {what} | {figure} | {budget} |", flush=True)


def compressor_step(name: str, **settings: object) -> Step:
    return Step.model_validate({"id": name, "kind": "compressor", "settings": settings})


def main() -> None:
    print("| what | measured | budget |\n|---|---|---|")
    x = music(2, SECONDS)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x.wav"
        soundfile.write(path, x.T, RATE, subtype="FLOAT")

        ours = best(in_blocks(Compressor(CompressorSettings(), 2, Context()), x))
        theirs = ffmpeg_seconds(path, "acompressor=threshold=0.125:ratio=4:attack=10:release=150")
        say(
            "compressor, stereo, blocks of 1024",
            f"{SECONDS / ours:.0f} x real time; {ours / theirs:.2f} of acompressor",
            "1500 x; 0.35",
        )

        ours = best(
            in_blocks(
                Equaliser(EqualiserSettings(band1_gain_db=3, band2_gain_db=-3, band3_gain_db=2, band4_gain_db=1), 2, Context()), x
            )
        )
        bands = ",".join(f"equalizer=f={hz}:t=q:w=0.7:g=3" for hz in (100, 400, 2500, 8000))
        say(
            "equaliser, four bands",
            f"{SECONDS / ours:.0f} x; {ours / ffmpeg_seconds(path, bands):.2f} of four equalizers",
            "none set",
        )

        quiet = "no C tool"
        for kind, chosen, chain, tool, budget in WORKING_SET:
            processor = REGISTRY[kind]
            ours = best(in_blocks(processor(processor.settings_model(**chosen), 2, Context()), x), 3)
            against = f"{ours / ffmpeg_seconds(path, chain):.2f} of {tool}" if chain else quiet
            say(f"{processor.label.lower()}{''.join(f', {value}' for value in chosen.values() if isinstance(value, str))}",
                f"{SECONDS / ours:.0f} x; {against}", budget)  # fmt: skip

        chosen = {"resonances": RESONANCES, "amount": 1.0, "output": "not held"}
        tamer = REGISTRY["tamer"]
        ours = best(in_blocks(tamer(tamer.settings_model(**chosen), 2, Context()), ringing(x)), 3)
        say("resonance tamer, 24 that all ring at once", f"{SECONDS / ours:.0f} x; no C tool", "none set")

        colours(x, path)
        splits(x, path)

        ours = best(lambda: (loudness.integrated_lufs(loudness.hop_energies(x, RATE)), loudness.true_peak_dbtp(x)))
        theirs = ffmpeg_seconds(path, "ebur128=peak=true")
        say("loudness with true peak", f"{SECONDS / ours:.0f} x; {ours / theirs:.2f} of ebur128 with peak=true", "1000 x; 0.25")
        ours = best(lambda: loudness.integrated_lufs(loudness.hop_energies(x, RATE)))
        wide = np.ascontiguousarray(x.T.astype(np.float64))
        theirs = best(lambda: pyloudnorm.Meter(RATE).integrated_loudness(wide), 2)
        say("loudness alone", f"{ours / theirs:.2f} of pyloudnorm", "0.15")

        step, block = Compressor(CompressorSettings(), 2, Context()), np.ascontiguousarray(x[:, :BLOCK])
        empty, few = np.zeros((2, 64), np.float32), 2000
        spent = best(lambda: [step.process(empty) for _ in range(few)]) / few - best(lambda: step.process(block), 50) * 64 / BLOCK
        say("dispatch of one processor", f"{spent * 1e6:.1f} microseconds", "10")

        step = Compressor(CompressorSettings(), 2, Context())
        loud = best(in_blocks(step, x))
        tail = best(in_blocks(step, np.zeros_like(x)))
        equaliser = Equaliser(EqualiserSettings(band1_gain_db=3), 2, Context())
        loud_eq, tail_eq = best(in_blocks(equaliser, x)), best(in_blocks(equaliser, np.zeros_like(x)))
        say("silent tail after signal", f"compressor {tail / loud:.2f}, equaliser {tail_eq / loud_eq:.2f} of signal", "1")

        began = time.perf_counter()
        store = MediaStore(Database(Path(folder) / "d.db"))
        three = Path(folder) / "three.wav"
        soundfile.write(three, music(2, 180).T, RATE, subtype="PCM_24")
        began = time.perf_counter()
        store.pyramid(store.import_source(open_audio(three, "three.wav"), RATE), 4096)
        say("3 minutes of stereo imported and stored", f"{time.perf_counter() - began:.2f} s", "3 s")

    media = Arrays(music(1, 30))
    steps = [compressor_step(str(number), threshold_db=-30.0) for number in range(4)]
    equal = Step.model_validate({"id": "e", "kind": "equaliser", "settings": {"band2_gain_db": -3.0}})
    strips = [
        Strip(id="main", name="Main", kind="main", output=None),
        Strip(id="a", name="A", kind="track", media_id=0, path=StepPath(steps=[equal, *steps])),
    ]
    session, cache, result = Session(name="B", strips=strips), SegmentCache(), []
    for number in range(12):
        session.strip("a").path.steps[1] = compressor_step("0", threshold_db=-20.0 - number)
        began = time.perf_counter()
        compared = ScopeRenderer(session, media, cache, 5 * RATE, 15 * RATE).compare(Scope("a", "3"))
        step_of = session.strip("a").path.steps[4]
        (
            ledger_of(passage_of(compared, RATE), session, step_of),
            bite_of(passage_of(compared, RATE), 800),
            curve_of(step_of, step_of.settings, compared.detector_db),
        )
        result.append(time.perf_counter() - began)
    say("ledger and pictures after an edit, 10 s, five steps", f"median {np.median(result[2:]) * 1000:.0f} ms", "300 ms")

    shared = music(1, 180)
    trim, bell = Step.model_validate({"kind": "trim"}), {"kind": "equaliser", "settings": {"band2_gain_db": -3.0}}
    tracks = []
    for number in range(24):
        pair = [compressor_step(f"x{number}"), compressor_step(f"y{number}", threshold_db=-30.0)]
        own = [trim.model_copy(update={"id": f"t{number}"}), Step.model_validate({**bell, "id": f"e{number}"})]
        tracks.append(Strip(name=f"T{number}", kind="track", media_id=0, path=StepPath(steps=[*own, *pair])))
    whole = Session(name="W", strips=[strips[0], *tracks])
    began = time.perf_counter()
    heard = sum(float(mix.peak(block["main"])) for block in render_strips(whole, Arrays(shared), 0, shared.shape[1]))
    say(
        "24 tracks x 180 s x four steps, two cores",
        f"{180 / (time.perf_counter() - began):.0f} x real time" + ("" if heard else " (silent)"),
        "40 x",
    )
    aims()
    automated()
    keyed_and_sent()


def aims() -> None:
    """An aim at the end of a path of five steps over 20 s, against one render of the same by itself."""
    kinds = ("equaliser", "gate", "compressor", "saturator", "clipper")
    steps = [{"id": kind, "kind": kind, "settings": {"output": "not held"} if kind == "saturator" else {}} for kind in kinds]
    track = Strip(id="t", name="T", kind="track", media_id=0, path=StepPath.model_validate({"steps": steps}))
    session = Session(name="aim", strips=[Strip(id="main", name="Main", kind="main", output=None), track])
    media = Arrays(music(2, 22))
    stop = 21 * RATE

    def render() -> None:
        ScopeRenderer(session, media, SegmentCache(), RATE, stop).compare(Scope("t", "clipper"))

    def aim() -> AimResult:
        return Search(session, AimRequest("step", "clipper", "peaks_down_db", 6.0), media, SegmentCache(), RATE, stop).run()

    answer = aim()  # compiled
    alone, whole = best(render), best(aim)
    assert answer.reached
    say(
        "aim, 20 s at the end of five steps",
        f"{whole * 1000:.0f} ms, {answer.renders} renders, {whole / alone:.1f} x one render of the path",
        "",
    )


def automated() -> None:
    """A path of five steps, each with a setting that moves all the time, against the same without: whole renders on one core."""
    moving = (
        ("compressor", "threshold_db", -30.0, -18.0), ("equaliser", "band2_gain_db", -6.0, 6.0),
        ("saturator", "drive_db", 0.0, 9.0), ("clipper", "drive_db", 0.0, 6.0), ("limiter", "ceiling_db", -6.0, -1.0),
    )  # fmt: skip
    seconds = 30
    media = Arrays(music(2, seconds))

    def session(enveloped: bool) -> Session:
        steps = []
        for kind, name, low, high in moving:
            points = [{"at_s": 2.5 * n, "value": high if n % 2 else low} for n in range(seconds * 2 // 5 + 1)]
            envelopes = {"envelopes": {name: {"points": points}}} if enveloped else {}
            steps.append({"id": kind, "kind": kind, "settings": {name: low}, **envelopes})
        track = Strip(id="t", name="T", kind="track", media_id=0, path=StepPath.model_validate({"steps": steps}))
        return Session(name="moving", strips=[Strip(id="main", name="Main", kind="main", output=None), track])

    def render(whole: Session, block: int) -> float:
        def run() -> None:
            plan = compile_plan(whole, media, Rack())
            for at in range(0, seconds * RATE, block):
                plan.run(at, min(block, seconds * RATE - at))

        return best(run, 3)

    for what, block in (("rendered", 1 << 16), ("in blocks of 1024", BLOCK)):
        still, moved = (render(session(enveloped), block) for enveloped in (False, True))
        say(f"five steps with an envelope each, {what}", f"{still / moved:.2f} of the speed without", "0.5")


def keyed_and_sent() -> None:
    """Sixty-four strips, each with four steps; keys from strip to strip, sends into a shared bus."""
    kinds = ("equaliser", "gate", "compressor", "limiter")

    def path(name: str, key: str | None = None) -> StepPath:
        keys = {"key": {"strip_id": key}} if key else {}
        steps = [{"id": f"{name}-{kind}", "kind": kind, **(keys if kind == "compressor" else {})} for kind in kinds]
        return StepPath.model_validate({"steps": steps})

    buses = [Strip(id=f"b{n}", name=f"B{n}", kind="bus", path=path(f"b{n}")) for n in range(8)]
    tracks = [
        Strip(
            id=f"t{n}", name=f"T{n}", kind="track", media_id=0, output=f"b{n % 7}",
            path=path(f"t{n}", f"t{n - 1}" if n % 2 else None), sends=[Send(id=f"s{n}", target="b7", level_db=-12.0)],
        )
        for n in range(55)
    ]  # fmt: skip
    main = Strip(id="main", name="Main", kind="main", output=None, path=path("main"))
    session, media, rack = Session(name="64", strips=[main, *buses, *tracks]), Arrays(music(2, 12)), Rack()
    began = time.perf_counter()
    plan = compile_plan(session, media, rack)
    first = time.perf_counter() - began
    began = time.perf_counter()
    plan = compile_plan(session, media, rack)
    again = time.perf_counter() - began
    say("64 strips x four steps, keys, sends: compiled", f"{first * 1000:.0f} ms, {again * 1000:.0f} ms after an edit", "100 ms")
    began = time.perf_counter()
    for at in range(0, 10 * RATE // BLOCK * BLOCK, BLOCK):
        plan.render(at, BLOCK)
    share = (time.perf_counter() - began) / 10
    say("the same, live, blocks of 1024, one core", f"{100 * share:.0f} % of real time", "head-room")


if __name__ == "__main__":
    main()
