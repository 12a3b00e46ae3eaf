"""A picture and the lens that bends it: windows, the render that holds a distorted plate, maps there and back."""
