"""Every option of every command does something."""

import argparse
import ast
import unittest
from pathlib import Path

from kettle_cli.paths import ROOT
from kettle_cli.words import parser

FOLDERS = (ROOT / "src" / "kettle_cli", ROOT / "bench" / "kettle_bench")


def commands(top, words=()):
    """All commands with their words, through all that have words of their own."""
    below = [a for a in top._actions if isinstance(a, argparse._SubParsersAction)]
    if top.get_default("run"):
        yield words, top
    for action in below:
        for word, command in action.choices.items():
            yield from commands(command, (*words, word))


def read_of_options(path):
    """Names that a module reads of what it calls `options`, also by getattr and a table's keys."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Attribute) and getattr(node.value, "id", "") == "options":
            found.add(node.attr)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            found.add(node.value if node.value.isidentifier() else "")
    return found


def modules_of(command):
    """The module that runs a command, and those of ours beside it that it imports."""
    where = command.get_default("run").__closure__
    name = next(c.cell_contents for c in where if "." in str(c.cell_contents))
    path = file_of(name)
    yield path
    for node in ast.walk(ast.parse(path.read_text())):
        module = getattr(node, "module", None) or ""
        if module.startswith(("kettle_cli", "kettle_bench")) and file_of(module):
            yield file_of(module)


def file_of(module):
    """Where a module lies; None where it is none of these."""
    below = Path(*module.split(".")).with_suffix(".py")
    return next((f.parent / below for f in FOLDERS if (f.parent / below).exists()), None)


class Options(unittest.TestCase):
    def test_each_is_read_by_the_command_that_has_it(self):
        count = 0
        for words, command in commands(parser()):
            read = set().union(*map(read_of_options, modules_of(command)))
            for action in command._actions:
                if isinstance(action, argparse._HelpAction | argparse._SubParsersAction):
                    continue
                count += 1
                with self.subTest(words=words, option=action.dest):
                    self.assertIn(action.dest, read)
        self.assertGreater(count, 80)
