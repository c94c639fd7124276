"""A match is a function of the document: of what it hears over the stretch it names, and of nothing else."""

import json

import numpy as np
import pyloudnorm
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Arrays
from saltanvil.engine.render import Cancelled, render_nodes, render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.path import Stretch
from saltanvil.session.document.session import Session
from saltanvil.session.graph import NodeId
from saltanvil.session.matches import matches_of, with_matches
from saltanvil.session.validate import checked
from saltanvil.studies.match.match import Matcher, outdated, with_current_matches
from tests.edits import edit_json, moved, set_lane, set_step, set_strip
from tests.signals import noise

RATE, FRAMES = 48000, 48000 * 4


def session_with(**settings_):
    """A track with a held saturator and a steady blend, a bus with a held one, and a bystander."""
    blend = {
        "kind": "split", "id": "blend", "settings": {"by": "copies", "position": 0.5},
        "lanes": [{"id": "dry", "name": "U"}, {"id": "wet", "name": "T", "path": {"steps": [
            {"kind": "compressor", "id": "squash", "settings": {"threshold_db": -40.0, "ratio": 8.0}}]}}],
    }  # fmt: skip
    colour = {"kind": "saturator", "id": "colour", "settings": {"drive_db": 15.0, "oversampling": "1x", **settings_}}
    glue = {"kind": "saturator", "id": "glue", "settings": {"character": "tape", "drive_db": 9.0, "oversampling": "1x"}}
    return checked(
        Session.model_validate(
            {
                "name": "S",
                "sections": [{"id": "quiet", "name": "Quiet", "start_s": 0.0, "end_s": 2.0},
                             {"id": "loud", "name": "Loud", "start_s": 2.0, "end_s": 4.0}],
                "strips": [
                    {"id": "main", "name": "Main", "kind": "main", "output": None},
                    {"id": "bus", "name": "Bus", "kind": "bus", "path": {"steps": [glue]}},
                    {"id": "t", "name": "T", "kind": "track", "media_id": 0, "output": "bus", "path": {"steps": [colour, blend]}},
                    {"id": "o", "name": "O", "kind": "track", "media_id": 1, "path": {"steps": [{"kind": "trim", "id": "trim"}]}},
                ],
            }
        )
    )  # fmt: skip


@pytest.fixture(scope="module")
def media():
    x = noise(2, FRAMES, 1)
    x[:, : FRAMES // 2] *= 0.05  # a quiet half and a loud one
    return Arrays(x, noise(1, FRAMES * 2, 2))


def rendered(session, media, strip="main"):
    return np.concatenate([block[strip] for block in render_strips(session, media, 0, FRAMES, [strip])], axis=1)


def test_it_holds_the_loudness_over_what_it_names_read_by_pyloudnorm(media):
    """BS.1770-5 by pyloudnorm (DeMan's K-weighting), before and after the step, over the whole song and over a section."""
    meter = pyloudnorm.Meter(RATE, filter_class="DeMan")
    for over, span in ((Stretch(), (0, FRAMES)), (Stretch(section_id="quiet"), (0, FRAMES // 2)),
                       (Stretch(start_s=2.5, end_s=3.5), (round(2.5 * RATE), round(3.5 * RATE)))):  # fmt: skip
        session = session_with()
        session.step("colour").step.match_over = over
        session = with_current_matches(session, media)
        result = ScopeRenderer(session, media, SegmentCache(), *span).compare(Scope("t", "colour"))
        before, after = (meter.integrated_loudness(x.T.astype(np.float64)) for x in (result.before, result.after))
        assert abs(after - before) < 0.02, over
        assert session.step("colour").step.match.over == over
    whole, quiet = (settled_gain(media, over) for over in (Stretch(), Stretch(section_id="quiet")))
    assert abs(whole - quiet) > 2  # the stretch is worth naming


def settled_gain(media, over):
    session = session_with()
    session.step("colour").step.match_over = over
    return with_current_matches(session, media).step("colour").step.match.matched_db


HEARD = [  # by the first saturator, the blend behind it, and the bus's
    (set_step("colour", drive_db=20.0), {"colour", "blend", "glue"}),
    (set_step("colour", mix=0.5), {"colour", "blend", "glue"}),
    (set_strip("t", trim_db=-6.0), {"colour", "blend", "glue"}),
    (set_step("squash", threshold_db=-50.0), {"blend", "glue"}),
    (set_lane("wet", level_db=-6.0), {"blend", "glue"}),
    (set_step("blend", position=0.9), {"glue"}),
    (set_step("blend", trim_db=3.0), {"glue"}),
    (set_strip("t", level_db=-12.0), {"glue"}),
    (set_strip("t", pan=0.7), {"glue"}),
    (set_step("glue", drive_db=12.0), {"glue"}),
    (EDIT.validate_python({"op": "set_match_over", "step_id": "glue", "over": {"section_id": "loud"}}), {"glue"}),
    (set_strip("t", mute=True), {"glue"}),
]
UNHEARD = [
    set_strip("o", level_db=-20.0, trim_db=3.0, mute=True), set_step("trim", gain_db=6.0), set_strip("t", solo=True, name="N"),
    set_strip("bus", level_db=-9.0, pan=-0.5), set_step("colour", output_db=4.0), set_lane("wet", name="N"),
    moved("session", None, {"name": "N", "low_latency": True}),
    EDIT.validate_python({"op": "add_step", "strip_id": "bus", "step": {"kind": "limiter"}}),
    EDIT.validate_python({"op": "add_step", "strip_id": "main", "step": {"kind": "compressor"}}),
    EDIT.validate_python({"op": "move_strip", "strip_id": "o", "index": 0}),
    EDIT.validate_python({"op": "remove_strip", "strip_id": "o"}),
    EDIT.validate_python({"op": "set_sections", "sections": []}),
]  # fmt: skip


def late(session, media):
    matcher, result = Matcher(media), set()
    while step := next(outdated(session, matcher), None):
        result.add(step.step.id)
        session = apply_match(session, step, matcher)
    return result


def apply_match(session, result, matcher):
    session = session.model_copy(deep=True)
    session.step(result.step.id).step.match = matcher.measure(session, result)
    return session


@pytest.fixture(scope="module")
def ready(media):
    return with_current_matches(session_with(), media)


@pytest.mark.parametrize(("edit", "steps"), HEARD)
def test_it_is_measured_anew_after_edits_of_what_it_hears(edit, steps, ready, media):
    assert late(apply(ready, edit), media) == steps


@pytest.mark.parametrize("edit", UNHEARD)
def test_and_of_nothing_else(edit, ready, media):
    assert not late(apply(ready, edit), media)


@settings(max_examples=15, deadline=None)
@given(st.lists(st.sampled_from([edit for edit, _ in HEARD[:10]] + UNHEARD[:6]), max_size=5), st.integers(0, 5))
def test_the_same_document_has_the_same_matches_whatever_was_measured_before(edits, undone):
    """Along any way to a document, measured at each step of it or at its end only."""
    x = noise(1, 24_000, 3)
    media = Arrays(x, x)
    one = other = session_with()
    past = []
    for edit in edits:
        past.append(one)
        one = with_current_matches(apply(one, edit), media)
        other = apply(other, edit)
    if past:
        back = min(undone, len(past))
        one = with_current_matches(past[-back] if back else one, media)
        other = session_with()
        for edit in edits[: len(edits) - back]:
            other = apply(other, edit)
    assert matches_of(with_current_matches(one, media)) == matches_of(with_current_matches(other, media))


def test_a_bypassed_split_and_a_plain_law_are_not_measured(ready, media):
    for edit, left in (
        (set_step("blend", bypass=True), {"colour", "glue"}),
        (set_step("blend", law="linear"), {"colour", "glue"}),
        (set_step("colour", output="not held"), {"blend", "glue"}),
    ):
        changed = apply(ready, edit)
        assert {result.step.id for result in Matcher(media).matches(changed)} == left


def test_a_file_is_the_same_whatever_was_listened_to(ready, media):
    """Solo, low latency, and what was measured before have no say in it."""
    expected = rendered(ready, media)
    fresh = rendered(with_current_matches(session_with(), media), media)
    assert np.array_equal(expected, fresh)
    listening = apply(ready, set_strip("t", solo=True))
    listening = apply(listening, moved("session", None, {"low_latency": True}))
    assert np.array_equal(rendered(with_current_matches(listening, media), media), expected)
    wrong = ready.model_copy(deep=True)
    wrong.step("colour").step.match = wrong.step("colour").step.match.model_copy(update={"key": "another", "matched_db": 9.0})
    assert np.array_equal(rendered(with_current_matches(wrong, media), media), expected)


def test_after_is_what_a_file_contains_with_the_sessions_low_latency_on(media):
    """The ledger's *after* of the main equals the rendered file bit for bit, lookahead and oversampling included."""
    session = session_with(oversampling="8x")
    session = apply(
        session,
        EDIT.validate_python(edit_json("add_step", strip_id="main", step={"kind": "limiter", "settings": {"gain_db": 9.0}})),
    )
    session = with_current_matches(session, media)
    session.low_latency = True
    result = ScopeRenderer(session, media, SegmentCache(), 0, FRAMES).compare(Scope("main"))
    assert np.array_equal(result.after, rendered(session, media))


def test_measuring_is_called_off_and_silence_is_named(media):
    session = session_with()
    matcher = Matcher(media)
    with pytest.raises(Cancelled):
        matcher.measure(session, next(outdated(session, matcher)), lambda: True)
    silent = Arrays(np.zeros((1, RATE), np.float32), np.zeros((1, RATE), np.float32))
    result = matches_of(with_current_matches(session, silent))
    assert "Nothing enters" in result["colour"].refused and "untreated side is silent" in result["blend"].refused
    early = session_with()
    early.step("colour").step.match_over = Stretch(start_s=900.0, end_s=901.0)
    assert "Nothing enters" in matches_of(with_current_matches(early, media))["colour"].refused


def test_a_held_loudness_counts_what_moves_and_is_measured_anew_when_that_is_drawn():
    """A drive that moves over the song: over the whole of it the step leaves as loud as it enters, by pyloudnorm."""
    x = noise(2, 48000 * 12, 3) * np.float32(0.2)
    media = Arrays(x)
    points = [{"at_s": 0.0, "value": 0.0}, {"at_s": 12.0, "value": 24.0}]

    def session(envelopes):
        step = {"id": "s", "kind": "saturator", "settings": {"drive_db": 3.0}, "envelopes": envelopes}
        return Session.model_validate({"name": "S", "strips": [
            {"id": "main", "name": "Main", "kind": "main", "output": None},
            {"id": "a", "name": "A", "kind": "track", "media_id": 0, "path": {"steps": [step]}},
        ]})  # fmt: skip

    still = with_current_matches(session({}), media)
    drawn = session({"drive_db": {"points": points}})
    drawn = with_matches(drawn, {"s": still.step("s").step.match})
    (result,) = Matcher(media).matches(drawn)
    assert not result.current  # what was measured of the still one does not hold
    drawn = with_current_matches(drawn, media)
    y = np.concatenate([b for (b,) in render_nodes(drawn, media, [NodeId("step", "s")], 0, x.shape[1])], axis=1)
    meter = pyloudnorm.Meter(48000, filter_class="DeMan")
    assert meter.integrated_loudness(y.T) == pytest.approx(meter.integrated_loudness(x.T), abs=0.1)
    # And of a blend the level of a lane that moves, but not where the blend stands.
    lanes = [{"id": "d", "name": "Dry"}, {"id": "w", "name": "Wet", "path": {"steps": [{"id": "c", "kind": "clipper"}]}}]
    split = {"id": "s", "kind": "split", "settings": {"law": "steady", "position": 0.5}, "lanes": lanes}

    def blend(lane=None, position=None):
        made = json.loads(json.dumps(split))
        made["envelopes"] = {} if position is None else {"position": {"points": position}}
        made["lanes"][1]["envelopes"] = {} if lane is None else {"level_db": {"points": lane}}
        return Session.model_validate({"name": "S", "strips": [
            {"id": "main", "name": "Main", "kind": "main", "output": None},
            {"id": "a", "name": "A", "kind": "track", "media_id": 0, "path": {"steps": [made]}},
        ]})  # fmt: skip

    def key(one):
        return Matcher(media).matches(one)[0].key

    course = [{"at_s": 0.0, "value": 0.0}, {"at_s": 12.0, "value": -12.0}]
    assert key(blend()) == key(blend(position=[{"at_s": 0.0, "value": 0.2}, {"at_s": 9.0, "value": 1.0}]))
    assert key(blend()) != key(blend(lane=course))
    match = with_current_matches(blend(lane=course), media).step("s").step.match
    assert 3.0 < match.matched_db < 9.0  # the mean of what the level takes
