"""Contrast of the demo's sections against pyloudnorm on an export, and what is said of a main that is squeezed flat."""

import csv
import io

import numpy as np
import pyloudnorm
import pytest

from saltanvil.demo import low_water as demo
from saltanvil.demo.synth import RATE
from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Arrays
from saltanvil.engine.render import render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.measure.reduction import reduction_of
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.base import MAIN_ID
from saltanvil.session.document.session import Session
from saltanvil.studies.contrast import KnownContrasts, contrast_of, csv_of
from saltanvil.studies.match.match import with_current_matches
from tests.signals import noise


def asked(session, media, *scopes, **wanted):
    contrasts = contrast_of(session, media, scopes, **wanted)
    return contrasts if len(scopes) > 1 else contrasts[0]


def named(contrast):
    return {section.name: section for section in contrast.sections}


@pytest.fixture(scope="module")
def song(demo_tracks):
    media = Arrays(*demo_tracks.values())
    return with_current_matches(demo.build_session({name: index for index, name in enumerate(demo_tracks)}), media), media


def test_sections_are_as_loud_as_pyloudnorm_reads_them_from_an_export(song):
    """pyloudnorm (filter "DeMan", ITU-R BS.1770) on each section cut out of the exported main, and the demo's ground truth."""
    session, media = song
    contrast = asked(session, media, Scope(MAIN_ID))
    main = np.concatenate([block[MAIN_ID] for block in render_strips(session, media, 0, demo.FRAMES)], axis=1)
    meter = pyloudnorm.Meter(RATE, filter_class="DeMan")
    for name in ("Intro", "Verse", "Chorus", "Bridge", "Last chorus"):
        start, stop = demo.frames_of(name)
        section = named(contrast)[name]
        assert section.after.integrated_lufs == pytest.approx(meter.integrated_loudness(main[:, start:stop].T), abs=0.1), name
        assert section.after.sample_peak_dbfs == pytest.approx(20 * np.log10(np.abs(main[:, start:stop]).max()), abs=0.01)
    step = next(step for step in contrast.steps if step.to_id == named(contrast)["Chorus"].section_id)
    assert step.before_lu == pytest.approx(demo.FAULTS.chorus_over_verse_lu, abs=0.7)
    assert contrast.after_lu == pytest.approx(
        max(one.after.integrated_lufs for one in contrast.sections) - min(one.after.integrated_lufs for one in contrast.sections)
    )
    # The line stands at the middle of its 3 s: within the chorus it lies about its loudness.
    middle = [
        lufs for at, lufs in zip(contrast.times_s, contrast.after_lufs, strict=True)
        if named(contrast)["Chorus"].start_s + 2 < at < named(contrast)["Chorus"].end_s - 2
    ]  # fmt: skip
    assert np.mean(middle) == pytest.approx(named(contrast)["Chorus"].after.integrated_lufs, abs=1.0)


def test_a_main_that_is_squeezed_flat_is_flagged(song):
    session, media = song
    session = session.model_copy(update={"keep_contrast_lu": 0.0})  # the wish would be spoken of first
    squeeze = {"id": "x", "kind": "compressor", "settings": {
        "threshold_db": -50.0, "ratio": 50.0, "attack_ms": 1.0, "release_ms": 40.0, "makeup": "manual", "makeup_db": 20.0,
    }}  # fmt: skip
    edit = EDIT.validate_python({"op": "add_step", "strip_id": MAIN_ID, "index": 0, "step": squeeze})
    flat = asked(apply(session, edit), media, Scope(MAIN_ID, "x"))
    assert flat.after_lu < 2.0 < flat.before_lu - 3.0
    [hint] = flat.hints
    assert hint.name == "contrast flat" and "equally loud" in hint.text
    sections = named(flat)
    # The quietest one is what the others are held against: make-up gain, which raises all of them, hides nothing.
    assert sections["Intro"].lost_lu == 0.0 and sections["Chorus"].lost_lu - sections["Verse"].lost_lu > 4.0
    assert sections["Chorus"].reduction.largest_db > sections["Verse"].reduction.largest_db


def quiet_and_loud():
    x = noise(2, RATE * 8, 1, level=0.2)
    x[:, : RATE * 4] *= 0.4
    return x


def two_sections(**more):
    return Session.model_validate({
        "name": "S",
        "sections": [
            {"id": "q", "name": "Quiet", "start_s": 0.0, "end_s": 4.0},
            {"id": "l", "name": "Loud", "start_s": 4.0, "end_s": 8.0},
            {"id": "s", "name": "=Short", "start_s": 7.9, "end_s": 8.2},
            {"id": "b", "name": "Behind", "start_s": 9.0, "end_s": 10.0},
        ],
        "strips": [
            {"id": "main", "name": "Main", "kind": "main", "output": None},
            {"id": "t", "name": "T", "kind": "track", "media_id": 0},
        ], **more,
    })  # fmt: skip


def test_a_wish_is_kept_or_not():
    media = Arrays(quiet_and_loud())
    contrast = asked(two_sections(keep_contrast_lu=6.0), media, Scope("t"))
    assert contrast.after_lu == pytest.approx(7.96, abs=0.05) and not contrast.hints  # 20 log10 0.4, from the definition
    [hint] = asked(two_sections(keep_contrast_lu=9.0), media, Scope("t")).hints
    assert hint.name == "contrast wish" and "no more than 8.0 LU came in" in hint.text


def test_several_together_are_what_each_is_alone_and_what_is_known_is_not_rendered_again():
    """A main, a strip, a step and a lane, and their gain reduction; after an edit of the main the rest is known."""
    squeeze = {"kind": "compressor", "settings": {"threshold_db": -30.0, "lookahead_ms": 5.0}}
    lanes = [{"id": f"l{n}", "name": f"L{n}", "path": {"steps": [{"id": f"x{n}", **squeeze}]}} for n in range(2)]
    session, media = two_sections(), Arrays(quiet_and_loud())
    split = {"id": "split", "kind": "split", "settings": {"by": "copies"}, "lanes": lanes}
    for index, step in enumerate(({"id": "x", **squeeze}, split)):
        edit = {"op": "add_step", "strip_id": "t", "index": index, "step": step}
        session = apply(session, EDIT.validate_python(edit))
    scopes = [Scope(MAIN_ID), Scope("t"), Scope("t", "x"), Scope("t", lane_id="l1")]
    known = KnownContrasts()
    together = asked(session, media, *scopes, known=known)
    for one, alone in zip(together, (asked(session, media, scope) for scope in scopes), strict=True):
        for section, other in zip(one.sections, alone.sections, strict=True):
            for side in ("before", "after"):
                assert vars(getattr(section, side)) == pytest.approx(vars(getattr(other, side)), abs=1e-3)
            assert section.reduction == other.reduction
    shares = []
    assert asked(session, media, *scopes, known=known, progress=shares.append) == together and not shares
    trimmed = {"op": "set", "values": [{"of": "strip", "id": MAIN_ID, "name": "trim_db", "value": 1.0}]}
    again = asked(apply(session, EDIT.validate_python(trimmed)), media, *scopes, known=known, progress=shares.append)
    assert again[1:] == together[1:] and shares[-1] == 1.0
    before = [contrast.sections[0].before.integrated_lufs for contrast in (together[0], again[0])]
    assert before[1] == pytest.approx(before[0] + 1.0, abs=1e-3)


def test_the_reduction_of_a_section_is_that_of_its_passage():
    """A passage of the section alone, rendered from the song's start, is the reference."""
    session, media = two_sections(), Arrays(quiet_and_loud())
    step = {"id": "x", "kind": "compressor", "settings": {"threshold_db": -30.0, "ratio": 4.0, "lookahead_ms": 5.0}}
    session = apply(session, EDIT.validate_python({"op": "add_step", "strip_id": "t", "index": 0, "step": step}))
    contrast = asked(session, media, Scope("t"))
    for name, section in named(contrast).items():
        start, stop = (round(at * RATE) for at in (section.start_s, min(section.end_s, 8.0)))
        renderer = ScopeRenderer(session, media, SegmentCache(), start, stop)
        renderer.begin = 0
        told = renderer.compare(Scope("t")).reduction_db
        assert section.reduction.largest_db == pytest.approx(float(told.max()), abs=1e-4), name
        assert section.reduction.mean_db == pytest.approx(reduction_of(told).mean_db, abs=0.01), name


def test_what_cannot_be_measured_says_nothing():
    session, media = two_sections(), Arrays(quiet_and_loud())
    contrast = asked(session, media, Scope("t"))
    assert [section.section_id for section in contrast.sections] == ["q", "l", "s"]  # one lies behind the end
    assert contrast.sections[2].change_lu is None and contrast.sections[2].after.integrated_lufs is None
    silent = asked(session, Arrays(np.zeros((1, RATE * 8), np.float32)), Scope("t"))
    assert silent.after_lu is None and not silent.hints and set(silent.after_lufs) == {None}


def test_the_table():
    session, media = two_sections(), Arrays(quiet_and_loud())
    contrast = asked(session, media, Scope("t"))
    rows = list(csv.DictReader(io.StringIO(csv_of([("T", contrast)]))))
    assert [row["section"] for row in rows] == ["Quiet", "Loud", "'=Short"]  # no formula for a spreadsheet
    assert float(rows[1]["step_after_lu"]) == pytest.approx(7.96, abs=0.05) and rows[2]["after_integrated_lufs"] == ""
