"""Cameras of a store: taken in, edited, named."""
