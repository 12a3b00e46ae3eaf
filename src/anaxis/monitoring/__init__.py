"""How the application is watched: logs and metrics."""
