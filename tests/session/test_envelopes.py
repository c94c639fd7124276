"""The course of a setting: reading it, its two faces, thinning a hand's moves, and the edits that draw it."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.session.address import Address
from saltanvil.session.apply import apply
from saltanvil.session.automation import Automation
from saltanvil.session.document.automation import Breakpoint, Envelope
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.edits.envelopes import (
    ChangeEnvelope,
    MoveRange,
    RecordEnvelope,
    SetEnvelope,
    ShiftEnvelope,
    ThinRange,
    TurnEnvelope,
)
from saltanvil.session.edits.sections import AddSection, RemoveSection, SetSection
from saltanvil.session.envelopes import PointCourse, Scale, apply_curve, curved, section_points, thinned
from saltanvil.session.format import read_session, written
from saltanvil.session.wording import in_words
from tests.edits import undone

DRIVE = {"of": "step", "id": "sat", "name": "drive_db"}
CUT = {"of": "step", "id": "eq", "name": "band2_frequency_hz"}


def session():
    return Session.model_validate({
        "name": "S", "tempo_bpm": 120.0,
        "sections": [
            {"id": "v", "name": "Verse", "start_s": 4.0, "end_s": 8.0},
            {"id": "c", "name": "Chorus", "start_s": 8.0, "end_s": 12.0},
        ],
        "strips": [
            {"id": "main", "name": "Main", "kind": "main", "output": None},
            {"id": "a", "name": "A", "kind": "track", "path": {"steps": [
                {"id": "sat", "kind": "saturator", "settings": {"drive_db": 3.0}}, {"id": "eq", "kind": "equaliser"},
            ]}},
        ],
    })  # fmt: skip


def course(changed, address=DRIVE):
    return Automation(changed).course(Address(**address))


def points(*given, **more):
    return [
        Breakpoint(id=f"p{number}", at_s=at_s, value=value, **more) for number, (at_s, value) in enumerate(given)
    ]  # fmt: skip


def drawn(*given, **more):
    return apply(session(), ChangeEnvelope(**DRIVE, put_points=points(*given, **more)))


@settings(max_examples=100, deadline=None)
@given(
    st.lists(st.tuples(st.floats(0, 100), st.floats(-24, 24), st.sampled_from(["hold", "linear"])), min_size=1, max_size=8),
    st.lists(st.floats(-5, 120), min_size=1, max_size=20),
)
def test_points_are_read_as_numpy_interpolates(given, times):
    """numpy.interp for straight stretches; before the first point and after the last it stays; a hold is the point before."""
    given = sorted(given, key=lambda point: point[0])
    made = PointCourse([Breakpoint(at_s=a, value=v, shape=shape) for a, v, shape in given], Scale(-24.0, 24.0))
    xs, ys = [a for a, _, _ in given], [v for _, v, _ in given]
    for at_s, result in zip(times, made.at(np.array(times)), strict=True):
        before = [index for index, x in enumerate(xs) if x <= at_s]
        if not before:
            expected = ys[0]
        elif before[-1] == len(xs) - 1 or given[before[-1]][2] == "hold":
            expected = ys[before[-1]]
        else:
            low = before[-1]
            expected = float(np.interp(at_s, xs[low : low + 2], ys[low : low + 2]))
        assert result == pytest.approx(expected, abs=1e-9)


def test_a_frequency_moves_by_octaves_and_a_curve_is_early_or_late():
    straight = PointCourse(points((0.0, 100.0), (1.0, 1600.0)), Scale(20.0, 20000.0, log=True))
    assert straight.at(np.array([0.25, 0.5, 0.75])) == pytest.approx([200.0, 400.0, 800.0])
    early, late = (PointCourse(points((0.0, 0.0), (1.0, 1.0), shape="curve", bend=bend), Scale(0.0, 1.0)) for bend in (0.5, -0.5))
    assert early.value(0.5) > 0.8 and late.value(0.5) < 0.2
    assert early.value(0.3) == pytest.approx(1.0 - late.value(0.7))
    assert apply_curve(np.array([0.0, 1.0]), 1.0).tolist() == [0.0, 1.0] and float(apply_curve(np.array([0.3]), 0.0)[0]) == 0.3
    times, values = early.line()
    assert len(times) > 20 and np.interp(0.33, times, values) == pytest.approx(early.value(0.33), abs=5e-3)
    assert early.extent(0.2, 0.4) == (pytest.approx(early.value(0.2)), pytest.approx(early.value(0.4), abs=1e-4))


@settings(max_examples=200, deadline=None)
@given(st.lists(st.floats(0.0, 1.0), min_size=1, max_size=300), st.floats(0.001, 0.3))
def test_a_thinned_recording_stays_within_the_tolerance_and_loses_what_lies_on_a_line(places, tolerance):
    samples = [(number * 0.03, place) for number, place in enumerate(places)]
    thin = thinned(samples, tolerance)
    assert thin[0] == samples[0] and thin[-1][0] == samples[-1][0] and len(thin) <= len(samples)
    line = np.interp([at for at, _ in samples], [at for at, _ in thin], [place for _, place in thin])
    assert np.abs(line - np.array(places)).max() <= tolerance + 1e-9
    assert len(thinned([(at, 0.3 + 0.2 * at) for at, _ in samples], tolerance)) <= 2


@pytest.mark.parametrize("pixels", [80, 120, 200, 400])
@pytest.mark.parametrize("reach", [0.3, 0.6, 1.0])
@pytest.mark.parametrize("seconds", [4.0, 5.0])
def test_a_smooth_ride_is_a_dozen_points_whatever_the_steps_of_its_pixels(pixels, reach, seconds):
    """There and back, as a hand rides a slider of so many pixels, once a frame; the page asks for two pixels, or a hundredth."""
    times = np.arange(0.0, seconds, 1.0 / 30.0)
    places = np.round((0.5 + 0.5 * reach * np.sin(2 * np.pi * times / seconds)) * pixels) / pixels
    tolerance = max(0.01, 2.0 / pixels)
    thin = thinned(list(zip(times.tolist(), places.tolist(), strict=True)), tolerance)
    assert len(thin) <= 12
    assert np.abs(np.interp(times, *np.array(thin).T) - places).max() <= tolerance + 1e-9


def held_by(points, times):
    """The course of curved points at times, worked out one by one."""
    result = []
    for at_s in times:
        number = max(n for n, (start, _, _) in enumerate(points) if start <= at_s)
        start, place, bend = points[number]
        end, other, _ = points[min(number + 1, len(points) - 1)]
        share = 1.0 if end <= start else (at_s - start) / (end - start)
        result.append(place + (other - place) * float(apply_curve(np.array([share]), bend)[0]))
    return np.array(result)


@settings(max_examples=150, deadline=None)
@given(st.lists(st.floats(0.0, 1.0), min_size=2, max_size=120), st.floats(0.001, 0.3))
def test_bent_ways_stay_within_the_tolerance_and_are_never_more_than_lines(places, tolerance):
    samples = [(number * 0.03, place) for number, place in enumerate(places)]
    lines = thinned(samples, tolerance)
    points = curved(lines, samples, tolerance)
    assert len(points) <= len(lines) and {(at_s, place) for at_s, place, _ in points} <= set(lines)
    assert np.abs(held_by(points, [at_s for at_s, _ in samples]) - np.array(places)).max() <= tolerance + 1e-9


@pytest.mark.parametrize("bend", [-0.8, -0.4, 0.5, 0.9])
def test_a_fade_that_is_bent_is_two_points_and_a_ride_there_and_back_a_few(bend):
    times = np.arange(0.0, 4.0, 1.0 / 30.0)
    fade = apply_curve(times / times[-1], bend)
    samples = list(zip(times.tolist(), fade.tolist(), strict=True))
    assert len(curved(thinned(samples, 0.01), samples, 0.01)) <= 3 < len(thinned(samples, 0.01))
    ride = list(zip(times.tolist(), (0.5 + 0.4 * np.sin(np.pi * times / 2.0)).tolist(), strict=True))
    assert len(curved(thinned(ride, 0.01), ride, 0.01)) <= 9 < len(thinned(ride, 0.01))


@settings(max_examples=300, deadline=None)
@given(
    st.lists(st.tuples(st.sampled_from([0.0, 0.0, 0.03, 0.5]), st.floats(0.0, 1.0)), min_size=1, max_size=60),
    st.floats(0.001, 0.3),
)
def test_a_thinned_recording_with_jumps_stays_within_the_tolerance_on_both_sides_of_each(steps, tolerance):
    times = np.cumsum([gap for gap, _ in steps])
    samples = [(float(at_s), place) for at_s, (_, place) in zip(times, steps, strict=True)]
    thin = thinned(samples, tolerance)
    for number, (at_s, place) in enumerate(samples):
        first = number == 0 or samples[number - 1][0] < at_s
        last = number + 1 == len(samples) or samples[number + 1][0] > at_s
        if first or last:  # of several at one time the first is what the course comes from, the last what it goes on with
            side = [point for point in thin if (point[0] <= at_s if last else point[0] < at_s)] or thin[:1]
            others = [point for point in thin if (point[0] > at_s if last else point[0] >= at_s)] or thin[-1:]
            (from_s, before), (to_s, after) = side[-1], others[0]
            held = before if to_s <= from_s else before + (after - before) * (at_s - from_s) / (to_s - from_s)
            assert abs(held - place) <= tolerance + 1e-9


def test_a_jump_stays_a_jump():
    thin = thinned([(0.0, 0.2), (1.0, 0.2), (1.0, 0.8), (2.0, 0.8)], 0.01)
    assert thin == [(0.0, 0.2), (1.0, 0.2), (1.0, 0.8), (2.0, 0.8)]


def test_section_values_ramp_around_their_borders():
    """A beat (0.5 s at 120 bpm), centred: from 0.25 s before to 0.25 s after."""
    changed = apply(session(), ChangeEnvelope(**DRIVE, sections={"v": 1.0, "c": 9.0}))
    held = course(changed)
    assert held.at(np.array([0.0, 3.7, 4.3, 7.7, 8.0, 8.3, 11.7, 12.3, 99.0])) == pytest.approx(
        [3.0, 3.0, 1.0, 1.0, 5.0, 9.0, 9.0, 3.0, 3.0]
    )
    hard = course(apply(changed, ChangeEnvelope(**DRIVE, ramp_beats=0.0)))
    assert hard.at(np.array([7.999, 8.0])).tolist() == [1.0, 9.0]
    # A ramp takes at most half of a short section.
    long = Envelope(sections={"v": 1.0, "c": 9.0}, ramp_beats=64.0)
    made = section_points(long, 3.0, changed.sections, 0.5)
    assert [point.at_s for point in made] == sorted(point.at_s for point in made)
    assert PointCourse(made, Scale(0.0, 36.0)).value(6.0) == pytest.approx(1.0)


def test_the_two_faces_sound_alike_and_turn_into_each_other():
    by_section = apply(session(), ChangeEnvelope(**DRIVE, sections={"v": 1.0, "c": 9.0}))
    times = np.linspace(0.0, 15.0, 400)
    as_points = apply(by_section, TurnEnvelope(**DRIVE, to="points", seed="s"))
    np.testing.assert_allclose(course(as_points).at(times), course(by_section).at(times))
    assert len(course(as_points).breaks_s) == 7
    back = apply(as_points, TurnEnvelope(**DRIVE, to="sections", seed="s"))
    held = back.step("sat").step.envelopes["drive_db"].sections
    assert held == {"v": pytest.approx(1.0, abs=0.4), "c": pytest.approx(9.0, abs=0.8)}
    # A setting without an envelope gets its own value in every section.
    fresh = apply(session(), TurnEnvelope(**CUT, to="sections", seed="s"))
    assert set(fresh.step("eq").step.envelopes["band2_frequency_hz"].sections.values()) == {
        session().step("eq").step.settings.band2_frequency_hz
    }
    with pytest.raises(EditRefused, match="turn them into points to draw"):
        apply(by_section, ChangeEnvelope(**DRIVE, put_points=points((1.0, 2.0))))


def test_sections_take_their_values_along_when_moved_renamed_split_and_removed():
    changed = apply(session(), ChangeEnvelope(**DRIVE, sections={"v": 1.0, "c": 9.0}))
    moved = apply(changed, SetSection(section_id="c", name="Last", start_s=10.0, end_s=14.0))
    assert course(moved).at(np.array([9.0, 13.0])).tolist() == [3.0, 9.0]
    half = {"id": "c2", "name": "Chorus 2", "start_s": 10.0, "end_s": 12.0}
    split = apply(changed, AddSection(section=half, like="c"))
    assert course(split).at(np.array([9.0, 11.0])).tolist() == [9.0, 9.0]
    removed = apply(changed, RemoveSection(section_id="c"))
    assert removed.step("sat").step.envelopes["drive_db"].sections == {"v": 1.0}
    assert course(removed).value(10.0) == 3.0
    assert undone(changed, removed) == changed


EDITS = [
    ChangeEnvelope(**DRIVE, put_points=points((2.0, 5.0))),
    ChangeEnvelope(**DRIVE, remove=["p1"], bypass=True),
    ChangeEnvelope(**DRIVE, clear=(0.5, 2.5)),
    ShiftEnvelope(**DRIVE, by=2.0),
    MoveRange(**DRIVE, start_s=0.5, end_s=2.5, by_s=1.0, by=1.0, scale=2.0),
    MoveRange(**DRIVE, start_s=0.0, end_s=2.5, by_s=6.0, copy_points=True),
    RecordEnvelope(**DRIVE, samples=[(1.0 + 0.03 * n, 5.0 + 3.0 * math.sin(n / 5)) for n in range(60)]),
    SetEnvelope(**DRIVE, envelope=None),
    TurnEnvelope(**DRIVE, to="sections"),
    ThinRange(**DRIVE, start_s=0.0, end_s=6.0, tolerance=0.2),
]


@pytest.mark.parametrize("edit", EDITS, ids=lambda edit: edit.op)
def test_every_edit_is_undone_kept_in_the_file_and_named_in_the_history(edit):
    before = drawn((0.0, 1.0), (1.0, 4.0), (2.0, 2.0), (5.0, 8.0))
    changed = apply(before, edit)
    assert changed != before and undone(before, changed) == before
    assert read_session(written(changed), "S") == (changed, [])
    assert "A saturator: Drive" in in_words(edit, before, changed)
    again = apply(undone(before, changed), edit.model_validate_json(edit.model_dump_json()))
    assert again == changed  # a redo makes the same names


def test_two_hands_that_draw_the_same_envelope_lose_nothing():
    """Edits name single points, so that one does not put back what the other has moved."""
    before = drawn((0.0, 1.0), (1.0, 4.0))
    one = apply(before, ChangeEnvelope(**DRIVE, put_points=[Breakpoint(id="p1", at_s=1.0, value=9.0)]))
    both = apply(one, ChangeEnvelope(**DRIVE, put_points=[Breakpoint(id="p0", at_s=0.5, value=2.0)]))
    assert [(p.at_s, p.value) for p in both.step("sat").step.envelopes["drive_db"].points] == [(0.5, 2.0), (1.0, 9.0)]


def test_moved_as_a_whole_it_stops_where_the_first_point_comes_to_the_limit():
    before = drawn((0.0, 2.0), (1.0, 30.0))
    moved = apply(before, ShiftEnvelope(**DRIVE, by=20.0)).step("sat").step.envelopes["drive_db"].points
    top = Automation(before).course(Address(**DRIVE)).scale.high
    assert [p.value for p in moved] == [2.0 + top - 30.0, top]
    cut = apply(session(), ChangeEnvelope(**CUT, put_points=points((0.0, 500.0), (1.0, 1000.0))))
    moved = apply(cut, ShiftEnvelope(**CUT, by=2.0)).step("eq").step.envelopes["band2_frequency_hz"].points
    assert [p.value for p in moved] == [1000.0, 2000.0]


def test_what_was_recorded_replaces_what_lay_there_and_glides_back():
    before = drawn((0.0, 1.0), (10.0, 1.0))
    samples = [(2.0 + 0.03 * n, 6.0 if n < 50 else 12.0) for n in range(100)]
    after = apply(before, RecordEnvelope(**DRIVE, samples=samples, glide_s=0.5))
    held = course(after)
    assert held.at(np.array([1.9, 2.0, 3.4, 4.9, 5.47, 6.0])) == pytest.approx([1.0, 6.0, 6.0, 12.0, 1.0, 1.0], abs=0.2)
    assert held.value(1.99) == 1.0 and 1.0 < held.value(5.2) < 12.0
    assert len(after.step("sat").step.envelopes["drive_db"].points) <= 9
    # Of a switch only where it changes.
    mute = {"of": "strip", "id": "a", "name": "mute"}
    made = apply(session(), RecordEnvelope(**mute, samples=[(1.0, 1.0), (1.5, 1.0), (2.0, 0.0)], glide_s=0.0))
    held = Automation(made).course(Address(**mute))
    assert held.at(np.array([0.9, 1.2, 1.9, 2.1])).tolist() == [0.0, 1.0, 1.0, 0.0]


@given(
    st.lists(st.tuples(st.floats(0.01, 1.0), st.floats(-12.0, 36.0), st.sampled_from(["linear", "hold", "curve"])), min_size=2),
    st.floats(0.0, 0.2),
)
@settings(max_examples=100, deadline=None)
def test_a_stretch_that_is_thinned_stays_within_the_tolerance_and_never_grows(drawn_points, tolerance):
    times = np.cumsum([gap for gap, _, _ in drawn_points])
    given_points = [
        Breakpoint(id=f"p{n}", at_s=float(at_s), value=value, shape=shape)
        for n, (at_s, (_, value, shape)) in enumerate(zip(times, drawn_points, strict=True))
    ]
    before = apply(session(), ChangeEnvelope(**DRIVE, put_points=given_points))
    after = apply(before, ThinRange(**DRIVE, start_s=0.0, end_s=float(times[-1]), tolerance=tolerance))
    thin = after.step("sat").step.envelopes["drive_db"].points
    assert len(thin) <= len(given_points)
    # At times that it does not look at itself; a jump may move by a thousandth of the stretch.
    at = np.random.default_rng(1).uniform(0.0, times[-1], 500)
    away = np.array([np.abs(times - one).min() for one in at]) > times[-1] / 900
    assert np.abs(course(after).at(at) - course(before).at(at))[away].max(initial=0.0) <= tolerance * 48.0 + 0.5


@pytest.mark.parametrize(
    ("edit", "words"),
    [
        (ThinRange(**DRIVE, start_s=0.0, end_s=1.0), "no points in that stretch"),
        (ChangeEnvelope(of="step", id="sat", name="oversampling", put_points=points((0.0, 1.0))), "changes the latency"),
        (ChangeEnvelope(of="session", name="tempo_bpm", put_points=points((0.0, 100.0))), "does not glide"),
        (ChangeEnvelope(**DRIVE, put_points=points((0.0, 99.0))), "Drive goes from -12 to 36 dB"),
        (ChangeEnvelope(of="strip", id="a", name="mute", put_points=points((0.0, 0.5))), "on .1. or off .0."),
        (ChangeEnvelope(**DRIVE, sections={"gone": 1.0}), "no such section"),
        (ShiftEnvelope(**DRIVE, by=1.0), "no envelope to be moved"),
        (MoveRange(**DRIVE, start_s=0.0, end_s=1.0), "no points in that stretch"),
        (RecordEnvelope(**DRIVE, samples=[(2.0, 1.0), (1.0, 1.0)]), "order of time"),
    ],
)
def test_what_cannot_be_is_refused_with_the_reason(edit, words):
    with pytest.raises(EditRefused, match=words):
        apply(session(), edit)
