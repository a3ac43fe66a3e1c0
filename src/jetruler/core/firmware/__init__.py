"""Conversions as firmware computes them: small programs, proven over every count."""
