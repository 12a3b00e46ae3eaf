"""Cameras made from others."""
