"""What sounds goes first where the system grants it, and nowhere else is anything changed."""

import os
import threading

import pytest

from saltanvil.engine.priority import STUDY_NICENESS, lower_priority, realtime_priority


def in_thread(work):
    """What it returns, in a thread of its own."""
    result = []
    thread = threading.Thread(target=lambda: result.append(work()))
    thread.start()
    thread.join()
    return result[0]


def policy():
    return os.sched_getscheduler(0) & ~os.SCHED_RESET_ON_FORK


def test_a_sounding_thread_goes_first_and_those_it_starts_do_not(monkeypatch):
    granted = []
    monkeypatch.setattr(os, "sched_setscheduler", lambda *asked: granted.append(asked))
    in_thread(realtime_priority)
    [(thread, how, parameters)] = granted
    assert thread == 0 and how == os.SCHED_RR | os.SCHED_RESET_ON_FORK
    assert parameters.sched_priority == os.sched_get_priority_min(os.SCHED_RR)


def test_the_system_does_as_it_was_asked():
    """sched(7): SCHED_RESET_ON_FORK."""

    def work():
        realtime_priority()
        return policy(), in_thread(policy)

    own, started = in_thread(work)
    if own != os.SCHED_RR:
        pytest.skip("this user has no real-time priorities")
    assert started == os.SCHED_OTHER and policy() == os.SCHED_OTHER


def test_where_it_is_refused_or_unknown_the_thread_goes_on(monkeypatch):
    def refused(*_):
        raise PermissionError("not granted")

    monkeypatch.setattr(os, "sched_setscheduler", refused)
    before = policy()
    in_thread(realtime_priority)
    monkeypatch.delattr(os, "sched_setscheduler")
    in_thread(realtime_priority)
    assert policy() == before


def test_a_study_gives_way_alone():
    own = os.getpriority(os.PRIO_PROCESS, 0)

    def work():
        lower_priority()
        return os.getpriority(os.PRIO_PROCESS, threading.get_native_id())

    assert in_thread(work) == max(STUDY_NICENESS, own) and os.getpriority(os.PRIO_PROCESS, 0) == own
