"""What a page receives while it compares blind: nothing of it tells the order, until the comparison is over."""

import json

import httpx
import numpy as np
import pytest

from saltanvil.engine.render import render_strips
from saltanvil.studies.blind import Candidate, version_for
from tests.conftest import PATIENCE_S, wait_for
from tests.listener import Client
from tests.web.test_attack import served  # noqa: F401
from tests.web.test_listener import session  # noqa: F401

PASSAGE = {"passage": "Start", "start_s": 0.0, "end_s": 3.0}


@pytest.fixture
def blind(session):  # noqa: F811
    services, address, number = session
    client = httpx.Client(base_url=address, timeout=PATIENCE_S)
    listener = Client(address, number, "t")
    wait_for(lambda: "t" in services._auditions)
    listener.send(type="passage", start_s=0.0, end_s=3.0, loop=True)
    yield services, client, number, listener
    listener.close()
    client.close()


def start(client, number, **more):
    asked = {"tab": "t", "of": "step", "id": "c", "candidates": [{"what": "before"}, {"what": "after"}], "mode": "prefer",
             "rounds": 3, **PASSAGE, **more}  # fmt: skip
    return client.post(f"/api/sessions/{number}/blind", json=asked)


def test_nothing_that_is_received_tells_the_order(blind):
    services, client, number, listener = blind
    listener.play(0.0)
    wait_for(lambda: len(listener.headers) > 20)
    assert listener.headers[-1]["steps"]  # meters come as long as nothing is compared
    told = [start(client, number).text]
    heard = services.replacements.of("t", number)
    seen, headers = [], listener.headers
    for round_ in range(3):
        for letter in ("Y", "X", "X", "Y"):
            count = len(headers)
            listener.send(type="letter", letter=letter)
            wait_for(lambda: services._auditions["t"]._letter == letter)  # noqa: B023
            wait_for(lambda: len(headers) > count + 8)  # noqa: B023
            seen.extend(headers[count + 4 :])
        if round_ < 2:
            told.append(client.post(f"/api/sessions/{number}/blind/answer", json={"tab": "t", "letter": "X"}).text)
    own = {"epoch", "sequence", "version", "seam", "frames", "position_s"}
    covered = {json.dumps({name: value for name, value in header.items() if name not in own}) for header in seen}
    assert len(covered) == 1 and '"steps": {}' in covered.pop()
    assert not any("order" in text or "gain" in text for text in told)
    for text in told:
        view = json.loads(text)
        assert view["result"] is None and set(view) == {
            "mode", "of", "candidates", "letters", "answers", "round", "planned", "unmatched", "result",
        }  # fmt: skip
    assert client.get(f"/api/sessions/{number}/blind").json()["results"] == []
    drawn = [one.order for one in heard.comparison.rounds]
    end = client.post(f"/api/sessions/{number}/blind/answer", json={"tab": "t", "letter": "Y"}).json()
    assert [one["order"] for one in end["result"]["rounds"]][:2] == drawn and sum(end["result"]["counts"]) == 3
    # Afterwards the document is heard again, with its meters.
    count = len(headers)
    wait_for(lambda: any(header["steps"] for header in headers[count:]))
    assert client.get(f"/api/sessions/{number}/blind").json()["results"][0]["counts"] == end["result"]["counts"]
    assert "right,p" in client.get(f"/api/sessions/{number}/blind/csv").text


def test_what_sounds_is_the_candidate_behind_the_letter(blind):
    """The blocks received are alike to the offline render of that candidate, and less so to that of the other."""
    services, client, number, listener = blind
    values = {"threshold_db": -60.0, "ratio": 20.0, "attack_ms": 1.0}
    for name, value in values.items():
        body = {"edit": {"op": "set", "values": [{"of": "step", "id": "c", "name": name, "value": value}]}}
        assert client.post(f"/api/sessions/{number}/edits", json=body).status_code == 200
    assert start(client, number, mode="hear", rounds=2).status_code == 200
    known = services.replacements.of("t", number).comparison
    listener.play(0.0)
    document = services.sessions.version(number).session
    media = services.media.at_rate(48000)
    offline = []
    for what in ("before", "after"):
        version = version_for(document, "step", "c", Candidate(what=what))
        offline.append(np.concatenate([x["main"] for x in render_strips(version, media, 0, 3 * 48000)], axis=1))

    def nearest(blocks):
        at = {header["sequence"]: round(header["position_s"] * 48000) for header in listener.headers}
        alike = [0.0, 0.0]
        for sequence, _, begin, audio in blocks:
            for place, sound in enumerate(offline):
                cut = sound[:, at[sequence] + begin :][:, : audio.shape[1]]
                if cut.shape == audio.shape:
                    alike[place] += float((cut * audio).sum() / np.sqrt((cut**2).sum() * (audio**2).sum()))
        return int(np.argmax(alike))

    for letter in ("X", "1", "2"):
        listener.send(type="letter", letter=letter)
        wait_for(lambda: services._auditions["t"]._letter == letter)  # noqa: B023
        count = len(listener.queue.played)
        wait_for(lambda: len(listener.queue.played) > count + 30)  # noqa: B023
        wait_for(lambda: nearest(listener.queue.played[-30:]) == known.behind(letter))  # noqa: B023
    view = client.delete(f"/api/sessions/{number}/blind?tab=t").json()
    assert (
        view["result"]["rounds"] == [] and client.get(f"/api/sessions/{number}/blind").json()["results"] == []
    )  # nothing was answered


def test_what_cannot_be_compared_is_refused_in_words(blind):
    _, client, number, _ = blind
    same = start(client, number, candidates=[{"what": "before"}, {"what": "before"}])
    assert same.status_code == 422 and "the same" in same.json()["detail"]
    empty = start(client, number, candidates=[{"what": "after"}, {"what": "slot", "slot": 2}])
    assert empty.status_code in (409, 422) and "slot 2 is empty" in empty.json()["detail"]
    three = [{"what": "before"}, {"what": "after"}, {"what": "slot", "slot": 1}]
    assert "exactly two" in start(client, number, candidates=three, mode="hear").json()["detail"]
    behind = start(client, number, start_s=500.0, end_s=501.0)
    assert behind.status_code == 422 and "behind the end" in behind.json()["detail"]
    gone = client.post(f"/api/sessions/{number}/blind/answer", json={"tab": "t", "letter": "X"})
    assert gone.status_code == 404 and "start one" in gone.json()["detail"]
    assert start(client, number, rounds=3).status_code == 200
    wrong = client.post(f"/api/sessions/{number}/blind/answer", json={"tab": "t", "letter": "Q"})
    assert "answer with one of X, Y" in wrong.json()["detail"]


def test_a_tab_that_connects_again_goes_on_comparing(blind, session):  # noqa: F811
    services, client, number, listener = blind
    start(client, number)
    address = session[1]
    listener.close()
    again = Client(address, number, "t")
    wait_for(lambda: services._auditions.get("t") is not None and services._auditions["t"]._instead is not None)
    again.close()


def test_what_is_measured_while_it_runs_counts_afterwards(blind):
    """The gain that matches *before* is not heard while the page is covered, and is when it no longer is."""
    services, client, number, _ = blind
    audition = services._auditions["t"]
    start(client, number)
    audition.measured(audition._scope, 5.0)
    assert audition.player.wanted.audition.matched_db == 0.0
    assert client.delete(f"/api/sessions/{number}/blind?tab=t").status_code == 200
    assert audition.player.wanted.audition.matched_db == 5.0
