"""Files that real programs made, to be damaged: site files, kept results, logs, rule sets, tables, settings.

Those of ``corpus.tar.xz`` were recorded from real daemons, clients, kernels and generators of rule sets; the others are
the tests' own cases and the shipped data.
"""

import io
import tarfile
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from random import Random

HERE = Path(__file__).parent
ROOT = HERE.parents[1]
DATA, CASES = ROOT / "src" / "eager_lantern" / "data", ROOT / "tests" / "cases"
MOST_BYTES = 60_000
PIECES = (
    b"\r\n", b"\n\n", b"\x00", b"\x1b[2J", b"65536", b"-1", b"null", b"[]", b"{}", b'""', b"9" * 40, b"\xff\xfe",
    b"*", b": ", b"- ", b"\t", b"!!python/object ", b"'", b'"', b"\\u0000", b"\xe2\x80\xae", b"1e999", b"true",
    b"tcp", b"%", b"&a *a",
)  # fmt: skip
"""What is put into them."""


@cache
def corpus() -> dict[str, bytes]:
    """Every seed by its name; the folder of the name says what it is."""
    found = {
        f"site/{each.name}": each.read_bytes() for each in (*DATA.glob("*.site.yaml"), *CASES.glob("**/*.site.yaml"))
    }
    found |= {f"kept/{each.name}": each.read_bytes() for each in CASES.glob("kept-*.json")}
    found |= {f"log/{each.name}": each.read_bytes() for each in CASES.glob("logs/*.log")}
    found |= {f"table/{each.name}": each.read_bytes() for each in CASES.glob("*.csv")}
    found |= dict(_packed(HERE / "corpus.tar.xz"))
    printed = (each for each in _packed(CASES / "printed.tar.xz") if not each[0].endswith(("truth.json", "how.txt")))
    found |= {f"device/{name.replace('/', '-')}": content for name, content in printed}
    return {name: content for name, content in sorted(found.items()) if len(content) <= MOST_BYTES}


def _packed(path: Path) -> Iterator[tuple[str, bytes]]:
    with tarfile.open(path) as archive:
        for member in archive.getmembers():
            file = archive.extractfile(member)
            if file is not None:
                yield member.name, file.read()


def damaged(content: bytes, chance: Random) -> bytes:
    """A seed with a few bytes, lines or numbers changed, dropped, doubled, moved or put in; now and then as it is."""
    data = bytearray(content)
    for _ in range(chance.choice((0, 1, 1, 1, 2, 3, 6))):
        for how in chance.sample(tuple(_hurts()), 1):
            how(data, chance)
    return bytes(data[: 2 * MOST_BYTES])


def _hurts() -> Iterator[Callable[[bytearray, Random], None]]:
    yield from (_flip, _drop, _put, _double, _lines, _number, _cut)


def _place(data: bytearray, chance: Random) -> int:
    return chance.randrange(len(data) + 1)


def _flip(data: bytearray, chance: Random) -> None:
    if data:
        data[_place(data, chance) % len(data)] = chance.randrange(256)


def _drop(data: bytearray, chance: Random) -> None:
    at = _place(data, chance)
    del data[at : at + chance.choice((1, 2, 8, 64, 500))]


def _put(data: bytearray, chance: Random) -> None:
    at = _place(data, chance)
    data[at:at] = chance.choice(PIECES) * chance.choice((1, 1, 1, 3, 50))


def _double(data: bytearray, chance: Random) -> None:
    at = _place(data, chance)
    part = bytes(data[at : at + chance.choice((4, 40, 400, 4000))])
    to = _place(data, chance)
    data[to:to] = part


def _lines(data: bytearray, chance: Random) -> None:
    lines = bytes(data).split(b"\n")
    i, j = chance.randrange(len(lines)), chance.randrange(len(lines))
    lines[i], lines[j] = lines[j], lines[i]
    data[:] = b"\n".join(lines)


def _number(data: bytearray, chance: Random) -> None:
    digits = [i for i, each in enumerate(data) if 48 <= each <= 57]
    if digits:
        at = chance.choice(digits)
        data[at : at + 1] = chance.choice((b"", b"0", b"99999", b"-", b"65536", b"1.5", b'"x"', b"[1]", b"null"))


def _cut(data: bytearray, chance: Random) -> None:
    if chance.random() < 0.2:
        del data[_place(data, chance) :]


def shown(name: str, content: bytes) -> str:
    """A name to keep an input under."""
    return f"{name.replace('/', '-')}-{abs(hash(content)) % 10**8}"


def archive(files: dict[str, bytes]) -> bytes:
    """The corpus as it is kept."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w:xz") as made:
        for name, content in sorted(files.items()):
            member = tarfile.TarInfo(name)
            member.size = len(content)
            made.addfile(member, io.BytesIO(content))
    return out.getvalue()
