"""Who does a function of the library: this process, or one apart that is confined and has a budget."""

from __future__ import annotations

from collections.abc import Callable
from typing import ParamSpec, Protocol, TypeVar

P = ParamSpec("P")
T = TypeVar("T")


class Runner(Protocol):
    """Does functions of the library."""

    def run(self, what: str, function: Callable[P, T], /, *args: P.args, **kwargs: P.kwargs) -> T:
        """What ``function`` gives for its arguments. Raises BadInput, which names ``what`` where it is too much."""
        ...


class Here:
    """Does them in this process."""

    def run(self, what: str, function: Callable[P, T], /, *args: P.args, **kwargs: P.kwargs) -> T:
        return function(*args, **kwargs)
