"""One log of many, wherever it is converted: what came of it."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass

from ..core.error_types import JetRulerError
from ..core.model.channel import Bench
from ..logs.convert_log import convert
from ..logs.options import ConvertOptions
from ..logs.summary import Summary
from .plan import Task


@dataclass(frozen=True)
class Outcome:
    """A task that is done, or the sentence that says why it could not be."""

    task: Task
    summary: Summary | None = None
    error: str = ""


@dataclass(frozen=True)
class Work:
    """What is the same for all logs: the bench, and how `convert` is to be called."""

    bench: Bench
    options: ConvertOptions


def attempt(task: Task, work: Work) -> Outcome:
    """Convert one log. Whatever goes wrong with it is told, not raised: others are waiting."""
    try:
        task.out.parent.mkdir(parents=True, exist_ok=True)
        if task.events is not None:
            task.events.parent.mkdir(parents=True, exist_ok=True)
        found = convert(task.log, work.bench, task.out, events=task.events, **vars(work.options))
        return Outcome(task, found.folded())
    except JetRulerError as error:
        return Outcome(task, error=_with_name(str(error), task))
    except OSError as error:
        return Outcome(task, error=f"{task.out}: cannot be written: {error.strerror or error}")
    except Exception as error:
        told = f"{type(error).__name__}: {error}".splitlines()[0]
        return Outcome(task, error=f"{task.log}: {told}")


def _with_name(message: str, task: Task) -> str:
    known = any(str(path) in message for path in (task.log, task.out, task.events))
    return message if known else f"{task.log}: {message}"


def sweep(task: Task) -> None:
    """Remove what a worker that died has left half-written."""
    for out in (task.out, task.events):
        if out is not None:
            final = out.resolve()
            for part in final.parent.glob(f".{final.name}.*.part"):
                with contextlib.suppress(OSError):
                    part.unlink()
