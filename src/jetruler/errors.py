"""Every error that Jet Ruler raises; all are a `JetRulerError`, and say in one sentence what was
found, where, and what would be right.

Each is loaded when it is first used.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub("jetruler", __file__)
