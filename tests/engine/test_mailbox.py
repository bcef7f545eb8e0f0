"""The engine's end of a line: nothing that the other end does or leaves undone makes it wait."""

import pickle
import socket
import struct
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from multiprocessing.connection import Connection

from kettle_engine.mailbox import Mailbox


class Mail(unittest.TestCase):
    def setUp(self):
        ours, theirs = socket.socketpair()
        self.box, self.other = Mailbox(ours), Connection(theirs.detach())
        self.addCleanup(self.other.close)
        self.addCleanup(self.box.close)

    def heard(self, count):
        """What the other end reads, while ours has it go out."""
        with ThreadPoolExecutor(1) as pool:
            reading = pool.submit(lambda: [self.other.recv() for _ in range(count)])
            while not reading.done():
                self.box.post()
                time.sleep(0.001)
        return reading.result()

    def test_what_is_sent_to_one_that_reads_nothing_waits_and_comes_in_order(self):
        sent = [(number, "x" * 40_000) for number in range(50)]
        for message in sent:
            self.assertTrue(self.box.send(message))
        self.assertGreater(self.box.waiting, 0)
        self.assertEqual(self.heard(len(sent)), sent)

    def test_of_what_is_only_the_newest_one_message_waits(self):
        self.box.send(("x" * 10_000_000,))
        for number in range(1000):
            self.box.send(("cues", number), "cues")
        self.box.send(("stop",))
        self.assertEqual(self.box.waiting, 3)
        self.assertEqual(self.heard(3)[1:], [("cues", 999), ("stop",)])

    def test_half_a_message_is_waited_for_without_waiting(self):
        data = pickle.dumps(("whole", "y" * 1000))
        head = struct.pack("!i", len(data))
        raw = socket.socket(fileno=self.other.fileno())
        self.addCleanup(raw.detach)
        for piece in (head[:2], head[2:] + data[:500]):
            raw.sendall(piece)
            self.assertEqual(self.box.collect(), [])
        raw.sendall(data[500:] + head)
        self.assertEqual(self.box.collect(), [("whole", "y" * 1000)])

    def test_one_that_has_gone_is_heard_to_the_end_and_told_nothing_more(self):
        self.other.send(("last", "words"))
        self.other.close()
        self.assertEqual(self.box.collect(), [("last", "words")])
        self.assertFalse(self.box.is_open)
        self.assertFalse(self.box.send(("more",)))
