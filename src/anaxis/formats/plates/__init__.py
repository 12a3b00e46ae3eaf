"""Plates: image sequences and movies, found, read, shown, warped and written."""

from __future__ import annotations

PICTURE_SUFFIXES = (".exr", ".dpx", ".tif", ".tiff", ".png", ".jpg", ".jpeg")
MOVIE_SUFFIXES = (".mp4", ".mov")
SUFFIXES = PICTURE_SUFFIXES + MOVIE_SUFFIXES
