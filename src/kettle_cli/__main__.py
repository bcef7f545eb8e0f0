"""Reads the words after ./kettle and runs one command; bad input ends with status 2."""

import os
import sys

from kettle_cli.words import parser
from kettle_core.errors import KettleError


def main() -> int:
    """Run the command; an error of ours is a sentence, not a trace."""
    # What is written below the data folder is the user's alone.
    os.umask(0o077)
    options = parser().parse_args()
    try:
        status = int(options.run(options))
        sys.stdout.flush()
        return status
    except BrokenPipeError:
        # Who reads has enough, as head has.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except KettleError as error:
        print(error, file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("Interrupted.", file=sys.stderr)
        return 130


if __name__ == "__main__":
    sys.exit(main())
