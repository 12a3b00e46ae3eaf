"""How a lens bends the picture: models, their inverse, what of the plate they reach, and how much more must be rendered."""
