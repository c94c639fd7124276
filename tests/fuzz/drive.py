"""Mutated files given to the server and to the commands: each leads to a result or to words, never to a fault of the program."""

import contextlib
import io
import json
import logging
import random
import time
from pathlib import Path

from fastapi.testclient import TestClient

from saltanvil.cli import main
from saltanvil.studies.delivery.batch import JOURNAL, Journal
from saltanvil.web.app import create_app
from tests.fuzz.corpus import corpus, mutated

BASE = "http://127.0.0.1:8420"
#: Of a hundred files, how many are of each kind.
SHARES = {"audio": 50, "midi": 10, "presets": 8, "path": 8, "session": 10, "journal": 4, "sections": 5, "curve": 5}


class Faults(logging.Handler):
    """Keeps what is logged with a traceback."""

    def __init__(self):
        super().__init__(logging.ERROR)
        self.records = []

    def emit(self, record):
        self.records.append(record)


class Fuzz:
    """A server in this process, with files in a folder beside it."""

    def __init__(self, folder: Path, client: TestClient):
        self.folder, self.client = folder, client
        self.corpus = corpus(folder)
        self.session = client.post("/api/sessions", json={"name": "Fuzz"}).json()["id"]
        self.taken = dict.fromkeys(SHARES, 0)

    def run(self, seed: int) -> str | None:
        """One file; what is wrong with what came of it, or None."""
        rng = random.Random(seed)
        kind = rng.choices(list(SHARES), list(SHARES.values()))[0]
        name, whole = rng.choice(self.corpus[kind])
        data = mutated(rng, whole)
        path = self.folder / f"fuzz{Path(name).suffix}"
        path.write_bytes(data)
        faults = Faults()
        logging.getLogger().addHandler(faults)
        try:
            wrong = getattr(self, f"_{kind}")(name, data, path)
        except Exception as error:
            wrong = f"{type(error).__name__}: {error}"
        finally:
            logging.getLogger().removeHandler(faults)
            path.unlink(missing_ok=True)
        if faults.records:
            wrong = f"logged: {faults.records[0].getMessage()} {faults.records[0].exc_info}"
        return None if wrong is None else f"seed {seed}, {kind} {name}: {wrong}"

    def answer(self, kind, response):
        """None if the answer is a result or words."""
        if response.status_code < 400:
            self.taken[kind] += 1
            return None
        detail = response.json().get("detail") if response.headers["content-type"] == "application/json" else None
        if (response.status_code >= 500 and response.status_code != 507) or not isinstance(detail, str) or not detail:
            return f"answered {response.status_code} {response.text[:300]}"
        return None if str(self.folder) not in detail else f"names a path: {detail}"

    def job(self, kind, response):
        wrong = self.answer(kind, response)
        if wrong is not None or response.status_code >= 400:
            return wrong
        job = response.json()
        while job["state"] in ("waiting", "running"):
            time.sleep(0.002)
            job = self.client.get(f"/api/jobs/{job['id']}").json()
        if job["state"] == "failed" and ("something went wrong" in job["error"] or str(self.folder) in job["error"]):
            return f"the job says {job['error']}"
        return None if job["state"] in ("done", "failed") else job["state"]

    def command(self, *arguments):
        """A command in this process; its words are read, too."""
        told = io.StringIO()
        with contextlib.redirect_stderr(told), contextlib.redirect_stdout(io.StringIO()):
            status = main([str(argument) for argument in arguments])
        words = told.getvalue()
        if status not in (0, 1, 5) or "Traceback" in words or (status and not words.startswith("saltanvil: ")):
            return f"{arguments[0]} ended with {status}: {words[-500:]}"
        return None

    # ---- kinds -----------------------------------------------------------------------------------------------------------

    def _audio(self, name, data, path):
        url = f"/api/sessions/{self.session}/media?name={name}"
        wrong = self.job("audio", self.client.post(url, content=data)) or self.command("measure", path)
        if self.taken["audio"] % 50 == 49:  # a session of thousands of tracks is another test
            self.session = self.client.post("/api/sessions", json={"name": "Fuzz"}).json()["id"]
        return wrong

    def _midi(self, name, data, path):
        url = f"/api/sessions/{self.session}/imports"
        number = self.client.post(url, json={"names": [name]}).json()["id"]
        wrong = self.answer("midi", self.client.put(f"{url}/{number}/0", content=data))
        wrong = wrong or self.job("midi", self.client.post(f"{url}/{number}"))
        return wrong or self.answer("midi", self.client.get(f"{url}/{number}"))

    def _presets(self, name, data, path):
        response = self.client.post("/api/presets/file", content=data, headers={"content-type": "application/json"})
        return self.answer("presets", response) or self.answer("presets", self.client.get("/api/presets"))

    def _path(self, name, data, path):
        out = self.folder / "out.wav"
        wrong = self.command("process", self.folder / "wav16.wav", "-o", out, "--path", path)
        self.taken["path"] += out.exists()
        out.unlink(missing_ok=True)
        text = data.decode("utf-8", "replace")
        with contextlib.suppress(ValueError, RecursionError):
            edit = {"op": "set_path", "strip_id": "main", "steps": json.loads(text).get("steps")} if text[:1] == "{" else None
            response = self.client.post(f"/api/sessions/{self.session}/edits", json={"edit": edit})
            wrong = wrong or self.answer("path", response)
        return wrong

    def _session(self, name, data, path):
        wrong = self.job("session", self.client.post(f"/api/archives?name={name}", content=data))
        return wrong or self.command("unpack", path, "--data", self.folder / "unpacked")

    def _journal(self, name, data, path):
        out = self.folder / "batch"
        out.mkdir(exist_ok=True)
        (out / JOURNAL).write_bytes(data)
        with Journal(out, True) as journal:
            self.taken["journal"] += bool(journal.rows)
        return None

    def _sections(self, name, data, path):
        body = {"text": data.decode("latin-1")}
        return self.answer("sections", self.client.post(f"/api/sessions/{self.session}/sections/read", json=body))

    def _curve(self, name, data, path):
        return self.answer("curve", self.client.post("/api/curve/read", json={"text": data.decode("latin-1")}))


@contextlib.contextmanager
def fuzzing(folder: Path):
    with TestClient(create_app(folder / "data"), base_url=BASE, raise_server_exceptions=False) as client:
        yield Fuzz(folder, client)
