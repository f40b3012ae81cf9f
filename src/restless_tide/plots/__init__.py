"""Pictures of figures, as PNG."""
