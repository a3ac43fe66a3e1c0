"""Logs: reading and writing recorded samples in batches, with constant memory."""
