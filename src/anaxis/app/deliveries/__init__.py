"""Deliveries, and what comes back of them."""
