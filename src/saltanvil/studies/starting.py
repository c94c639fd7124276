"""Starting points as they are applied: what they fix, and the settings that reach a figure on the passage.

A threshold that fits one track is next to nothing on a softer one; "3 dB of GR on this passage" fits both.
"""

from collections.abc import Callable
from dataclasses import dataclass

from saltanvil.processors import processor_named
from saltanvil.processors.base import Start
from saltanvil.processors.descriptor import SettingValue, descriptors_of
from saltanvil.session.address import Moved
from saltanvil.session.apply import apply
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.session import Session
from saltanvil.session.edits.values import Set
from saltanvil.studies.aim import DECIMALS, AimRequest, Search


@dataclass(frozen=True)
class StartResult:
    """settings: all that are to be set; text: which of them were found, and what they reach."""

    settings: dict[str, SettingValue]
    text: str


def start_of(session: Session, step_id: str, name: str) -> Start:
    """Raises NotFound."""
    kind = session.step(step_id).step.kind
    start = next((start for start in processor_named(kind).starts if start.name == name), None)
    if start is None:
        raise NotFound(f"{processor_named(kind).label} has no starting point {name!r}")
    return start


def started(session: Session, step_id: str, settings: dict[str, SettingValue]) -> Session:
    """The session with every setting of a step set, to its default where nothing is given; what an analysis gave stays."""
    model = processor_named(session.step(step_id).step.kind).settings_model
    values = {name: setting.default for name, setting in descriptors_of(model).items() if not setting.analysed} | settings
    return apply(session, Set(values=[Moved(of="step", id=step_id, name=name, value=value) for name, value in values.items()]))


def starting(session: Session, step_id: str, name: str, search: Callable[[Session, AimRequest], Search]) -> StartResult:
    """Raises NotFound, EditRefused, Cancelled. What an envelope moves is not searched."""
    start = start_of(session, step_id, name)
    settings: dict[str, SettingValue] = dict(start.settings)
    results: list[str] = []
    for figure, target, setting in start.aims:
        one = search(started(session, step_id, settings), AimRequest("step", step_id, figure, target, setting))
        if one.course is not None:
            continue
        result = one.run()
        if result.figure is None:
            continue
        begin, value = one.present(), result.value
        reached: float | None = result.figure
        if abs(value - begin) > start.reach:
            value = one.rounded(min(max(value, begin - start.reach), begin + start.reach), DECIMALS)
            reached = one.figure(value)
        settings[setting] = value
        assert one.aim is not None
        results.append(f"{one.setting.label} {one.shown(value)} ({one.aim.label} {one.said(reached)})")
    return StartResult(settings, ", ".join(results))
