"""What was kept by format 1 opens and sounds as before; newer formats are refused; unknown fields never lose anything.

The golden files were written by the last commit that wrote format 1: a database with every kind of edit in its history, five
of them undone, presets of every processor, a path file, and main renders of some of the documents (each fifth frame), made again
(`tests/golden/renew.py`) where a processor was changed to sound otherwise.
"""

import gzip
import json
import shutil
import sqlite3
from pathlib import Path

import numpy as np
import pytest

from saltanvil.engine.path_runner import PathRunner
from saltanvil.engine.render import render_strips
from saltanvil.processors import REGISTRY
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.delivery import Delivery
from saltanvil.session.format import FORMAT, Unreadable, read_edit, read_path, read_preset, read_session, written
from saltanvil.session.starts import PATH_STARTS
from saltanvil.store.database import Database
from saltanvil.store.media import MediaStore
from saltanvil.store.presets import PresetStore
from saltanvil.store.sessions import SessionStore
from saltanvil.studies.match.match import Matcher, adopted, outdated, with_current_matches
from tests.signals import noise

GOLDEN = Path(__file__).parent.parent / "golden" / "format1"
RATE, FRAMES, EVERY = 48000, 30000, 5
#: Defaults that have changed since; what is kept has the values it was kept with.
DEFAULTS_OF_FORMAT_1 = {
    "lowend": {
        "high_hz": 110.0, "odd_share": 0.5, "upper_share": 0.3, "keep_low_hz": 140.0, "keep_high_hz": 900.0, "amount_db": -12.0,
    },
}  # fmt: skip
#: Kernels may contract multiply and add on one machine and not on another.
SAME = 2e-5


@pytest.fixture
def folder(tmp_path):
    shutil.copy(GOLDEN / "saltanvil.db", tmp_path / "saltanvil.db")
    return tmp_path


@pytest.fixture(scope="module")
def golden():
    return json.loads(gzip.decompress((GOLDEN / "documents.json.gz").read_bytes()))


def rendered(session, media):
    blocks = [block["main"] for block in render_strips(session, media, 0, FRAMES)]
    return np.concatenate(blocks, axis=1)[:, ::EVERY]


def sound_of(name, golden, folder):
    """One of the golden renders, by today's engine."""
    if name == "path":
        path = read_path((GOLDEN / "path.json").read_text())
        return PathRunner(path, noise(2, FRAMES, 3), RATE).run()[:, ::EVERY]
    old = golden["kept"] if name == "kept" else golden["positions"][int(name)]
    return rendered(read_session(json.dumps(old), "old")[0], MediaStore(Database(folder / "saltanvil.db")).at_rate(RATE))


def plain(value):
    """A document without what was measured: format 1 kept that beside the history."""
    if isinstance(value, dict):
        return {name: plain(part) for name, part in value.items() if name not in ("match", "match_over")}
    return [plain(part) for part in value] if isinstance(value, list) else value


def document(session):
    return json.loads(session.model_dump_json())


def as_now(old):
    """An old document with the defaults of fields that came later."""
    return document(read_session(json.dumps(old), "old")[0])


def test_a_session_of_format_1_opens_with_its_whole_history(folder, golden):
    store = SessionStore(Database(folder / "saltanvil.db"))
    version = store.version(1)
    assert document(version.session) == as_now(golden["kept"]) and version.can_undo and version.can_redo
    assert not version.notices
    expected = [plain(as_now(old)) for old in golden["positions"]]
    at = len(expected) - 1
    for _ in range(5):
        version = store.redo(1)
    assert plain(document(version.session)) == expected[at] and not version.can_redo
    skipped, places = 0, [version.session.model_dump_json()]
    while version.can_undo:
        version = store.undo(1)
        places.append(version.session.model_dump_json())
        now = plain(document(version.session))
        before = next(k for k in range(at - 1, -1, -1) if expected[k] == now)
        skipped += at - 1 - before
        at = before
    assert at == 0 and skipped == 2  # two gestures of two edits each were one step of the history
    # Every place is reached again as it was on the way back, also that behind edit 47, which two tabs of format 1 had merged.
    for place in reversed(places[:-1]):
        version = store.redo(1)
        assert version.session.model_dump_json() == place
    assert not version.can_redo
    assert SessionStore(store.database).go_to(1, 0).session.model_dump_json() == places[-1]


def test_documents_of_format_1_sound_as_before(folder, golden):
    store, media = SessionStore(Database(folder / "saltanvil.db")), MediaStore(Database(folder / "saltanvil.db")).at_rate(RATE)
    sounds = np.load(GOLDEN / "rendered.npz")
    assert len([name for name in sounds if name != "path"]) >= 4
    for name in sounds:
        assert np.abs(sound_of(name, golden, folder) - sounds[name]).max() < SAME, name
    # Its matches, measured over a passage that nobody kept, stay as long as nothing they hear is edited; then they follow.
    session = store.version(1).session
    matcher = Matcher(media)
    kept = adopted(session, matcher)
    assert kept and all(match.over is None and match.key for match in kept.values())
    same = with_current_matches(session, media)
    assert np.abs(rendered(same, media) - sounds["kept"]).max() < SAME
    assert not list(outdated(same, matcher))
    same.step("saturator1").step.settings = same.step("saturator1").step.settings.model_copy(update={"drive_db": 20.0})
    assert [result.step.id for result in outdated(same, matcher)][:1] == ["saturator1"]
    assert with_current_matches(same, media).step("saturator1").step.match.over.whole


def test_presets_and_path_files_of_format_1_are_taken(folder):
    presets = PresetStore(Database(folder / "saltanvil.db")).listed()
    assert (
        len(presets) == len(set(REGISTRY) - {"tamer"}) - 1 + 2
    )  # the tamer came later and not any(preset.problem for preset in presets)
    for preset in presets:
        if preset.name.endswith("kept"):
            now = REGISTRY[preset.kind].settings_model().model_dump(mode="json")
            assert preset.settings == {**now, **DEFAULTS_OF_FORMAT_1.get(preset.kind, {})}


def test_every_edit_and_document_is_written_with_its_format_and_read_back(golden):
    session = read_session(json.dumps(golden["kept"]), "old")[0]
    text = written(session)
    assert json.loads(text)["format"] == FORMAT and read_session(text, "s") == (session, [])
    for start in PATH_STARTS:
        assert read_path(written(start.path)) == start.path
        assert read_preset("path", written(start.path), start.name) == (start.path, [])
    for processor in REGISTRY.values():
        settings = processor.settings_model()
        assert read_preset(processor.kind, written(settings), "p") == (settings, [])
    edit = EDIT.validate_python({"op": "set", "values": [{"of": "session", "name": "name", "value": "N"}]})
    assert json.loads(written(edit))["format"] == FORMAT and read_edit(written(edit)) == edit


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ({"op": "set_session", "name": "N", "tempo_bpm": None}, [("session", None, "name", "N")]),
        (
            {"op": "set_strip", "strip_id": "s", "level_db": -3.0, "mute": True},
            [("strip", "s", "level_db", -3.0), ("strip", "s", "mute", True)],
        ),
        ({"op": "set_send", "send_id": "x", "pre": False}, [("send", "x", "pre", False)]),
        ({"op": "set_lane", "lane_id": "l", "solo": True, "output": None}, [("lane", "l", "solo", True)]),
        (
            {"op": "set_step", "step_id": "c", "settings": {"ratio": 4.0}, "bypass": True, "alone": True},
            [("step", "c", "ratio", 4.0), ("step", "c", "bypass", True)],
        ),
    ],
)  # fmt: skip
def test_old_edits_of_values_become_the_one_edit(old, new):
    edit = read_edit(json.dumps(old))
    assert {(v.of, v.id, v.name, v.value) for v in edit.values} == set(new) and len(edit.values) == len(new)
    assert edit.alone == old.get("alone", False)


def test_other_old_edits_keep_their_meaning():
    routed = read_edit(json.dumps({"op": "set_lane", "lane_id": "l", "output": "", "level_db": 1.0}))
    assert [edit.op for edit in routed.edits] == ["set", "set_output"] and routed.edits[1].output is None
    assert read_edit(json.dumps({"op": "dissolve", "step_id": "p", "keep": None})).op == "remove_split"
    nested = read_edit(
        json.dumps({"op": "batch", "edits": [{"op": "set_session", "name": "N"}, {"op": "remove_step", "step_id": "c"}]})
    )
    assert [edit.op for edit in nested.edits] == ["set", "remove_step"]
    assert read_edit(json.dumps({"op": "set_strip", "strip_id": "s"})).edits == []  # one that moved nothing


def test_settings_of_format_2_are_found_by_their_new_names():
    """Written by the last commit that wrote format 2: each renamed setting and word, in a document, edits and presets."""
    kept = json.loads((GOLDEN.parent / "format2" / "kept.json").read_text())
    session, notices = read_session(json.dumps(kept["session"]), "old")
    settings = {step.id: step.settings for step in session.strips[0].path.walk()}
    assert not notices
    assert (settings["a"].output, settings["a"].compensate_drive, settings["a"].lift_attacks) == ("not held", True, 0.4)
    assert (settings["b"].output, settings["b"].output_db, settings["c"].output) == ("manual gain", -3.0, "held")
    assert (settings["d"].release_mode, settings["d"].low_end_weight) == ("low-end weighted", 0.7)
    assert settings["e"].compensate_drive and settings["f"].restore_attacks_db == 5.0
    assert (settings["j"].output, settings["j"].lift_attacks) == ("not held", 0.2)
    moved, added, batch = (read_edit(json.dumps(edit)) for edit in kept["edits"])
    assert {value.name: value.value for value in moved.values} == {
        "output": "manual gain", "low_end_weight": 0.2, "release_mode": "low-end weighted", "restore_attacks_db": 3.0,
        "compensate_drive": False, "lift_attacks": 0.1,
    }  # fmt: skip
    for edit in (moved, added, batch):
        apply(session, edit)
    limiter = read_preset("limiter", json.dumps(kept["presets"]["limiter"]), "p")
    assert (limiter[0].low_end_weight, limiter[0].release_mode, limiter[1]) == (0.1, "low-end weighted", [])
    assert read_preset("saturator", json.dumps(kept["presets"]["saturator"]), "p")[0].output == "manual gain"
    assert (
        read_preset("path", json.dumps(kept["presets"]["path"]), "p")[0]
        == read_session(json.dumps(kept["session"]), "o")[0].strips[0].path
    )


def test_newer_formats_and_damaged_text_are_refused_in_words():
    later = json.dumps({"format": FORMAT + 1, "name": "S", "strips": []})
    for read in (lambda text: read_session(text, "S"), read_edit, read_path, lambda text: read_preset("trim", text, "S")):
        with pytest.raises(Unreadable, match=f"newer Salt Anvil .format {FORMAT + 1}; this one reads up to {FORMAT}"):
            read(later)
        with pytest.raises(Unreadable, match="not JSON"):
            read('{"name":')
        with pytest.raises(Unreadable, match="no version"):
            read('{"format": "two"}')
    with pytest.raises(Unreadable, match=r"the session 'S' cannot be read: .*there is no processor 'toaster'"):
        read_session(json.dumps({"name": "S", "strips": [{"id": "main", "name": "M", "kind": "main", "output": None,
                                 "path": {"steps": [{"kind": "toaster"}]}}]}), "S")  # fmt: skip
    with pytest.raises(Unreadable, match="colour"):  # a path file is written by hand: an unknown field is a slip
        read_path('{"steps": [{"kind": "trim", "settings": {"colour": 1}}]}')


def test_unknown_fields_are_left_out_and_named_and_the_session_opens(golden):
    expected = as_now(golden["kept"])
    data = {**json.loads(json.dumps(golden["kept"])), "mood": "blue"}
    strip = next(strip for strip in data["strips"] if strip["path"]["steps"])
    strip["path"]["steps"][0]["settings"]["sparkle"] = 3
    strip["glow"] = {"deep": True}
    session, notices = read_session(json.dumps(data), "Quay")
    assert document(session) == expected
    assert len(notices) == 3 and any("mood" in text for text in notices) and any("settings.sparkle" in text for text in notices)
    assert all(text.startswith("the session 'Quay': ") and text.endswith("was left out.") for text in notices)
    assert read_session(written(session), "Quay")[1] == []


def test_the_store_lists_what_it_cannot_open_and_says_why(folder):
    database = sqlite3.connect(folder / "saltanvil.db")
    database.execute("UPDATE sessions SET document = ?", (json.dumps({"format": 9, "name": "Quay"}),))
    database.execute("UPDATE presets SET settings = '{\"format\": 9}' WHERE kind = 'gate'")
    database.execute("UPDATE presets SET settings = '{\"gain_db\": 3.0, \"aura\": 1}' WHERE kind = 'trim'")
    database.commit()
    store, presets = SessionStore(Database(folder / "saltanvil.db")), PresetStore(Database(folder / "saltanvil.db"))
    assert [row.name for row in store.listed()] == ["Quay at night"]
    with pytest.raises(Unreadable, match="update it"):
        store.version(1)
    gate, trim = presets.listed("gate")[0], presets.listed("trim")[0]
    assert gate.settings == {} and "newer" in gate.problem
    assert trim.settings["gain_db"] == 3.0 and "aura" in trim.problem
    assert database.execute("SELECT document FROM sessions").fetchone()[0] == '{"format": 9, "name": "Quay"}'  # untouched


def test_a_session_of_format_4_opens_as_it_was():
    """Written by the last commit of format 4, the demo with two slots: nothing is left out, nothing moves over
    time, and what is written again differs by the new fields alone."""
    text = (GOLDEN.parent / "format4" / "session.json").read_text()
    session, notices = read_session(text, "Low Water")
    assert notices == [] and session.levers == [] and not any(strip.envelopes for strip in session.strips)
    assert session.step("drums-1").step.slots.on == 2
    old, new = json.loads(text), json.loads(written(session))
    assert (old.pop("format"), new.pop("format")) == (4, FORMAT)
    assert (new.pop("levers"), new.pop("envelopes_off")) == ([], False)
    for strip in new["strips"]:
        assert strip.pop("envelopes_off") is False
    assert new.pop("delivery") == Delivery().model_dump(mode="json")
    assert new == old


def test_a_session_of_format_5_opens_as_it_was():
    """Written by the last commit of format 5, the demo: only how it is delivered is new."""
    text = (GOLDEN.parent / "format5" / "session.json").read_text()
    session, notices = read_session(text, "Low Water")
    assert notices == [] and session.keep_contrast_lu == 6.0
    assert session.lever("drums-bite")[1].envelopes["value"].sections == {"bridge": 0.7}
    old, new = json.loads(text), json.loads(written(session))
    assert (old.pop("format"), new.pop("format")) == (5, FORMAT)
    assert new.pop("delivery") == Delivery().model_dump(mode="json")
    assert new == old


def test_a_session_of_format_6_opens_as_it_was():
    """Written by the last commit of format 6, the demo: nothing is new in it, as nothing is printed."""
    text = (GOLDEN.parent / "format6" / "session.json").read_text()
    session, notices = read_session(text, "Low Water")
    old, new = json.loads(text), json.loads(written(session))
    assert notices == [] and (old.pop("format"), new.pop("format")) == (6, FORMAT) and new == old
