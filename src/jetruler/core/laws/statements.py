"""Pieces of the small language in which a law writes itself for firmware; see `Law.program`."""

from __future__ import annotations


def reject(condition: str) -> str:
    """The statement that ends without a value where the condition holds."""
    return f"if {condition}:\n    return NONE"


def constant(value: float) -> str:
    """A constant; a negative one in brackets."""
    text = repr(float(value))
    return f"({text})" if text.startswith("-") else text


def reject_outside(domain: tuple[float, float] | None) -> list[str]:
    """The statement that ends without a value outside a domain, if there is one."""
    if domain is None:
        return []
    return [reject(f"x < {constant(domain[0])} or x > {constant(domain[1])}")]
