"""Mistakes in a bench, and between a bench and a log: one small function a rule."""
