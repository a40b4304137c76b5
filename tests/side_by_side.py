"""Runs tests side by side: ``pytest -p side_by_side --waiting 8``.

Everything is collected once; then workers are forked, so that none has to collect or to load anything again. Those that
wait for devices, programs and screens are many; those that compute are as many as there are cores, and give way.
"""

import os
import random
import sys
from collections import deque
from multiprocessing import Pipe
from multiprocessing.connection import wait

import pytest
from _pytest.runner import pytest_sessionfinish

GIVES_WAY = 5
"""How much nicer a worker that computes is than one that waits."""
WAITS = ("namespaces", "terminal", "database")
"""Fixtures of tests that wait for something outside their own process."""


def pytest_addoption(parser):
    parser.addoption("--waiting", type=int, default=0, help="how many tests that wait run side by side")
    parser.addoption("--order", type=int, default=None, help="the seed of a random order")


class Worker:
    """A process that runs one test after the other, and sends what came of each."""

    def __init__(self, session, queue, number, gives_way, others):
        self.queue, self.running = queue, None
        self.near, far = Pipe()
        sys.stdout.flush()
        self.pid = os.fork()
        if not self.pid:
            for each in (self.near, *(other.near for other in others)):
                each.close()
            _work(session, far, number, gives_way)
        far.close()

    def go_on(self):
        """Start the next test, or end."""
        self.running = self.queue.popleft() if self.queue else None
        self.near.send(self.running)


def _work(session, far, number, gives_way):
    """Be a worker, until there is nothing left to do."""
    config, status = session.config, 1
    try:
        os.nice(gives_way)
        capturing = config.pluginmanager.getplugin("capturemanager")
        capturing.stop_global_capturing()
        capturing.start_global_capturing()
        capturing.suspend_global_capture()
        config.pluginmanager.unregister(name="terminalreporter")  # the first process tells
        reports = []
        config.pluginmanager.register(Takes(reports))
        config.hook.pytest_worker_begins(number=number)
        while (place := far.recv()) is not None:
            reports.clear()
            item = session.items[place]
            item.ihook.pytest_runtest_protocol(item=item, nextitem=session)  # what is the session's is kept
            far.send([config.hook.pytest_report_to_serializable(config=config, report=each) for each in reports])
        pytest_sessionfinish(session)
        status = 0
    except (EOFError, KeyboardInterrupt):
        pass
    finally:
        sys.stdout.flush()
        os._exit(status)


class Takes:
    """Takes down what comes of a test."""

    def __init__(self, reports):
        self.reports = reports

    def pytest_runtest_logreport(self, report):
        self.reports.append(report)


class NewHooks:
    """What this plugin asks others."""

    def pytest_workers_begin(self, session):
        """Do what is done once for all workers, before they are forked."""

    def pytest_worker_begins(self, number):
        """Do what a worker needs for itself, in it and before its first test."""


def pytest_addhooks(pluginmanager):
    pluginmanager.add_hookspecs(NewHooks)


@pytest.hookimpl(tryfirst=True)
def pytest_runtestloop(session):
    config = session.config
    if not config.option.waiting or config.option.collectonly or session.testsfailed:
        return None
    places = list(range(len(session.items)))
    if config.option.order is not None:
        random.Random(config.option.order).shuffle(places)
    waits = [any(each in session.items[place].fixturenames for each in WAITS) for place in places]
    waiting = deque(place for place, does in zip(places, waits, strict=True) if does)
    computing = deque(place for place, does in zip(places, waits, strict=True) if not does)
    config.hook.pytest_workers_begin(session=session)
    workers = []
    wanted = [(computing, GIVES_WAY)] * (os.cpu_count() or 1) + [(waiting, 0)] * config.option.waiting
    for number, (queue, gives_way) in enumerate(wanted):
        if len(queue) > sum(each.queue is queue for each in workers):
            workers.append(Worker(session, queue, number, gives_way, workers))
    for each in workers:
        each.go_on()
    while workers:
        for near in wait([each.near for each in workers]):
            worker = next(each for each in workers if each.near is near)
            try:
                reports = near.recv()
                _tell(config, session.items[worker.running], reports)
                if session.shouldfail or session.shouldstop:
                    worker.queue.clear()
                worker.go_on()
            except EOFError:
                status = os.waitstatus_to_exitcode(os.waitpid(worker.pid, 0)[1])
                workers.remove(worker)
                if worker.running is not None:
                    _tell_lost(config, session.items[worker.running], status)
    if session.shouldfail:
        raise session.Failed(session.shouldfail)
    return True


def _tell(config, item, reports):
    config.hook.pytest_runtest_logstart(nodeid=item.nodeid, location=item.location)
    for each in reports:
        report = config.hook.pytest_report_from_serializable(config=config, data=each)
        config.hook.pytest_runtest_logreport(report=report)
    config.hook.pytest_runtest_logfinish(nodeid=item.nodeid, location=item.location)


def _tell_lost(config, item, status):
    """A test that takes its worker down is a failure, whatever it is."""
    why = f"its worker ended with {status} while it ran"
    report = pytest.TestReport(item.nodeid, item.location, {}, "failed", why, "call")
    config.hook.pytest_runtest_logreport(report=report)
