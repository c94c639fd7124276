"""The resonance tamer through the real page: study, read the verdict, turn the amount, listen to the difference, drag, undo."""

import re

import pytest

from saltanvil.demo.low_water import FAULTS
from tests.browser.conftest import saved
from tests.browser.test_colour import plate
from tests.browser.test_page import energy, heard, mean_energy, sound_follows, type_setting, wait_figure, wait_heard
from tests.browser.test_settings import document
from tests.browser.test_splits import strip
from tests.browser.test_steps import add, choose


def tamer_of(page, name="Overheads"):
    path = next(s for s in document(page)["session"]["strips"] if s["name"] == name)["path"]
    return next(step for step in path["steps"] if step["kind"] == "tamer")["settings"]


def wait_tamer(page, test, name="Overheads", tries=60):
    for _ in range(tries):
        settings = tamer_of(page, name)
        if test(settings):
            return settings
        page.wait_for_timeout(100)
    raise AssertionError(settings)


def test_a_ring_is_studied_named_held_down_and_heard_as_the_difference(page):
    strip(page, "Overheads")
    plate(page, "Resonance tamer")
    page.wait_for_selector("[data-figure=verdict]")
    assert "Ringing" in page.inner_text("[data-figure=verdict]")
    # Everything is taken out, studied anew, and the ring is there again.
    while page.locator(".handle").count():
        page.locator(".handle").first.press("Delete")
        saved(page)
    assert tamer_of(page)["resonances"] == []
    page.click("[data-act=study]")
    settings = wait_tamer(page, lambda settings: settings["resonances"], tries=600)
    ring = min(settings["resonances"], key=lambda one: abs(one["frequency_hz"] - FAULTS.ring_hz))
    assert ring["frequency_hz"] == pytest.approx(FAULTS.ring_hz, rel=0.01) and ring["height_db"] > 6
    assert settings["studied"].startswith("Chorus, 34.3 to 57.1 s")
    page.wait_for_function("/Ringing \\d+ %/.test(document.querySelector('[data-figure=verdict]')?.textContent ?? '')")
    assert page.locator(".handle").count() == len(settings["resonances"])
    type_setting(page, "amount", "100")
    full = wait_figure(page, "ringing_gr_db", lambda value: value > 5)
    assert int(page.inner_text("[data-figure=ringing_percent]").split()[0]) > 20
    type_setting(page, "amount", "40")
    wait_figure(page, "ringing_gr_db", lambda value: abs(value - 0.4 * full) < 0.6)
    type_setting(page, "amount", "100")
    saved(page)
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 60_000)
    whole = mean_energy(page, 1)
    page.keyboard.press("c")
    sound_follows(page)
    taken = mean_energy(page, 1)
    assert 0 < taken < whole
    page.wait_for_function("/:[1-9]/.test(document.querySelector('.resonances').dataset.cuts)")  # what is taken at the playhead
    page.keyboard.press("Space")


def test_handles_are_dragged_widened_switched_typed_and_undone(page):
    strip(page, "Overheads")
    plate(page, "Resonance tamer")
    handle = page.locator("[data-picture='resonance 1']")
    handle.wait_for()
    began = tamer_of(page)["resonances"][0]
    place = handle.bounding_box()
    x, y = place["x"] + place["width"] / 2, place["y"] + place["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 60, y + 6, steps=6)
    page.mouse.up()
    saved(page)
    moved = wait_tamer(page, lambda now: now["resonances"][0]["frequency_hz"] < 0.8 * began["frequency_hz"])["resonances"][0]
    assert moved["width_oct"] == began["width_oct"]
    assert moved["height_db"] * moved["share"] > began["height_db"] * began["share"] + 0.5  # deeper
    page.keyboard.press("Control+z")  # the whole drag
    wait_tamer(page, lambda now: now["resonances"][0] == began)
    page.mouse.move(x, y)
    page.keyboard.down("Control")
    page.mouse.wheel(0, -100)
    page.keyboard.up("Control")
    wait_tamer(page, lambda now: now["resonances"][0]["width_oct"] > began["width_oct"])
    handle.press("ArrowRight")
    wait_tamer(page, lambda now: now["resonances"][0]["frequency_hz"] > began["frequency_hz"])
    handle.dblclick()
    wait_tamer(page, lambda now: not now["resonances"][0]["on"])
    assert ", off" in handle.get_attribute("aria-label")
    page.check("[aria-label='Resonance 1 on']")
    page.fill("[aria-label='Share of the amount of resonance 1, %']", "25")
    page.keyboard.press("Tab")
    wait_tamer(page, lambda now: now["resonances"][0]["on"] and now["resonances"][0]["share"] == 0.25)
    count = len(tamer_of(page)["resonances"])
    box = page.locator("figure.resonances .plot").bounding_box()
    page.mouse.dblclick(box["x"] + box["width"] * 0.4, box["y"] + box["height"] * 0.6)
    added = wait_tamer(page, lambda now: len(now["resonances"]) == count + 1)["resonances"][-1]
    assert added["by_hand"] and 100 < added["frequency_hz"] < 2000
    page.click(f"[aria-label='Remove resonance {count + 1}']")
    wait_tamer(page, lambda now: len(now["resonances"]) == count)


def test_the_free_mode_needs_no_study_and_the_loudness_is_held(page):
    add(page, "Guitar left", "Resonance tamer")
    assert "study a busy passage" in page.inner_text("aside").lower()
    choose(page, "mode", "free")
    page.wait_for_selector("[data-setting=sharpness]")
    type_setting(page, "amount", "100")
    type_setting(page, "range_db", "18")
    page.select_option("[aria-label='Measured over']", label="Chorus")
    saved(page)
    page.wait_for_function("/:[1-9]/.test(document.querySelector('.resonances')?.dataset.cuts ?? '')")
    assert not page.locator(".handle").count()
    wait_figure(page, "integrated_lufs", lambda change: abs(change) <= 0.3, 3)
    before, first = energy(page), heard(page)
    page.keyboard.press("Space")
    wait_heard(page, first + 20_000)
    assert energy(page) > before
    assert re.search(r"free, 100 %|-\d", page.inner_text(".path .chosen"))
