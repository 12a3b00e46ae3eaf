"""How an image is inscribed in the film back; their names alone, for whoever only offers them."""

from __future__ import annotations

FITS = ("width", "height", "inside", "outside", "stretch")
