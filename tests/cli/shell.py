"""Commands one after the other in one process, which has imported what they need already."""

import json
import os
import subprocess
import sys

# What commands print is collected; what processes that they start print goes nowhere.
LOOP = """
import contextlib, io, json, os, sys, traceback
answers = os.fdopen(os.dup(1), "w")
os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
from kettle_cli.__main__ import main
for line in sys.stdin:
    sys.argv = ["kettle", *json.loads(line)]
    out, told = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(told):
        try:
            status = main()
        except SystemExit as end:
            status = int(end.code or 0)
        except BaseException:
            status = 1
            traceback.print_exc()
    print(json.dumps([status, out.getvalue(), told.getvalue()]), file=answers, flush=True)
"""


class Shell:
    """`run` is a command as it is typed, without ./kettle."""

    def __init__(self, data, here):
        environment = {
            **os.environ,
            "KETTLE_DATA": str(data),
            # How large pictures are decides nothing of what commands say.
            "KETTLE_DEMO_PART": "3",
            "PYTHONPATH": os.pathsep.join(p for p in sys.path if p),
            "DJANGO_SETTINGS_MODULE": "kettle_web.settings",
        }
        pipe = subprocess.PIPE
        self._process = subprocess.Popen(
            [sys.executable, "-c", LOOP], stdin=pipe, stdout=pipe, text=True, env=environment,
            cwd=here,
        )  # fmt: skip

    def run(self, *words):
        """Status, output and what was told beside it."""
        self._process.stdin.write(json.dumps([str(w) for w in words]) + "\n")
        self._process.stdin.flush()
        status, out, told = json.loads(self._process.stdout.readline())
        return subprocess.CompletedProcess(words, status, out, told)

    def close(self):
        """End the process."""
        self._process.stdin.close()
        self._process.wait(30)
        self._process.stdout.close()
