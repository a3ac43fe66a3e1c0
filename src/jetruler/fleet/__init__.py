"""Many logs: which there are, where their results go, and who converts them."""
