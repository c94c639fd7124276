"""Edits of settings, written shortly."""

from saltanvil.session.edits import Batch, Set, SetOutput


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
