"""The bundled demo: the roaster bench, a made-up roast, and the generator that made it."""

from importlib.resources import files

#: Files of the demo, copied as they are.
FILES = ("bench.toml", "roast.csv")


def read(name: str) -> bytes:
    """The bytes of a bundled file."""
    return (files(__name__) / name).read_bytes()
