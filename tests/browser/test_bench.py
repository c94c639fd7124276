"""The bench through the real page: every test by hand and by keyboard, pins, figures, files."""

import json

import httpx
import pytest

from tests.browser.conftest import saved
from tests.browser.test_page import figure, type_setting
from tests.browser.test_splits import strip
from tests.browser.test_steps import choose
from tests.conftest import PATIENCE_S


def to_bench(page):
    page.click("nav[aria-label=Views] >> text=Bench")
    page.wait_for_selector("section[aria-label=Bench]")


def to_shape(page):
    page.click("nav[aria-label=Views] >> text=Shape")
    page.wait_for_selector("section[aria-label=Editor]")


def measured(page, test):
    """Wait until a test's result stands, with nothing under way."""
    page.wait_for_selector(f"aside[data-test={test}]")
    page.wait_for_function("document.querySelector('[data-figure=bench_state]').textContent === 'measured'")
    page.wait_for_timeout(400)
    page.wait_for_function("document.querySelector('[data-figure=bench_state]').textContent === 'measured'")


@pytest.fixture
def clipped(page):
    """A clipper on the organ, in 1x."""
    strip(page, "Organ")
    page.keyboard.press("a")
    page.keyboard.type("clipper")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('Clipper')")
    type_setting(page, "ceiling_db", "-18")
    choose(page, "oversampling", "1x")
    saved(page)
    return page


def test_every_test_is_run_by_hand_and_follows_edits(clipped):
    page = clipped
    to_bench(page)
    measured(page, "harmonics")
    assert figure(page, "frequency_hz") == pytest.approx(1000, abs=1)
    soft = figure(page, "thd_db")
    assert -40 < soft < -5 and page.locator("[data-figure=h3_db]").count() == 1
    type_setting(page, "bench_level_dbfs", "-40")
    page.wait_for_function("Number(document.querySelector('[data-figure=thd_db] td').innerText) < -90")
    type_setting(page, "bench_level_dbfs", "-6")
    for name, sees in (
        ("Intermodulation", "smpte_db"),
        ("Aliasing", "alias_db"),
        ("Curve", "largest_apart_db"),
        ("Burst", "attack_ms"),
        ("Impulse", "measured_ms"),
        ("Noise", "after_dbfs"),
    ):
        page.click(f"[role=radio]:has-text('{name}')")
        measured(page, name.lower())
        assert page.locator(f"aside [data-figure={sees}]").count() == 1
        ink = page.evaluate(
            "(() => { const c = document.querySelector('.chart canvas');"
            "const d = c.getContext('2d').getImageData(60, 30, c.width - 90, c.height - 70).data;"
            "const seen = new Set(); for (let i = 0; i < d.length; i += 4) seen.add(d[i] + d[i+1] * 256 + d[i+2] * 65536);"
            "return seen.size; })()"
        )
        assert ink > 2, f"{name} draws nothing"
    # The same by keyboard, backwards.
    page.keyboard.press("Tab")
    page.focus("[role=radio]:has-text('Noise')")
    for name in ("impulse", "burst", "curve", "aliasing", "intermodulation", "harmonics"):
        page.keyboard.press("ArrowLeft")
        measured(page, name)
    # An edit of what is on the bench is measured anew.
    page.click("[role=radio]:has-text('Impulse')")
    measured(page, "impulse")
    assert figure(page, "measured_ms") == figure(page, "declared_ms") == 0
    to_shape(page)
    choose(page, "oversampling", "8x")
    saved(page)
    to_bench(page)
    page.wait_for_function("Number(document.querySelector('[data-figure=declared_ms] td').innerText) > 1")
    assert figure(page, "measured_ms") == pytest.approx(figure(page, "declared_ms"), abs=0.03)


def test_two_settings_are_pinned_compared_and_kept_by_keyboard(clipped, tmp_path):
    page = clipped
    to_bench(page)
    page.focus("[role=radio]:has-text('Aliasing')")
    page.keyboard.press("Enter")
    type_setting(page, "bench_level_dbfs", "0")
    measured(page, "aliasing")
    bad = figure(page, "alias_db", 1)
    page.keyboard.press("k")
    page.wait_for_selector(".pin:has-text('A')")
    to_shape(page)
    choose(page, "oversampling", "16x")
    saved(page)
    to_bench(page)
    measured(page, "aliasing")
    page.wait_for_function(f"Number(document.querySelector('[data-figure=alias_db] td').innerText) < {bad - 20}")
    assert figure(page, "alias_db", 2) == bad
    page.keyboard.press("k")
    page.wait_for_selector(".pin:has-text('B')")
    assert figure(page, "alias_db", 3) == figure(page, "alias_db", 1)
    page.check("text=at every oversampling")
    page.wait_for_selector("[data-figure=alias_16x_db]")
    measured(page, "aliasing")
    assert figure(page, "alias_1x_db", 1) == bad and figure(page, "alias_16x_db", 1) == figure(page, "alias_db", 1)
    page.uncheck("text=at every oversampling")
    measured(page, "aliasing")
    with page.expect_download() as file:
        page.click("text=CSV")
    csv = file.value.path().read_text()
    with page.expect_download() as file:
        page.click("text=JSON")
    told = json.loads(file.value.path().read_text())
    with page.expect_download() as file:
        page.click("text=PNG")
    assert file.value.path().read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"
    # The file is what the server says, and so is the picture's data.
    session = page.evaluate("localStorage['saltanvil.session']")
    address = page.url.split("/#")[0]
    steps = httpx.get(f"{address}/api/sessions/{session}").json()["session"]["strips"]
    step_id = next(s for s in steps if s["name"] == "Organ")["path"]["steps"][-1]["id"]
    question = {"tab": "test", "strip_id": "organ", "step_id": step_id, "test": "aliasing", "level_dbfs": 0.0}
    assert httpx.post(f"{address}/api/sessions/{session}/bench/csv", json=question, timeout=PATIENCE_S).text == csv
    assert httpx.post(f"{address}/api/sessions/{session}/bench", json=question, timeout=PATIENCE_S).json()["result"] == told
    assert len(csv.strip().split("\n")) == len(told["table"]) + len(told["figures"]) + 1
