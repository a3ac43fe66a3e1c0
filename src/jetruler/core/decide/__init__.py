"""Decisions from values: trips and drives, as small state machines. Any batch size, identical."""
