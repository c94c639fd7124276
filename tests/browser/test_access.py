"""Access: axe-core in every view, dialog and theme; the words on the screen; nothing that overlaps or is cut off."""

import json
import re
from pathlib import Path

import pytest

from tests.browser.test_page import wait_heard

AXE = (Path(__file__).parent.parent.parent / "web/node_modules/axe-core/axe.min.js").read_text()
#: Of axe-core's rules all that belong to WCAG 2.2 AA, and its best practices.
TAGS = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
DIALOGS = {
    "Sessions": "header .session",
    "History": "header >> text=History",
    "Help and shortcuts": "[aria-label='Help and shortcuts']",
    "Sections": "[data-act=sections]",
    "Gain staging": "nav.tree >> text=Gain staging",
    "Add a step": "[aria-label='Add a step']",
    "Starting points": "text=Starting points",
    "Latency": "header .latency button",
    "Compare blind: Compressor": "[data-act=blind]",
    "Aim: Compressor": "[data-act=aim]",
    "Over time": "[data-act='over time']",
    "Lever": "[data-act='add lever']",
}
#: Screen words that others have replaced (the product's list of words); whole labels, or anywhere in a text.
OLD_LABELS = (
    "Taken", "Only", "Ear", "Full", "Small", "Quiet", "Iron", "Salt", "own signal", "Release by", "Make-up by", "Decay by",
    "Time by", "Attack return", "Counts", "leaning", "Lean", "Mark beyond", "Odd share", "Liven", "rising", "by hand",
    "Clear corner", "Full after", "Works on", "Threshold is", "Turn polarity", "Goes to", "Take apart", "Leave it",
    "Take back", "Let go", "One-sided", "Standing", "Closer", "Strongest fold", "Leaves at", "shut", "Output is",
    "Detector hears", "Keep clear",
)  # fmt: skip
OLD_PHRASES = (
    r"\bms late\b", r"\bis late\b", "a mute silences it", "hear key", "give drive back", "right or side by",
    "loudness moved", "give back", "in one press", "all back on", r"\bdoor\b", "mean when working",
    "colour re sound", "nothing is called that", "soloed away", "working set", "an idle one gives",
)  # fmt: skip


#: A row's and a plate's name is its strip's; what is in it has names of its own, or is drawn small.
NAMED = "label-content-name-mismatch"


def violations(page):
    page.wait_for_function("!document.querySelector('[aria-busy=true]:not(.play)')")  # figures out of date are dimmed
    page.evaluate(AXE)
    result = page.evaluate(
        "(tags) => axe.run(document, { runOnly: tags, resultTypes: ['violations'] }).then((told) => told.violations.map("
        "(one) => [one.id, one.nodes.map((node) => node.target.join(' ') + ' ' + (node.any[0]?.message ?? ''))]))",
        TAGS,
    )
    told = {
        name: [node for node in nodes if name != NAMED or not re.match(r"li\[data-strip|#plate-", node)] for name, nodes in result
    }
    return {name: nodes for name, nodes in told.items() if nodes}


def views(page):
    """Whatever the page has, so that a new one is looked at too."""
    names = page.locator("header nav[aria-label=Views] button").all_inner_texts()
    assert len(names) >= 5
    return names


@pytest.mark.parametrize("theme", ["salt", "iron", "narrow"])
def test_axe_finds_nothing_in_any_view(page, theme):
    if theme == "iron":
        page.click("header >> text=Dark")
    if theme == "narrow":
        page.set_viewport_size({"width": 640, "height": 400})
    wrong = {}
    for view in views(page):
        page.click(f"header nav >> text={view}")
        page.wait_for_selector(f"header nav [aria-current=page] >> text={view}")
        if result := violations(page):
            wrong[view] = result
    assert not wrong, json.dumps(wrong, indent=1)


def test_axe_finds_nothing_beside_numbered_handles_and_their_table(page):
    page.click("nav.tree >> text=Overheads")
    page.click(".path .plate >> text=Resonance tamer")
    page.wait_for_selector(".handle")
    page.wait_for_selector("[data-figure=verdict]")
    assert not violations(page)


def test_axe_finds_nothing_in_a_split_and_a_keyed_step_while_it_plays(page):
    wrong = {}
    for strip in ("Drums", "Bass", "Lead voice"):
        page.click(f"nav.tree >> text='{strip}'")
        page.wait_for_selector(f".path[aria-label='Path of {strip}']")
        page.wait_for_selector("[data-figure=matched_db]")
        if result := violations(page):
            wrong[strip] = result
    page.click("[data-step=strip] button")
    page.keyboard.press("Space")
    wait_heard(page, 10_000)
    if result := violations(page):
        wrong["playing"] = result
    assert not wrong, json.dumps(wrong, indent=1)


@pytest.mark.parametrize("theme", ["salt", "iron"])
def test_axe_finds_nothing_in_any_dialog_and_the_focus_comes_back(page, theme):
    if theme == "iron":
        page.click("header >> text=Dark")
    wrong = {}
    for name, opens in DIALOGS.items():
        page.focus(opens) if not opens.startswith("text") else None
        page.click(opens)
        page.wait_for_selector("dialog")
        assert page.get_attribute("dialog", "aria-label") == name
        assert page.evaluate("document.querySelector('dialog').contains(document.activeElement)"), name
        if result := violations(page):
            wrong[name] = result
        for _ in range(60):  # the focus stays within
            page.keyboard.press("Tab")
        inside = "document.querySelector('dialog').contains(document.activeElement) || document.activeElement === document.body"
        assert page.evaluate(inside), name
        page.keyboard.press("Escape")
        page.wait_for_selector("dialog", state="detached")
        assert page.evaluate("document.activeElement !== document.body"), name
    assert not wrong, json.dumps(wrong, indent=1)


TEXTS = """() => [...document.querySelectorAll('body *')].flatMap((element) => [
  ...[...element.childNodes].filter((node) => node.nodeType === 3).map((node) => node.textContent),
  ...['title', 'aria-label', 'placeholder', 'aria-valuetext', 'alt'].map((name) => element.getAttribute(name) ?? ''),
]).map((text) => text.trim().replace(/\\s+/g, ' ')).filter(Boolean)"""


def old_words(texts):
    result = texts & set(OLD_LABELS)
    return result | {text for text in texts for phrase in OLD_PHRASES if re.search(phrase, text, re.IGNORECASE)}


def test_no_old_word_is_on_any_screen(page):
    texts = set()

    def look():
        texts.update(page.evaluate(TEXTS))

    number = page.url.rsplit("#/", 1)[1].split("/")[0]
    kinds = page.evaluate("fetch('/api/processors').then((answer) => answer.json())")
    for kind in kinds:  # what starting points and settings say that is not shown at the moment
        del kind["settings_schema"]
        texts.update(json.dumps(kind, ensure_ascii=False).split('"'))
    settings = page.evaluate("fetch('/api/settings').then((answer) => answer.json())")
    texts.update(json.dumps(settings, ensure_ascii=False).split('"'))
    edits = [
        {"op": "add_step", "strip_id": "organ", "step": {"kind": kind["kind"], "settings": {}}}
        for kind in kinds
        if kind["kind"] != "split"
    ]
    page.evaluate(
        "([number, edit]) => fetch(`/api/sessions/${number}/edits`, { method: 'POST', body: JSON.stringify({ edit }),"
        " headers: { 'content-type': 'application/json' } })",
        [number, {"op": "batch", "edits": edits}],
    )
    page.click("nav.tree >> text='Organ'")
    page.wait_for_function(f"document.querySelectorAll('.path .plate[data-step]').length > {len(edits)}")
    for place in range(page.locator(".path .plate[data-step] .face").count()):
        page.locator(".path .plate[data-step] .face").nth(place).click()
        page.wait_for_timeout(60)
        look()
    for strip in ("Drums", "Bass", "Lead voice", "Main"):
        page.click(f"nav.tree >> text='{strip}'")
        page.wait_for_selector("[data-figure=matched_db]")
        look()
    page.click("nav.tree >> text='Bass'")
    page.wait_for_selector("[data-figure=matched_db]")
    for opens in DIALOGS.values():
        page.click(opens)
        page.wait_for_selector("dialog")
        look()
        page.keyboard.press("Escape")
        page.wait_for_selector("dialog", state="detached")
    for view in ("Map", "Contrast", "Bench", "Deliver"):
        page.click(f"header nav >> text={view}")
        page.wait_for_timeout(500)
        look()
    assert len(texts) > 600
    assert sorted(old_words(texts)) == []
    assert old_words({"Taken", "latency 2.6 ms late"}) == {"Taken", "latency 2.6 ms late"}  # the search finds what it is for


BOXES = """() => {
  const wrong = [];
  const shown =
    'header button, footer button, .tools .button, nav.tree button, .editor header button, .deliver button, .deliver select';
  const seen = [...document.querySelectorAll(shown)]
    .filter((element) => element.offsetParent && getComputedStyle(element).visibility === 'visible')
    .map((element) => ({ element, box: element.getBoundingClientRect() }))
    // What has been scrolled out of sight is neither beside nor over anything.
    .filter(({ element, box }) =>
      element.contains(document.elementFromPoint((box.left + box.right) / 2, (box.top + box.bottom) / 2)));
  const name = (element) => (element.getAttribute('aria-label') ?? element.textContent).trim();
  for (const { element } of seen)
    if (element.scrollWidth > element.clientWidth + 1 && !element.title) wrong.push(`cut: ${name(element)}`);
  seen.forEach((one, at) => seen.slice(at + 1).forEach((other) => {
    if (one.element.contains(other.element) || other.element.contains(one.element)) return;
    const [a, b] = [one.box, other.box];
    const wide = Math.min(a.right, b.right) - Math.max(a.left, b.left);
    const high = Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top);
    if (wide > 1 && high > 1) wrong.push(`overlap: ${name(one.element)} and ${name(other.element)}`);
  }));
  return wrong;
}"""


@pytest.mark.parametrize(("width", "height"), [(1024, 768), (1280, 800), (1920, 1080), (640, 400), (320, 256)])
def test_nothing_overlaps_or_is_cut_off(page, width, height):
    """Also at 200 and 400 % zoom of 1280 x 1024: 640 and 320 pixels."""
    page.set_viewport_size({"width": width, "height": height})
    page.wait_for_timeout(300)
    for view in ("Shape", "Contrast", "Deliver"):
        page.click(f"header nav >> text={view}")
        page.wait_for_timeout(300)
        assert page.evaluate("document.documentElement.scrollWidth") <= width, view
        assert page.evaluate(BOXES) == [], view


def test_every_picture_says_its_figures_in_a_sentence(page):
    """A text alternative of its own for each picture a step has."""
    kinds = {"Snare": ["Level", "Curve", "Spectrum"], "Bass": ["Level", "Curve", "Spectrum"]}
    for strip, pictures in kinds.items():
        page.click(f"nav.tree >> text='{strip}'")
        page.wait_for_selector("[data-figure=matched_db]")
        for name in pictures:
            page.click(f"[aria-label='Left picture'] >> text='{name}'")
            page.wait_for_function("[...document.querySelectorAll('.pictures figure')].length === 2")
            page.wait_for_function(
                "[...document.querySelectorAll('.pictures figcaption')].every((one) => /-?\\d+\\.\\d/.test(one.textContent))"
            )
    page.click("header nav >> text=Contrast")
    page.wait_for_function("/LU before/.test(document.querySelector('.contrast-plot figcaption')?.textContent ?? '')")
    page.click("header nav >> text=Bench")
    page.wait_for_function("/\\d/.test(document.querySelector('.chart figcaption')?.textContent ?? '')")
    assert page.locator("figure:not([aria-label])").count() == 0


def test_skip_links_lead_into_each_part_of_the_page(page):
    page.keyboard.press("Tab")
    seen = []
    for part, inside in (("strips", "nav.tree"), ("path", ".path"), ("settings", ".editor"), ("ledger", "aside.ledger"),
                         ("transport", "footer.transport")):  # fmt: skip
        page.focus(f".skip button:has-text('Skip to the {part}')")
        assert page.locator(".skip").bounding_box()["width"] > 60  # seen while it has the focus
        page.keyboard.press("Enter")
        seen.append(page.evaluate("(inside) => Boolean(document.activeElement.closest(inside))", inside))
    assert seen == [True] * 5


def test_what_happens_by_itself_is_announced_once_and_without_chatter(page):
    said = lambda what: page.inner_text(f"[data-announce={what}]")  # noqa: E731
    page.click("nav.tree >> text=Snare")
    page.click(".path .plate >> text=Compressor")
    page.wait_for_function("/^Compressor, Chorus: peak .* dB/.test(document.querySelector('[data-announce=ledger]').textContent)")
    page.evaluate(
        """() => { window.said = []; new MutationObserver(() => window.said.push(
        document.querySelector('[data-announce=ledger]').textContent)).observe(
        document.querySelector('[data-announce=ledger]'), { childList: true, characterData: true, subtree: true }); }"""
    )
    first = said("ledger")
    page.focus("[data-setting=threshold_db]")
    for _ in range(12):
        page.keyboard.press("ArrowLeft")
    page.wait_for_function("(first) => document.querySelector('[data-announce=ledger]').textContent !== first", arg=first)
    assert page.evaluate("window.said.length") <= 2
    page.click("[aria-label='Mute Snare']")
    page.wait_for_function("/mute/i.test(document.querySelector('[data-announce=silence]').textContent)")
    page.click("[aria-label='Mute Snare']")
    page.click(".play")
    page.wait_for_function("document.querySelector('[data-announce=playing]').textContent === 'Playing Chorus.'")
    page.click("[aria-label=Stop]")
    page.wait_for_function("document.querySelector('[data-announce=playing]').textContent === 'Stopped.'")


@pytest.mark.parametrize("size", [20, 24])
def test_larger_text_is_not_cut_off(page, size):
    """The text size of the browser: everything grows with it."""
    page.add_init_script(
        f"new MutationObserver((_, own) => {{ if (!document.documentElement) return;"
        f" document.documentElement.style.fontSize = '{size}px'; own.disconnect(); }}).observe(document, {{ childList: true }})"
    )
    page.reload()
    page.wait_for_selector("[data-figure=matched_db]")
    assert page.evaluate("getComputedStyle(document.documentElement).fontSize") == f"{size}px"
    assert page.evaluate("getComputedStyle(document.body).fontSize") == f"{size * 0.8125:g}px"
    page.wait_for_timeout(300)
    assert page.evaluate("document.documentElement.scrollWidth") <= 1280
    assert page.evaluate(BOXES) == []


def test_difference_of_another_strip_falls_back_to_after_and_a_drag_is_called_off_by_escape(page):
    page.click("nav.tree >> text=Snare")
    page.click(".path .plate >> text=Compressor")
    page.keyboard.press("c")
    page.wait_for_selector("[role=radio][aria-checked=true]:has-text('Difference')")
    page.click("nav.tree >> text='Organ'")
    page.wait_for_selector("[role=radio][aria-checked=true]:has-text('After')")
    page.wait_for_selector("text=you hear After again")
    page.click("nav.tree >> text=Snare")
    page.click(".path .plate >> text=Compressor")
    page.wait_for_selector("[data-picture=threshold]")
    value = "document.querySelector('[role=slider][data-setting=threshold_db]').ariaValueNow"
    before = page.evaluate(value)
    box = page.locator("[data-picture=threshold]").bounding_box()
    page.mouse.move(box["x"] + 60, box["y"] + 6)
    page.mouse.down()
    page.mouse.move(box["x"] + 60, box["y"] + 50, steps=4)
    page.wait_for_function(f"{value} !== '{before}'")
    page.keyboard.press("Escape")
    page.wait_for_function(f"{value} === '{before}'")
    page.mouse.move(box["x"] + 60, box["y"] + 90, steps=3)
    page.mouse.up()
    assert page.evaluate(value) == before
