"""The jobs of a working day through the real page, with every action of the hand counted: a click, a key, a drag, or a text that
is typed and ended by Enter. The bounds are what the design asks of each."""

import re

import numpy as np
import pytest

from tests.browser.conftest import measured, saved, until, version
from tests.browser.test_page import figure, mean_energy, setting, type_setting, wait_figure, wait_heard, wav
from tests.signals import noise


class Hand:
    """Does things and counts them."""

    def __init__(self, page, most):
        self.page, self.most, self.count = page, most, 0

    def did(self):
        self.count += 1
        assert self.count <= self.most, f"more than {self.most} actions"

    def click(self, selector, **how):
        self.did()
        self.page.click(selector, **how)

    def press(self, *keys):
        for key in keys:
            self.did()
            self.page.keyboard.press(key)

    def type(self, text):
        """A text and Enter."""
        self.did()
        self.page.keyboard.type(text)
        self.page.keyboard.press("Enter")

    def value(self, name, text):
        """Typed into a setting."""
        self.did()
        type_setting(self.page, name, text)

    def choose(self, selector, option):
        self.did()
        self.page.select_option(selector, option)

    def drag(self, start, end):
        self.did()
        self.page.mouse.move(*start)
        self.page.mouse.down()
        self.page.mouse.move(*end, steps=6)
        self.page.mouse.up()

    def files(self, selector, files):
        self.did()
        self.page.set_input_files(selector, files)

    def strip(self, name):
        self.click(f"nav.tree >> text='{name}'")
        self.page.wait_for_selector(f".path[aria-label='Path of {name}']")

    def step(self, words, label):
        """Search and add."""
        self.press("a")
        self.type(words)
        self.page.wait_for_selector(f".editor h2:has-text('{label}')")


def strip_named(page, name):
    return next(strip for strip in version(page)["session"]["strips"] if strip["name"] == name)


def levers(page):
    return strip_named(page, "Drums")["path"]["levers"]


def kinds(page, name):
    return [step["kind"] for step in strip_named(page, name)["path"]["steps"]]


def test_files_come_in_and_a_loop_of_them_plays(page):
    hand = Hand(page, 15)
    x = np.concatenate([noise(1, 96_000, 5, 0.1), noise(1, 96_000, 6, 0.5)], axis=1)
    hand.files("[aria-label='Audio files']", [{"name": f"{name}.wav", "mimeType": "audio/wav", "buffer": wav(x)}
                                             for name in ("winch", "oars")])  # fmt: skip
    page.wait_for_selector("text=2 tracks imported.")
    hand.click("button:has-text('Details')")
    assert page.locator("dialog tbody tr").count() == 2
    hand.press("Escape")
    hand.strip("oars")
    hand.press("s", "Home")
    row = page.locator("[data-picture=timeline]").bounding_box()
    middle = row["y"] + row["height"] / 2
    hand.drag((row["x"] + 1, middle), (row["x"] + 0.02 * row["width"], middle))
    if page.get_attribute("[aria-label='Loop the passage']", "aria-pressed") != "true":
        hand.press("l")
    hand.press("Space")
    wait_heard(page, 40_000)
    assert mean_energy(page, 0.5) > 0
    assert page.get_attribute("[aria-label='Loop the passage']", "aria-pressed") == "true"


def test_a_voice_is_levelled_held_at_four_decibels_and_compared(page):
    hand = Hand(page, 20)
    hand.strip("Lead voice")
    hand.press("Shift+B")
    page.wait_for_selector("text=Enable all")
    hand.step("compressor", "Compressor")
    hand.press("i")
    page.wait_for_selector("dialog [data-figure=aim_now]:has-text('now ')")
    hand.press("Tab")
    page.keyboard.press("Control+a")
    hand.type("4")
    page.wait_for_selector("dialog", state="detached")
    wait_figure(page, "largest_db", lambda value: 3.7 < value < 4.3)
    hand.step("de-ess", "De-esser")
    page.wait_for_selector("[data-picture=threshold]")  # its threshold lies in the level picture, beside the level of its band
    page.wait_for_selector("figure.bite .legend >> text=/band/")
    hand.press("z")
    page.wait_for_selector("[role=radio][aria-checked=true]:has-text('Before')")
    hand.press("x", "Space")
    wait_heard(page, 20_000)
    assert kinds(page, "Lead voice")[-2:] == ["compressor", "deesser"]


def test_the_organ_ducks_under_the_voice_and_the_bass_gets_a_low_end(page):
    hand = Hand(page, 12)
    hand.strip("Organ")
    hand.step("ducker", "Ducker")
    hand.click("[data-setting=key]")
    page.wait_for_selector("dialog [aria-label='Search the keys']:focus")
    hand.type("lead voice after its")
    page.wait_for_selector("dialog", state="detached")
    hand.value("threshold_db", "-45")
    wait_figure(page, "active_share", lambda value: value > 20)
    hand.strip("Bass")
    hand.step("low-end", "Low")
    assert kinds(page, "Organ")[-1] == "ducker" and kinds(page, "Bass")[-1] == "lowend"


def test_drums_in_parallel_with_one_lever(page):
    hand = Hand(page, 10)
    hand.strip("Drums")
    hand.click(".path .plate >> text=Compressor")
    page.wait_for_selector(".editor h2:has-text('Compressor')")
    hand.press("p")
    page.wait_for_selector(".editor h2:has-text('In parallel')")
    hand.click("[data-act='add lever']")
    page.wait_for_selector("[aria-label='Name of the lever']")
    page.focus("[aria-label='Name of the lever']")
    page.keyboard.press("Control+a")
    hand.type("Weight")
    hand.click("dialog [data-act=learn]")
    hand.value("position", "60")
    saved(page)
    hand.click("[data-act='learn end']")
    saved(page)
    lever = until(page, lambda: next((one for one in levers(page) if one["name"] == "Weight" and one["targets"]), None))
    assert [target["name"] for target in lever["targets"]] == ["position"]


def test_sibilants_and_a_ring_are_tamed(page):
    hand = Hand(page, 8)
    hand.strip("Lead voice")
    hand.step("ess", "De-esser")
    wait_figure(page, "largest_db", lambda value: value >= 0)
    hand.strip("Overheads")
    hand.click(".path .plate >> text=Resonance tamer")
    hand.click("[data-act=study]")
    page.wait_for_selector("[data-figure=verdict]")
    page.wait_for_selector(".handle")


def test_a_voice_in_four_bands(page):
    hand = Hand(page, 18)
    hand.strip("Lead voice")
    hand.press("Shift+B")
    page.wait_for_selector("text=Enable all")
    hand.step("four-band", "4 bands")
    saved(page)
    split = strip_named(page, "Lead voice")["path"]["steps"][-1]
    assert len(split["lanes"]) == 4 and all(lane["path"]["steps"][0]["kind"] == "compressor" for lane in split["lanes"])
    page.wait_for_selector("[data-picture^=divider]")
    one = page.locator("[data-picture^=divider]").first.bounding_box()
    hand.drag((one["x"] + one["width"] / 2, one["y"] + 40), (one["x"] + 40, one["y"] + 40))
    saved(page)
    moved = strip_named(page, "Lead voice")["path"]["steps"][-1]["settings"]["dividers_hz"]
    assert moved[0] > split["settings"]["dividers_hz"][0] and moved[1:] == split["settings"]["dividers_hz"][1:]


def test_a_snare_is_clipped_by_aim(page):
    hand = Hand(page, 5)
    hand.strip("Snare")
    hand.step("clipper", "Clipper")
    page.wait_for_selector("[data-figure=matched_db]")
    hand.press("i")
    page.wait_for_selector("dialog [aria-label=Target]")
    page.focus("dialog [aria-label=Target]")
    page.keyboard.press("Control+a")
    hand.type("5")
    page.wait_for_selector("text=/Peaks down by 5.0 dB: Ceiling/")


def test_a_guitar_is_gated_by_the_kick(page):
    hand = Hand(page, 6)
    hand.strip("Guitar left")
    hand.step("gate", "Gate")
    hand.click("[data-setting=key]")
    page.wait_for_selector("dialog [aria-label='Search the keys']:focus")
    hand.type("kick after its")
    page.wait_for_selector("dialog", state="detached")
    hand.value("threshold_db", "-30")
    wait_figure(page, "openings", lambda value: value > 0)
    assert strip_named(page, "Guitar left")["path"]["steps"][-1]["key"]["strip_id"] == "kick"


def test_a_level_is_ridden_while_it_plays(page):
    hand = Hand(page, 10)
    hand.strip("Organ")
    hand.step("trim", "Trim")
    saved(page)
    page.focus("[role=slider][data-setting=gain_db]")
    hand.did()  # the right button
    page.dispatch_event("[role=slider][data-setting=gain_db]", "contextmenu")
    hand.click("dialog [data-act=record]")
    page.wait_for_selector(".rule .place:has-text('armed')")
    page.focus("nav.tree [aria-selected=true]")
    hand.press("Space")
    wait_heard(page, 40_000)
    box = page.locator("[role=slider][data-setting=gain_db]").bounding_box()
    wedge = page.locator("[role=slider][data-setting=gain_db] .wedge").bounding_box()
    hand.drag((wedge["x"] + 4, box["y"] + 4), (box["x"] + 0.3 * box["width"], box["y"] + 4))
    page.wait_for_selector("[data-lane] [data-point]")
    points = strip_named(page, "Organ")["path"]["steps"][-1]["envelopes"]["gain_db"]["points"]
    assert len(points) <= 12


def test_the_main_is_delivered_and_its_size_and_time_are_told_before(page):
    hand = Hand(page, 16)
    hand.strip("Main")
    hand.click("header nav >> text=Deliver")
    page.wait_for_selector(".names li")
    assert re.search(r"\d", page.inner_text("[data-figure=expected]"))
    page.wait_for_function("/roughly/.test(document.querySelector('[data-figure=expected]')?.textContent ?? '')")
    hand.click("[aria-label=Length] >> text=Passage")
    saved(page)
    page.wait_for_selector(".names li")
    hand.click("[data-act=deliver]")
    page.wait_for_selector(".jobs a >> nth=0")
    assert page.locator(".jobs a").first.inner_text().endswith(".wav")


def test_files_are_put_through_the_main_in_two_actions(page):
    page.click("header nav >> text=Deliver")
    page.wait_for_selector(".names li")
    hand = Hand(page, 2)
    hand.did()
    page.evaluate(
        """(files) => {
            const data = new DataTransfer();
            for (const [name, bytes] of files) data.items.add(new File([new Uint8Array(bytes)], name, { type: 'audio/wav' }));
            window.dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true }));
        }""",
        [["oars.wav", list(wav(noise(2, 24_000, 3), subtype="PCM_16"))]],
    )
    hand.click("[data-act=batch]")
    page.wait_for_selector(".jobs a:has-text('oars')")


def test_a_version_comes_back_from_the_history_and_the_session_is_packed(page):
    hand = Hand(page, 10)
    hand.strip("Snare")
    hand.click(".path .plate >> text=Compressor")
    before = setting(page, "ratio")
    hand.value("ratio", "9:1")
    hand.value("threshold_db", "-40")
    saved(page)
    hand.press("h")
    page.wait_for_selector("dialog[aria-label=History]")
    hand.click("dialog[aria-label=History] >> text=/Ratio .* to 9/")
    page.wait_for_function("document.querySelector('[data-setting=threshold_db]').ariaValueNow !== '-40'")
    assert setting(page, "ratio") == 9.0 != before
    hand.press("Escape")
    hand.click("button.session")
    hand.click("[data-act=pack]")
    page.wait_for_selector(".jobs a:has-text('.zip')")


def test_without_a_pointer_it_takes_at_most_twice_as_many(page):
    """The clip by aim and the gate by key, by keys alone."""
    hand = Hand(page, 22)
    page.keyboard.press("F6")

    def find(name):
        hand.press("/")
        hand.type(name)
        page.wait_for_function(f"document.activeElement.ariaLabel === '{name}'")
        page.wait_for_selector(f".path[aria-label='Path of {name}']")

    find("Snare")
    hand.step("clipper", "Clipper")
    hand.press("i", "Tab")
    page.keyboard.press("Control+a")
    hand.type("5")
    page.wait_for_selector("text=/Peaks down by 5.0 dB: Ceiling/")
    page.wait_for_selector("dialog", state="detached")
    find("Guitar left")
    hand.step("gate", "Gate")
    page.focus("[data-setting=key]")
    hand.press("Enter")
    page.wait_for_selector("dialog [aria-label='Search the keys']:focus")
    hand.type("kick after its")
    page.wait_for_selector("[data-setting=key]:has-text('Kick')")
    hand.value("threshold_db", "-30")
    wait_figure(page, "openings", lambda value: value > 0)


@pytest.mark.parametrize(("width", "height"), [(640, 400), (640, 512)])
def test_in_a_small_dark_window_with_little_motion(page, width, height):
    """640 x 400 is 1280 x 800 at 200 %."""
    page.emulate_media(color_scheme="dark", reduced_motion="reduce")
    page.set_viewport_size({"width": width, "height": height})
    page.click("header >> text=Dark")
    hand = Hand(page, 6)
    hand.strip("Snare")
    hand.step("clipper", "Clipper")
    hand.value("ceiling_db", "-12")
    measured(page)
    assert figure(page, "peaks_down_db") > 0
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    hand.press("Control+z")
    page.wait_for_function("document.querySelector('[data-setting=ceiling_db]').ariaValueNow !== '-12'")


def test_sixty_strips_are_found_grouped_and_turned_down(page):
    number = page.url.rsplit("#/", 1)[1].split("/")[0]
    media = strip_named(page, "Kick")["media_id"]
    edits = [
        {
            "op": "add_strip",
            "strip": {"id": f"x{n}", "name": f"Rope {n:02}", "kind": "track", "media_id": media, "output": "main"},
        }
        for n in range(48)
    ]
    page.evaluate(
        "([number, edit]) => fetch(`/api/sessions/${number}/edits`, { method: 'POST', body: JSON.stringify({ edit }),"
        " headers: { 'content-type': 'application/json' } })",
        [number, {"op": "batch", "edits": edits}],
    )
    page.wait_for_function("document.querySelectorAll('nav.tree [role=treeitem]').length >= 60")
    hand = Hand(page, 12)
    hand.press("/")
    hand.type("rope 0")
    page.wait_for_function("document.activeElement.ariaLabel === 'Rope 00'")
    assert page.locator("nav.tree [role=treeitem]").count() == 14  # those with a 0 in their number
    hand.click("nav.tree >> text='Rope 09'", modifiers=["Shift"])
    hand.press("Control+b")
    page.wait_for_function("/^Bus /.test(document.activeElement.ariaLabel ?? '')")
    hand.press("F2")
    hand.type("Ropes")
    bus = until(page, lambda: next((one for one in version(page)["session"]["strips"] if one["name"] == "Ropes"), None))
    under = [strip["name"] for strip in version(page)["session"]["strips"] if strip["output"] == bus["id"]]
    assert under == [f"Rope {n:02}" for n in range(10)]


def test_wrong_moves_lose_nothing_and_say_so(page):
    revision = version(page)["revision"]
    hand = Hand(page, 40)
    hand.strip("Snare")
    hand.click(".path .plate >> text=Compressor")
    slider = page.locator("[role=slider][data-setting=threshold_db]")
    slider.focus()
    hand.press("Enter")
    hand.type("loud")  # not a number
    assert version(page)["revision"] == revision
    hand.press("Escape")
    # What is gone is not spoken to: a step removed twice, a name, an aim.
    hand.click(".path .plate >> text=Compressor")
    hand.press("Delete", "Delete", "b", "i", "r", "Control+d")
    page.wait_for_timeout(300)
    hand.press("Escape")
    saved(page)
    assert not re.search(r"'[0-9a-f]{12}", page.inner_text("body"))
    for _ in range(12):
        if version(page)["revision"] == revision or not version(page)["can_undo"]:
            break
        hand.press("Control+z")
        page.wait_for_timeout(100)
        saved(page)
    assert kinds(page, "Snare").count("compressor") == 1
    # A file that is none, and a drop of nothing.
    hand.files("[aria-label='Audio files']", [{"name": "list.wav", "mimeType": "audio/wav", "buffer": b"no sound"}])
    assert "list.wav" in page.wait_for_selector("[role=alert] >> text=list.wav").inner_text()
