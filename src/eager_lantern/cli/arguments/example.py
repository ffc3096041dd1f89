"""The example under a command's help."""


def example(*lines: str) -> str:
    """The end of a help text: a command that can be copied as it stands, on one line or several."""
    return "\b\nExample: " + " \\\n    ".join(lines)
