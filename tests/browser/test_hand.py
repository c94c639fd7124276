"""A hand means one thing: what scrolls, what is chosen and what is pressed, and nothing that no hand did."""

from tests.browser.conftest import saved, until, version
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


def press_tab_until(page, test, most):
    """How many presses of Tab it takes until something holds."""
    for count in range(1, most + 1):
        page.keyboard.press("Tab")
        if page.evaluate(test):
            return count
    raise AssertionError(f"not within {most} presses of Tab")


def test_a_setting_is_a_dozen_tabs_and_two_f6_from_a_strip(page):
    page.click("nav.tree >> text=Snare")
    page.click(".path .plate >> text=Compressor")
    page.focus("nav.tree [role=treeitem][tabindex='0']")
    press_tab_until(page, "Boolean(document.activeElement.closest('.editor .rules'))", 12)
    # Level, mute and solo of a strip lie within it.
    page.focus("nav.tree [role=treeitem][tabindex='0']")
    for label in ("Level of Snare, dB", "Mute Snare", "Solo Snare"):
        page.keyboard.press("ArrowRight")
        page.wait_for_function(f"document.activeElement.ariaLabel === '{label}'")
    for _ in range(3):
        page.keyboard.press("ArrowLeft")
    page.wait_for_function("document.activeElement.matches('[role=treeitem]')")
    seen = []
    for _ in range(5):
        page.keyboard.press("F6")
        seen.append(
            page.evaluate(
                "document.activeElement.closest('nav.tree, .path, .editor, aside.ledger, footer').className.split(' ')[0]"
            )
        )
    assert len(set(seen)) == 5
    page.focus("nav.tree [role=treeitem][tabindex='0']")
    for _ in range(2):
        page.keyboard.press("F6")
    assert page.evaluate("document.activeElement.matches('.editor [role=slider]')")
    page.keyboard.press("Shift+F6")
    assert page.evaluate("Boolean(document.activeElement.closest('.path'))")


def test_strips_are_found_folded_and_grouped_and_the_new_bus_has_the_focus(page):
    rows = "[...document.querySelectorAll('[role=treeitem]')].map((row) => row.ariaLabel)"
    every = page.evaluate(rows)
    page.click("nav.tree >> text=Snare")
    page.keyboard.press("/")
    page.keyboard.type("guit")
    page.wait_for_function(f"{rows}.every((name) => /guit/i.test(name))")
    first = page.evaluate(rows)[0]
    page.keyboard.press("Enter")
    page.wait_for_function(f"document.activeElement.ariaLabel === '{first}'")
    page.focus("nav.tree input[type=search]")
    page.keyboard.press("Escape")
    page.wait_for_function(f"{rows}.length === {len(every)}")
    page.wait_for_function(f"document.activeElement.ariaLabel === '{first}'")
    # Left goes to the bus, and folds it; what it hides is shown again where it is chosen.
    page.keyboard.press("ArrowLeft")
    page.wait_for_function("document.activeElement.ariaExpanded === 'true'")
    bus = page.evaluate("document.activeElement.ariaLabel")
    page.keyboard.press("ArrowLeft")
    page.wait_for_function(f"!{rows}.includes('{first}') && {rows}.includes('{bus}')")
    page.keyboard.press("ArrowRight")
    page.wait_for_function(f"{rows}.includes('{first}')")
    page.click("[aria-label='Fold Drums']")
    page.wait_for_function(f"!{rows}.includes('Snare')")
    page.reload()
    page.wait_for_selector("[aria-label='Unfold Drums']")
    page.click("[aria-label='Unfold Drums']")
    page.wait_for_function(f"{rows}.length === {len(every)}")
    page.click("nav.tree >> text='Snare'")
    page.keyboard.press("Control+b")
    page.wait_for_function("document.activeElement.ariaLabel === 'Snare bus'")
    page.keyboard.press("F2")
    page.keyboard.type("Snares")
    page.keyboard.press("Enter")
    page.wait_for_function("document.activeElement.ariaLabel === 'Snares'")


def test_a_start_is_typed_nudged_and_dragged_and_what_stays_is_no_edit(page):
    start = lambda: next(s["start_s"] for s in version(page)["session"]["strips"] if s["name"] == "Snare")  # noqa: E731
    page.click("nav.tree >> text='Snare'")
    page.click(".path .plate[data-step=strip]")
    field = page.locator("[data-setting=start_s]")
    before = version(page)["revision"]
    for typed, at_s in (("-0.25 s", -0.25), ("24000 samples", 0.5), ("2.1", None)):
        field.fill(typed)
        page.keyboard.press("Enter")
        saved(page)
        tempo, beats = (version(page)["session"][name] for name in ("tempo_bpm", "beats_in_bar"))
        assert abs(start() - (60.0 / tempo * beats if at_s is None else at_s)) < 1e-4
    assert version(page)["revision"] >= before + 3
    field.fill("soon")
    page.keyboard.press("Enter")
    page.wait_for_selector("[role=alert]:has-text('is no place')")
    at_s, revision = start(), version(page)["revision"]
    field.fill(f"{at_s:.9f} s")
    page.keyboard.press("Enter")
    handle = page.locator("[data-picture=start]")
    handle.focus()
    page.keyboard.press("ArrowRight")
    saved(page)
    assert abs(start() - at_s - 0.001) < 1e-4 and version(page)["revision"] == revision + 1
    box = handle.bounding_box()
    page.mouse.move(box["x"] + 4, box["y"] + 8)
    page.mouse.down()
    page.mouse.move(box["x"] + 44, box["y"] + 8, steps=4)
    page.mouse.up()
    saved(page)
    moved = start()
    assert moved > at_s + 0.2
    page.keyboard.press("Control+z")
    page.wait_for_function(f"document.querySelector('[data-picture=start]').ariaValueNow !== '{moved}'")


def test_the_history_is_searched_and_help_says_what_words_and_steps_are(page):
    page.click("nav.tree >> text='Snare'")
    page.keyboard.press("m")
    page.wait_for_selector("[aria-label='Mute Snare'][aria-pressed=true]")
    page.click("nav.tree >> text='Organ'")
    page.keyboard.press("s")
    page.wait_for_selector("[aria-label='Solo Organ'][aria-pressed=true]")
    saved(page)
    page.keyboard.press("h")
    edits = page.locator("dialog [data-position]")
    page.wait_for_selector("dialog [data-position='2']")
    page.select_option("dialog [aria-label='Edits of']", "Organ")
    page.wait_for_selector("dialog [data-position='1']", state="detached")
    assert "Solo" in edits.first.inner_text()
    page.select_option("dialog [aria-label='Edits of']", "")
    page.fill("dialog [aria-label='Search the edits']", "mute")
    page.wait_for_selector("dialog [data-position='2']", state="detached")
    assert "Snare" in edits.first.inner_text()
    page.keyboard.press("Escape")
    page.wait_for_selector("dialog", state="detached")
    page.keyboard.press("?")
    page.fill("dialog [aria-label='Search the shortcuts']", "sibilan")
    page.wait_for_selector("dialog [data-about=deesser]")
    page.fill("dialog [aria-label='Search the shortcuts']", "scope")
    page.wait_for_selector("dialog dt:has-text('Scope')")
    abouts = page.evaluate("fetch('/api/processors').then((answer) => answer.json())")
    sentences = [(one["summary"] + " " + one["about"]).count(".") for one in abouts]
    assert len(sentences) == 19 and min(sentences) >= 3


def test_make_up_asked_for_on_two_bands_at_once_sets_both(page):
    page.click("nav.tree >> text='Drums'")
    page.keyboard.press("a")
    page.keyboard.type("four-band")
    page.keyboard.press("Enter")
    page.wait_for_selector("[role=table]")
    saved(page)
    buttons = page.locator("[role=table] button:has-text('Make up')")
    names = page.evaluate(
        "[...document.querySelectorAll('[role=table] [data-setting^=\"level \"]')].map((e) => e.dataset.setting)"
    )
    assert len(names) == 4
    buttons.nth(0).click()
    page.locator("[role=table] button:has-text('Make up')").nth(0).click()
    set_each = page.locator("[role=status]:has-text('as loud as it came in')")
    set_each.nth(1).wait_for()
    page.wait_for_selector("[role=table] button[aria-busy=true]", state="detached")
    assert set_each.count() == 2 and len({text.split(":")[0] for text in set_each.all_inner_texts()}) == 2


def test_what_is_pressed_while_a_step_is_on_its_way_is_about_that_step(page):
    page.click("nav.tree >> text='Organ'")
    page.wait_for_selector(".path[aria-label='Path of Organ']")
    waiting, held = [], [True]
    page.route("**/edits", lambda route: waiting.append(route) if held[0] else route.continue_())
    for kind in ("gate", "clipper"):
        page.keyboard.press("a")
        page.fill("[aria-label='Search the steps']", kind)
        page.keyboard.press("Enter")
        page.wait_for_selector("dialog", state="detached")
    page.wait_for_selector("[data-awaited=Gate]", state="attached")
    page.keyboard.press("b")
    until(page, lambda: waiting)
    assert len(waiting) == 1  # the clipper waits for its place
    held[0] = False
    waiting[0].continue_()
    page.wait_for_selector(".path .plate.chosen.bypassed")
    plates = page.locator(".path .plate[data-step]:not([data-step=strip]) b").all_inner_texts()
    assert plates[-2:] == ["Gate", "Clipper"]
    steps = next(s for s in version(page)["session"]["strips"] if s["name"] == "Organ")["path"]["steps"]
    assert [(step["kind"], step["bypass"]) for step in steps[-2:]] == [("gate", False), ("clipper", True)]


def test_undo_in_deliver_is_of_the_delivery_and_elsewhere_of_the_sound(page):
    muted = lambda: next(s["mute"] for s in version(page)["session"]["strips"] if s["name"] == "Snare")  # noqa: E731
    dither = lambda: version(page)["session"]["delivery"]["dither"]  # noqa: E731
    page.click("nav.tree >> text='Snare'")
    page.click("nav[aria-label=Views] >> text=Deliver")
    before = dither()
    page.select_option("[aria-label=Dither]", next(value for value in ("shaped", "tpdf") if value != before))
    saved(page)
    page.click("nav[aria-label=Views] >> text=Shape")
    page.keyboard.press("m")
    page.wait_for_selector("[aria-label='Mute Snare'][aria-pressed=true]")
    saved(page)
    page.click("nav[aria-label=Views] >> text=Deliver")
    page.keyboard.press("Control+z")
    page.wait_for_function(f"document.querySelector('[aria-label=Dither]').value === '{before}'")
    assert muted() and dither() == before
    page.keyboard.press("Control+z")
    page.wait_for_selector("[role=alert]:has-text('no setting of the delivery to undo')")
    assert muted()
    page.keyboard.press("Control+Shift+z")
    page.wait_for_function(f"document.querySelector('[aria-label=Dither]').value !== '{before}'")
    page.click("nav[aria-label=Views] >> text=Shape")
    page.keyboard.press("Control+z")
    page.wait_for_selector("[aria-label='Mute Snare'][aria-pressed=false]")
    assert not muted() and dither() != before
