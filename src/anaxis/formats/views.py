"""What readers share about cameras: views without a film back, and projections that have no lens."""

from __future__ import annotations

from anaxis.core.findings import Finding

# Taken where a format stores a field of view and no film back.
FILM_WIDTH_MM = 36.0
NO_FILM_BACK = (
    f"the format states a field of view and no film back; Anaxis assumes a width of {FILM_WIDTH_MM:g} mm and takes the focal "
    "length worked out from it"
)


def orthographic(path: str) -> Finding:
    """A camera without a focal length, which cannot be moved."""
    return Finding(
        "orthographic",
        "error",
        f"{path} is an orthographic camera: it has no focal length, and Anaxis moves perspective cameras.",
        "Set its projection to perspective in the source and export again.",
        node=path,
    )
