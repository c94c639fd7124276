"""Keys, clicks and the wheel at random: the document is what the history says, and nothing is edited that no key explains."""

import os
import random

import pytest

from tests.browser.conftest import saved, until, version

#: Presses in a run of the tests; `RANDOM_PRESSES=2000` looks for two minutes and longer.
PRESSES = int(os.environ.get("RANDOM_PRESSES", "160"))
#: Keys that listen, look and walk: none of them edits, wherever they are pressed but in a list or on a slider.
LOOKING = (
    "z",
    "x",
    "c",
    "e",
    "Space",
    "g",
    "o",
    "Home",
    "PageUp",
    "PageDown",
    "v",
    "Shift+V",
    "Escape",
    "F6",
    "Tab",
    "Shift+Tab",
)
#: Keys that may edit.
EDITING = (
    "b", "Shift+B", "p", "f", "u", "m", "s", "Delete", "Control+d", "Control+c", "Control+v", "r", "Shift+1", "1", "2",
    "ArrowUp", "ArrowDown", "ArrowLeft", "ArrowRight", "k", "n", "Control+z", "Control+Shift+z", "Enter",
)  # fmt: skip
#: Places that a click or the wheel only looks at.
GROUNDS = ("nav.tree .name", ".path .plate .face", "aside.ledger h2", ".pictures figure .plot", "header nav button")


def history(page):
    number = page.url.rsplit("#/", 1)[1].split("/")[0]
    return page.evaluate(f"fetch('/api/sessions/{number}/history').then((answer) => answer.json())")


def go_to(page, position):
    """To a place of the history, as its list does."""
    now = version(page)
    answer = page.evaluate(
        "([number, asked]) => fetch(`/api/sessions/${number}/history`, { method: 'POST', body: JSON.stringify(asked),"
        " headers: { 'content-type': 'application/json' } }).then((answer) => answer.status)",
        [now["id"], {"position": position, "tab": "another", "since": now["revision"]}],
    )
    assert answer == 200


def strips(page):
    """The document but for what is a matter of listening, and what is measured and kept beside the edits."""

    def plain(part):
        if isinstance(part, dict):
            return {name: plain(value) for name, value in part.items() if name not in ("solo", "match")}
        return [plain(value) for value in part] if isinstance(part, list) else part

    return plain(version(page)["session"]["strips"])


class Pending:
    """What the page has asked for that may change the session, and has no answer yet."""

    def __init__(self, page):
        self.page, self.requests, self.sent = page, set(), []
        page.on("request", self._begun)
        for name in ("requestfinished", "requestfailed"):
            page.on(name, lambda request: self.requests.discard(request))

    def _begun(self, request):
        if request.method != "GET" and "/studies/" not in request.url:
            self.requests.add(request)
            self.sent.append(f"{request.url.split('/api/')[1]} {request.post_data}"[:300])

    def settled(self):
        """Once what was pressed has been taken up, a frame later, and answered."""
        self.page.evaluate("new Promise((done) => requestAnimationFrame(() => setTimeout(done)))")
        saved(self.page)
        until(self.page, lambda: not self.requests)


def place(page, pending):
    """Where in the history the document is; a match that is stored beside the edits does not count."""
    pending.settled()
    told = history(page)
    return told["position"], len(told["edits"])


@pytest.mark.parametrize("seed", [1])
def test_the_document_is_what_the_history_says_and_looking_edits_nothing(page, seed):
    rng, pending = random.Random(seed), Pending(page)
    page.on("dialog", lambda dialog: dialog.accept())
    began, before = strips(page), place(page, pending)[0]
    log = []
    for _ in range(PRESSES):
        act = rng.random()
        at = place(page, pending)
        if act < 0.35:
            # No slider or list has the focus: there an arrow or a letter is an edit, as it should be.
            page.evaluate("document.querySelector('dialog') ? 0 : document.querySelector('nav.tree [tabindex=\"0\"]')?.focus()")
            key = rng.choice(LOOKING)
            log.append(key)
            page.keyboard.press(key)
            looked = True
        elif act < 0.6:
            key = rng.choice(EDITING)
            log.append(key)
            page.keyboard.press(key)
            looked = False
        else:
            seen = page.locator(rng.choice(GROUNDS)).all()
            shown = [one for one in seen if one.is_visible()]
            if not shown or page.locator("dialog").count():
                page.keyboard.press("Escape")
                continue
            box = rng.choice(shown).bounding_box()
            x, y = box["x"] + rng.random() * box["width"], box["y"] + rng.random() * box["height"]
            log.append(f"{'wheel' if act > 0.8 else 'click'} {x:.0f} {y:.0f}")
            page.mouse.move(x, y)
            if act > 0.8:
                page.mouse.wheel(0, rng.choice((-120, 120)))
            else:
                page.mouse.click(x, y)
            looked = True
        if looked:
            assert place(page, pending) == at, f"{log[-8:]} sent {pending.sent[-2:]}"
    page.keyboard.press("Escape")
    pending.settled()
    # Everything undone is where it began, and done again where it was.
    ended = strips(page)
    at = place(page, pending)[0]
    go_to(page, before)
    until(page, lambda: strips(page) == began)
    go_to(page, at)
    until(page, lambda: place(page, pending)[0] == at)
    assert strips(page) == ended
    # The page shows what is stored.
    names = page.locator("nav.tree [role=treeitem]").evaluate_all("rows => rows.map((row) => row.ariaLabel)")
    until(page, lambda: set(names) <= {strip["name"] for strip in strips(page)})
