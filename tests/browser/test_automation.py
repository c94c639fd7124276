"""Over the song: values by section, envelopes drawn and recorded, levers; by mouse and by keyboard, heard and undone."""

import pytest

from tests.browser.conftest import saved, until, version
from tests.browser.test_own_material import document
from tests.browser.test_page import heard, mean_energy, setting, sound_follows, type_setting, wait_heard
from tests.browser.test_steps import add

SLIDER = "[role=slider][data-setting='{}']"


def step_of(page, kind, strip):
    strip = next(one for one in document(page)["strips"] if one["name"] == strip)
    return next(step for step in strip["path"]["steps"] if step["kind"] == kind)


def envelope(page, kind, strip, name):
    return step_of(page, kind, strip).get("envelopes", {}).get(name)


def over_time(page, name):
    """The menu of a setting, with the keyboard: the Menu key makes a `contextmenu` event, as the right button does."""
    page.focus(SLIDER.format(name))
    page.dispatch_event(SLIDER.format(name), "contextmenu")
    page.wait_for_selector("dialog [data-act=draw]")


def newest(page):
    """The place in the history and its newest edit: a match that is stored beside the edits changes neither."""
    number = page.url.rsplit("#/", 1)[1].split("/")[0]
    history = page.evaluate(f"fetch('/api/sessions/{number}/history').then((answer) => answer.json())")
    return history["position"], history["edits"][:1]


def edited(page, act):
    """Do something that makes an edit, and wait until it is stored."""
    before = newest(page)
    act()
    until(page, lambda: newest(page) != before)
    saved(page)


def lane(page, kind="draw"):
    page.wait_for_selector("[data-lane] .plot")
    return page.locator("[data-lane] .plot").first.bounding_box()


def test_another_drive_in_the_chorus_by_keyboard_alone(page):
    add(page, "Organ", "saturator")
    base = setting(page, "drive_db")
    over_time(page, "drive_db")
    page.keyboard.press("Tab")
    assert page.evaluate("document.activeElement.dataset.act") == "sections"
    edited(page, lambda: page.keyboard.press("Enter"))
    page.keyboard.press("Escape")
    # The passage is the chorus: the rule says so, and what is typed is the chorus's.
    page.wait_for_selector(".rule .place:has-text('Chorus')")
    edited(page, lambda: type_setting(page, "drive_db", "20"))
    names = {section["id"]: section["name"] for section in document(page)["sections"]}
    held = {names[key]: value for key, value in envelope(page, "saturator", "Organ", "drive_db")["sections"].items()}
    assert held.pop("Chorus") == 20.0 and set(held.values()) == {base} and len(held) == 4
    page.focus(SLIDER.format("drive_db"))
    for _ in range(4):
        page.keyboard.press("ArrowDown")
    page.wait_for_function(f"document.querySelector(\"{SLIDER.format('drive_db')}\").ariaValueNow === '18'")
    saved(page)
    assert "moved by Chorus" in page.get_attribute(SLIDER.format("drive_db"), "aria-valuetext")
    # Another section, another value; the plate is marked, the ledger says what moved.
    page.wait_for_selector(".plate.chosen .over")
    page.keyboard.press("PageUp")
    page.wait_for_selector(".rule .place:has-text('Verse')")
    page.wait_for_function(f"document.querySelector(\"{SLIDER.format('drive_db')}\").ariaValueNow === '{base:g}'")
    page.keyboard.press("PageDown")
    page.wait_for_selector("[data-figure=moving]:has-text('Drive over this passage')")
    page.keyboard.press("Control+z")
    until(page, lambda: 20.0 in envelope(page, "saturator", "Organ", "drive_db")["sections"].values())
    # Hard at the borders, then as points, which a lane shows.
    over_time(page, "drive_db")
    edited(page, lambda: page.select_option("[aria-label='Ramp between sections']", label="hard"))
    edited(page, lambda: page.click("dialog [data-act=points]"))
    assert len(envelope(page, "saturator", "Organ", "drive_db")["points"]) >= 3


def moved_to(page, point):
    """Where a point stands once a drag is stored; None before."""
    now = envelope(page, "trim", "Organ", "gain_db")["points"][1]
    return now if now != point else None


def test_an_envelope_is_drawn_dragged_typed_and_removed_by_mouse(page):
    add(page, "Organ", "trim")
    page.click("[data-act='over time']")
    option = page.locator("[aria-label='Show over time'] option", has_text="Organ, trim: Gain").inner_text()
    edited(page, lambda: page.select_option("[aria-label='Show over time']", label=option))
    box = lane(page)
    edited(page, lambda: page.mouse.click(box["x"] + 0.8 * box["width"], box["y"] + 0.75 * box["height"]))
    page.wait_for_selector("[data-point='2']")
    points = envelope(page, "trim", "Organ", "gain_db")["points"]
    assert [point["shape"] for point in points] == ["linear", "linear"] and points[1]["value"] < points[0]["value"] == 0.0
    beat = 60 / document(page)["tempo_bpm"]
    assert points[1]["at_s"] / beat == pytest.approx(round(points[1]["at_s"] / beat), abs=1e-6)  # it snaps
    # Dragged: many moves, one edit of the history.
    before = version(page)["revision"]
    handle = page.locator("[data-point='2']").bounding_box()
    page.mouse.move(handle["x"] + 6, handle["y"] + 6)
    page.mouse.down()
    page.mouse.move(handle["x"] - 60, handle["y"] - 20, steps=8)
    page.mouse.up()
    moved = until(page, lambda: moved_to(page, points[1]))
    assert moved["id"] == points[1]["id"] and moved["at_s"] < points[1]["at_s"] and moved["value"] > points[1]["value"]
    assert version(page)["revision"] > before
    saved(page)
    page.keyboard.press("Control+z")
    until(page, lambda: envelope(page, "trim", "Organ", "gain_db")["points"][1] == points[1])
    # Typed: place in bars, value with its unit, and a curve.
    page.click("[data-lane] [aria-label='Gain over time']")
    page.fill("[aria-label='Place of point 2']", "17.1")
    edited(page, lambda: page.keyboard.press("Enter"))
    page.fill("[aria-label='Value of point 2']", "-9")
    edited(page, lambda: page.keyboard.press("Enter"))
    edited(page, lambda: page.select_option("[aria-label='From point 1 to the next']", label="curved"))
    held = envelope(page, "trim", "Organ", "gain_db")["points"]
    assert held[1]["value"] == -9.0 and held[1]["at_s"] == pytest.approx(64 * beat) and held[0]["shape"] == "curve"
    page.fill("[aria-label='Value of point 2']", "hundreds")
    page.keyboard.press("Enter")
    page.wait_for_selector("dialog [role=status]:has-text('Type a number')")
    page.keyboard.press("Escape")
    # With the keyboard on the point itself.
    page.focus("[data-point='2']")
    edited(page, lambda: page.keyboard.press("ArrowUp"))
    assert envelope(page, "trim", "Organ", "gain_db")["points"][1]["value"] > -9.0
    page.focus("[data-point='2']")
    edited(page, lambda: page.keyboard.press("Delete"))
    assert len(envelope(page, "trim", "Organ", "gain_db")["points"]) == 1
    page.click("[data-lane] [aria-label='Close the lane of Gain']")
    page.wait_for_selector("[data-lane]", state="detached")


def test_a_stretch_is_chosen_moved_scaled_and_copied(page):
    add(page, "Organ", "trim")
    trim = step_of(page, "trim", "Organ")["id"]
    address = {"of": "step", "id": trim, "name": "gain_db"}
    points = [{"id": f"p{n}", "at_s": 30.0 + 2 * n, "value": -2.0 * n} for n in range(3)]
    number = page.url.rsplit("#/", 1)[1].split("/")[0]
    page.evaluate(
        """([id, edit]) => fetch(`/api/sessions/${id}/edits`, {method: 'POST', headers: {'Content-Type': 'application/json'},
        body: JSON.stringify({edit})})""",
        [number, {"op": "change_envelope", **address, "put_points": points}],
    )
    page.wait_for_selector(".plate.chosen .over")  # another tab's edit is shown
    page.click("[data-act='over time']")
    page.click("dialog [aria-label='Lane of Organ trim Gain']")
    page.keyboard.press("Escape")
    box = lane(page)
    length = version(page)["length_s"]
    at = lambda seconds: box["x"] + seconds / length * box["width"]  # noqa: E731
    page.keyboard.down("Shift")
    page.mouse.move(at(31.0), box["y"] + 60)
    page.mouse.down()
    page.mouse.move(at(36.0), box["y"] + 62, steps=5)
    page.mouse.up()
    page.keyboard.up("Shift")
    page.wait_for_selector("[data-lane] .range[aria-label^='Chosen stretch: 2 points']")
    page.focus("[data-lane] .range")
    edited(page, lambda: page.keyboard.press("ArrowUp"))
    held = envelope(page, "trim", "Organ", "gain_db")["points"]
    assert held[0]["value"] == 0.0 and held[1]["value"] - held[2]["value"] == pytest.approx(2.0) and held[1]["value"] > -2.0
    edited(page, lambda: page.click("[data-lane] .range >> text=wider"))
    wider = envelope(page, "trim", "Organ", "gain_db")["points"]
    assert wider[1]["value"] - wider[2]["value"] == pytest.approx(2.5)
    edited(page, lambda: page.click("[data-lane] .range >> text=copy"))
    assert len(envelope(page, "trim", "Organ", "gain_db")["points"]) == 5
    page.focus("[data-lane] .range")
    edited(page, lambda: page.keyboard.press("Delete"))
    # The stretch reached over the first of the copies, too.
    assert [point["id"] == "p0" for point in envelope(page, "trim", "Organ", "gain_db")["points"]] == [True, False]


def test_what_a_hand_does_while_it_plays_is_written_down_and_heard(page):
    """Armed, the trim is pulled down 30 dB while it plays: the page receives a softer sound at once, and after the release the
    envelope has the move, few points of it, as one edit."""
    add(page, "Organ", "trim")
    page.focus("nav.tree [aria-selected=true]")
    page.keyboard.press("s")
    over_time(page, "gain_db")
    page.click("dialog [data-act=record]")
    page.wait_for_selector(".rule .place:has-text('armed')")
    page.focus("nav.tree [aria-selected=true]")
    page.keyboard.press("Space")
    wait_heard(page, 40_000)
    loud = mean_energy(page, 1.0)
    before = version(page)["undo"]
    box = page.locator(SLIDER.format("gain_db")).bounding_box()
    wedge = page.locator(f"{SLIDER.format('gain_db')} .wedge").bounding_box()
    page.mouse.move(wedge["x"] + 4, box["y"] + 4)
    page.mouse.down()
    page.mouse.move(box["x"] + 4, box["y"] + 4, steps=12)
    wait_heard(page, heard(page) + 60_000)  # beyond whatever lead the machine's load has made
    soft = mean_energy(page, 0.5)
    assert soft < 0.05 * loud
    assert version(page)["undo"] == before  # nothing is stored while the hand is on it
    edited(page, page.mouse.up)
    held = envelope(page, "trim", "Organ", "gain_db")["points"]
    assert 3 <= len(held) <= 24 and min(point["value"] for point in held) < -20.0
    assert held[-1]["value"] == 0.0  # it has come back to what was there
    page.wait_for_selector("[data-lane] [data-point]")
    assert version(page)["undo"] == "Organ trim: Gain recorded"
    page.keyboard.press("Control+z")
    until(page, lambda: envelope(page, "trim", "Organ", "gain_db") is None)


def test_a_lever_over_three_settings_is_built_by_learning_and_heard(page):
    add(page, "Organ", "compressor")
    page.focus("nav.tree [aria-selected=true]")
    page.keyboard.press("s")
    edited(page, lambda: page.click("[data-act='add lever']"))
    page.fill("[aria-label='Name of the lever']", "Squash")
    edited(page, lambda: page.keyboard.press("Enter"))
    page.click("dialog [data-act=learn]")
    page.wait_for_selector(".learns:has-text('Squash is learning')")
    before = {name: setting(page, name) for name in ("threshold_db", "ratio", "makeup_db")}
    for name, text in (("threshold_db", "-50"), ("ratio", "10:1"), ("makeup_db", "-20")):
        edited(page, lambda name=name, text=text: type_setting(page, name, text))
    edited(page, lambda: page.click("[data-act='learn end']"))
    organ = next(strip for strip in document(page)["strips"] if strip["name"] == "Organ")
    lever = organ["path"]["levers"][0]
    assert lever["value"] == 1.0 and {target["name"] for target in lever["targets"]} == set(before)
    assert step_of(page, "compressor", "Organ")["settings"]["threshold_db"] == before["threshold_db"]
    # The rules show what the lever makes of them, and its range.
    page.wait_for_function(f"document.querySelector(\"{SLIDER.format('threshold_db')}\").ariaValueNow === '-50'")
    assert page.locator(".rule .range").count() == 3 and page.locator(".rule .place:has-text('Squash')").count() == 3
    page.focus("nav.tree [aria-selected=true]")
    page.keyboard.press("Space")
    wait_heard(page, 40_000)
    squashed = mean_energy(page, 1.0)
    page.focus(SLIDER.format("lever Squash"))
    edited(page, lambda: page.keyboard.press("Home"))
    page.wait_for_function(
        f"document.querySelector(\"{SLIDER.format('threshold_db')}\").ariaValueNow === '{before['threshold_db']:g}'"
    )
    sound_follows(page)
    assert mean_energy(page, 1.0) > 10 * squashed
    page.focus("nav.tree [aria-selected=true]")
    page.keyboard.press("Space")
    # Half way, moved by hand: the base moves and the lever keeps its share.
    page.focus(SLIDER.format("lever Squash"))
    edited(page, lambda: type_setting(page, "lever Squash", "50"))
    shown = setting(page, "threshold_db")
    edited(page, lambda: type_setting(page, "threshold_db", f"{shown + 4:g}"))
    base = step_of(page, "compressor", "Organ")["settings"]["threshold_db"]
    assert base == pytest.approx(before["threshold_db"] + 4, abs=0.2)
    # Its table: ends typed.
    page.click("[aria-label='Settings of the lever Squash']")
    page.fill("tr[data-row=Ratio] [aria-label='Ratio at 100 %']", "5:1")
    edited(page, lambda: page.keyboard.press("Enter"))
    organ = next(strip for strip in document(page)["strips"] if strip["name"] == "Organ")
    ratio = next(target for target in organ["path"]["levers"][0]["targets"] if target["name"] == "ratio")
    assert ratio["by"] == pytest.approx(5 / before["ratio"], rel=1e-3)


def test_two_tabs_that_draw_the_same_envelope_lose_nothing(page):
    add(page, "Organ", "trim")
    over_time(page, "gain_db")
    edited(page, lambda: page.click("dialog [data-act=draw]"))
    other = page.context.new_page()
    other.goto(page.url)
    other.wait_for_selector("[data-figure=matched_db]")
    other.click("nav.tree >> text='Organ'")
    other.wait_for_selector(".path[aria-label='Path of Organ']")
    other.click("[data-act='over time']")
    other.click("dialog [aria-label='Lane of Organ trim Gain']")
    other.keyboard.press("Escape")
    for number, (tab, share) in enumerate(((page, 0.2), (other, 0.3), (page, 0.5), (other, 0.7), (page, 0.9))):
        box = lane(tab)
        tab.mouse.click(box["x"] + share * box["width"], box["y"] + 50 - 4 * number)
    for tab in (page, other):
        tab.wait_for_selector("[data-point='6']")
        saved(tab)
    assert len(envelope(page, "trim", "Organ", "gain_db")["points"]) == 6
    other.close()


def test_everything_that_moves_is_listed_and_switched_off(page):
    """The demo's own: the lever in the bridge, the clipper in the last chorus."""
    page.keyboard.press("y")
    rows = page.locator("dialog tbody tr")
    page.wait_for_selector("dialog tr[data-row='Drums Bite']")
    assert rows.count() >= 5  # the clipper's drive, the lever, and the three it moves
    edited(page, lambda: page.click("dialog [data-act='all off']"))
    page.wait_for_selector("dialog tr[data-row='Parallel drums clipper Drive']:has-text('(off)')")
    assert document(page)["envelopes_off"] is True
    page.keyboard.press("Escape")
    page.click("nav.tree >> text='Drums'")
    page.wait_for_selector("[data-lever=Bite]")
    # The lever stands still now, and the settings it moves show their range.
    assert not [one for one in version(page)["moving"] if one["times_s"]]
    page.click(".path .plate >> text=Saturator")
    page.wait_for_selector(".rule .place:has-text('Bite')")


def test_ready_made_with_a_lever_brings_it_along(page):
    page.click("nav.tree >> text='Lead voice'")
    page.wait_for_selector(".path[aria-label='Path of Lead voice']")
    page.click("text=Ready-made") if page.locator("button:has-text('Ready-made')").count() else None
    page.click(".plate.strip button")
    page.click("button:has-text('Ready-made')")
    edited(page, lambda: page.dblclick("dialog >> text=voice forward"))
    page.wait_for_selector("[data-lever=Forward]")
    voice = next(strip for strip in document(page)["strips"] if strip["name"] == "Lead voice")
    ids = {step["id"] for step in voice["path"]["steps"]}
    lever = next(one for one in voice["path"]["levers"] if one["name"] == "Forward")
    assert len(lever["targets"]) == 5 and {target["id"] for target in lever["targets"]} <= ids


def test_one_dry_wet_control_for_several_steps_and_a_lever_for_all_strips(page):
    page.click("nav.tree >> text='Drums'")
    page.wait_for_selector(".path[aria-label='Path of Drums']")
    page.click(".path .plate >> text=Compressor")
    page.click(".path .plate >> text=Saturator", modifiers=["Shift"])
    edited(page, lambda: page.click("[data-act='dry/wet']"))
    drums = next(strip for strip in document(page)["strips"] if strip["name"] == "Drums")
    lever = next(one for one in drums["path"]["levers"] if one["name"] == "Dry/wet")
    assert lever["value"] == 1.0 and [target["by"] for target in lever["targets"]] == [1.0, 1.0]
    assert [step["settings"]["mix"] for step in drums["path"]["steps"]] == [0.0, 0.0]
    moved = {(one["id"], one["name"]): one["still"] for one in version(page)["moving"]}
    assert [moved[step["id"], "mix"] for step in drums["path"]["steps"]] == [1.0, 1.0]
    # One for all strips, over a setting of another strip; it stands beside every strip's own.
    page.keyboard.press("Escape")
    page.keyboard.press("y")
    edited(page, lambda: page.click("dialog [data-act='session lever']"))
    page.wait_for_selector("dialog[aria-label=Lever]")
    options = page.locator("[aria-label='Add a setting'] option").all_inner_texts()
    assert any(text.startswith("Organ: Level") for text in options) and any("lever Bite" in text for text in options)
    label = next(text for text in options if text.startswith("Organ: Level"))
    edited(page, lambda: page.select_option("[aria-label='Add a setting']", label=label))
    page.fill("[aria-label='Level at 100 %']", "-30")
    edited(page, lambda: page.keyboard.press("Enter"))
    page.keyboard.press("Escape")
    page.click("nav.tree >> text='Bass'")
    page.wait_for_selector("[data-lever=Lever]")
    assert document(page)["levers"][0]["targets"][0]["by"] == pytest.approx(-21.0)
