"""Long passages: the same figures window by window as at once, and memory that does not grow with them."""

import subprocess
import sys

import numpy as np
import pytest

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.session.document.session import Session
from saltanvil.studies.scope import passage
from saltanvil.studies.scope.ledger import ledger_of
from saltanvil.studies.scope.passage import BIN_FRAMES, measured, passage_of, windows
from saltanvil.studies.scope.pictures import bite_of
from tests.signals import keys

RATE = 48000


class Held:
    """One sound as media."""

    def __init__(self, x):
        self.x = x

    def channels(self, media_id):
        return self.x.shape[0]

    def frames(self, media_id):
        return self.x.shape[1]

    def read(self, media_id, start, frames):
        out = np.zeros((self.x.shape[0], frames), np.float32)
        first, last = max(start, 0), min(start + frames, self.x.shape[1])
        if last > first:
            out[:, first - start : last - start] = self.x[:, first:last]
        return out


def session():
    step = {"id": "c", "kind": "compressor", "settings": {"threshold_db": -30.0, "ratio": 4.0}}
    return Session.model_validate(
        {
            "name": "Long",
            "strips": [
                {"id": "main", "name": "Main", "kind": "main", "output": None},
                {"id": "t", "name": "Keys", "kind": "track", "media_id": 0, "path": {"steps": [step]}},
            ],
        }
    )


def test_windows_cover_the_passage_and_a_short_rest_joins_the_last():
    assert list(windows(5, 100_000, 40_960)) == [(5, 40_965), (40_965, 81_925), (81_925, 100_000)]
    assert list(windows(0, 40_960 + BIN_FRAMES - 1, 40_960)) == [(0, 40_960 + BIN_FRAMES - 1)]


def test_a_long_passage_is_measured_as_a_short_one(monkeypatch):
    """Loudness within 0.05 LU, peaks and reduction the same: the seams have the pre-roll of any passage."""
    x = keys(40.0, 0.6, 0.9, seed=2)[None].astype(np.float32) * 0.3
    media, document = Held(x), session()
    start, stop = RATE, 39 * RATE

    def render(first, last):
        return ScopeRenderer(document, media, SegmentCache(), first, last)

    scope = Scope("t", "c")
    whole = passage_of(render(start, stop).compare(scope), RATE)
    monkeypatch.setattr(passage, "window_frames", lambda strips, rate: 10 * RATE // BIN_FRAMES * BIN_FRAMES)
    parts = measured(render, scope, start, stop)
    assert whole.envelopes is None and parts.envelopes is not None and parts.frames == whole.frames
    step = document.step("c").step
    one, other = ledger_of(whole, document, step), ledger_of(parts, document, step)
    for name in ("integrated_lufs", "true_peak_dbtp", "sample_peak_dbfs", "rms_dbfs", "max_short_term_lufs"):
        for side in ("before", "after"):
            assert getattr(getattr(one, side), name) == pytest.approx(getattr(getattr(other, side), name), abs=0.05), (name, side)
    assert other.matched_db == pytest.approx(one.matched_db, abs=0.05)
    assert other.reduction.largest_db == pytest.approx(one.reduction.largest_db, abs=0.05)
    assert len(parts.reduction_db) == len(whole.reduction_db)
    assert np.abs(parts.reduction_db - whole.reduction_db).max() < 0.3
    # The picture from kept envelopes differs from that of the samples by less than a column.
    fine, coarse = bite_of(whole, 400), bite_of(parts, 400)
    assert 350 < len(coarse.after_db) <= 400
    assert max(coarse.after_high) == pytest.approx(max(fine.after_high), abs=1e-4)
    assert np.mean(coarse.before_db) == pytest.approx(np.mean(fine.before_db), abs=0.7)


def peak_mib(code, *arguments):
    """The most memory that a process of its own had while it ran some code, in MiB."""
    tail = "\nprint([line for line in open('/proc/self/status') if 'VmHWM' in line][0].split()[1])"
    run = subprocess.run([sys.executable, "-c", code + tail, *arguments], capture_output=True, text=True)
    assert run.returncode == 0, run.stderr
    return int(run.stdout.split()[-1]) / 1024


HOUR = """
import numpy as np
from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.memory import keep_freed_memory
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.session.document.session import Session
keep_freed_memory()
RATE = 48000
BLOCK = np.random.default_rng(0).standard_normal((2, 1 << 16)).astype(np.float32) * 0.05

class Endless:
    def channels(self, media_id):
        return 2
    def frames(self, media_id):
        return 3600 * RATE
    def read(self, media_id, start, frames):
        return np.ascontiguousarray(np.resize(BLOCK[0], (2, frames)))

step = {"id": "c", "kind": "compressor", "settings": {"threshold_db": -30.0}}
tracks = [{"id": f"t{n}", "name": f"T{n}", "kind": "track", "media_id": 0, "path": {"steps": []}} for n in range(3)]
tracks[0]["path"]["steps"].append(step)
main = {"id": "main", "name": "Main", "kind": "main", "output": None}
document = Session.model_validate({"name": "H", "strips": [main, *tracks]})
media, cache = Endless(), SegmentCache()
render = lambda first, last: ScopeRenderer(document, media, cache, first, last)
"""
LEDGER = """
from saltanvil.studies.scope.ledger import ledger_of
from saltanvil.studies.scope.passage import measured
from saltanvil.studies.scope.pictures import bite_of
whole = measured(render, Scope("main"), 0, 1800 * RATE)
ledger_of(whole, document, None), bite_of(whole, 800)
"""
RENDER = """
from saltanvil.engine.render import render_strips
assert sum(blocks["main"].shape[1] for blocks in render_strips(document, media, 0, 3600 * RATE)) == 3600 * RATE
"""


@pytest.mark.parametrize("code", [LEDGER, RENDER], ids=["half an hour in the ledger", "an hour rendered"])
def test_an_hour_stays_within_a_gibibyte(code):
    """At once, one hour of stereo alone is 1.3 GiB, and half of it, before and after, as much."""
    assert peak_mib(HOUR + code) < 1024


def test_measure_keeps_no_sound(tmp_path):
    """Two hours as an empty (sparse) file of 690 MB."""
    frames = 2 * 3600 * RATE
    header = b"RIFF" + (36 + 2 * frames).to_bytes(4, "little") + b"WAVEfmt " + (16).to_bytes(4, "little")
    header += (1).to_bytes(2, "little") * 2 + RATE.to_bytes(4, "little") + (2 * RATE).to_bytes(4, "little")
    header += (2).to_bytes(2, "little") + (16).to_bytes(2, "little") + b"data" + (2 * frames).to_bytes(4, "little")
    path = tmp_path / "long.wav"
    with path.open("wb") as file:
        file.write(header)
        file.truncate(len(header) + 2 * frames)
    code = "import sys\nfrom saltanvil.cli import main\nassert main(['measure', sys.argv[1]]) == 0"
    assert peak_mib(code, str(path)) < 400
