"""Aims: every figure by every setting offered, on the demo and on random sounds, measured again by a render of its own."""

import json
import zlib

import numpy as np
import pyloudnorm
import pytest
import soundfile
from scipy.signal import resample_poly

from saltanvil.cli import main
from saltanvil.demo import low_water as demo
from saltanvil.demo.synth import RATE
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Arrays
from saltanvil.engine.render import Cancelled, render_nodes
from saltanvil.processors import REGISTRY
from saltanvil.processors.aims import LANE_AIMS, STRIP_AIMS
from saltanvil.session.address import Address, descriptor
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.graph import NodeId
from saltanvil.studies.aim import AimRequest, Search
from saltanvil.studies.match.match import with_current_matches

#: Demo tracks that a processor is made for.
FITTING = {
    "compressor": ("Snare", "Bass", "Lead voice"), "gate": ("Kick", "Snare"), "expander": ("Snare", "Lead voice"),
    "leveller": ("Lead voice", "Bass"), "ducker": ("Bass", "Organ"), "deesser": ("Lead voice", "Overheads"),
    "freecurve": ("Snare", "Lead voice"), "shaper": ("Snare", "Guitar left"),
    "saturator": ("Bass", "Guitar left"), "lowend": ("Bass", "Kick"),
    "clipper": ("Snare", "Kick", "Overheads"),
    "limiter": ("Snare", "Overheads", "Bass"), "trim": ("Organ", "Snare"), "split": ("Snare", "Overheads"),
    "tamer": ("Organ", "Overheads"), "echo": ("Lead voice", "Guitar left"), "room": ("Snare", "Lead voice"),
}  # fmt: skip
START, STOP = demo.frames_of("Chorus")[0], demo.frames_of("Chorus")[0] + 4 * RATE
OFFERS = [(kind, aim, setting) for kind, one in REGISTRY.items() for aim in one.aims for setting in aim.settings]


def hits(seed):
    """Decaying hits, uneven in level and distance, over a quiet floor: what a steady tone would not tell."""
    random = np.random.default_rng(seed)
    x = 0.0005 * random.standard_normal((1, demo.FRAMES))
    at = START - RATE
    while at < STOP + RATE:
        length = int(random.integers(4000, 30000))
        envelope = np.exp(-np.arange(length) / random.uniform(600, 6000)) * random.uniform(0.05, 0.7)
        tone = np.sin(2 * np.pi * random.uniform(60, 4000) * np.arange(length) / RATE) + 0.5 * random.standard_normal(length)
        x[0, at : at + length] += envelope * tone
        at += int(random.integers(3000, 20000))
    return x.astype(np.float32)


@pytest.fixture(scope="module")
def sounds(demo_tracks):
    return {**demo_tracks, "random 1": hits(1), "random 2": np.repeat(hits(2), 2, axis=0), "random 3": hits(3)}


def around(sounds, kind, name, **settings):
    """A session of one step on a track, with a kick to be its key."""
    names = list(sounds)
    step = {"id": "s", "kind": kind, "settings": settings}
    if kind == "split":
        wet = [{"id": "c", "kind": "compressor", "settings": {"threshold_db": -40.0, "ratio": 8.0, "attack_ms": 0.5}}]
        step = {"id": "s", "kind": kind, "settings": {"by": "copies", "blend": True, "law": "linear", **settings}, "lanes": [
            {"id": "d", "name": "Dry"}, {"id": "w", "name": "Wet", "path": {"steps": wet}},
        ]}  # fmt: skip
    if kind == "tamer":
        settings = {"mode": "free", **settings}
        step["settings"] = settings
    if REGISTRY[kind].matched:  # otherwise its loudness is measured over the whole song at each render
        step["match_over"] = {"start_s": START / RATE, "end_s": STOP / RATE}
    if kind == "ducker":
        step["key"] = {"strip_id": "k"}
    session = Session.model_validate({"name": "S", "strips": [
        {"id": "main", "name": "Main", "kind": "main", "output": None},
        {"id": "k", "name": "Kick", "kind": "track", "media_id": names.index("Kick")},
        {"id": "t", "name": name, "kind": "track", "media_id": names.index(name), "path": {"steps": [step]}},
    ]})  # fmt: skip
    return session, Arrays(*sounds.values())


def moved(session, of, name, setting, value):
    return apply(
        session, EDIT.validate_python({"op": "set", "values": [{"of": of, "id": name, "name": setting, "value": value}]})
    )


def measured_again(session, media, figure):
    """What a render of its own says of the step: loudness by pyloudnorm (filter "DeMan", ITU-R BS.1770), peaks and RMS by NumPy,
    and what only telemetry tells with a cache of its own."""
    session = with_current_matches(session, media)
    if figure not in ("peaks_down_db", "louder_lu", "loudness_lufs", "crest_db"):
        return Search(session, AimRequest("step", "s", figure, AIMS[figure].target), media, SegmentCache(), START, STOP).rendered(
            session
        )
    before, after = (
        np.concatenate([x for (x,) in render_nodes(one, media, [NodeId("end", "t")], START, STOP)], axis=1)
        for one in (moved(session, "step", "s", "bypass", True), session)
    )
    meter = pyloudnorm.Meter(RATE, filter_class="DeMan")
    peak_before, peak_after = (20 * np.log10(np.abs(x).max()) for x in (before, after))
    if figure == "peaks_down_db":
        return peak_before - peak_after
    if figure == "crest_db":
        return peak_after - 10 * np.log10((after.astype(float) ** 2).mean())
    loudness = meter.integrated_loudness(after.T)
    return loudness if figure == "loudness_lufs" else loudness - meter.integrated_loudness(before.T)


AIMS = {aim.name: aim for one in REGISTRY.values() for aim in one.aims}


@pytest.mark.parametrize(("kind", "aim", "setting"), OFFERS, ids=lambda part: getattr(part, "name", str(part)))
def test_every_offer_reaches_what_it_can_reach(sounds, kind, aim, setting):
    """A figure that is measured at some value of the setting is found again from another one, within 0.1 dB or LU."""
    random = np.random.default_rng(zlib.crc32(f"{kind} {aim.name} {setting}".encode()))
    # Two that such a figure can be asked of, in an order of their own for each offer.
    tracks = [*random.permutation(FITTING[kind]), *random.permutation(["random 1", "random 2", "random 3"])]
    tried = 0
    for name in (tracks[0], tracks[-1], *tracks[1:-1]):
        if tried == 2:
            break
        session, media = around(sounds, kind, name)
        described = descriptor(session, Address(of="step", id="s", name=setting))
        probe = Search(session, AimRequest("step", "s", aim.name, aim.target, setting), media, SegmentCache(), START, STOP)
        figures = (probe.figure(probe.at(float(random.uniform(*bounds)))) for bounds in ((0.3, 0.7), (0.05, 0.3), (0.7, 0.95)))
        target = next((figure for figure in figures if figure is not None and aim.low <= figure <= aim.high), None)
        if target is None:
            continue  # no figure that one could ask for
        tried += 1
        answer = Search(session, AimRequest("step", "s", aim.name, target, setting), media, probe.cache, START, STOP).run()
        assert answer.reached, (name, answer.text)
        assert described.minimum <= answer.value <= described.maximum and answer.setting == setting
        again = measured_again(moved(session, "step", "s", setting, answer.value), media, aim.name)
        near = 0.5 / 4 + 1e-3 if aim.counted else 0.6 if aim.unit == "%" else 0.1
        assert again == pytest.approx(target, abs=near), (name, answer.text)
    assert tried, "no track has such a figure"


def compressor_on_snare(sounds, **settings):
    return around(sounds, "compressor", "Snare", **settings)


def ask(session, media, figure, target, setting=None, of="step", name="s", **more):
    return Search(session, AimRequest(of, name, figure, target, setting), media, SegmentCache(), START, STOP, **more).run()


def test_what_cannot_be_reached_is_said_with_how_near_one_gets(sounds):
    session, media = compressor_on_snare(sounds, ratio=1.2)
    before = session.model_dump()
    answer = ask(session, media, "gr_max_db", 40.0)
    assert not answer.reached and "Threshold from -60 dB to 0 dB gives GR, max from" in answer.text
    assert (
        f"the nearest is {answer.figure:.1f} dB" in answer.text
        and "Try Ratio" in answer.text
        and "Nothing was changed" in answer.text
    )
    assert session.model_dump() == before
    silent = ask(session, Arrays(*(np.zeros_like(x) for x in sounds.values())), "gr_max_db", 3.0)
    assert not silent.reached and silent.figure is None and "choose another one" in silent.text
    for figure, target, setting, why in (
        ("openings", 2.0, None, "there is gr_max_db"), ("gr_max_db", 400.0, None, "from 0.1 to 48 dB"),
        ("gr_max_db", 2.0, "attack_ms", "take one of threshold_db, ratio"),
    ):  # fmt: skip
        with pytest.raises(EditRefused, match=why):
            ask(session, media, figure, target, setting)
    # A setting that has no say as the others stand.
    unblended, media = around(sounds, "split", "Snare", blend=False)
    with pytest.raises(EditRefused, match="no say"):
        ask(unblended, media, "peaks_down_db", 3.0)


def test_a_cancelled_search_leaves_nothing_and_what_is_reached_already_stays(sounds):
    session, media = compressor_on_snare(sounds)
    renders = []

    def stop():
        renders.append(1)
        return len(renders) > 6

    before = session.model_dump()
    with pytest.raises(Cancelled):
        ask(session, media, "gr_max_db", 3.0, cancelled=stop)
    assert session.model_dump() == before
    first = ask(session, media, "gr_max_db", 3.0)
    again = ask(moved(session, "step", "s", first.setting, first.value), media, "gr_max_db", 3.0)
    assert again.renders == 1 and again.value == first.value


@pytest.mark.parametrize("aim", STRIP_AIMS, ids=lambda aim: aim.name)
@pytest.mark.parametrize("setting", ["level_db", "trim_db"])
def test_a_strip_as_it_leaves(sounds, aim, setting):
    """Loudness by pyloudnorm (filter "DeMan", ITU-R BS.1770), true peak by SciPy's 16-fold resampling."""
    session, media = compressor_on_snare(sounds, makeup="manual")
    target = -30.0 if aim.name == "loudness_lufs" else -12.0
    answer = ask(session, media, aim.name, target, setting, "strip", "t")
    assert answer.reached, answer.text
    session = moved(session, "strip", "t", setting, answer.value)
    leaving = np.concatenate([x for (x,) in render_nodes(session, media, [NodeId("out", "t")], START, STOP)], axis=1)
    if aim.name == "loudness_lufs":
        found = pyloudnorm.Meter(RATE, filter_class="DeMan").integrated_loudness(leaving.T)
    else:
        found = 20 * np.log10(np.abs(resample_poly(leaving.astype(float), 16, 1, axis=1)).max())
    assert found == pytest.approx(target, abs=0.1 if aim.name == "loudness_lufs" else 0.2)


@pytest.mark.parametrize("aim", LANE_AIMS, ids=lambda aim: aim.name)
def test_a_lane_by_its_level(sounds, aim):
    session, media = around(sounds, "split", "Snare", blend=False)
    answer = ask(session, media, aim.name, -40.0, None, "lane", "w")
    assert answer.reached and answer.setting == "level_db" and answer.figure == pytest.approx(-40.0, abs=0.1)


def test_at_the_end_of_a_path_with_a_key_and_a_steady_blend(sounds):
    """Steps before it and a held loudness behind do not disturb the search."""
    session, media = compressor_on_snare(sounds)
    more = [
        {"id": "q", "kind": "equaliser", "settings": {}},
        {"id": "g", "kind": "gate", "settings": {"threshold_db": -45.0}, "key": {"strip_id": "k"}},
        {"id": "w", "kind": "saturator", "settings": {}},
        {"id": "z", "kind": "clipper", "settings": {}},
    ]
    for index, step in enumerate(more):
        session = apply(session, EDIT.validate_python({"op": "add_step", "strip_id": "t", "index": index + 1, "step": step}))
    session = with_current_matches(session, media)
    answer = ask(session, media, "peaks_down_db", 6.0, None, "step", "z")
    assert answer.reached
    session = with_current_matches(moved(session, "step", "z", answer.setting, answer.value), media)
    off = moved(session, "step", "z", "bypass", True)
    peak = [
        np.abs(np.concatenate([x for (x,) in render_nodes(one, media, [NodeId("end", "t")], START, STOP)], axis=1)).max()
        for one in (off, session)
    ]
    assert 20 * np.log10(peak[0] / peak[1]) == pytest.approx(6.0, abs=0.1)


def test_from_the_command_line(tmp_path, capsys):
    sound, path, out = tmp_path / "in.wav", tmp_path / "p.json", tmp_path / "out.json"
    x = hits(5)[:, START - RATE : STOP]
    soundfile.write(sound, x.T, RATE, "FLOAT")
    path.write_text(
        json.dumps({"steps": [{"kind": "trim", "settings": {"gain_db": -9.0}}, {"kind": "compressor", "settings": {}}]})
    )
    command = ["aim", str(sound), "--path", str(path), "--step", "2", "--figure", "gr_max_db", "--target", "2"]
    assert main([*command, "--json", "-o", str(out)]) == 0
    answer = json.loads(capsys.readouterr().out)
    assert answer["reached"] and answer["figure"] == pytest.approx(2.0, abs=0.05)
    steps = json.loads(out.read_text())["steps"]
    assert steps[1]["settings"]["threshold_db"] == answer["value"] and steps[0]["settings"]["gain_db"] == -9.0
    # Written, it is there already.
    assert main(["aim", str(sound), "--path", str(out), *command[4:]]) == 0
    assert "found in 1 render." in capsys.readouterr().out
    assert main([*command[:-1], "44"]) == 1 and "Nothing was changed" in capsys.readouterr().err
    assert main([*command[:4], "--step", "3", *command[6:]]) == 1 and "there is no step 3" in capsys.readouterr().err


def test_an_envelope_is_moved_as_a_whole_and_said_so(sounds):
    """The setting has a course: all of it is moved by the same distance, which the answer names, and the figure is there."""
    session, media = around(sounds, "compressor", "Snare")
    envelope = {"points": [{"at_s": 0.0, "value": -30.0}, {"at_s": STOP / RATE, "value": -18.0}]}
    edit = {"op": "set_envelope", "of": "step", "id": "s", "name": "threshold_db", "envelope": envelope}
    session = apply(session, EDIT.validate_python(edit))
    question = AimRequest("step", "s", "gr_max_db", 4.0, "threshold_db")
    answer = Search(session, question, media, SegmentCache(), START, STOP).run()
    assert answer.reached and answer.by is not None and "the whole envelope of Threshold moved" in answer.text
    shift = {"op": "shift_envelope", "of": "step", "id": "s", "name": "threshold_db", "by": answer.by}
    moved_whole = apply(session, EDIT.validate_python(shift))
    points = moved_whole.step("s").step.envelopes["threshold_db"].points
    assert points[1].value - points[0].value == pytest.approx(12.0)
    again = Search(moved_whole, question, media, SegmentCache(), START, STOP).rendered(moved_whole)
    assert again == pytest.approx(4.0, abs=0.1)


def test_a_setting_under_a_lever_moves_its_base(sounds):
    session, media = around(sounds, "compressor", "Snare")
    lever = {"id": "l", "name": "More", "value": 1.0, "targets": [{"of": "step", "id": "s", "name": "threshold_db", "by": -6.0}]}
    session = apply(session, EDIT.validate_python({"op": "add_lever", "strip_id": "t", "lever": lever}))
    question = AimRequest("step", "s", "gr_max_db", 4.0, "threshold_db")
    answer = Search(session, question, media, SegmentCache(), START, STOP).run()
    assert answer.reached and answer.by is None
    changed = moved(session, "step", "s", "threshold_db", answer.value)
    assert Search(changed, question, media, SegmentCache(), START, STOP).rendered(changed) == pytest.approx(4.0, abs=0.1)
