"""What is asked of the bench, and what a test gives: figures, lines, marks and a table."""

from dataclasses import asdict, dataclass, field
from typing import Any, Literal

Test = Literal["harmonics", "intermodulation", "aliasing", "curve", "burst", "impulse", "noise"]
TESTS: tuple[Test, ...] = ("harmonics", "intermodulation", "aliasing", "curve", "burst", "impulse", "noise")


@dataclass(frozen=True)
class BenchLine:
    """A picture's line, with the unit of each axis in its name."""

    name: str
    x: list[float]
    y: list[float]


@dataclass(frozen=True)
class BenchFigure:
    name: str
    label: str
    value: float | None
    unit: str


@dataclass(frozen=True)
class Mark:
    """A place in the picture with a word."""

    x: float
    y: float
    text: str


@dataclass(frozen=True)
class Result:
    """What a test gave. x_label, y_label: the axes, with units; log_x: whether frequencies are drawn in octaves. grid: rows of
    levels in dB by place, for a picture in two dimensions, with its rows' y; `lines` otherwise. table: rows of figures."""

    test: Test
    figures: list[BenchFigure]
    lines: list[BenchLine]
    x_label: str
    y_label: str
    log_x: bool = False
    marks: list[Mark] = field(default_factory=list)
    columns: list[str] = field(default_factory=list)
    table: list[list[float]] = field(default_factory=list)
    grid: list[list[int]] = field(default_factory=list)
    grid_x: list[float] = field(default_factory=list)
    grid_y: list[float] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class BenchRequest:
    """What is asked of the bench. level_dbfs: peak of the test signal; low_dbfs: the burst's rest."""

    test: Test
    frequency_hz: float = 1000.0
    level_dbfs: float = -12.0
    low_dbfs: float = -40.0
    burst_ms: float = 400.0
    compare: bool = False


def csv_of(result: Result) -> str:
    """The table of a result with a head of its columns, after the figures as comments."""
    head = [
        f"# {figure.label},{'' if figure.value is None else f'{figure.value:.6g}'},{figure.unit}" for figure in result.figures
    ]
    rows = [",".join(f"{value:.6g}" for value in row) for row in result.table]
    return "\n".join([*head, ",".join(result.columns), *rows, ""])
