"""What the formats of servers' settings share: reading line by line, and parts of what is written into a server's own
file."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from fnmatch import fnmatch
from pathlib import PurePosixPath
from typing import Literal

from ...core.changes.adopted import DeviceConfig, Key, ParsedValue, Skipped
from ...core.model.entries import OWN, Port
from ...core.model.site import Account, Service, Site
from ...core.values.ports import UNPRIVILEGED, PortSet
from ...wire.terminal_safe import printable
from ..reading import BadInput, InputProblem

MOST_LINES = 100_000
CONFINED = ("accounts", "confined")
"""What a server states about all accounts of a service at once."""
FIRST, LAST = ("passive", "first"), ("passive", "last")
"""Keys of a range that two lines give; :func:`read_lines` makes one of them."""
ACCOUNTS_DECIDE = "decides who may log in and what they see: compare it with the accounts"
ANONYMOUS = "allows anonymous logins: compare it with the accounts"
Line = tuple[int, str, list[str]]
"""The number of a line, its first word in small letters, and the words behind it."""
Found = Iterator[ParsedValue | Skipped]


def lines_of(text: str) -> Iterator[Line]:
    """The lines that are no remarks."""
    for number, line in enumerate(text.splitlines()[:MOST_LINES], start=1):
        words = line.strip().split()
        if words and not words[0].startswith("#"):
            yield number, words[0].lower(), words[1:]


MOST_DEEP = 8
"""How deep files may include each other."""
BEGINS, ENDS = "# begins", "# ends"
"""What stands around the lines of an included file; no line of a file has such a word."""


def not_included(texts: Mapping[str, str]) -> list[str]:
    """The files that no other one of them includes."""
    included = {other for text in texts.values() for path in _includes(text) for other in _files_at(path, texts)}
    return [file for file in texts if file not in included]


def spliced(text: str, texts: Mapping[str, str], depth: int = 0) -> Iterator[Line]:
    """The lines with those of the files that they include, each under the number of the line that includes it, between
    a line of the word ``BEGINS`` and one of ``ENDS``."""
    for number, word, rest in lines_of(text):
        files = _files_at(rest[0], texts) if word == "include" and rest and depth < MOST_DEEP else []
        for file in files:
            yield number, BEGINS, []
            yield from ((number, *line[1:]) for line in spliced(texts[file], texts, depth + 1))
            yield number, ENDS, []
        if not files:
            yield number, word, rest


def _includes(text: str) -> Iterator[str]:
    return (rest[0] for _, word, rest in lines_of(text) if word == "include" and rest)


def _files_at(path: str, texts: Mapping[str, str]) -> list[str]:
    """Which of the given files an Include is about: a file by its name, a folder with all that is in it."""
    named = PurePosixPath(path)
    if path.endswith("/") or set(named.name) & set("*?["):
        folder = named.name if path.endswith("/") else named.parent.name
        pattern = "*" if path.endswith("/") else named.name
        return sorted(f for f in texts if _path(f).parent.name == folder and fnmatch(_path(f).name, pattern))
    return [f for f in texts if _path(f).name == named.name and _path(f).parent.name in ("", named.parent.name)]


def _path(file: str) -> PurePosixPath:
    return PurePosixPath(file.replace("\\", "/"))


def not_read(number: int, rest: Sequence[str]) -> Skipped:
    """An included file that was not given."""
    return Skipped(number, f"Include {' '.join(rest)}", "is another file, not read: name it as well")


def words_of(text: str) -> set[str]:
    """The first words of all lines, in small letters."""
    firsts = (line.split(None, 1)[:1] for line in text.splitlines()[:MOST_LINES])
    return {word.lower() for first in firsts for word in first if not word.startswith("#")}


def read_lines(
    file: str,
    protocol: Literal["ftp", "sftp"],
    lines: Iterable[Line],
    reader: Callable[[int, str, list[str]], Found],
    combined: Callable[[dict[Key, ParsedValue]], None] = lambda values: None,
) -> DeviceConfig:
    """The settings that a reader finds in lines; of what is set twice the later counts. ``combined`` settles what only
    several lines state together. Raises BadInput with every value that cannot be read."""
    values: dict[Key, ParsedValue] = {}
    skipped: list[Skipped] = []
    problems: list[InputProblem] = []
    for number, word, rest in lines:
        try:
            for each in reader(number, word, rest):
                if isinstance(each, Skipped):
                    skipped.append(each)
                else:
                    values[each.key] = each
        except (ValueError, IndexError) as error:
            why = str(error) if isinstance(error, ValueError) else "found no value; expected one"
            problems.append(InputProblem(number, f"{word}: {why}"))
    if problems:
        raise BadInput(file, *problems)
    first, last = values.pop(FIRST, None), values.pop(LAST, None)
    if first and last:
        both = ParsedValue(("passive", "ports"), PortSet.of((first.value, last.value)), last.line)
        values.setdefault(both.key, both)
    combined(values)
    return DeviceConfig(file, "settings", tuple(values.values()), tuple(skipped), protocol=protocol)


def range_of(first: str, last: str) -> PortSet:
    """A range by its ends. Raises ValueError."""
    return PortSet.parse(f"{Port.parse(first)}-{Port.parse(last)}")


def is_switched_on(text: str) -> bool:
    """Raises ValueError for what is neither on nor off."""
    word = text.strip().lower()
    if word not in {"on", "off", "yes", "no", "true", "false", "1", "0"}:
        raise ValueError(f"found “{text[:40]}”; expected on or off")
    return word in {"on", "yes", "true", "1"}


def fragment(site: Site, service: Service, lines: Iterator[str]) -> str:
    """Lines for a server's own file, under a heading."""
    head = (
        f"# {service.name} of {site.site}: put this into the server's own file, and check that file before a restart."
    )
    return "\n".join((head, *lines, ""))


def range_ends(service: Service) -> tuple[int, int] | None:
    """The ends of the passive range, where one is set."""
    passive = service.passive
    if passive is None or passive.ports == UNPRIVILEGED or not passive.ports:
        return None
    return passive.ports.lowest, passive.ports.highest


def announced_text(service: Service) -> str:
    """The address or name that is announced, where it is not the server's own."""
    passive = service.passive
    return "" if passive is None or passive.announce == OWN else str(passive.announce)


def inside_remark(service: Service) -> Iterator[str]:
    """A server of this kind announces one address to all; clients inside may need another."""
    passive = service.passive
    if announced_text(service) and passive is not None and passive.announce_inside is not None:
        yield "# Clients inside get this address too: let them use EPSV, or switch on hairpin NAT at the router."


def accounts_of(site: Site, service: Service) -> list[Account]:
    """The accounts of a service."""
    return [each for each in site.accounts if each.service == service.name]


def let_in(service: Service, accounts: Sequence[Account]) -> list[Account]:
    """Those accounts that its lists of who may log in let in."""
    allowed = [each for each in accounts if not service.allows or each.name in service.allows]
    return [each for each in allowed if each.name not in service.bars]


def names_of(accounts: Sequence[Account]) -> str:
    """The names of accounts for a remark."""
    return ", ".join(printable(each.name, 80) for each in accounts) or "none"


def unconfined_remark(accounts: Sequence[Account]) -> Iterator[str]:
    """Who is not confined where one line confines all."""
    if free := [each for each in accounts if not each.confined]:
        yield f"# Not confined to their own folder: {names_of(free)}. Put them into a group that is exempt by name."


def is_word(text: str) -> bool:
    """Whether a name can stand in such a file as it is."""
    return all(each.isalnum() or each in "._-" for each in text)


def is_path(text: str) -> bool:
    """Whether a path can stand in such a file as it is."""
    return text.startswith("/") and all(each.isalnum() or each in "/._-" for each in text)
