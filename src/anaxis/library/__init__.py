"""All that can be done with camera files without a store, as functions."""
