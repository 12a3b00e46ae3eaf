"""The interface for pipelines: JSON over HTTP, below /api/v1."""
