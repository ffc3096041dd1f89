"""What becomes of somebody who guesses passwords: whether a server slows them down (RFC 2577, section 5)."""

from collections.abc import Iterator

from msgspec import Struct

from .tls_facts import Remark

LEAST_DELAY_SECONDS = 0.5
SLOW_SECONDS = 1.0
"""An answer that takes so long is held back, also where it is the first one."""


class LoginTry(Struct, frozen=True):
    """One login of an account that does not exist: how long the answer took, whether it was let in, and
    whether the server then ended the connection."""

    seconds: float
    let_in: bool = False
    ended: bool = False


class LoginPace(Struct, frozen=True):
    """Wrong logins in a row; ``stopped`` is why there were no more of them, empty where all were made."""

    tries: tuple[LoginTry, ...]
    stopped: str = ""

    @property
    def slower_from(self) -> int | None:
        """The first try, counted from 1, that was answered slowly, or clearly later than the first one."""
        if not self.tries:
            return None
        first = self.tries[0].seconds
        limit = min(SLOW_SECONDS, max(2 * first, first + LEAST_DELAY_SECONDS))
        return next((i for i, each in enumerate(self.tries, 1) if each.seconds >= limit), None)

    @property
    def ended_after(self) -> int | None:
        """After how many tries the server first ended a connection."""
        return next((i for i, each in enumerate(self.tries, 1) if each.ended), None)


def pace_remarks(pace: LoginPace) -> Iterator[Remark]:
    """The facts in words."""
    count = len(pace.tries)
    if any(each.let_in for each in pace.tries):
        yield Remark("strangers", False, "an account that does not exist was let in with any password")
        return
    slower, ended = pace.slower_from, pace.ended_after
    yield Remark("delay", bool(slower), _delay(pace, slower))
    if ended:
        yield Remark("ending", True, f"it ends a connection after {ended} wrong login{'s' * (ended > 1)}")
    if pace.stopped:
        yield Remark("barring", True, f"after {count} wrong logins it takes no more: {pace.stopped}")
    if not (slower or ended or pace.stopped):
        yield Remark("guessing", False, "nothing slows down who guesses passwords: set a limit and a delay")


def _delay(pace: LoginPace, slower: int | None) -> str:
    if slower is None:
        return f"{len(pace.tries)} wrong logins were all answered as fast as the first"
    seconds = f"{pace.tries[slower - 1].seconds:.1f} s"
    return f"a wrong login is answered after {seconds}" + (f", from number {slower} on" if slower > 1 else "")
