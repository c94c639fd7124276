"""The bench against signals whose distortion is known, series, and the settings of what is on it."""

import itertools
import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.cli import main
from saltanvil.measure import distortion
from saltanvil.processors import REGISTRY
from saltanvil.session.document.path import Key, Path, Step
from saltanvil.studies.bench.measured import measured
from saltanvil.studies.bench.result import TESTS, BenchRequest, csv_of
from saltanvil.studies.bench.runner import Bench
from saltanvil.studies.bench.subject import path_on_bench
from tests.engine.test_routing import session_of, step, strip

RATE, FRAMES = 48000, 1 << 16


def tone(hz, level=1.0, frames=FRAMES, phase=0.0):
    return level * np.sin(2 * np.pi * hz * np.arange(frames) / RATE + phase)


def ask(test, *steps, rate=RATE, channels=1, **more):
    return measured(Bench(Path(steps=list(steps)), rate, channels), BenchRequest(test, **more))


def figures(result):
    return {figure.name: figure.value for figure in result.figures}


# ---- the measures themselves -----------------------------------------------------------------------------------------


@settings(max_examples=40, deadline=None)
@given(st.lists(st.floats(-90.0, -20.0), min_size=3, max_size=8), st.floats(100.0, 1500.0), st.floats(-40.0, 0.0))
def test_known_harmonics_are_read_back_within_a_tenth_of_a_decibel(levels, hz, out):
    """THD: IEC 60268-3, the harmonics' sum re the fundamental; THD+N: AES17, all but the fundamental re all (from memory)."""
    hz = distortion.fitting_hz(hz, FRAMES, RATE)
    gain = 10 ** (out / 20)
    x = tone(hz, gain) + sum(tone(hz * (n + 2), gain * 10 ** (db / 20), phase=n) for n, db in enumerate(levels))
    found = distortion.harmonics_of(x, RATE, hz)
    assert found.harmonics_db[: len(levels)] == pytest.approx(levels, abs=0.1)
    assert found.fundamental_dbfs == pytest.approx(out, abs=0.01)
    total = 10 * np.log10(sum(10 ** (db / 10) for db in levels))
    assert found.thd_db == pytest.approx(total, abs=0.1)
    assert found.thdn_db == pytest.approx(total - 10 * np.log10(1 + 10 ** (total / 10)), abs=0.1)
    assert found.even_share == pytest.approx(sum(10 ** (db / 10) for db in levels[::2]) / 10 ** (total / 10), abs=0.01)
    # A line that is no harmonic is told apart from them.
    bins = round(0.37 * FRAMES)
    stray = (bins + (bins % round(hz * FRAMES / RATE) == 0)) * RATE / FRAMES
    found = distortion.harmonics_of(x + tone(stray, gain * 1e-3), RATE, hz)
    assert found.strongest_db == pytest.approx(-60, abs=0.1) and found.strongest_hz == pytest.approx(stray)


def test_a_square_wave_has_the_series_of_one():
    """Fourier: 1/3, 1/5, 1/7 ... of the fundamental, 48.3 % in all."""
    hz = distortion.fitting_hz(50.0, FRAMES, RATE)
    found = distortion.harmonics_of(np.sign(tone(hz, phase=1e-6)), RATE, hz)
    odd = found.harmonics_db[1::2]
    assert odd == pytest.approx([-20 * np.log10(n) for n in range(3, 3 + 2 * len(odd), 2)], abs=0.1)
    assert found.thd_db == pytest.approx(20 * np.log10(0.483), abs=0.1) and max(found.harmonics_db[::2]) < -60


def test_known_intermodulation_is_read_back():
    """SMPTE: pairs of sidebands re 7 kHz; difference tones re the pair (IEC 60268-3, from memory)."""
    low, high = (round(hz * FRAMES / RATE) * RATE / FRAMES for hz in distortion.SMPTE_HZ)
    x = 0.8 * tone(low) + 0.2 * tone(high)
    for n, level in ((1, 0.002), (2, 0.001)):
        x += level * (tone(high - n * low) + tone(high + n * low))
    assert distortion.smpte_of(x, RATE, low, high).total_db == pytest.approx(20 * np.log10(np.hypot(0.02, 0.01)), abs=0.1)
    low, high = (round(hz * FRAMES / RATE) * RATE / FRAMES for hz in distortion.DIFFERENCE_HZ)
    x = 0.5 * (tone(low) + tone(high)) + 0.003 * tone(high - low) + 0.001 * (tone(2 * low - high) + tone(2 * high - low))
    found = distortion.difference_of(x, RATE, low, high)
    assert found.total_db == pytest.approx(20 * np.log10(np.hypot(0.003, 0.002)), abs=0.1)


# ---- paths on the bench ----------------------------------------------------------------------------------------------


def test_a_clean_path_measures_clean():
    clean = figures(ask("harmonics", step("trim", "t", gain_db=-3.0)))
    assert clean["thd_db"] < -120 and clean["fundamental_dbfs"] == pytest.approx(-15.0, abs=0.001)
    both = figures(ask("intermodulation", step("trim", "t")))
    assert max(both["smpte_db"], both["difference_db"]) < -120
    assert figures(ask("aliasing", step("trim", "t")))["alias_db"] < -120
    assert figures(ask("curve", step("trim", "t", gain_db=6.0)))["largest_apart_db"] is None  # a trim has no curve
    told = figures(ask("impulse", step("equaliser", "e", band2_frequency_hz=1000.0, band2_gain_db=6.0), level_dbfs=-20.0))
    assert told["gain_1k_db"] == pytest.approx(6.0, abs=0.02)


@settings(max_examples=12, deadline=None)
@given(st.sampled_from([2.0, 5.0, 20.0, 50.0]), st.sampled_from([60.0, 150.0, 400.0]), st.sampled_from([0.0, 5.0]))
def test_measured_attack_and_release_agree_with_the_settings(attack_ms, release_ms, lookahead_ms):
    chosen = {"threshold_db": -30.0, "ratio": 4.0, "knee_db": 0.0, "attack_ms": attack_ms, "release_ms": release_ms}
    result = ask(
        "burst",
        step("compressor", "c", lookahead_ms=lookahead_ms, **chosen),
        level_dbfs=-10.0,
        frequency_hz=4000.0,
        burst_ms=600.0,
    )
    told = figures(result)
    assert told["during_db"] == pytest.approx(-15.0, abs=0.2) and told["before_db"] == pytest.approx(0.0, abs=0.05)
    assert told["release_ms"] == pytest.approx(release_ms, rel=0.05, abs=2 * told["resolution_ms"])
    # Lookahead begins that much before the burst; then the rest of the attack is seen.
    assert told["attack_ms"] == pytest.approx(max(attack_ms - lookahead_ms, 0.0), rel=0.08, abs=2.5 * told["resolution_ms"])


def choices(name, field):
    """What a setting that may be one of quality offers."""
    if name.startswith("lookahead"):
        return [field["minimum"], 2.3, field["maximum"]]
    return [False, True] if field.get("type") == "boolean" else field.get("enum", [])


def qualities(kind):
    """Every combination of the settings by which a processor's latency moves, alone or beside any other one setting."""
    processor = REGISTRY[kind]
    late = lambda **chosen: processor.latency_of(processor.settings_model(**chosen), RATE)  # noqa: E731
    fields = {name: choices(name, field) for name, field in processor.settings_model.model_json_schema()["properties"].items()}
    moving = {}
    for name, beside in itertools.product(fields, repeat=2):
        if any(len({late(**{beside: value, name: own}) for own in fields[name]}) > 1 for value in fields[beside]):
            moving[name] = fields[name]
    return [dict(zip(moving, values, strict=True)) for values in itertools.product(*moving.values())]


OPEN = {"gate": {"range_db": 0.0}}  # or it would swallow the impulse


@pytest.mark.parametrize("kind", sorted(set(REGISTRY) - {"split"}))
def test_measured_latency_is_the_declared_one(kind):
    """For every quality of every processor at 48 kHz, and every fifth at other rates."""
    found = qualities(kind)
    for number, (rate, quality) in enumerate([(RATE, q) for q in found] + [(r, q) for r in (44100, 96000) for q in found[::5]]):
        told = figures(ask("impulse", step(kind, "s", **{**OPEN.get(kind, {}), **quality}), rate=rate, level_dbfs=-40.0))
        assert told["measured_ms"] == pytest.approx(told["declared_ms"], abs=1.01 * 1000 / rate), (number, rate, quality)


def test_the_curve_measured_lies_on_the_curve_set():
    chosen = {"threshold_db": -30.0, "ratio": 3.0, "knee_db": 6.0, "attack_ms": 0.5, "release_ms": 400.0}
    result = ask("curve", step("compressor", "c", **chosen))
    assert [line.name for line in result.lines] == ["measured", "set"] and figures(result)["largest_apart_db"] < 0.5
    clipped = ask("curve", step("clipper", "c", ceiling_db=-6.0, hardness=0.2))
    assert figures(clipped)["largest_apart_db"] < 0.8  # its filters let peaks swing over a little


def test_oversampling_is_compared_in_one_press():
    result = ask(
        "aliasing",
        step("clipper", "c", ceiling_db=-18.0, hardness=1.0, oversampling="4x", overshoot="left"),
        level_dbfs=-6.0,
        compare=True,
    )
    told = figures(result)
    ways = [told[f"alias_{way}_db"] for way in ("1x", "2x", "4x", "8x", "16x")]
    assert ways == sorted(ways, reverse=True) and ways[0] > ways[-1] + 30 and ways[2] == told["alias_db"]
    # A harmonic above half the rate folds back: sampling theorem.
    worst = min(result.table, key=lambda row: -row[2])
    folds = [abs(k * worst[0] - RATE * round(k * worst[0] / RATE)) for k in range(2, 400)]
    assert min(abs(f - worst[1]) for f in folds) < 3.0
    assert len(result.grid) == len(result.grid_x) and len(result.grid[0]) == len(result.grid_y)


@settings(max_examples=12, deadline=None)
@given(st.floats(-12.0, -1.0), st.floats(50.0, 400.0))
def test_a_clipped_sine_has_its_fourier_series(ceiling_db, hz):
    """b_n = 4/pi (1/2 (sin((n-1)p)/(n-1) - sin((n+1)p)/(n+1)) + c cos(np)/n), clipped at c = sin p (integrated by hand)."""
    told = figures(
        ask(
            "harmonics",
            step("clipper", "c", ceiling_db=ceiling_db, hardness=1.0, oversampling="16x", overshoot="left"),
            level_dbfs=0.0,
            frequency_hz=hz,
        )
    )
    c = 10 ** (ceiling_db / 20)
    p = np.arcsin(c)
    first = 2 / np.pi * (p - np.sin(p) * np.cos(p) + 2 * c * np.cos(p))
    assert told["fundamental_dbfs"] == pytest.approx(20 * np.log10(first), abs=0.02)
    for n in (3, 5, 7, 9, 11):
        b = 4 / np.pi * (0.5 * (np.sin((n - 1) * p) / (n - 1) - np.sin((n + 1) * p) / (n + 1)) + c * np.cos(n * p) / n)
        level = 20 * np.log10(max(abs(b / first), 1e-9))
        assert told[f"h{n}_db"] == pytest.approx(level, abs=0.1) or level < -60


def test_noise_shows_what_a_filter_does():
    result = ask("noise", step("equaliser", "e", band2_frequency_hz=1000.0, band2_gain_db=9.0, band2_q=1.0), level_dbfs=-20.0)
    before, after = (np.array(line.y) for line in result.lines)
    moved = np.interp(np.log([1000.0, 50.0]), np.log(result.lines[0].x), after - before)
    assert moved == pytest.approx([9.0, 0.0], abs=0.4)


def test_a_scope_is_put_on_the_bench_without_its_session():
    lanes = [{"id": "l", "name": "L", "output": "bus", "path": {"steps": [step("limiter", "lim").model_dump()]}}]
    split = Step.model_validate({"id": "p", "kind": "split", "settings": {"by": "copies", "blend": False}, "lanes": lanes})
    own = step("ducker", "d", {"step_id": "lim"})
    far = step("compressor", "c", {"strip_id": "k"})
    session = session_of(
        strip("k", media_id=0), strip("bus", kind="bus"), strip("a", far, split, own, media_id=0, trim_db=3.0, level_db=-9.0)
    )
    assert [s.kind for s in path_on_bench(session, "a", "c", None, False).steps] == ["compressor"]
    path = path_on_bench(session, "a", None, None, True)
    assert [s.kind for s in path.steps] == ["trim", "compressor", "split", "ducker", "trim"]
    assert path.steps[1].key is None and path.steps[3].key == Key(step_id="lim") and path.steps[2].lanes[0].output is None
    assert [s.kind for s in path_on_bench(session, "a", None, "l", False).steps] == ["limiter"]
    whole = figures(measured(Bench(path), BenchRequest("harmonics", level_dbfs=-40.0)))
    assert whole["fundamental_dbfs"] == pytest.approx(-46.0, abs=0.05)  # trim and level of the strip, nothing else at work
    with pytest.raises(LookupError):
        path_on_bench(session, "a", "gone", None, False)


@pytest.mark.parametrize("test", TESTS)
def test_the_command_line_gives_the_same(tmp_path, capsys, test):
    path = {"steps": [{"kind": "clipper", "settings": {"ceiling_db": -9.0, "oversampling": "2x"}}]}
    (tmp_path / "path.json").write_text(json.dumps(path))
    arguments = ["bench", "--path", str(tmp_path / "path.json"), "--test", test, "--frequency-hz", "440", "--level-dbfs", "-3"]
    assert main([*arguments, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    expected = measured(Bench(Path.model_validate(path)), BenchRequest(test, 440.0, -3.0))
    assert told == json.loads(json.dumps(expected.as_dict()))
    assert main([*arguments, "--csv"]) == 0
    assert capsys.readouterr().out == csv_of(expected)
    assert main(arguments) == 0 and expected.figures[0].label in capsys.readouterr().out
