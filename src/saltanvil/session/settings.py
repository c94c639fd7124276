"""What a step runs with: levers, envelopes, held loudness, low latency."""

from collections.abc import Mapping

from saltanvil.processors import Settings, processor_named
from saltanvil.processors.descriptor import SettingValue
from saltanvil.processors.split import SplitSettings
from saltanvil.session.automation import MOVING_SWITCHES, Automation, settings_with
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session


def loudness_gain_db(step: Step, settings: Settings | None = None) -> float | None:
    """The gain that holds a step's loudness, as measured or else guessed; None where it is not held. settings: at a moment.

    While its settings move on from what was measured, the measured gain moves by as much as the guess does.
    """
    guessed = processor_named(step.kind).loudness_gain_db(settings or step.settings)
    if guessed is None or step.match is None or step.match.refused is not None:
        return guessed
    return step.match.matched_db + guessed - step.match.guessed_db


def resolve(
    session: Session,
    step: Step,
    listening: bool = False,
    at_s: float | None = None,
    automation: Automation | None = None,
) -> Settings:
    """What a step runs with.

    listening: as it sounds in the page, where the session's low latency counts; what is measured and rendered goes
    without it, so that *after* is what a file contains. A step's own low latency belongs to its sound. at_s: the session time
    at which its envelopes are read; None as if nothing moved over time. automation: of the session, if it is at hand.
    """
    automation = automation or Automation(session)
    values = automation.standing("step", step.id)
    if at_s is not None:
        values |= {name: course.value(at_s) for name, course in automation.moving("step", step.id, step).items()}
    settings = settings_with(step.settings, {name: value for name, value in values.items() if name not in MOVING_SWITCHES})
    return settings_of(session, step, settings, listening)


def settings_of(session: Session, step: Step, settings: Settings, listening: bool = False) -> Settings:
    """What a step runs with, from its settings with levers and envelopes counted in: its held loudness, then low latency."""
    kind = processor_named(step.kind)
    gain_db = loudness_gain_db(step, settings)
    if gain_db is not None:
        settings = kind.with_loudness_gain(settings, gain_db)
    if step.low_latency or (listening and session.low_latency):
        settings = kind.low_latency_settings(settings)
    return settings


def resolve_split(session: Session, step: Step, listening: bool = False, at_s: float | None = None) -> SplitSettings:
    """`resolve` for a split."""
    settings = resolve(session, step, listening, at_s)
    assert isinstance(settings, SplitSettings)
    return settings


def differing(
    session: Session, step: Step, listening: bool = False, automation: Automation | None = None
) -> Mapping[str, SettingValue]:
    """The settings that a step runs with otherwise than its document says."""
    resolved = resolve(session, step, listening, automation=automation)
    if resolved is step.settings:
        return {}
    own, now = step.settings.model_dump(mode="json"), resolved.model_dump(mode="json")
    return {name: now[name] for name in own if now[name] != own[name]}
