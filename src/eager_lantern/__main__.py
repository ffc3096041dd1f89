"""The executable: nothing is imported before interrupts and faults are taken care of."""

import sys

INTERRUPTED = 130


def run() -> None:
    """Run the command line and exit with its code; a traceback never reaches the user."""
    try:
        from .cli.app import main

        main()
    except KeyboardInterrupt:
        code: object = INTERRUPTED
    except SystemExit as leaving:
        code = leaving.code
    if code == INTERRUPTED:
        print("eager-lantern: interrupted", file=sys.stderr)
    sys.exit(code)  # type: ignore[arg-type]


if __name__ == "__main__":
    run()
