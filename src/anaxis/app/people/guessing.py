"""How often a password may be tried: by name and address, by name, and by address, in moving windows.

An address from which somebody has signed in before is never locked out by tries from elsewhere. What is refused does not count.
The counts are this process's own: they begin anew where it is started anew.
"""

from __future__ import annotations

import math
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager

from limits import RateLimitItem, parse
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter

from anaxis.app.context import Context
from anaxis.core.errors import BadInput

_OF_BOTH, _OF_NAME, _OF_ADDRESS = (parse(f"{n} per 15 minutes") for n in (5, 40, 30))
# Somebody who mistypes where they have signed in before waits for seconds, not for a quarter of an hour.
_WHERE_KNOWN = parse("5 per minute")

_limiter = MovingWindowRateLimiter(MemoryStorage())
_lock = threading.Lock()
_under_way: Counter[tuple[str, ...]] = Counter()


class TooManyTries(BadInput):
    """Too many wrong passwords: the next try is looked at after ``wait_s`` seconds."""

    code = "too_many_tries"

    def __init__(self, wait_s: int) -> None:
        wait = f"{wait_s} s" if wait_s < 120 else f"{math.ceil(wait_s / 60)} minutes"
        super().__init__(f"Too many attempts: wait {wait}, then try again.")
        self.wait_s = wait_s


class Try:
    """One try under way; :meth:`failed` makes it count."""

    def __init__(self) -> None:
        self.wrong = False

    def failed(self) -> None:
        self.wrong = True


def own_try(context: Context, what: str) -> AbstractContextManager[Try]:
    """A try of somebody who is known already, at ``what`` is theirs. Raises TooManyTries."""
    return one_try(str(context.get_bind().engine.url), what, "", False)


@contextmanager
def one_try(store: str, name: str, address: str, known: bool) -> Iterator[Try]:
    """A try of a name in a store from an address; ``known``: whose name it is has signed in from there before.

    Tries under way count as wrong ones until they are looked at: a thousand at once are a thousand. Raises TooManyTries.
    """
    both, of_name, of_address = (store, "both", name, address), (store, "name", name), (store, "address", address)
    asked = [(_WHERE_KNOWN, both)] if known else [(_OF_BOTH, both), (_OF_NAME, of_name), (_OF_ADDRESS, of_address)]
    with _lock:
        for limit, key in asked:
            left = _limiter.get_window_stats(limit, *key)
            if left.remaining <= _under_way[key]:
                raise TooManyTries(_seconds_until(left.reset_time, limit))
        _under_way.update(key for _, key in asked)
    made = Try()
    try:
        yield made
    finally:
        with _lock:
            for limit, key in asked:
                _under_way[key] -= 1
                if not _under_way[key]:
                    del _under_way[key]
                if made.wrong:
                    _limiter.hit(limit, *key)


def _seconds_until(at: float, limit: RateLimitItem) -> int:
    return max(1, min(math.ceil(at - time.time()), limit.get_expiry()))
