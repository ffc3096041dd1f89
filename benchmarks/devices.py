"""What real devices print, held against what they do: is each recognised without being told what it is, and read so?

Usage: devices.py FOLDER [-v] [NAME...], FOLDER having a folder for each device with ``truth.json`` beside its files.
Prints a line for each file: points that are right, unknown or wrong (with ``-v`` the unknown ones by name), and the
reason where a file is refused; then the sum. The exit code tells whether anything is wrong.
"""

import sys
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from printed import judged

MOST_SHOWN = 12


def main(folder: Path, names: list[str], whole: bool) -> int:
    total: Counter[str] = Counter()
    for each in sorted(folder.iterdir()):
        if names and each.name not in names:
            continue
        for found in judged(each):
            count = Counter(state for state, _ in found.points)
            said = ", ".join(f"{count[state]} {state}" for state in ("right", "unknown", "wrong") if count[state])
            reason = found.refused.partition("\n")[0][:160]
            print(
                f"{each.name}/{found.file}: "
                + (f"refused: {reason}" if reason else f"{found.format}: {said or 'read'}")
            )
            shown = [point for point in found.points if point[0] == "wrong" or (whole and point[0] == "unknown")]
            for state, what in shown[:MOST_SHOWN]:
                print(f"    {state}: {what}")
            total += Counter({**count, "refused": bool(reason)})
    print(", ".join(f"{total[state]} {state}" for state in ("right", "unknown", "wrong", "refused")))
    return int(bool(total["wrong"]))


if __name__ == "__main__":
    rest = [each for each in sys.argv[2:] if each != "-v"]
    sys.exit(main(Path(sys.argv[1]), rest, "-v" in sys.argv))
