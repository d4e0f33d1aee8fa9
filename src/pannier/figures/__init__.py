"""Pictures of what the core knows, drawn with Matplotlib; imported only when something is drawn."""
