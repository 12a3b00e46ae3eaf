"""Distortions as files: a document of our own (JSON), or a table of coefficients over the frames."""
