"""The pages: one module and one template folder a screen; everything they load is in static/."""
