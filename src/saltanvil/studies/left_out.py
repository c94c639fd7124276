"""What an edit named that is not there, and was left out of the session."""

from collections.abc import Iterator

from pydantic import BaseModel

from saltanvil.processors import processor_named
from saltanvil.session.document.automation import Lever
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import Edit


def left_out(edit: Edit, after: Session) -> list[str]:
    """Sentences about the parts that an edit brought, as they became. after: the session with it."""
    steps = {step.id: step for strip in after.strips for step in strip.path.walk()}
    levers = {lever.id: lever for _, lever in after.all_levers()}
    result = []
    for part in parts_of(edit):
        if isinstance(part, Step) and (step := steps.get(part.id)) is not None:
            label = processor_named(step.kind).label.lower()
            if part.key is not None and step.key is None:
                result.append(f"The key of the {label} came from what is not there; it was left out.")
            if part.match_over.section_id is not None and step.match_over.whole:
                result.append(f"The {label} was measured over a section that is not there; it is measured over the whole song.")
            lost = sum(len(envelope.sections.keys() - now(step, name)) for name, envelope in part.envelopes.items())
            if lost:
                what = "A value" if lost == 1 else f"{lost} values"
                result.append(f"{what} of the {label} for sections that are not there: left out.")
        elif isinstance(part, Lever) and (lever := levers.get(part.id)) is not None and len(lever.targets) < len(part.targets):
            lost = len(part.targets) - len(lever.targets)
            what = "a setting that is" if lost == 1 else f"{lost} settings that are"
            result.append(f"The lever {lever.name!r} named {what} not there; what is there stayed.")
    return list(dict.fromkeys(result))


def now(step: Step, name: str) -> set[str]:
    """The sections in which a setting has a value of its own."""
    return set(step.envelopes[name].sections) if name in step.envelopes else set()


def parts_of(value: object) -> Iterator[BaseModel]:
    """Every model within a model, itself first."""
    if isinstance(value, BaseModel):
        yield value
        for name in type(value).model_fields:
            yield from parts_of(getattr(value, name))
    elif isinstance(value, list | tuple):
        for item in value:
            yield from parts_of(item)
    elif isinstance(value, dict):
        for item in value.values():
            yield from parts_of(item)
