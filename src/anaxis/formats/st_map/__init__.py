"""ST maps in OpenEXR: 32-bit float, red and green, blue 0."""
