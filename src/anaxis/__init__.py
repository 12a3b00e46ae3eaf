"""Anaxis moves animated shot cameras between packages and proves the match in pixels.

``import anaxis`` is the library: ``__all__`` lists its names, docs/library.md describes them. What is not listed may change at any
time.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from anaxis.core.version import __version__

if TYPE_CHECKING:
    from anaxis.public.calibrating import Calibration, calibrate, calibration_kit
    from anaxis.public.comparing import Comparison, Explanation, compare
    from anaxis.public.joining import join
    from anaxis.public.pictures import Still, explain_stills
    from anaxis.public.reading import (
        BadInput,
        Camera,
        Difference,
        Finding,
        Landmarks,
        Lens,
        Proof,
        Scene,
        Values,
        read,
    )  # fmt: skip
    from anaxis.public.writing import Profile, Written, package, shipped_packages, write

__all__ = [
    "BadInput",
    "Calibration",
    "Camera",
    "Comparison",
    "Difference",
    "Explanation",
    "Finding",
    "Landmarks",
    "Lens",
    "Profile",
    "Proof",
    "Scene",
    "Still",
    "Values",
    "Written",
    "__version__",
    "calibrate",
    "calibration_kit",
    "compare",
    "explain_stills",
    "join",
    "package",
    "read",
    "shipped_packages",
    "write",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    """A name is loaded when it is first used, with what it needs: the programs of Anaxis use none of them."""
    if name not in __all__:
        raise AttributeError(f"module 'anaxis' has no attribute {name!r}")
    home: Any
    if name in ("compare", "Comparison", "Explanation"):
        from anaxis.public import comparing as home
    elif name in ("calibrate", "calibration_kit", "Calibration"):
        from anaxis.public import calibrating as home
    elif name in ("explain_stills", "Still"):
        from anaxis.public import pictures as home
    elif name == "join":
        from anaxis.public import joining as home
    elif name in ("write", "Written", "package", "shipped_packages", "Profile"):
        from anaxis.public import writing as home
    else:
        from anaxis.public import reading as home
    return getattr(home, name)


def __dir__() -> list[str]:
    return list(__all__)
