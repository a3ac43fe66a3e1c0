"""Choosing parts: fixed resistor, reference, amplifier; and how many readings to average."""
