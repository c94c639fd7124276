"""A day of work at ten times the speed of a hand: `python benchmarks/day.py [MINUTES]` (144 are a day; 10 unless said).

Imports, edits, drags, plays, studies, slots, blind tests, deliveries, checks, packs, undo, tabs opened and closed, in a copy of
the demo; every six minutes (an hour of the day) the server is killed in the midst of it. Nothing acknowledged may be lost, no
memory, descriptor, thread or file may pile up, no play may have a gap but by a kill, every job ends, and `saltanvil check` finds
nothing. Prints a line a minute, and at the end what is wrong. On a machine that is shared, gaps count only while it is ours.
"""

import contextlib
import io
import json
import random
import subprocess
import sys
import tempfile
import threading
import time
from collections import deque
from dataclasses import dataclass, field
from pathlib import Path
from statistics import median
from typing import Any

import httpx
import soundfile

sys.path.insert(0, str(Path(__file__).parent.parent))

from ear import Ear
from server import begun, memory_mb

from saltanvil.cli.serving import ensure_demo
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from tests.schema_edits import World
from tests.signals import noise

#: A hand does something every four seconds.
SPEED, PAUSE_S = 10.0, 4.0 / 10.0
HOUR_S = 3600.0 / SPEED
#: A working session is begun anew from the demo after so long: random edits take it to pieces.
FRESH_S = 300.0
JOB_S = 300.0
#: How much more of something there may be at the end of a server's life than in its second third.
MEMORY_GROWTH, COUNT_GROWTH = 1.3, 12
#: No track begins later: drawn anywhere, one would make a song of hours, whose pictures take minutes.
LONGEST_START_S = 600.0
#: A gap says nothing of the server where other guests of the same host took more than this of the machine just before it.
TAKEN_SHARE, TAKEN_OVER_S = 0.05, 3.0
WEIGHTS = {
    "moved": 30, "drag": 14, "edit": 14, "undo": 8, "redo": 4, "go": 2, "play": 8, "study": 8, "slot": 4, "blind": 1.5, "tab": 3,
    "import": 1.5, "deliver": 1.5, "check": 0.4, "pack": 0.5, "preset": 1,
}  # fmt: skip


def plain(document: Any) -> Any:
    """Without what is measured beside the edits."""
    if isinstance(document, dict):
        return {name: plain(part) for name, part in document.items() if name != "match"}
    return [plain(part) for part in document] if isinstance(document, list) else document


class Machine:
    """How much of the machine's time its host gave to others, a look every half second."""

    def __init__(self) -> None:
        self.looks: deque[tuple[float, int, int]] = deque([self.look()], maxlen=round(TAKEN_OVER_S / 0.5) + 1)
        self.first = self.looks[0]
        threading.Thread(target=self.run, daemon=True).start()

    @staticmethod
    def look() -> tuple[float, int, int]:
        times = [int(field) for field in Path("/proc/stat").read_text().split("\n", 1)[0].split()[1:9]]
        return time.monotonic(), sum(times), times[7]

    def run(self) -> None:
        while True:
            time.sleep(0.5)
            self.looks.append(self.look())

    @staticmethod
    def share(before: tuple[float, int, int], after: tuple[float, int, int]) -> float:
        return (after[2] - before[2]) / max(1, after[1] - before[1])

    def taken(self) -> float:
        """The share of the last seconds."""
        return self.share(self.looks[0], self.look())

    def taken_in_all(self) -> float:
        return self.share(self.first, self.look())


@dataclass
class Life:
    """One server, from its start until it is killed, and what was seen of it."""

    process: "subprocess.Popen[str]"
    address: str
    memory: list[float] = field(default_factory=list)
    files: list[int] = field(default_factory=list)
    threads: list[int] = field(default_factory=list)

    def look(self) -> None:
        pids = [self.process.pid, *Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children").read_text().split()]
        self.memory.append(memory_mb(self.process))
        self.files.append(sum(len(list(Path(f"/proc/{pid}/fd").iterdir())) for pid in pids))
        self.threads.append(sum(len(list(Path(f"/proc/{pid}/task").iterdir())) for pid in pids))

    def growth(self) -> list[str]:
        third = len(self.memory) // 3
        if third < 4:
            return []
        wrong = []
        for name, values, most in (("memory", self.memory, None), ("descriptors", self.files, 1), ("threads", self.threads, 1)):
            was, now = median(values[third : 2 * third]), median(values[-third:])
            if now > (MEMORY_GROWTH * was if most is None else was + COUNT_GROWTH):
                wrong.append(f"{name} grew from {was:.0f} to {now:.0f}")
        return wrong


class Day:
    def __init__(self, data: Path, seed: int) -> None:
        self.data, self.rng = data, random.Random(seed)
        self.wrong: list[str] = []
        self.counts: dict[str, int] = {}
        self.gaps = self.gaps_taken = self.kills = 0
        self.machine = Machine()
        self.began, self.recent = time.monotonic(), deque[tuple[str, float]](maxlen=5)
        self.life = self.begin()
        self.http = httpx.Client(timeout=300.0)
        self.number, self.mirror, self.revision = 0, Session(name="none"), 0
        self.in_flight: Any = None
        self.uncertain = False
        self.ear: Ear | None = None
        self.ear_gaps = 0
        self.tabs = 0
        self.job: int | None = None
        self.job_began = 0.0
        self.fresh()

    # ---- the server ----------------------------------------------------------------------------------------------------

    def begin(self) -> Life:
        process, address = begun(self.data)
        assert process.stdout
        threading.Thread(target=process.stdout.read, daemon=True).start()
        return Life(process, address)

    def kill(self) -> None:
        """In the midst of an edit, of a play and of a job."""
        self.kills += 1
        threading.Timer(self.rng.random() * 0.05, self.life.process.kill).start()
        try:
            self.moved()
            self.moved()
        except httpx.TransportError:
            pass
        self.life.process.wait()
        self.wrong += [f"life {self.kills}: {text}" for text in self.life.growth()]
        self.leave()
        self.job = None  # jobs end with their server
        self.life = self.begin()
        left = [path.name for name in ("uploads", "exports") for path in (self.data / name).iterdir()]
        if left:
            self.wrong.append(f"after a kill there is left: {left[:5]}")
        self.compare("after a kill")
        self.listen()

    def url(self, what: str = "") -> str:
        return f"{self.life.address}/api/sessions/{self.number}{what}"

    def ask(self, method: str, url: str, **more: Any) -> Any:
        answer = self.http.request(method, url, **more)
        if answer.status_code >= 500:
            self.wrong.append(f"{method} {url.split('/api')[1]}: {answer.status_code} {answer.text[:200]}")
        return answer

    def compare(self, when: str) -> None:
        """What the server has against what it said it had."""
        view = self.ask("GET", self.url()).json()
        held, expected = plain(view["session"]), [plain(self.mirror.model_dump(mode="json"))]
        if self.in_flight is not None:  # it may have been stored, or not
            with contextlib.suppress(EditRefused):
                expected.append(plain(apply(self.mirror, self.in_flight).model_dump(mode="json")))
        if held not in expected and not self.uncertain:
            self.wrong.append(f"{when}: the session is not what was acknowledged (revision {view['revision']})")
        self.in_flight, self.uncertain = None, False
        self.take(view)

    def take(self, view: Any) -> None:
        self.mirror, self.revision = Session.model_validate(view["session"]), view["revision"]

    def fresh(self) -> None:
        """A copy of the demo to work in."""
        if self.number > 1:
            self.compare("at the end of a session")
            self.ask("DELETE", self.url())
        self.number = self.ask("POST", f"{self.life.address}/api/sessions/{self.rng.choice([1, 2])}/duplicate").json()["id"]
        self.take(self.ask("GET", self.url()).json())
        self.leave()
        self.listen()

    # ---- tabs ----------------------------------------------------------------------------------------------------------

    def listen(self) -> None:
        self.tabs += 1
        self.tab = f"day-{self.tabs}"
        self.ear = Ear(self.life.address, self.number, self.tab)
        self.ear_gaps = 0

    def heard(self) -> None:
        """Counts the gaps since last asked, and says after which acts they came."""
        if self.ear is not None and self.ear.gaps > self.ear_gaps:
            new, taken = self.ear.gaps - self.ear_gaps, self.machine.taken()
            self.ear_gaps = self.ear.gaps
            if taken > TAKEN_SHARE:
                self.gaps_taken += new
            else:
                self.gaps += new
            recent = ", ".join(f"{what} {seconds:.2f} s" for what, seconds in self.recent)
            at = f"at {time.monotonic() - self.began:.0f} s, {100 * taken:.0f} % of the machine taken by others"
            print(f"          {new} gaps {at}, after {recent}", flush=True)

    def leave(self) -> None:
        if self.ear is not None:
            self.heard()
            self.ear.close()
            self.ear = None

    # ---- what a hand does ------------------------------------------------------------------------------------------------

    def edit(self, edit: Any, **more: Any) -> None:
        self.in_flight = edit
        answer = self.ask("POST", self.url("/edits"), json={"edit": edit.model_dump(mode="json"), "tab": self.tab, **more})
        if answer.status_code == 200:
            self.mirror = apply(self.mirror, edit)
        self.in_flight = None

    def drawn(self, op: str | None = None) -> Any:
        """An edit that will be taken."""
        for _ in range(40):
            world = World(self.mirror, self.rng)
            data = {"op": "set", "values": [world.draw_moved()]} if op is None else world.edit()
            try:
                edit = EDIT.validate_python(data)
                after = apply(self.mirror, edit)
                if max(strip.start_s for strip in after.strips) <= LONGEST_START_S:
                    return edit
            except ValueError:
                continue
        return None

    def moved(self) -> None:
        edit = self.drawn()
        if edit is not None:
            self.edit(edit)

    def drag(self) -> None:
        """Moves over the socket as they are made, and one edit at the end."""
        edit = self.drawn()
        value = None if edit is None else edit.values[0].value
        if edit is None or isinstance(value, bool | str | list) or self.ear is None:
            return
        gesture = f"drag {self.tabs} {self.counts.get('drag', 0)}"
        for n in range(10):
            self.ear.send(type="move", values=[edit.values[0].model_dump(mode="json")], gesture=gesture, number=n)
            time.sleep(0.016)
        self.edit(edit, gesture=gesture, number=10)

    def edited(self) -> None:
        edit = self.drawn("any")
        if edit is not None:
            self.edit(edit)

    def history(self, what: str, body: dict[str, Any]) -> None:
        self.uncertain = True
        answer = self.ask("POST", self.url(what), json={"tab": self.tab, **body})
        if answer.status_code == 200:
            self.take(answer.json())
        elif answer.status_code != 409:
            self.wrong.append(f"{what}: {answer.status_code} {answer.text[:200]}")
        self.uncertain = False

    def go(self) -> None:
        edits = self.ask("GET", self.url("/history")).json()["edits"]
        if edits:
            self.history("/history", {"position": self.rng.choice(edits)["position"]})

    def play(self) -> None:
        if self.ear is None:
            return
        if self.rng.random() < 0.2:
            self.ear.send(type="stop")
        else:
            self.ear.send(type="passage", start_s=0.0, end_s=60.0, loop=True)
            self.ear.send(type="play", position_s=self.rng.uniform(0.0, 40.0))

    def study(self) -> None:
        strip = self.rng.choice(self.mirror.strips)
        passage = {"tab": self.tab, "strip_id": strip.id, "start_s": 4.0, "end_s": 12.0}
        what = self.rng.choice(["/studies/scope", "/studies/spectrum", "/contrast", "/studies/overview"])
        body = {"tab": self.tab, "strip_id": strip.id, "columns": 400} if what.endswith("overview") else passage
        if what == "/contrast":
            body = {"tab": self.tab, "scopes": [{"strip_id": strip.id}]}
        self.ask("POST", self.url(what), json=body)

    def slot(self) -> None:
        steps = [step.id for strip in self.mirror.strips for step in strip.path.walk()]
        if not steps:
            return
        of = {"of": "step", "id": self.rng.choice(steps)}
        stored = [{"op": "store_slot", **of, "slot": slot} for slot in (1, 2)]
        for data in (*stored, {"op": "switch_slot", **of, "slot": 1, "seed": f"s{self.rng.randrange(10**9)}"}):
            try:
                edit = EDIT.validate_python(data)
                apply(self.mirror, edit)
            except ValueError:
                return
            self.edit(edit)

    def blind(self) -> None:
        candidates = [{"what": "before"}, {"what": "after"}]
        body = {"tab": self.tab, "of": "strip", "id": "main", "candidates": candidates, "mode": "prefer", "rounds": 1,
                "start_s": 4.0, "end_s": 8.0}  # fmt: skip
        answer = self.ask("POST", self.url("/blind"), json=body)
        if answer.status_code == 200:
            letter = answer.json()["letters"][0]
            self.ask("POST", self.url("/blind/answer"), json={"tab": self.tab, "letter": letter})

    def new_tab(self) -> None:
        self.leave()
        self.listen()

    def started(self, answer: Any) -> None:
        if answer.status_code == 202:
            self.job, self.job_began = answer.json()["id"], time.monotonic()

    def bring(self) -> None:
        out = io.BytesIO()
        soundfile.write(out, noise(2, 48_000 * 5, self.rng.randrange(99)).T, 48_000, format="WAV")
        self.started(self.ask("POST", self.url("/media?name=day.wav"), content=out.getvalue()))
        self.wait()
        self.take(self.ask("GET", self.url()).json())

    def deliver(self) -> None:
        delivery = {"formats": ["wav24", "mp3-128"], "extent": "passage"}
        self.started(self.ask("POST", self.url("/delivery/files"), json={"delivery": delivery, "start_s": 2.0, "end_s": 10.0}))
        if self.rng.random() < 0.3 and self.job is not None:
            self.ask("DELETE", f"{self.life.address}/api/jobs/{self.job}")

    def check(self) -> None:
        self.started(self.ask("POST", self.url("/delivery/check"), json={"start_s": 2.0, "end_s": 8.0}))

    def pack(self) -> None:
        self.started(self.ask("POST", self.url("/archive")))

    def preset(self) -> None:
        body = {"kind": "gate", "name": f"Day {self.rng.randrange(5)}", "settings": {}, "replace": True}
        self.ask("POST", f"{self.life.address}/api/presets", json=body)

    def wait(self) -> None:
        """Until the job that was begun has ended."""
        while self.job is not None:
            job = self.ask("GET", f"{self.life.address}/api/jobs/{self.job}").json()
            if job.get("state") not in ("waiting", "running"):
                if job.get("state") == "failed" and "something went wrong" in (job.get("error") or ""):
                    self.wrong.append(f"a job failed: {job}")
                self.job = None
            elif time.monotonic() - self.job_began > JOB_S:
                self.wrong.append(f"a job does not end: {job}")
                self.job = None
            else:
                time.sleep(0.1)

    def act(self) -> None:
        began = time.monotonic()
        what = self.rng.choices(list(WEIGHTS), list(WEIGHTS.values()))[0]
        if what in ("deliver", "check", "pack", "import"):
            self.wait()
        {
            "moved": self.moved, "drag": self.drag, "edit": self.edited, "undo": lambda: self.history("/undo", {}),
            "redo": lambda: self.history("/redo", {}), "go": self.go, "play": self.play, "study": self.study, "slot": self.slot,
            "blind": self.blind, "tab": self.new_tab, "import": self.bring, "deliver": self.deliver, "check": self.check,
            "pack": self.pack, "preset": self.preset,
        }[what]()  # fmt: skip
        self.counts[what] = self.counts.get(what, 0) + 1
        self.recent.append((what, time.monotonic() - began))
        self.heard()

    def run(self, minutes: float) -> None:
        began = time.monotonic()
        hour, session, minute = began, began, began
        while (now := time.monotonic()) - began < 60.0 * minutes:
            if now - hour > HOUR_S:
                self.kill()
                hour = time.monotonic()
            if now - session > FRESH_S:
                self.fresh()
                session = now
            self.act()
            if not self.life.memory or now - self.looked > 5.0:
                self.life.look()
                self.looked = now
            if now - minute > 60.0:
                self.compare("every minute")
                minute = now
                life = self.life
                print(
                    f"{(now - began) / 60:5.0f} min  {sum(self.counts.values()):6} acts  {life.memory[-1]:5.0f} MB  "
                    f"{life.files[-1]:4} descriptors  {life.threads[-1]:3} threads  {self.gaps} gaps  "
                    f"(and {self.gaps_taken} while the machine was taken)  {len(self.wrong)} wrong",
                    flush=True,
                )
            time.sleep(max(0.0, PAUSE_S * self.rng.expovariate(1.0) - (time.monotonic() - now)))
        self.wait()
        self.compare("in the evening")
        self.leave()
        self.wrong += self.life.growth()
        assert self.life.process.stdin
        self.life.process.stdin.close()
        if self.life.process.wait(60) != 0:
            self.wrong.append("the server did not end by itself")
        if self.gaps:
            self.wrong.append(f"{self.gaps} gaps")
        checked = subprocess.run(
            [sys.executable, "-m", "saltanvil.cli", "check", "--data", str(self.data)], capture_output=True, text=True
        )
        if checked.returncode:
            self.wrong.append(f"check: {checked.stdout} {checked.stderr}")

    looked = 0.0


def main() -> int:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 10.0
    with tempfile.TemporaryDirectory() as folder:
        data = Path(folder) / "data"
        ensure_demo(data)
        day = Day(data, seed=int(time.time()))
        try:
            day.run(minutes)
        finally:
            day.life.process.kill()
        print(json.dumps(day.counts), f"{day.kills} kills")
        taken = f"{day.gaps_taken} gaps while more than {100 * TAKEN_SHARE:.0f} % of it was"
        print(f"{100 * day.machine.taken_in_all():.1f} % of the machine was taken by others; {taken}")
        print("\n".join(day.wrong) or "nothing wrong")
    return 1 if day.wrong else 0


if __name__ == "__main__":
    sys.exit(main())
