"""Deliveries: files as asked for, the check against ffmpeg's own meters, the safe ceiling, the target, the report."""

import json
import re
import subprocess
from html.parser import HTMLParser
from pathlib import Path

import numpy as np
import pytest
import soundfile

from saltanvil.demo import low_water
from saltanvil.engine.audition import Scope
from saltanvil.engine.media import Arrays
from saltanvil.engine.render import Cancelled, render_strips
from saltanvil.measure.figures import Figures, figures_of
from saltanvil.media.encode import Writing
from saltanvil.media.recording import recorded
from saltanvil.session.address import Moved
from saltanvil.session.apply import apply
from saltanvil.session.delivery import Delivery, Span, outgoing
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Section, Session, Strip
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.edits.values import Set, SetDelivery
from saltanvil.studies.contrast import contrast_of
from saltanvil.studies.delivery.ceiling import CeilingSearch
from saltanvil.studies.delivery.check import check_formats, measured_master
from saltanvil.studies.delivery.facts import facts_of_file
from saltanvil.studies.delivery.files import deliver, digest_of, files_of, spans_of
from saltanvil.studies.delivery.playback import Spared, playback_of
from saltanvil.studies.delivery.report import Report
from tests.edits import undone
from tests.signals import noise

RATE = 48000


@pytest.fixture(scope="module")
def chorus(demo_tracks):
    """The demo, and the stretch of its loudest twelve seconds."""
    session = low_water.build_session({name: index for index, name in enumerate(demo_tracks)})
    start = low_water.frames_of("Chorus")[0]
    return session, Arrays(*demo_tracks.values()), start, start + 12 * RATE


@pytest.fixture
def master(chorus, tmp_path):
    session, media, start, stop = chorus
    blocks = (held["main"] for held in render_strips(session, media, start, stop))
    return recorded(tmp_path / "master", blocks, RATE, 2)


# ---- what goes out -------------------------------------------------------------------------------------------------------


def names(pattern, spans=(Span(0, 1),), formats=("wav24",), strips=(("main", "Main"), ("d", "Drums/Bus"))):
    delivery = Delivery(pattern=pattern, formats=list(formats))
    return [file.name for file in outgoing(delivery, "Low Water", strips, spans, "2026-11-26")]


def test_names_from_a_pattern():
    assert names("{session} - {strip}") == ["Low Water - Main.wav", "Low Water - Drums_Bus.wav"]
    assert names("{number} {strip} {format}", formats=("wav16", "mp3-256"))[:2] == ["01 Main wav16.wav", "02 Main mp3-256.mp3"]
    assert names("{date}_{strip}")[0] == "2026-11-26_Main.wav"
    assert names("{strip} {section}")[0] == "Main.wav"  # nothing to say, and no blank left over
    spans = (Span(0, 1, "Verse"), Span(1, 2, "Chorus"))
    assert names("{strip}", spans)[::2] == ["Main - Verse.wav", "Main - Chorus.wav"]  # or they would be one name
    assert names("all", formats=("wav16", "wav24"))[:3] == ["all.wav", "all 2.wav", "all 3.wav"]
    for wrong in ("{session} {take}", "{strip", "a}b"):
        with pytest.raises(ValueError, match="field"):
            Delivery(pattern=wrong)
    for wrong in ({"formats": ["wav8"]}, {"formats": ["wav24", "wav24"]}, {"strip_ids": []}, {"true_peak_dbtp": 1.0}):
        with pytest.raises(ValueError):
            Delivery(**wrong)


def test_the_set_up_is_an_edit_like_any_other():
    session = Session(name="Quay")
    changed = apply(session, SetDelivery(values={"formats": ["flac24", "mp3-256"], "true_peak_dbtp": -0.3}))
    assert changed.delivery.formats == ["flac24", "mp3-256"] and changed.delivery.pattern == session.delivery.pattern
    assert undone(session, changed) == session
    assert digest_of(changed) == digest_of(session)  # nothing that sounds was moved
    for values in ({"formats": ["wav8"]}, {"nonsense": 1}, {"pattern": "{oops}"}):
        with pytest.raises(EditRefused):
            apply(session, SetDelivery(values=values))


def small(seconds=3.0, steps=()):
    """Two tracks and two sections."""
    media = Arrays(noise(2, round(seconds * RATE), 1), noise(1, round(seconds * RATE), 2))
    strips = [
        Strip(id="main", name="Main", kind="main", output=None, path={"steps": list(steps)}),
        Strip(id="a", name="A", kind="track", media_id=0),
        Strip(id="b", name="B", kind="track", media_id=1),
    ]
    sections = [Section(id="s1", name="Ebb", start_s=0.0, end_s=1.25), Section(id="s2", name="Flood", start_s=1.25, end_s=3.0)]
    return Session(name="Quay", strips=strips, sections=sections), media


def delivered(session, media, delivery, tmp_path, **more):
    spans = spans_of(session, media, delivery, 0.5, 1.5)
    files = files_of(session, delivery, spans, "2026-11-26")
    paths = [tmp_path / f"{number}" for number in range(len(files))]
    return paths, deliver(session, media, delivery, files, paths, **more)


def test_stems_by_section_in_two_formats(tmp_path):
    """Every file holds what a render of that strip and stretch gives, converted and rounded."""
    session, media = small()
    delivery = Delivery(strip_ids=["main", "b"], extent="sections", formats=["wav32f", "wav16"], dither="shaped")
    shares = []
    paths, files = delivered(session, media, delivery, tmp_path, progress=shares.append)
    assert [file.facts.name for file in files] == [
        f"Quay - {strip} - {section}{again}.wav"
        for section in ("Ebb", "Flood") for strip in ("Main", "B") for again in ("", " 2")
    ]  # fmt: skip
    for path, file in zip(paths, files, strict=True):
        start, stop = (0, 60_000) if file.section == "Ebb" else (60_000, 144_000)
        strip_id = {"Main": "main", "B": "b"}[file.strip_name]
        whole = np.concatenate([block[strip_id] for block in render_strips(session, media, start, stop, [strip_id])], axis=1)
        y = soundfile.read(path, dtype="float32")[0].T
        tail = y.shape[1] - whole.shape[1]
        assert (tail == 0) if file.section == "Ebb" else tail >= 0  # what ends with the song may decay
        floating = file.facts.format == "wav32f"
        error = np.abs(y[:, : whole.shape[1]] - (whole if floating else whole.clip(-1.0, 1.0))).max()
        assert error == 0.0 if floating else 0.0 < error < 40 / 32768
        assert file.facts.figures.integrated_lufs == pytest.approx(figures_of(whole, RATE).integrated_lufs, abs=0.05)
        assert file.facts.bytes == path.stat().st_size and file.facts.sha256 == checksum(path)
    assert shares == sorted(shares) and shares[-1] == pytest.approx(1.0)


def checksum(path):
    return subprocess.run(["sha256sum", str(path)], capture_output=True, text=True, check=True).stdout.split()[0]


def test_a_delivery_at_another_rate(tmp_path):
    session, media = small()
    _, files = delivered(session, media, Delivery(extent="passage", rate_hz=44100, formats=["flac24", "opus-128"]), tmp_path)
    assert [(file.facts.rate_hz, file.facts.frames) for file in files] == [(44100, 44100), (48000, 48000)]
    with pytest.raises(ValueError, match="no sections"):
        spans_of(session.model_copy(update={"sections": []}), media, Delivery(extent="sections"), None, None)


def test_cancelled_in_the_middle(tmp_path):
    session, media = small()
    with pytest.raises(Cancelled):
        delivered(session, media, Delivery(), tmp_path, cancelled=lambda: True)


# ---- check -----------------------------------------------------------------------------------------------------------------


def by_ffmpeg(path):
    """Integrated loudness and true peak by ffmpeg's ebur128 filter."""
    told = subprocess.run(
        ["ffmpeg", "-hide_banner", "-nostats", "-i", str(path), "-af", "ebur128=peak=true", "-f", "null", "-"],
        capture_output=True, text=True, check=True,
    ).stderr  # fmt: skip
    summary = told[told.rindex("Summary") :]
    return (
        float(re.search(r"I:\s+(-?[\d.]+) LUFS", summary)[1]),
        float(re.search(r"True peak:\s+Peak:\s+(-?[\d.]+) dBFS", summary)[1]),
    )


def test_figures_agree_with_ffmpegs_meters(master, tmp_path):
    """Within 0.1 LU and 0.2 dB, of the same encoded files decoded by ffmpeg."""
    from saltanvil.studies.delivery.check import encoded

    for name in ("wav16", "flac24", "mp3-128", "aac-256", "opus-128", "vorbis-192"):
        path, _ = encoded(master, Writing(name), tmp_path, "main", 1.0, lambda: False)
        ours = facts_of_file(path, path.name, name).figures
        loudness, peak = by_ffmpeg(path)
        assert ours.integrated_lufs == pytest.approx(loudness, abs=0.1), name
        assert ours.true_peak_dbtp == pytest.approx(peak, abs=0.2), name


def test_a_check_of_the_demos_loud_main(master, tmp_path):
    """Aligned; peaks rise, and over the codecs more at 128 than at 256 kbit/s (of one codec it may be otherwise). MP3
    at 128 turns the sound down by half a decibel, so its rise is that of the peak over the loudness (common practice, no source:
    the lower the bit rate, the more)."""
    checked = measured_master(master, "main", "Main", 30.0, -1.0)
    formats = ["mp3-128", "mp3-256", "aac-128", "aac-256", "opus-128", "opus-256", "vorbis-128", "vorbis-256", "wav16"]
    found = {one.checked.format: one for one in check_formats(master, checked, [Writing(name) for name in formats], tmp_path)}
    for name, one in found.items():
        assert one.checked.offset_frames == 0 and one.sound.frames == master.frames, name
        x, y = master.read(RATE, 2 * RATE), one.read(RATE, 2 * RATE)
        assert np.corrcoef(x[0], y[0])[0, 1] > 0.95
        assert one.checked.figures.true_peak_dbtp == pytest.approx(checked.master.true_peak_dbtp + one.checked.rise_db)
        assert bool(one.checked.over_count) == (one.checked.figures.true_peak_dbtp > -1.0)
        assert len(one.checked.overs) == min(one.checked.over_count, 200)
        assert all(30.0 <= over.at_s <= 42.1 and over.true_peak_dbtp > -1.0 for over in one.checked.overs)
    rise = {name: one.checked.rise_db - one.checked.loudness_lu for name, one in found.items()}
    low, high = ([rise[f"{codec}-{kbps}"] for codec in ("mp3", "aac", "opus", "vorbis")] for kbps in (128, 256))
    assert sum(low) > sum(high) + 1.0 and min(*low, *high) > 0.0, rise
    assert abs(found["wav16"].checked.rise_db) < 0.01 and found["wav16"].checked.sample_overs == 0
    assert not [path for path in tmp_path.iterdir() if path.suffix in (".mp3", ".opus", ".wav")]  # encoded files go again


def test_a_late_decoder_is_put_in_time(master, tmp_path, monkeypatch):
    """A decoder that is 1024 frames late (as of raw AAC) is found out and read in time."""
    from saltanvil.studies.delivery import check as delivery_check

    whole = delivery_check.open_audio

    def late(path, name):
        source = whole(path, name)
        blocks = iter([np.zeros((2, 1024), np.float32), *source.blocks])
        return type(source)(source.name, source.rate, source.channels, source.frames, source.format, blocks)

    monkeypatch.setattr(delivery_check, "open_audio", late)
    checked = measured_master(master, "main", "Main", 0.0, -1.0)
    (one,) = check_formats(master, checked, [Writing("flac24")], tmp_path)
    assert one.checked.offset_frames == 1024
    assert np.abs(one.read(5000, RATE) - master.read(5000, RATE)).max() < 1e-6


# ---- the ceiling -------------------------------------------------------------------------------------------------------------


def search(session, media, start, stop, folder, formats=("aac-128", "opus-128"), wanted=-1.0, **more):
    folder.mkdir(exist_ok=True)
    return CeilingSearch(session, "main", media, start, stop, False, [Writing(name) for name in formats], wanted, folder, **more)


def highest(session, media, start, stop, folder, formats=("aac-128", "opus-128")):
    """The highest true peak of any format of a delivery as it would be made, file by file."""
    delivery = Delivery(extent="passage", formats=list(formats))
    spans = [Span(start, stop)]
    files = files_of(session, delivery, spans, "2026-11-26")
    folder.mkdir(exist_ok=True)
    paths = [folder / str(number) for number in range(len(files))]
    return max(file.facts.figures.true_peak_dbtp for file in deliver(session, media, delivery, files, paths))


def test_the_safe_ceiling_applied_gives_no_over_and_a_little_more_gives_one(chorus, tmp_path):
    session, media, start, stop = chorus
    stop = start + 5 * RATE
    shares = []
    found = search(session, media, start, stop, tmp_path / "w", progress=shares.append).run()
    assert found.by == "limiter" and found.step_id == "main-limiter" and found.value == found.safe_db
    assert (-6.0 < found.safe_db < -1.0 and "AAC" in found.text) or "Opus" in found.text
    assert not list((tmp_path / "w").iterdir()) and shares == sorted(shares)

    def at(ceiling):
        moved = Moved(of="step", id="main-limiter", name="ceiling_db", value=round(ceiling, 2))
        return apply(session, Set(values=[moved]))

    assert highest(at(found.safe_db), media, start, stop, tmp_path / "a") <= -1.0 + 1e-3
    assert highest(at(found.safe_db + 0.2), media, start, stop, tmp_path / "b") > -1.0
    usual = {row.ceiling_db: row for row in found.rows}
    for ceiling in (-0.1, -0.3, -0.5, -1.0):
        assert set(usual[ceiling].peaks_dbtp) == {"aac-128", "opus-128"}
        assert usual[ceiling].master_dbtp == pytest.approx(ceiling, abs=0.2)


def test_without_a_limiter_the_level_is_found(tmp_path):
    session, media = small(steps=[Step(id="t", kind="trim", settings={"gain_db": 9.0})])
    both = ("wav24", "opus-128")  # the noise of this session loses peaks in an encoder: the master itself is the highest
    found = search(session, media, 0, 2 * RATE, tmp_path / "w", both, wanted=-0.5).run()
    assert found.by == "level" and found.step_id is None
    moved = Moved(of="strip", id="main", name="level_db", value=found.value)
    assert highest(apply(session, Set(values=[moved])), media, 0, 2 * RATE, tmp_path / "a", both) <= -0.5 + 6e-3
    moved = Moved(of="strip", id="main", name="level_db", value=found.value + 0.2)
    assert highest(apply(session, Set(values=[moved])), media, 0, 2 * RATE, tmp_path / "b", both) > -0.5


def test_what_follows_the_limiter_is_rendered_bit_for_bit(chorus, tmp_path):
    """The trials' short way (what enters the limiter is rendered once) gives the very samples of the whole render."""
    session, media, start, stop = chorus
    stop = start + 3 * RATE
    (tmp_path / "w").mkdir()
    work = search(session, media, start, stop, tmp_path / "w")
    whole, peak = work.rendered(session)
    x = whole.read(0, whole.frames)
    work.entering = work.record_entering()
    assert work.entering is not None
    short, again = work.rendered(session)
    assert np.array_equal(short.read(0, short.frames), x) and peak == again


def test_a_level_behind_the_limiter_that_no_ceiling_holds(tmp_path):
    steps = [Step(id="l", kind="limiter"), Step(id="t", kind="trim", settings={"gain_db": 20.0})]
    session, media = small(1.0, steps)
    found = search(session, media, 0, RATE, tmp_path / "w", ("aac-128",)).run()
    assert found.safe_db is None and found.value is None and "Something behind the limiter raises the level" in found.text
    with pytest.raises(Cancelled):
        search(session, media, 0, RATE, tmp_path / "w", cancelled=lambda: True).run()


# ---- the target and the report -------------------------------------------------------------------------------------------------


def figures(lufs=-10.8, peak=-1.0, crest=9.4):
    return Figures(
        integrated_lufs=lufs, max_momentary_lufs=lufs + 3, max_short_term_lufs=lufs + 2, loudness_range_lu=5.0,
        true_peak_dbtp=peak, plr_lu=peak - lufs, sample_peak_dbfs=peak, rms_dbfs=lufs - 3, crest_db=crest, floor_dbfs=-60.0,
    )  # fmt: skip


def test_what_playback_at_a_target_does():
    """EBU R 128: -23 LUFS and -1 dBTP; the other targets are common practice, no source."""
    sections = [("Ebb", figures(-16.0)), ("Flood", figures(-9.5))]
    down = playback_of(-14.0, figures(), sections, Spared(3.2, figures(-14.0, -1.0, 11.0)))
    assert down.gain_db == pytest.approx(-3.2) and down.text == "At -14 LUFS it is turned down by 3.2 dB."
    assert "3.2 dB less input gain" in down.hint and "11.0 dB instead of 9.4: the extra limiting bought nothing" in down.hint
    assert [section.played_lufs for section in down.sections] == pytest.approx([-19.2, -12.7]) and down.contrast_lu == 6.5
    held = playback_of(-14.0, figures(), [], Spared(3.2, figures(-14.0, -1.0, 9.5)))
    assert "nothing is lost either" in held.hint
    up = playback_of(-14.0, figures(-20.0, -3.5), [])
    assert up.gain_db == pytest.approx(2.5) and "turned up by 2.5 dB and plays at -17.5" in up.text and up.hint is None
    assert playback_of(-23.0, figures(-23.05, -9.0), []).text == "At -23 LUFS it plays as it is."
    silent = playback_of(-14.0, figures_of(np.zeros((2, RATE), np.float32), RATE), [])
    assert silent.gain_db is None and "cannot be measured" in silent.text


class Tables(HTMLParser):
    """Cells of all tables, and whether anything is fetched from elsewhere."""

    def __init__(self):
        super().__init__()
        self.rows, self.fetched, self.cell = [], [], None

    def handle_starttag(self, tag, attributes):
        self.fetched += [value for name, value in attributes if name in ("src", "href")]
        if tag == "tr":
            self.rows.append([])
        elif tag in ("td", "th"):
            self.rows[-1].append("")
            self.cell = True

    def handle_endtag(self, tag):
        self.cell = self.cell and tag not in ("td", "th")

    def handle_data(self, data):
        if self.cell:
            self.rows[-1][-1] += data


def test_the_report_holds_the_figures_of_the_files(tmp_path):
    session, media = small(steps=[Step(id="l", kind="limiter", settings={"gain_db": 6.0})])
    session = session.model_copy(update={"name": "Quay <script>alert(1)</script>"})
    delivery = Delivery(formats=["wav24", "mp3-128"])
    paths, files = delivered(session, media, delivery, tmp_path)
    [contrast] = contrast_of(session, media, [Scope("main")])
    master = recorded(tmp_path / "m", (held["main"] for held in render_strips(session, media, 0, 3 * RATE)), RATE, 2)
    checked = measured_master(master, "main", "Main", 0.0, -1.0)
    checked.formats = [one.checked for one in check_formats(master, checked, [Writing("opus-128")], tmp_path)]
    playback = playback_of(-14.0, checked.master, [])
    report = Report(session, delivery, files, "2026-11-26 12:00", contrast, playback, checked)
    told = json.loads(report.json())
    page, rows = report.html(), report.csv().splitlines()
    tables = Tables()
    tables.feed(page)
    assert "<script" not in page and not tables.fetched and page.count("<svg") == 2
    flat = [" ".join(row) for row in tables.rows]
    for path, file, row in zip(paths, files, told["files"], strict=True):
        assert row["sha256"] == checksum(path) and row["integrated_lufs"] == file.facts.figures.integrated_lufs
        assert any(f"{file.facts.figures.integrated_lufs:.1f}" in text and file.facts.name in text for text in flat)
        assert any(row["sha256"] in text for text in flat) and any(row["sha256"] in line for line in rows)
    assert any("Limiter" in text and "Input gain 6 dB" in text for text in flat)
    assert any("Opus 128" in text and f"{checked.formats[0].figures.true_peak_dbtp:.2f}" in text for text in flat)
    assert told["paths"]["Main"]["steps"][0]["kind"] == "limiter" and told["contrast"]["after_lu"] is not None
    assert playback.text in page and Path(paths[0]).is_file()
