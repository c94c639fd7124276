"""What a detector can listen to: every place of the session in words, and what is refused is just what would close a loop."""

import pytest

from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.key_sources import key_groups


def session():
    def step(kind, name, **more):
        return {"id": name, "kind": kind, **more}

    bands = step("split", "bands", settings={"by": "bands", "dividers_hz": [200.0]}, lanes=[
        {"id": "low", "name": "Low", "path": {"steps": [step("compressor", "c1")]}},
        {"id": "high", "name": "High", "path": {"steps": [step("gate", "g1"), step("compressor", "c2")]}},
    ])  # fmt: skip
    return Session.model_validate({"name": "S", "strips": [
        {"id": "main", "name": "Main", "kind": "main", "output": None},
        {"id": "bus", "name": "Drums", "kind": "bus", "path": {"steps": [step("compressor", "glue")]}},
        {"id": "kick", "name": "Kick", "kind": "track", "output": "bus", "path": {"steps": [bands]}},
        {"id": "bass", "name": "Bass", "kind": "track", "path": {"steps": [
            step("ducker", "duck", key={"strip_id": "kick"}), step("compressor", "a"), step("compressor", "b"),
        ]}},
    ]})  # fmt: skip


def test_sources_stand_by_strip_with_the_lanes_they_lie_in():
    groups = key_groups(session(), "g1")
    assert [(group.name, group.kind, group.own) for group in groups] == [
        ("Kick", "track", True), ("Bass", "track", False), ("Drums", "bus", False), ("Main", "main", False),
    ]  # fmt: skip
    assert [source.label for source in groups[0].sources] == [
        "before its path", "after its path", "after split", "Low: the lane", "Low: after compressor", "High: the lane",
        "High: after gate", "High: after compressor",
    ]  # fmt: skip
    assert [source.label for source in groups[1].sources][2:] == ["after ducker", "after compressor 1", "after compressor 2"]


@pytest.mark.parametrize("step_id", ["g1", "c1", "c2", "glue", "duck", "a", "b"])
def test_what_is_refused_is_what_an_edit_would_be_refused_for(step_id):
    """Every source, tried as an edit: the reason is there exactly where the session would not be whole (a loop)."""
    before = session()
    count = 0
    for group in key_groups(before, step_id):
        for source in group.sources:
            edit = EDIT.validate_python({"op": "set_key", "step_id": step_id, "key": source.key.model_dump()})
            try:
                apply(before, edit)
                refused = False
            except EditRefused as error:
                assert "loop" in str(error)
                refused = True
            assert refused == (source.refused is not None), (group.name, source.label)
            count += refused
    assert count > 0
