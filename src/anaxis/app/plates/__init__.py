"""Plates of shots, and the media roots that they lie in."""
