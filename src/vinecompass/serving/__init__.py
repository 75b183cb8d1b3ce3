"""One page for browsers, served and talked with in a process of its own."""

from vinecompass.serving.page_server import PageServer

__all__ = ["PageServer"]
