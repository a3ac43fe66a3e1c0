"""What the functions return: classes to be looked up and checked against, rarely to be made.

Each is loaded when it is first used.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub("jetruler", __file__)
