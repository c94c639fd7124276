"""Several strips worked on at once, and linked steps: by mouse and by keys, heard while they move, taken back by one undo."""

from tests.browser.conftest import saved, until, version
from tests.browser.test_page import energy, type_setting, wait_heard


def strips(page):
    return {strip["name"]: strip for strip in version(page)["session"]["strips"]}


def kinds(page, name):
    return [step["kind"] for step in strips(page)[name]["path"]["steps"]]


def last(page, name):
    return strips(page)[name]["path"]["steps"][-1]


def choose(page, first, *more):
    page.click(f"nav.tree >> text='{first}'")
    for name in more:
        page.click(f"nav.tree >> text='{name}'", modifiers=["Control"])
    if more:
        page.wait_for_selector("[data-figure=also_on]")


def test_three_strips_get_a_compressor_moved_heard_and_linked(page):
    names = ("Guitar left", "Guitar right", "Bass")
    before = {name: kinds(page, name) for name in names}
    choose(page, *names)
    page.keyboard.press("a")
    page.keyboard.type("compressor")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('Compressor')")
    saved(page)
    assert {name: kinds(page, name) for name in names} == {name: [*before[name], "compressor"] for name in names}
    type_setting(page, "threshold_db", "-30")
    saved(page)
    assert {last(page, name)["settings"]["threshold_db"] for name in names} == {-30.0}
    page.wait_for_selector("[data-table='chosen strips'] [data-row='Guitar left'] [data-figure='integrated_lufs change']")
    rows = page.locator("[data-table='chosen strips'] tbody tr")
    assert rows.evaluate_all("rows => rows.map((row) => row.dataset.row)") == ["Bass", "Guitar left", "Guitar right"]
    page.click("[data-act=link]")
    page.wait_for_selector("[aria-label='Linked steps'] >> text=Linked with Guitar left, Guitar right")
    saved(page)
    choose(page, "Bass")
    assert page.locator("[data-figure=also_on]").count() == 0
    page.wait_for_selector(".plate .linked")
    page.click(".plate:has(.linked) button.face")
    type_setting(page, "ratio", "9")
    saved(page)
    assert {last(page, name)["settings"]["ratio"] for name in names} == {9.0}
    page.click("[aria-label='Linked steps'] >> text=Same value")
    page.click("[aria-label='Linked steps'] summary")
    page.click("[aria-label='Linked steps'] label:has-text('Ratio')")
    saved(page)
    [link] = version(page)["session"]["links"]
    assert not link["relative"] and "ratio" not in link["settings"] and "threshold_db" in link["settings"]
    page.click("[aria-label='Linked steps'] >> text=Unlink all")
    page.wait_for_selector(".plate .linked", state="detached")
    saved(page)
    assert not version(page)["session"].get("links")
    for _ in range(7):  # to before the compressor came
        page.keyboard.press("Control+z")
    until(page, lambda: {name: kinds(page, name) for name in names} == before)


def test_what_moves_on_one_strip_is_heard_on_another_as_it_moves(page):
    choose(page, "Guitar left")
    page.keyboard.press("s")
    choose(page, "Guitar left", "Bass")
    page.wait_for_selector(".path[aria-label='Path of Bass']")
    page.wait_for_selector("[data-figure=also_on]")
    page.keyboard.press("a")
    page.keyboard.type("trim")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('Trim')")
    saved(page)
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    knob = page.locator("[data-setting=gain_db]").bounding_box()
    page.mouse.move(knob["x"] + knob["width"] / 2, knob["y"] + knob["height"] - 6)
    page.mouse.down()
    page.mouse.move(knob["x"] + 2, knob["y"] + knob["height"] - 6, steps=6)  # held, not let go: nothing is heard any more

    def silent():
        at = energy(page)
        page.wait_for_timeout(200)
        return energy(page) == at

    until(page, silent)
    page.mouse.up()
    saved(page)
    assert last(page, "Guitar left")["settings"]["gain_db"] == last(page, "Bass")["settings"]["gain_db"] < -30


def test_a_chain_is_pasted_on_all_offered_as_linked_and_paths_are_bypassed_at_once(page):
    choose(page, "Drums")
    page.click(".path .plate >> text=Saturator")
    page.keyboard.press("Control+c")
    choose(page, "Organ", "Guitar left", "Guitar right")
    page.keyboard.press("Control+v")
    page.click("[role=status]:has-text('Pasted on 3 strips') >> text=Link them")
    page.wait_for_selector(".plate .linked")
    saved(page)
    names = ("Organ", "Guitar left", "Guitar right")
    assert {last(page, name)["kind"] for name in names} == {"saturator"}
    [link] = version(page)["session"]["links"]
    assert set(link["step_ids"]) == {last(page, name)["id"] for name in names}
    page.keyboard.press("Shift+B")
    saved(page)
    assert all(step["bypass"] for name in names for step in strips(page)[name]["path"]["steps"])
    page.keyboard.press("Delete")
    saved(page)
    assert all(last(page, name)["kind"] != "saturator" or not kinds(page, name) for name in names if kinds(page, name))
    page.keyboard.press("Control+z")
    until(page, lambda: {last(page, name)["kind"] for name in names} == {"saturator"})
    assert version(page)["session"]["links"] == [link]
