"""When the models of documents and of the wire are built: each as it is loaded, so that no request
waits for it, or when it is first used.
"""

from __future__ import annotations

#: A command loads many and uses few; set by it before it loads any. A service builds them all.
when_used = False
