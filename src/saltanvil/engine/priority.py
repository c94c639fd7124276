"""How the system shares its cores among threads: what sounds goes first, studies give way."""

import contextlib
import os
import threading

#: Of a study; the highest is 19.
STUDY_NICENESS = 10


def realtime_priority() -> None:
    """The calling thread goes before all that is not sound, as the threads do in which a browser plays, where the system grants
    it: on Linux, to root and to users with a limit for real-time priorities. Elsewhere it shares its core with the others.

    What it does must be short. Threads and processes that it starts are ordinary ones.
    """
    if hasattr(os, "sched_setscheduler"):
        lowest = os.sched_param(os.sched_get_priority_min(os.SCHED_RR))
        with contextlib.suppress(OSError):
            os.sched_setscheduler(0, os.SCHED_RR | os.SCHED_RESET_ON_FORK, lowest)


def lower_priority() -> None:
    """Lower the calling thread's priority (Linux keeps one for each thread): a study never delays the player."""
    if hasattr(os, "setpriority"):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), STUDY_NICENESS)
