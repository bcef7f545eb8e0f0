"""say: one command to a running engine, for keys of the whole system and for other programs.

It imports nothing but the standard library and is answered in some ms; see docs/record.md.
"""

import json
import os
import socket
import sys
import time
import uuid
from pathlib import Path
from typing import Any

from kettle_engine.addresses import line_path

TIMEOUT_S = 10.0
USAGE = """usage: ./kettle say WORD [--json]

  start [SCENE]       record the rig that was opened last, at once
  pause, go-on        leave out what comes, and go on in the same take
  mark [TEXT]         keep this place, with a word or two
  scene NAME          go over to a scene, by its name or id
  step [NAME]         begin the next step of the running order, or this one
  close-up [3]        go nearer to the pointer, twice or three times; the same again goes back
  hide, show INPUT    an input's picture in all scenes
  mute, unmute INPUT  an input's sound in all scenes
  stop                end the take and keep it
  start-over --yes    throw away what was recorded of this take and begin again
  give-up --yes       throw away what was recorded of this take
  status              what is going on
"""
ALONE = {"pause": "pause", "go-on": "go-on"}
OF_INPUT = ("hide", "show", "mute", "unmute")
# What would be lost is asked for once.
LOSES = {"start-over": "start_over", "give-up": "give_up"}


def say(options: Any) -> int:
    """Say it, from the words of the one command."""
    return main(options.words)


def command(words: list[str]) -> dict[str, Any]:
    """The command of some words. Raises ValueError with a sentence."""
    if not words:
        raise ValueError(USAGE)
    word, text = words[0], " ".join(words[1:])
    if word in LOSES:
        if text != "--yes":
            raise ValueError(f"“{word}” throws away what was recorded of this take. Add --yes.")
        return {"do": LOSES[word]}
    if word in ("stop", "status", *ALONE) and text:
        raise ValueError(f"“{word}” stands alone, got “{text}” after it.")
    if word in ("stop", "status"):
        return {"do": word}
    if word == "start":
        return {"do": "start", "scene": text}
    if word in ALONE:
        return {"do": "cue", "what": word}
    if word == "mark":
        return {"do": "cue", "what": "mark", "text": text}
    if word == "step":
        return {"do": "step", "step": text}
    if word == "close-up":
        return {"do": "cue", "what": "close-up", **({"times": _times(text)} if text else {})}
    if word in (*OF_INPUT, "scene"):
        name = "scene" if word == "scene" else "input"
        if not text:
            raise ValueError(f"Which {name}? Say ./kettle say {word} NAME.")
        return {"do": "cue", "what": word, name: text}
    raise ValueError(f"There is no word “{word}”.\n\n{USAGE}")


def _times(text: str) -> float:
    if text not in ("2", "3"):
        raise ValueError(f"A close-up is 2 or 3 times as large, got “{text}”.")
    return float(text)


def ask(path: Path, values: dict[str, Any]) -> dict[str, Any]:
    """Send a command as a line and give the answer. Raises OSError."""
    deadline_ns = time.monotonic_ns() + int(TIMEOUT_S * 1e9)
    asked = {"id": str(uuid.uuid4()), "deadline_ns": deadline_ns, **values}
    with socket.socket(socket.AF_UNIX) as line:
        line.settimeout(TIMEOUT_S)
        line.connect(str(path))
        line.sendall(json.dumps(asked).encode() + b"\n")
        with line.makefile("rb") as file:
            answer: dict[str, Any] = json.loads(file.readline() or b'{"error": "No answer came."}')
    return answer


def in_words(said: str, answer: Any) -> str:
    """An answer for people."""
    if said == "status":
        take = answer.get("take")
        told = str(answer["state"])
        if take:
            paused = ", paused" if take.get("paused") else ""
            told += f" {take.get('take_s', take['elapsed_s']):.1f} s{paused}"
            told += f", scene {take.get('scene', '')}, {take['size_bytes'] / 1e6:.0f} MB"
            told += "".join(f"\n{sentence}" for sentence in take["trouble"])
        return told
    if isinstance(answer, dict) and "take_s" in answer:
        return f"{said} at {answer['take_s']:.1f} s"
    return said


def main(words: list[str]) -> int:
    """Say it; 0 where it was done, 1 where the engine refused, 2 where it can't be said."""
    as_json = "--json" in words
    words = [word for word in words if word != "--json"]
    if not words or words[0] in ("-h", "--help"):
        print(USAGE, end="")
        return 0 if words else 2
    root = Path(__file__).parents[2]
    try:
        asked = command(words)
        answer = ask(line_path(Path(os.environ.get("KETTLE_DATA", root / "var"))), asked)
    except ValueError as error:
        print(error, file=sys.stderr)
        return 2
    except OSError:
        told = "The recording engine is not running. Start it with ./kettle demo or serve."
        print(told, file=sys.stderr)
        return 2
    if as_json:
        print(json.dumps(answer, ensure_ascii=False))
    elif "error" in answer:
        print(answer["error"], file=sys.stderr)
    else:
        print(in_words(words[0], answer["ok"]))
    return 1 if "error" in answer else 0
