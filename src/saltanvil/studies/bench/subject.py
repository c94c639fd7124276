"""What of a session is put on the bench."""

from saltanvil.session.automation import Automation
from saltanvil.session.document.path import Path, Step
from saltanvil.session.document.session import Session


def path_on_bench(session: Session, strip_id: str, step_id: str | None, lane_id: str | None, whole: bool) -> Path:
    """What of a session is put on the bench: a step, a lane's path, a strip's path, or (whole) with its trim and level.

    Keys from outside are left out; levers are counted in, and nothing moves over time: a test signal has no place in the song.
    Raises NotFound.
    """
    automation = Automation(session)
    strip = automation.now("strip", strip_id, session.strip(strip_id))
    if step_id is not None:
        path = Path(steps=[session.step(step_id).step.model_copy(deep=True)])
        path.steps[0].bypass = False
    else:
        path = session.path(strip_id, lane_id).model_copy(deep=True)
    path.levers = []
    inside = {*path.ids()}
    for step in path.walk():
        step.settings = automation.now("step", step.id, step).settings
        step.envelopes = {}
        for lane in step.lanes:
            lane.level_db, lane.envelopes = automation.now("lane", lane.id, lane).level_db, {}
        if step.key is not None:
            step.key = automation.now("key", step.id, step.key).model_copy(update={"envelopes": {}})
        if step.key is not None and not (step.key.own or inside & {step.key.step_id, step.key.lane_id}):
            step.key = None
        for lane in step.lanes:
            lane.output = None
    if whole and step_id is None and lane_id is None:
        path.steps = [
            trim_step("bench-trim", strip.trim_db),
            *path.steps,
            trim_step("bench-level", max(strip.level_db, -60.0)),
        ]
    return path


def trim_step(name: str, gain_db: float) -> Step:
    return Step.model_validate({"id": name, "kind": "trim", "settings": {"gain_db": gain_db}})
