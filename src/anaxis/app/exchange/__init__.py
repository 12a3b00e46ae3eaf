"""Packages and trackers that are connected: what they tell, what they are told, links between them, takes of it."""
