"""Anaxis moves animated shot cameras between packages and proves the match in pixels."""

__version__ = "0.1.0"
