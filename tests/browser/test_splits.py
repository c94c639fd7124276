"""Splits through the real page: built with the mouse and with the keyboard, heard, measured, undone."""

import json
import re

import numpy as np
import pytest

from tests.browser.conftest import measured, saved
from tests.browser.test_page import figure, heard, mean_energy, setting, sound_follows, type_setting, wait_figure, wait_heard


def strip(page, name):
    page.click(f"nav.tree >> text='{name}'")
    page.wait_for_selector(f".path[aria-label='Path of {name}']")
    page.wait_for_timeout(200)


def plates(page):
    return page.locator(".path .plate[data-step]:not([data-step=strip]) b").all_inner_texts()


def lanes(page):
    return page.locator(".path [data-lane] b").all_inner_texts()


def undo_to(page, wanted):
    """Undo until the path shows these plates."""
    for _ in range(30):
        if plates(page) == wanted:
            return
        with page.expect_response(lambda answer: answer.url.endswith("/undo")):
            page.keyboard.press("Control+z")
        page.wait_for_timeout(250)
    raise AssertionError(plates(page))


def drag(page, box, dx, dy, steps=8, key=None):
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    if key:
        page.keyboard.down(key)
    for i in range(1, steps + 1):
        page.mouse.move(x + dx * i / steps, y + dy * i / steps)
        page.wait_for_timeout(25)
    page.mouse.up()
    if key:
        page.keyboard.up(key)


def bands_drawn(page, count):
    page.wait_for_selector(f".bands[data-lanes='{count}']")


def uncoloured(page, name):
    """A strip of the demo without the saturator that ends its path; the compressor before it is chosen."""
    strip(page, name)
    page.click(".path .plate:has-text('Saturator')")
    page.wait_for_selector(".editor h2:has-text('Saturator')")
    page.keyboard.press("Delete")
    page.wait_for_selector(".editor h2:has-text('Compressor')")
    saved(page)


def whole_song(page):
    """The passage is dragged over all of the timeline."""
    box = page.locator("[data-picture=timeline]").bounding_box()
    page.mouse.move(box["x"] + 1, box["y"] + box["height"] / 2)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.move(box["x"] + box["width"] - 1, box["y"] + box["height"] / 2)
    page.mouse.up()
    page.wait_for_function("document.querySelector('footer .passage').textContent !== 'Chorus'")


def test_parallel_compression_on_the_drums_with_the_mouse_alone(page):
    uncoloured(page, "Drums")
    page.click(".path .plate:has-text('Compressor')")
    page.wait_for_selector("[role=slider][data-setting=ratio]")
    page.click(".tools >> text=In parallel")
    page.wait_for_selector(".editor h2:has-text('In parallel')")
    assert plates(page) == ["In parallel", "Compressor"] and lanes(page) == ["Untreated", "Treated"]
    # At the untreated end nothing has moved.
    wait_figure(page, "integrated_lufs", lambda value: value == 0.0, column=3)
    page.click(".path .plate:has-text('Compressor')")
    threshold = page.locator("[data-picture=threshold]")
    drag(page, threshold.bounding_box(), 0, 60)
    ratio = page.locator("[data-setting=ratio]").bounding_box()
    drag(page, ratio, ratio["width"] * np.log(8 / setting(page, "ratio")) / np.log(50), 0)  # on its logarithmic scale
    assert setting(page, "ratio") == pytest.approx(8, rel=0.1)
    saved(page)
    assert setting(page, "threshold_db") < -22
    page.click(".path .plate:has-text('In parallel')")
    blend = page.locator("[data-join] [role=slider]").bounding_box()
    drag(page, blend, 0.6 * blend["width"], 0)
    page.wait_for_function("document.querySelector('[data-figure=match]')?.textContent.includes('Treated lane')")
    result = wait_figure(page, "match_found_db", lambda value: value > 0.5)
    assert 0.5 < setting(page, "position") < 0.7 and result < 20
    # The loudness stays, over the song that it is matched over, while the floor comes up.
    whole_song(page)
    assert abs(wait_figure(page, "integrated_lufs", lambda value: abs(value) <= 0.3, column=3)) <= 0.3
    assert figure(page, "floor_dbfs", 3) > 0.2
    page.keyboard.press("Space")
    wait_heard(page, 30_000)
    assert mean_energy(page, 0.5) > 0
    undo_to(page, ["Compressor"])
    assert lanes(page) == []


def test_parallel_compression_with_the_keyboard_alone(page):
    strip(page, "Guitar right")
    page.keyboard.press("a")
    page.keyboard.type("compr")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('Compressor')")
    page.keyboard.press("p")
    page.wait_for_selector(".editor h2:has-text('In parallel')")
    page.focus("[data-step]:not([data-step=strip]) button")
    page.keyboard.press("ArrowDown")
    page.wait_for_selector(".editor h2:has-text('Untreated')")
    page.keyboard.press("ArrowDown")
    page.wait_for_selector(".editor h2:has-text('Treated')")
    page.keyboard.press("ArrowRight")
    page.wait_for_selector(".editor h2:has-text('Compressor')")
    type_setting(page, "threshold_db", "-36")
    page.focus("[data-step].chosen button")
    page.keyboard.press("ArrowLeft")
    page.keyboard.press("ArrowLeft")
    page.wait_for_selector(".editor h2:has-text('In parallel')")
    page.focus("[role=slider][data-setting=position]")
    page.keyboard.press("End")
    page.wait_for_function("document.querySelector('[data-setting=position]').ariaValueNow === '1'")
    whole_song(page)
    assert abs(wait_figure(page, "integrated_lufs", lambda value: abs(value) <= 0.3, column=3)) <= 0.3
    page.keyboard.press("u")
    page.wait_for_function("document.querySelectorAll('.path [data-lane]').length === 0")
    assert plates(page) == ["Compressor"]
    undo_to(page, [])


def test_a_four_band_compressor_with_the_mouse_while_it_plays(page):
    uncoloured(page, "Lead voice")
    page.click(".path .plate:has-text('Compressor')")
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    page.click(".tools >> text=In bands")
    page.wait_for_selector(".editor h2:has-text('4 bands')")
    bands_drawn(page, 4)
    assert plates(page) == ["Equaliser", "4 bands", *["Compressor"] * 4]
    assert lanes(page) == ["Low", "Low mid", "High mid", "High"]
    # A divider moves under the ear; the sound goes on.
    before = heard(page)
    divider = page.locator("[data-picture='divider 2']")
    drag(page, divider.bounding_box(), 60, 0, steps=20)
    saved(page)
    page.wait_for_timeout(500)
    moved = [float(page.get_attribute(f"[data-picture='divider {i}']", "aria-valuenow")) for i in (1, 2, 3)]
    assert moved[0] == 120 and moved[1] > 700 and moved[2] == 5000
    assert heard(page) > before + 24_000 and mean_energy(page) > 0
    # With Shift all of them move together, by one ratio.
    drag(page, divider.bounding_box(), -40, 0, key="Shift")
    saved(page)
    page.wait_for_timeout(300)
    together = [float(page.get_attribute(f"[data-picture='divider {i}']", "aria-valuenow")) for i in (1, 2, 3)]
    assert np.ptp(np.array(together) / moved) < 0.02 and together[0] < 115
    # Threshold and level of a band are dragged in the picture, and the table says the same.
    drag(page, page.locator("[data-picture='threshold High mid']").bounding_box(), 0, 40)
    saved(page)
    assert setting(page, "threshold_db High mid") < -28 and setting(page, "threshold_db Low") == -20
    page.wait_for_function("Math.min(...document.querySelector('.bands').dataset.taken.split(' ').map(Number)) < -2")
    level = page.locator("[data-picture='level High']")
    drag(page, level.bounding_box(), 0, 30)
    saved(page)
    assert setting(page, "level High") < -2
    undo_to(page, ["Equaliser", "Compressor"])


def test_a_four_band_compressor_with_the_keyboard_alone(page):
    uncoloured(page, "Lead voice")
    page.focus(".path .plate:has-text('Compressor') button")
    page.keyboard.press("f")
    page.wait_for_selector(".editor h2:has-text('4 bands')")
    bands_drawn(page, 4)
    page.focus("[data-picture='divider 1']")
    page.keyboard.press("ArrowRight")
    page.wait_for_function("Number(document.querySelector(\"[data-picture='divider 1']\").ariaValueNow) > 120")
    type_setting(page, "threshold_db Low mid", "-34")
    page.wait_for_function("document.querySelector(\"[data-setting='threshold_db Low mid']\").ariaValueNow === '-34'")
    wait_figure(page, "'taken Low mid'", lambda value: value < -3)
    page.focus("[data-picture='divider 3']")
    page.keyboard.press("Delete")
    page.wait_for_selector(".editor h2:has-text('3 bands')")
    assert lanes(page) == ["Low", "Mid", "High"]
    page.focus("[aria-label='Divider 1, typed']")
    page.keyboard.type("200")
    page.keyboard.press("Enter")
    page.wait_for_function("document.querySelector(\"[data-picture='divider 1']\").ariaValueNow === '200'")
    page.focus("[data-step].split button")
    for key in ("ArrowDown", "ArrowDown", "ArrowRight"):
        page.keyboard.press(key)
    page.wait_for_selector(".editor .trail:has-text('3 bands > Mid')")
    page.focus("[data-step].chosen button")
    page.keyboard.press("ArrowRight")  # out of the lane: nothing follows the split
    page.keyboard.press("ArrowUp")
    page.wait_for_selector(".editor .trail:has-text('3 bands > Low')")
    undo_to(page, ["Equaliser", "Compressor"])


def test_lanes_are_soloed_heard_alone_linked_given_back_and_given_a_ceiling(page):
    uncoloured(page, "Lead voice")
    page.click(".path .plate:has-text('Compressor')")
    page.keyboard.press("f")
    bands_drawn(page, 4)
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 40_000)
    whole = mean_energy(page, 1)
    # Solo on the picture: an edit of the session, heard and not rendered.
    page.click("[aria-label='solo High in the picture']")
    saved(page)
    sound_follows(page)
    soloed = next(power for _ in range(6) if 0 < (power := mean_energy(page, 1)) < 0.15 * whole)
    page.click("[aria-label='solo High in the picture']")
    # The same without an edit: only this lane, while the others keep working.
    page.click("[data-lane] >> text='High'")
    page.wait_for_selector(".editor h2:has-text('High')")
    page.keyboard.press("o")
    sound_follows(page)
    # Another bar of the song, so only about as loud; that it is the same sound is tested on the plan.
    assert any(soloed / 5 < mean_energy(page, 1) < 5 * soloed < whole for _ in range(6))
    page.keyboard.press("c")
    sound_follows(page)
    assert any(mean_energy(page, 1) < 0.05 * whole for _ in range(6))  # what the lane's compressor took
    page.keyboard.press("x")
    page.click(".path .split")
    page.wait_for_selector(".editor h2:has-text('4 bands')")
    page.click("text=Link all")
    saved(page)
    type_setting(page, "ratio Low", "5")
    page.wait_for_function("document.querySelector(\"[data-setting='ratio High']\").ariaValueNow === '5'")
    page.click("text=Unlink all")
    type_setting(page, "threshold_db Low mid", "-36")
    wait_figure(page, "'taken Low mid'", lambda value: value < -2)
    page.click("[role=table] >> text=Make up >> nth=1")
    page.wait_for_function("Number(document.querySelector(\"[data-setting='level Low mid']\").ariaValueNow) > 1")
    page.click("[aria-label='Give Low mid a ceiling']")
    page.wait_for_selector("[data-setting='ceiling Low mid']")
    assert plates(page).count("Limiter") == 1
    page.click(".path .plate:has-text('Limiter')")
    page.click("text=Copy to the other lanes")
    page.wait_for_function("[...document.querySelectorAll('.path b')].filter(b => b.textContent === 'Limiter').length === 4")
    page.click("[data-lane] >> text='Low'")
    page.fill("[aria-label='Name of the lane']", "Bottom")
    page.keyboard.press("Enter")
    page.wait_for_selector("[data-lane] >> text=Bottom")
    page.click("text=Send all lanes to buses")
    page.wait_for_selector("nav.tree >> text=Lead voice bottom")
    saved(page)
    sound_follows(page)
    assert mean_energy(page, 1) > 0.1 * whole  # the sound comes by the buses now
    page.select_option("[aria-label='Output of the lane']", "")
    saved(page)
    undo_to(page, ["Equaliser", "Compressor"])


def test_copies_say_what_they_sum_to_and_steps_are_dragged_into_lanes(page):
    strip(page, "Guitar left")
    page.click(".tools >> text=In parallel")
    page.wait_for_selector(".editor h2:has-text('In parallel')")
    page.click("text=Add a lane")
    page.wait_for_function("document.querySelectorAll('[data-lane]').length === 3")
    assert "+" in page.inner_text("[data-join]") and page.locator("[data-join] [role=slider]").count() == 0
    wait_figure(page, "full_sum_db", lambda value: value == pytest.approx(6.0, abs=0.1))  # the treated lane was at 0 %
    page.click("[data-lane] >> text='Lane 3'")
    page.keyboard.press("a")
    page.keyboard.type("trim")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor .trail:has-text('Lane 3')")
    page.drag_and_drop(".path .plate:not(.strip):has-text('Trim')", "[aria-label='Add a step to this lane'] >> nth=0")
    page.wait_for_selector(".editor .trail:has-text('Untreated')")
    page.keyboard.press("Control+c")
    page.click("[data-lane] >> text='Lane 3'")
    page.keyboard.press("Control+v")
    page.wait_for_function("[...document.querySelectorAll('.path b')].filter(b => b.textContent === 'Trim').length === 2")
    page.click("[aria-label='Mute Lane 3']")
    saved(page)
    assert "muted" in page.inner_text("[data-lane]:has-text('Lane 3')")
    page.focus("[data-lane]:has-text('Lane 3') button")
    page.click("[data-lane] >> text='Lane 3'")
    page.keyboard.press("Delete")
    undo_to(page, [])


def test_sides_that_cancel_are_refused_the_match_with_a_message(page):
    strip(page, "Bass")
    page.keyboard.press("a")
    page.keyboard.type("trim")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('Trim')")
    page.select_option("select[data-setting=invert]", "on")
    saved(page)
    page.keyboard.press("p")
    page.wait_for_function("document.querySelector('[data-figure=match]')?.textContent.includes('all but cancel')")
    page.wait_for_selector(".ledger >> text=The blend is not matched.")


def test_ready_made_splits_and_own_paths_are_dropped_on_other_strips(page, tmp_path):
    strip(page, "Kick")
    page.keyboard.press("a")
    page.keyboard.type("low-end control")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('2 bands')")
    bands_drawn(page, 2)
    wait_figure(page, "'taken Low'", lambda value: value < -1)
    page.click(".editor >> text=Ready-made")
    page.fill("[aria-label='Name of the path']", "My lows")
    page.keyboard.press("Enter")
    page.wait_for_selector("dialog .own >> text=My lows")
    with page.expect_download() as told:
        page.click("dialog >> text=Export")
    kept = json.loads(told.value.path().read_text())
    assert kept["presets"][0]["settings"]["steps"][0]["lanes"][0]["path"]["steps"][0]["kind"] == "compressor"
    page.keyboard.press("Escape")
    page.mouse.click(640, 20)
    strip(page, "Organ")
    page.click(".path .plate[data-step=strip]")
    page.click(".editor >> text=Ready-made")
    page.dblclick("dialog .own >> text=My lows")
    page.wait_for_selector(".editor h2:has-text('2 bands')")
    assert plates(page)[-3:] == ["2 bands", "Compressor", "Trim"]
    assert re.fullmatch(r"77 Hz", page.input_value("[aria-label='Divider 1, typed']"))


def test_a_ready_made_split_kept_by_a_double_click_is_made_once_and_nothing_is_refused(page):
    """What was tried has the steps' ids already: it is neither made nor measured again."""
    page.click("nav.tree >> text='Drums'")
    page.wait_for_selector(".path[aria-label='Path of Drums']")
    page.click(".path .plate[data-step=strip] button")
    page.click("text=Ready-made")
    page.dblclick("dialog >> text=four-band compressor")
    page.wait_for_selector("dialog", state="detached")
    page.wait_for_selector(".path .plate:has-text('4 bands')")
    measured(page)
    assert page.locator(".path .plate:has-text('4 bands')").count() == 1
    assert "same id" not in page.inner_text("body")
