"""A sweep in steps: what is no harmonic of its tone has folded."""

from dataclasses import dataclass

import numpy as np

from saltanvil.measure import distortion
from saltanvil.session.document.path import Path
from saltanvil.studies.bench.lines import FLOOR_DB
from saltanvil.studies.bench.result import BenchFigure, BenchLine, BenchRequest, Mark, Result
from saltanvil.studies.bench.runner import SHORT_FRAMES, Array, Bench
from saltanvil.studies.scope.pictures import rounded

#: Direct current that is taken out below 5 Hz is gone by 180 dB.
SWEEP_SETTLE_S = 0.66
SWEEP_STEPS = 56
SWEEP_LOW_HZ, SWEEP_HIGH_HZ = 100.0, 18000.0


@dataclass(frozen=True)
class Sweep:
    """Stepped: each tone fits its stretch, so what is no harmonic is known exactly. levels_db: (tones, bands)."""

    tones_hz: list[float]
    strongest_db: list[float]
    strongest_hz: list[float]
    levels_db: Array
    bands_hz: Array

    @property
    def worst(self) -> int:
        return int(np.argmax(self.strongest_db))


def swept(bench: Bench, level_db: float, done: float, share: float) -> Sweep:
    top = min(SWEEP_HIGH_HZ, 0.42 * bench.rate)
    question = np.geomspace(SWEEP_LOW_HZ, top, SWEEP_STEPS)
    edges = np.geomspace(20.0, bench.rate / 2, 97)
    tones, strongest, where, grid = [], [], [], []
    for number, hz in enumerate(question):
        bench.progress(done + share * number / len(question))
        y, fits = bench.tone(float(hz), level_db, SHORT_FRAMES, SWEEP_SETTLE_S)
        harmonics = distortion.harmonics_of(y, bench.rate, fits)
        tones.append(fits)
        strongest.append(harmonics.strongest_db)
        where.append(harmonics.strongest_hz)
        power = distortion.lines(y)
        at = np.searchsorted(edges, np.arange(len(power)) * bench.rate / len(y)) - 1
        column = np.full(len(edges) - 1, 10.0 ** (FLOOR_DB / 10.0))
        inside = (at >= 0) & (at < len(column))
        np.maximum.at(column, at[inside], power[inside])
        grid.append(10.0 * np.log10(column))
    return Sweep(tones, strongest, where, np.array(grid), np.sqrt(edges[1:] * edges[:-1]))


def aliasing(bench: Bench, question: BenchRequest) -> Result:
    """A sweep in steps as a spectrogram, with the strongest product that is no harmonic; and, to compare, the same figure
    at every oversampling that the path's steps offer."""
    ways = oversamplings(bench.path) if question.compare else []
    share = 1.0 / (1 + len(ways))
    sweep = swept(bench, question.level_dbfs, 0.0, share)
    worst = sweep.worst
    figures = [
        BenchFigure("alias_db", "Worst alias", sweep.strongest_db[worst], "dB re the tone"),
        BenchFigure("alias_hz", "at", sweep.strongest_hz[worst], "Hz"),
        BenchFigure("alias_of_hz", "of a tone of", sweep.tones_hz[worst], "Hz"),
        *(BenchFigure("oversampling", "Oversampling", float(way[:-1]), "x") for way in least_oversampling(bench.path)),
    ]
    for number, way in enumerate(ways):
        other = Bench(
            with_oversampling(bench.path, way), bench.rate, bench.channels, bench.tempo_bpm, bench.progress, bench.cancelled
        )
        swept_there = swept(other, question.level_dbfs, (1 + number) * share, share)
        figures.append(BenchFigure(f"alias_{way}_db", f"at {way}", swept_there.strongest_db[swept_there.worst], "dB re the tone"))
    rows = zip(sweep.tones_hz, sweep.strongest_hz, sweep.strongest_db, strict=True)
    return Result(
        "aliasing", figures,
        [BenchLine("strongest fold", rounded(np.array(sweep.tones_hz), 1), rounded(np.array(sweep.strongest_db), 1))],
        "tone, Hz", "Hz", True, [Mark(sweep.tones_hz[worst], sweep.strongest_hz[worst], f"{sweep.strongest_db[worst]:.0f} dB")],
        ["tone_hz", "fold_hz", "fold_db"], [rounded(np.array(row), 1) for row in rows],
        np.rint(sweep.levels_db).astype(int).tolist(), rounded(np.array(sweep.tones_hz), 1), rounded(sweep.bands_hz, 1),
    )  # fmt: skip


def least_oversampling(path: Path) -> list[str]:
    """What the figures were measured at: the lowest oversampling of the path's steps, if they have any."""
    rates = [getattr(step.settings, "oversampling", None) for step in path.walk() if not step.bypass]
    return sorted((way for way in rates if way is not None), key=lambda way: int(way[:-1]))[:1]


def oversamplings(path: Path) -> list[str]:
    """The oversampling settings that steps of the path offer."""
    for step in path.walk():
        described = type(step.settings).model_json_schema()["properties"].get("oversampling")
        if described is not None:
            return list(described["enum"])
    return []


def with_oversampling(path: Path, way: str) -> Path:
    copy = path.model_copy(deep=True)
    for step in copy.walk():
        if "oversampling" in type(step.settings).model_fields:
            step.settings = step.settings.model_copy(update={"oversampling": way})
    return copy
