"""The errors a user can act on. Each message names the place, what was found and what is right."""


class JetRulerError(ValueError):
    """Base of every error that a user's input can cause."""


class QuantityError(JetRulerError):
    """A text that does not read as a quantity, or as one of another unit."""


class UnitError(JetRulerError):
    """Two laws joined where the units do not fit."""


class ParameterError(JetRulerError):
    """A parameter that makes no sense: its name, what was found and what would be right."""

    def __init__(self, name: str, found: object, right: str) -> None:
        self.name, self.found, self.right = name, found, right
        super().__init__(f"{name}: found {found!r}; {right}")


class Mistakes(JetRulerError):  # noqa: N818 - it is a collection, told by its plural
    """Several mistakes at once, so that nobody has to mend one to see the next."""

    def __init__(self, mistakes: list[ParameterError]) -> None:
        self.mistakes = tuple(mistakes)
        super().__init__("; ".join(str(m) for m in mistakes))
