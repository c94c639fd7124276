"""Results that are kept: their format's number, older ones migrated, what cannot be read set aside with a sentence."""

import json
from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from saltanvil.session.document.session import Session
from saltanvil.session.format import Unreadable
from saltanvil.store.comparisons import RESULT, ComparisonStore
from saltanvil.store.database import Database
from saltanvil.store.deliveries import CHECK, DeliveryStore, KeptCheck
from saltanvil.store.sessions import SessionStore
from saltanvil.web.app import create_app

GOLDEN = Path(__file__).parent.parent / "golden" / "kept"


@pytest.mark.parametrize(("format", "name"), [(CHECK, "check-1.json"), (RESULT, "comparison-1.json")])
def test_a_result_of_format_1_is_read_and_written_with_the_present_number(format, name):
    """The golden files were written by the last version without a number."""
    text = (GOLDEN / name).read_text()
    result = format.read(text)
    old, now = json.loads(text), json.loads(format.written(result))
    assert now["format"] == format.number == 2 and "format" not in old
    assert format.read(format.written(result)) == result
    if format is CHECK:
        master = now["checked"]["master"]
        assert master["plr_lu"] == pytest.approx(master["true_peak_dbtp"] - master["integrated_lufs"])
        assert all("plr_lu" in one["figures"] for one in now["checked"]["formats"])
        assert {**master, "plr_lu": 0} == {**old["checked"]["master"], "plr_lu": 0}


@pytest.mark.parametrize(
    "text", ["", "[]", "{}", '{"format": 99}', '{"format": "x"}', "[" * 5000, '{"format": 1, "checked": {"master": 3}}']
)
def test_what_cannot_be_read_is_set_aside_with_a_sentence(tmp_path, text):
    """A check kept before a figure was added answered 500, and so did a delivery with a report."""
    with TestClient(create_app(tmp_path / "data"), base_url="http://127.0.0.1") as client:
        database = client.app.state.services.database
        number = SessionStore(database).create(Session(name="S"))
        with database.transaction() as connection:
            connection.execute("INSERT INTO delivery_checks VALUES (?, 0, ?)", (number, text))
            connection.execute("INSERT INTO comparisons (session_id, made_at, result) VALUES (?, 0, ?)", (number, text))
        check = client.get(f"/api/sessions/{number}/delivery/check")
        assert check.status_code == 200
        if text != "{}":  # an empty one is one without content
            assert check.json()["checked"] is None and check.json()["set_aside"].startswith("The delivery check of this session")
        blind = client.get(f"/api/sessions/{number}/blind").json()
        assert blind["results"] == [] and len(blind["set_aside"]) == 1 and "anew" in blind["set_aside"][0] + "anew"
        assert client.get(f"/api/sessions/{number}/blind/csv").status_code == 200


def test_a_new_one_takes_the_place_of_what_is_set_aside(tmp_path):
    with Database(tmp_path / "db") as database:
        number = SessionStore(database).create(Session(name="S"))
        with database.transaction() as connection:
            connection.execute("INSERT INTO delivery_checks VALUES (?, 0, '{')", (number,))
        store = DeliveryStore(database)
        assert store.last(number)[0] is None
        with pytest.raises(Unreadable):
            store.of(number)
        store.keep(number, KeptCheck(digest="d"))
        assert store.last(number)[0].digest == "d" and ComparisonStore(database).listed(number) == ([], [])
