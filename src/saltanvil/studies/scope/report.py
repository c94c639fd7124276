"""What the page shows of a scope and its passage: the ledger, the pictures, latency, and what moves."""

from dataclasses import replace

from pydantic import BaseModel

from saltanvil.engine.audition import Scope
from saltanvil.engine.latency import Latencies
from saltanvil.processors import processor_named
from saltanvil.processors.descriptor import SettingValue
from saltanvil.processors.evidence import Hint
from saltanvil.session.document.session import Strip
from saltanvil.session.graph import Graph, NodeId
from saltanvil.session.settings import resolve
from saltanvil.studies.moving import MovedOver, moved_over
from saltanvil.studies.routing import Silences, source_name
from saltanvil.studies.scope.ledger import Ledger, ledger_of
from saltanvil.studies.scope.passage import passage_of, window_frames
from saltanvil.studies.scope.pictures import Bite, Curve, Response, bite_of, curve_of, response_of
from saltanvil.studies.scope.study import Study

#: Below this nothing sounds.
SILENT_DBFS = -120.0
#: Frames that a picture shows at least.
MIN_PICTURE_FRAMES = 64


class ScopeReport(BaseModel):
    """settings: those the step was measured with, at the passage's middle where they move; remark: what they say in words;
    detector: the part of the sound that the step's detector listens to by its nature; moving: what moves over the passage;
    latency_ms, strip_latency_ms: of the scope and at its strip's end, as heard."""

    start_s: float
    end_s: float
    ledger: Ledger
    bite: Bite
    bite_start_s: float
    bite_end_s: float
    curve: Curve | None
    response: Response | None
    linear_gain_db: float
    output_ceiling_db: float | None
    settings: dict[str, SettingValue]
    remark: str
    detector: str | None
    latency_ms: float
    strip_latency_ms: float
    moving: list[MovedOver]


def scope_report(study: Study, scope: Scope, columns: int, zoom_start: float, zoom_end: float) -> ScopeReport:
    """columns: width of the picture; zoom_start, zoom_end: the share of the passage drawn. Raises NotFound, Cancelled."""
    session, rate, start, stop = study.session, study.rate, study.start, study.stop
    whole = study.measured(scope)
    step = study.step(scope)
    key = step.key if step is not None else None
    strip = session.strip(scope.strip_id)
    silent = Silences(session).of(strip)
    ledger = ledger_of(whole, session, step, None if key is None else source_name(session, key), silent, study.middle_s)
    peaks = ledger.before.sample_peak_dbfs, ledger.after.sample_peak_dbfs
    if step is None and scope.lane_id is None and peaks[1] <= SILENT_DBFS < peaks[0]:
        hint = silenced_by(study, strip)
        ledger = replace(ledger, hints=[*ledger.hints, *([hint] if hint is not None else [])])
    linear_gain_db = study.linear_gain_db(scope)
    first = min(int(zoom_start * (stop - start)), stop - start - MIN_PICTURE_FRAMES)
    last = max(round(zoom_end * (stop - start)), first + MIN_PICTURE_FRAMES)
    if whole.envelopes is not None and last - first <= window_frames(len(session.strips), rate):  # near enough for samples
        near = passage_of(study.renderer(start + first, start + last).compare(scope), rate)
        bite = bite_of(near, columns, linear_gain_db=linear_gain_db)
    else:
        bite = bite_of(whole, columns, first, last, linear_gain_db)
    delays = Latencies(Graph(session))
    settings = curve = response = ceiling_db = None
    remark, detector = "", None
    if step is not None:
        processor, settings = processor_named(step.kind), resolve(session, step, at_s=study.middle_s)
        remark, ceiling_db = processor.remark(settings), processor.output_ceiling_db(settings)
        detector = processor.detector_name(settings)
        curve, response = curve_of(step, settings, whole.detector_db), response_of(step, settings, rate)
    return ScopeReport(
        start_s=start / rate, end_s=stop / rate, ledger=ledger, bite=bite, bite_start_s=(start + first) / rate,
        bite_end_s=(start + last) / rate, curve=curve, response=response, linear_gain_db=linear_gain_db,
        output_ceiling_db=ceiling_db, settings={} if settings is None else settings.model_dump(mode="json"), remark=remark,
        detector=detector,
        latency_ms=delays.scope(scope.strip_id, scope.step_id, scope.lane_id) * 1000 / rate,
        strip_latency_ms=delays.latency_frames[NodeId("end", strip.id)] * 1000 / rate,
        moving=moved_over(session, scope.strip_id, scope.step_id, scope.lane_id, start / rate, stop / rate),
    )  # fmt: skip


def silenced_by(study: Study, strip: Strip) -> Hint | None:
    """The first step of a strip's path that lets nothing out, and what it says of itself."""
    session = study.session
    for step in strip.path.steps:
        result = study.measured(Scope(strip.id, step.id))
        own = ledger_of(result, session, step, None if step.key is None else source_name(session, step.key))
        if own.after.sample_peak_dbfs <= SILENT_DBFS:
            label = processor_named(step.kind).label.lower()
            why = next((hint.text for hint in own.hints), "")
            return Hint("silenced", f"The {label} is silent. {why}".strip(), None)
    return None
