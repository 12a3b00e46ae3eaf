"""Shows: shots, plan and runs, many files at once."""
