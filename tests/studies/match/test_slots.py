"""Loudness of slots against pyloudnorm, what is not matched and why, and what a switch says it lost."""

import numpy as np
import pyloudnorm
import pytest

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Arrays
from saltanvil.engine.render import render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.session import Session
from saltanvil.studies.match.slots import slot_loudness, with_slot
from saltanvil.studies.routing import notices_of
from saltanvil.studies.scope.ledger import ledger_of
from saltanvil.studies.scope.passage import measured
from tests.signals import noise

RATE, FRAMES = 48_000, 48_000 * 4


def edited(session, **data):
    return apply(session, EDIT.validate_python(data))


def put(session, **values):
    return edited(session, op="set", values=[{"of": "step", "id": "c", "name": k, "value": v} for k, v in values.items()])


def store(session, slot):
    return edited(session, op="store_slot", of="step", id="c", slot=slot)


@pytest.fixture(scope="module")
def media():
    x = noise(2, FRAMES, 1, level=0.3)
    x[:, : FRAMES // 2] *= 0.1
    return Arrays(x, noise(1, FRAMES, 2))


@pytest.fixture
def session():
    steps = [
        {"id": "c", "kind": "compressor", "settings": {"threshold_db": -20.0}},
        {"id": "after", "kind": "saturator", "settings": {"output": "not held", "drive_db": 6.0}},
    ]
    return Session.model_validate({"name": "S", "strips": [
        {"id": "main", "name": "Main", "kind": "main", "output": None},
        {"id": "k", "name": "Key", "kind": "track", "media_id": 1},
        {"id": "t", "name": "T", "kind": "track", "media_id": 0, "path": {"steps": steps}},
    ]})  # fmt: skip


def test_matched_slots_are_equally_loud_by_pyloudnorm(session, media):
    """pyloudnorm (filter "DeMan", ITU-R BS.1770): within 0.1 LU, whatever the path does behind the step."""
    session = store(put(store(session, 1), threshold_db=-32.0), 2)
    session = store(put(session, makeup="manual", makeup_db=9.0), 4)
    result = {one.slot: one for one in slot_loudness(session, "step", "c", media, 0, FRAMES)}
    assert sorted(result) == [1, 2, 4] and all(one.refused is None for one in result.values())
    meter = pyloudnorm.Meter(RATE, filter_class="DeMan")
    loudness = []
    for slot, one in result.items():
        version = session if slot == 4 else with_slot(session, "step", "c", slot)
        sound = np.concatenate([block["t"] for block in render_strips(version, media, 0, FRAMES, ["t"])], axis=1)
        assert meter.integrated_loudness(sound.T) == pytest.approx(one.loudness_lufs, abs=0.1)
        loudness.append(meter.integrated_loudness(sound.T * 10 ** (one.gain_db / 20)))
    assert max(loudness) - min(loudness) < 0.1
    assert abs(result[2].gain_db) > 1


def test_what_cannot_be_matched_says_why_and_plays_unmatched(session, media):
    quiet = store(put(store(session, 1), makeup="manual", makeup_db=-24.0, threshold_db=-60.0), 2)
    result = slot_loudness(quiet, "step", "c", media, 0, FRAMES)
    assert result[1].gain_db == 0.0 and "LU from slot 1: played unmatched" in result[1].refused
    short = slot_loudness(quiet, "step", "c", media, 0, RATE // 4)
    assert all("shorter than 400 ms" in one.refused and one.loudness_lufs is None for one in short)
    assert slot_loudness(session, "step", "c", media, 0, FRAMES) == []


def test_before_and_after_are_matched_only_where_that_is_honest(session, media):
    """Silence, less than 400 ms, and more than 20 LU apart: said, and played unmatched."""
    gate = edited(session, op="add_step", strip_id="t", step={"id": "g", "kind": "gate", "settings": {"threshold_db": 0.0}})

    def ledger(document, start, stop):
        renderer = lambda begin, end: ScopeRenderer(document, media, SegmentCache(1 << 24), begin, end)  # noqa: E731
        return ledger_of(measured(renderer, Scope("t"), start, stop), document, None)

    fine = ledger(session, 0, FRAMES)
    assert fine.matched_refused is None and fine.matched_db != 0.0
    shut = ledger(gate, 0, FRAMES)
    assert shut.matched_db == 0.0 and ("silence" in shut.matched_refused or "differ by" in shut.matched_refused)
    assert "shorter than 400 ms" in ledger(session, 0, RATE // 4).matched_refused
    faint = edited(session, op="add_step", strip_id="t", step={"id": "q", "kind": "trim", "settings": {"gain_db": -24.0}})
    assert "before and after differ by" in ledger(faint, 0, FRAMES).matched_refused


def test_a_slot_that_named_a_removed_key_source_says_so(session):
    session = store(edited(session, op="set_key", step_id="c", key={"strip_id": "k"}), 1)
    session = store(edited(session, op="set_key", step_id="c", key=None), 2)
    session = edited(session, op="remove_strip", strip_id="k")
    after = edited(session, op="switch_slot", of="step", id="c", slot=1, seed="s")
    assert notices_of(session, after) == [
        "The key of the compressor in slot 1 came from what was removed; it listens to its own sound now."
    ]
    assert notices_of(after, edited(after, op="switch_slot", of="step", id="c", slot=2, seed="s")) == []
