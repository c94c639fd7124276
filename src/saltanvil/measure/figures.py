"""The figures of one piece of sound, under the names the project uses everywhere."""

import math
from dataclasses import asdict, dataclass, field, fields, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.mix import peak
from saltanvil.dsp.units import SILENCE_DB, gain_to_db, power_to_db
from saltanvil.measure import loudness

FLOOR_WINDOW_S = 0.05


#: Tables that show some of the figures: the ledger's, the master's in Deliver, that of a report's files, that of sections.
Table = Literal["ledger", "master", "report", "sections"]
ALL: tuple[Table, ...] = ("ledger", "master", "report", "sections")


@dataclass(frozen=True)
class Figure:
    """What a figure is called and how it is shown. short: for the head of a column; digits: behind the point; tables: those
    that show it (files of figures hold all); source: the document that says what it is."""

    name: str
    label: str
    short: str
    unit: str
    digits: int
    help: str
    source: str
    tables: tuple[Table, ...]

    def text(self, value: float | None) -> str:
        """A value without its unit; a dash for none."""
        return number_text(value, self.digits)


def number_text(value: float | None, digits: int, absent: str = "--") -> str:
    """A number with so many digits behind the point and no negative zero."""
    if value is None or not math.isfinite(value):
        return absent
    text = f"{value:.{digits}f}"
    return text.lstrip("-") if float(text) == 0.0 else text


def figure(label: str, unit: str, digits: int, help: str, source: str, *tables: Table, short: str | None = None) -> Any:
    """A field of `Figures` with what is to be known of it; no tables named: all of them. The field's name ends with the unit."""
    described = Figure("", label, short or label, unit, digits, help, source, tables or ALL)
    return field(metadata={"figure": described})


BS1770, R128 = "ITU-R BS.1770-5", "EBU R 128, Tech 3341"


@dataclass(frozen=True)
class Figures:
    """The figures of a sound, in the order they are shown in everywhere. A new one is a field here and the line in
    `FiguresMeter.figures` that works it out. None where there is nothing to measure: too short, or below the gate."""

    sample_peak_dbfs: float = figure("Sample peak", "dBFS", 2, "The largest sample.", "AES17", "ledger", "master")
    true_peak_dbtp: float = figure(
        "True peak", "dBTP", 2, "The largest value between the samples too, at four times the rate or more.", f"{BS1770}, Annex 2"
    )
    integrated_lufs: float | None = figure(
        "Integrated loudness", "LUFS", 1, "Loudness of the whole, without what lies below the gate.", f"{BS1770}, Annex 1",
        short="Integrated",
    )  # fmt: skip
    max_short_term_lufs: float | None = figure(
        "Short-term max", "LUFS", 1, "The loudest three seconds.", R128, "ledger", "master", "sections"
    )
    max_momentary_lufs: float | None = figure("Momentary max", "LUFS", 1, "The loudest 400 milliseconds.", R128, "master")
    loudness_range_lu: float = figure(
        "Loudness range", "LU", 1, "From the quiet parts to the loud ones, by their 10th and 95th percentile.", "EBU Tech 3342",
        "master", "report", short="Range",
    )  # fmt: skip
    plr_lu: float | None = figure(
        "Peak to loudness", "LU", 1, "PLR: true peak less integrated loudness.", "common practice, no source", "ledger", "master",
        "report", short="PLR",
    )  # fmt: skip
    crest_db: float = figure("Crest", "dB", 1, "Sample peak over RMS.", "AES17 (levels)")
    rms_dbfs: float = figure("RMS", "dBFS", 1, "Level of the mean power of all channels.", "AES17 (levels)", "master")
    floor_dbfs: float = figure(
        "Noise floor (10th percentile)", "dBFS", 1, "The RMS of 50 ms that a tenth of the time lies below.",
        "common practice, no source", "ledger", short="Noise floor",
    )  # fmt: skip

    def as_dict(self) -> dict[str, float | None]:
        return asdict(self)


#: Every figure by its name, in their order.
FIGURES: dict[str, Figure] = {one.name: replace(one.metadata["figure"], name=one.name) for one in fields(Figures)}


def figures_in(table: Table) -> list[Figure]:
    """The figures that a table shows."""
    return [one for one in FIGURES.values() if table in one.tables]


def finite(value: float) -> float | None:
    return value if math.isfinite(value) else None


def largest_lufs(blocks: NDArray[np.float64]) -> float | None:
    return finite(loudness.energy_to_lufs(float(blocks.max()))) if len(blocks) else None


class FiguresMeter:
    """Figures of a sound that comes in blocks, (channels, frames) of any length; it keeps no sound."""

    def __init__(self, channels: int, rate: int) -> None:
        self.channels, self.rate = channels, rate
        weights = loudness.WEIGHTS[channels]
        self._weights = (1.0,) if channels <= 2 else weights
        self._loudness = [loudness.LoudnessMeter(rate, channels if channels <= 2 else 1) for _ in self._weights]
        self._true_peaks = loudness.TruePeakMeter(channels)
        self._sample_peak = 0.0
        self._square, self._frames = 0.0, 0
        self._window = round(FLOOR_WINDOW_S * rate)
        self._rest = np.zeros((channels, 0), np.float32)
        self._powers: list[float] = []

    def add(self, x: NDArray[np.float32]) -> None:
        if not x.shape[1]:
            return
        x = np.ascontiguousarray(x)
        for channel, meter in enumerate(self._loudness):
            meter.add(x if self.channels <= 2 else np.ascontiguousarray(x[channel : channel + 1]))
        self._true_peaks.add(x)
        self._sample_peak = max(self._sample_peak, float(peak(x)))
        self._square += float(np.einsum("cf,cf->", x, x, dtype=np.float64))
        self._frames += x.shape[1]
        joined = np.concatenate([self._rest, x], axis=1)
        count = joined.shape[1] // self._window
        cut = joined[:, : count * self._window].reshape(self.channels, count, self._window)
        self._powers.extend((np.einsum("cbw,cbw->b", cut, cut) / (self._window * self.channels)).tolist())
        self._rest = joined[:, count * self._window :]

    def energies(self) -> NDArray[np.float64]:
        """K-weighted energy of each hop of 10 ms, of all channels."""
        parts = [weight * np.array(meter.energies) for weight, meter in zip(self._weights, self._loudness, strict=True)]
        return np.asarray(sum(parts[1:], parts[0]))

    def figures(self) -> Figures:
        """Of all that was added.

        crest_db is sample peak over RMS of all channels; floor_dbfs the 10th percentile of the RMS of 50 ms windows.
        """
        energies = self.energies()
        sample_peak = gain_to_db(self._sample_peak)
        rms = power_to_db(self._square / max(self._frames * self.channels, 1))
        true_peak, integrated = self._true_peaks.read_dbtp(), finite(loudness.integrated_lufs(energies))
        return Figures(
            integrated_lufs=integrated,
            max_momentary_lufs=largest_lufs(loudness.windowed(energies, loudness.MOMENTARY_HOPS)),
            max_short_term_lufs=largest_lufs(loudness.windowed(energies, loudness.SHORT_TERM_HOPS)),
            loudness_range_lu=loudness.loudness_range_lu(energies),
            true_peak_dbtp=true_peak,
            plr_lu=None if integrated is None else true_peak - integrated,
            sample_peak_dbfs=sample_peak,
            rms_dbfs=rms,
            crest_db=sample_peak - rms if rms > SILENCE_DB else 0.0,
            floor_dbfs=power_to_db(float(np.percentile(self._powers, 10))) if self._powers else SILENCE_DB,
        )


def figures_of(x: NDArray[np.float32], rate: int) -> Figures:
    """Measure x, (channels, frames), C-contiguous."""
    meter = FiguresMeter(x.shape[0], rate)
    meter.add(x)
    return meter.figures()


def match_db(before: NDArray[np.float32], after: NDArray[np.float32], rate: int) -> float:
    """`louder_db` of two sounds, (channels, frames)."""
    return louder_db(loudness.hop_energies(before, rate), loudness.hop_energies(after, rate))


def louder_db(before: NDArray[np.float64], after: NDArray[np.float64]) -> float:
    """Loudness of `after` less that of `before`, in dB, from their energies; 0 where either cannot be measured.

    Integrated loudness (BS.1770-5); stretches under 400 ms, or below its gate, by their ungated weighted energy.
    """
    result = []
    for energies in (before, after):
        value = loudness.integrated_lufs(energies)
        if not math.isfinite(value) and len(energies):
            value = loudness.energy_to_lufs(float(energies.mean()))
        result.append(value)
    difference = result[1] - result[0]
    return difference if math.isfinite(difference) else 0.0
