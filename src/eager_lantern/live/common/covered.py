"""The last look at a result before anybody sees it: the password is in none of its texts."""

from typing import Any

from msgspec import Struct, structs

from ...core.observed.climb import Climb
from .secret import Secret


def covered(climb: Climb, secret: Secret) -> Climb:
    """The result with the password covered in every text. A short one is covered only where the server has said
    it, when it was read."""
    found: Climb = _covered(climb, secret) if secret.is_long else climb
    return found


def _covered(value: Any, secret: Secret) -> Any:
    if isinstance(value, str):
        return secret.hide_in(value)
    if isinstance(value, tuple):
        return tuple(_covered(each, secret) for each in value)
    if isinstance(value, Struct):
        fields = {each: _covered(getattr(value, each), secret) for each in value.__struct_fields__}
        return structs.replace(value, **fields)
    return value
