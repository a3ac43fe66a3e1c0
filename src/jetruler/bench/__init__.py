"""The bench file: its schema, and loading it."""
