"""Connections that stay: packages and trackers that speak the exchange, and pages that watch it."""
