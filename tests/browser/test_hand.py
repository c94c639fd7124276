"""A hand means one thing: what scrolls, what is chosen and what is pressed, and nothing that no hand did."""

from tests.browser.conftest import version
from tests.browser.test_page import setting


def levels(page):
    return [strip["level_db"] for strip in version(page)["session"]["strips"]]


def test_the_wheel_scrolls_over_levels_and_settings_and_moves_what_has_the_focus(page):
    page.click("nav.tree >> text=Snare")
    page.click(".path .plate >> text=Compressor")
    before, threshold, revision = levels(page), setting(page, "threshold_db"), version(page)["revision"]
    page.hover("nav.tree li[data-strip] input >> nth=3")
    for _ in range(24):
        page.mouse.wheel(0, 12)
    page.hover("[role=slider][data-setting=threshold_db]")
    for _ in range(24):
        page.mouse.wheel(0, 12)
    assert version(page)["revision"] == revision and levels(page) == before and setting(page, "threshold_db") == threshold
    page.keyboard.down("Control")
    page.wait_for_timeout(500)  # longer than what goes on as scrolling
    page.mouse.wheel(0, 12)
    page.keyboard.up("Control")
    page.wait_for_function(f"document.querySelector('[data-setting=threshold_db]').ariaValueNow < {threshold}")
    page.keyboard.press("Control+z")
    page.wait_for_function(f"document.querySelector('[data-setting=threshold_db]').ariaValueNow == {threshold}")
