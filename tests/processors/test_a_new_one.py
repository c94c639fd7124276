"""A processor in one file: what follows from it alone, tried with one that nobody knows."""

import json

import numpy as np
import pytest
from fastapi.testclient import TestClient

from saltanvil.cli import main
from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Arrays
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.processors import REGISTRY
from saltanvil.processors.base import Processor, Settings
from saltanvil.processors.descriptor import rule
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.path import Path, Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import EditRefused
from saltanvil.web.app import create_app
from tests.signals import noise

BASE = "http://localhost"


class SharerSettings(Settings):
    parts: float = rule(2.0, "Parts", "", 1.0, 8.0, "Level", "Into how many parts the sound is shared; one of them is left.")


class Sharer(Processor):
    """in --(/ parts)--> out"""

    kind = "sharer"
    label = "Sharer"
    settings_model = SharerSettings

    @classmethod
    def summary(cls, settings):
        return f"1 of {settings.parts:g}"

    def configure(self, settings, context):
        self._gain = np.float32(1.0 / settings.parts)

    def treat(self, x, key):
        return x * self._gain


@pytest.fixture(autouse=True)
def registered(monkeypatch):
    monkeypatch.setitem(REGISTRY, "sharer", Sharer)


def session():
    steps = [Step.model_validate({"id": "n", "kind": "sharer", "settings": {"parts": 4.0}})]
    main = Strip(id="main", name="Main", kind="main", output=None)
    return Session(name="New", strips=[main, Strip(id="a", name="A", kind="track", media_id=0, path=Path(steps=steps))])


def test_it_is_valid_moved_refused_and_rendered():
    x = noise(1, 48_000, 1)
    document = Session.model_validate_json(session().model_dump_json())
    four = ScopeRenderer(document, Arrays(x), SegmentCache(), 0, 48_000).compare(Scope("a", "n"))
    assert np.allclose(four.after, four.before / 4.0, atol=1e-7) and four.before.any()
    move = {"op": "set", "values": [{"of": "step", "id": "n", "name": "parts", "value": 2.0}]}
    two = apply(document, EDIT.validate_python(move))
    assert two.step("n").step.settings.parts == 2.0
    move["values"][0]["value"] = 9.0
    with pytest.raises(EditRefused, match=r"[Pp]arts"):
        apply(document, EDIT.validate_python(move))


def test_the_page_the_presets_and_the_command_line_know_it(tmp_path, capsys):
    with TestClient(create_app(tmp_path / "data"), base_url=BASE, headers={"Origin": BASE}) as client:
        told = next(one for one in client.get("/api/processors").json() if one["kind"] == "sharer")
        assert told["label"] == "Sharer" and told["pictures"] == ["bite", "spectrum"]
        (setting,) = (one for one in told["settings"] if one["name"] == "parts")
        assert (setting["minimum"], setting["maximum"], setting["default"], setting["moves"]) == (1.0, 8.0, 2.0, "glides")
        kept = {"kind": "sharer", "name": "Thirds", "settings": {"parts": 3.0}}
        assert client.post("/api/presets", json=kept).status_code in (200, 201)
        assert client.post("/api/presets", json=kept | {"settings": {"parts": 30.0}}).status_code == 422
        number = client.post("/api/sessions", json={"name": "S"}).json()["id"]
        add = {"op": "add_step", "strip_id": "main", "step": {"id": "n", "kind": "sharer", "settings": {}}}
        answer = client.post(f"/api/sessions/{number}/edits", json={"edit": add})
        assert answer.json()["plates"]["n"] == "1 of 2"
    main(["steps", "--json"])
    assert "sharer" in [one["kind"] for one in json.loads(capsys.readouterr().out)]
