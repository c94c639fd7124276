"""Keys, sends and the map through the real page: drawn with the mouse, chosen by menu and by keys, heard, undone."""

import json

import pytest

from tests.browser.conftest import saved, version
from tests.browser.test_page import figure, heard, mean_energy, setting, sound_follows, type_setting, wait_figure, wait_heard
from tests.browser.test_splits import plates, strip


def to_map(page):
    page.click("nav[aria-label=Views] >> text=Map")
    page.wait_for_selector("[data-plate=main]")


def to_shape(page):
    page.click("nav[aria-label=Views] >> text=Shape")
    page.wait_for_selector(".editor")


def middle(page, selector):
    box = page.locator(selector).bounding_box()
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def draw(page, source, target):
    """Drag from the edge of one plate to another."""
    page.mouse.move(*middle(page, f"[data-port={source}]"))
    page.mouse.down()
    x, y = middle(page, f"[data-plate={target}] .face")
    page.mouse.move(x - 30, y - 10)
    page.mouse.move(x, y)
    page.mouse.up()
    page.wait_for_selector("[role=menu]")


def line(page, name):
    return page.locator(f"[data-line='{name}']")


def edited(page):
    """Wait until the last edit is kept."""
    page.wait_for_timeout(50)  # for the press to have been taken
    saved(page)


@pytest.fixture
def playing(page):
    def play():
        if page.locator("button[aria-label=Stop]").count() == 0:
            page.keyboard.press("Space")
        wait_heard(page, 20_000)

    return play


def test_ducking_is_built_by_dragging_on_the_map_heard_and_undone(page, playing):
    to_map(page)
    # The organ makes way for the voice: drawn as a line, which makes the ducker.
    draw(page, "lead-voice", "organ")
    page.click("[role=menuitem]:has-text('A ducker on Organ')")
    edited(page)
    keyed = page.locator(".line.key[aria-label^='Lead voice is the key of the ducker on Organ']")
    keyed.wait_for()
    step_id = keyed.get_attribute("data-line").removeprefix("key ")
    playing()
    page.wait_for_function(f"Number(document.querySelector('[data-line=\"key {step_id}\"]').dataset.level) > -60")
    keyed.focus()
    page.keyboard.press("Enter")
    page.click("text=Edit the ducker")
    page.wait_for_selector(".editor h2:has-text('Ducker')")
    type_setting(page, "depth_db", "12")
    type_setting(page, "threshold_db", "-45")
    assert wait_figure(page, "largest_db", lambda value: value > 11.9) == pytest.approx(12.0, abs=0.1)
    assert wait_figure(page, "active_share", lambda value: value > 30) > 30
    # What the detector hears is the voice: louder than the organ's own part.
    organ = mean_energy(page, 1.5)
    page.keyboard.press("g")
    page.wait_for_selector("[role=radio][aria-checked=true]:has-text('Key')")
    sound_follows(page)
    voice = mean_energy(page, 1.5)
    assert voice > 0 and abs(voice - organ) > 0.05 * max(voice, organ)
    page.keyboard.press("x")
    # The source goes: it is said what it keyed, and undo gives the key back.
    strip(page, "Lead voice")
    page.click(".path .plate[data-step=strip]")
    page.click("text=Remove strip")
    page.wait_for_selector("[role=status]:has-text('Lead voice was the key of the ducker on Organ')")
    strip(page, "Organ")
    # Without a key it does nothing, and says so on its plate, beside the key and in the ledger.
    page.wait_for_selector(".path .plate:has-text('no key')")
    page.wait_for_selector("[data-figure='no key']")
    page.wait_for_selector(".hint:has-text('No key is chosen')")
    page.click("[role=status]:has-text('was the key') button:has-text('Undo')")
    page.wait_for_selector("[data-strip=lead-voice]")
    strip(page, "Organ")
    page.wait_for_selector("[data-setting=key]:has-text('Lead voice: after its path')")


def choose_key(page, words):
    page.click("[data-setting=key]")
    page.fill("dialog [aria-label='Search the keys']", words)
    page.keyboard.press("Enter")
    page.wait_for_selector("dialog", state="detached")


def test_the_key_menu_takes_strips_steps_and_lanes_and_refuses_loops_by_name(page):
    strip(page, "Guitar left")
    page.keyboard.press("a")
    page.keyboard.type("gate")
    page.keyboard.press("Enter")
    page.wait_for_selector("[data-setting=key]")
    choose_key(page, "kick after its")
    edited(page)
    wait_figure(page, "openings", lambda value: value > 0)
    type_setting(page, "key_trim_db", "-60")
    page.wait_for_selector(".hint:has-text('The key, Kick, reaches')")
    type_setting(page, "key_trim_db", "0")
    page.select_option("[data-setting=key_filter]", "high-pass")
    type_setting(page, "key_low_hz", "20000")
    type_setting(page, "threshold_db", "-20")
    page.wait_for_selector(".hint:has-text('behind its filter'):has-text('the threshold is at -20.0 dB')")
    choose_key(page, "snare compressor")
    edited(page)
    page.wait_for_selector("[data-setting=key]:has-text('Snare: after compressor')")
    # A loop: the band, which this guitar feeds, as its key. It is grey, says why, and neither Enter nor a press takes it.
    page.click("[data-setting=key]")
    page.fill("dialog [aria-label='Search the keys']", "band its path")
    band = page.locator("dialog button:has-text('after its path')").first
    assert band.get_attribute("aria-disabled") == "true" and "a loop: the gate feeds it" in band.inner_text()
    revision = version(page)["revision"]
    band.click(force=True)
    page.keyboard.press("Escape")
    page.wait_for_selector("dialog", state="detached")
    # Walking through the list is no edit.
    page.click("[data-setting=key]")
    for _ in range(4):
        page.keyboard.press("ArrowDown")
    page.keyboard.press("Escape")
    page.wait_for_selector("dialog", state="detached")
    assert version(page)["revision"] == revision


def test_sends_are_drawn_set_muted_and_explained(page, playing):
    to_map(page)
    playing()
    draw(page, "bass", "voices")
    page.click("[role=menuitem]:has-text('Send, before the level')")
    edited(page)
    send = page.locator(".line.send[aria-label^='Bass sends to Voices']")
    send.wait_for()
    name = send.get_attribute("data-line")
    page.wait_for_function(f"Number(document.querySelector('[data-line=\"{name}\"]').dataset.level) > -50")
    send.focus()
    page.keyboard.press("Enter")
    type_setting(page, "send_level_db", "-3")
    page.wait_for_selector(".line.send[aria-label*='-3.0 dB, before']")
    page.select_option("select[aria-label='Pre/post']", "post")
    page.wait_for_selector(".line.send[aria-label*='after its level']")
    page.check("aside label:has-text('Mute') input")
    page.wait_for_selector(".line.send.silent[aria-label*='The send is muted']")
    page.wait_for_function(f"Number(document.querySelector('[data-line=\"{name}\"]').dataset.level) <= -100")
    page.locator(f"[data-line='{name}']").focus()
    page.keyboard.press("Delete")
    edited(page)
    assert line(page, name).count() == 0
    page.keyboard.press("Control+z")
    line(page, name).wait_for()
    # A muted bus makes what feeds it pale, and says why.
    to_shape(page)
    page.click("[aria-label='Mute Voices']")
    edited(page)
    to_map(page)
    pale = page.locator("[data-plate=backing-voices].silent")
    pale.wait_for()
    assert "Voices, on its way to the main, is silent: Muted." in pale.get_attribute("aria-label")
    # Outputs can be taken away and drawn again.
    page.locator("[data-line='output organ']").focus()
    page.keyboard.press("Delete")
    page.wait_for_selector("[data-plate=organ][aria-label*='It feeds nothing']")
    draw(page, "organ", "drums")
    page.click("[role=menuitem]:has-text('Output')")
    page.wait_for_selector(".line.output[aria-label='Organ feeds Drums']")


def test_the_map_by_keyboard_zoomed_and_fitted(page):
    page.keyboard.press("v")
    page.wait_for_selector("[data-plate=main]")
    page.click("[data-plate=kick] .name", force=True)
    page.locator("#plate-kick").focus()
    page.keyboard.press("ArrowDown")
    assert page.evaluate("document.activeElement.dataset.plate") == "snare"
    page.keyboard.press("k")
    prompt = page.locator(".prompt")
    prompt.wait_for()
    for _ in range(12):
        if "Snare to Bass" in prompt.inner_text():
            break
        page.keyboard.press("ArrowDown" if "Parallel" in prompt.inner_text() else "ArrowLeft")
    assert "Snare to Bass" in prompt.inner_text()
    page.keyboard.press("Enter")
    page.wait_for_selector("[role=menu]")
    labels = page.locator("[role=menuitem]").all_inner_texts()
    assert labels == [
        "Key of the resonance tamer", "Key of the compressor", "Key of the ducker", "A ducker on Bass, with this key",
    ]  # fmt: skip
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    edited(page)
    page.wait_for_selector(".line.key[aria-label='Snare is the key of the compressor on Bass']")
    width = lambda: page.locator("[data-plate=kick] .face").bounding_box()["width"]  # noqa: E731
    before = width()
    page.locator("#plate-kick").focus()
    page.keyboard.press("+")
    assert width() == pytest.approx(1.2 * before, rel=0.05)
    page.keyboard.press("0")
    assert width() == pytest.approx(before, rel=0.03)
    page.mouse.move(*middle(page, "[data-plate=bass] .face"))
    page.mouse.wheel(0, -240)
    page.wait_for_timeout(200)
    assert width() > before
    page.click("text=Fit")
    page.locator("#plate-bass").focus()
    page.keyboard.press("Enter")
    page.wait_for_selector(".path[aria-label='Path of Bass']")
    assert plates(page) == ["Resonance tamer", "Low-end harmonics", "Compressor", "Ducker"]


def test_latency_is_told_and_low_latency_is_for_listening(page, playing):
    strip(page, "Main")
    page.click(".path .plate:has-text('Limiter') button")
    page.wait_for_selector("button[aria-label='Latency 10.0 ms']")
    playing()
    page.click("button[aria-label^=Latency]")
    causes = page.locator("dialog[aria-label=Latency]")
    assert "Drums: saturator" in causes.inner_text() and "Main: limiter" in causes.inner_text()
    page.check("dialog label:has-text('Low latency') input")
    page.wait_for_selector("button[aria-label='Latency 0.5 ms']")
    assert "An export has them all" in causes.inner_text()
    page.uncheck("dialog label:has-text('Low latency') input")
    page.wait_for_selector("button[aria-label='Latency 10.0 ms']")
    page.mouse.click(600, 20)
    page.click(".editor button[title^='Low latency']")
    page.wait_for_selector("button[aria-label='Latency 4.6 ms']")
    wait_heard(page, heard(page) + 20_000)


def test_both_demo_sessions_play_on_the_first_start(page_alone):
    page = page_alone
    assert page.locator("button.session").inner_text() == "Low Water"
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    page.click("button.session")
    page.click("dialog >> text=Harbour Walk")
    page.wait_for_selector(".path[aria-label='Path of Music bed']")
    assert setting(page, "depth_db") == 9.0
    wait_figure(page, "largest_db", lambda value: value == 9.0)
    page.keyboard.press("Escape")
    page.evaluate("document.querySelector('footer.transport').dataset.heard = '0'")  # what the other session let be heard
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    assert mean_energy(page, 1.0) > 0 and figure(page, "active_share") > 40
    to_map(page)
    shown = page.locator("[data-line]").evaluate_all("lines => lines.map((line) => line.dataset.line)")
    assert json.dumps(sorted(shown)).count("key ") == 3 and "send narrator-to-echo" in shown
