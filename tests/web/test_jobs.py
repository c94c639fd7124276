"""Jobs: each sort has a queue of its own, a cancelled one ends whatever its work does, and the server ends too."""

import subprocess
import sys
import threading
import time

from saltanvil.engine.render import Cancelled
from saltanvil.web.jobs import CANCEL_S, RUNNING, JobRunner
from tests.conftest import PATIENCE_S, wait_for


def test_jobs_that_stand_still_hold_up_neither_other_sorts_nor_for_ever_their_own():
    runner, release = JobRunner(), threading.Event()
    try:
        stuck = [runner.start(1, "export", f"stuck {n}", lambda job: release.wait()) for n in range(RUNNING)]
        waiting = runner.start(1, "export", "waiting", lambda job: None)
        other = runner.start(1, "import", "other", lambda job: None)
        wait_for(lambda: other.state == "done")
        assert waiting.state == "waiting" and {job.state for job in stuck} == {"running"}
        began = time.monotonic()
        stuck[0].cancel()
        wait_for(lambda: stuck[0].state == "cancelled")
        assert time.monotonic() - began >= CANCEL_S / 2  # it had its time to stop by itself
        wait_for(lambda: waiting.state == "done")
        release.set()
        wait_for(lambda: stuck[1].state == "done")
        assert stuck[0].state == "cancelled"  # though its work ended well in the end
    finally:
        release.set()
        runner.close()


def test_a_job_that_listens_is_cancelled_at_once_and_one_that_waits_never_begins():
    runner, begun = JobRunner(), threading.Event()

    def work(job):
        begun.set()
        while not job.cancelled():
            time.sleep(0.005)
        raise Cancelled

    jobs = [runner.start(1, "check", f"job {n}", work) for n in range(RUNNING + 1)]
    wait_for(begun.is_set)
    jobs[-1].cancel()
    assert jobs[-1].state == "cancelled"
    runner.close()
    assert {job.state for job in jobs} == {"cancelled"}


def test_files_of_a_job_that_ended_too_late_are_removed(tmp_path):
    runner, release = JobRunner(), threading.Event()

    def work(job):
        release.wait()
        (tmp_path / "file").write_text("x")
        job.paths = [tmp_path / "file"]

    job = runner.start(1, "export", "late", work)
    wait_for(lambda: job.state == "running")
    job.cancel()
    wait_for(lambda: job.state == "cancelled")
    release.set()
    wait_for(lambda: not (tmp_path / "file").exists() and job not in runner._running["out"])
    runner.close()


STUCK_SERVER = """
import sys, threading
from concurrent.futures import ThreadPoolExecutor
from saltanvil import cli
cli.END_S = 1.0
pool = ThreadPoolExecutor(1)  # whose thread Python would wait for
pool.submit(threading.Event().wait)
cli.main(["serve", "--data", sys.argv[1], "--port", "0", "--empty", "--until-stdin-closes"])
"""


def test_the_server_ends_though_a_thread_waits_for_a_disk(tmp_path):
    process = subprocess.Popen(
        [sys.executable, "-c", STUCK_SERVER, str(tmp_path / "data")], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    try:
        while "http://" not in process.stdout.readline():
            assert process.poll() is None
        process.stdin.close()
        assert process.wait(PATIENCE_S) == 0
    finally:
        process.kill()
