"""What lies between two versions of a session, exactly, as JSON: the history goes back and forth over it.

    {"from": old, "to": new}             a value; one of them is left out where there was or is none
    {"of": {name: change}, "keys": ...}  some members of an object, and their order before and after, if it is another
    {"of": {"3": change}}                some items of a list that is as long as before
    {"at": 2, "out": [...], "in": [...]} items of a list that gave way to others

The strips stand in it by their ids, and their order beside them: an edit of one strip changes nothing of the others, which two
versions share. What an edit does to a session is worked out from the two versions, not from the edit, so going back always leads
to what was there, to the byte.
"""

from collections.abc import Container, Iterable
from typing import Any

from saltanvil.session.document.session import Session, Strip
from saltanvil.session.validate import checked

Json = Any
Change = dict[str, Any]
#: Stands for a member that is not there.
MISSING: Any = object()


def difference(before: Session, after: Session) -> Change:
    """The change from one version to the other."""
    shared = {id(strip) for strip in before.strips} & {id(strip) for strip in after.strips}
    return tree_difference(tree_of(before, shared), tree_of(after, shared))


def tree_of(session: Session, without: Container[int] = ()) -> Json:
    """A version as JSON, with its strips by their ids; without: strips to leave out, by their identity."""
    strips = {strip.id: dumped(strip) for strip in session.strips if id(strip) not in without}
    return {**own(session), "strips": strips, "order": [strip.id for strip in session.strips]}


def tree_difference(before: Json, after: Json) -> Change:
    """`difference` of two versions as JSON."""
    result = between({**before, "strips": {}}, {**after, "strips": {}}).get("of", {})
    names = [*before["strips"], *(name for name in after["strips"] if name not in before["strips"])]
    strips = {
        name: part for name in names if (part := between(before["strips"].get(name, MISSING), after["strips"].get(name, MISSING)))
    }
    return {"of": {**result, "strips": {"of": strips}}} if strips else {"of": result}


def moved(session: Session, changes: Iterable[tuple[Change, bool]]) -> Session:
    """The version that changes lead to, one after the other; each goes forward, or (True) back.

    It shares the strips that no change touches. Raises ValueError if that version is not whole.
    """
    fields: Json = own(session)
    strips: dict[str, Strip | Json] = {strip.id: strip for strip in session.strips}
    order: Json = list(strips)
    for change, back in changes:
        for name, part in change["of"].items():
            if name == "order":
                order = applied(order, part, back)
            elif name != "strips":
                put(fields, name, applied(fields.get(name, MISSING), part, back))
            else:
                for strip_id, inner in part["of"].items():
                    was = strips.get(strip_id, MISSING)
                    put(strips, strip_id, applied(dumped(was) if isinstance(was, Strip) else was, inner, back))
    listed = [now if isinstance(now := strips[name], Strip) else Strip.model_validate(now) for name in order]
    return checked(Session.model_validate({**fields, "strips": listed}))


def own(session: Session) -> Json:
    return session.model_dump(mode="json", exclude={"strips"})


def dumped(strip: Strip) -> Json:
    return strip.model_dump(mode="json")


def between(before: Json, after: Json) -> Change:
    """The change from one JSON value to another; empty if there is none."""
    if isinstance(before, dict) and isinstance(after, dict):
        names = [*before, *(name for name in after if name not in before)]
        parts = {name: part for name in names if (part := between(before.get(name, MISSING), after.get(name, MISSING)))}
        keys = [list(before), list(after)]
        if keys[0] != keys[1]:
            return {"of": parts, "keys": keys}
        return {"of": parts} if parts else {}
    if isinstance(before, list) and isinstance(after, list):
        return between_lists(before, after)
    if before is after or (before is not MISSING and after is not MISSING and text_of(before) == text_of(after)):
        return {}
    return {name: value for name, value in (("from", before), ("to", after)) if value is not MISSING}


def between_lists(before: list[Json], after: list[Json]) -> Change:
    same = [text_of(one) == text_of(other) for one, other in zip(before, after, strict=False)]
    start = same.index(False) if False in same else len(same)
    if len(before) == len(after):
        parts = {str(n): part for n, (one, other) in enumerate(zip(before, after, strict=True)) if (part := between(one, other))}
        return {"of": parts} if parts else {}
    end = 0
    most = min(len(before), len(after)) - start
    while end < most and text_of(before[-1 - end]) == text_of(after[-1 - end]):
        end += 1
    return {"at": start, "out": before[start : len(before) - end], "in": after[start : len(after) - end]}


def text_of(value: Json) -> str:
    """Two values of one text are the same to the byte: 1 and 1.0, and the order of members, count."""
    return repr(value)


def applied(value: Json, change: Change, back: bool) -> Json:
    """A value after a change, or before it; of an object or a list, itself, changed."""
    if "of" in change:
        for name, part in change["of"].items():
            if isinstance(value, list):
                value[int(name)] = applied(value[int(name)], part, back)
            else:
                put(value, name, applied(value.get(name, MISSING), part, back))
        if "keys" in change:
            return {name: value[name] for name in change["keys"][0 if back else 1]}
        return value
    if "at" in change:
        gone, come = (change["in"], change["out"]) if back else (change["out"], change["in"])
        value[change["at"] : change["at"] + len(gone)] = copied(come)
        return value
    return copied(change.get("from" if back else "to", MISSING))


def copied(value: Json) -> Json:
    """So that what is changed later is not the change itself."""
    if isinstance(value, dict):
        return {name: copied(part) for name, part in value.items()}
    return [copied(part) for part in value] if isinstance(value, list) else value


def put(owner: Json, name: str, value: Json) -> None:
    if value is MISSING:
        owner.pop(name, None)
    else:
        owner[name] = value
