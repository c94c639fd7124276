"""Edits in words, for the history: `Snare compressor: Threshold -18 to -24 dB`."""

from collections.abc import Iterator

from saltanvil.processors import processor_named
from saltanvil.processors.descriptor import Descriptor, SettingValue
from saltanvil.session.address import Address, Moved, descriptor, value
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import Batch, Edit, EditRefused
from saltanvil.session.edits.together import OnStrips
from saltanvil.session.edits.values import Set
from saltanvil.session.slots import SlotOwner, owner_of

MAX_WORDS = 200
#: Edits by their `op`, with what they are about: a strip, a step, a lane, a send or a section, by the name of its field.
DONE = {
    "set_rate": "Sample rate",
    "set_delivery": "Delivery: {fields}",
    "add_strip": "{strip} added",
    "remove_strip": "{strip_id} removed",
    "move_strip": "{strip_id} moved",
    "set_output": "Output of {source}",
    "print": "{strip_id} printed",
    "unprint": "{strip_id} unprinted",
    "replace_media": "{strip_id}: recording replaced",
    "add_send": "Send from {strip_id} added",
    "remove_send": "Send removed",
    "set_key": "Key of {step_id}",
    "add_step": "{strip_id}: {step} added",
    "remove_step": "{step_id} removed",
    "move_step": "{step_id} moved",
    "link_steps": "{steps} linked",
    "unlink_steps": "{steps} unlinked",
    "set_path": "{strip_id}: path changed",
    "set_match_over": "Stretch matched by {step_id}",
    "add_lane": "{step_id}: lane added",
    "remove_lane": "Lane {lane_id} removed",
    "add_divider": "{step_id}: divider added",
    "remove_divider": "{step_id}: divider removed",
    "divide": "{strip_id}: split added",
    "remove_split": "{step_id} removed, steps kept",
    "copy_to_lanes": "{step_id} copied to the other lanes",
    "lanes_to_buses": "{step_id}: lanes to buses",
    "add_section": "Section {section} added",
    "set_section": "Section {section_id} changed",
    "remove_section": "Section {section_id} removed",
    "set_sections": "Sections changed",
    "set_envelope": "{address} over time",
    "change_envelope": "{address} over time",
    "shift_envelope": "{address} over time moved as a whole",
    "turn_envelope": "{address}: {face}",
    "move_range": "{address} over time",
    "thin_range": "{address} thinned",
    "record_envelope": "{address} recorded",
    "add_lever": "Lever {lever} added",
    "remove_lever": "Lever {lever_id} removed",
    "set_lever": "Lever {lever_id} changed",
    "learn_lever": "Lever {lever_id} learnt",
    "unlearn_lever": "Lever {lever_id} changed",
    "store_slot": "{scope} stored in slot {slot}",
    "switch_slot": "{scope}: slot {slot}",
    "clear_slot": "{scope}: slot {slot} cleared",
    "set_version": "{scope}: slots",
}

#: Parts of a delivery by their names.
DELIVERED = {
    "strip_ids": "strips", "extent": "length", "tail": "decay at the end", "pattern": "file names", "formats": "formats",
    "rate_hz": "sample rate", "dither": "dither", "tags": "tags", "origin": "origin", "encoders": "encoders to check",
    "true_peak_dbtp": "true peak wanted", "loudness_lufs": "loudness target",
}  # fmt: skip


def in_words(edit: Edit, before: Session, after: Session) -> str:
    """What an edit did, in one line. before, after: the session without and with it."""
    return next(phrases(edit, before, after))[:MAX_WORDS]


def phrases(edit: Edit, before: Session, after: Session) -> Iterator[str]:
    if isinstance(edit, Batch):
        parts = list(dict.fromkeys(in_words(part, before, after) for part in edit.edits))
        rest = f" and {len(parts) - 1} more" if len(parts) > 1 else ""
        yield f"{parts[0]}{rest}" if parts else "Nothing"
    elif isinstance(edit, Set):
        changed = [moved for moved in edit.values if moves(moved, before)] or edit.values
        first = moved_words(changed[0], before, after)
        first += f", and on {strips_count(len(edit.strips))}" if edit.strips else ""
        yield first if len(changed) == 1 else f"{first} and {len(changed) - 1} more"
    elif isinstance(edit, OnStrips):
        yield f"{in_words(Batch(edits=list(edit.edits)), before, after)}, and on {strips_count(len(edit.strip_ids))}"
    else:
        yield DONE[getattr(edit, "op", "")].format_map(Names(edit, before, after))


def strips_count(count: int) -> str:
    return "one more strip" if count == 1 else f"{count} more strips"


def moves(moved: Moved, before: Session) -> bool:
    """Whether a value was another one."""
    try:
        return value(before, moved.address) != moved.value
    except (NotFound, EditRefused):
        return True


def moved_words(moved: Moved, before: Session, after: Session) -> str:
    """One value: whose it is, its label, what it was and what it is."""
    try:
        described = descriptor(after, moved.address)
        was = value(before, moved.address)
    except (NotFound, EditRefused):
        return f"{moved.name} changed"
    owner = named(moved.address, after)
    old, new = worded(was, described), worded(moved.value, described)
    if isinstance(moved.value, list):
        return f"{owner}: {described.label} changed"
    return f"{owner}: {described.label} {old} to {new}{unit_of(moved.value, described)}".strip()


def unit_of(value: SettingValue, described: Descriptor) -> str:
    """What stands behind a value, with the space before it."""
    shown = described.unit and not isinstance(value, str | bool)
    return f"{'' if described.unit == ':1' else ' '}{described.unit}" if shown else ""


def with_unit(value: SettingValue, described: Descriptor) -> str:
    """`-18 dB`, `4:1`, `35 %`, `on`."""
    return f"{worded(value, described)}{unit_of(value, described)}"


def worded(value: SettingValue, described: Descriptor) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, int | float):
        return f"{value * 100:.4g}" if described.unit == "%" else f"{value:.4g}"
    return described.words.get(str(value), str(value))


def named(address: Address, session: Session) -> str:
    """Whose a value is."""
    name = address.id or ""
    if address.of == "session":
        return "Session"
    if address.of == "strip":
        return session.strip(name).name
    if address.of == "lever":
        return f"Lever {session.lever(name)[1].name}"
    if address.of == "send":
        return f"{session.send(name)[0].name} send"
    if address.of == "lane":
        strip, _, lane = session.lane(name)
        return f"{strip.name} lane {lane.name}"
    place = session.step(name)
    return f"{place.strip.name} {label(place.step)}" + (" key" if address.of == "key" else "")


def label(step: Step) -> str:
    return processor_named(step.kind).label.lower()


def scope_name(session: Session, of: SlotOwner, name: str) -> str:
    return named(Address(of=of, id=name, name="name"), session) if owner_of(session, of, name) else ""


class Names(dict[str, object]):
    """What the fields of an edit are called in the session: before it what is gone, after it what has come."""

    def __init__(self, edit: Edit, before: Session, after: Session) -> None:
        self.edit, self.before, self.after = edit, before, after

    def __missing__(self, field: str) -> object:
        for session in (self.after, self.before):
            try:
                return self.name_in(session, field)
            except (NotFound, EditRefused):
                continue
        return "something"

    def name_in(self, session: Session, field: str) -> object:
        value = getattr(self.edit, field, None)
        if field == "scope":
            version = getattr(self.edit, "version", None) if getattr(self.edit, "op", "") == "set_version" else self.edit
            return scope_name(session, version.of, version.id)  # type: ignore[union-attr]
        if field == "address":
            address: Address = self.edit.address  # type: ignore[attr-defined]
            return f"{named(address, session)}: {descriptor(session, address).label}"
        if field == "fields":
            names = list(getattr(self.edit, "values", {}))
            return ", ".join(DELIVERED.get(name, name) for name in names)
        if field == "face":
            return "a value for each section" if getattr(self.edit, "to", "") == "sections" else "points"
        if field == "steps":
            ids = getattr(self.edit, "step_ids", [])
            return f"{named(Address(of='step', id=ids[0], name='bypass'), session)} and {len(ids) - 1} more"
        if field == "lever_id":
            return session.lever(str(value))[1].name
        if field == "source":
            strip_id, lane_id = getattr(self.edit, "strip_id", None), getattr(self.edit, "lane_id", None)
            return session.strip(strip_id).name if strip_id is not None else f"lane {session.lane(lane_id or '')[2].name}"
        if field == "strip_id":
            return session.strip(str(value)).name
        if field == "step_id":
            place = session.step(str(value))
            return f"{place.strip.name} {label(place.step)}"
        if field == "lane_id":
            return session.lane(str(value))[2].name
        if field == "section_id":
            result = next((section.name for section in session.sections if section.id == value), None)
            if result is None:
                raise NotFound(field)
            return result
        if field == "step":
            return label(value)  # type: ignore[arg-type]
        return getattr(value, "name", value)
