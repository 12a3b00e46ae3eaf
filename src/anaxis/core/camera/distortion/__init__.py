"""How a lens bends the picture: models, their inverse, and where they fold over."""
