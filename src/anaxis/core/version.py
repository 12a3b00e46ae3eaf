"""The version of Anaxis."""

__version__ = "0.1.0"
