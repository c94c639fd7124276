"""Edits in words: every edit has some, and they name what was edited."""

import typing

import pytest

from saltanvil.session.apply import EDIT, AnyEdit, apply
from saltanvil.session.wording import DONE, in_words
from tests.session.test_slots import made


def words(session, **data):
    edit = EDIT.validate_python(data)
    return in_words(edit, session, apply(session, edit))


@pytest.mark.parametrize(
    ("data", "text"),
    [
        ({"op": "set", "values": [{"of": "step", "id": "comp", "name": "threshold_db", "value": -24.0}]},
         "A compressor: Threshold -30 to -24 dB"),
        ({"op": "set", "values": [{"of": "strip", "id": "a", "name": "mute", "value": True}]}, "A: Mute off to on"),
        ({"op": "set", "values": [{"of": "lane", "id": "wet", "name": "level_db", "value": -3.0}]},
         "A lane Wet: Level 0 to -3 dB"),
        ({"op": "set", "values": [{"of": "session", "name": "tempo_bpm", "value": 96.5},
                                  {"of": "session", "name": "name", "value": "New"}]},
         "Session: Tempo 120 to 96.5 bpm and 1 more"),
        ({"op": "add_step", "strip_id": "b", "step": {"kind": "gate", "settings": {}}}, "B: gate added"),
        ({"op": "remove_step", "step_id": "comp"}, "A compressor removed"),
        ({"op": "remove_strip", "strip_id": "b"}, "B removed"),
        ({"op": "set_key", "step_id": "comp", "key": {"strip_id": "b"}}, "Key of A compressor"),
        ({"op": "store_slot", "of": "step", "id": "comp", "slot": 3}, "A compressor stored in slot 3"),
        ({"op": "store_slot", "of": "strip", "id": "a", "slot": 1}, "A stored in slot 1"),
        ({"op": "set_output", "lane_id": "wet", "output": None}, "Output of lane Wet"),
        ({"op": "batch", "edits": [{"op": "remove_step", "step_id": "dirt"}, {"op": "remove_step", "step_id": "comp"}]},
         "A saturator removed and 1 more"),
    ],
)  # fmt: skip
def test_an_edit_says_what_it_did(data, text):
    assert words(made(), **data) == text


def test_every_edit_has_words():
    kinds = typing.get_args(typing.get_args(AnyEdit)[0])
    assert {kind.model_fields["op"].default for kind in kinds} == set(DONE) | {"set", "batch", "on_strips"}
