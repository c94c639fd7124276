"""From an empty folder to the first treated bus: by mouse alone and by keyboard alone, with one's own files."""

import io
import re
import time

import numpy as np
import pytest
import soundfile

from tests.browser.conftest import saved, serving, until, version
from tests.browser.test_page import energy, mean_energy, sound_follows, wait_heard
from tests.signals import noise

RATE, SECONDS = 44100, 24
NAMES = ("03_Quay_Tom.wav", "01_Quay_Kick.wav", "02_Quay_Snare.wav")
MAX_ACTIONS = 25


def stem(name, seed):
    """Hits twice a second, louder in the second half."""
    x = np.zeros((1, SECONDS * RATE), np.float32)
    for n in range(2 * SECONDS - 1):
        at = n * RATE // 2
        x[0, at : at + 4000] = noise(1, 4000, seed + n, 0.2 if n < SECONDS else 0.6)[0] * np.linspace(1, 0, 4000)
    file = io.BytesIO()
    soundfile.write(file, x.T, RATE, format="WAV", subtype="PCM_16")
    return {"name": name, "mimeType": "audio/wav", "buffer": file.getvalue()}


FILES = [stem(name, seed) for seed, name in enumerate(NAMES)]


@pytest.fixture
def empty_server(tmp_path):
    with serving(tmp_path, more=["--empty"]) as address:
        yield address


@pytest.fixture
def empty(browser, empty_server):
    context = browser.new_context(viewport={"width": 1280, "height": 800}, bypass_csp=True)
    page = context.new_page()
    wrong = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.goto(empty_server)
    yield page
    context.close()
    assert not wrong, wrong


def document(page):
    return version(page)["session"]


def tree(page):
    rows = page.locator("nav.tree [role=treeitem]")
    return [(rows.nth(n).get_attribute("aria-label"), rows.nth(n).get_attribute("aria-level")) for n in range(rows.count())]


def reached(page):
    """What was to be made is there, and sounds."""
    made = document(page)
    strips = {strip["name"]: strip for strip in made["strips"]}
    bus = strips["Drums"]
    assert [strips[name]["output"] for name in ("Kick", "Snare", "Tom")] == [bus["id"]] * 3
    assert tree(page) == [("Main", "1"), ("Drums", "2"), ("Kick", "3"), ("Snare", "3"), ("Tom", "3")]
    assert made["rate_hz"] == RATE and 40 <= made["tempo_bpm"] <= 200 and made["tempo_bpm"] != 120.0
    assert [section["name"] for section in made["sections"]] == ["Verse", "Chorus"]
    chorus = made["sections"][1]
    assert [step["kind"] for step in bus["path"]["steps"]] == ["compressor"]
    assert page.get_attribute("[aria-label='Loop the passage']", "aria-pressed") == "true"
    assert page.inner_text("footer .passage") == "Chorus"
    wait_heard(page, RATE // 2)
    assert energy(page) > 1e-6
    bars = page.inner_text("[aria-label='Position, bars and beats']")
    bar_s = 60 / made["tempo_bpm"] * made["beats_in_bar"]
    at = (int(bars.split(".")[0]) - 1) * bar_s
    assert chorus["start_s"] - bar_s < at < chorus["end_s"]


def test_the_first_minute_by_mouse(empty):
    page, actions = empty, 0

    def act(done):
        nonlocal actions
        actions += 1
        return done

    act(page.click("text=New session"))
    act(page.fill("dialog [placeholder='New session']", "Quay"))
    act(page.set_input_files("[aria-label='Audio files of the new session']", FILES))
    act(page.click("dialog >> text=Create"))
    page.wait_for_selector("dialog >> text=Group under buses")
    act(page.click("dialog >> text=Apply"))
    page.wait_for_selector("[data-strip] >> text=Drums")
    page.click("[data-strip] >> text=Kick")  # what was brought in can be seen
    assert re.match(
        r"WAV, 16-bit, 44\.1 kHz, mono, 0:24\.000\s+peak -\d+\.\d dBFS, -\d+\.\d LUFS", page.inner_text("[data-figure=file]")
    )
    act(page.click("header .session"))
    box = page.locator("dialog [data-act=tap]").bounding_box()
    for _ in range(4):  # a hand does not wait between two beats until the page is at rest
        act(page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2))
        time.sleep(0.52)
    act(page.click("dialog >> text=Close"))
    row = page.locator(".sections").bounding_box()
    for name, (start, end) in (("Verse", (0.02, 0.45)), ("Chorus", (0.5, 0.95))):
        page.mouse.move(row["x"] + start * row["width"], row["y"] + 10)
        page.mouse.down()
        page.mouse.move(row["x"] + end * row["width"], row["y"] + 10, steps=4)
        act(page.mouse.up())
        page.wait_for_selector("[aria-label='Name of the section']")
        page.keyboard.type(name)
        act(page.keyboard.press("Enter"))
        page.wait_for_selector(f".section .name >> text={name}")
    act(page.click(".section .name >> text=Chorus"))
    act(page.click("[data-strip] >> text=Drums"))
    act(page.click("[aria-label='Add a step']"))
    act(page.click("dialog li >> text=Compressor >> nth=0"))
    page.wait_for_selector(".path .plate.chosen:has-text('Compressor')")
    act(page.click("[aria-label=Play]"))
    reached(page)
    assert actions <= MAX_ACTIONS


def test_the_first_minute_by_keyboard(empty):
    page, actions = empty, 0

    def reach(selector, most=90):
        """By Tab alone; nothing on the way keeps the focus."""
        for _ in range(most):
            if page.evaluate("(selector) => document.activeElement?.matches(selector)", selector):
                return
            in_row = "(selector) => Boolean(document.activeElement?.closest('[role=toolbar]')?.querySelector(selector))"
            page.keyboard.press("ArrowRight" if page.evaluate(in_row, selector) else "Tab")
        raise AssertionError(f"{selector} cannot be reached by Tab, and by the arrows in its row")

    def act(selector=None, key="Enter", text=""):
        nonlocal actions
        actions += 1
        if selector:
            page.wait_for_selector(selector)
            reach(selector)
        if text:
            page.keyboard.press("Control+a")
            page.keyboard.type(text)
        page.keyboard.press(key)

    page.wait_for_selector("[data-act=new]")
    act("[data-act=new]")
    act("dialog [placeholder='New session']", "Tab", "Quay")
    with page.expect_file_chooser() as chooser:
        act("dialog [data-act=files]")
    chooser.value.set_files(FILES)
    act("dialog [type=submit]")
    act("dialog [data-act=apply]")
    page.wait_for_selector("[data-strip] >> text=Drums")
    act("header .session")
    reach("dialog [data-act=tap]")
    for _ in range(4):
        act()
        time.sleep(0.52)
    act(key="Escape")
    act("[data-act=sections]")
    for number, name, start, end in (("1", "Verse", "1", "5"), ("2", "Chorus", "5", "9")):
        act("dialog [data-act=add]")
        field = f"dialog [aria-label='Name of section {number}']"
        page.wait_for_selector(field)
        act(field, "Tab", name)
        page.wait_for_selector(f"dialog [data-row={name}]")
        if number == "2":
            act(f"dialog [aria-label='{name}, start']", "Tab", start)
        act(f"dialog [aria-label='{name}, end']", "Enter", end)
    act(key="Escape")
    act(key="PageDown")
    reach("[role=treeitem]")
    while page.evaluate("document.activeElement.getAttribute('aria-label')") != "Drums":
        page.keyboard.press("ArrowUp" if actions else "ArrowDown")
    act(key="a")
    page.wait_for_selector("dialog")
    act(None, "Enter", "compressor")
    page.wait_for_selector(".path .plate.chosen:has-text('Compressor')")
    act(key="Space")
    reached(page)
    assert actions <= MAX_ACTIONS


def test_files_dropped_on_an_empty_page_begin_a_session(empty):
    page = empty
    page.wait_for_selector("[data-act=new]")
    page.evaluate(
        """(bytes) => { const data = new DataTransfer();
        data.items.add(new File([new Uint8Array(bytes)], 'Bell.wav'));
        document.querySelector('.app').dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true })); }""",
        list(FILES[0]["buffer"][:200_000]),
    )
    page.wait_for_selector("dialog >> text=1 chosen")
    page.keyboard.press("Escape")
    page.wait_for_selector("dialog", state="detached")


def test_sections_are_resized_split_merged_renamed_and_removed(page):
    sections = lambda: [(s["name"], round(s["start_s"], 2), round(s["end_s"], 2)) for s in document(page)["sections"]]  # noqa: E731
    before = sections()
    bar = 60 / 84 * 4
    lane = page.locator(".lane").bounding_box()
    length = version(page)["length_s"]
    x = lambda at: lane["x"] + lane["width"] * at / length  # noqa: E731
    edge = page.locator("[data-section] >> nth=1 >> [data-edge=end_s]").bounding_box()
    page.mouse.move(edge["x"] + 3, edge["y"] + 8)
    page.mouse.down()
    page.mouse.move(x(before[1][2] - 1.9 * bar), edge["y"] + 8, steps=4)
    page.mouse.up()
    saved(page)
    assert sections()[1][2] == pytest.approx(before[1][2] - 2 * bar, abs=0.4)  # on a beat
    assert (sections()[1][2] * 84 / 60) % 1 == pytest.approx(0, abs=0.02) or (sections()[1][2] * 84 / 60) % 1 > 0.98
    page.keyboard.press("n")  # without snapping
    page.mouse.click(x(6.1), lane["y"] + 80)
    page.keyboard.press("k")
    page.wait_for_selector(f"[data-section] >> text={before[1][0] if before[1][1] < 6 else before[0][0]} 2")
    assert len(sections()) == len(before) + 1
    page.keyboard.press("n")
    page.click("[data-act=sections]")
    page.click("dialog [data-row='Chorus'] >> text=Merge with next")
    page.wait_for_selector("dialog [data-row='Bridge']", state="detached")
    page.fill("dialog [aria-label='Chorus, end']", "0:70.5")
    page.keyboard.press("Enter")
    page.wait_for_function("document.querySelector('dialog [aria-label=\"Chorus, end\"]').title.startsWith('70.500')")
    page.fill("dialog [aria-label='Chorus, end']", "soon")
    page.keyboard.press("Enter")
    assert "type bars like 17" in page.inner_text("dialog .wrong")
    with page.expect_download() as told:
        page.click("dialog >> text=Write CSV")
    text = told.value.path().read_text()
    assert text.startswith('"name","start_s","end_s"') and '"Chorus"' in text
    page.click("dialog >> text=Propose by loudness")
    page.wait_for_selector("dialog [data-row='Part A']")
    page.set_input_files("[aria-label='Sections file']", [{"name": "s.csv", "mimeType": "text/csv", "buffer": text.encode()}])
    page.wait_for_selector("dialog [data-row='Chorus']")
    page.click("dialog [aria-label='Remove Chorus']")
    page.wait_for_selector("dialog [data-row='Chorus']", state="detached")
    page.keyboard.press("Escape")
    for _ in range(7):
        page.keyboard.press("Control+z")
    page.wait_for_selector("header button[title^='Undo']:disabled")
    assert sections() == before


def test_the_timeline_zooms_scrolls_and_seeks_while_a_loop_is_on(page):
    label = lambda: page.get_attribute("[data-picture=timeline]", "aria-label")  # noqa: E731
    whole = label()
    assert "from bar 1.1.1" in whole
    lane = page.locator(".lane").bounding_box()
    page.mouse.move(lane["x"] + lane["width"] / 2, lane["y"] + 80)
    page.mouse.wheel(0, -300)
    page.wait_for_function(f"document.querySelector('[data-picture=timeline]').ariaLabel !== {whole!r}")
    zoomed = label()
    page.keyboard.down("Shift")
    page.mouse.wheel(0, 300)
    page.keyboard.up("Shift")
    page.wait_for_function(f"document.querySelector('[data-picture=timeline]').ariaLabel !== {zoomed!r}")
    page.keyboard.press("*")
    page.wait_for_function("document.querySelector('[data-picture=timeline]').ariaLabel.includes('from bar 12.')")
    page.keyboard.press("0")
    page.wait_for_function(f"document.querySelector('[data-picture=timeline]').ariaLabel === {whole!r}")
    clock = lambda: page.inner_text("[aria-label='Position, bars and beats']")  # noqa: E731
    page.keyboard.press(",")
    page.wait_for_function("document.querySelector('footer .place').innerText.startsWith('12.1')")
    page.mouse.click(lane["x"] + 4, lane["y"] + 80)
    assert clock().startswith("1.")
    page.keyboard.press("Space")  # from there, though the chorus is looped
    wait_heard(page, 20_000)
    assert clock().startswith("1.")
    page.keyboard.press(".")
    page.wait_for_function("document.querySelector('footer .place').innerText.startsWith('2.')")
    page.keyboard.press("Space")
    page.keyboard.press("PageDown")
    page.wait_for_function("document.querySelector('footer .passage').innerText === 'Bridge'")
    page.keyboard.press("[")
    page.wait_for_function("document.querySelector('footer .passage').innerText.startsWith('Bars 21')")


def test_several_strips_are_one_thing(page):
    levels = lambda: {s["name"]: s["level_db"] for s in document(page)["strips"]}  # noqa: E731
    before = levels()
    page.click("[data-strip] >> text=Kick")
    page.click("[data-strip] >> text=Overheads", modifiers=["Shift"])
    assert page.locator("[role=treeitem][aria-selected=true]").count() == 3
    page.fill("[aria-label='Level of Snare, dB']", str(before["Snare"] - 2))
    page.keyboard.press("Enter")
    saved(page)
    after = levels()
    assert [round(after[name] - before[name], 1) for name in ("Kick", "Snare", "Overheads", "Bass")] == [-2, -2, -2, 0]
    page.focus("[role=treeitem].chosen")
    page.keyboard.press("m")
    page.wait_for_selector("[role=status] >> text=Kick, Snare, Overheads muted.")
    page.wait_for_selector("[aria-label='Mute Kick'][aria-pressed=true]")
    page.click("[role=status] >> text=Undo")
    page.wait_for_selector("[aria-label='Mute Kick'][aria-pressed=false]")
    page.click("text=Group to bus")
    page.wait_for_selector("[role=treeitem][aria-selected=true] >> text=Bus")
    made = document(page)
    bus = next(strip for strip in made["strips"] if strip["name"].startswith("Bus "))
    assert bus["output"] == "drums" and sum(strip["output"] == bus["id"] for strip in made["strips"]) == 3
    page.keyboard.press("Control+z")
    page.wait_for_function("![...document.querySelectorAll('[role=treeitem]')].some((row) => row.ariaLabel.startsWith('Bus '))")
    page.click("[data-strip] >> text=Organ")
    page.click("[data-strip] >> text=Bass", modifiers=["Control"])
    page.focus("[data-strip=bass]")
    page.keyboard.press("Delete")
    page.wait_for_function("!document.querySelector('[data-strip=bass]') && !document.querySelector('[data-strip=organ]')")
    page.keyboard.press("Control+z")
    page.wait_for_selector("[data-strip=bass]")


def test_stage_gain_sets_the_trims_in_one_edit(page):
    trims = lambda: [s["trim_db"] for s in document(page)["strips"] if s["media_id"] is not None]  # noqa: E731
    before = trims()
    page.click("text=Gain staging")
    page.select_option("dialog select >> nth=1", "peak")
    assert page.input_value("dialog [aria-label=Target]") == "-6"
    page.fill("dialog [aria-label=Target]", "3")
    assert page.is_disabled("dialog button:has-text('trims')") and "from -40 to 0" in page.inner_text("dialog .wrong")
    page.fill("dialog [aria-label=Target]", "-9")
    page.click("dialog button:has-text('trims')")
    page.wait_for_selector("[role=status] >> text=/Trims of .* set/")
    assert trims() != before
    page.click("[role=status] >> text=Undo")
    saved(page)
    page.wait_for_timeout(300)
    assert trims() == before


def test_tempo_is_estimated_from_the_chosen_track(page):
    page.click("[data-strip] >> text=Snare")
    page.click("header .session")
    page.fill("dialog [aria-label='Tempo, bpm']", "97,5")
    page.keyboard.press("Tab")
    page.click("text=Estimate from Snare")
    page.wait_for_selector("[data-figure=tempo] >> text=/clear beat/")
    page.click("[data-figure=tempo] >> text='84'")
    page.wait_for_function("document.querySelector('header').innerText.includes('84 bpm')")
    page.fill("dialog [aria-label='Tempo, bpm']", "900")
    page.keyboard.press("Tab")
    assert "Tempo is from 20 to 300 bpm." in page.inner_text("dialog")
    page.fill("dialog [aria-label='Bar 1 at, seconds']", "0.5")
    page.keyboard.press("Tab")
    page.wait_for_function("document.querySelector('dialog [aria-label=\"Bar 1 at, seconds\"]').value === '0.5'")
    page.keyboard.press("Escape")
    assert page.inner_text("[aria-label='Position, bars and beats']").startswith("12.")


def test_each_view_has_an_address_and_back_works(page):
    shape = page.url
    assert page.title() == "Low Water copy, Shape - Salt Anvil" and shape.endswith("/shape")
    page.click("text=Map")
    assert page.url.endswith("/map") and page.title().startswith("Low Water copy, Map")
    page.keyboard.press("v")
    assert page.url.endswith("/contrast") and page.title().startswith("Low Water copy, Contrast")
    page.keyboard.press("v")
    assert page.url.endswith("/bench")
    page.go_back()
    page.wait_for_selector("[aria-label=Contrast]")
    page.go_back()
    page.wait_for_selector("[aria-label='What is chosen on the map']")
    page.go_back()
    page.wait_for_selector("aside.ledger")
    assert page.url == shape
    other = page.context.new_page()
    other.goto(shape.replace("/shape", "/map"))
    other.wait_for_selector("[aria-label='What is chosen on the map']")
    other.close()


def test_shortcuts_are_found_and_changed(page):
    page.keyboard.press("?")
    page.keyboard.type("mute")
    assert page.locator("dialog [data-shortcut]").count() == 1
    page.click("[data-shortcut=mute]")
    page.keyboard.press("s")
    assert "Solo the chosen strip" in page.inner_text("dialog .refused")
    page.click("[data-shortcut=mute]")
    page.keyboard.press("j")
    assert page.inner_text("[data-shortcut=mute]") == "J"
    page.keyboard.press("Escape")
    page.wait_for_selector("dialog", state="detached")
    page.keyboard.press("j")
    page.wait_for_selector("[aria-label='Mute Snare'][aria-pressed=true]")
    page.keyboard.press("m")
    page.wait_for_timeout(200)
    assert page.get_attribute("[aria-label='Mute Snare']", "aria-pressed") == "true"
    # Space presses a button that the keyboard has focused, and plays elsewhere.
    page.focus("[role=treeitem][aria-label=Snare]")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowRight")
    page.wait_for_function("document.activeElement.ariaLabel === 'Mute Snare'")
    page.keyboard.press("Space")
    page.wait_for_selector("[aria-label='Mute Snare'][aria-pressed=false]")
    assert page.get_attribute(".play", "aria-label") == "Play"


def test_a_reload_while_files_are_sent_warns_and_says_what_was_lost(page):
    """The upload is held up on its way; leaving asks first, and the page after it names the files."""
    asked, held = [], []
    page.on("dialog", lambda dialog: (asked.append(dialog.type), dialog.accept()))
    page.route(re.compile(r"/imports/\d+/\d+$"), lambda route: held.append(route))
    page.click("nav.tree >> text=Snare")  # browsers ask only whoever has used the page
    page.set_input_files("[aria-label='Audio files']", FILES[:2])
    page.wait_for_selector(".jobs >> text=/Sending .*1 of 2/")
    page.reload()
    page.wait_for_selector("[role=alert]:has-text('2 files were not imported'):has-text('03_Quay_Tom.wav')")
    assert asked == ["beforeunload"] and held
    assert "Quay" not in str(tree(page))
    page.unroute_all(behavior="ignoreErrors")


def test_a_track_is_printed_brought_back_and_given_another_take(page, tmp_path):
    """By mouse; what is heard of it follows."""
    page.click("nav.tree >> text=Kick")
    page.click(".path .plate:has-text('trim') button")
    page.click("[data-act=print]")
    page.wait_for_selector("[data-figure=printed]")
    strip = lambda: next(one for one in version(page)["session"]["strips"] if one["name"] == "Kick")  # noqa: E731
    printed = strip()
    assert printed["printed"] and all(step["bypass"] for step in printed["path"]["steps"])
    page.click("[data-act=unprint]")
    page.wait_for_selector("[data-act=print]")
    before = strip()
    assert "printed" not in before and before["media_id"] == printed["printed"]["media_id"]
    soundfile.write(tmp_path / "take 2.wav", np.zeros(480_000), 48_000)
    page.set_input_files("[aria-label='Another recording']", str(tmp_path / "take 2.wav"))
    page.wait_for_selector("[role=status]:has-text('Kick plays take 2.wav now.'):has-text('10.000 s long')")
    after = strip()
    assert after["media_id"] != before["media_id"] and after["path"] == before["path"]
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    sound_follows(page)
    assert mean_energy(page, 0.5) == 0.0  # the new take is silent
    page.keyboard.press("Control+z")  # the solo
    page.keyboard.press("Control+z")
    until(page, lambda: strip()["media_id"] == before["media_id"])


def test_a_new_take_among_dropped_files_takes_the_place_of_the_old_and_is_undone(page):
    before = document(page)["strips"]
    old = next(strip for strip in before if strip["name"] == "Snare")
    take = stem("snare.wav", 5)
    page.set_input_files("[aria-label='Audio files']", [take])
    page.wait_for_selector("dialog >> text=Replace recordings")
    page.click("dialog >> text=Apply")
    saved(page)
    after = document(page)["strips"]
    new = next(strip for strip in after if strip["name"] == "Snare")
    assert len(after) == len(before) and new["media_id"] != old["media_id"] and new["path"] == old["path"]
    page.keyboard.press("Control+z")
    until(page, lambda: next(strip for strip in document(page)["strips"] if strip["name"] == "Snare") == old)
