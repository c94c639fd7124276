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


def test_a_list_gives_the_keyboard_back_and_keys_with_ctrl_work_in_it(page):
    page.click("nav.tree >> text=Snare")
    page.click(".path .plate >> text=Compressor")
    before = page.input_value("select[data-setting=detector]")
    other = next(value for value in ("peak", "rms") if value != before)
    page.click("[data-act=blind]", trial=True)  # the pointer was used last
    page.mouse.click(640, 5)
    page.select_option("select[data-setting=detector]", other)
    page.wait_for_selector(".path .chosen button:focus")
    page.keyboard.press("Space")
    page.wait_for_selector("footer.transport .play[aria-label=Stop]")
    page.focus("select[data-setting=detector]")
    page.keyboard.press("Control+z")
    page.wait_for_function(f"document.querySelector('select[data-setting=detector]').value === '{before}'")


def test_delete_takes_the_point_that_was_just_added_and_no_step(page):
    page.click("nav.tree >> text=Snare")
    page.click(".path .plate >> text=Compressor")
    steps = page.locator(".path .plate[data-step]").count()
    page.focus("[role=slider][data-setting=threshold_db]")
    page.dispatch_event("[role=slider][data-setting=threshold_db]", "contextmenu")
    page.click("dialog [data-act=draw]")
    page.wait_for_selector("dialog", state="detached")
    lane = page.locator("[data-over-time] [data-picture^=lane]")
    lane.wait_for()
    box = lane.bounding_box()
    page.mouse.click(box["x"] + box["width"] * 0.6, box["y"] + box["height"] * 0.3)
    page.wait_for_selector("[data-over-time] [data-point-id]:focus")
    points = page.locator("[data-over-time] [data-point-id]").count()
    page.keyboard.press("Delete")
    page.wait_for_function(f"document.querySelectorAll('[data-over-time] [data-point-id]').length === {points - 1}")
    lane.evaluate("(ground) => ground.focus()")
    page.keyboard.press("Delete")
    assert page.locator(".path .plate[data-step]").count() == steps
