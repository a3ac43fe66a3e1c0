"""Draws docs/rooms.svg from the contracts in pyproject.toml: `python docs/build_rooms.py`."""

from __future__ import annotations

import tomllib
from pathlib import Path

HERE = Path(__file__).parent
WIDTH, BOX, HIGH, STEP = 900, 130, 42, 62
DARK, IVORY, BLUE, GREY = "#16140f", "#f4ecd8", "#1f6fb4", "#8a8578"


def layers(container: str) -> list[list[str]]:
    """The rooms of a contract, row by row, from what uses much to what uses little."""
    project = tomllib.loads((HERE.parent / "pyproject.toml").read_text("utf-8"))
    for contract in project["tool"]["importlinter"]["contracts"]:
        if contract["type"] == "layers" and contract.get("containers", [""]) == [container]:
            rows = [layer.split("|") for layer in contract["layers"]]
            return [[room.strip().removeprefix("jetruler.") for room in row] for row in rows]
    raise LookupError(container)


def text(x: float, y: float, words: str, size: int = 17, more: str = "") -> str:
    """A line of text."""
    return f'<text x="{x:g}" y="{y:g}" font-size="{size}" fill="{DARK}" {more}>{words}</text>'


def row(rooms: list[str], y: float) -> list[str]:
    """A row of rooms, in the middle."""
    gap = BOX + 20
    left = (WIDTH - gap * len(rooms) + 20) / 2
    drawn = []
    for i, room in enumerate(rooms):
        x = left + i * gap
        drawn.append(
            f'<rect x="{x:g}" y="{y:g}" width="{BOX}" height="{HIGH}" rx="6" fill="#ffffff" '
            f'stroke="{BLUE}" stroke-width="1.6"/>'
        )
        drawn.append(text(x + BOX / 2, y + 27, room, more='text-anchor="middle"'))
    return drawn


def arrow(y: float) -> str:
    """From one row down to the next."""
    path = f"M {WIDTH / 2:g} {y:g} l 0 16 m -6 -8 l 6 8 l 6 -8"
    return f'<path d="{path}" fill="none" stroke="{GREY}" stroke-width="1.8"/>'


def page() -> str:
    """The picture."""
    outer = [rooms for rooms in layers("") if rooms != ["core"]]
    inner = layers("jetruler.core")
    drawn, y = [], 20
    for rooms in outer:
        drawn += [*row(rooms, y), arrow(y + HIGH + 2)]
        y += STEP
    high = STEP * len(inner) + 36
    drawn.append(
        f'<rect x="60" y="{y}" width="{WIDTH - 120}" height="{high}" fill="{IVORY}" '
        f'stroke="{DARK}" stroke-width="1.5" rx="8"/>'
    )
    drawn.append(text(76, y + 24, "core: computation only", more='font-weight="bold"'))
    y += 36
    for i, rooms in enumerate(inner):
        drawn += [*row(rooms, y), *([arrow(y + HIGH + 2)] if i < len(inner) - 1 else [])]
        y += STEP
    note = "a room imports only from rows below its own, for types too"
    drawn.append(text(WIDTH / 2, y + 24, note, 13, 'text-anchor="middle"'))
    box = f'viewBox="0 0 {WIDTH} {y + 40}"'
    head = f'<svg xmlns="http://www.w3.org/2000/svg" {box} font-family="sans-serif">'
    ground = f'<rect width="{WIDTH}" height="{y + 40}" fill="#fffdf7"/>'
    return "\n".join([head, ground, *drawn, "</svg>", ""])


def main() -> None:
    """Write the picture."""
    (HERE / "rooms.svg").write_text(page(), encoding="utf-8")


if __name__ == "__main__":
    main()
