"""The command line."""

from .group import main

__all__ = ["main"]
