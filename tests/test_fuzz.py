"""A million inputs to the readers of what strangers send: they raise what they say they raise, and nothing else."""

import importlib.util
import random
import subprocess
import sys
from pathlib import Path

import pytest
from fuzzing import TARGETS

GUIDED, DAMAGED = 80_000, 20_000
PIECES = [b"\r\n", b"\n", b"-", b" ", b"(", b"|||", b",", b"\x00", b"\x1b[2J", b"220", b"227 ", b"9" * 40, b"\xc3\x28"]


def damaged(seeds: tuple[bytes, ...], chance: random.Random) -> bytes:
    """A seed with bytes changed, dropped, doubled or put in."""
    data = bytearray(chance.choice(seeds))
    for _ in range(chance.randint(0, 4)):
        at = chance.randint(0, len(data))
        match chance.randint(0, 4):
            case 0 if data:
                data[at % len(data)] = chance.randint(0, 255)
            case 1:
                del data[at : at + chance.randint(1, 4)]
            case 2:
                data[at:at] = chance.choice(PIECES)
            case 3:
                data[at:at] = data[: chance.randint(0, len(data))]
            case _:
                data[at:at] = chance.choice(seeds)
    return bytes(data)


@pytest.mark.parametrize("name", TARGETS)
def test_damaged_inputs_raise_nothing_unforeseen(name: str) -> None:
    chance, target = random.Random(61), TARGETS[name]
    read = sum(target.survives(damaged(target.seeds, chance)) for _ in range(DAMAGED))
    assert read > DAMAGED // 50  # else they would all be too damaged to tell anything


@pytest.mark.sweep
@pytest.mark.skipif(importlib.util.find_spec("atheris") is None, reason="needs atheris (pip install .[fuzz])")
@pytest.mark.parametrize("name", TARGETS)
def test_inputs_that_reach_every_branch_raise_nothing_unforeseen(name: str, tmp_path: Path) -> None:
    command = [sys.executable, Path(__file__).with_name("coverage_fuzz.py"), name, str(GUIDED), tmp_path]
    done = subprocess.run(command, capture_output=True, text=True, timeout=280, check=False)
    assert done.returncode == 0, done.stderr[-3000:]
    assert f"Done {GUIDED} " in done.stderr
