"""A real server in a process of its own and a real browser; the demo is made once for all tests."""

import re
import shutil
import subprocess
import sys
import time
from contextlib import contextmanager
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import sync_playwright

from saltanvil.cli.serving import ensure_demo
from tests.conftest import PATIENCE_S, locked, shared_folder

#: What the browser itself says of an answer that refuses, of a server that is gone, and of tests that read pictures.
WANTED = re.compile(r"Failed to load resource|WebSocket connection to|Canvas2D: Multiple readback")
ROOT = Path(__file__).parent.parent.parent
FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--autoplay-policy=no-user-gesture-required",
]  # fmt: skip


def until(page, test):
    """Look again until something holds that no event of the page tells of, such as what the server has."""
    end = time.monotonic() + PATIENCE_S
    while not (result := test()):
        assert time.monotonic() < end, "it does not come to hold"
        page.wait_for_timeout(50)
    return result


def saved(page):
    """Wait until all that the page shows is stored."""
    page.wait_for_function("document.querySelector('.saved').textContent === 'Saved'")


def version(page):
    """The session as the server has it, with its revision, once what the page has sent is answered: the page shows it before."""
    saved(page)
    number = page.url.rsplit("#/", 1)[1].split("/")[0]
    return page.evaluate(f"fetch('/api/sessions/{number}').then((answer) => answer.json())")


def measured(page, place="aside.ledger"):
    """Wait until figures are those of the version that the server has; a match that was measured meanwhile makes one more."""

    def current():
        held = page.locator(place)
        shown = held.get_attribute("aria-busy"), held.get_attribute("data-revision")
        return shown == ("false", str(version(page)["revision"]))

    until(page, current)


@pytest.fixture(scope="session")
def demo_folder(tmp_path_factory):
    """The demo, made by whichever worker comes first."""
    folder = shared_folder(tmp_path_factory) / "demo"
    made = folder.with_suffix(".made")
    with locked(folder):
        if not made.exists():  # opened once more, it would change under whoever copies it
            ensure_demo(folder)
            made.touch()
    return folder


@contextmanager
def serving(data, port=0, more=()):
    """The address of a server over a folder. It ends when its standard input closes."""
    command = [
        sys.executable, "-m", "saltanvil.cli", "serve", "--port", str(port), "--data", str(data),
        "--until-stdin-closes", *more,
    ]  # fmt: skip
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    address = ""
    while "http://" not in address:
        address = process.stdout.readline()
        assert address, "the server ended"
    yield address.split(" at ")[1].strip().rstrip("/")
    process.stdin.close()
    process.wait(20)


@pytest.fixture(scope="session")
def shared_server(demo_folder, tmp_path_factory):
    """One server for all tests that leave nothing behind but a session of their own."""
    data = tmp_path_factory.mktemp("shared") / "data"
    shutil.copytree(demo_folder, data)
    with serving(data) as address:
        yield address


@pytest.fixture
def server(demo_folder, tmp_path):
    """A server of the test's own, over a copy of the demo."""
    shutil.copytree(demo_folder, tmp_path / "data")
    with serving(tmp_path / "data") as address:
        yield address


@pytest.fixture(scope="session")
def browser():
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium-headless-shell"), args=FLAGS)
        yield browser
        browser.close()


@contextmanager
def opened(browser, address, session=None):
    """The demo on its first screen; any error of the page, and whatever it tells the console, fails the test.

    Waiting on conditions needs eval, which the served policy forbids; hence bypass_csp.
    """
    context = browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True, bypass_csp=True)
    if session is not None:
        context.add_init_script(f"localStorage['saltanvil.session'] ??= '{session}'")
    context.set_default_timeout(PATIENCE_S * 1000)
    page = context.new_page()
    wrong = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.on(
        "console",
        lambda told: wrong.append(told.text) if told.type in ("warning", "error") and not WANTED.match(told.text) else None,
    )
    page.goto(address)
    page.wait_for_selector("[data-figure=matched_db]")
    yield page
    context.close()
    assert not wrong, wrong


@pytest.fixture
def page(browser, shared_server):
    """A copy of the demo session of its own; presets it makes are taken away again."""
    made = httpx.post(f"{shared_server}/api/sessions/1/duplicate").json()["id"]
    try:
        with opened(browser, shared_server, made) as page:
            yield page
    finally:
        httpx.delete(f"{shared_server}/api/sessions/{made}")  # its name is free again
        for preset in httpx.get(f"{shared_server}/api/presets").json():
            httpx.delete(f"{shared_server}/api/presets/{preset['id']}")


@pytest.fixture
def page_alone(browser, server):
    """The demo as it is after the first start, on a server of its own."""
    with opened(browser, server) as page:
        yield page
