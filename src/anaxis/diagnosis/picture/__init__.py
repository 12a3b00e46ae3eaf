"""What a picture from the receiving package says of the camera that took it."""
