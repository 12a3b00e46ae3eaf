"""Addresses that are told of a show's events."""
