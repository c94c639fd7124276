"""What still sounds when a file or a song is over: it decays to -90 dBFS, for 30 s at most, unless it is cut on purpose."""

import json

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.cli import main
from saltanvil.engine.media import Arrays
from saltanvil.engine.path_runner import PathRunner
from saltanvil.engine.render import render_strips
from saltanvil.engine.tail import DECAYED_DBFS, MAX_TAIL_S, last_sounding, with_tail
from saltanvil.session.document.base import MAIN_ID
from saltanvil.session.document.path import Path
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.validate import checked
from tests.engine.test_engine import played

RATE = 48000


def hit(seconds=0.3, channels=1):
    """A decaying hit that is over when it ends."""
    t = np.arange(round(seconds * RATE)) / RATE
    return np.tile((0.8 * np.sin(2 * np.pi * 180 * t) * np.exp(-t * 25)).astype(np.float32), (channels, 1))


def path(*steps):
    return Path.model_validate({"steps": [{"kind": kind, "settings": chosen} for kind, chosen in steps]})


def echo(**chosen):
    return "echo", {"time_mode": "ms", "low_hz": 20.0, "high_hz": 20000.0, **chosen}


def test_an_echo_of_half_a_second_on_a_hit_of_three_tenths_is_in_the_file():
    """The fault was a file of zeros."""
    x = hit()
    cut = PathRunner(path(echo(time_ms=500.0, mix=1.0, feedback=0.0)), x, RATE).run()
    assert cut.shape == x.shape and not cut.any()
    y = PathRunner(path(echo(time_ms=500.0, mix=1.0, feedback=0.0)), x, RATE).run(tail=True)
    frames = min(x.shape[1], y.shape[1] - 24_000)
    repeat, first = y[0, 24_000 : 24_000 + frames], x[0, :frames]
    assert np.dot(repeat, first) > 0.9 * np.dot(first, first) and not y[:, :24_000].any()
    assert 24_000 + 5_000 < y.shape[1] <= 24_000 + x.shape[1] + 200


@settings(max_examples=12, deadline=None)
@given(st.floats(20.0, 4000.0), st.floats(0.0, 0.85), st.floats(0.2, 1.0))
def test_every_repeat_down_to_the_floor_is_there(time_ms, feedback, mix):
    """At any distance and feedback: what was rendered goes on as a far longer render does, until nothing sounds."""
    x = hit()
    steps = path(echo(time_ms=time_ms, feedback=feedback, mix=mix))
    y = PathRunner(steps, x, RATE).run(tail=True)
    long = np.concatenate([x, np.zeros((1, round(MAX_TAIL_S * RATE)), np.float32)], axis=1)
    whole = PathRunner(steps, long, RATE).run()
    end = max(x.shape[1], last_sounding([whole]))
    assert y.shape[1] == end and np.array_equal(y, whole[:, :end])


def test_a_room_decays_and_what_has_no_tail_gets_none():
    x = hit(channels=2)
    plain = PathRunner(path(("trim", {"gain_db": -3.0}), ("limiter", {}), ("compressor", {"lookahead_ms": 5.0})), x, RATE)
    assert plain.run(tail=True).shape == x.shape
    y = PathRunner(path(("room", {"decay_s": 2.0, "size": "hall", "mix": 0.5})), x, RATE).run(tail=True)
    seconds = y.shape[1] / RATE
    assert 1.5 < seconds < 5.0 and np.abs(y[:, -1]).max() > 10 ** (DECAYED_DBFS / 20)
    gated = PathRunner(path(("room", {"decay_s": 2.0, "size": "hall", "mix": 0.5}), ("gate", {"threshold_db": -20.0})), x, RATE)
    assert gated.run(tail=True).shape[1] < y.shape[1]  # what a later step shuts out is no tail


def test_an_echo_that_never_ends_is_cut_at_the_limit():
    y = PathRunner(path(echo(time_ms=100.0, feedback=0.95, mix=1.0), ("trim", {"gain_db": 24.0})), hit(), RATE).run(tail=True)
    assert y.shape[1] <= hit().shape[1] + (MAX_TAIL_S + 1) * RATE


@settings(max_examples=60, deadline=None)
@given(st.lists(st.integers(1, 400), min_size=1, max_size=30), st.integers(0, 3000), st.integers(1, 500), st.data())
def test_the_end_does_not_depend_on_the_blocks(sizes, body, quiet, data):
    total = sum(sizes)
    rng = np.random.default_rng(data.draw(st.integers(0, 99)))
    x = ((rng.random(total) < 0.01) * 0.5).astype(np.float32)[None]
    edges = np.cumsum([0, *sizes])
    parts = list(with_tail(iter([[x[:, a:b]] for a, b in zip(edges, edges[1:], strict=False)]), min(body, total), quiet))
    y = np.concatenate([part[0] for part in parts], axis=1) if parts else np.zeros((1, 0), np.float32)
    assert np.array_equal(y, x[:, : y.shape[1]]) and y.shape[1] >= min(body, total)
    # It ends after a sounding frame, and never before a gap of `quiet`.
    if y.shape[1] > min(body, total):
        assert y[0, -1] != 0.0
    rest = np.flatnonzero(x[0, y.shape[1] :])
    assert not len(rest) or rest[0] >= quiet - max(y.shape[1] - min(body, total), 0) or rest[0] >= quiet - 1


def song(*steps):
    track = Strip(id="t", name="T", kind="track", media_id=0, path=path(*steps))
    dry = Strip(id="d", name="D", kind="track", media_id=1)
    return checked(Session(name="S", strips=[Strip(id=MAIN_ID, name="M", kind="main", output=None), track, dry]))


def test_exported_strips_end_together_when_the_last_has_decayed():
    session, media = song(echo(time_ms=700.0, feedback=0.3, mix=0.5)), Arrays(hit(1.0), hit(0.8))
    plain = list(render_strips(session, media, 0, RATE, ["main", "d"]))
    with_it = list(render_strips(session, media, 0, RATE, ["main", "d"], tail=True))
    sounds = {name: np.concatenate([block[name] for block in with_it], axis=1) for name in ("main", "d")}
    assert sounds["main"].shape == sounds["d"].shape and sounds["main"].shape[1] > 2 * RATE
    assert not sounds["d"][:, RATE:].any()
    assert np.array_equal(sounds["main"][:, :RATE], np.concatenate([block["main"] for block in plain], axis=1))


def test_a_play_to_the_end_is_heard_out():
    session, media = song(echo(time_ms=700.0, feedback=0.0, mix=1.0)), Arrays(hit(1.0), hit(0.2))
    live, _ = played(session, media, 0.0, 60 * RATE)
    assert live.shape[1] > 1.7 * RATE and live.shape[1] < 4 * RATE
    rendered = np.concatenate([block["main"] for block in render_strips(session, media, 0, RATE, tail=True)], axis=1)
    both = min(live.shape[1], rendered.shape[1])
    assert np.array_equal(live[:, :both], rendered[:, :both])  # live = offline, in the tail too


@pytest.mark.parametrize("cut", [False, True])
def test_the_command_line_writes_the_tail_unless_it_is_told_not_to(cut, tmp_path):
    soundfile.write(tmp_path / "hit.wav", hit()[0], RATE, subtype="FLOAT")
    steps = {"steps": [{"kind": "echo", "settings": {"time_mode": "ms", "time_ms": 500.0, "mix": 1.0, "feedback": 0.0}}]}
    (tmp_path / "path.json").write_text(json.dumps(steps))
    command = ["process", str(tmp_path / "hit.wav"), "-o", str(tmp_path / "out.wav"), "--path", str(tmp_path / "path.json")]
    assert main([*command, *(["--no-tail"] if cut else [])]) == 0
    y, _ = soundfile.read(tmp_path / "out.wav")
    assert (len(y) == len(hit()[0]) and not y.any()) if cut else np.abs(y).max() > 0.3


@settings(max_examples=10, deadline=None)
@given(st.sampled_from(["1/1", "1/2", "1/4d", "1/8t", "1/64"]), st.floats(20.0, 300.0))
def test_an_echo_is_in_time_at_any_note_and_tempo(note, tempo):
    """A whole note at 50 bpm is 4.8 s (60000 / bpm ms a quarter, common practice); the fault was 4.0 s."""
    quarters = {"1/1": 4.0, "1/2": 2.0, "1/4d": 1.5, "1/8t": 1.0 / 3.0, "1/64": 1.0 / 16.0}[note]
    x = np.zeros((1, 64), np.float32)
    x[0, 0] = 1.0
    steps = path(("echo", {"note": note, "mix": 1.0, "feedback": 0.0, "low_hz": 20.0, "high_hz": 20000.0}))
    y = PathRunner(steps, x, RATE, tempo).run(tail=True)
    assert int(np.abs(y[0]).argmax()) == pytest.approx(quarters * 60.0 / tempo * RATE, abs=2)
