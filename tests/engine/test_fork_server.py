"""The server that the engine's processes are forked from: killed, left, used by many at once."""

import os
import signal
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from multiprocessing import Pipe
from pathlib import Path

from kettle_engine.fork_server import UNKNOWN_STATUS, ForkServer
from kettle_engine.line import Beat
from tests.engine.process import EngineProcess
from tests.engine.waiting import Waiting


def state_of(pid):
    """The state and the parent of a process, None where there is none."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return None
    return fields[0], int(fields[1])


def is_there(pid):
    return (state_of(pid) or ("Z",))[0] != "Z"


class Forking(Waiting, unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.server = ForkServer()

    def fork(self, work="say_nothing"):
        ours, theirs = Pipe()
        self.addCleanup(ours.close)
        with theirs, Beat.new() as (_, file):
            forked = self.server.fork(theirs.fileno(), file)
        self.addCleanup(forked.close)
        self.addCleanup(forked.kill)
        ours.send((f"tests.engine.odd_work:{work}",))
        self.until(lambda: forked.pid or not forked.is_alive)
        return ours, forked

    def test_how_each_ended_is_told_to_whom_it_belongs(self):
        (_, failed), (_, killed), (line, left) = self.fork("fail"), self.fork(), self.fork("echo")
        os.kill(killed.pid, signal.SIGTERM)
        self.assertTrue(killed.is_alive)
        killed.kill()
        self.assertTrue(failed.wait(30) and killed.wait(30))
        self.assertFalse(left.wait(0.1))
        # Those that were forked after it hold nothing of its line, so it hears that it is left.
        _, later = self.fork()
        line.close()
        self.assertTrue(left.wait(30))
        self.assertTrue(later.is_alive)
        statuses = [f.exit_status for f in (failed, killed, left, later)]
        self.assertEqual(statuses, [1, -signal.SIGKILL, 0, None])
        self.assertIsNone(state_of(killed.pid))

    def test_one_that_is_killed_leaves_its_processes_and_the_next_comes_from_another(self):
        (line, before), (_, other) = self.fork("echo"), self.fork()
        server = state_of(before.pid)[1]
        os.kill(server, signal.SIGKILL)
        self.until(lambda: not is_there(server))
        line.send(("still",))
        self.assertEqual(line.recv(), ("heard", "still"))
        other.kill()
        # That it is over is seen; nobody is left who knows how.
        self.assertTrue(other.wait(30))
        self.assertEqual(other.exit_status, UNKNOWN_STATUS)
        line, after = self.fork("echo")
        line.send(("kettle",))
        self.assertEqual(line.recv(), ("heard", "kettle"))
        self.assertNotEqual(state_of(after.pid)[1], server)

    def test_one_that_stands_still_holds_up_nobody_and_another_one_forks(self):
        _, before = self.fork("echo")
        server = state_of(before.pid)[1]
        os.kill(server, signal.SIGSTOP)
        self.addCleanup(os.kill, server, signal.SIGCONT)
        ours, theirs = Pipe()
        with ours, theirs, Beat.new() as (_, file):
            unborn = self.server.fork(theirs.fileno(), file)
            self.assertFalse(unborn.wait(0.1))
            self.assertEqual((unborn.pid, unborn.is_alive), (0, True))
            unborn.kill()
        self.assertEqual(unborn.exit_status, UNKNOWN_STATUS)
        _, after = self.fork()
        self.assertNotEqual(state_of(after.pid)[1], server)
        before.kill()
        self.assertTrue(before.wait(30))

    def test_many_threads_ask_at_the_same_moment(self):
        with ThreadPoolExecutor(8) as pool:
            found = list(pool.map(lambda _: self.fork("echo"), range(24)))
        self.assertEqual(len({forked.pid for _, forked in found}), 24)
        for number, (line, _) in enumerate(found):
            line.send((number,))
        self.assertEqual([line.recv()[1] for line, _ in found], list(range(24)))


class InTheEngine(unittest.TestCase):
    def family(self, engine):
        """Its processes and their parents, unless one is just being forked or replaced."""
        named = engine.answers()["pids"]
        found = [state_of(pid) for pid in named.values()]
        is_whole = "viewer" in named and all(found)
        return is_whole and (tuple(named.values()), [parent for _, parent in found])

    def test_it_loads_once_for_all_and_all_end_with_it_however_it_ends(self):
        for end in (signal.SIGTERM, signal.SIGKILL):
            with self.subTest(end), tempfile.TemporaryDirectory() as name:
                engine = EngineProcess(self, Path(name))
                pids, parents = engine.until(lambda: self.family(engine))  # noqa: B023
                servers = set(parents)
                self.assertEqual({state_of(s)[1] for s in servers}, {engine.process.pid})
                # A copy of the engine's own process: not a program that was started anew.
                of_engine = Path(f"/proc/{engine.process.pid}/cmdline").read_bytes()
                self.assertEqual(
                    {Path(f"/proc/{s}/cmdline").read_bytes() for s in servers}, {of_engine}
                )
                engine.process.send_signal(end)
                engine.until(lambda: not any(map(is_there, (*pids, *servers))))  # noqa: B023
