"""Blind comparison: chance, exact probabilities, what the candidates are, and that they are equally loud."""

import csv
import io
import random
from collections import Counter

import numpy as np
import pyloudnorm
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import binomtest, chisquare

from saltanvil.engine.media import Arrays
from saltanvil.engine.render import render_nodes
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.graph import NodeId
from saltanvil.studies.blind import (
    BlindResult,
    Candidate,
    Comparison,
    Round,
    csv_of,
    label_of,
    p_of_guessing,
    soundings,
    verdict,
    version_for,
)
from tests.signals import noise

RATE, FRAMES = 48_000, 48_000 * 3


@given(st.integers(1, 50).flatmap(lambda rounds: st.tuples(st.integers(0, rounds), st.just(rounds))))
def test_p_is_that_of_the_exact_one_sided_binomial_test(case):
    """SciPy's binomtest."""
    right, rounds = case
    assert p_of_guessing(right, rounds) == pytest.approx(binomtest(right, rounds, 0.5, "greater").pvalue, rel=1e-9)


@pytest.mark.parametrize("candidates", [2, 3, 4])
def test_every_order_is_as_likely(candidates):
    """Chi-square over all orders of 6000 draws; the source of chance is seeded here, the system's own otherwise."""
    comparison = Comparison("prefer", candidates, 6000, draw=random.Random(7))
    for _ in range(6000):
        comparison.answer("X")
    orders = Counter(tuple(one.order) for one in comparison.rounds)
    assert len(orders) == {2: 2, 3: 6, 4: 24}[candidates]
    assert chisquare(list(orders.values())).pvalue > 0.01
    assert isinstance(Comparison("prefer", 2, 1).draw, random.SystemRandom)


def test_x_is_either_of_two_and_only_the_answer_counts():
    comparison = Comparison("hear", 2, 4000, draw=random.Random(3))
    assert comparison.letters == ("X", "1", "2") and comparison.behind("2") == 1
    right = 0
    for number in range(4000):
        guess = "12"[number % 2]
        right += comparison.behind("X") == int(guess) - 1
        comparison.answer(guess)
    assert comparison.right == right and abs(right / 4000 - 0.5) < 0.03 and comparison.counts == [2000, 2000]
    with pytest.raises(EditRefused, match="ended"):
        comparison.answer("1")
    with pytest.raises(EditRefused, match="exactly two"):
        Comparison("hear", 3, 5)
    with pytest.raises(EditRefused, match="X, Y"):
        Comparison("prefer", 2, 5).behind("Z")


def test_the_verdict_says_what_chance_does():
    """8 of 10: (45 + 10 + 1) / 1024 = 5.5 %; 9 of 10: 11 / 1024 = 1.1 %, by hand."""
    for right, text in ((8, "5.5 % of cases: it may be chance"), (9, "1.1 % of cases: you most likely hear it")):
        comparison = Comparison("hear", 2, 10)
        comparison.rounds = [Round(order=[0], chosen=int(number >= right)) for number in range(10)]
        assert verdict(comparison, ["Before", "After"]).endswith(f"{text}.")
    comparison = Comparison("prefer", 2, 3)
    comparison.rounds = [Round(order=[0, 1], chosen=1)] * 3
    assert verdict(comparison, ["Before", "After"]) == "After: 3 of 3, Before: 0 of 3."


@pytest.fixture(scope="module")
def media():
    return Arrays(noise(2, FRAMES, 1, level=0.2))


@pytest.fixture
def session():
    steps = [
        {"id": "c", "kind": "compressor", "settings": {"threshold_db": -30.0, "makeup": "manual", "makeup_db": 12.0}},
        {"id": "q", "kind": "saturator", "settings": {"output": "not held", "drive_db": 9.0}},
    ]
    made = Session.model_validate({"name": "S", "strips": [
        {"id": "main", "name": "Main", "kind": "main", "output": None},
        {"id": "t", "name": "T", "kind": "track", "media_id": 0, "path": {"steps": steps}},
    ]})  # fmt: skip
    for slot, db in ((1, -30.0), (2, -12.0)):
        values = [{"of": "step", "id": "c", "name": "threshold_db", "value": db}]
        made = apply(made, EDIT.validate_python({"op": "set", "values": values}))
        made = apply(made, EDIT.validate_python({"op": "store_slot", "of": "step", "id": "c", "slot": slot}))
    return made


def leaving(session, media):
    return np.concatenate([x for (x,) in render_nodes(session, media, [NodeId("end", "t")], 0, FRAMES)], axis=1)


def test_candidates_are_what_they_are_called(session, media):
    after = leaving(session, media)
    assert np.array_equal(leaving(version_for(session, "step", "c", Candidate(what="after")), media), after)
    off = apply(session, EDIT.validate_python({"op": "set", "values": [
        {"of": "step", "id": "c", "name": "bypass", "value": True},
    ]}))  # fmt: skip
    assert np.array_equal(leaving(version_for(session, "step", "c", Candidate(what="before")), media), leaving(off, media))
    whole = version_for(session, "strip", "t", Candidate(what="before"))
    assert all(step.bypass for step in whole.strip("t").path.steps)
    swapped = version_for(session, "step", "c", Candidate(what="swapped"))
    assert [step.id for step in swapped.strip("t").path.steps] == ["q", "c"]
    assert label_of(session, "step", "c", Candidate(what="swapped")) == "Swapped with Saturator"
    assert version_for(session, "step", "c", Candidate(what="slot", slot=2)) is session  # it is on
    first = version_for(session, "step", "c", Candidate(what="slot", slot=1))
    assert first.step("c").step.settings.threshold_db == -30.0
    with pytest.raises(EditRefused, match="slot 3 is empty"):
        version_for(session, "step", "c", Candidate(what="slot", slot=3))
    with pytest.raises(EditRefused, match="choose a step"):
        version_for(session, "strip", "t", Candidate(what="swapped"))


def test_all_are_as_loud_as_the_first_by_pyloudnorm(session, media):
    """pyloudnorm (filter "DeMan", ITU-R BS.1770), within 0.1 LU."""
    candidates = [Candidate(what=what) for what in ("before", "after", "swapped")] + [Candidate(what="slot", slot=1)]
    meter = pyloudnorm.Meter(RATE, filter_class="DeMan")
    heard = soundings(session, "step", "c", candidates, media, 0, FRAMES)
    loudness = [meter.integrated_loudness((leaving(one.session, media) * 10 ** (one.gain_db / 20)).T) for one in heard]
    assert np.ptp(loudness) < 0.1 and heard[0].gain_db == 0.0 and abs(heard[1].gain_db) > 1.0
    assert not any(one.refused for one in heard)
    short = soundings(session, "step", "c", candidates[:2], media, 0, 4800)
    assert all(one.refused and one.gain_db == 0.0 for one in short)


def test_the_table_of_results():
    result = BlindResult(
        mode="hear", of="=T", passage="Verse", start_s=1.0, end_s=2.0, candidates=["Before", "After"], planned=2, made_at=0.0,
        rounds=[Round(order=[0], chosen=0), Round(order=[1], chosen=0)], counts=[2, 0], right=1, p=0.75,
    )  # fmt: skip
    rows = list(csv.DictReader(io.StringIO(csv_of([result]))))
    assert rows[0] == {
        "date": "1970-01-01T00:00:00+00:00", "scope": "'=T", "passage": "Verse", "start_s": "1.000", "end_s": "2.000",
        "mode": "hear", "rounds": "2", "candidate": "Before", "count": "2", "right": "1", "p": "0.750000",
    }  # fmt: skip
