"""Comparing versions: slots by mouse and by keys, equally loud, heard at once, undone."""

import csv
import io
import json

import pytest

from tests.browser.conftest import measured, saved, version
from tests.browser.test_own_material import document
from tests.browser.test_page import mean_energy, setting, sound_follows, wait_heard
from tests.browser.test_steps import add, type_setting

THRESHOLD = "[role=slider][data-setting=threshold_db]"


def on(page):
    return page.locator(".slots [aria-pressed=true]").all_inner_texts()


def snare(page):
    page.click("nav.tree >> text='Snare'")
    page.click(".path .plate >> text=Compressor")
    page.wait_for_selector(THRESHOLD)


def test_two_slots_by_keys_alone_are_switched_matched_and_undone(page):
    snare(page)
    before = setting(page, "threshold_db")
    page.keyboard.press("Shift+Digit1")
    page.wait_for_selector("[data-slot='1'][aria-pressed=true]")
    type_setting(page, "threshold_db", "-36")
    page.keyboard.press("Shift+Digit2")
    page.wait_for_selector("[data-slot='2'][aria-pressed=true]")
    # While slots are in use a digit switches, also with a setting focused.
    page.focus(THRESHOLD)
    page.keyboard.press("1")
    page.wait_for_function(f"document.querySelector('{THRESHOLD}').ariaValueNow === '{before:g}'")
    assert on(page) == ["1"] and page.locator(".plate.chosen .slot").inner_text() == "1"
    # What differs is marked, and listed.
    page.wait_for_selector(".rule .differs:has-text('Threshold')")
    assert page.locator(".rule .differs, .choice .differs").count() == 1
    page.wait_for_selector("[data-figure=slot_gain]")
    page.keyboard.press("2")
    page.wait_for_function(f"document.querySelector('{THRESHOLD}').ariaValueNow === '-36'")
    page.wait_for_function("Number(document.querySelector('[data-figure=slot_gain]').dataset.slotGain) > 1")
    page.keyboard.press("3")
    page.wait_for_selector("text=Slot 3 is empty; press Shift+3")
    page.keyboard.press("Control+z")
    page.wait_for_function(f"document.querySelector('{THRESHOLD}').ariaValueNow === '{before:g}'")
    page.reload()
    page.wait_for_selector("[data-slot='1'][aria-pressed=true]")
    assert page.locator(".slots .empty").count() == 2


def test_slots_with_the_mouse_alone_a_value_taken_over_and_a_slot_cleared(page):
    snare(page)
    page.click("[data-slot='1']")
    page.wait_for_selector("[data-slot='1'][aria-pressed=true]")
    box = page.locator(THRESHOLD).bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.7, box["y"] + 4)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.4, box["y"] + 4, steps=5)
    page.mouse.up()
    saved(page)
    lower = setting(page, "threshold_db")
    # What was changed is marked until it is stored or another slot is on.
    page.wait_for_selector(".slots i")
    page.click("[data-slot='2']")
    page.wait_for_selector("[data-slot='2'][aria-pressed=true]")
    page.click("[data-act='compare slots']")
    page.wait_for_selector("dialog tr[data-row=Threshold]")
    page.click("dialog [aria-label='Listen to slot 1']")
    page.wait_for_function(f"Number(document.querySelector('{THRESHOLD}').ariaValueNow) > {lower}")
    page.click("dialog [aria-label^='Take over Threshold']")
    page.wait_for_selector("dialog >> text=All slots are the same.")
    page.click("dialog [aria-label='Clear slot 2']")
    page.wait_for_selector("[data-slot='2'].empty", state="attached")
    page.click("dialog >> text=Close")
    assert setting(page, "threshold_db") == lower and on(page)[0].startswith("1")


def test_a_switch_is_heard_at_the_same_loudness_unless_matched_is_off(page):
    """Energy of what the page received: a slot 12 dB softer sounds as loud while matched is on."""
    page.click("nav.tree >> text='Organ'")
    page.wait_for_selector(".path[aria-label='Path of Organ']")
    page.keyboard.press("a")
    page.keyboard.type("trim")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('Trim')")
    page.keyboard.press("Shift+Digit1")
    page.wait_for_selector("[data-slot='1'][aria-pressed=true]")
    type_setting(page, "gain_db", "-12")
    page.keyboard.press("Shift+Digit2")
    page.wait_for_function("Math.abs(Number(document.querySelector('[data-figure=slot_gain]')?.dataset.slotGain) - 12) < 0.1")
    page.focus("nav.tree [aria-selected=true]")
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 60_000)
    second = mean_energy(page, 2.0)
    page.keyboard.press("1")
    page.wait_for_selector("[data-slot='1'][aria-pressed=true]")
    sound_follows(page)
    first = mean_energy(page, 2.0)
    page.keyboard.press("e")
    page.keyboard.press("2")
    page.wait_for_selector("[data-slot='2'][aria-pressed=true]")
    sound_follows(page)
    unmatched = mean_energy(page, 2.0)
    assert second == pytest.approx(first, rel=0.5)
    assert unmatched < 0.2 * first
    page.keyboard.press("Space")


def test_starting_points_are_heard_under_the_cursor_matched_and_given_back_by_escape(page):
    """Keys alone, while it plays: nothing is edited until Enter."""
    page.click("nav.tree >> text='Organ'")
    page.wait_for_selector(".path[aria-label='Path of Organ']")
    page.keyboard.press("a")
    page.keyboard.type("compr")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('Compressor')")
    saved(page)
    page.focus("nav.tree [aria-selected=true]")
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 60_000)
    plain = mean_energy(page, 2.0)
    revision = page.get_attribute("aside.ledger", "data-revision")
    page.focus("text=Starting points")
    page.keyboard.press("Enter")
    page.wait_for_selector("dialog")
    before = setting(page, "threshold_db")
    for _ in range(2):
        page.keyboard.press("ArrowDown")
    page.wait_for_function("/matched/.test(document.querySelector('[data-figure=tried]').textContent)")
    sound_follows(page)
    assert mean_energy(page, 2.0) == pytest.approx(plain, rel=0.6)
    page.keyboard.press("Escape")
    page.wait_for_selector("dialog", state="detached")
    assert setting(page, "threshold_db") == before
    assert page.get_attribute("aside.ledger", "data-revision") == revision
    sound_follows(page)
    assert mean_energy(page, 2.0) == pytest.approx(plain, rel=0.6)
    # With playback stopped it begins with the first that is tried; Space stops and plays and keeps nothing.
    page.keyboard.press("Space")
    page.wait_for_selector("footer.transport .play[aria-label=Play]")
    page.focus("text=Starting points")
    page.keyboard.press("Enter")
    page.wait_for_selector("dialog")
    page.keyboard.press("ArrowDown")
    page.wait_for_selector("footer.transport .play[aria-label=Stop]")
    page.keyboard.press("Space")
    page.wait_for_selector("footer.transport .play[aria-label=Play]")
    assert page.get_attribute("aside.ledger", "data-revision") == revision
    page.keyboard.press("Space")
    page.wait_for_selector("footer.transport .play[aria-label=Stop]")
    page.keyboard.press("Escape")
    page.wait_for_selector("dialog", state="detached")
    # Enter keeps it, as one edit.
    page.focus("text=Starting points")
    page.keyboard.press("Enter")
    page.wait_for_selector("dialog")
    page.keyboard.press("ArrowDown")
    # The threshold is found for this passage: 6 dB of GR, and then the make-up that keeps the loudness.
    page.wait_for_function("/GR, max 6.0 dB.*matched by/.test(document.querySelector('[data-figure=tried]').textContent)")
    assert "Threshold (GR, max 6 dB), Make-up gain (Loudness change 0 LU)" in page.inner_text("dialog [data-start]:focus")
    page.keyboard.press("Enter")
    page.wait_for_selector("dialog", state="detached")
    saved(page)
    page.wait_for_function(f"document.querySelector('aside.ledger').dataset.revision === '{int(revision) + 1}'")
    page.wait_for_function("Math.abs(parseFloat(document.querySelector('[data-figure=largest_db]')?.textContent) - 6) < 0.15")
    page.keyboard.press("Control+z")
    page.wait_for_function(f"document.querySelector('[data-setting=threshold_db]').ariaValueNow === '{before:g}'")
    page.keyboard.press("Space")


def test_the_history_names_edits_goes_back_and_fills_a_slot(page):
    snare(page)
    before = setting(page, "threshold_db")
    type_setting(page, "threshold_db", "-31")
    type_setting(page, "ratio", "9")
    saved(page)
    page.keyboard.press("h")
    page.wait_for_selector("dialog [data-position='2']")
    texts = page.locator("dialog .edit").all_inner_texts()
    assert texts[0].startswith("Snare compressor: Ratio") and texts[0].endswith("to 9:1")
    assert texts[1] == f"Snare compressor: Threshold {before:g} to -31 dB" and texts[-1] == "Beginning"
    page.click("dialog [data-position='0']")
    page.wait_for_function(f"document.querySelector('{THRESHOLD}').ariaValueNow === '{before:g}'")
    page.wait_for_selector("dialog [data-position='0'][aria-current]")
    page.click("dialog [data-position='2']")
    page.wait_for_selector("dialog [data-position='2'][aria-current]")
    # What the compressor was at the first edit, into slot 2; what is heard is in slot 1.
    page.click("dialog li:has([data-position='1']) [aria-label$='slot 2']")
    page.wait_for_selector("[data-slot='1'][aria-pressed=true]", state="attached")
    page.keyboard.press("Escape")
    page.focus("nav.tree [aria-selected=true]")
    page.keyboard.press("2")
    page.wait_for_function("document.querySelector('[data-setting=ratio]').ariaValueNow !== '9'")
    assert setting(page, "threshold_db") == -31
    page.click("header >> text=Undo")
    page.wait_for_selector("text=Undone: Snare compressor: slot 2")


# ---- contrast --------------------------------------------------------------------------------------------------------


def shown_figure(page, name):
    return float(page.inner_text(f"[data-figure={name}]"))


def measured_anew(page):
    measured(page, "[aria-label=Contrast]")


def test_contrast_by_mouse_an_edit_is_followed_and_a_wish_that_is_broken_is_said(page):
    page.click("nav.tree >> text='Main'")
    page.click("nav[aria-label=Views] >> text=Contrast")
    measured_anew(page)
    before = shown_figure(page, "contrast_after")
    assert page.locator("[data-table=sections] tbody tr").count() == 5
    # A compressor on the main takes the chorus down: the picture follows.
    page.click("nav[aria-label=Views] >> text=Shape")
    add(page, "Main", "compressor")
    type_setting(page, "threshold_db", "-50")
    type_setting(page, "ratio", "10")
    page.click("nav[aria-label=Views] >> text=Contrast")
    measured_anew(page)
    assert shown_figure(page, "contrast_after") < before - 3
    lost = page.inner_text("[data-row=Chorus] [data-figure=lost]")
    assert float(lost) > 2
    # The wish is dragged in the picture, kept with the session, and the ledger says that it is broken.
    type_setting(page, "keep_contrast_lu", "6")
    handle = page.locator("[data-picture=wish]").bounding_box()
    page.mouse.move(handle["x"] + 200, handle["y"] + 6)
    page.mouse.down()
    page.mouse.move(handle["x"] + 200, handle["y"] + 46, steps=4)
    page.mouse.up()
    saved(page)
    wish = document(page)["keep_contrast_lu"]
    assert wish > 7 and (wish * 2) % 1 == 0
    page.click("nav.tree >> text='Main'")
    page.wait_for_selector("[aria-label=Contrast] [data-hint='contrast wish']")
    page.click("nav[aria-label=Views] >> text=Shape")
    page.wait_for_selector(".ledger [data-hint='contrast wish']")
    # A section of the table is the passage.
    page.click("nav[aria-label=Views] >> text=Contrast")
    page.click("[data-row=Bridge] button")
    assert "Bridge" in page.inner_text("footer.transport")


def test_contrast_by_keys_several_strips_in_one_table_and_its_files(page):
    page.click("nav.tree >> text='Snare'")
    for _ in range(2):
        page.keyboard.press("v")
    page.wait_for_function("location.hash.endsWith('/contrast')")
    # It opens on the main, and the other views go on with what was chosen there.
    page.wait_for_selector("nav.tree [role=treeitem].chosen[aria-label=Main]")
    page.keyboard.press("Shift+V")
    page.wait_for_function("location.hash.endsWith('/map')")
    assert (
        page.evaluate("JSON.parse(Object.entries(localStorage).find(([k]) => k.startsWith('saltanvil.view.'))[1]).strip")
        == "snare"
    )
    page.keyboard.press("v")
    page.click("nav.tree >> text='Drums'")
    page.click("nav.tree >> text='Band'", modifiers=["Control"])
    page.focus("[role=radiogroup][aria-label=Table] [aria-checked=true]")
    page.keyboard.press("Tab")
    page.keyboard.press("Shift+Tab")
    page.keyboard.press("ArrowRight")
    page.wait_for_selector("[data-table=strips] [data-row=Band]")
    measured_anew(page)
    assert page.locator("[data-table=strips] tbody tr").evaluate_all("rows => rows.map((row) => row.dataset.row)") == [
        "Band", "Drums",
    ]  # fmt: skip
    with page.expect_download() as told:
        page.click("[aria-label=Contrast] >> text=CSV")
    rows = list(csv.DictReader(io.StringIO(told.value.path().read_text())))
    assert {row["scope"] for row in rows} == {"Drums", "Band"} and len(rows) == 10
    with page.expect_download() as told:
        page.click("[aria-label=Contrast] >> text=PNG")
    assert told.value.path().read_bytes().startswith(b"\x89PNG")
    with page.expect_download() as told:
        page.click("[aria-label=Contrast] >> text=JSON")
    assert len(json.loads(told.value.path().read_text())["rows"]) == 2


def test_a_contrast_is_called_off_and_measured_when_it_is_asked_for(page):
    page.click("nav.tree >> text='Main'")
    page.click("nav[aria-label=Views] >> text=Contrast")
    measured_anew(page)
    page.route("**/studies/contrast", lambda route: None)  # a study that takes for ever
    page.click("nav.tree >> text='Drums'")
    page.click("[aria-label=Contrast] >> text=Cancel")
    state = page.locator("[data-figure=contrast_state]")
    page.wait_for_function("document.querySelector('[data-figure=contrast_state]').textContent === 'out of date'")
    assert page.get_attribute("[aria-label=Contrast]", "aria-busy") == "true"
    assert not page.locator(".notices .error").count()  # called off is no failure
    page.unroute("**/studies/contrast")
    page.click("[aria-label=Contrast] >> text=Measure")
    measured_anew(page)
    assert state.inner_text() == "measured" and page.inner_text("[aria-label=Contrast] h2").startswith("Drums")
    assert not page.locator("[aria-label=Contrast] header button").count()


# ---- blind comparison ------------------------------------------------------------------------------------------------


def test_a_blind_test_of_five_rounds_by_keys_alone(page):
    snare(page)
    page.keyboard.press("t")
    page.wait_for_selector("[data-act='start blind']:focus")
    page.keyboard.press("Enter")
    page.wait_for_selector("[data-figure=round]:has-text('Round 1 of 5')")
    page.wait_for_selector("footer.transport .play[aria-label*=Stop], footer.transport button[title*=Stop]", state="attached")
    # Nothing of the page is seen behind the dialog: neither meters nor pictures.
    assert page.evaluate("getComputedStyle(document.querySelector('dialog'), '::backdrop').backgroundColor") == page.evaluate(
        "getComputedStyle(document.body).backgroundColor"
    )
    for number in range(5):
        page.wait_for_selector(f"[data-figure=round]:has-text('Round {number + 1} of 5')")
        for letter in ("y", "x"):
            page.keyboard.press(letter)
            page.wait_for_selector(f"[data-letter={letter.upper()}][aria-pressed=true]")
        page.keyboard.press("Enter")
    page.wait_for_selector("[aria-label=Result][data-rounds='5']")
    answer = page.evaluate(f"fetch('/api/sessions/{page.url.split('/')[-2]}/blind').then((answer) => answer.json())")
    assert not answer["set_aside"] and len(answer["results"]) == 1
    kept = answer["results"][0]
    assert sum(kept["counts"]) == 5 and kept["candidates"] == ["Before", "After"]
    # X was preferred each time: the counts are how often each stood behind it.
    assert kept["counts"][0] == sum(one["order"][0] == 0 for one in kept["rounds"])
    assert page.inner_text(".verdict") == kept["verdict"]
    page.keyboard.press("Escape")
    page.wait_for_selector("dialog", state="detached")


def test_can_i_hear_it_by_mouse_broken_off_kept_and_written(page):
    snare(page)
    page.click("[data-slot='1']")
    page.wait_for_selector("[data-slot='1'][aria-pressed=true]")
    type_setting(page, "threshold_db", "-40")
    page.click("[data-slot='2']")
    page.wait_for_selector("[data-slot='2'][aria-pressed=true]")
    page.click("[data-act=blind]")
    page.wait_for_selector("[data-act='start blind']")
    assert page.locator("dialog input:checked").evaluate_all("all => all.map((one) => one.value)") == ["Slot 1", "Slot 2"]
    page.click("dialog [role=radio]:has-text('Can I hear it')")
    page.check("dialog input[value=Before]")
    page.wait_for_selector("text=Choose exactly two")
    page.uncheck("dialog input[value=Before]")
    page.click("[data-act='start blind']")
    page.wait_for_selector("[data-letter='1']")
    for letter in ("1", "2", "X"):
        page.click(f"[data-letter='{letter}']")
        page.wait_for_selector(f"[data-letter='{letter}'][aria-pressed=true]")
    for number in range(5):
        page.wait_for_selector(f"text=Round {number + 1} of 10")
        page.click("[data-answer='2']")
    page.wait_for_selector("text=Round 6 of 10")
    # A press of a page shortcut does nothing here, and a press beside the dialog neither.
    page.keyboard.press("b")
    page.mouse.click(20, 700)
    page.click("[data-act='break off']")
    page.wait_for_selector("[aria-label=Result][data-rounds='5']")
    assert "of 5 right" in page.inner_text(".verdict")
    with page.expect_download() as told:
        page.click("dialog >> text=Write CSV")
    assert '"' not in told.value.path().read_text() and "hear,5,Slot 1" in told.value.path().read_text()
    assert page.locator(".path .bypassed").count() == 0


# ---- aim --------------------------------------------------------------------------------------------------------------------


def test_a_clipper_is_aimed_at_six_decibels_by_keys_alone_and_undone_as_one(page):
    add(page, "Snare", "clipper")
    before = setting(page, "ceiling_db")
    page.keyboard.press("i")
    page.wait_for_selector("dialog select[aria-label=Figure]:focus")
    # What it is now, as the ledger has it.
    page.wait_for_selector("dialog [data-figure=aim_now]:has-text('now ')")
    measured(page)
    shown = page.text_content("dialog [data-figure=aim_now]").split()[1]
    assert shown == page.text_content("[data-figure=peaks_down_db]").split()[0]
    page.keyboard.press("Tab")
    page.keyboard.press("Control+a")
    page.keyboard.type("6")
    page.keyboard.press("Enter")
    page.wait_for_selector("dialog", state="detached")
    page.wait_for_selector("text=/Peaks down by 6.0 dB: Ceiling .* renders?\\./")
    # The ledger measures for itself.
    page.wait_for_function("document.querySelector('[data-figure=peaks_down_db]')?.textContent.trim() === '6.0 dB'")
    assert setting(page, "ceiling_db") != before
    page.keyboard.press("Control+z")
    page.wait_for_function(f"document.querySelector('[role=slider][data-setting=ceiling_db]').ariaValueNow === '{before:g}'")


def test_an_aim_that_cannot_be_reached_changes_nothing_and_a_strip_is_aimed_by_mouse(page):
    snare(page)
    revision = version(page)["revision"]
    page.click("[data-act=aim]")
    page.select_option("dialog [aria-label=By]", "ratio")
    page.fill("dialog [aria-label=Target]", "40")
    page.click("[data-act=find]")
    page.wait_for_selector("dialog [data-figure=aim_refused]:has-text('Try Threshold')")
    assert version(page)["revision"] == revision
    page.click("dialog >> text=Close")
    add(page, "Snare", "clipper")
    page.click("[data-act=aim]")
    page.fill("dialog [aria-label=Target]", "6")
    page.click("[data-act=find]")
    page.wait_for_selector("text=/Peaks down by 6.0 dB: Ceiling/")
    revision = version(page)["revision"]
    page.click(".path .plate.strip button, .path .plate:has-text('trim') button")
    page.click("[data-act=aim]")
    page.select_option("dialog [aria-label=Figure]", "loudness_lufs")
    page.fill("dialog [aria-label=Target]", "-30")
    page.click("[data-act=find]")
    page.wait_for_selector("text=/Integrated loudness -30.0 LUFS: Level/")
    assert version(page)["revision"] == revision + 1
    page.click("text=Undo >> nth=-1")
    saved(page)
