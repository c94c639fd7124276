"""Edits of settings, written shortly; and any edits of a session."""

import json

from hypothesis import strategies as st

from saltanvil.session.address import Address, descriptor
from saltanvil.session.automation import automated_parts
from saltanvil.session.changes import difference
from saltanvil.session.changes import moved as gone_over
from saltanvil.session.document.base import NotFound
from saltanvil.session.edits.base import Batch
from saltanvil.session.edits.strips import SetOutput
from saltanvil.session.edits.values import Set


def moved(of, id, values, alone=False):
    """One edit of several values of one object."""
    return Set(values=[{"of": of, "id": id, "name": name, "value": value} for name, value in values.items()], alone=alone)


def set_step(step_id, settings=None, alone=False, **values):
    return moved("step", step_id, {**(settings or {}), **values}, alone)


def set_strip(strip_id, **values):
    return moved("strip", strip_id, values)


def set_lane(lane_id, **values):
    if "output" not in values:
        return moved("lane", lane_id, values)
    output = SetOutput(lane_id=lane_id, output=values.pop("output") or None)
    return Batch(edits=[moved("lane", lane_id, values), output]) if values else output


def set_send(send_id, **values):
    return moved("send", send_id, values)


def set_session(**values):
    return moved("session", None, values)


def moved_json(of, id, **values):
    """The same as it is sent to the server."""
    return {"op": "set", "values": [{"of": of, "id": id, "name": name, "value": value} for name, value in values.items()]}


def edit_json(op, alone=False, **given):
    """An edit as it is sent; `set_step`, `set_strip` ... are short for `set` of values of that object."""
    owner = op.removeprefix("set_")
    if not op.startswith("set_") or owner not in ("session", "strip", "lane", "send", "step"):
        return {"op": op, **given}
    values = {**given.pop("settings", {}), **given}
    name = values.pop(f"{owner}_id", None)
    if owner == "lane" and "output" in values:
        return {"op": "set_output", "lane_id": name, "output": values["output"] or None}
    return moved_json(owner, name, **values)


def numbers(session):
    """Addresses of all numbers and switches of a session that glide or jump."""
    found = []
    for of, name, part in automated_parts(session):
        held = part.settings if of == "step" else part
        for setting in type(held).model_fields:
            try:
                told = descriptor(session, Address(of=of, id=name, name=setting))
            except NotFound:  # not a setting
                continue
            if told.type in ("number", "switch"):
                found.append((of, name, setting, told))
    return found


@st.composite
def any_edits(draw, session):
    """An edit of any sort, as it is sent; some are refused."""
    strips = [strip.id for strip in session.strips]
    steps = [step.id for strip in session.strips for step in strip.path.walk()]
    sort = draw(st.sampled_from(["number"] * 4 + ["switch"] * 2 + ["tempo", "low", "move", "remove", "add", "feed"]))
    if sort == "number":
        of, name, setting, told = draw(st.sampled_from(numbers(session)))
        drawn = st.booleans() if told.type == "switch" else st.floats(told.minimum, told.maximum)
        return moved_json(of, name, **{setting: draw(drawn)})
    if sort == "switch":
        of, name = draw(st.sampled_from([("step", "bypass"), ("strip", "mute"), ("strip", "solo"), ("strip", "envelopes_off")]))
        return moved_json(of, draw(st.sampled_from(steps if of == "step" else strips)), **{name: draw(st.booleans())})
    if sort == "tempo":
        return moved_json("session", None, tempo_bpm=draw(st.floats(60.0, 180.0)))
    if sort == "low":
        return moved_json("session", None, low_latency=draw(st.booleans()))
    if sort == "move":
        return {
            "op": "move_step",
            "strip_id": draw(st.sampled_from(strips)),
            "step_id": draw(st.sampled_from(steps)),
            "index": draw(st.integers(0, 3)),
        }
    if sort == "remove":
        return {"op": "remove_step", "step_id": draw(st.sampled_from(steps))}
    if sort == "add":
        kind = draw(st.sampled_from(["compressor", "limiter", "gate", "trim"]))
        step = {"id": f"new{draw(st.integers(0, 10**9))}", "kind": kind, "settings": {}}
        return {"op": "add_step", "strip_id": draw(st.sampled_from(strips)), "step": step}
    return {"op": "set_output", "strip_id": draw(st.sampled_from(strips)), "output": draw(st.sampled_from(strips))}


def undone(before, after):
    """What going back over what lies between two versions leads to; going forward over it leads to the other, to the byte."""
    change = json.loads(json.dumps(difference(before, after)))
    assert gone_over(before, [(change, False)]).model_dump_json() == after.model_dump_json()
    return gone_over(after, [(change, True)])
