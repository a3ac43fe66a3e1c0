"""What a program asks of the memory, where somebody has set a limit to its addresses."""

from __future__ import annotations

import ctypes
import os
import threading

#: Below so many bytes of addresses it pays to be modest.
SCARCE = 1 << 32
#: Numbers of two options of the allocator, and what is large to it.
_ARENAS, _MAPPED, _LARGE = -8, -3, 1 << 18
#: Bytes of a thread's stack, and at most of what describes a thread.
_STACK, _ATTRIBUTES = 1 << 20, 256


def spare_addresses() -> None:
    """Under `ulimit -v`, reserve no more than is used: libraries set aside stacks, arenas and
    buffers for many threads, a gigabyte of which is never touched. To be called before any of
    them is loaded."""
    try:
        import resource
    except ImportError:  # Windows has no such limit
        return
    if not 0 <= resource.getrlimit(resource.RLIMIT_AS)[0] < SCARCE:
        return
    for name in ("ARROW_IO_THREADS", "OPENBLAS_NUM_THREADS"):
        os.environ.setdefault(name, "1")
    threading.stack_size(_STACK)
    library = ctypes.CDLL(None)
    if hasattr(library, "mallopt") and hasattr(library, "pthread_setattr_default_np"):  # of GNU
        library.mallopt(_ARENAS, 1)
        library.mallopt(_MAPPED, _LARGE)  # what is large is given back when it is freed
        attributes = ctypes.create_string_buffer(_ATTRIBUTES)
        library.pthread_attr_init(attributes)
        library.pthread_attr_setstacksize(attributes, ctypes.c_size_t(_STACK))
        library.pthread_setattr_default_np(attributes)
