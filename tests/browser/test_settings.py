"""Values on the page: gestures and their undo, the stretch a loudness is held over, what low latency sets."""

import re

import httpx
import pytest

from tests.browser.conftest import opened, saved, serving
from tests.browser.test_page import figure, mean_energy, setting, sound_follows, type_setting, wait_figure, wait_heard


def choose_step(page, strip, step):
    page.click(f"nav.tree >> text='{strip}'")
    page.wait_for_selector(f".path[aria-label='Path of {strip}']")
    page.click(f".path .plate:has-text('{step}')")
    page.wait_for_selector(f".editor h2:has-text('{step}')")


def press(page, name, key, times):
    page.focus(f"[role=slider][data-setting='{name}']")
    for _ in range(times):
        page.keyboard.press(key)


def document(page):
    """The session as the server has it."""
    return page.evaluate(
        """async () => {
          const id = JSON.parse(localStorage['saltanvil.session']);
          return await (await fetch(`/api/sessions/${id}`)).json();
        }"""
    )


def test_arrow_keys_on_two_steps_within_a_moment_are_two_edits(page):
    """Both come back with two undos, and both can be redone: the fault lost the first and never brought the second back."""
    choose_step(page, "Snare", "Compressor")
    first = setting(page, "threshold_db")
    press(page, "threshold_db", "ArrowDown", 3)
    page.click(".path .plate:has-text('Gate')")
    page.wait_for_selector(".editor h2:has-text('Gate')")
    second = setting(page, "threshold_db")
    press(page, "threshold_db", "ArrowDown", 4)
    press(page, "hysteresis_db", "ArrowUp", 2)
    saved(page)
    assert setting(page, "threshold_db") == pytest.approx(second - 2.0)

    def settings():
        strip = next(s for s in document(page)["session"]["strips"] if s["name"] == "Snare")
        return {step["kind"]: step["settings"] for step in strip["path"]["steps"]}

    moved = settings()
    assert moved["compressor"]["threshold_db"] == pytest.approx(first - 1.5)
    for done, (kind, name, value) in enumerate(
        [("gate", "hysteresis_db", None), ("gate", "threshold_db", second), ("compressor", "threshold_db", first)], 1
    ):
        revision = document(page)["revision"]
        page.keyboard.press("Control+z")
        saved(page)
        while document(page)["revision"] == revision:
            page.wait_for_timeout(20)
        if value is not None:
            assert settings()[kind][name] == value, done
    assert not document(page)["can_undo"]
    for _ in range(3):
        revision = document(page)["revision"]
        page.keyboard.press("Control+Shift+z")
        while document(page)["revision"] == revision:
            page.wait_for_timeout(20)
    assert settings() == moved and not document(page)["can_redo"]


def test_a_drag_is_one_undo_and_ends_where_it_began(page):
    choose_step(page, "Snare", "Compressor")
    before = setting(page, "threshold_db")
    rule = page.locator("[role=slider][data-setting=threshold_db]").bounding_box()
    at = rule["x"] + rule["width"] * (before + 60) / 60
    page.mouse.move(at, rule["y"] + 8)
    page.mouse.down()
    for step in range(12):
        page.mouse.move(at - 6 * step, rule["y"] + 8)
        page.wait_for_timeout(15)
    page.mouse.up()
    saved(page)
    assert setting(page, "threshold_db") < before - 5
    page.keyboard.press("Control+z")
    page.wait_for_function(f"document.querySelector('[data-setting=threshold_db]').ariaValueNow === '{before:g}'")
    assert not document(page)["can_undo"]


def test_linked_lanes_stop_together_and_keep_their_distance(page):
    page.click("nav.tree >> text='Overheads'")
    page.keyboard.press("a")
    page.keyboard.type("compr")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('Compressor')")
    page.click("text=Make multiband")
    page.wait_for_selector("[role=table]")
    low, high = "[data-setting='threshold_db Low']", "[data-setting='threshold_db High']"

    def value(of):
        return float(page.get_attribute(of, "aria-valuenow"))

    def type_value(of, text):
        page.focus(of)
        page.keyboard.press("Enter")
        page.keyboard.type(text)
        page.keyboard.press("Enter")
        saved(page)

    type_value(high, "-50")
    page.click("text=Link all")
    page.wait_for_selector("text=Unlink all")
    apart = value(low) - value(high)
    box = page.locator(low).bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.7, box["y"] + 8)
    page.mouse.down()
    for share in (0.5, 0.2, 0.0, 0.3, 0.6):
        page.mouse.move(box["x"] + box["width"] * share, box["y"] + 8)
        page.wait_for_timeout(60)
    page.mouse.up()
    saved(page)
    assert value(low) - value(high) == pytest.approx(apart, abs=0.02)
    type_value(low, "-60")
    assert (value(high), value(low)) == (-60.0, -60.0 + apart)  # both stop where the first comes to its limit


def test_the_stretch_a_loudness_is_held_over_is_chosen_shown_and_undone(page):
    choose_step(page, "Lead voice", "Saturator")
    over = page.locator("[aria-label='Measured over']")
    assert over.locator("option:checked").inner_text() == "whole song"
    match = page.locator("[data-figure=match]")
    page.wait_for_selector("[data-figure=match][data-measuring=false]")
    whole = match.inner_text()
    assert re.match(r"Compensated by [-+]?\d+\.\d dB", whole)
    over.select_option(label="Verse")
    page.wait_for_function(
        "(whole) => { const text = document.querySelector('[data-figure=match]').textContent.trim();"
        " return text.startsWith('Compensated by') && text !== whole; }",
        arg=whole,
    )
    saved(page)
    step = held(document(page), "Lead voice")
    verse = next(section["id"] for section in document(page)["session"]["sections"] if section["name"] == "Verse")
    assert step["match_over"]["section_id"] == verse and step["match"]["over"]["section_id"] == verse
    # Another passage to listen to changes nothing of it.
    revision = document(page)["revision"]
    page.click(".sections >> text=Bridge") if page.locator(".sections >> text=Bridge").count() else page.click("text=Bridge")
    wait_figure(page, "integrated_lufs", lambda value: True)
    page.wait_for_timeout(400)
    assert document(page)["revision"] == revision and held(document(page), "Lead voice")["match"] == step["match"]
    page.keyboard.press("Control+z")
    page.wait_for_function(f"document.querySelector('[data-figure=match]').textContent.trim() === {whole!r}")
    assert over.locator("option:checked").inner_text() == "whole song"
    over.select_option(label="this passage")
    page.wait_for_function("document.querySelector('[aria-label=\"Measured over\"]').value === 'range'")
    assert re.match(r"\d+ to \d+ s", over.locator("option:checked").inner_text())


def held(view, name):
    strip = next(s for s in view["session"]["strips"] if s["name"] == name)
    return next(step for step in strip["path"]["steps"] if step["kind"] == "saturator")


def test_low_latency_says_what_it_sets_and_the_ledger_stays_with_the_file(page):
    page.click("nav.tree >> text='Main'")
    page.keyboard.press("a")
    page.keyboard.type("clipper")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('Clipper')")
    type_setting(page, "drive_db", "9")
    saved(page)
    peak = wait_figure(page, "true_peak_dbtp", lambda value: value < 3, column=2)
    assert page.locator("[data-now=oversampling]").count() == 0
    page.evaluate(
        """async () => {
          const id = JSON.parse(localStorage['saltanvil.session']);
          const edit = {op: 'set', values: [{of: 'session', name: 'low_latency', value: true}]};
          await fetch(`/api/sessions/${id}/edits`, {method: 'POST', headers: {'content-type': 'application/json'},
                      body: JSON.stringify({edit})});
        }"""
    )
    page.wait_for_selector("[data-now=oversampling]")
    assert "now 1x" in page.inner_text("[data-now=oversampling]")
    page.wait_for_timeout(1500)
    assert figure(page, "true_peak_dbtp", 2) == peak  # as a file would have it, with oversampling


def test_the_monitor_is_changed_while_it_plays(page):
    page.keyboard.press("Space")
    wait_heard(page, 30_000)
    whole = mean_energy(page)
    page.click("[aria-label=Monitor] >> text=Dim")
    sound_follows(page)
    dim = mean_energy(page)
    assert dim == pytest.approx(whole / 100, rel=0.8) and dim > 0
    page.click("[aria-label=Monitor] >> text=Full range")
    sound_follows(page)
    assert mean_energy(page) == pytest.approx(whole, rel=0.7)


def test_a_preset_of_a_newer_version_is_shown_with_the_reason(browser, demo_folder, tmp_path):
    import shutil
    import sqlite3

    shutil.copytree(demo_folder, tmp_path / "data")
    database = sqlite3.connect(tmp_path / "data" / "saltanvil.db")
    database.execute(
        "INSERT INTO presets (kind, name, settings, changed_at) VALUES ('compressor', 'From later', '{\"format\": 9}', 0)"
    )
    database.commit()
    database.close()
    with serving(tmp_path / "data") as address, opened(browser, address) as page:
        assert httpx.get(f"{address}/api/presets").json()[0]["settings"] == {}
        choose_step(page, "Snare", "Compressor")
        page.click("text=Starting points")
        entry = page.locator("dialog .own .start")
        assert "newer Salt Anvil" in entry.inner_text() and entry.is_disabled()
