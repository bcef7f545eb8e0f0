"""What processes of tests/engine/test_processes.py do."""

import os
import time


def echo(line):
    """Say back what is heard."""
    while True:
        line.beat()
        if message := line.receive(0.05):
            line.send("heard", *message)


def say_nothing(line):
    """Give no sign of life after the first one."""
    line.send("begun", os.getpid())
    time.sleep(600)


def work_long(line, beats_s):
    """Be busy for long, and say so from beside for some of it."""
    with line.beating(beats_s):
        line.send("begun", os.getpid())
        time.sleep(600)


def eat(line):
    """Take 200 MB."""
    eaten = b"x" * 200_000_000
    while len(eaten):
        line.beat()
        time.sleep(0.05)


def fail(line):
    """Make a mistake."""
    line.send("last words")
    raise ValueError("a mistake of ours")
