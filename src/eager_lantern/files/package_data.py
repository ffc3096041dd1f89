"""Texts that come with the program."""

from typing import cast

from .yaml_tree import YamlTree

Page = dict[str, str]


def shipped_text(name: str) -> str:
    """A file of the ``data`` folder."""
    from importlib.resources import files  # it loads slowly, and few commands need such a text

    return (files("eager_lantern") / "data" / name).read_text(encoding="utf-8")


def finding_pages() -> dict[str, Page]:
    """The page of each kind of finding: ``means``, ``shows``, ``cure``."""
    return cast(dict[str, Page], YamlTree("findings.yaml", shipped_text("findings.yaml")).data)
