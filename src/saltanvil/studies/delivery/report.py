"""The report of a delivery: one HTML file that needs nothing else, and the figures as JSON and CSV."""

import csv
import io
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from html import escape
from typing import Any

from saltanvil.measure.figures import FIGURES, Figure, Figures, figures_in, number_text
from saltanvil.media.formats import format_named
from saltanvil.media.table import guarded
from saltanvil.processors import processor_named
from saltanvil.processors.descriptor import Descriptor, descriptors_of
from saltanvil.session.delivery import Delivery
from saltanvil.session.document.path import Path, Step
from saltanvil.session.document.session import Session
from saltanvil.session.wording import with_unit
from saltanvil.studies.contrast import Contrast
from saltanvil.studies.delivery.check import DeliveryCheck
from saltanvil.studies.delivery.files import DeliveredFile
from saltanvil.studies.delivery.playback import Playback

COLUMNS = (
    "file", "strip", "section", "start_s", "format", "rate_hz", "channels", "length_s", "bytes", *FIGURES, "sample_overs",
    "warning", "sha256",
)  # fmt: skip
STYLE = """
body { font: 14px/1.45 sans-serif; color: #1d2126; background: #fbfaf7; max-width: 1100px; margin: 24px auto; padding: 0 16px; }
h1 { font-size: 22px; } h2 { font-size: 16px; margin: 28px 0 6px; border-bottom: 1px solid #d9d5ca; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: right; padding: 3px 8px; border-bottom: 1px solid #d9d5ca; }
th:first-child, td:first-child, td.text { text-align: left; } th { font-weight: 400; color: #59616b; }
td { font-variant-numeric: tabular-nums; } code { font-size: 11px; word-break: break-all; } .soft { color: #59616b; }
.warn { color: #b23e1a; } svg { width: 100%; height: auto; } svg text { font: 11px sans-serif; fill: #59616b; }
"""


@dataclass(frozen=True)
class Report:
    """All that a report tells. made_at: in words; stale_check: whether the check is of another version than the files."""

    session: Session
    delivery: Delivery
    files: Sequence[DeliveredFile]
    made_at: str
    contrast: Contrast | None = None
    playback: Playback | None = None
    checked: DeliveryCheck | None = None
    stale_check: bool = False

    # ---- figures -----------------------------------------------------------------------------------------------------------

    def rows(self) -> list[dict[str, Any]]:
        """A row of figures for each file."""
        result = []
        for file in self.files:
            facts = file.facts
            figures = facts.figures.as_dict()
            row = {
                "file": facts.name, "strip": file.strip_name, "section": file.section, "start_s": file.start_s,
                "format": format_named(facts.format).label, "rate_hz": facts.rate_hz, "channels": facts.channels,
                "length_s": facts.length_s, "bytes": facts.bytes, "sample_overs": facts.sample_overs,
                "warning": file.warning or "", "sha256": facts.sha256, **figures,
            }  # fmt: skip
            result.append({name: row[name] for name in COLUMNS})
        return result

    def csv(self) -> str:
        out = io.StringIO()
        writer = csv.writer(out)
        writer.writerow(COLUMNS)
        for row in self.rows():
            writer.writerow([cell(value) for value in row.values()])
        return out.getvalue()

    def json(self) -> str:
        return json.dumps(
            {
                "session": self.session.name,
                "made_at": self.made_at,
                "delivery": self.delivery.model_dump(mode="json"),
                "files": self.rows(),
                "paths": {name: path.model_dump(mode="json") for name, path in self.paths()},
                "contrast": None if self.contrast is None else asdict(self.contrast),
                "playback": None if self.playback is None else self.playback.model_dump(mode="json"),
                "check": None if self.checked is None else self.checked.model_dump(mode="json"),
                "check_is_of_an_older_version": self.stale_check,
            },
            indent=1,
            allow_nan=False,
        )

    def paths(self) -> list[tuple[str, Path]]:
        """The paths of the strips that went out, by their names."""
        return [(strip.name, strip.path) for strip in self.session.strips if strip.id in self.delivery.strip_ids]

    # ---- HTML --------------------------------------------------------------------------------------------------------------

    def html(self) -> str:
        parts = [
            f"<h1>{escape(self.session.name)}: delivery</h1>",
            f'<p class="soft">{escape(self.made_at)} &middot; session at {self.session.rate_hz} Hz &middot; dither: '
            f"{'TPDF' if self.delivery.dither == 'tpdf' else 'TPDF, shaped at 16 bit'}, last and once</p>",
            "<h2>Files</h2>", self.files_table(),
        ]  # fmt: skip
        if self.contrast is not None:
            parts += [
                "<h2>Loudness over the song</h2>",
                loudness_svg(self.contrast),
                "<h2>Contrast</h2>",
                contrast_table(self.contrast),
            ]
        if self.playback is not None:
            parts += ["<h2>Loudness target</h2>", playback_part(self.playback)]
        if self.checked is not None:
            parts += ["<h2>Delivery check</h2>", self.check_part(self.checked)]
        for name, path in self.paths():
            parts += [f"<h2>Path of {escape(name)}</h2>", path_table(path)]
        parts += ["<h2>Checksums (SHA-256)</h2>", checksums(self.files)]
        body = "\n".join(parts)
        title = f"{escape(self.session.name)}: delivery"
        return (
            f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>{title}</title>'
            f'<meta name="viewport" content="width=device-width"><style>{STYLE}</style></head>'
            f"<body><main>\n{body}\n</main></body></html>\n"
        )

    def files_table(self) -> str:
        shown = figures_in("report")
        head = ("File", "Format", "Rate, Hz", "Length, s", *(heading(figure) for figure in shown), "Overs")
        rows = []
        for file in self.files:
            facts, figures = file.facts, file.facts.figures
            warning = f'<br><span class="warn">{escape(file.warning)}</span>' if file.warning else ""
            rows.append(
                [
                    f"{escape(facts.name)}{warning}", escape(format_named(facts.format).label), str(facts.rate_hz),
                    f"{facts.length_s:.2f}", *(figure_cell(figure, figures) for figure in shown), str(facts.sample_overs),
                ]
            )  # fmt: skip
        return table(head, rows)

    def check_part(self, checked: DeliveryCheck) -> str:
        stale = '<p class="warn">The session was changed after this check.</p>' if self.stale_check else ""
        head = (
            "Format",
            heading(FIGURES["true_peak_dbtp"]),
            "Rise, dB",
            "Loudness change, LU",
            "Sample overs",
            f"Above {checked.true_peak_dbtp:g} dBTP",
        )
        rows = [["Master", number(checked.master.true_peak_dbtp, 2), "", "", "", places(checked.master_over_count)]]
        rows += [
            [
                escape(one.label), number(one.figures.true_peak_dbtp, 2), number(one.rise_db, 2), number(one.loudness_lu, 2),
                str(one.sample_overs), places(one.over_count),
            ]
            for one in checked.formats
        ]  # fmt: skip
        return stale + peaks_svg(checked) + table(head, rows)


def places(count: int) -> str:
    return "1 place" if count == 1 else f"{count} places"


def cell(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, float):
        return f"{value:.3f}"
    return guarded(value) if isinstance(value, str) else str(value)


def number(value: float | None, decimals: int = 1) -> str:
    return number_text(value, decimals, "&ndash;")


def heading(figure: Figure, what: str = "") -> str:
    """Of a column: the figure and its unit."""
    return f"{figure.short}{what}, {figure.unit}"


def figure_cell(figure: Figure, figures: Figures) -> str:
    return number(getattr(figures, figure.name), figure.digits)


def table(head: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """Cells are HTML already."""
    top = "".join(f"<th>{escape(name)}</th>" for name in head)
    body = "".join("<tr>" + "".join(f"<td>{text}</td>" for text in row) + "</tr>" for row in rows)
    return f"<table><thead><tr>{top}</tr></thead><tbody>{body}</tbody></table>"


def checksums(files: Sequence[DeliveredFile]) -> str:
    rows = "".join(f"<tr><td>{escape(file.facts.name)}</td><td><code>{file.facts.sha256}</code></td></tr>" for file in files)
    return f"<table>{rows}</table>"


def contrast_table(contrast: Contrast) -> str:
    shown = figures_in("sections")
    sides = [(figure, side) for figure in shown for side in ("before", "after")]
    head = ("Section", *(heading(figure, f" {side}") for figure, side in sides), "Change, LU", "Contrast lost, LU")
    rows = [
        [
            escape(one.name), *(figure_cell(figure, getattr(one, side)) for figure, side in sides), number(one.change_lu),
            number(one.lost_lu),
        ]
        for one in contrast.sections
    ]  # fmt: skip
    spread = (
        f"<p>Quietest to loudest section: {number(contrast.before_lu)} LU before, {number(contrast.after_lu)} LU after.</p>"
        if contrast.after_lu is not None
        else ""
    )
    return spread + table(head, rows)


def playback_part(playback: Playback) -> str:
    hint = f"<p>{escape(playback.hint)}</p>" if playback.hint else ""
    integrated, crest = FIGURES["integrated_lufs"], FIGURES["crest_db"]
    rows = [
        [escape(one.name), number(one.integrated_lufs), number(one.played_lufs), number(one.crest_db)]
        for one in playback.sections
    ]
    sections = table(("Section", heading(integrated), "Played, LUFS", heading(crest)), rows) if rows else ""
    return f"<p>{escape(playback.text)}</p>{hint}{sections}"


def path_table(path: Path) -> str:
    rows = [row for step in path.steps for row in step_rows(step, 0)]
    return table(("Step", "Settings"), rows) if rows else '<p class="soft">No steps.</p>'


def step_rows(step: Step, depth: int) -> list[list[str]]:
    """A step with the settings that are not as they come, and what lies in its lanes."""
    processor = processor_named(step.kind)
    values = step.settings.model_dump(mode="json")
    said = [
        f"{setting.label} {with_unit(values[setting.name], setting)}"
        for setting in descriptors_of(processor.settings_model).values()
        if setting.name in values and values[setting.name] != setting.default and simple(values[setting.name], setting)
    ]
    indent = "&nbsp;" * 4 * depth
    off = " (bypassed)" if step.bypass else ""
    rows = [[f"{indent}{escape(processor.label)}{off}", f'<span class="soft">{escape("; ".join(said) or "as it comes")}</span>']]
    for lane in step.lanes:
        rows.append([f"{indent}&nbsp;&nbsp;{escape(lane.name)}", f"{lane.level_db:+.1f} dB"])
        for inner in lane.path.steps:
            rows += step_rows(inner, depth + 1)
    return rows


def simple(value: object, setting: Descriptor) -> bool:
    return isinstance(value, str | int | float | bool)


# ---- pictures ----------------------------------------------------------------------------------------------------------------

WIDTH, HEIGHT, LEFT, RIGHT, TOP, BOTTOM = 1000, 240, 48, 12, 16, 24
#: The lowest loudness that is drawn.
QUIETEST_LUFS = -60.0


def loudness_svg(contrast: Contrast) -> str:
    """Short-term loudness before and after over the song, with its sections."""
    known = [value for value in (*contrast.before_lufs, *contrast.after_lufs) if value is not None]
    if not known or not contrast.times_s:
        return '<p class="soft">Too short or too soft for a line of loudness.</p>'
    high, low = max(known) + 2.0, max(min(known) - 2.0, QUIETEST_LUFS)
    end = max([contrast.times_s[-1], *(one.end_s for one in contrast.sections)])

    def x(at: float) -> float:
        return LEFT + (WIDTH - LEFT - RIGHT) * at / end

    def y(lufs: float) -> float:
        return TOP + (HEIGHT - TOP - BOTTOM) * (high - max(lufs, low)) / (high - low)

    lines = []
    step = 10 if high - low > 24 else 6 if high - low > 12 else 3
    for mark in range(int(low // step) * step, int(high) + 1, step):
        if low <= mark <= high:
            lines.append(f'<path d="M{LEFT} {y(mark):.1f}H{WIDTH - RIGHT}" stroke="#d9d5ca"/>')
            lines.append(f'<text x="{LEFT - 6}" y="{y(mark) + 4:.1f}" text-anchor="end">{mark}</text>')
    for one in contrast.sections:
        lines.append(f'<path d="M{x(one.start_s):.1f} {TOP}V{HEIGHT - BOTTOM}" stroke="#d9d5ca" stroke-dasharray="3 3"/>')
        lines.append(f'<text x="{x(one.start_s) + 4:.1f}" y="{HEIGHT - 8}">{escape(one.name)}</text>')
    for values, colour in ((contrast.before_lufs, "#59616b"), (contrast.after_lufs, "#0e6e73")):
        pieces, open_path = [], False
        for at, value in zip(contrast.times_s, values, strict=True):
            if value is None:
                open_path = False
                continue
            pieces.append(f"{'L' if open_path else 'M'}{x(at):.1f} {y(value):.1f}")
            open_path = True
        lines.append(f'<path d="{"".join(pieces)}" fill="none" stroke="{colour}" stroke-width="1.5"/>')
    label = "Short-term loudness in LUFS over the song: before in grey, after in green"
    return (
        f'<svg viewBox="0 0 {WIDTH} {HEIGHT}" role="img" aria-label="{label}">{"".join(lines)}</svg><p class="soft">{label}.</p>'
    )


def peaks_svg(checked: DeliveryCheck) -> str:
    """True peak of the master and of each format, against what is wanted."""
    rows = [("Master", checked.master.true_peak_dbtp), *((one.label, one.figures.true_peak_dbtp) for one in checked.formats)]
    known = [value for _, value in rows]
    low, high = min([*known, checked.true_peak_dbtp]) - 1.0, max([*known, 0.0]) + 0.5
    left, row_height = 190, 22
    height = TOP + row_height * len(rows) + BOTTOM

    def x(value: float) -> float:
        return left + (WIDTH - left - 60) * (min(max(value, low), high) - low) / (high - low)

    lines = []
    for number_of, (label, value) in enumerate(rows):
        top = TOP + number_of * row_height
        colour = "#b23e1a" if value > checked.true_peak_dbtp + 1e-3 else "#0e6e73"
        lines.append(f'<text x="{left - 8}" y="{top + 14}" text-anchor="end">{escape(label)}</text>')
        lines.append(f'<rect x="{left}" y="{top + 3}" width="{x(value) - left:.1f}" height="{row_height - 8}" fill="{colour}"/>')
        lines.append(f'<text x="{x(value) + 6:.1f}" y="{top + 14}">{value:.2f}</text>')
    for mark, words in ((0.0, "0 dBTP"), (checked.true_peak_dbtp, f"wanted {checked.true_peak_dbtp:g}")):
        lines.append(f'<path d="M{x(mark):.1f} {TOP}V{height - BOTTOM}" stroke="#1d2126" stroke-dasharray="3 3"/>')
        if mark != 0.0 or checked.true_peak_dbtp != 0.0:
            anchor = "start" if mark == 0.0 else "end"
            lines.append(f'<text x="{x(mark):.1f}" y="{height - 8}" text-anchor="{anchor}">{words}</text>')
    label = "True peak of the master and of each format, dBTP"
    return f'<svg viewBox="0 0 {WIDTH} {height}" role="img" aria-label="{label}">{"".join(lines)}</svg>'
