"""What of a camera arrived beside its picture, as far as the file says it."""

from __future__ import annotations

from anaxis.core.outgoing import Outgoing
from anaxis.core.proof import beside
from anaxis.core.proof.proof import Difference
from anaxis.standin.package import Seen


def differences(meant: Outgoing, sent: Outgoing, seen: Seen) -> tuple[Difference, ...]:
    """What is there otherwise than meant: image and rate as far as the file says them, focus, stop and clips."""
    image = seen.image if "image" in seen.stated else None
    rate = seen.track.rate if "rate" in seen.stated else None
    return beside.differences(
        beside.Beside(meant.track.lens, meant.image, sent.track.rate),
        beside.Beside(seen.track.lens, image, rate),
        "missing in the file: set it in the package",
    )
