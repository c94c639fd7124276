"""Every value that can be moved: its address, its descriptor, what it amounts to, and how it moves while sound runs."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, sosfilt

from saltanvil.dsp.glide import GLIDE_MS
from saltanvil.engine.audition import Audition
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Arrays
from saltanvil.engine.rack import Rack
from saltanvil.measure.resonances import Resonance
from saltanvil.processors import REGISTRY
from saltanvil.processors.base import Context
from saltanvil.processors.descriptor import descriptors_of
from saltanvil.session.address import PART_DESCRIPTORS, Address, descriptor, owner_of, value
from saltanvil.session.apply import apply
from saltanvil.session.document.base import MAIN_ID, NotFound
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.edits.values import Set
from saltanvil.session.settings import differing, loudness_gain_db, resolve
from saltanvil.session.validate import checked
from tests.edits import set_step, undone
from tests.signals import noise

RATE = 48000


def everything():
    """A session with a step of every kind, a send, a key and a split."""
    steps = [{"kind": kind, "id": kind} for kind in REGISTRY if kind != "split"]
    for step in steps:
        if step["kind"] == "ducker":
            step["key"] = {"strip_id": "other"}
    lanes = [{"id": f"lane{n}", "name": f"L{n}"} for n in range(3)]
    split = {"kind": "split", "id": "split", "settings": {"by": "bands", "dividers_hz": [200.0, 2000.0]}, "lanes": lanes}
    return checked(
        Session.model_validate(
            {
                "name": "S",
                "strips": [
                    {"id": MAIN_ID, "name": "Main", "kind": "main", "output": None},
                    {"id": "bus", "name": "Bus", "kind": "bus"},
                    {"id": "other", "name": "Other", "kind": "track", "media_id": 1, "sends": [{"id": "send", "target": "bus"}]},
                    {"id": "all", "name": "All", "kind": "track", "media_id": 0, "path": {"steps": [*steps, split]}},
                ],
            }
        )
    )


def addresses(session):
    """Every address of a session."""
    objects = [("session", None), ("strip", "all"), ("send", "send"), ("lane", "lane1"), ("key", "ducker")]
    for of, name in objects:
        yield from (Address(of=of, id=name, name=setting) for setting in PART_DESCRIPTORS[of])
    for _, step in ((strip, step) for strip in session.strips for step in strip.path.walk()):
        for setting in (*PART_DESCRIPTORS["step"], *descriptors_of(type(step.settings))):
            yield Address(of="step", id=step.id, name=setting)
    yield from (Address(of="step", id="split", name=f"dividers_hz.{n}") for n in range(2))


def other_value(told, now):
    """A value that differs from the present one and is allowed."""
    if told.type == "number":
        middle = math.sqrt(told.minimum * told.maximum) if told.scale == "log" else (told.minimum + told.maximum) / 2
        result = told.maximum if now == middle else middle
        return int(result) if isinstance(now, int) else result
    if told.type == "switch":
        return not now
    if told.type == "choice":
        return next(option for option in told.options if option != now)
    return {
        "text": "Another", "dividers": [300.0, 3000.0], "points": [[-60.0, -60.0], [0.0, -6.0]],
        "resonances": [Resonance(frequency_hz=500.0), Resonance(frequency_hz=2000.0, width_oct=0.1)],
    }[told.type]  # fmt: skip


def test_every_address_is_described_read_set_and_undone():
    session = everything()
    every = list(addresses(session))
    assert len(every) > 250 and len({str(address) for address in every}) == len(every)
    for address in every:
        told = descriptor(session, address)
        assert told.name == address.name and told.label and told.group and told.help.strip() == told.help != "", address
        assert (told.minimum is None) == (told.maximum is None) == (told.type not in ("number", "dividers", "resonances")), (
            address
        )
        assert bool(told.most) or told.type not in ("points", "dividers", "resonances"), address
        assert bool(told.options) == (told.type == "choice")
        if told.type == "choice" or address.name in ("by", "mono_below_hz"):
            continue  # the choices of a split change its lanes; the others are tried one by one below
        now = value(session, address)
        new = other_value(told, now)
        changed = apply(session, Set(values=[{**address.model_dump(), "value": new}]))
        result = value(changed, address)
        assert result == (
            pytest.approx(new) if isinstance(new, float) else [tuple(p) for p in new] if told.type == "points" else new
        )
        assert undone(session, changed) == session
        if told.type == "number":
            with pytest.raises(EditRefused):
                apply(session, Set(values=[{**address.model_dump(), "value": told.maximum + 1}]))


def test_every_choice_of_every_processor_can_be_set():
    session = everything()
    for address in addresses(session):
        told = descriptor(session, address)
        if told.type == "choice" and address.id != "split":
            for option in told.options:
                changed = apply(session, Set(values=[{**address.model_dump(), "value": option}]))
                assert value(changed, address) == option


@pytest.mark.parametrize(
    ("address", "words"),
    [
        (("step", "compressor", "loudness"), "a compressor has no setting 'loudness'; it has .*threshold_db"),
        (("step", "gone", "ratio"), "this step is not there any more"),
        (("lane", "gone", "level_db"), "this lane is not there any more"),
        (("key", "gate", "trim_db"), "the gate has no outside key; choose one first"),
        (("step", "split", "dividers_hz.7"), "no such divider"),
        (("step", "trim", "gain_db.1"), "a trim has no setting 'gain_db.1'"),
        (("strip", "all", "path"), "a strip has no setting 'path'"),
        (("session", None, "rate_hz"), "a session has no setting 'rate_hz'"),
    ],
)
def test_an_address_that_is_not_there_is_named(address, words):
    of, name, setting = address
    result = Address(of=of, id=name, name=setting)
    with pytest.raises(NotFound, match=words):
        value(everything(), result)
    with pytest.raises(EditRefused, match=words):
        apply(everything(), Set(values=[{**result.model_dump(), "value": 1.0}]))


def test_no_setting_of_a_processor_is_called_like_one_of_the_step():
    for processor in REGISTRY.values():
        assert not set(descriptors_of(processor.settings_model)) & set(PART_DESCRIPTORS["step"])
    assert owner_of(everything(), Address(of="session", name="name")).name == "S"


# ---- what a step runs with -----------------------------------------------------------------------------------------------


def test_settings_are_resolved_in_one_order():
    """The document's value, then the gain that holds the loudness, then low latency: the session's for listening only."""
    session = everything()
    for strip in session.strips:
        for step in strip.path.walk():
            gain = loudness_gain_db(step)
            held = step.settings if gain is None else step.settings.model_copy(update={"output_db": gain})
            quick = REGISTRY[step.kind].low_latency_settings(held)
            assert resolve(session, step) == resolve(session, step, listening=True) == held
            session.low_latency = True
            assert resolve(session, step) == held and resolve(session, step, listening=True) == quick
            session.low_latency = False
            step.low_latency = True
            assert resolve(session, step) == resolve(session, step, listening=True) == quick
            step.low_latency = False
    session.low_latency = True
    assert differing(session, session.step("limiter").step) == {}
    result = differing(session, session.step("saturator").step, listening=True)
    assert result["oversampling"] == "1x" and result["output_db"] == loudness_gain_db(session.step("saturator").step)


# ---- how values move -----------------------------------------------------------------------------------------------------


def alternatives(told):
    return {
        "switch": [True, False],
        "choice": told.options,
        "number": [told.minimum, told.maximum, told.default, (told.minimum or 0) / 2 + (told.maximum or 0) / 2],
        "dividers": [[200.0], [200.0, 2000.0], [300.0]],
        "points": [[[-60, -60], [0, -10]], [[-60, -60], [-30, -30], [0, -10]]],
        "resonances": [[], [{"frequency_hz": 500.0}], [{"frequency_hz": 900.0}, {"frequency_hz": 4000.0}]],
        "text": ["", "Chorus"],
    }[told.type]


def variant(model, base, **changes):
    try:
        return model.model_validate({**base.model_dump(), **changes})
    except ValueError:
        return None


@pytest.mark.parametrize("kind", sorted(REGISTRY))
def test_what_changes_latency_or_structure_says_so_and_nothing_else_does(kind):
    """Tried beside every other setting at every one of its values, and at every starting point."""
    processor = REGISTRY[kind]
    model, told = processor.settings_model, descriptors_of(processor.settings_model)
    contexts = [model(), *(model().model_copy(update=start.settings) for start in processor.starts)]
    contexts += [variant(model, model(), **{name: option}) for name, one in told.items() for option in alternatives(one)]
    for name, one in told.items():
        latency = structure = False
        for context in filter(None, contexts):
            result = list(filter(None, (variant(model, context, **{name: option}) for option in alternatives(one))))
            latency |= len({processor.latency_of(settings, RATE) for settings in result}) > 1
            structure |= len({str(processor.structural_key(settings)) for settings in result}) > 1
        expected = "latency" if latency else "structure" if structure else None
        assert (one.moves if one.moves in ("latency", "structure") else None) == expected, name
        assert one.moves != "glides" or one.type == "number", name


#: What lies above 9 kHz in tones below 1 kHz is a click; under -60 dBFS it is lost beside the sound (ours, no source).
HIGH = butter(6, 9000, "high", fs=RATE, output="sos")
INAUDIBLE = 10 ** (-60 / 20)
AT, CLICK_FRAMES = 24_064, 33_600


def tones():
    t = np.arange(CLICK_FRAMES) / RATE
    one = (0.35 * np.sin(2 * np.pi * 110 * t) + 0.15 * np.sin(2 * np.pi * 440 * t)).astype(np.float32)
    return np.stack([one, np.float32(0.8) * one])


def played(processor, x, first, then=None):
    work = processor(first, 2, Context(rate=RATE))
    parts = [work.process(np.ascontiguousarray(x[:, :AT]))]
    work.configure(then or first, Context(rate=RATE))
    return np.concatenate([*parts, work.process(np.ascontiguousarray(x[:, AT:]))], axis=1)


def click(y):
    return float(np.abs(sosfilt(HIGH, y.astype(np.float64), axis=-1))[:, AT - 200 : AT + 9000].max())


def gliding():
    return [
        (kind, name)
        for kind, processor in REGISTRY.items()
        for name, told in descriptors_of(processor.settings_model).items()
        if told.type == "number" and told.moves == "glides"
    ]


@pytest.mark.parametrize("kind", sorted(REGISTRY))
def test_a_gliding_setting_moved_while_it_plays_makes_no_click(kind):
    """From where it stands to either end of its range at once: no worse than a plain fade of the glide's length between the
    two sounds, and than those sounds themselves."""
    processor, x = REGISTRY[kind], tones()
    fade = np.clip((np.arange(CLICK_FRAMES) - AT) / (GLIDE_MS * RATE / 1000), 0, 1)
    for name, told in descriptors_of(processor.settings_model).items():
        if (kind, name) not in gliding():
            continue
        chosen = {other: {"True": True, "False": False}.get(options[0], options[0]) for other, options in told.when.items()}
        start = processor.settings_model.model_validate(chosen)
        for end in (told.minimum, told.maximum):
            target = variant(processor.settings_model, start, **{name: end})
            if target is None:
                continue
            before, after = played(processor, x, start), played(processor, x, target)
            plain = click(before * (1 - fade) + after * fade)
            bound = max(2 * max(plain, click(before), click(after)), INAUDIBLE)
            assert click(played(processor, x, start, target)) <= bound, (name, end)


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_moved_while_it_plays_the_samples_do_not_depend_on_the_blocks(data):
    """Live and offline are the same plan in other blocks: a value moved at a frame gives the same samples in both."""
    kind, name = data.draw(st.sampled_from(gliding()))
    told = descriptors_of(REGISTRY[kind].settings_model)[name]
    new = data.draw(st.floats(told.minimum, told.maximum))
    chosen = {other: {"True": True, "False": False}.get(options[0], options[0]) for other, options in told.when.items()}
    if kind == "split":
        lanes = 2 if "position" in name or "trim" in name else 3
        step = {"kind": kind, "id": "s", "lanes": [{"name": str(n)} for n in range(lanes)], "settings": {**chosen}}
    else:
        step = {"kind": kind, "id": "s", "settings": chosen}
    made = Strip(id="t", name="T", kind="track", media_id=0, path={"steps": [step]})
    session = checked(Session(name="S", strips=[Strip(id=MAIN_ID, name="M", kind="main", output=None), made]))
    try:
        changed = apply(session, set_step("s", {name: new}))
    except EditRefused:
        return
    media, end, at = Arrays(noise(2, 12_800)), 12_800, 4_096
    sizes = data.draw(st.lists(st.integers(1, 60).map(lambda ticks: 64 * ticks), min_size=2, max_size=8))

    def rendered(sizes):
        rack, parts, now = Rack(), [], 0
        plan = compile_plan(session, media, rack, Audition())
        while now < end:
            stop = at if now < at else end
            frames = min(sizes[len(parts) % len(sizes)], stop - now)
            if now == at:
                plan = compile_plan(changed, media, rack, Audition())
            parts.append(plan.render(now, frames).copy())
            now += frames
        return np.concatenate(parts, axis=1)

    assert np.array_equal(rendered([1024]), rendered(sizes)), (kind, name, new)


def test_a_divider_is_an_address_of_its_own():
    session = everything()
    address = Address(of="step", id="split", name="dividers_hz.1")
    told = descriptor(session, address)
    assert (told.label, told.scale, told.type, told.moves, value(session, address)) == (
        "Divider 2",
        "log",
        "number",
        "glides",
        2000.0,
    )
    changed = apply(session, Set(values=[{**address.model_dump(), "value": 3000.0}]))
    assert changed.step("split").step.settings.dividers_hz == (200.0, 3000.0) and undone(session, changed) == session
    with pytest.raises(EditRefused, match="too near"):
        apply(session, Set(values=[{**address.model_dump(), "value": 205.0}]))
    # Both past where the other was: what they come to together is what counts, on the way back too.
    both = [{"of": "step", "id": "split", "name": f"dividers_hz.{n}", "value": hz} for n, hz in enumerate((5000.0, 9000.0))]
    changed = apply(session, Set(values=both))
    assert changed.step("split").step.settings.dividers_hz == (5000.0, 9000.0) and undone(session, changed) == session


def test_a_path_of_steps_validates_on_its_own():
    assert Step.model_validate({"kind": "trim"}).match_over.whole
