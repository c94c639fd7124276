"""What an edit names that is not there is left out and said."""

from saltanvil.session.apply import EDIT, apply
from saltanvil.studies.left_out import left_out
from tests.schema_edits import full_session


def said(**data):
    edit = EDIT.validate_python(data)
    return left_out(edit, apply(full_session(), edit))


def test_each_thing_that_is_left_out_is_said_once():
    gone = {"of": "step", "id": "gone", "name": "drive_db", "by": 3.0}
    there = {**gone, "id": "sat"}
    assert said(op="add_lever", lever={"id": "x", "name": "X", "targets": [gone, there]}) == [
        "The lever 'X' named a setting that is not there; what is there stayed."
    ]
    step = {
        "id": "new", "kind": "saturator", "match_over": {"section_id": "gone"},
        "envelopes": {"drive_db": {"sections": {"gone": 1.0, "verse": 2.0}}},
    }  # fmt: skip
    assert said(op="add_step", strip_id="kick", step=step) == [
        "The saturator was measured over a section that is not there; it is measured over the whole song.",
        "A value of the saturator for sections that are not there: left out.",
    ]
    strip = {"id": "n", "name": "N", "kind": "bus", "path": {"steps": [
        {"id": "k", "kind": "gate", "key": {"strip_id": "gone"}}]}}  # fmt: skip
    nested = {"op": "batch", "edits": [{"op": "add_strip", "strip": strip}]}
    assert said(op="batch", edits=[nested]) == ["The key of the gate came from what is not there; it was left out."]


def test_what_is_there_is_not_spoken_of():
    key = {"strip_id": "bass", "at": "before"}
    assert said(op="add_step", strip_id="main", step={"id": "new", "kind": "compressor", "key": key}) == []
    assert said(op="remove_step", step_id="sat") == []
