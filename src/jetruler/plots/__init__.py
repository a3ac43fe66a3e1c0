"""Pictures. Every function takes and returns a Matplotlib Axes."""
