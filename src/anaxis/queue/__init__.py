"""Work that runs outside the process that asked for it."""
